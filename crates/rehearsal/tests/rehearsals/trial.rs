//! A store is tried out step by step, and each failure is said in words that help.

use crate::common::{World, world};
use reqwest::Method;
use rstest::rstest;
use serde_json::{Value, json};
use ypogeion_standins::faults::Faults;

async fn trial(w: &World, form: Value) -> Value {
    w.keeper.ask(Method::POST, "api/stores/trial", Some(form)).await.unwrap()
}

fn steps(trial: &Value) -> Vec<(&str, &str)> {
    let steps = trial["steps"].as_array().unwrap();
    steps.iter().map(|s| (s["step"].as_str().unwrap(), s["went"].as_str().unwrap())).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_good_store_passes_every_step_and_nothing_stays_there() {
    let w = world().await;
    let tried = trial(&w, w.house.store_form()).await;
    assert_eq!(tried["usable"], true, "{tried}");
    let all = ["reach", "clock", "sign-in", "write", "read-back", "notice", "list", "conditional", "lock", "delete", "speed"];
    let (names, went): (Vec<&str>, Vec<&str>) = steps(&tried).into_iter().unzip();
    assert_eq!(names, all);
    assert!(went.iter().all(|w| *w != "badly"), "{tried}");
    let left = std::fs::read_dir(w.house.store_folder().join("trial")).map_or(0, Iterator::count);
    assert_eq!(left, 0, "what was stored to try is gone");
    assert_eq!(w.keeper.ask(Method::GET, "api/stores", None).await.unwrap(), json!([]), "and nothing was added");
    // The same for one that is in use, with the keys that it has.
    w.add_store().await;
    let id = w.keeper.store().await.unwrap().id;
    let again = w.keeper.ask(Method::POST, &format!("api/stores/{id}/trial"), None).await.unwrap();
    assert_eq!(again["usable"], true);
    assert!(again["steps"][2]["said"].as_str().unwrap().contains("there are copies in the bucket"), "{again}");
}

#[rstest]
#[case::nobody_there("endpoint", "http://127.0.0.1:1", "reach", "Nothing answers at this address")]
#[case::wrong_key("secret_key", "not the secret", "sign-in", "check access key and secret key")]
#[case::no_such_key("access_key", "nobody", "sign-in", "keys")]
#[case::no_bucket("bucket", "no-such-bucket", "sign-in", "no such bucket")]
#[tokio::test(flavor = "multi_thread")]
async fn each_failure_is_said_at_its_step(#[case] field: &str, #[case] value: &str, #[case] step: &str, #[case] said: &str) {
    let w = world().await;
    let mut form = w.house.store_form();
    form[field] = json!(value);
    let tried = trial(&w, form).await;
    assert_eq!(tried["usable"], false);
    let last = tried["steps"].as_array().unwrap().last().unwrap();
    assert_eq!((&last["step"], &last["went"]), (&json!(step), &json!("badly")), "{tried}");
    assert!(last["said"].as_str().unwrap().contains(said), "{last}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_full_store_is_said_to_be_full() {
    let w = world().await;
    w.house.store.set_faults(Faults { full: true, ..Faults::default() });
    let tried = trial(&w, w.house.store_form()).await;
    let last = tried["steps"].as_array().unwrap().last().unwrap().clone();
    assert_eq!((&last["step"], &last["went"]), (&json!("write"), &json!("badly")), "{tried}");
    assert!(last["said"].as_str().unwrap().contains("is full"), "{last}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_database_tells_no_secret() {
    let mut w = world().await;
    w.add_store().await;
    let cluster = || {
        let folder = w.folder.path().join("data/database");
        ypogeion_catalog::cluster::Cluster::start(&folder, ypogeion_catalog::cluster::Durability::ThrownAway).unwrap()
    };
    let secret = w.house.store_form()["secret_key"].as_str().unwrap().to_owned();
    let catalog = ypogeion_catalog::Catalog::open(&cluster().url()).await.unwrap();
    let kept = async || catalog.stores().await.unwrap().remove(0);
    let sealed = kept().await.address.secret_key;
    assert!(sealed.starts_with("age:") && !sealed.contains(&secret), "{sealed}");
    // As a version before this one left it: sealed at the next start, and the store goes on.
    catalog.set_store_secret(kept().await.id, &secret).await.unwrap();
    drop(catalog);
    w.house.stop_service().await.unwrap();
    w.house.start_service().await.unwrap();
    w.keeper = w.house.keeper().await.unwrap();
    let catalog = ypogeion_catalog::Catalog::open(&cluster().url()).await.unwrap();
    assert!(catalog.stores().await.unwrap()[0].address.secret_key.starts_with("age:"));
    let id = w.keeper.store().await.unwrap().id;
    let tried = w.keeper.ask(Method::POST, &format!("api/stores/{id}/trial"), None).await.unwrap();
    assert_eq!(tried["usable"], true, "{tried}");
    assert!(w.keeper.kit(&w.house.options.keeper.1).await.unwrap().contains(&secret), "the kit has it in the clear");
}
