//! The household's key: what the server keeps of it, a new one, others who can open copies, and the kit that was typed back.

use actix_web::{delete, get, post, web};
use ypogeion_catalog::keys::{OwnKey, Sealing, ShownKit};
use ypogeion_core::{
    kit::{RecoveryKit, Worth},
    words,
};
use ypogeion_offsite::{Fault, Identity, seal::Recipient};
use ypogeion_wire::{
    offsite::{HouseKey, KitProof, KitState, LendKey, NewRecipient, OtherRecipient, ShowKit},
    problem::ProblemType,
    work::LiveEvent,
};

use super::{session::same_password, stores::kit_now};
use crate::{
    app::App,
    caller::Caller,
    failure::{Answer, Failure},
    keys::{LENT_FOR, in_text, read_file, write_file},
};

/// Whether the kit that was shown last still opens everything, and was shown to be kept.
pub async fn kit_state(app: &App) -> Answer<KitState> {
    let (worth, shown) = worth(app).await?;
    Ok(KitState {
        state: worth.word().into(),
        shown_at: shown.as_ref().map(|k| k.shown_at),
        proven_at: shown.and_then(|k| k.proven_at),
    })
}

/// What the kit is worth today.
pub async fn kit_worth(app: &App) -> Answer<Worth> {
    Ok(worth(app).await?.0)
}

async fn worth(app: &App) -> Answer<(Worth, Option<ShownKit>)> {
    let (shown, now) = (app.catalog.kit().await?, kit_now(app).await?);
    let stores = !app.catalog.stores().await?.is_empty();
    Ok((Worth::of(stores, shown.as_ref().map(|k| (k.said == now, k.proven_at.is_some()))), shown))
}

/// The key file could not be read or written.
pub fn file<T>(done: std::io::Result<T>) -> Answer<T> {
    Ok(done.map_err(Fault::Home)?)
}

async fn told(app: &App) -> Answer<HouseKey> {
    let sealing = app.catalog.sealing(None, app.now()).await?;
    let (left, left_bytes) = app.catalog.left_to_reseal(sealing.epoch).await?;
    let kept = file(read_file(&app.settings.key_file()))?;
    let lacks = if sealing.strict { 0 } else { missing(&kept, &sealing).count() as u64 };
    Ok(HouseKey {
        recipient: sealing.own.first().map(|k| k.recipient.clone()).unwrap_or_default(),
        made_at: sealing.own.first().map(|k| k.made_at),
        earlier: sealing.own.len().saturating_sub(1) as u64,
        lacks,
        strict: sealing.strict,
        opens: app.keyring.keys().can_open(),
        lent_seconds: app.keyring.lent_for().map(|d| d.as_secs()),
        others: sealing
            .others
            .into_iter()
            .map(|o| OtherRecipient { recipient: o.recipient, name: o.name, added_at: o.added_at })
            .collect(),
        kit: kit_state(app).await?,
        to_reseal: left,
        to_reseal_bytes: left_bytes,
    })
}

/// What the server keeps of the household's key, and who else can open copies.
#[utoipa::path(responses((status = 200, body = HouseKey)))]
#[get("/api/key")]
pub async fn show_key(app: web::Data<App>) -> Answer<web::Json<HouseKey>> {
    Ok(web::Json(told(&app).await?))
}

/// Everything that holds keys is told of a change.
async fn changed(app: &App, who: &str, what: &str) -> Answer<web::Json<HouseKey>> {
    let sealing: Sealing = app.catalog.sealing(None, app.now()).await?;
    app.keyring.change(file(read_file(&app.settings.key_file()))?, &sealing);
    app.forget_replicas();
    app.catalog.write_record(app.now(), who, what).await?;
    app.wake_workers();
    app.live.changed(&[LiveEvent::Offsite, LiveEvent::Overview, LiveEvent::Work]);
    Ok(web::Json(told(app).await?))
}

