//! The recovery kit: what it says, whether the one that was shown last is still worth something, and whether it was kept.

use ypogeion_catalog::keys::ShownKit;
use ypogeion_core::{
    kit::{KitEnd, RecoveryKit, StoreAddress},
    state::KitWorth,
    words,
};
use ypogeion_wire::offsite::KitState;

use crate::{
    engine::Engine,
    error::{Error, Result},
    kept::{enough, read_kept},
    live::Change,
};

/// So many characters of the key are typed back: too many to guess, few enough to type.
const KEY_END: usize = 8;

/// Whether the kit that was shown last still opens everything, and was shown to be kept.
pub async fn state(engine: &Engine) -> Result<KitState> {
    let (worth, shown) = shown_worth(engine).await?;
    Ok(KitState { state: worth, shown_at: shown.as_ref().map(|k| k.shown_at), proven_at: shown.and_then(|k| k.proven_at) })
}

/// What the kit is worth today.
pub async fn worth(engine: &Engine) -> Result<KitWorth> {
    Ok(shown_worth(engine).await?.0)
}

async fn shown_worth(engine: &Engine) -> Result<(KitWorth, Option<ShownKit>)> {
    let (shown, now) = (engine.catalog.kit().await?, as_it_would_be(engine).await?);
    let stores = !engine.catalog.stores().await?.is_empty();
    Ok((KitWorth::of(stores, shown.as_ref().map(|k| (k.said == now, k.proven_at.is_some()))), shown))
}

async fn addresses(engine: &Engine) -> Result<Vec<StoreAddress>> {
    Ok(engine.catalog.stores().await?.iter().map(|s| engine.connections.address_of(s)).collect::<Result<Vec<_>, _>>()?)
}

/// A hash of what a kit would say now, by the public halves of its keys: another one means that a kit that was printed is out of date.
async fn as_it_would_be(engine: &Engine) -> Result<String> {
    let mut own = engine.catalog.sealing(None, engine.now()).await?.own.into_iter().map(|k| k.recipient);
    let kit = RecoveryKit {
        household: engine.household.name.clone(),
        made: Default::default(),
        key: own.next().unwrap_or_default(),
        older: own.collect(),
        ledger_key: Some(engine.keyring.ledger.clone()),
        stores: addresses(engine).await?,
        ends: Vec::new(),
    };
    Ok(kit.says().to_string())
}

/// The kit's text. It opens everything; that it was shown, and to whom, is written down.
pub async fn show(engine: &Engine, who: &str) -> Result<String> {
    let stores = addresses(engine).await?;
    if stores.is_empty() {
        return Err(Error::invalid("Add a store first: a recovery kit says where the copies are."));
    }
    let kept = read_kept(engine)?;
    if !kept.is_empty() {
        enough(engine, &kept, &engine.catalog.sealing(None, engine.now()).await?).await?;
    }
    let mut kept = kept.into_iter().map(|k| k.reveal());
    let Some(key) = kept.next() else {
        return Err(Error::invalid(
            "This server keeps no key that opens copies, so it cannot print another kit. The one that you have is good; add new stores to it by hand.",
        ));
    };
    let (household, made) = (engine.household.name.clone(), engine.now().date_naive());
    let ends = engine.catalog.stores().await?.iter().map(|s| s.ledger_end.as_ref().map(KitEnd::of)).collect();
    let ledger_key = Some(engine.keyring.ledger.clone());
    let kit = RecoveryKit { household, made, key, older: kept.collect(), ledger_key, stores, ends };
    engine.catalog.kit_shown(&as_it_would_be(engine).await?, &kit.check_word(), engine.now()).await?;
    engine.catalog.write_record(engine.now(), who, "looked at the recovery kit").await?;
    Ok(kit.to_text())
}

/// Shows that the kit was kept: the end of its key and its check word, typed from the sheet.
pub async fn prove(engine: &Engine, who: &str, key_end: &str, check: &str) -> Result<()> {
    let shown = engine.catalog.kit().await?;
    let shown = shown.ok_or_else(|| Error::invalid("No recovery kit was shown yet. Show it and print it first."))?;
    let Some(key) = read_kept(engine)?.into_iter().next() else {
        return Err(Error::invalid("This server keeps no key, so it cannot tell whether the kit is the right one."));
    };
    let key = key.reveal();
    let plain = |text: &str| text.chars().filter(|c| !c.is_whitespace()).collect::<String>().to_uppercase();
    let (end, word) = (plain(key_end), plain(check));
    let right = end.len() == KEY_END && key.to_uppercase().ends_with(&end) && word == shown.check_word.to_uppercase();
    if !right {
        return Err(Error::invalid(format!(
            "This is not right. Of the line \"Key\" the last {} are asked for, and of the line \"Check\" all of it, from the kit \
             that was shown last.",
            words::counted(KEY_END as u64, "character")
        )));
    }
    engine.catalog.kit_proven(engine.now()).await?;
    engine.catalog.write_record(engine.now(), who, "typed a part of the recovery kit back").await?;
    engine.live.changed(&[Change::Offsite, Change::Overview]);
    Ok(())
}
