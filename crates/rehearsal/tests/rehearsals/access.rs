//! Every route with every role's credential, held against the one table.

use crate::common::{self, Raw, world};
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
    let given = w.keeper.ask(Method::POST, "api/devices", Some(json!({ "name": "Scanner" }))).await.unwrap();
    let program = Raw { token: given["password"].as_str().unwrap().to_owned(), ..device.clone() };
    let album = w.keeper.ask(Method::POST, "api/albums", Some(json!({ "name": "Kites" }))).await.unwrap();
    let links = format!("api/albums/{}/links", album["id"].as_str().unwrap());
    let link =
        w.keeper.ask(Method::POST, &links, Some(json!({ "days": 30, "hands_out": "previews", "takes": true }))).await.unwrap();
    let link = link["address"].as_str().unwrap().split_once('#').unwrap().1.to_owned();
    let document = openapi();
    let mut tried = 0;
    let comes = async |role: Role| match role {
        Role::Keeper => Credential::Cookie(w.house.keeper().await.unwrap()),
        Role::Member => Credential::Cookie(w.house.sign_in("Piet", "kites over the sea").await.unwrap()),
        Role::Guest => Credential::Cookie(w.house.sign_in("Oma Liesl", "kites over the sea").await.unwrap()),
        Role::Device => Credential::Token(device.clone()),
        Role::Program => Credential::Token(program.clone()),
        Role::Outsider => Credential::Cookie(w.house.by_link(&link).await.unwrap()),
        Role::Nobody => Credential::None(device.clone()),
    };
    // These end a session, or would: whoever asked comes with a fresh one afterwards.
    const ENDING: [&str; 4] = ["sign_out", "change_password", "end_session", "end_other_sessions"];
    for role in Role::ALL {
        let mut credential = comes(role).await;
        for (path, operations) in document["paths"].as_object().unwrap() {
            for (method, operation) in operations.as_object().unwrap() {
                let id = operation["operationId"].as_str().unwrap();
                let action = *Action::ALL.iter().find(|a| a.operation() == id).unwrap();
                let path = filled_in(path);
                let path = path.trim_start_matches('/');
                let status = credential.status(&method.to_uppercase(), path).await;
                if ENDING.contains(&id) {
                    credential = comes(role).await;
                }
                match (may(role, action), role) {
                    // Whatever else is wrong with such an empty question, the role is not.
                    (true, _) => {
                        assert!(
                            status != 401 && status != 403 || ["sign_in", "show_kit"].contains(&id),
                            "{role:?} {id}: {status}"
                        )
                    }
                    (false, Role::Nobody) => assert_eq!(status, 401, "{role:?} {id}"),
                    // What a link opens is shown to its cookie, and to no other credential; and that is none anywhere else.
                    (false, Role::Outsider) => assert_eq!(status, 401, "{role:?} {id}"),
                    (false, _) if id.ends_with("_outside") => assert_eq!(status, 401, "{role:?} {id}"),
                    (false, _) => assert_eq!(status, 403, "{role:?} {id}"),
                }
                tried += 1;
            }
        }
    }
    assert_eq!(tried, Action::ALL.len() * Role::ALL.len());
}