/// Makes a new key. What is sent from now on opens with the new recovery kit alone; what was sent before is sealed anew over time.
#[utoipa::path(responses((status = 200, body = HouseKey)))]
#[post("/api/key/renew")]
pub async fn renew_key(app: web::Data<App>, caller: Caller, body: web::Json<ShowKit>) -> Answer<web::Json<HouseKey>> {
    let keeper = caller.person()?;
    same_password(&app, keeper, body.into_inner().password).await?;
    if app.catalog.sealing(None, app.now()).await?.strict {
        return Err(Failure::bad(
            "This server keeps no key, and a kit has to hold the earlier ones as well. First let the server keep the key again, then make a new one.",
        ));
    }
    let path = app.settings.key_file();
    let (new, mut kept) = (Identity::generate(), file(read_file(&path))?);
    kept.insert(0, new.clone());
    // The file first: a key that things are sealed for and that nobody has would be the end of them.
    file(write_file(&path, &kept))?;
    app.catalog.new_key(&new.recipient(), app.now()).await?;
    changed(&app, &keeper.name, "made a new key; the recovery kit has to be printed again").await
}

/// The strict setting: the server forgets what opens copies. It goes on sealing, and compares sealed bytes; only the kit opens them.
#[utoipa::path(responses((status = 200, body = HouseKey)))]
#[post("/api/key/strict")]
pub async fn forget_key(app: web::Data<App>, caller: Caller, body: web::Json<ShowKit>) -> Answer<web::Json<HouseKey>> {
    let keeper = caller.person()?;
    same_password(&app, keeper, body.into_inner().password).await?;
    if kit_state(&app).await?.state != Worth::Proven.word() {
        return Err(Failure::bad(
            "First print the recovery kit as it is now, and type a part of it back: after this, nothing else opens the copies.",
        ));
    }
    app.catalog.set_strict(true).await?;
    file(write_file(&app.settings.key_file(), &[]))?;
    changed(&app, &keeper.name, "removed the key that opens copies from the server").await
}

/// The household's keys that are not among these.
fn missing<'a>(kept: &'a [Identity], sealing: &'a Sealing) -> impl Iterator<Item = &'a OwnKey> {
    sealing.own.iter().filter(|k| !kept.iter().any(|i| i.recipient() == k.recipient))
}

/// Whether a server with these keys could print a kit that opens everything.
pub async fn enough(app: &App, kept: &[Identity], sealing: &Sealing) -> Answer<()> {
    if missing(kept, sealing).any(|k| sealing.own.first().is_none_or(|present| present.recipient == k.recipient)) {
        return Err(Failure::bad(
            "The present key is not among these, and a kit without it would open nothing that is new. It is in the line \"Key\" of the newest kit.",
        ));
    }
    let missing = missing(kept, sealing).count();
    if missing > 0 && app.catalog.needs_earlier_keys().await? {
        return Err(Failure::bad(format!(
            "{} missing, and some of what is in the stores is still sealed for them. They are in the lines \"Older key\" of the kit: give all \
             of it.",
            match missing {
                1 => "An earlier key is".to_owned(),
                n => format!("{n} earlier keys are"),
            }
        )));
    }
    Ok(())
}

/// Lends the server the kit's key for an hour, for a drill or to mend what is damaged at home; or gives it back for good.
#[utoipa::path(responses((status = 200, body = HouseKey)))]
#[post("/api/key/lend")]
pub async fn lend_key(app: web::Data<App>, caller: Caller, body: web::Json<LendKey>) -> Answer<web::Json<HouseKey>> {
    let keeper = caller.person()?;
    app.limiter.attempt(&format!("lend {}", keeper.id), 20)?;
    let LendKey { key, keep } = body.into_inner();
    let given = in_text(&key).map_err(|e| Failure::bad(format!("The key cannot be used: {e}.")))?;
    if given.is_empty() {
        return Err(Failure::bad("There is no key in this: it begins with AGE-SECRET-KEY-1, in the kit's line \"Key\"."));
    }
    let sealing = app.catalog.sealing(None, app.now()).await?;
    if !given.iter().all(|key| sealing.own.iter().any(|k| k.recipient == key.recipient())) {
        return Err(Failure::new(
            ProblemType::NotAllowed,
            "This is not a key of this household. Is it from its own recovery kit?",
        ));
    }
    if keep {
        caller.proved(app.now())?;
        let mut kept = file(read_file(&app.settings.key_file()))?;
        for key in given {
            if !kept.iter().any(|k| k.recipient() == key.recipient()) {
                kept.push(key);
            }
        }
        // The present one first, as things are sealed for it.
        kept.sort_by_key(|k| sealing.own.iter().position(|o| o.recipient == k.recipient()));
        enough(&app, &kept, &sealing).await?;
        file(write_file(&app.settings.key_file(), &kept))?;
        app.catalog.set_strict(false).await?;
        app.catalog.heal_with_key(app.now()).await?;
        return changed(&app, &keeper.name, "let the server keep the key that opens copies").await;
    }
    app.keyring.lend(given);
    app.forget_replicas();
    // And when its time is over, by everything that was opened with it.
    tokio::spawn({
        let app = app.clone().into_inner();
        async move {
            tokio::time::sleep(LENT_FOR).await;
            if app.keyring.forget_lent() {
                app.forget_replicas();
                app.live.changed(&[LiveEvent::Offsite, LiveEvent::Overview]);
            }
        }
    });
    app.catalog.heal_with_key(app.now()).await?;
    app.catalog.write_record(app.now(), &keeper.name, "lent the server the key that opens copies, for an hour").await?;
    app.wake_workers();
    Ok(web::Json(told(&app).await?))
}

