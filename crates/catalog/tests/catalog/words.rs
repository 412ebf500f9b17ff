//! What the sources and the migrations say of the same thing.

use rstest::rstest;
use ypogeion_catalog::folder_view::{parent_of, source_and_name};
use ypogeion_core::{
    offer::{DELETED_GONE, DELETED_HELD},
    room::ROWS_OF_DEVICE,
};

#[rstest]
#[case("a.jpg", "", "", "a.jpg")]
#[case("DCIM/Camera/a.jpg", "DCIM/Camera", "DCIM/Camera", "a.jpg")]
fn a_path_says_where_a_file_is_from(#[case] path: &str, #[case] parent: &str, #[case] source: &str, #[case] name: &str) {
    assert_eq!(parent_of(path), parent);
    let said = source_and_name(path);
    assert_eq!((said.0.as_str(), said.1.as_str()), (source, name));
}

#[test]
fn the_database_holds_devices_to_the_ceiling_that_is_told() {
    let migration = include_str!("../../migrations/00000000000026_ceilings/up.sql");
    assert!(migration.contains(&format!("CHECK (made <= {ROWS_OF_DEVICE})")));
}

#[test]
fn the_database_knows_what_is_not_missing_by_the_words_that_are_told() {
    let migration = include_str!("../../migrations/00000000000032_named/up.sql");
    assert!([DELETED_HELD, DELETED_GONE].iter().all(|word| migration.contains(&format!("'{word}'"))));
}
