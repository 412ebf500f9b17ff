//! Trying a store out before it is trusted: step by step what works, and what each failure means for a keeper.
//!
//! Nothing is left behind where the store lets things be removed; what a trial writes lies below `trial/`, apart from everything
//! else. A store is not asked what it can do; it is tried.

use std::time::Duration;

use bytes::Bytes;
use chrono::{DateTime, TimeDelta, Utc};
use tokio::time::Instant;
use ypogeion_core::{Digest, checksum::Checksum, kit::StoreAddress, words};
use ypogeion_pin::{is_about_trust, looking, printed};

use crate::{
    Fault, Store,
    shape::speaker,
    store::{Conditional, FORMAT_NAME, Stored, Transit, Trouble, innermost, spoken_plainly},
};

/// Bytes that are sent and fetched to see how fast that goes.
const SAMPLE: usize = 4 << 20;
const LITTLE: usize = 16 << 10;
/// Signatures of a clock that is further off are refused by most stores.
const CLOCK: TimeDelta = TimeDelta::minutes(5);

/// A step of a trial, in the order in which they are tried.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Step {
    /// Something answers at the address.
    Reach,
    /// Its clock and ours agree.
    Clock,
    /// It takes the keys, and has the bucket.
    SignIn,
    /// It stores something, and checks its checksum.
    Write,
    /// It gives that back, byte for byte.
    ReadBack,
    /// It notices bytes that changed on their way.
    Notice,
    /// It lists it.
    List,
    /// It refuses to replace something, if asked to.
    Conditional,
    /// Whether a retention lock keeps what is stored.
    Lock,
    /// It removes something.
    Delete,
    /// How fast it goes.
    Speed,
}

impl Step {
    /// The word on the wire.
    pub fn word(self) -> &'static str {
        match self {
            Self::Reach => "reach",
            Self::Clock => "clock",
            Self::SignIn => "sign-in",
            Self::Write => "write",
            Self::ReadBack => "read-back",
            Self::Notice => "notice",
            Self::List => "list",
            Self::Conditional => "conditional",
            Self::Lock => "lock",
            Self::Delete => "delete",
            Self::Speed => "speed",
        }
    }
}

/// How a step went.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Went {
    /// As it should.
    Well,
    /// Not needed, and good to know.
    Noted,
    /// The store cannot be used like this.
    Badly,
}

impl Went {
    /// The word on the wire.
    pub fn word(self) -> &'static str {
        match self {
            Self::Well => "well",
            Self::Noted => "noted",
            Self::Badly => "badly",
        }
    }
}

/// A step that was tried.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Tried {
    /// Which one.
    pub step: Step,
    /// How it went.
    pub went: Went,
    /// What that means, in a sentence.
    pub said: String,
    /// The certificate that was shown, where that is not trusted.
    pub certificate: Option<Digest>,
    /// The checksum by which it noticed bytes that changed on their way.
    pub verifies: Option<Checksum>,
}

/// Whether a store that went through these steps can be used.
pub fn usable(tried: &[Tried]) -> bool {
    tried.iter().all(|t| t.went != Went::Badly) && tried.iter().any(|t| t.step == Step::List)
}

/// The checksum by which a store that went through these steps notices bytes that changed on their way. One that has none is read again
/// after each copy.
pub fn verifies(tried: &[Tried]) -> Option<Checksum> {
    tried.iter().find_map(|t| t.verifies)
}

/// Tries only that.
pub async fn verified_checksum(address: &StoreAddress, salt: u128) -> Option<Checksum> {
    let mut trial = Trial { tried: Vec::new() };
    if address.is_bucket() {
        trial.notice(address, salt).await;
    }
    verifies(&trial.tried)
}

/// Tries a store out. Ends with the first step that went badly: what follows needs it. `salt` is for a name that nobody else
/// has.
pub async fn try_out(address: &StoreAddress, salt: u128, now: DateTime<Utc>) -> Vec<Tried> {
    let mut trial = Trial { tried: Vec::new() };
    let _ = trial.run(address, salt, now).await;
    trial.tried
}

struct Trial {
    tried: Vec<Tried>,
}

/// A step went badly; there is nothing more to try.
struct Over;

impl Trial {
    fn well(&mut self, step: Step, said: impl Into<String>) {
        self.tried.push(Tried { step, went: Went::Well, said: said.into(), certificate: None, verifies: None });
    }

    fn noted(&mut self, step: Step, said: impl Into<String>) {
        self.tried.push(Tried { step, went: Went::Noted, said: said.into(), certificate: None, verifies: None });
    }

