//! Every route with every role's credential, held against the one table.

mod common;

use common::{Raw, world};
use reqwest::Method;
use serde_json::{Value, json};
use ypogeion_core::access::{Action, Role, may};
use ypogeion_rehearsal::house::Console;

/// How somebody with a role asks.
enum Credential {
    Cookie(Console),
    Token(Raw),
    None(Raw),
}

impl Credential {
    async fn status(&self, method: &str, path: &str) -> u16 {
        let body = json!({});
        match self {
            Credential::Cookie(console) => {
                // A stream of events never ends; its status is all that is wanted.
                let method = Method::from_bytes(method.as_bytes()).unwrap();
                let body = (method != Method::GET && method != Method::HEAD).then(|| body.clone());
                let asked = console.try_ask(method, path, body);
                tokio::time::timeout(std::time::Duration::from_secs(2), asked).await.map_or(200, |r| r.unwrap().0)
            }
            Credential::Token(raw) => {
                raw.send(method, path, &[("content-type", "application/json")], body.to_string().as_bytes()).await.status
            }
            Credential::None(raw) => {
                let url = raw.base.join(path).unwrap();
                let request = raw
                    .http
                    .request(Method::from_bytes(method.as_bytes()).unwrap(), url)
                    .header("content-type", "application/json");
                request.body(body.to_string()).send().await.unwrap().status().as_u16()
            }
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn every_route_asks_every_role_as_the_table_says() {
    let w = world().await;
    for (name, role) in [("Piet", "member"), ("Oma Liesl", "guest")] {
        let form = json!({ "name": name, "role": role, "password": "kites over the sea" });
        w.keeper.ask(Method::POST, "api/people", Some(form)).await.unwrap();
    }
    let device = w.raw_device("desktop").await;
    let document: Value = {
        let output =
            std::process::Command::new(ypogeion_rehearsal::program("ypogeiond").unwrap()).arg("openapi").output().unwrap();
        serde_json::from_slice(&output.stdout).unwrap()
    };
    let mut tried = 0;
    for role in Role::ALL {
        // Signing out ends a session, so everybody comes with a fresh one for each question.
        for (path, operations) in document["paths"].as_object().unwrap() {
            for (method, operation) in operations.as_object().unwrap() {
                let id = operation["operationId"].as_str().unwrap();
                let action = *Action::ALL.iter().find(|a| a.operation() == id).unwrap();
                let path = path.replace("{id}", "0198a000-0000-7000-8000-000000000000").replace("{size}", "small");
                let path = path.trim_start_matches('/');
                let credential = match role {
                    Role::Keeper => Credential::Cookie(w.house.keeper().await.unwrap()),
                    Role::Member => Credential::Cookie(w.house.sign_in("Piet", "kites over the sea").await.unwrap()),
                    Role::Guest => Credential::Cookie(w.house.sign_in("Oma Liesl", "kites over the sea").await.unwrap()),
                    Role::Device => Credential::Token(device.clone()),
                    Role::Nobody => Credential::None(device.clone()),
                };
                let status = credential.status(&method.to_uppercase(), path).await;
                match (may(role, action), role) {
                    // Whatever else is wrong with such an empty question, the role is not.
                    (true, _) => {
                        assert!(status != 401 && status != 403 || id == "sign_in" || id == "show_kit", "{role:?} {id}: {status}")
                    }
                    (false, Role::Nobody) => assert_eq!(status, 401, "{role:?} {id}"),
                    (false, _) => assert_eq!(status, 403, "{role:?} {id}"),
                }
                tried += 1;
            }
        }
    }
    assert_eq!(tried, Action::ALL.len() * Role::ALL.len());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_request_from_another_site_is_not_the_console() {
    let w = world().await;
    let http = reqwest::Client::builder().no_proxy().build().unwrap();
    let url = w.house.http.join("api/people").unwrap();
    let forged = http.post(url.clone()).header("cookie", &w.keeper.cookie).body("{}").header("content-type", "application/json");
    assert_eq!(forged.send().await.unwrap().status(), 403);
    // Looking is harmless, and answers cannot be read by other sites.
    let looked = http.get(url).header("cookie", &w.keeper.cookie).send().await.unwrap();
    assert_eq!(looked.status(), 200);
    assert!(looked.headers().get("access-control-allow-origin").is_none());
}

#[tokio::test(flavor = "multi_thread")]
async fn guessing_a_password_is_stopped() {
    let w = world().await;
    let mut statuses = Vec::new();
    for n in 0..12 {
        let body = Some(json!({ "name": "juno", "password": format!("guess number {n}") }));
        statuses.push(w.keeper.try_ask(Method::POST, "api/session", body).await.unwrap().0);
    }
    assert_eq!(statuses[0], 401);
    assert_eq!(statuses[11], 429);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_revoked_device_can_do_nothing_and_its_pictures_stay() {
    let w = world().await;
    let device = w.raw_device("phone").await;
    let path = device.create(4, "").await;
    assert_eq!(device.append(&path, 0, b"kite").await.status, 204);
    let devices = w.keeper.ask(Method::GET, "api/devices", None).await.unwrap();
    let id = devices[0]["id"].as_str().unwrap();
    w.keeper.ask(Method::POST, &format!("api/devices/{id}/revoke"), Some(json!({}))).await.unwrap();
    w.keeper.ask(Method::POST, &format!("api/devices/{id}/revoke"), Some(json!({}))).await.unwrap();
    let refused = device.send("GET", "api/device", &[], b"").await;
    assert_eq!((refused.status, refused.problem().as_str()), (401, "device-revoked"));
    assert_eq!(w.keeper.overview().await.unwrap().home.count, 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn members_do_not_see_each_others_pictures() {
    let w = world().await;
    let form = json!({ "name": "Piet", "role": "member", "password": "kites over the sea" });
    w.keeper.ask(Method::POST, "api/people", Some(form)).await.unwrap();
    let device = w.raw_device("phone").await;
    let path = device.create(4, "").await;
    let original = device.append(&path, 0, b"kite").await.header("ypogeion-original").to_owned();
    let piet = w.house.sign_in("Piet", "kites over the sea").await.unwrap();
    for path in ["", "/bytes", "/preview/small"] {
        let (status, _) = piet.try_ask(Method::GET, &format!("api/originals/{original}{path}"), None).await.unwrap();
        assert_eq!(status, 404, "{path}");
    }
    assert_eq!(w.keeper.bytes(&format!("api/originals/{original}/bytes")).await.unwrap(), b"kite");
    let ask = async |path| piet.ask(Method::GET, path, None).await.unwrap();
    assert!(ask("api/months").await.as_array().unwrap().is_empty());
    assert!(ask("api/devices").await.as_array().unwrap().is_empty());
    assert!(ask("api/runs").await.as_array().unwrap().is_empty());
    let pairing = json!({ "person": w.keeper.ask(Method::GET, "api/people", None).await.unwrap()[0]["id"] });
    assert_eq!(piet.try_ask(Method::POST, "api/pairings", Some(pairing)).await.unwrap().0, 403);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_device_trusts_the_certificate_of_its_pairing_and_no_other() {
    let w = world().await;
    let (device, _) = w.computer("desktop").await;
    assert_eq!(device.run(&["status"]).await.unwrap().code, 0);
    let file = device.folder().join("device.json");
    let text = std::fs::read_to_string(&file).unwrap();
    let state: Value = serde_json::from_str(&text).unwrap();
    let real = state["paired"]["certificate"].as_str().unwrap();
    std::fs::write(&file, text.replace(real, &"ab".repeat(32))).unwrap();
    let said = device.run(&["status"]).await.unwrap();
    assert_eq!(said.code, 4, "{}", said.err);
    assert!(said.err.contains("another certificate"), "{}", said.err);
}
