//! An upgrade: nothing happens to a household's rows before there is a copy of them, and a mistake can be undone.

use std::{
    fs,
    path::{Path, PathBuf},
};

use chrono::{DateTime, TimeDelta, Utc};
use diesel::{QueryableByName, sql_query, sql_types::Text};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl, SimpleAsyncConnection};
use rstest::rstest;
use ypogeion_catalog::{
    Catalog, CatalogError,
    cluster::{Cluster, Durability},
    upgrade::{copies, undo, upgrade},
};

use super::{Permissions, PermissionsExt, earlier};

/// A household of the version whose last migration had the number 29.
struct Earlier {
    cluster: Cluster,
    folder: tempfile::TempDir,
    now: DateTime<Utc>,
}

impl Drop for Earlier {
    fn drop(&mut self) {
        let _ = self.cluster.stop();
    }
}

#[derive(QueryableByName)]
struct Word {
    #[diesel(sql_type = Text)]
    word: String,
}

async fn earlier() -> Earlier {
    let folder = tempfile::tempdir().unwrap();
    fs::set_permissions(folder.path(), Permissions::from_mode(0o755)).unwrap();
    let cluster = Cluster::start(&folder.path().join("cluster"), Durability::ThrownAway).unwrap();
    let mut c = AsyncPgConnection::establish(&cluster.url()).await.unwrap();
    earlier::schema_until(29, &mut c).await;
    c.batch_execute(earlier::HOUSE).await.unwrap();
    Earlier { cluster, folder, now: Utc::now() }
}

impl Earlier {
    fn copies(&self) -> PathBuf {
        self.folder.path().join("upgrades")
    }

    async fn ask(&self, what: &str) -> String {
        let mut c = AsyncPgConnection::establish(&self.cluster.url()).await.unwrap();
        sql_query(what).get_result::<Word>(&mut c).await.unwrap().word
    }

    async fn tell(&self, what: &str) {
        AsyncPgConnection::establish(&self.cluster.url()).await.unwrap().batch_execute(what).await.unwrap();
    }

    /// Its last migration, and who lives there.
    async fn state(&self) -> (String, String) {
        let last = self.ask("SELECT max(version) AS word FROM __diesel_schema_migrations").await;
        (last, self.ask("SELECT string_agg(name, ' ' ORDER BY name) AS word FROM person").await)
    }

    async fn upgrade(&self, copies: &Path) -> Result<Option<PathBuf>, CatalogError> {
        Ok(upgrade(&self.cluster.url(), Some(&self.cluster), copies, self.now).await?.map(|u| u.copy))
    }
}

const OLD: &str = "00000000000029";

#[tokio::test(flavor = "multi_thread")]
async fn nothing_opens_a_house_of_an_earlier_version_without_a_copy_of_it() {
    let e = earlier().await;
    let refused = Catalog::open(&e.cluster.url()).await.map(drop).unwrap_err();
    assert!(matches!(refused, CatalogError::Earlier), "{refused}");
    assert_eq!(e.state().await, (OLD.into(), "Juno".into()));
    let copy = e.upgrade(&e.copies()).await.unwrap().unwrap();
    assert_eq!(copies(&e.copies()).unwrap(), std::slice::from_ref(&copy));
    assert_eq!(copy.metadata().unwrap().permissions().mode() & 0o777, 0o600, "it holds every secret of the house");
    Catalog::open(&e.cluster.url()).await.unwrap();
    // There is nothing more to do, and nothing to copy.
    assert_eq!(e.upgrade(&e.copies()).await.unwrap(), None);
    assert_eq!(copies(&e.copies()).unwrap(), [copy]);
}

