//! What the tests ask the database past the catalogue.

use diesel::{QueryableByName, sql_query, sql_types::Text};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl, SimpleAsyncConnection};

use super::World;

#[derive(QueryableByName)]
struct Row {
    #[diesel(sql_type = Text)]
    line: String,
}

/// Its rows, each of one column that is called `line`.
pub async fn ask(w: &World, text: &str) -> Vec<String> {
    let mut c = AsyncPgConnection::establish(&w.cluster.url()).await.unwrap();
    let rows: Vec<Row> = sql_query(text).load(&mut c).await.unwrap_or_else(|e| panic!("{text}: {e}"));
    rows.into_iter().map(|r| r.line).collect()
}

/// Does all of this.
pub async fn run(w: &World, text: &str) {
    let mut c = AsyncPgConnection::establish(&w.cluster.url()).await.unwrap();
    c.batch_execute(text).await.unwrap_or_else(|e| panic!("{text}: {e}"));
}
