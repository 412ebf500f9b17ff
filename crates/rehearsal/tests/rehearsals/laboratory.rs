//! The crash laboratory, for a few minutes, with fixed seeds. `cargo xtask campaign` goes on for as long as one likes.

use rstest::rstest;
use ypogeion_rehearsal::{campaign, wait_for};

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

/// The programs that run with this folder in what they were started with.
fn running_in(folder: &std::path::Path) -> Vec<String> {
    let all = std::fs::read_dir("/proc").unwrap().filter_map(Result::ok);
    let told = all.filter_map(|process| std::fs::read_to_string(process.path().join("cmdline")).ok());
    told.filter(|line| line.contains(folder.to_str().unwrap())).collect()
}

/// Whoever ends a demo or a campaign from outside, or closes its terminal, is left with nothing that runs.
#[rstest]
#[case::ended(rustix::process::Signal::TERM)]
#[case::its_terminal_was_closed(rustix::process::Signal::HUP)]
#[tokio::test(flavor = "multi_thread")]
async fn what_is_ended_from_outside_leaves_nothing_running(#[case] signal: rustix::process::Signal) {
    let folder = tempfile::tempdir().unwrap();
    let mut campaign = std::process::Command::new(ypogeion_rehearsal::program("ypogeion-rehearsal").unwrap())
        .arg("--folder")
        .arg(folder.path())
        .args(["campaign", "--steps", "100000", "--seed", "1"])
        .stdout(std::process::Stdio::null())
        .spawn()
        .unwrap();
    let services = || running_in(folder.path()).iter().filter(|line| line.contains("serve")).count();
    wait_for("the service to run", 120, async || Ok((services() > 0).then_some(()))).await.unwrap();
    let pid = rustix::process::Pid::from_raw(i32::try_from(campaign.id()).unwrap()).unwrap();
    rustix::process::kill_process(pid, signal).unwrap();
    let end = tokio::task::spawn_blocking(move || campaign.wait());
    let status = tokio::time::timeout(std::time::Duration::from_secs(60), end).await.expect("it ends").unwrap().unwrap();
    assert!(!status.success());
    wait_for("all that it started to end", 60, async || Ok(running_in(folder.path()).is_empty().then_some(())))
        .await
        .unwrap_or_else(|e| panic!("{e}: {:?}", running_in(folder.path())));
}