    fn badly<T>(&mut self, step: Step, said: impl Into<String>) -> Result<T, Over> {
        self.tried.push(Tried { step, went: Went::Badly, said: said.into(), certificate: None, verifies: None });
        Err(Over)
    }

    fn need<T>(&mut self, step: Step, got: Result<T, Fault>) -> Result<T, Over> {
        match got {
            Ok(got) => Ok(got),
            Err(fault) => self.badly(step, sentence(&fault.to_string())),
        }
    }

    async fn run(&mut self, address: &StoreAddress, salt: u128, now: DateTime<Utc>) -> Result<(), Over> {
        let store = match address.disk() {
            None => {
                self.reach(address, now).await?;
                self.need(Step::SignIn, Store::untried(address))?
            }
            Some(folder) => {
                let store = self.need(Step::Reach, Store::untried(address))?;
                self.well(Step::Reach, format!("The folder {folder} is there."));
                store
            }
        };
        self.sign_in(address, &store).await?;
        let (name, up, down) = self.there_and_back(&store, salt).await?;
        if address.share().is_some() {
            self.noted(Step::Notice, "A share cannot check what it receives. So each copy is read again before it counts.");
        } else if address.is_bucket() {
            self.notice(address, salt).await;
        }
        let listed = store.list("trial").await;
        if self.need(Step::List, listed)?.contains(&name) {
            self.well(Step::List, "The store lists them.");
        } else {
            self.noted(
                Step::List,
                "The store does not list them yet: its list is late. So each copy is also looked for by its name.",
            );
        }
        self.conditional(&store, &name).await;
        if address.is_bucket() {
            self.lock(&store, &name).await?;
        }
        self.delete(&store, &name).await;
        self.well(Step::Speed, format!("{}/s there, {}/s back.", rate(up), rate(down)));
        Ok(())
    }

    /// Whether it lets us in, and whether copies are there.
    async fn sign_in(&mut self, address: &StoreAddress, store: &Store) -> Result<(), Over> {
        let copies = match store.get(FORMAT_NAME).await {
            Ok(_) => true,
            Err(Fault::Missing(_)) => false,
            Err(fault) => return self.badly(Step::SignIn, sentence(&fault.to_string())),
        };
        let said = match (copies, address.is_bucket(), address.share().is_some()) {
            (true, true, _) => format!("The keys are right, and there are copies in the bucket {} already.", address.bucket),
            (false, true, _) => format!("The keys are right for the bucket {}.", address.bucket),
            (true, _, true) => "Name and password are right, and there are copies on the share already.".to_owned(),
            (false, _, true) => "Name and password are right.".to_owned(),
            (true, ..) => "There are copies there already.".to_owned(),
            (false, ..) => "No copies are there yet.".to_owned(),
        };
        self.well(Step::SignIn, said);
        Ok(())
    }

    /// Stores something and has it back: under which name, and how long each way took.
    async fn there_and_back(&mut self, store: &Store, salt: u128) -> Result<(String, Duration, Duration), Over> {
        let (name, bytes) = (format!("trial/{salt:032x}"), Bytes::from(noise(salt, SAMPLE)));
        // A little first: a store that refuses before it has read everything may not be heard over what is still being sent.
        let wrote = store.put(&name, bytes.slice(..LITTLE)).await;
        let _read_below = self.need(Step::Write, wrote)?;
        let began = Instant::now();
        let wrote = store.put(&name, bytes.clone()).await;
        let stored = self.need(Step::Write, wrote)?;
        let up = began.elapsed();
        let summed = if stored.checksum.is_some() { " with their checksum" } else { "" };
        self.well(Step::Write, format!("{} were stored{summed}.", words::size(SAMPLE as u64)));
        let began = Instant::now();
        let came = store.get(&name).await;
        let (came, down) = (self.need(Step::ReadBack, came)?, began.elapsed());
        if came != bytes {
            return self.badly(Step::ReadBack, "What came back is not what was sent. Pictures would not be safe there.");
        }
        self.well(Step::ReadBack, "They came back, byte for byte.");
        Ok((name, up, down))
    }