/// Ways in which an address can be written so that a careless reader takes it for another one, or for the same.
fn spellings(path: &str) -> Vec<(&'static str, String)> {
    let parts: Vec<&str> = path.split('/').collect();
    let encode = |text: &str, at: usize| {
        let byte = text.as_bytes()[at];
        format!("{}%{byte:02x}{}", &text[..at], &text[at + 1..])
    };
    let mut all = Vec::new();
    for n in (1..parts.len()).filter(|n| !parts[*n].is_empty()) {
        // The names below a folder may be written in any way; its own name may not.
        if path.starts_with("/dav") && n > 1 {
            continue;
        }
        let with = |part: String| {
            let mut other: Vec<String> = parts.iter().map(|p| (*p).to_owned()).collect();
            other[n] = part;
            other.join("/")
        };
        all.push(("first letter encoded", with(encode(parts[n], 0))));
        all.push(("last letter encoded", with(encode(parts[n], parts[n].len() - 1))));
        all.push(("encoded twice", with(encode(parts[n], 0).replace('%', "%25"))));
        // In upper case a number is the same one, and another name is another name.
        if !is_open(parts[n]) {
            all.push(("upper case", with(parts[n].to_uppercase())));
        }
        all.push(("a dot before it", with(format!("./{}", parts[n]))));
        all.push(("an encoded dot before it", with(format!("%2e/{}", parts[n]))));
        all.push(("down and up", with(format!("x/../{}", parts[n]))));
        all.push(("doubled slash", with(format!("/{}", parts[n]))));
        if n > 1 {
            all.push((
                "encoded slash",
                parts[1..n].iter().fold(String::new(), |a, p| format!("{a}/{p}")) + "%2F" + &parts[n..].join("/"),
            ));
        }
    }
    if !path.starts_with("/dav") {
        all.push(("slash at the end", format!("{path}/")));
        // Behind what a path leaves open it is a part of that, and no other address.
        if !path.rsplit('/').next().is_some_and(is_open) {
            all.push(("a parameter of the path", format!("{path};x=1")));
        }
    }
    // A number has no upper case.
    all.retain(|(_, p)| p != path);
    all
}

/// Nobody gets anywhere by spelling an address in another way, or by another method than those that the table knows.
#[tokio::test(flavor = "multi_thread")]
async fn an_address_that_is_spelt_otherwise_leads_nowhere() {
    let w = world().await;
    let form = json!({ "name": "Piet", "role": "member", "password": "kites over the sea" });
    w.keeper.ask(Method::POST, "api/people", Some(form)).await.unwrap();
    let device = w.raw_device("desktop").await;
    let piet = w.house.sign_in("Piet", "kites over the sea").await.unwrap();
    let document = openapi();
    let credentials = [
        ("keeper", format!("cookie: {}\r\nx-ypogeion-console: 1\r\n", w.keeper.cookie)),
        ("member", format!("cookie: {}\r\nx-ypogeion-console: 1\r\n", piet.cookie)),
        ("device", format!("authorization: Bearer {}\r\n", device.token)),
        ("nobody", String::new()),
    ];
    const METHODS: [&str; 12] =
        ["GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS", "PROPFIND", "MOVE", "TRACE", "QUERY", "get"];
    let mut tried = 0;
    for (path, operations) in document["paths"].as_object().unwrap() {
        let known: Vec<String> = operations.as_object().unwrap().keys().map(|m| m.to_uppercase()).collect();
        let path = filled_in(path);
        for (who, credential) in &credentials {
            for method in &known {
                for (how, other) in spellings(&path) {
                    let status = bare(&w.house.http, method, &other, credential).await;
                    assert_eq!(status, 404, "{who}: {method} {other} ({how})");
                    tried += 1;
                }
            }
            for method in METHODS.iter().filter(|m| !known.iter().any(|k| k == *m) && !path.starts_with("/dav")) {
                let status = bare(&w.house.http, method, &path, credential).await;
                assert_eq!(status, 404, "{who}: {method} {path}");
                tried += 1;
            }
        }
    }
    assert!(tried > 5000, "{tried}");
    // Nothing of it was done, either.
    let record = w.keeper.ask(Method::GET, "api/record", None).await.unwrap().to_string();
    assert!(!record.contains("signed out") && !record.contains("tried"), "{record}");
}

/// A page of somebody else who gave their own name this server's address gets nothing of it.
#[tokio::test(flavor = "multi_thread")]
async fn a_name_that_is_not_this_servers_is_not_answered() {
    let w = world().await;
    let port = w.house.http.port().unwrap();
    let ask = async |target: &str, host: &str| {
        use tokio::io::{AsyncReadExt, AsyncWriteExt};
        let mut line = tokio::net::TcpStream::connect(("127.0.0.1", port)).await.unwrap();
        let request =
            format!("GET {target} HTTP/1.1\r\nhost: {host}\r\nconnection: close\r\ncookie: {}\r\n\r\n", w.keeper.cookie);
        line.write_all(request.as_bytes()).await.unwrap();
        let mut said = String::new();
        let _ = line.read_to_string(&mut said).await;
        said.split(' ').nth(1).and_then(|s| s.parse::<u16>().ok()).unwrap_or(0)
    };
    for path in ["/", "/api/state", "/api/record", "/tus/", "/dav/x", "/assets/x", "/api/arrival"] {
        for host in ["photos.example.com", "photos.example.com:8740", "127.0.0.1.example.com", "localhost.example.com"] {
            assert_eq!(ask(path, host).await, 421, "{path} at {host}");
        }
        assert_ne!(ask(path, &format!("127.0.0.1:{port}")).await, 421, "{path}");
    }
    for host in ["localhost", "[::1]:8740", "192.168.1.20"] {
        assert_eq!(ask("/api/record", host).await, 200, "{host}");
    }
    assert_eq!(ask("http://photos.example.com/api/record", "localhost").await, 421, "said in the line itself");
}

