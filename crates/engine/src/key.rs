//! The household's key: what the server keeps of it, a new one, one that is lent, and others who can open copies.

use std::sync::Arc;

use ypogeion_core::state::KitWorth;
use ypogeion_offsite::{Identity, seal::Recipient};
use ypogeion_wire::offsite::{HouseKey, OtherRecipient};

use crate::{
    engine::Engine,
    error::{Error, Result},
    kept::{enough, missing, read_kept, write_kept},
    keys::{LENT_FOR, in_text},
    kit,
    live::Change,
};

/// What the server keeps of the household's key, and who else can open copies.
pub async fn show(engine: &Engine) -> Result<HouseKey> {
    let sealing = engine.catalog.sealing(None, engine.now()).await?;
    let (to_reseal, to_reseal_bytes) = engine.catalog.left_to_reseal(sealing.epoch).await?;
    let kept = read_kept(engine)?;
    let lacks = if sealing.strict { 0 } else { missing(&kept, &sealing).count() as u64 };
    Ok(HouseKey {
        recipient: sealing.own.first().map(|k| k.recipient.clone()).unwrap_or_default(),
        made_at: sealing.own.first().map(|k| k.made_at),
        earlier: sealing.own.len().saturating_sub(1) as u64,
        lacks,
        strict: sealing.strict,
        opens: engine.keyring.keys().can_open(),
        lent_seconds: engine.keyring.lent_for().map(|d| d.as_secs()),
        others: sealing
            .others
            .into_iter()
            .map(|o| OtherRecipient { recipient: o.recipient, name: o.name, added_at: o.added_at })
            .collect(),
        kit: kit::state(engine).await?,
        to_reseal,
        to_reseal_bytes,
    })
}

/// Everything that holds keys is told of a change.
async fn changed(engine: &Engine, who: &str, what: &str) -> Result<HouseKey> {
    let sealing = engine.catalog.sealing(None, engine.now()).await?;
    engine.keyring.change(read_kept(engine)?, &sealing);
    engine.connections.forget_replicas();
    engine.catalog.write_record(engine.now(), who, what).await?;
    engine.wakeups.wake_all();
    engine.live.changed(&[Change::Offsite, Change::Overview, Change::Work]);
    show(engine).await
}

/// Makes a new key. What is sent from now on opens with the new recovery kit alone; what was sent before is sealed anew over time.
pub async fn renew(engine: &Engine, who: &str) -> Result<HouseKey> {
    if engine.catalog.sealing(None, engine.now()).await?.strict {
        return Err(Error::invalid(
            "This server keeps no key, and a kit has to hold the earlier ones as well. First let the server keep the key again, then make a new one.",
        ));
    }
    let (new, mut kept) = (Identity::generate(), read_kept(engine)?);
    kept.insert(0, new.clone());
    // The file first: a key that things are sealed for and that nobody has would be the end of them.
    write_kept(engine, &kept)?;
    engine.catalog.new_key(&new.recipient(), engine.now()).await?;
    changed(engine, who, "made a new key; the recovery kit has to be printed again").await
}

/// The strict setting: the server forgets what opens copies. It goes on sealing, and compares sealed bytes; only the kit opens them.
pub async fn forget(engine: &Engine, who: &str) -> Result<HouseKey> {
    if kit::worth(engine).await? != KitWorth::Proven {
        return Err(Error::invalid(
            "First print the recovery kit as it is now, and type a part of it back: after this, nothing else opens the copies.",
        ));
    }
    engine.catalog.set_strict(true).await?;
    write_kept(engine, &[])?;
    changed(engine, who, "removed the key that opens copies from the server").await
}

/// The keys in what somebody typed from their kit, if they are this household's.
pub async fn read_given(engine: &Engine, text: &str) -> Result<Vec<Identity>> {
    let given = in_text(text).map_err(|e| Error::invalid(format!("The key cannot be used: {e}.")))?;
    if given.is_empty() {
        return Err(Error::invalid("There is no key in this: it begins with AGE-SECRET-KEY-1, in the kit's line \"Key\"."));
    }
    let sealing = engine.catalog.sealing(None, engine.now()).await?;
    if !given.iter().all(|key| sealing.own.iter().any(|k| k.recipient == key.recipient())) {
        return Err(Error::NotAllowed("This is not a key of this household. Is it from its own recovery kit?".to_owned()));
    }
    Ok(given)
}

/// Lets the server keep the key again that it was told to forget.
pub async fn keep(engine: &Engine, who: &str, given: Vec<Identity>) -> Result<HouseKey> {
    let sealing = engine.catalog.sealing(None, engine.now()).await?;
    let mut kept = read_kept(engine)?;
    for key in given {
        if !kept.iter().any(|k| k.recipient() == key.recipient()) {
            kept.push(key);
        }
    }
    // The present one first, as things are sealed for it.
    kept.sort_by_key(|k| sealing.own.iter().position(|o| o.recipient == k.recipient()));
    enough(engine, &kept, &sealing).await?;
    write_kept(engine, &kept)?;
    engine.catalog.set_strict(false).await?;
    engine.catalog.heal_with_key(engine.now()).await?;
    changed(engine, who, "let the server keep the key that opens copies").await
}

/// Lends the server the kit's key for an hour, for a drill or to mend what is damaged at home.
pub async fn lend(engine: &Arc<Engine>, who: &str, given: Vec<Identity>) -> Result<HouseKey> {
    engine.keyring.lend(given);
    engine.connections.forget_replicas();
    // And when its time is over, by everything that was opened with it.
    tokio::spawn({
        let engine = Arc::clone(engine);
        async move {
            tokio::time::sleep(LENT_FOR).await;
            if engine.keyring.forget_lent() {
                engine.connections.forget_replicas();
                engine.live.changed(&[Change::Offsite, Change::Overview]);
            }
        }
    });
    engine.catalog.heal_with_key(engine.now()).await?;
    engine.catalog.write_record(engine.now(), who, "lent the server the key that opens copies, for an hour").await?;
    engine.wakeups.wake_all();
    show(engine).await
}

/// Adds somebody who can open copies as well, with a key of their own.
pub async fn add_recipient(engine: &Engine, who: &str, name: &str, recipient: &str) -> Result<HouseKey> {
    let name = name.trim();
    if name.is_empty() || name.chars().count() > 60 || name.chars().any(char::is_control) {
        return Err(Error::invalid("A name has between 1 and 60 characters."));
    }
    let recipient: Recipient = recipient.parse().map_err(|e| Error::invalid(format!("The key cannot be used: {e}.")))?;
    let recipient = recipient.to_string();
    if engine.keyring.keys().knows(&recipient) {
        return Err(Error::NotNow("Things are sealed for this key already.".to_owned()));
    }
    engine.catalog.add_recipient(&recipient, name, engine.now()).await?;
    changed(engine, who, &format!("lets {name} open copies, too")).await
}

/// Seals for somebody no more.
pub async fn remove_recipient(engine: &Engine, who: &str, recipient: &str) -> Result<HouseKey> {
    let name = engine.catalog.remove_recipient(recipient, engine.now()).await?;
    changed(engine, who, &format!("removed the access of {name} to copies")).await
}