/// What keeps a copy from being written, or the migrations from running.
#[rstest]
#[case::no_folder("no folder")]
#[case::no_room("no room")]
#[case::a_migration_that_fails("a migration that fails")]
#[tokio::test(flavor = "multi_thread")]
async fn an_upgrade_that_fails_leaves_the_house_as_it_was(#[case] why: &str) {
    let e = earlier().await;
    let mut copies = e.copies();
    match why {
        "no folder" => {
            fs::write(&copies, "a file").unwrap();
            copies.push("below");
        }
        // Whatever is written to it is refused with "no space left on device".
        "no room" => {
            fs::create_dir(&copies).unwrap();
            let part = format!("before-upgrade-{}-from-{OLD}.part", e.now.format("%Y-%m-%dT%H%M%SZ"));
            std::os::unix::fs::symlink("/dev/full", copies.join(part)).unwrap();
        }
        // In the way of migration 31, after another one has run.
        _ => e.tell("CREATE TABLE tally (n integer)").await,
    }
    let refused = e.upgrade(&copies).await.unwrap_err();
    let said = refused.to_string();
    match why {
        "a migration that fails" => assert!(said.contains("tally"), "{said}"),
        _ => assert!(said.contains("it was not upgraded") || said.contains("make the folder"), "{said}"),
    }
    assert_eq!(e.state().await, (OLD.into(), "Juno".into()));
    if why == "no room" {
        assert_eq!(fs::read_dir(&copies).unwrap().count(), 0, "half a copy takes no room");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_upgrade_is_undone_and_what_came_after_it_is_kept() {
    let e = earlier().await;
    let copy = e.upgrade(&e.copies()).await.unwrap().unwrap();
    e.tell("INSERT INTO person (id, name, login, role, folder, password_hash, created_at) VALUES (gen_random_uuid(), 'Pim', 'pim', 'member', 'pim', 'x', now())")
        .await;
    // An attempt that was interrupted is in nobody's way.
    let mut c = AsyncPgConnection::establish(&e.cluster.url()).await.unwrap();
    c.batch_execute("CREATE DATABASE ypogeion_restoring").await.unwrap();
    drop(c);
    let undone = undo(&e.cluster, &copy, e.now).await.unwrap();
    assert_eq!(e.state().await, (OLD.into(), "Juno".into()));
    let aside = format!("{}{}", e.cluster.url().strip_suffix("ypogeion").unwrap(), undone.set_aside);
    let mut c = AsyncPgConnection::establish(&aside).await.unwrap();
    let names: Word =
        sql_query("SELECT string_agg(name, ' ' ORDER BY name) AS word FROM person").get_result(&mut c).await.unwrap();
    assert_eq!(names.word, "Juno Pim");
    drop(c);
    // And the same way again, for whoever changes their mind.
    assert!(e.upgrade(&e.copies()).await.unwrap().is_some());
    let catalog = Catalog::open(&e.cluster.url()).await.unwrap();
    assert_eq!(catalog.miscounts().await.unwrap(), Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_no_copy_takes_the_place_of_nothing() {
    let e = earlier().await;
    let copy = e.upgrade(&e.copies()).await.unwrap().unwrap();
    let before = e.state().await;
    let half = e.folder.path().join("half.dump");
    let whole = fs::read(&copy).unwrap();
    fs::write(&half, &whole[..whole.len() / 2]).unwrap();
    // A copy as good as ours, of a database that no household ever had.
    let other = e.folder.path().join("other.dump");
    let (mut c, url) = (AsyncPgConnection::establish(&e.cluster.url()).await.unwrap(), e.cluster.url());
    c.batch_execute("CREATE DATABASE garden").await.unwrap();
    let dump = std::process::Command::new("pg_dump")
        .args(["--format=custom", "--file"])
        .arg(&other)
        .arg(format!("{}garden", url.strip_suffix("ypogeion").unwrap()))
        .status();
    assert!(dump.unwrap().success());
    for no_copy in [half.as_path(), other.as_path(), Path::new("/dev/null"), Path::new("/nowhere")] {
        let said = undo(&e.cluster, no_copy, e.now).await.unwrap_err().to_string();
        assert!(said.contains("nothing was changed"), "{}: {said}", no_copy.display());
        assert_eq!(e.state().await, before);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_database_of_a_later_version_is_left_alone() {
    let e = earlier().await;
    e.tell("INSERT INTO __diesel_schema_migrations (version) VALUES ('00000000009999')").await;
    assert_eq!(e.upgrade(&e.copies()).await.unwrap(), None);
    let refused = Catalog::open(&e.cluster.url()).await.map(drop).unwrap_err();
    assert!(refused.to_string().contains("ypogeiond undo-upgrade"), "{refused}");
    assert_eq!(copies(&e.copies()).unwrap(), Vec::<PathBuf>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn the_last_copies_are_kept() {
    let mut e = earlier().await;
    fs::create_dir(e.copies()).unwrap();
    fs::write(e.copies().join("notes.txt"), "not a copy").unwrap();
    // What an attempt left that was cut off takes no room for ever.
    let half = e.copies().join("before-upgrade-2026-01-01T000000Z-from-00000000000028.part");
    fs::write(&half, "half").unwrap();
    let mut made = Vec::new();
    for _ in 0..5 {
        made.insert(0, e.upgrade(&e.copies()).await.unwrap().unwrap());
        undo(&e.cluster, &made[0], e.now).await.unwrap();
        e.now += TimeDelta::days(30);
    }
    made.truncate(3);
    assert_eq!(copies(&e.copies()).unwrap(), made);
    assert!(e.copies().join("notes.txt").exists() && !half.exists());
}