/// A request exactly as it is written, which a well-behaved client would not send. Returns the status.
async fn bare(base: &url::Url, method: &str, path: &str, credential: &str) -> u16 {
    use tokio::io::{AsyncReadExt, AsyncWriteExt};
    let address = (base.host_str().unwrap(), base.port().unwrap());
    let mut line = tokio::net::TcpStream::connect(address).await.unwrap();
    let request = format!(
        "{method} {path} HTTP/1.1\r\nhost: {}:{}\r\nconnection: close\r\ncontent-type: application/json\r\ncontent-length: 2\r\n{credential}\r\n{{}}",
        address.0, address.1
    );
    line.write_all(request.as_bytes()).await.unwrap();
    let mut head = [0; 12];
    line.read_exact(&mut head).await.unwrap_or_else(|e| panic!("{method} {path}: no answer, {e}"));
    std::str::from_utf8(&head[9..]).unwrap().parse().unwrap()
}

/// Whether a part of a path stands for what [`filled_in`] puts in the place of something open.
fn is_open(part: &str) -> bool {
    part.starts_with(|c: char| c.is_ascii_digit()) || ["kite", "small"].contains(&part)
}

/// A path with something in the place of what it leaves open.
fn filled_in(path: &str) -> String {
    let part = |p: &str| match p {
        "{id}" => "0198a000-0000-7000-8000-000000000000".to_owned(),
        "{size}" => "small".to_owned(),
        open if open.starts_with('{') => "kite".to_owned(),
        plain => plain.to_owned(),
    };
    path.split('/').map(part).collect::<Vec<_>>().join("/")
}

