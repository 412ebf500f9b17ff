//! The crash laboratory, for a few minutes, with fixed seeds. `cargo xtask campaign` goes on for as long as one likes.

use rstest::rstest;
use ypogeion_rehearsal::campaign;

#[rstest]
#[case::one(7)]
#[case::another(20_261_128)]
#[tokio::test(flavor = "multi_thread")]
async fn a_house_that_is_struck_at_random_loses_nothing(#[case] seed: u64) {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let folder = tempfile::tempdir().unwrap();
    let account = campaign::run(folder.path(), seed, 60, &|line| println!("{line}")).await.unwrap_or_else(|e| panic!("{e}"));
    assert_eq!(account.steps, 60);
    assert!(account.kills > 5 && account.rests >= 3, "{account:?}");
}