/// Adds somebody who can open copies as well, with a key of their own.
#[utoipa::path(responses((status = 200, body = HouseKey)))]
#[post("/api/key/recipients")]
pub async fn add_recipient(app: web::Data<App>, caller: Caller, body: web::Json<NewRecipient>) -> Answer<web::Json<HouseKey>> {
    let keeper = caller.person()?;
    let new = body.into_inner();
    same_password(&app, keeper, new.password).await?;
    let name = new.name.trim().to_owned();
    if name.is_empty() || name.chars().count() > 60 || name.chars().any(char::is_control) {
        return Err(Failure::bad("A name has between 1 and 60 characters."));
    }
    let recipient: Recipient = new.recipient.parse().map_err(|e| Failure::bad(format!("The key cannot be used: {e}.")))?;
    let recipient = recipient.to_string();
    if app.keyring.keys().knows(&recipient) {
        return Err(Failure::new(ProblemType::NameTaken, "Things are sealed for this key already."));
    }
    app.catalog.add_recipient(&recipient, &name, app.now()).await?;
    changed(&app, &keeper.name, &format!("lets {name} open copies, too")).await
}

/// Seals for somebody no more.
#[utoipa::path(responses((status = 200, body = HouseKey)))]
#[delete("/api/key/recipients/{recipient}")]
pub async fn remove_recipient(app: web::Data<App>, caller: Caller, recipient: web::Path<String>) -> Answer<web::Json<HouseKey>> {
    let name = app.catalog.remove_recipient(&recipient, app.now()).await?;
    changed(&app, &caller.person()?.name, &format!("removed the access of {name} to copies")).await
}

/// Shows that the recovery kit was kept: the end of its key and its check, typed from the sheet.
#[utoipa::path(responses((status = 200, body = HouseKey)))]
#[post("/api/kit/proof")]
pub async fn prove_kit(app: web::Data<App>, caller: Caller, body: web::Json<KitProof>) -> Answer<web::Json<HouseKey>> {
    let keeper = caller.person()?;
    app.limiter.attempt(&format!("kit proof {}", keeper.id), 20)?;
    let shown =
        app.catalog.kit().await?.ok_or_else(|| Failure::bad("No recovery kit was shown yet. Show it and print it first."))?;
    let Some(key) = file(read_file(&app.settings.key_file()))?.into_iter().next() else {
        return Err(Failure::bad("This server keeps no key, so it cannot tell whether the kit is the right one."));
    };
    let key = key.reveal();
    let plain = |text: &str| text.chars().filter(|c| !c.is_whitespace()).collect::<String>().to_uppercase();
    let (end, word) = (plain(&body.key_end), plain(&body.check));
    let right = end.len() == KEY_END && key.to_uppercase().ends_with(&end) && word == shown.check_word.to_uppercase();
    if !right {
        return Err(Failure::bad(format!(
            "This is not right. Of the line \"Key\" the last {} are asked for, and of the line \"Check\" all of it, from the kit \
             that was shown last.",
            words::counted(KEY_END as u64, "character")
        )));
    }
    app.catalog.kit_proven(app.now()).await?;
    app.catalog.write_record(app.now(), &keeper.name, "typed a part of the recovery kit back").await?;
    app.live.changed(&[LiveEvent::Offsite, LiveEvent::Overview]);
    Ok(web::Json(told(&app).await?))
}

/// So many characters of the key are typed back: too many to guess, few enough to type.
const KEY_END: usize = 8;

/// Notes that a kit was shown.
pub async fn note_shown(app: &App, kit: &RecoveryKit) -> Answer<()> {
    Ok(app.catalog.kit_shown(&kit_now(app).await?, &kit.check_word(), app.now()).await?)
}
