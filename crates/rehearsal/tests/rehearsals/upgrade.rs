//! A household goes from one version to the next, and back.

use std::{
    collections::BTreeSet,
    fs,
    path::PathBuf,
    process::{Command, Output},
};

use reqwest::Method;
use serde_json::json;
use ypogeion_core::Digest;
use ypogeion_rehearsal::{device::Device, wait_for, walk::originals_below};

use crate::common::{World, put, world};

/// The database as the version before left it: without the last step that can be taken again.
const BEFORE: &str = "DELETE FROM __diesel_schema_migrations WHERE version = '00000000000040'";

fn undo_upgrade(w: &World, more: &[&str]) -> Output {
    let mut command = Command::new(ypogeion_rehearsal::program("ypogeiond").unwrap());
    command.arg("--config").arg(w.folder.path().join("ypogeiond.toml")).arg("undo-upgrade").args(more);
    command.env("YPOGEION_THROW_AWAY", "1").output().unwrap()
}

async fn send((device, source): &(Device, PathBuf), names: std::ops::Range<usize>) {
    for n in names {
        put(source, &format!("IMG_{n:04}.jpg"), format!("the weir, {n}").as_bytes()).unwrap();
    }
    device.json(&["backup"]).await.unwrap();
}

async fn all_written_down(w: &World, count: u64) {
    wait_for("everything to be proven and written down", 60, async || {
        let (house, store) = (w.keeper.overview().await?, w.keeper.store().await?);
        Ok((house.home.count == count && store.proven.count == count && store.unlisted == 0).then_some(()))
    })
    .await
    .unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_house_is_upgraded_and_the_upgrade_undone_and_no_picture_is_lost() {
    let mut w = world().await;
    w.add_store().await;
    let device = w.computer("desktop").await;
    send(&device, 0..5).await;
    all_written_down(&w, 5).await;
    w.house.sql(BEFORE).unwrap();
    w.house.stop_service().await.unwrap();

    w.house.start_service().await.unwrap();
    w.keeper = w.house.keeper().await.unwrap();
    let record = w.keeper.ask(Method::GET, "api/record", None).await.unwrap().to_string();
    assert!(record.contains("brought the database up to this version"), "{record}");
    let copy = fs::read_dir(w.folder.path().join("data/upgrades")).unwrap().next().unwrap().unwrap().path();
    // While the service runs, nobody takes its database away.
    let refused = undo_upgrade(&w, &[]);
    assert!(!refused.status.success() && String::from_utf8_lossy(&refused.stderr).contains("stop that first"), "{refused:?}");
    send(&device, 5..9).await;
    all_written_down(&w, 9).await;

    w.house.stop_service().await.unwrap();
    let wrong = undo_upgrade(&w, &["--from", "/dev/null"]);
    assert!(String::from_utf8_lossy(&wrong.stderr).contains("is not a file"), "{wrong:?}");
    let undone = undo_upgrade(&w, &[]);
    let said = String::from_utf8_lossy(&undone.stdout).into_owned();
    assert!(undone.status.success() && said.contains(&copy.display().to_string()), "{undone:?}");

    // The device remembers that its pictures are at home. The database does not, and the list of contents in the store is longer than it knows.
    w.house.start_service().await.unwrap();
    w.keeper = w.house.keeper().await.unwrap();
    send(&device, 9..12).await;
    all_written_down(&w, 12).await;
    let settled = device.0.json(&["backup"]).await.unwrap();
    assert_eq!((&settled["counts"]["sent"], &settled["counts"]["present"]), (&json!(0), &json!(12)), "{settled}");

    // What was written down before and after, in a list that forked: all of it comes back.
    let kit = w.keeper.kit(&w.house.options.keeper.1).await.unwrap();
    let (file, to) = (w.folder.path().join("kit.txt"), w.folder.path().join("recovered"));
    fs::write(&file, &kit).unwrap();
    w.house.stop_service().await.unwrap();
    let mut recover = Command::new(ypogeion_rehearsal::program("ypogeiond").unwrap());
    let recovered = recover.args(["recover", "--kit"]).arg(&file).arg("--to").arg(&to).output().unwrap();
    assert!(recovered.status.success(), "{}", String::from_utf8_lossy(&recovered.stderr));
    let sent: BTreeSet<Digest> = originals_below(&device.1).unwrap().into_values().collect();
    let back: BTreeSet<Digest> = originals_below(&to).unwrap().into_values().collect();
    assert_eq!((sent.len(), back), (12, sent));
}
