//! What queries are written with: Diesel's builder, the tables, and the functions of PostgreSQL that Diesel has no word for.

pub(crate) use diesel::{
    AggregateExpressionMethods, AsChangeset, BoolExpressionMethods, CombineDsl, ExpressionMethods, Insertable, IntoSql,
    JoinOnDsl, NullableExpressionMethods, OptionalExtension, PgAnyJsonExpressionMethods, PgExpressionMethods,
    PgJsonbExpressionMethods, PgSortExpressionMethods, QueryDsl, Queryable, Selectable, SelectableHelper, delete,
    dsl::{case_when, count, count_star, exists, max, min, not},
    insert_into, select, update,
    upsert::{DecoratableTarget, excluded},
};
use diesel::{
    AppearsOnTable, Expression, QueryResult, SelectableExpression, define_sql_function,
    dsl::{And, IsNull},
    expression::{ValidGrouping, is_aggregate},
    pg::{Pg, data_types::PgInterval},
    query_builder::{AstPass, Query, QueryFragment, QueryId},
    query_dsl::methods::FilterDsl,
    sql_types::{BigInt, Integer, Nullable, SingleValue, SqlType, Text, Timestamptz},
};
use diesel_async::{
    AsyncConnectionCore,
    methods::{ExecuteDsl, LoadQuery},
    return_futures::{GetResult, LoadFuture},
};

pub(crate) use crate::schema::*;

diesel::table! {
    /// A view: what is counted, with what has not been added up yet. Not one row for each thing, but their sum is.
    counts (about, fact, day) {
        about -> Uuid,
        fact -> Text,
        day -> Date,
        n -> Int8,
        bytes -> Int8,
    }
}

diesel::table! {
    /// A view: who may do what with which album, perhaps twice; the most counts.
    album_seen (album, person) {
        album -> Uuid,
        person -> Uuid,
        may -> Int2,
    }
}

diesel::table! {
    /// A view: which pictures are in an album.
    in_album (album, shot) {
        album -> Uuid,
        shot -> Uuid,
    }
}

diesel::table! {
    /// A view: how many pictures are shown near a town. Not one row for each, but their sum is.
    town_count (person, town) {
        person -> Uuid,
        town -> Int4,
        n -> Int8,
    }
}

diesel::table! {
    /// A view: which pictures somebody sees because an album has them.
    shown_to (shot, person) {
        shot -> Uuid,
        person -> Uuid,
    }
}

/// Tables that are asked together.
macro_rules! asked_together {
    ($($one:ident with $($other:ident)+;)+) => {
        $($(diesel::allow_tables_to_appear_in_same_query!($one, $other);)+)+
    };
}
asked_together! {
    person with counts household session pairing device original adoption refiling_move;
    device with household pairing run sighting original counted held standing refiling_move;
    original with sighting counted derived_file household standing store object superseded adoption adopted_file refiling_move held
        folder_entry job;
    standing with store object superseded held job;
    zip with zip_file original;
    zip_file with original shown_to;
    job with store audit held;
    object with store superseded device held;
    sighting with counted;
    favourite with original shown_to;
    original with shown_to words;
    brought with original album;
    forward with original;
    version with original;
    original with album;
    said with words person;
    words with person;
    given_time with original person;
    given_place with original person;
    given_turn with original person held;
    town with town_count original;
    album with in_album album_seen link link_visit;
    original with in_album album_picture album_without;
    person with link link_visit album;
    link with link_visit;
    adopted_file with adoption;
    household with store object;
}

/// So many seconds, to be added to a time.
pub(crate) fn seconds(n: i64) -> PgInterval {
    PgInterval::from_microseconds(n.saturating_mul(1_000_000))
}

/// So many rows are written at once: a statement has room for 65,535 values.
pub(crate) const AT_ONCE: usize = 5_000;

/// A prepared statement: the server parses and plans it once for a connection, and then keeps it.
pub(crate) struct Prepared<Q>(Q);

impl<Q: QueryFragment<Pg>> QueryFragment<Pg> for Prepared<Q> {
    fn walk_ast<'b>(&'b self, out: AstPass<'_, 'b, Pg>) -> QueryResult<()> {
        self.0.walk_ast(out)
    }

    fn is_safe_to_cache_prepared(&self, _: &Pg) -> QueryResult<bool> {
        Ok(true)
    }
}

impl<Q: QueryId> QueryId for Prepared<Q> {
    type QueryId = Prepared<Q::QueryId>;
    const HAS_STATIC_QUERY_ID: bool = Q::HAS_STATIC_QUERY_ID;
}

impl<Q: Query> Query for Prepared<Q> {
    type SqlType = Q::SqlType;
}

