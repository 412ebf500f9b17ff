//! What columns hold, as the types that the rest of the program uses. A value that its type cannot hold is an error that says so, never
//! another value: a hash of the wrong length is not zeros, and a path that is none is not "not there".

use std::io::Write;

use diesel::{
    deserialize::{self, FromSql, FromSqlRow},
    expression::AsExpression,
    pg::{Pg, PgValue},
    serialize::{self, IsNull, Output, ToSql},
    sql_types::{Binary, Text},
};
use ypogeion_core::{
    Digest,
    access::Role,
    checksum::{Checksum, HashAlgorithm},
    filing::FiledPath,
    state::{AdoptionState, RefilingState},
};

/// A SHA-256.
#[derive(Clone, Copy, Debug, FromSqlRow, AsExpression)]
#[diesel(sql_type = Binary)]
pub(crate) struct HashColumn(pub Digest);

impl ToSql<Binary, Pg> for HashColumn {
    fn to_sql<'b>(&'b self, out: &mut Output<'b, '_, Pg>) -> serialize::Result {
        out.write_all(self.0.as_bytes())?;
        Ok(IsNull::No)
    }
}

/// Hashes, as the database has them.
pub(crate) fn hashes(of: &[Digest]) -> Vec<HashColumn> {
    of.iter().copied().map(HashColumn).collect()
}

impl FromSql<Binary, Pg> for HashColumn {
    fn from_sql(value: PgValue<'_>) -> deserialize::Result<Self> {
        let bytes = value.as_bytes();
        let digest = Digest::from_slice(bytes).map_err(|_| format!("a hash of {} bytes", bytes.len()))?;
        Ok(HashColumn(digest))
    }
}

/// The path of a file in the library.
#[derive(Clone, Debug, FromSqlRow)]
pub(crate) struct PathColumn(pub FiledPath);

impl FromSql<Text, Pg> for PathColumn {
    fn from_sql(value: PgValue<'_>) -> deserialize::Result<Self> {
        let text = <String as FromSql<Text, Pg>>::from_sql(value)?;
        let path = FiledPath::parse(&text).map_err(|e| format!("{text:?} is no path in the library: {e}"))?;
        Ok(PathColumn(path))
    }
}

/// What a word in the database stands for.
pub(crate) trait Word: Sized {
    /// What it is, for whoever reads of a word that is none.
    const WHAT: &'static str;

    fn of(word: &str) -> Option<Self>;
}

impl Word for Role {
    const WHAT: &'static str = "role of a person";

    fn of(word: &str) -> Option<Self> {
        Role::of_person(word)
    }
}

impl Word for AdoptionState {
    const WHAT: &'static str = "state of an adoption";

    fn of(word: &str) -> Option<Self> {
        AdoptionState::from_word(word)
    }
}

impl Word for RefilingState {
    const WHAT: &'static str = "state of a re-filing";

    fn of(word: &str) -> Option<Self> {
        RefilingState::from_word(word)
    }
}

impl Word for Checksum {
    const WHAT: &'static str = "checksum that a store verifies";

    fn of(word: &str) -> Option<Self> {
        Checksum::from_word(word)
    }
}

impl Word for HashAlgorithm {
    const WHAT: &'static str = "way of hashing an object";

    fn of(word: &str) -> Option<Self> {
        HashAlgorithm::from_word(word)
    }
}

/// One of a few words.
#[derive(Clone, Copy, Debug, FromSqlRow)]
pub(crate) struct WordColumn<T>(pub T);

impl<T: Word> FromSql<Text, Pg> for WordColumn<T> {
    fn from_sql(value: PgValue<'_>) -> deserialize::Result<Self> {
        let text = <String as FromSql<Text, Pg>>::from_sql(value)?;
        Ok(WordColumn(T::of(&text).ok_or_else(|| format!("{text:?} is no {}", T::WHAT))?))
    }
}
