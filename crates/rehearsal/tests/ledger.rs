//! The ledger: checkpoints stand for what came before them, and what is lost or torn of it is made up for by the rest.

mod common;

use std::{
    fs,
    path::{Path, PathBuf},
};

use common::{World, put, world_of};
use ypogeion_rehearsal::wait_for;

/// A house whose ledger has some segments, and a checkpoint after every second one.
async fn house() -> World {
    let w = world_of(|o| o.offsite = "checkpoint_after = 2".into()).await;
    w.add_store().await;
    let (device, source) = w.computer("desktop").await;
    for n in 0..5 {
        put(&source, &format!("IMG_{n}.jpg"), format!("the picture of the weir with number {n}").as_bytes()).unwrap();
        device.json(&["backup"]).await.unwrap();
        w.keeper.wait_until_proven(60).await.unwrap();
    }
    wait_for("two checkpoints", 30, async || Ok((checkpoints(&w).len() >= 2).then_some(()))).await.unwrap();
    w
}

fn names(folder: &Path) -> Vec<PathBuf> {
    let mut names: Vec<PathBuf> = fs::read_dir(folder).into_iter().flatten().flatten().map(|e| e.path()).collect();
    names.sort();
    names
}

fn checkpoints(w: &World) -> Vec<PathBuf> {
    names(&w.house.store_folder().join("checkpoints"))
}

fn segments(w: &World) -> Vec<PathBuf> {
    names(&w.house.store_folder().join("ledger"))
}

fn number(path: &Path) -> u64 {
    path.file_name().unwrap().to_str().unwrap()[..8].parse().unwrap()
}

async fn recovered(w: &World, to: &str) -> (Option<i32>, String) {
    let kit = w.keeper.kit(&w.house.options.keeper.1).await.unwrap();
    let ended = w.recover(&kit, to);
    assert!(w.came_back(to).0, "everything came back: {}", ended.1);
    assert!(!w.folder.path().join(to).join(".recovering").exists(), "nothing of the way stays");
    ended
}

#[tokio::test(flavor = "multi_thread")]
async fn a_checkpoint_alone_says_what_all_segments_before_it_said() {
    let w = house().await;
    let upto = number(checkpoints(&w).last().unwrap());
    for segment in segments(&w).iter().filter(|s| number(s) <= upto) {
        fs::remove_file(segment).unwrap();
    }
    assert_eq!(recovered(&w, "back").await.0, Some(0));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_torn_of_a_ledger_is_said_and_made_up_for() {
    let w = house().await;
    // A checkpoint that was never finished is none; nobody is troubled with it.
    let last = checkpoints(&w).pop().unwrap();
    let part = names(&last).pop().unwrap();
    let bytes = fs::read(&part).unwrap();
    fs::remove_file(&part).unwrap();
    assert_eq!(recovered(&w, "back-1").await.0, Some(0));
    // One whose bytes do not open is said, and the one before it and the segments after that are used.
    fs::write(&part, &bytes[..bytes.len() - 3]).unwrap();
    let (code, said) = recovered(&w, "back-2").await;
    assert!(code == Some(1) && said.contains("cannot be used, checkpoints/"), "{said}");
    // A segment that was cut off while it was written: what it named is named by a checkpoint as well.
    fs::write(&part, bytes).unwrap();
    let upto = number(&last);
    let torn = segments(&w).into_iter().find(|s| number(s) == upto).unwrap();
    let bytes = fs::read(&torn).unwrap();
    fs::write(&torn, &bytes[..bytes.len() / 2]).unwrap();
    assert_eq!(recovered(&w, "back-3").await.0, Some(0), "it need not be read");
}
