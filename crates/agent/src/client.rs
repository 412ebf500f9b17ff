//! A typed client of the service's API.

use std::time::Duration;

use reqwest::{Method, RequestBuilder, Response, StatusCode};
use serde::{Serialize, de::DeserializeOwned};
use url::{Url, form_urlencoded::Serializer};
use uuid::Uuid;
use ypogeion_core::{Digest, RunId};
use ypogeion_pin::{causes, shows_another};
use ypogeion_wire::{
    CONSOLE_HEADER, REQUEST_ID_HEADER,
    clearance::{ClearanceRequest, Clearances, Removed},
    device::{DeviceStatus, Items, Offer, OfferAnswers, OfferEntry},
    find::Found,
    inventory::Inventory,
    original::Originals,
    people::{ClaimPairing, Claimed, NewPairing, Pairing, Person, SignIn},
    problem::{Problem, ProblemType},
    run::{BegunRun, Run, RunReport},
};

/// Name and version, as the service shows them.
pub const CLIENT: &str = concat!("ypogeion ", env!("CARGO_PKG_VERSION"));

/// Why a request was not answered as hoped.
#[derive(Debug, thiserror::Error)]
pub enum ClientError {
    /// The service said no, with a problem document.
    #[error("{0}")]
    Refused(Problem),
    /// The service could not be reached, or broke off.
    #[error("could not reach {at}: {said}")]
    Unreachable {
        /// Its address.
        at: String,
        /// What the network said.
        said: String,
    },
    /// Somebody answered, and it is not the paired service.
    #[error("{0} showed another certificate than the one this device was paired with; is it the right server?")]
    AnotherServer(String),
    /// The answer made no sense.
    #[error("the answer of the server was not understood; are both of the same version?")]
    NotUnderstood,
    /// A file of this device could not be read.
    #[error("could not read the file: {0}")]
    File(#[source] std::io::Error),
}

impl ClientError {
    /// The problem's type, if the service named one that is known here.
    pub fn problem(&self) -> Option<ProblemType> {
        match self {
            ClientError::Refused(problem) => problem.known(),
            _ => None,
        }
    }

    /// Whether the same request may succeed later by itself.
    pub fn passes(&self) -> bool {
        match self {
            ClientError::Refused(p) => p.known().map_or(p.status >= 500, ProblemType::passes),
            ClientError::Unreachable { .. } => true,
            ClientError::AnotherServer(_) | ClientError::NotUnderstood | ClientError::File(_) => false,
        }
    }
}

/// The result of a request.
pub type Result<T> = std::result::Result<T, ClientError>;

/// A connection to a service, with or without a device's token.
#[derive(Clone)]
pub struct Client {
    http: reqwest::Client,
    base: Url,
    token: Option<String>,
}

impl Client {
    /// A client for the service at `base`. For https, `certificate` is the SHA-256 of the one certificate that is trusted.
    pub fn new(base: &Url, certificate: Option<Digest>, token: Option<String>) -> Result<Self> {
        let tls = ypogeion_pin::trusting(certificate).map_err(|_| ClientError::NotUnderstood)?;
        let http = reqwest::Client::builder()
            .tls_backend_preconfigured(tls)
            .no_proxy()
            .connect_timeout(Duration::from_secs(10))
            // Between two packets, not for a whole file: that may take hours.
            .read_timeout(Duration::from_secs(120))
            // The service closes what rested for five seconds; whoever asks at that moment is told that the connection broke.
            .pool_idle_timeout(Duration::from_secs(3))
            .user_agent(CLIENT)
            .build()
            .map_err(|e| ClientError::Unreachable { at: base.to_string(), said: e.to_string() })?;
        Ok(Client { http, base: base.clone(), token })
    }

    pub(crate) fn request(&self, method: Method, path: &str) -> Result<RequestBuilder> {
        let url = self.base.join(path).map_err(|_| ClientError::NotUnderstood)?;
        let request = self.http.request(method, url);
        Ok(match &self.token {
            Some(token) => request.bearer_auth(token),
            None => request.header(CONSOLE_HEADER, "client"),
        })
    }

