//! The keeper's look at the stores from a terminal: how they do, a trial, a pause, a check, what they cost.

use clap::{Args, Subcommand};
use serde_json::json;
use ypogeion_agent::client::Session;
use ypogeion_core::{state::StoreState, words};
use ypogeion_wire::{
    checks::{Check, Checks},
    offsite::{self as wire, Store, Trial},
};

use crate::{
    commands::{self, Context, DONE, Failed, PARTLY, Person, Result, print, print_json, usage},
    show::{Table, ago},
};

#[derive(Args)]
pub struct Stores {
    #[command(flatten)]
    person: Person,
    #[command(subcommand)]
    what: Option<What>,
}

#[derive(Subcommand)]
enum What {
    /// Every store, with what it holds and what is still to go [the default].
    List,
    /// Try a store out, step by step, with the keys that it has.
    Test {
        /// Its name.
        store: String,
    },
    /// Send nothing there until it is resumed.
    Pause {
        /// Its name.
        store: String,
    },
    /// Resume after a pause, or after a stop whose cause is gone.
    Resume {
        /// Its name.
        store: String,
    },
    /// What a store asks for, and what that comes to; with options, its new prices.
    Prices(Box<Prices>),
    /// How copies were checked last, and what that says.
    Checks,
    /// Check copies now, all of them.
    Check {
        /// The store's name, or "home".
        place: String,
        /// reading (every byte), listing (the store's list), or drill (a random sample restored).
        #[arg(value_parser = ["reading", "listing", "drill"])]
        kind: String,
    },
}

/// Those that are not named stay as they are.
#[derive(Args)]
struct Prices {
    /// Its name.
    store: String,
    /// The currency's sign or word.
    #[arg(long, value_name = "WORD")]
    currency: Option<String>,
    /// For a gigabyte kept for a month.
    #[arg(long, value_name = "PRICE")]
    storage: Option<f64>,
    /// Gigabytes kept for nothing.
    #[arg(long, value_name = "GB")]
    free_storage: Option<f64>,
    /// For a thousand requests that write or list.
    #[arg(long, value_name = "PRICE")]
    writing: Option<f64>,
    /// For a thousand requests that read.
    #[arg(long, value_name = "PRICE")]
    reading: Option<f64>,
    /// For a gigabyte that is fetched.
    #[arg(long, value_name = "PRICE")]
    egress: Option<f64>,
    /// Gigabytes fetched in a month for nothing.
    #[arg(long, value_name = "GB")]
    free_egress: Option<f64>,
    /// Days that an object is paid for, even if it is removed before.
    #[arg(long, value_name = "DAYS")]
    minimum_days: Option<u16>,
    /// For each month, whatever is kept.
    #[arg(long, value_name = "PRICE")]
    fee: Option<f64>,
}

impl Prices {
    /// The prices with what was named, or nothing if nothing was.
    fn over(&self, old: &wire::Prices) -> Option<wire::Prices> {
        let new = wire::Prices {
            currency: self.currency.clone().unwrap_or_else(|| old.currency.clone()),
            storage: self.storage.unwrap_or(old.storage),
            free_storage: self.free_storage.unwrap_or(old.free_storage),
            writing: self.writing.unwrap_or(old.writing),
            reading: self.reading.unwrap_or(old.reading),
            egress: self.egress.unwrap_or(old.egress),
            free_egress: self.free_egress.unwrap_or(old.free_egress),
            minimum_days: self.minimum_days.unwrap_or(old.minimum_days),
            fee: self.fee.unwrap_or(old.fee),
        };
        (new != *old).then_some(new)
    }
}

/// Looks at the stores, or does something with one.
pub async fn stores(context: &Context, stores: Stores) -> Result {
    let session = stores.person.sign_in(context).await?;
    let done = act(context, &session, stores.what.unwrap_or(What::List)).await;
    // The session was for this one thing.
    session.end().await;
    done
}