fn openapi() -> Value {
    let output = std::process::Command::new(ypogeion_rehearsal::program("ypogeiond").unwrap()).arg("openapi").output().unwrap();
    serde_json::from_slice(&output.stdout).unwrap()
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
async fn guessing_a_password_is_slowed_down_said_and_stopped_and_the_owner_gets_in() {
    let w = world().await;
    let guess = async |name: &str, n: usize| {
        let body = Some(json!({ "name": name, "password": format!("guess number {n}") }));
        w.keeper.try_ask(Method::POST, "api/session", body).await.unwrap().0
    };
    for n in 0..10 {
        assert_eq!(guess("juno", n).await, 401, "a guess is answered, later each time");
    }
    // The owner is not locked out by it.
    w.house.keeper().await.unwrap();
    let record = w.keeper.ask(Method::GET, "api/record", None).await.unwrap().to_string();
    assert!(
        record.contains("gave 5 wrong passwords for Juno, from 127.0.0.1")
            && record.contains("signed in after 10 wrong passwords"),
        "{record}"
    );
    // From one address there is an end to it, whatever the names are; and a stranger's names are not written down.
    let mut statuses = Vec::new();
    for n in 0..60 {
        statuses.push(guess(&format!("nobody {n}"), n).await);
    }
    assert_eq!((statuses[0], statuses[59]), (401, 429));
    let record = w.keeper.ask(Method::GET, "api/record", None).await.unwrap().to_string();
    assert!(!record.contains("nobody"), "{record}");
}

/// What strangers may send is small, whatever it claims to be.
#[tokio::test(flavor = "multi_thread")]
async fn a_stranger_fills_no_memory() {
    let w = world().await;
    let http = reqwest::Client::builder().no_proxy().build().unwrap();
    let huge = "x".repeat(8 << 20);
    for (path, body) in [
        ("api/session", json!({ "name": huge, "password": "p" })),
        ("api/session", json!({ "name": "juno", "password": huge })),
        ("api/pairings/claim", json!({ "code": huge, "device_name": "x", "device_kind": "phone", "client": "x" })),
        ("api/door/household", json!({ "household": huge, "keeper": "x", "password": "x" })),
        ("api/door/kit", json!({ "kit": huge, "password": "x" })),
    ] {
        let answered = http.post(w.house.http.join(path).unwrap()).json(&body).send().await;
        // Answered before all of it has come, the connection may be closed under the rest.
        let status = answered.map_or(400, |r| r.status().as_u16());
        assert!([400, 404, 413].contains(&status), "{path}: {status}");
    }
    // A name or a password longer than anybody's is no question for the database, or for a hash.
    for (name, password) in [("j".repeat(5000), "p".to_owned()), ("juno".to_owned(), "p".repeat(10_000))] {
        let status = http
            .post(w.house.http.join("api/session").unwrap())
            .json(&json!({ "name": name, "password": password }))
            .send()
            .await
            .unwrap()
            .status();
        assert_eq!(status, 401);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_new_password_ends_the_sessions_that_the_old_one_opened() {
    let w = world().await;
    let form = json!({ "name": "Piet", "role": "member", "password": "kites over the sea" });
    let piet = w.keeper.ask(Method::POST, "api/people", Some(form)).await.unwrap();
    let alive = async |c: &Console| c.try_ask(Method::GET, "api/session", None).await.unwrap().0;
    // The keeper sets it anew: wherever Piet was, that ends.
    let (one, two) = (
        w.house.sign_in("Piet", "kites over the sea").await.unwrap(),
        w.house.sign_in("Piet", "kites over the sea").await.unwrap(),
    );
    let path = format!("api/people/{}", piet["id"].as_str().unwrap());
    w.keeper.ask(Method::PATCH, &path, Some(json!({ "password": "gulls over the sea" }))).await.unwrap();
    assert_eq!((alive(&one).await, alive(&two).await), (401, 401));
    // Piet changes it: the other session ends, and this one stays. Without the old one, nobody does.
    let (one, two) = (
        w.house.sign_in("Piet", "gulls over the sea").await.unwrap(),
        w.house.sign_in("Piet", "gulls over the sea").await.unwrap(),
    );
    let change = |old: &str, new: &str| Some(json!({ "old": old, "new": new }));
    assert_eq!(
        one.try_ask(Method::POST, "api/session/password", change("kites over the sea", "a third password")).await.unwrap().0,
        403
    );
    assert_eq!(one.try_ask(Method::POST, "api/session/password", change("gulls over the sea", "short")).await.unwrap().0, 400);
    one.ask(Method::POST, "api/session/password", change("gulls over the sea", "a third password")).await.unwrap();
    assert_eq!((alive(&one).await, alive(&two).await), (200, 401));
    assert!(w.house.sign_in("Piet", "gulls over the sea").await.is_err());
    // The keeper's own is not changed that way, by whoever sits at the keeper's page.
    let me = w.keeper.ask(Method::GET, "api/session", None).await.unwrap();
    let own = w
        .keeper
        .try_ask(
            Method::PATCH,
            &format!("api/people/{}", me["id"].as_str().unwrap()),
            Some(json!({ "password": "taken over now" })),
        )
        .await
        .unwrap();
    assert_eq!(own.0, 400, "{}", own.1);
    // Where one is signed in can be seen and ended.
    let other = w.house.sign_in("Piet", "a third password").await.unwrap();
    let third = w.house.sign_in("Piet", "a third password").await.unwrap();
    let list = one.ask(Method::GET, "api/sessions", None).await.unwrap();
    assert_eq!(list.as_array().unwrap().iter().filter(|s| s["this"] == true).count(), 1, "{list}");
    assert_eq!(list.as_array().unwrap().len(), 3);
    let keepers = w.keeper.ask(Method::GET, "api/sessions", None).await.unwrap();
    let foreign = keepers[0]["id"].as_str().unwrap();
    one.ask(Method::DELETE, &format!("api/sessions/{foreign}"), None).await.unwrap();
    assert_eq!(alive(&w.keeper).await, 200, "somebody else's is not ended");
    let last = other.ask(Method::GET, "api/sessions", None).await.unwrap();
    let this = last.as_array().unwrap().iter().find(|s| s["this"] == true).unwrap()["id"].as_str().unwrap().to_owned();
    one.ask(Method::DELETE, &format!("api/sessions/{this}"), None).await.unwrap();
    assert_eq!(alive(&other).await, 401);
    one.ask(Method::DELETE, "api/sessions", None).await.unwrap();
    assert_eq!((alive(&one).await, alive(&third).await), (200, 401));
}

/// A browser that was left open may look; what opens or changes what all depends on asks for the password again.
#[tokio::test(flavor = "multi_thread")]
async fn what_all_depends_on_asks_for_the_password_again() {
    let w = world().await;
    let form = json!({ "name": "Piet", "role": "member", "password": "kites over the sea" });
    let piet = w.keeper.ask(Method::POST, "api/people", Some(form)).await.unwrap()["id"].clone();
    let person = format!("api/people/{}", piet.as_str().unwrap());
    let questions = [
        (Method::POST, "api/people", json!({ "name": "Marisol", "role": "keeper", "password": "a long password" })),
        (Method::POST, "api/stores", w.house.store_form()),
        (Method::POST, "api/pairings", json!({ "person": piet })),
        (Method::PATCH, "api/household", json!({ "safety_stop_percent": 100 })),
        (Method::PATCH, person.as_str(), json!({ "password": "taken over now" })),
    ];
    // Eleven minutes after the password was typed.
    w.sql("UPDATE session SET proved_at = proved_at - interval '11 minutes'");
    for (method, path, body) in &questions {
        let (status, said) = w.keeper.try_ask(method.clone(), path, Some(body.clone())).await.unwrap();
        assert_eq!((status, &said["type"]), (403, &json!("urn:ypogeion:problem:password-wanted")), "{method} {path}: {said}");
    }
    // What does not need it goes on.
    w.keeper
        .ask(Method::POST, "api/people", Some(json!({ "name": "Oma", "role": "guest", "password": "a long password" })))
        .await
        .unwrap();
    w.keeper.ask(Method::PATCH, "api/household", Some(json!({ "safety_stop_percent": 5 }))).await.unwrap();
    let wrong = w.keeper.try_ask(Method::POST, "api/session/proof", Some(json!({ "password": "not this one" }))).await.unwrap();
    assert_eq!(wrong.0, 403);
    w.keeper.ask(Method::POST, "api/session/proof", Some(json!({ "password": w.house.options.keeper.1 }))).await.unwrap();
    for (method, path, body) in &questions {
        w.keeper.ask(method.clone(), path, Some(body.clone())).await.unwrap();
    }
    // A clock that was put back makes nothing fresh.
    w.sql("UPDATE session SET proved_at = now() + interval '1 day'");
    assert_eq!(w.keeper.try_ask(Method::POST, "api/stores", Some(w.house.store_form())).await.unwrap().0, 403);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_the_house_says_of_itself_is_kept_by_nobody() {
    let w = world().await;
    let http = reqwest::Client::builder().no_proxy().build().unwrap();
    for path in ["api/session", "api/overview", "api/people", "api/record", "api/state"] {
        let answered = http.get(w.house.http.join(path).unwrap()).header("cookie", &w.keeper.cookie).send().await.unwrap();
        assert_eq!(answered.headers()["cache-control"], "no-store", "{path}");
    }
    let out = http
        .delete(w.house.http.join("api/session").unwrap())
        .header("cookie", &w.keeper.cookie)
        .header("x-ypogeion-console", "1");
    let out = out.send().await.unwrap();
    assert!(out.headers()["clear-site-data"].to_str().unwrap().contains("cache"));
    // By TLS the cookie's name is one that only this very host can set.
    let safe = reqwest::Client::builder().no_proxy().danger_accept_invalid_certs(true).build().unwrap();
    let body = json!({ "name": "Juno", "password": w.house.options.keeper.1 });
    let into = safe.post(w.house.https.join("api/session").unwrap()).json(&body).send().await.unwrap();
    let cookie = into.headers()["set-cookie"].to_str().unwrap().to_owned();
    assert!(
        cookie.starts_with("__Host-ypogeion_session=") && cookie.contains("Secure") && cookie.contains("HttpOnly"),
        "{cookie}"
    );
    let value = cookie.split(['=', ';']).nth(1).unwrap();
    for (name, expected) in [("__Host-ypogeion_session", 200), ("ypogeion_session", 401)] {
        let who = safe
            .get(w.house.https.join("api/session").unwrap())
            .header("cookie", format!("{name}={value}"))
            .send()
            .await
            .unwrap();
        assert_eq!(who.status(), expected, "{name}");
    }
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

/// A password that a scanner was given opens what the scanner sent, by whichever way it is brought, and a phone reads its own log.
#[tokio::test(flavor = "multi_thread")]
async fn a_credential_opens_what_its_kind_needs() {
    let w = world().await;
    let phone = w.raw_device("phone").await;
    let path = phone.create(4, "").await;
    let original = phone.append(&path, 0, b"kite").await.header("ypogeion-original").to_owned();
    let begun = phone.send("POST", "api/device/runs", &[], b"").await;
    let run = serde_json::from_str::<Value>(&begun.body).unwrap()["run"].as_str().unwrap().to_owned();

    let given = w.keeper.ask(Method::POST, "api/devices", Some(json!({ "name": "Scanner" }))).await.unwrap();
    let scanner = Raw { token: given["password"].as_str().unwrap().to_owned(), ..phone.clone() };
    for path in ["api/originals", "api/months", "api/device", "api/device/items", "api/runs"]
        .into_iter()
        .map(str::to_owned)
        .chain(["", "/bytes", "/preview/small"].map(|end| format!("api/originals/{original}{end}")))
    {
        assert_eq!(scanner.send("GET", &path, &[], b"").await.status, 403, "{path}");
    }
    let scanned = scanner.create(4, "").await;
    assert_eq!(scanner.append(&scanned, 0, b"scan").await.status, 204);

    let other = w.raw_device("tablet").await;
    assert_eq!(phone.send("GET", &format!("api/runs/{run}/entries"), &[], b"").await.status, 200);
    assert_eq!(other.send("GET", &format!("api/runs?device={}", devices_id(&w, "phone").await), &[], b"").await.body, "[]");
    for path in [format!("api/runs/{run}/entries.csv"), format!("api/runs/{run}/entries")] {
        assert_eq!(other.send("GET", &path, &[], b"").await.status, 404, "{path}");
    }
}

/// Whoever can write into the library (it may be shared on the home's network) gets nothing else of the server by that.
#[tokio::test(flavor = "multi_thread")]
async fn a_link_in_the_library_leads_nowhere() {
    let w = world().await;
    let phone = w.raw_device("phone").await;
    let path = phone.create(4, "").await;
    let original = phone.append(&path, 0, b"kite").await.header("ypogeion-original").to_owned();
    let filed = w.house.library().join(&common::library_files(&w.house)[0]);
    let bytes = format!("api/originals/{original}/bytes");
    assert_eq!(w.keeper.bytes(&bytes).await.unwrap(), b"kite");
    let secret = w.folder.path().join("data/household.key");
    assert!(secret.exists());
    std::fs::rename(&filed, filed.with_extension("away")).unwrap();
    std::os::unix::fs::symlink(&secret, &filed).unwrap();
    let (status, said) = w.keeper.try_ask(Method::GET, &bytes, None).await.unwrap();
    assert!(status >= 400 && !said.to_string().contains("AGE-SECRET"), "{status} {said}");
    // Nor by a folder on the way.
    std::fs::remove_file(&filed).unwrap();
    let folder = filed.parent().unwrap();
    let elsewhere = w.folder.path().join("elsewhere");
    std::fs::rename(folder, &elsewhere).unwrap();
    std::fs::copy(&secret, elsewhere.join(filed.file_name().unwrap())).unwrap();
    std::os::unix::fs::symlink(&elsewhere, folder).unwrap();
    let (status, said) = w.keeper.try_ask(Method::GET, &bytes, None).await.unwrap();
    assert!(status >= 400 && !said.to_string().contains("AGE-SECRET"), "{status} {said}");
}

/// What the service makes is its own, and the library is open to whom the settings say; and started as root, it is somebody else.
#[tokio::test(flavor = "multi_thread")]
async fn files_have_the_rights_that_were_chosen() {
    use std::os::unix::fs::{MetadataExt, PermissionsExt};
    let mode = |path: &std::path::Path| std::fs::symlink_metadata(path).unwrap().permissions().mode() & 0o777;
    for (said, file, folder) in [("owner", 0o600, 0o700), ("group", 0o640, 0o750), ("everybody", 0o644, 0o755)] {
        let root = rustix::process::geteuid().is_root();
        let run_as = if root { "run_as = \"nobody\"\n" } else { "" };
        let w = common::world_with(&format!("library_open_to = \"{said}\"\n{run_as}")).await;
        let phone = w.raw_device("phone").await;
        let path = phone.create(4, "").await;
        assert_eq!(phone.append(&path, 0, b"kite").await.status, 204);
        let filed = w.house.library().join(&common::library_files(&w.house)[0]);
        assert_eq!((mode(&filed), mode(filed.parent().unwrap())), (file, folder), "{said}");
        let data = w.folder.path().join("data");
        for (private, most) in
            [("", if root { 0o711 } else { 0o700 }), ("spool", 0o700), ("household.key", 0o600), ("server.key", 0o600)]
        {
            assert_eq!(mode(&data.join(private)) & !most, 0, "{private}");
        }
        assert_eq!(mode(&w.house.library().join(".ypogeion")), 0o700);
        let pid = w.house.pid().unwrap();
        let status = std::fs::read_to_string(format!("/proc/{pid}/status")).unwrap();
        let line = |name: &str| status.lines().find(|l| l.starts_with(name)).unwrap().to_owned();
        assert!(!line("Uid:").split_whitespace().any(|id| id == "0"), "{}", line("Uid:"));
        if root {
            assert!(line("Groups:").split_whitespace().count() <= 1, "{}", line("Groups:"));
            assert_ne!(std::fs::metadata(&filed).unwrap().uid(), 0);
        }
        let limits = std::fs::read_to_string(format!("/proc/{pid}/limits")).unwrap();
        let core = limits.lines().find(|l| l.starts_with("Max core file size")).unwrap();
        assert_eq!(core.split_whitespace().nth(4), Some("0"), "{core}");
    }
}

async fn devices_id(w: &common::World, name: &str) -> String {
    let devices = w.keeper.ask(Method::GET, "api/devices", None).await.unwrap();
    let device = devices.as_array().unwrap().iter().find(|d| d["name"].as_str().unwrap().contains(name)).unwrap();
    device["id"].as_str().unwrap().to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_credential_that_nobody_used_for_a_year_ends_and_says_so_before() {
    let w = world().await;
    let phone = w.raw_device("phone").await;
    let path = phone.create(4, "").await;
    assert_eq!(phone.append(&path, 0, b"kite").await.status, 204);
    let listed = async || w.keeper.ask(Method::GET, "api/devices", None).await.unwrap()[0]["ends_at"].clone();
    assert_eq!(listed().await, Value::Null);
    w.sql("UPDATE device SET seen_at = now() - interval '350 days'");
    assert!(listed().await.is_string());
    let said = w.keeper.ask(Method::GET, "api/overview", None).await.unwrap()["sentence"].to_string();
    assert!(said.contains("has not been used for a long time: in"), "{said}");
    // It is used, and goes on.
    assert_eq!(phone.send("GET", "api/device", &[], b"").await.status, 200);
    assert_eq!(listed().await, Value::Null);
    w.sql("UPDATE device SET seen_at = now() - interval '366 days'");
    for _ in 0..2 {
        let refused = phone.send("GET", "api/device", &[], b"").await;
        assert_eq!((refused.status, refused.problem().as_str()), (401, "device-ended"), "asking does not wake it");
    }
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