    async fn reach(&mut self, address: &StoreAddress, now: DateTime<Utc>) -> Result<(), Over> {
        let plain = self.need(Step::Reach, spoken_plainly(address))?;
        let url = address.share().unwrap_or_else(|| address.endpoint.clone());
        let speaker = match speaker(plain, address.certificate) {
            Ok(speaker) => speaker.timeout(Duration::from_secs(30)),
            Err(e) => return self.badly(Step::Reach, format!("https cannot be spoken here: {e}.")),
        };
        let began = Instant::now();
        let answer = match speaker.build() {
            Ok(client) => client.get(&url).send().await,
            Err(e) => Err(e),
        };
        let answer = match answer {
            Ok(answer) => answer,
            Err(e) if e.is_timeout() => {
                return self.badly(
                    Step::Reach,
                    "Nothing answers at this address within half a minute. Is the address right, and is the store running?",
                );
            }
            Err(e) if is_about_trust(&e) => {
                let said = distrusted(address, &innermost(&e));
                let certificate = shown_at(&url).await;
                self.tried.push(Tried { step: Step::Reach, went: Went::Badly, said, certificate, verifies: None });
                return Err(Over);
            }
            Err(e) => return self.badly(Step::Reach, format!("Nothing answers at this address: {}.", innermost(&e))),
        };
        let within = format!("It answers within {} ms", began.elapsed().as_millis().max(1));
        if plain {
            let seen = if address.share().is_some() { "its password" } else { "how much is sent, and when" };
            let copies = if address.sealed { "" } else { ", and the pictures" };
            self.noted(
                Step::Reach,
                format!(
                    "{within}, without encryption: whoever listens in your network can see {seen}{copies}. An https address is better."
                ),
            );
        } else {
            self.well(Step::Reach, format!("{within}."));
        }
        let date = answer.headers().get("date").and_then(|v| v.to_str().ok()).and_then(|v| DateTime::parse_from_rfc2822(v).ok());
        let Some(date) = date else {
            self.noted(Step::Clock, "The store does not tell its time.");
            return Ok(());
        };
        let off = date.with_timezone(&Utc) - now;
        if off.abs() > CLOCK {
            let way = if off > TimeDelta::zero() { "ahead of" } else { "behind" };
            let said = format!(
                "Its clock is {} {way} this server’s. Set the one that is wrong: stores refuse signatures from another time.",
                words::span(off.abs())
            );
            return self.badly(Step::Clock, said);
        }
        self.well(Step::Clock, "Its clock and this server’s agree.");
        Ok(())
    }

    /// Sends something of which one bit changes after it was signed and summed, with one checksum after the other, the quickest first.
    async fn notice(&mut self, address: &StoreAddress, salt: u128) {
        let mut takes = None;
        for &checksum in Checksum::ALL {
            let name = format!("trial/{salt:032x}-{checksum}");
            match changed_bytes(address, checksum, &name, salt).await {
                Ok(Changed::Refused) => {
                    let said =
                        format!("It refuses bytes that were damaged on the way, by their checksum ({}).", spoken(checksum));
                    let (step, went, verifies) = (Step::Notice, Went::Well, Some(checksum));
                    self.tried.push(Tried { step, went, said, certificate: None, verifies });
                    return;
                }
                Ok(changed) => takes = Some(changed),
                Err(fault) => {
                    return self.noted(
                        Step::Notice,
                        sentence(&format!(
                            "whether it notices damaged bytes could not be found out ({}); so each copy is read again before it counts",
                            fault.in_its_words()
                        )),
                    );
                }
            }
        }
        self.noted(
            Step::Notice,
            match takes {
                Some(Changed::Taken) => {
                    "Bytes that changed on their way were taken as they came. So each copy is read again before it counts, \
                     which costs as much as fetching it."
                }
                _ => "It knows no checksums. So each copy is read again before it counts, which costs as much as fetching it.",
            },
        );
    }

    /// Looks at what was stored: a lock is told with it.
    async fn lock(&mut self, store: &Store, name: &str) -> Result<(), Over> {
        let seen = store.look(name).await;
        match self.need(Step::Lock, seen)?.locked_until {
            Some(until) => {
                let until = DateTime::parse_from_rfc3339(&until).map_or(until, |t| t.format("%-d %B %Y").to_string());
                self.noted(
                    Step::Lock,
                    format!(
                        "A retention lock keeps whatever is stored, until {until} if it was stored now. Nobody can remove it before, \
                         which is a good thing: what is deleted here is asked for again each day until the store lets go of it."
                    ),
                );
            }
            None => self.noted(Step::Lock, "There is no retention lock: what is stored can be removed at any time."),
        }
        Ok(())
    }

    async fn conditional(&mut self, store: &Store, name: &str) {
        match store.put_new(name, Bytes::from_static(b"this must not replace anything")).await {
            Ok(Conditional::Refused) => self.well(Step::Conditional, "It refuses to overwrite, when asked to."),
            Ok(Conditional::Replaced) => self.noted(
                Step::Conditional,
                "It was asked not to overwrite, and did. That is no problem: a name is never used twice here.",
            ),
            Ok(Conditional::Unknown) => self.noted(
                Step::Conditional,
                "It cannot be asked not to overwrite. That is no problem: a name is never used twice here.",
            ),
            Err(fault) => self.noted(
                Step::Conditional,
                sentence(&format!("asked not to replace something, it said: {}", fault.in_its_words())),
            ),
        }
    }