async fn act(context: &Context, session: &Session, what: What) -> Result {
    match what {
        What::List => list(context, &session.get::<Vec<Store>>("api/stores").await?),
        What::Test { store } => {
            let store = named(session, &store).await?;
            let trial: Trial = session.post(&format!("api/stores/{}/trial", store.id), &json!({})).await?;
            told(context, &store, &trial)
        }
        What::Pause { store } => {
            let store = named(session, &store).await?;
            let now: Store = session.patch(&format!("api/stores/{}", store.id), &json!({ "paused": true })).await?;
            one(context, &now, "Nothing is sent there until it is resumed.")
        }
        What::Resume { store } => {
            let store = named(session, &store).await?;
            let path = format!("api/stores/{}", store.id);
            session.patch::<Store>(&path, &json!({ "paused": false })).await?;
            let now: Store = session.post(&format!("{path}/resume"), &json!({})).await?;
            one(context, &now, "It goes on.")
        }
        What::Prices(prices) => {
            let store = named(session, &prices.store).await?;
            let store = match prices.over(&store.prices) {
                None => store,
                Some(new) => session.patch(&format!("api/stores/{}", store.id), &json!({ "prices": new })).await?,
            };
            costs(context, &store)
        }
        What::Checks => checks(context, &session.get::<Checks>("api/checks").await?),
        What::Check { place, kind } => {
            let store = match place.as_str() {
                "home" => None,
                name => Some(named(session, name).await?.id),
            };
            session.tell("api/checks", &json!({ "store": store, "kind": kind })).await?;
            if !context.json {
                print("It is running. \"ypogeion stores checks\" shows how far it is.\n");
            }
            Ok(DONE)
        }
    }
}

async fn named(session: &Session, name: &str) -> std::result::Result<Store, Failed> {
    let all: Vec<Store> = session.get("api/stores").await?;
    let names: Vec<String> = all.iter().map(|s| s.name.clone()).collect();
    all.into_iter().find(|s| s.name.eq_ignore_ascii_case(name)).ok_or_else(|| {
        let there = if names.is_empty() {
            "there is none yet".to_owned()
        } else {
            format!("there are {}", words::list(&names.iter().map(String::as_str).collect::<Vec<_>>()))
        };
        usage(format!("there is no store {name}; {there}"))
    })
}

fn one(context: &Context, store: &Store, said: &str) -> Result {
    if context.json {
        print_json(store)
    } else {
        print(&format!("{}: {said}\n", store.name))
    }
    Ok(DONE)
}

/// 1 if a store stopped or does not answer, so that a script notices.
fn list(context: &Context, stores: &[Store]) -> Result {
    let bad = stores.iter().any(|s| matches!(s.state, StoreState::Stopped | StoreState::Failing));
    if context.json {
        print_json(&stores);
    } else if stores.is_empty() {
        print("There is no store yet, so all copies are in one house. Add one in the console, under Offsite.\n");
    } else {
        let mut table = Table::new(
            &["Store", "State", "Copies there", "Bytes", "Checked", "Still to send", "Last copy"],
            &[false, false, true, true, true, true, false],
        );
        for s in stores {
            table.row(vec![
                s.name.clone(),
                state(s.state, s.away),
                words::count(s.held.count),
                words::size(s.held.bytes),
                words::count(s.proven.count),
                words::count(s.to_go.count),
                s.confirmed_at.map_or("never".to_owned(), ago),
            ]);
        }
        print(&table.to_string());
        for s in stores {
            if let Some(reason) = &s.reason {
                print(&format!("{}: {reason}\n", s.name));
            }
            if let Some(c) = &s.cost {
                let [month, year, recovery] = [c.month, c.year, c.recovery].map(|n| money(s, n));
                print(&format!(
                    "{}: about {month} a month, {year} in the coming year, {recovery} to restore everything once.\n",
                    s.name
                ));
            }
        }
    }
    Ok(if bad { PARTLY } else { DONE })
}

fn money(store: &Store, amount: f64) -> String {
    format!("{amount:.2} {}", store.prices.currency)
}

