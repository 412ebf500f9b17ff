//! How work is put down. Whoever changes something puts down what follows from it, in the same transaction.

use chrono::{DateTime, Utc};
use diesel::{
    dsl::AsExprOf,
    sql_types::{Nullable, Uuid as SqlUuid},
};
use diesel_async::AsyncPgConnection;
use uuid::Uuid;
use ypogeion_core::StoreId;

use crate::{Result, db::*, work::Kind};

/// How work is put down that may be down already: a wish more is counted, so that whoever is doing it just now does it once more, and what
/// was given up gets another chance. What waits for its next try goes on waiting. Every `INSERT INTO job` ends with this, and every
/// insert of Diesel's builder is made by [`wish`] or [`wish_now`]; a test holds that.
pub(crate) const WISH: &str = "ON CONFLICT (kind, key, store) DO UPDATE SET wishes = job.wishes + 1, gave_up = false,
    attempts = CASE WHEN job.gave_up THEN 0 ELSE job.attempts END,
    due = CASE WHEN job.lease_end IS NOT NULL THEN excluded.due
               WHEN job.error IS NULL OR job.gave_up THEN least(job.due, excluded.due) ELSE job.due END";

/// [`WISH`] for rows of Diesel's builder: values, or a query that gives kind, key, store, priority and due.
macro_rules! wish {
    (values $rows:expr) => {
        wish!(@ insert_into(job::table).values($rows))
    };
    (from $rows:expr) => {
        wish!(@ insert_into(job::table).values($rows).into_columns((job::kind, job::key, job::store, job::priority, job::due)))
    };
    (@ $insert:expr) => {
        $insert.on_conflict((job::kind, job::key, job::store)).do_update().set((
            job::wishes.eq(job::wishes + 1),
            job::gave_up.eq(false),
            job::attempts.eq(case_when(job::gave_up, 0.into_sql::<diesel::sql_types::Integer>()).otherwise(job::attempts)),
            job::due.eq(case_when(job::lease_end.is_not_null(), excluded(job::due))
                .when(job::error.is_null().or(job::gave_up), least(job::due, excluded(job::due)))
                .otherwise(job::due)),
        ))
    };
}
pub(crate) use wish;

/// The same, for what is not to wait for the next try either.
macro_rules! wish_now {
    (values $rows:expr) => {
        wish_now!(@ insert_into(job::table).values($rows))
    };
    (from $rows:expr) => {
        wish_now!(@ insert_into(job::table).values($rows).into_columns((job::kind, job::key, job::store, job::priority, job::due)))
    };
    (@ $insert:expr) => {
        $insert.on_conflict((job::kind, job::key, job::store)).do_update().set((
            job::wishes.eq(job::wishes + 1),
            job::gave_up.eq(false),
            job::attempts.eq(0),
            job::due.eq(least(job::due, excluded(job::due))),
        ))
    };
}
pub(crate) use wish_now;

/// A row of work, for [`wish`] and [`wish_now`].
pub(crate) fn work_row(kind: Kind, key: Uuid, store: Option<StoreId>, priority: i32, due: DateTime<Utc>) -> NewJob {
    NewJob { kind: kind.word(), key, store: store.map(|s| s.0), priority, due }
}

/// Work that is to be put down.
#[derive(Clone, Debug, Insertable)]
#[diesel(table_name = job)]
pub(crate) struct NewJob {
    kind: &'static str,
    key: Uuid,
    store: Option<Uuid>,
    priority: i32,
    due: DateTime<Utc>,
}

/// The same row for each of the rows of a query: its kind, the key and the store that stand there, and when.
macro_rules! work_for {
    ($kind:expr, $key:expr, $store:expr, $priority:expr, $due:expr) => {{
        use diesel::sql_types::{Integer, Text, Timestamptz};
        ($kind.word().into_sql::<Text>(), $key, $store, $priority.into_sql::<Integer>(), $due.into_sql::<Timestamptz>())
    }};
}
pub(crate) use work_for;

/// No store, in [`work_for`].
pub(crate) fn no_store() -> AsExprOf<Option<Uuid>, Nullable<SqlUuid>> {
    None::<Uuid>.into_sql::<Nullable<SqlUuid>>()
}

/// Every store's ledger is to be looked at, soon. Returns how many there are.
pub(crate) async fn ledgers_due(c: &mut AsyncPgConnection, due: DateTime<Utc>) -> Result<usize> {
    let all = store::table.order(store::id).select(work_for!(Kind::Ledger, store::id, store::id.nullable(), 15, due));
    Ok(wish!(from all).execute(c).await?)
}

/// Work of one kind for each of these originals.
pub(crate) async fn due_for(
    c: &mut AsyncPgConnection,
    kind: Kind,
    ids: &[Uuid],
    priority: i32,
    due: DateTime<Utc>,
) -> Result<()> {
    let these = original::table.filter(original::id.eq_any(ids)).order(original::id);
    wish!(from these.select(work_for!(kind, original::id, no_store(), priority, due))).execute(c).await?;
    Ok(())
}

/// One store's.
pub(crate) async fn ledger_due(c: &mut AsyncPgConnection, of: StoreId, due: DateTime<Utc>) -> Result<()> {
    wish!(values work_row(Kind::Ledger, of.0, Some(of), 15, due)).execute(c).await?;
    Ok(())
}