    async fn delete(&mut self, store: &Store, name: &str) {
        match store.remove(name).await {
            Ok(true) => self.well(Step::Delete, "It removes what it is asked to."),
            Ok(false) => self.noted(
                Step::Delete,
                "It said that it removed something, and still has it. It may have a retention lock, or be late.",
            ),
            Err(fault) => self.noted(
                Step::Delete,
                sentence(&format!(
                    "it does not remove things with these keys ({}). Copies are safe from this server, and {name} stays there",
                    fault.in_its_words()
                )),
            ),
        }
    }
}

/// What a store does with bytes of which one bit is not as their checksum says.
enum Changed {
    /// It refuses them, and takes them as they are.
    Refused,
    /// It takes them.
    Taken,
    /// It takes nothing that comes with this checksum.
    Unknown,
}

async fn changed_bytes(address: &StoreAddress, checksum: Checksum, name: &str, salt: u128) -> Result<Changed, Fault> {
    let bytes = Bytes::from(noise(salt, LITTLE));
    let noisy = Store::trying(address, checksum, Transit::Damaged)?;
    let quiet = Store::trying(address, checksum, Transit::Intact)?;
    let changed = async {
        // Twice in turn: a store that stumbles once has not shown that it had a look.
        for _ in 0..2 {
            match looked(noisy.put(name, bytes.clone()).await)? {
                true => return Ok(Changed::Taken),
                // That it was because of the bit shows if the same is taken as soon as nothing changes.
                false if looked(quiet.put(name, bytes.clone()).await)? => {}
                false => return Ok(Changed::Unknown),
            }
        }
        Ok(Changed::Refused)
    }
    .await;
    // Some keep what they refuse. It would be in the way of nobody, and means nothing.
    let _ = quiet.remove(name).await;
    changed
}

/// Whether a store has taken something, if its answer says so.
fn looked(answer: Result<Stored, Fault>) -> Result<bool, Fault> {
    match answer {
        Ok(_) => Ok(true),
        Err(Fault::Refused(_) | Fault::Passing(Trouble::Otherwise(_) | Trouble::BrokenThere(_))) => Ok(false),
        Err(fault) => Err(fault),
    }
}

/// What a checksum is called where people read of it.
fn spoken(checksum: Checksum) -> &'static str {
    match checksum {
        Checksum::Crc64Nvme => "CRC-64/NVME",
        Checksum::Sha256 => "SHA-256",
    }
}

/// Bytes that no store could squeeze, and that no other trial has.
fn noise(salt: u128, length: usize) -> Vec<u8> {
    let mut state = salt as u64 | 1;
    (0..length.div_ceil(8))
        .flat_map(|_| {
            // Xorshift (Marsaglia): this is no secret, it only must not repeat.
            state ^= state << 13;
            state ^= state >> 7;
            state ^= state << 17;
            state.to_le_bytes()
        })
        .take(length)
        .collect()
}

fn rate(took: Duration) -> String {
    words::size((SAMPLE as f64 / took.as_secs_f64().max(0.001)) as u64)
}

/// Why a certificate is not trusted, and what to do.
fn distrusted(address: &StoreAddress, why: &str) -> String {
    match &address.certificate {
        Some(trusted) => format!(
            "It shows another certificate than the one that you trusted ({}…). If it was not given a new one, somebody may be listening in between.",
            &printed(trusted)[..23]
        ),
        None if why.contains("UnknownIssuer") => "It shows a certificate that no authority has signed.".to_owned(),
        None if why.contains("not valid for name") => "It shows a certificate for another address than this one.".to_owned(),
        None if why.contains("expired") => "It shows a certificate that has expired.".to_owned(),
        None => format!("It shows a certificate that is not trusted ({why})."),
    }
}

/// The fingerprint of the certificate that a server shows. The connection ends with that: nothing is sent.
async fn shown_at(url: &str) -> Option<Digest> {
    // Where it cannot be found out, a keeper can still type it.
    let (tls, shown) = looking().ok()?;
    let client = reqwest::Client::builder().timeout(Duration::from_secs(30)).tls_backend_preconfigured(tls).build().ok()?;
    let _ = client.get(url).send().await;
    shown.get()
}

/// A reason as a sentence.
fn sentence(reason: &str) -> String {
    let mut letters = reason.trim_end_matches('.').chars();
    let first = letters.next().map(|c| c.to_uppercase().to_string()).unwrap_or_default();
    format!("{first}{}.", letters.as_str())
}
