//! Opening what a recovery kit names, on the day when there is nothing else.

use ypogeion_core::{
    Digest,
    kit::{KitEnd, RecoveryKit, StoreAddress},
};
use ypogeion_offsite::{Fault, Identity, Keys, LedgerRead, Replica, Store, layout::ReplicaError};

use crate::error::chain;

/// Why nothing, or not all, came of it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Why {
    /// What was typed is wrong.
    Usage,
    /// No store could be reached.
    Unreachable,
    /// A store or the kit was refused, or refused it.
    Refused,
    /// This machine could not do its part; what was done stays.
    Partly,
}

/// The same, with a sentence for whoever waits.
#[derive(Clone, Debug)]
pub struct Stop {
    /// Why.
    pub why: Why,
    /// The sentence.
    pub sentence: String,
}

impl Stop {
    /// Puts it together.
    pub fn new(why: Why, sentence: impl Into<String>) -> Self {
        Stop { why, sentence: sentence.into() }
    }
}

/// Hears what is done, a line each.
pub type Tell = dyn Fn(String) + Send + Sync;

/// What has changed about the stores since their kit was printed.
#[derive(Clone, Debug, Default)]
pub struct Otherwise {
    /// The store's address, if it is not the one in the kit any more.
    pub endpoint: Option<String>,
    /// The SHA-256 of the store's certificate, if it shows another one than the kit names.
    pub certificate: Option<Digest>,
    /// The copies are readable, though the kit does not say so: it was printed before kits said that.
    pub readable: bool,
}

impl Otherwise {
    /// Has an address say it.
    pub fn put_into(&self, address: &mut StoreAddress) {
        if let Some(endpoint) = &self.endpoint {
            endpoint.clone_into(&mut address.endpoint);
        }
        address.certificate = self.certificate.or(address.certificate);
    }
}

/// What a kit without a ledger key cannot do.
pub const OLD_KIT: &str =
    "This kit is older than the proofs in ledgers. It opens everything; whether somebody has changed a ledger, it cannot tell.";

/// Refuses a ledger that may not be the household's own, or not whole, unless whoever asks goes on all the same.
pub fn believe(read: &LedgerRead, known: Option<&KitEnd>, who: &str, unproven: bool, tell: &Tell) -> Result<(), Stop> {
    let doubts = read.doubts(known, who);
    match doubts.first() {
        Some(doubt) if unproven => tell(format!("  {doubt} Continuing, because --unproven was given.")),
        Some(doubt) => {
            let what = "Nothing was taken from it. Look at the store with its own tools, or use another store; to continue all the same, give --unproven to ypogeiond recover or rebuild";
            return Err(Stop::new(Why::Refused, format!("{doubt} {what}")));
        }
        None => {}
    }
    Ok(())
}

/// The keys of a kit.
pub fn keys_of(kit: &RecoveryKit) -> Result<Keys, Stop> {
    let parse =
        |key: &String| key.parse::<Identity>().map_err(|e| Stop::new(Why::Refused, format!("the kit's key cannot be used: {e}")));
    let older = kit.older.iter().map(parse).collect::<Result<Vec<_>, _>>()?;
    Ok(Keys::from(parse(&kit.key)?).and_open_with(older).proving(kit.ledger_key.clone()))
}

/// Opens what a kit names. `readable`: one that is readable is taken as it is, whatever the kit says.
pub async fn open(address: &StoreAddress, keys: Keys, readable: bool) -> Result<Replica, Stop> {
    let store = Store::new(address).map_err(|e| said(&e))?;
    let ours = if address.sealed { keys.clone() } else { keys.clone().plainly() };
    let opened = match Replica::open_by_kit(store.clone(), ours).await {
        Err(ReplicaError::OtherwiseKept { sealed: false }) if readable => Replica::open_by_kit(store, keys.plainly()).await,
        other => other,
    };
    opened.map_err(|e| match e {
        ReplicaError::Store(fault) => said(&fault),
        ReplicaError::SomebodyElses => Stop::new(Why::Refused,
            "this kit's key does not open the copies in this store; is it an older kit, or another household's?".to_owned(),
        ),
        ReplicaError::OtherwiseKept { sealed: false } => Stop::new(Why::Refused,
            "this store says that its copies are readable, and the kit does not: somebody may have changed the store. If the house kept \
             readable copies there and the kit is an older one, say --readable"
                .to_owned(),
        ),
        e => Stop::new(Why::Refused, e.to_string()),
    })
}

/// A store's fault, as whoever waits for it reads it.
pub fn said(fault: &Fault) -> Stop {
    let why = match fault {
        Fault::Passing(_) | Fault::Away(_) => Why::Unreachable,
        Fault::Refused(_) | Fault::Missing(_) | Fault::Disorder(_) | Fault::Locked => Why::Refused,
        Fault::Home(_) => Why::Partly,
    };
    let next = match fault {
        Fault::Passing(_) | Fault::Away(_) | Fault::Home(_) => ". Run the same command again; it continues where it stopped.",
        _ => ".",
    };
    Stop::new(why, chain(fault) + next)
}