/// Runs statements, each a prepared one that is kept. Diesel keeps no UPDATE, no upsert and no text, because it cannot know how many there will be: each run is
/// a way to the server more, and a plan. Here, all are written in this crate. One that has as many texts as it has rows is run by
/// [`diesel_async::RunQueryDsl`] itself.
pub(crate) trait Run<Conn>: Sized {
    /// The number of rows that it changed.
    fn execute<'conn, 'query>(self, c: &'conn mut Conn) -> Conn::ExecuteFuture<'conn, 'query>
    where
        Conn: AsyncConnectionCore + Send,
        Prepared<Self>: ExecuteDsl<Conn> + 'query,
    {
        diesel_async::RunQueryDsl::execute(Prepared(self), c)
    }

    /// All of its rows.
    fn load<'query, 'conn, U>(self, c: &'conn mut Conn) -> LoadFuture<'conn, 'query, Prepared<Self>, Conn, U>
    where
        U: Send,
        Conn: AsyncConnectionCore,
        Prepared<Self>: LoadQuery<'query, Conn, U> + 'query,
    {
        diesel_async::RunQueryDsl::load(Prepared(self), c)
    }

    /// Its only row.
    fn get_result<'query, 'conn, U>(self, c: &'conn mut Conn) -> GetResult<'conn, 'query, Prepared<Self>, Conn, U>
    where
        U: Send + 'conn,
        Conn: AsyncConnectionCore,
        Prepared<Self>: LoadQuery<'query, Conn, U> + 'query,
    {
        diesel_async::RunQueryDsl::get_result(Prepared(self), c)
    }
}

impl<T, Conn> Run<Conn> for T {}

define_sql_function! {
    /// The first of the two that is there.
    fn coalesce<T: SqlType + SingleValue>(x: Nullable<T>, y: T) -> T;
}
define_sql_function! {
    /// The first of the two that is there, or none.
    #[sql_name = "coalesce"]
    fn or_else<T: SqlType + SingleValue>(x: Nullable<T>, y: Nullable<T>) -> Nullable<T>;
}
define_sql_function! {
    /// The smaller one.
    fn least<T: SqlType + SingleValue>(x: T, y: T) -> T;
}
define_sql_function! {
    /// The larger one.
    fn greatest<T: SqlType + SingleValue>(x: T, y: T) -> T;
}
define_sql_function! {
    /// Tells whoever listens. What it gives back is nothing, and is not read.
    fn pg_notify(channel: Text, payload: Text) -> Text;
}
define_sql_function! {
    /// Waits until nobody else has this lock, and has it until the transaction ends. What it gives back is nothing, and is not read.
    fn pg_advisory_xact_lock(key: BigInt) -> Text;
}
define_sql_function! {
    /// The same for two numbers.
    #[sql_name = "pg_advisory_xact_lock"]
    fn lock_two(one: Integer, other: Integer) -> Text;
}
define_sql_function! {
    /// A smaller number for a text.
    fn hashtext(text: Text) -> Integer;
}
define_sql_function! {
    /// A number for a text.
    fn hashtextextended(text: Text, seed: BigInt) -> BigInt;
}
define_sql_function! {
    /// Adds so many lines to the counts of places (migration 48). Returns how many there were.
    fn fold_spots(most: Integer) -> BigInt;
}
define_sql_function! {
    /// Makes what is counted what is there (migration 48). What it gives back is nothing, and is not read.
    fn count_right() -> Text;
}
define_sql_function! {
    /// Looks again at so many of the names whose bytes came, went, or were named (migration 34). Returns at how many.
    fn look_at_names(most: Integer) -> BigInt;
}
define_sql_function! {
    /// Adds up so many of the counts that came since (migration 31). Returns how many.
    fn fold_tally(most: Integer) -> BigInt;
}
define_sql_function! {
    /// Whether a moment is one, and not the beginning or the end of time.
    fn isfinite(x: Timestamptz) -> Bool;
}
define_sql_function! {
    /// The sum of some sizes; none are no bytes.
    #[aggregate]
    fn total(x: BigInt) -> BigInt;
}

/// Which state a row is in: another one after each change of it. PostgreSQL has this of every row, and no table declares it.
macro_rules! version_of {
    ($of:ident, $table:ident, $key:ident) => {
        #[derive(Clone, Copy, Debug, QueryId)]
        pub(crate) struct $of;

        impl Expression for $of {
            type SqlType = Text;
        }
        impl QueryFragment<Pg> for $of {
            fn walk_ast<'b>(&'b self, mut out: AstPass<'_, 'b, Pg>) -> QueryResult<()> {
                out.push_sql(concat!("\"", stringify!($table), "\".xmin::text"));
                Ok(())
            }
        }
        impl<From> SelectableExpression<From> for $of where $table::$key: SelectableExpression<From> {}
        impl<From> AppearsOnTable<From> for $of where $table::$key: AppearsOnTable<From> {}
        impl ValidGrouping<()> for $of {
            type IsAggregate = is_aggregate::No;
        }
    };
}
version_of!(OriginalVersion, original, id);
version_of!(CopyVersion, standing, place);

/// Neither deleted nor gone: among the others.
pub(crate) fn is_living() -> And<IsNull<original::held_at>, IsNull<original::gone_at>> {
    original::held_at.is_null().and(original::gone_at.is_null())
}

/// What is done where a row is there already, only if that holds of it.
pub(crate) fn only_if<S: FilterDsl<P>, P>(upsert: S, condition: P) -> S::Output {
    upsert.filter(condition)
}

diesel::postfix_operator!(ByBytes, " COLLATE \"C\"", Text);

/// A text in the order of its bytes, whatever the language of the database.
pub(crate) fn by_bytes<E: diesel::Expression<SqlType = Text>>(text: E) -> ByBytes<E> {
    ByBytes::new(text)
}