    /// Sends a request and takes an answer that is not a problem.
    pub(crate) async fn answer(&self, request: RequestBuilder) -> Result<Response> {
        let response = request.send().await.map_err(|e| self.network(&e))?;
        if response.status().is_success() {
            return Ok(response);
        }
        let status = response.status();
        let id = response.headers().get(REQUEST_ID_HEADER).and_then(|v| v.to_str().ok()).map(str::to_owned);
        let text = response.text().await.unwrap_or_default();
        Err(ClientError::Refused(match serde_json::from_str::<Problem>(&text) {
            Ok(problem) => Problem { request: id, ..problem },
            Err(_) => not_ours(status, id),
        }))
    }

    fn network(&self, e: &reqwest::Error) -> ClientError {
        if shows_another(e) {
            return ClientError::AnotherServer(self.base.to_string());
        }
        let said = causes(e).last().map(ToString::to_string).unwrap_or_default();
        ClientError::Unreachable { at: self.base.to_string(), said }
    }

    async fn json<T: DeserializeOwned>(&self, request: RequestBuilder) -> Result<T> {
        let response = self.answer(request).await?;
        response.json().await.map_err(|e| if e.is_decode() { ClientError::NotUnderstood } else { self.network(&e) })
    }

    async fn send<T: Serialize + Sync>(&self, method: Method, path: &str, body: &T) -> Result<Response> {
        self.answer(self.request(method, path)?.json(body)).await
    }

    /// Claims a pairing code.
    pub async fn claim(&self, claim: &ClaimPairing) -> Result<Claimed> {
        self.json(self.request(Method::POST, "api/pairings/claim")?.json(claim)).await
    }

    /// Signs in as a person.
    pub async fn sign_in(self, sign_in: &SignIn) -> Result<Session> {
        let response = self.send(Method::POST, "api/session", sign_in).await?;
        let cookie = response.headers().get("set-cookie").and_then(|v| v.to_str().ok()).and_then(|v| v.split(';').next());
        let cookie = cookie.ok_or(ClientError::NotUnderstood)?.to_owned();
        Ok(Session { client: self, cookie })
    }

    /// What the server knows of this device.
    pub async fn status(&self) -> Result<DeviceStatus> {
        self.json(self.request(Method::GET, "api/device")?).await
    }

    /// Offers a batch.
    pub async fn offer(&self, entries: Vec<OfferEntry>) -> Result<OfferAnswers> {
        self.json(self.request(Method::POST, "api/device/offers")?.json(&Offer { entries })).await
    }

    /// A page of what this device has sent.
    pub async fn items(&self, after: Option<&str>) -> Result<Items> {
        // What the service gives out as `after` is made for addresses.
        let after = after.map(|a| format!("&after={a}")).unwrap_or_default();
        self.json(self.request(Method::GET, &format!("api/device/items?limit=1000{after}"))?).await
    }

    /// How a line is understood that says which pictures are meant.
    pub async fn found(&self, line: &str) -> Result<Found> {
        let query = Serializer::new(String::new()).append_pair("line", line).finish();
        self.json(self.request(Method::GET, &format!("api/find?{query}"))?).await
    }

    /// A page of the pictures that a line means, newest first.
    pub async fn find(&self, line: &str, after: Option<&str>, limit: u64) -> Result<Originals> {
        let mut query = Serializer::new(String::new());
        query.append_pair("find", line).append_pair("limit", &limit.to_string());
        query.extend_pairs(after.map(|a| ("after", a)));
        self.json(self.request(Method::GET, &format!("api/originals?{}", query.finish()))?).await
    }

    /// The last runs of this device, newest first.
    pub async fn runs(&self, limit: u32) -> Result<Vec<Run>> {
        self.json(self.request(Method::GET, &format!("api/runs?limit={limit}"))?).await
    }

    /// Asks which copies may be removed.
    pub async fn ask_clearance(&self, request: &ClearanceRequest) -> Result<Clearances> {
        self.json(self.request(Method::POST, "api/device/clearances")?.json(request)).await
    }

