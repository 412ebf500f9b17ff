//! What the sources say of the tables, held against what the migrations make.

use std::collections::BTreeMap;

use diesel::{QueryableByName, sql_query, sql_types::Text};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};

use super::*;

/// The tables of a source, each with its key and its columns, in their order.
type Tables = BTreeMap<String, (Vec<String>, Vec<(String, String)>)>;

/// Reads what `diesel::table!` is handed.
fn declared(text: &str) -> Tables {
    let mut all = Tables::new();
    for table in text.split("diesel::table! {").skip(1) {
        let lines = table.lines().map(str::trim).skip(1).take_while(|l| *l != "}").filter(|l| !l.starts_with("///"));
        let mut lines = lines.collect::<Vec<_>>().into_iter();
        let (name, key) = lines.next().and_then(|l| l.strip_suffix(") {")).and_then(|l| l.split_once(" (")).unwrap();
        let columns = lines.map(|l| l.trim_end_matches(',').split_once(" -> ").unwrap());
        let columns = columns.map(|(column, of)| (column.to_owned(), of.to_owned())).collect();
        all.insert(name.to_owned(), (key.split(", ").map(str::to_owned).collect(), columns));
    }
    all
}

#[derive(QueryableByName)]
struct Column {
    #[diesel(sql_type = Text)]
    of: String,
    #[diesel(sql_type = Text)]
    name: String,
    #[diesel(sql_type = Text)]
    holds: String,
    #[diesel(sql_type = Text)]
    optional: String,
}

#[derive(QueryableByName)]
struct Key {
    #[diesel(sql_type = Text)]
    of: String,
    #[diesel(sql_type = Text)]
    name: String,
}

fn diesel_type(holds: &str, optional: bool) -> String {
    let of = |holds: &str| match holds {
        "uuid" => "Uuid",
        "text" => "Text",
        "bytea" => "Bytea",
        "bool" => "Bool",
        "int2" => "Int2",
        "int4" => "Int4",
        "int8" => "Int8",
        "float8" => "Float8",
        "date" => "Date",
        "timestamp" => "Timestamp",
        "timestamptz" => "Timestamptz",
        "jsonb" => "Jsonb",
        other => panic!("a column of {other}"),
    };
    let of = match holds.strip_prefix('_') {
        Some(item) => format!("Array<Nullable<{}>>", of(item)),
        None => of(holds).to_owned(),
    };
    if optional { format!("Nullable<{of}>") } else { of }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_schema_is_what_the_migrations_make() {
    let w = world().await;
    let mut c = AsyncPgConnection::establish(&w.cluster.url()).await.unwrap();
    let columns = async |kind: &str, c: &mut AsyncPgConnection| -> Vec<Column> {
        let columns = sql_query(
            "SELECT c.table_name::text AS of, c.column_name::text AS name, c.udt_name::text AS holds, c.is_nullable::text AS optional
             FROM information_schema.columns c JOIN information_schema.tables t USING (table_schema, table_name)
             WHERE c.table_schema = 'public' AND t.table_type = $1 AND c.table_name <> '__diesel_schema_migrations'
             ORDER BY c.table_name, c.ordinal_position",
        );
        columns.bind::<Text, _>(kind).load(c).await.unwrap()
    };
    let keys: Vec<Key> = sql_query(
        "SELECT k.table_name::text AS of, k.column_name::text AS name FROM information_schema.table_constraints t
         JOIN information_schema.key_column_usage k USING (constraint_schema, constraint_name)
         WHERE t.table_schema = 'public' AND t.constraint_type = 'PRIMARY KEY' ORDER BY k.table_name, k.ordinal_position",
    )
    .load(&mut c)
    .await
    .unwrap();
    let mut made = Tables::new();
    for column in columns("BASE TABLE", &mut c).await {
        let table = made.entry(column.of).or_default();
        table.1.push((column.name, diesel_type(&column.holds, column.optional == "YES")));
    }
    for key in keys {
        if let Some(table) = made.get_mut(&key.of) {
            table.0.push(key.name);
        }
    }
    let schema = declared(include_str!("../../src/schema.rs"));
    assert!(schema.len() > 40 && schema["original"].1.len() > 20);
    assert_eq!(schema, made, "print it anew: see diesel.toml");
    // The views that are written down by hand. PostgreSQL says of none of their columns that it always has something.
    let views = declared(include_str!("../../src/db.rs"));
    assert_eq!(views.keys().collect::<Vec<_>>(), ["album_seen", "counts", "in_album", "shown_to", "town_count"]);
    let there = columns("VIEW", &mut c).await;
    for (view, (_, declared)) in views {
        let there = there.iter().filter(|c| c.of == view).map(|c| (c.name.clone(), diesel_type(&c.holds, false)));
        assert_eq!(declared, there.collect::<Vec<_>>(), "{view}");
    }
}