fn costs(context: &Context, store: &Store) -> Result {
    if context.json {
        print_json(&json!({ "prices": store.prices, "cost": store.cost }));
        return Ok(DONE);
    }
    let p = &store.prices;
    let mut asks = Table::new(&[&format!("{} asks for", store.name), ""], &[false, true]);
    let free = |gb: f64| if gb > 0.0 { format!(", {gb} GB free") } else { String::new() };
    // As typed: a price of a fraction of a cent is not rounded away.
    let price = |amount: f64| format!("{amount} {}", p.currency);
    for (what, value) in [
        (format!("a gigabyte kept for a month{}", free(p.free_storage)), price(p.storage)),
        ("a thousand requests that write or list".to_owned(), price(p.writing)),
        ("a thousand requests that read".to_owned(), price(p.reading)),
        (format!("a gigabyte fetched{}", free(p.free_egress)), price(p.egress)),
        ("each month, whatever is kept".to_owned(), price(p.fee)),
        ("paid for at least".to_owned(), words::counted(p.minimum_days.into(), "day")),
    ] {
        asks.row(vec![what, value]);
    }
    print(&asks.to_string());
    let Some(c) = &store.cost else {
        print("Nothing is known of what it asks for yet. Set a price, for example: --storage 0.006 --egress 0.02\n");
        return Ok(DONE);
    };
    let mut comes = Table::new(&["That comes to, about", ""], &[false, true]);
    for (what, amount) in [
        ("a month of keeping what is there", c.keeping),
        ("a month of checking copies", c.checking),
        ("a month of sending what is new", c.sending),
        ("a month in all", c.month),
        ("the coming year, growing as now", c.year),
        ("a month in a year from now", c.month_in_a_year),
        ("still paid for after removal", c.early),
        ("restoring everything once", c.recovery),
    ] {
        comes.row(vec![what.to_owned(), money(store, amount)]);
    }
    print(&format!("\n{comes}"));
    Ok(DONE)
}

fn told(context: &Context, store: &Store, trial: &Trial) -> Result {
    if context.json {
        print_json(trial);
    } else {
        let mut table = Table::new(&["Step", "", "What that means"], &[false, false, false]);
        for step in &trial.steps {
            let went = match step.went.as_str() {
                "well" => "works",
                "noted" => "good to know",
                _ => "DOES NOT WORK",
            };
            table.row(vec![step.step.clone(), went.to_owned(), step.said.clone()]);
        }
        let end = if trial.usable { "can be used" } else { "cannot be used yet" };
        print(&format!("{table}{} {end}.\n", store.name));
    }
    Ok(if trial.usable { DONE } else { commands::REFUSED })
}

fn checks(context: &Context, checks: &Checks) -> Result {
    let bad = checks.checks.iter().any(|c| c.bad_now > 0 || c.last.as_ref().is_some_and(|l| l.failed));
    if context.json {
        print_json(checks);
        return Ok(if bad { PARTLY } else { DONE });
    }
    let mut table = Table::new(&["Where", "Check", "When", "What it says"], &[false, false, false, false]);
    for c in &checks.checks {
        table.row(vec![c.place.clone(), c.kind.clone(), when(c), said(c)]);
    }
    print(&table.to_string());
    Ok(if bad { PARTLY } else { DONE })
}

fn when(c: &Check) -> String {
    match (&c.now, &c.last) {
        (Some(_), _) => "running".to_owned(),
        (None, Some(last)) => last.ended_at.map_or_else(String::new, ago),
        (None, None) => "not yet".to_owned(),
    }
}

fn said(c: &Check) -> String {
    match (&c.now, &c.last, &c.waits_for) {
        (Some(_), _, Some(waits)) => format!("waits: {waits}"),
        (Some(now), _, None) => format!("{} so far, {}", words::count(now.checked), words::size(now.bytes)),
        (None, Some(last), _) => last.said.clone().unwrap_or_default(),
        (None, None, _) => String::new(),
    }
}
/// A store's state, and where it is kept if that is not away from home. A disk that is "away" is one that is not connected, wherever it is.
/// The words of the console.
fn state(state: StoreState, away: bool) -> String {
    let words = match state {
        StoreState::Stopped => "stopped",
        StoreState::Paused => "paused",
        StoreState::Away => "not connected",
        StoreState::Failing => "trying again",
        StoreState::Resting => "waiting for its hours",
        StoreState::Sending => "sending",
        StoreState::Listing => "writing its list of contents",
        StoreState::Idle => "up to date",
    };
    if away { words.to_owned() } else { format!("{words}; kept in this house") }
}