    /// Says what was removed.
    pub async fn report_removed(&self, clearance: Uuid, removed: &Removed) -> Result<()> {
        self.send(Method::POST, &format!("api/device/clearances/{clearance}/removed"), removed).await.map(drop)
    }

    /// Says what is in the sources, and what this device waits for.
    pub async fn report_inventory(&self, inventory: &Inventory) -> Result<()> {
        self.send(Method::PUT, "api/device/inventory", inventory).await.map(drop)
    }

    /// Begins a run. `last`: the last one in which something was acknowledged.
    pub async fn begin_run(&self, last: Option<RunId>) -> Result<BegunRun> {
        let query = last.map(|last| format!("?last={last}")).unwrap_or_default();
        self.json(self.request(Method::POST, &format!("api/device/runs{query}"))?).await
    }

    /// Reports on a run.
    pub async fn report_run(&self, run: RunId, report: &RunReport) -> Result<()> {
        self.send(Method::PATCH, &format!("api/device/runs/{run}"), report).await.map(drop)
    }
}

/// Somebody who has signed in, for a command.
pub struct Session {
    client: Client,
    cookie: String,
}

impl Session {
    fn request(&self, method: Method, path: &str) -> Result<RequestBuilder> {
        Ok(self.client.request(method, path)?.header("cookie", &self.cookie))
    }

    /// Asks for something.
    pub async fn get<T: DeserializeOwned>(&self, path: &str) -> Result<T> {
        self.client.json(self.request(Method::GET, path)?).await
    }

    /// Has something made or done, and takes the answer.
    pub async fn post<T: DeserializeOwned>(&self, path: &str, body: &(impl Serialize + Sync)) -> Result<T> {
        self.client.json(self.request(Method::POST, path)?.json(body)).await
    }

    /// Changes something, and takes the answer.
    pub async fn patch<T: DeserializeOwned>(&self, path: &str, body: &(impl Serialize + Sync)) -> Result<T> {
        self.client.json(self.request(Method::PATCH, path)?.json(body)).await
    }

    /// Takes something away, and takes the answer.
    pub async fn delete<T: DeserializeOwned>(&self, path: &str) -> Result<T> {
        self.client.json(self.request(Method::DELETE, path)?).await
    }

    /// Takes something away that leaves no answer.
    pub async fn remove(&self, path: &str) -> Result<()> {
        self.client.answer(self.request(Method::DELETE, path)?).await.map(drop)
    }

    /// Has something done that has no answer.
    pub async fn tell(&self, path: &str, body: &(impl Serialize + Sync)) -> Result<()> {
        self.client.answer(self.request(Method::POST, path)?.json(body)).await.map(drop)
    }

    /// Makes a pairing code, for oneself or (as keeper) for somebody by name.
    pub async fn make_pairing(&self, for_whom: Option<&str>) -> Result<Pairing> {
        let person = match for_whom {
            None => None,
            Some(name) => {
                let people: Vec<Person> = self.get("api/people").await?;
                let found = people.iter().find(|p| p.name.eq_ignore_ascii_case(name)).map(|p| p.id);
                Some(found.ok_or_else(|| ClientError::Refused(no_such_person(name)))?)
            }
        };
        self.post("api/pairings", &NewPairing { person }).await
    }

    /// Signs out. A session that could not be ended ends by itself.
    pub async fn end(self) {
        if let Ok(request) = self.request(Method::DELETE, "api/session") {
            let _ = self.client.answer(request).await;
        }
    }
}

fn not_ours(status: StatusCode, request: Option<String>) -> Problem {
    let detail = format!("The server answered {status} and did not say why; is this the address of a Ypogeion server?");
    Problem { kind: "about:blank".into(), status: status.as_u16(), title: "Not understood".into(), detail, request }
}

fn no_such_person(name: &str) -> Problem {
    Problem {
        kind: ProblemType::NotFound.uri(),
        status: 404,
        title: "No such member".into(),
        detail: format!("There is no {name} in this household; add the person first."),
        request: None,
    }
}
