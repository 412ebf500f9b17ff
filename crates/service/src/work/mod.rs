//! Background work: rows of the catalogue, taken, done, put back.
//!
//! One loop for each kind ([`previews`], [`groups`], [`refile`], [`adopt`], [`derive`], [`audit`] for three, [`heal`] for two, [`holding`] for three, [`reseal`], [`home`], and [`offsite`] for
//! the other three). A loop sleeps until it is woken by a notification or until something is due; while nothing is due, nothing wakes. Every piece of work may be done twice and
//! may be killed anywhere.

mod adopt;
pub mod audit;
mod derive;
mod groups;
mod heal;
pub mod holding;
pub mod home;
mod offsite;
mod previews;
pub mod refile;
mod reseal;

use std::{
    collections::HashSet,
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};

use chrono::{DateTime, TimeDelta, Utc};
use tokio::{
    sync::{OwnedSemaphorePermit, Semaphore},
    task::JoinSet,
};
use ypogeion_catalog::work::{Job, Kind};
use ypogeion_core::OriginalId;
use ypogeion_wire::work::LiveEvent;

use crate::{
    app::{App, Lane},
    failure::{Answer, chain},
    landing,
};

/// Work that is not heard of for this long is taken by somebody else.
const LEASE: TimeDelta = TimeDelta::seconds(90);
/// A sealed body that nobody has gone on with for so long is sealed anew, should it be wanted after all.
const SPOOL_LIFE: Duration = Duration::from_secs(14 * 86_400);
const KEEP_LEASES: Duration = Duration::from_secs(30);
/// How long a failed question to the catalogue is let be.
const BREATH: Duration = Duration::from_secs(1);
/// Originals that are looked at together for missing work, and the pause after them: a million in a quarter of an hour, and nobody notices.
const LOOKED_AT: i64 = 500;
const BETWEEN_LOOKS: Duration = Duration::from_millis(400);
/// Stores that are sent to at once; more than a household has.
const STORES_AT_ONCE: usize = 8;
/// Tried this often before it is left for somebody to look at.
const ATTEMPTS: u32 = 8;

/// How a piece of work ended.
pub(crate) enum Ended {
    /// Done; forget it.
    Done,
    /// To be tried again then, because of this.
    Again(DateTime<Utc>, String),
    /// Cannot be done until somebody looks.
    GivenUp(String),
    /// Over for this time; its next round is put down already.
    Round,
    /// Could not be tried yet, and it is nobody's fault: then.
    Later(DateTime<Utc>),
    /// Could not be tried: its store waits. Not the work's fault.
    Waits,
    /// Somebody else does not let it be done, for this reason; then it is tried again, however often.
    NotYet(DateTime<Utc>, String),
}

/// Starts all background work. The tasks end when the set is dropped; what they were doing comes back by its lease.
pub fn start(app: &Arc<App>) -> JoinSet<()> {
    let mut tasks = JoinSet::new();
    let held: Held = Arc::default();
    for kind in Kind::ALL {
        let parallel = match kind {
            Kind::Preview => app.settings.media_workers,
            // So many for each store, as far as it is worth it; see `App::full_stores`.
            Kind::Replicate => STORES_AT_ONCE * app.settings.offsite.parallel,
            Kind::Fetch => app.settings.offsite.parallel,
            // One writer of a ledger; reading back leaves room for what is exposed.
            Kind::Ledger
            | Kind::Prove
            | Kind::Group
            | Kind::Refile
            | Kind::Adopt
            | Kind::Derive
            | Kind::Heal
            | Kind::Hold
            | Kind::Release
            | Kind::Reseal
            | Kind::Remove => 1,
            // A slow place must not keep the others from being checked.
            Kind::Audit | Kind::Survey | Kind::Drill => 3,
        };
        tasks.spawn(run_kind(Arc::clone(app), kind, parallel, Arc::clone(&held)));
    }
    tasks.spawn(listen(Arc::clone(app)));
    let catalog = app.catalog.clone();
    tasks.spawn(async move { catalog.tell_of_work().await });
    let catalog = app.catalog.clone();
    tasks.spawn(async move { catalog.keep_statistics().await });
    let catalog = app.catalog.clone();
    tasks.spawn(async move { catalog.keep_counts().await });
    tasks.spawn(keep_leases(Arc::clone(app), held));
    tasks.spawn(app.live.clone().tell());
    tasks.spawn(tidy(Arc::clone(app)));
    tasks.spawn(derive_missing(Arc::clone(app)));
    tasks.spawn(home::watch(Arc::clone(app)));
    tasks
}

/// The numbers of the work that is under way here.
type Held = Arc<Mutex<HashSet<i64>>>;

/// A piece of work that is under way: as long as this is kept, its lease is. Let go of even if the work panics: its lease then runs out, and
/// it is done again.
struct UnderWay {
    app: Arc<App>,
    held: Held,
    kind: Kind,
    id: i64,
    room: Option<(OwnedSemaphorePermit, Option<Lane>)>,
}

impl Drop for UnderWay {
    fn drop(&mut self) {
        self.held.lock().unwrap_or_else(PoisonError::into_inner).remove(&self.id);
        // Before the loop is woken, or it would find no room and sleep again.
        drop(self.room.take());
        self.app.wake[&self.kind].notify_one();
    }
}

async fn run_kind(app: Arc<App>, kind: Kind, parallel: usize, held: Held) {
    let room = Arc::new(Semaphore::new(parallel));
    let mut running = JoinSet::new();
    loop {
        while running.try_join_next().is_some() {}
        if home::needs(kind) {
            home::wait(&app).await;
        }
        let free = room.available_permits();
        // A store has a limit of its own, so that a slow one takes no turn of another; then one is taken at a time.
        let (full, limit) = if kind == Kind::Replicate { (app.full_stores(), free.min(1)) } else { (Vec::new(), free) };
        let taken = if free == 0 {
            Ok(Vec::new())
        } else {
            app.catalog.take_work(kind, app.me, (app.now(), LEASE), limit as i64, &full).await
        };
        let jobs = match taken {
            Ok(jobs) => jobs,
            Err(e) => {
                tracing::warn!(kind = kind.word(), error = %chain(&e), "could not ask for work");
                tokio::time::sleep(BREATH).await;
                continue;
            }
        };
        let more = !jobs.is_empty() && jobs.len() == limit;
        for job in jobs {
            held.lock().unwrap_or_else(PoisonError::into_inner).insert(job.id);
            app.stirred.notify_one();
            let permit = Arc::clone(&room).acquire_owned().await.expect("the semaphore is never closed");
            let lane = job.store.filter(|_| kind == Kind::Replicate).map(|store| app.take_lane(store));
            let room = Some((permit, lane));
            let under_way = UnderWay { app: Arc::clone(&app), held: Arc::clone(&held), kind, id: job.id, room };
            running.spawn(async move { do_one(&under_way.app, &job).await });
        }
        if more && room.available_permits() > 0 {
            continue;
        }
        // Nothing to take now: sleep until woken, or until something is due.
        let due =
            if room.available_permits() == 0 { None } else { app.catalog.next_due(kind, app.now(), &full).await.ok().flatten() };
        let nap = due.map(|d| (d - app.now()).to_std().unwrap_or(Duration::ZERO).max(Duration::from_millis(20)));
        tokio::select! {
            () = app.wake[&kind].notified() => {}
            () = async { match nap { Some(nap) => tokio::time::sleep(nap).await, None => std::future::pending().await } } => {}
        }
    }
}

async fn do_one(app: &Arc<App>, job: &Job) {
    let ended = match job.kind {
        Kind::Preview => previews::make(app, job).await,
        Kind::Replicate => offsite::replicate(app, job).await,
        Kind::Ledger => offsite::write_ledger(app, job).await,
        Kind::Prove => offsite::prove(app, job).await,
        Kind::Group => groups::group(app, job).await,
        Kind::Refile => refile::refile(app, job).await,
        Kind::Adopt => adopt::adopt(app, job).await,
        Kind::Derive => derive::derive(app, job).await,
        Kind::Audit => audit::read(app, job).await,
        Kind::Survey => audit::survey(app, job).await,
        Kind::Drill => audit::drill(app, job).await,
        Kind::Heal => heal::heal(app, job).await,
        Kind::Fetch => heal::bring(app, job).await,
        Kind::Reseal => reseal::reseal(app, job).await,
        Kind::Hold => holding::settle(app, job).await,
        Kind::Release => holding::release(app).await,
        Kind::Remove => holding::remove(app, job).await,
    };
    let now = app.now();
    let ended = ended.unwrap_or_else(|e| {
        // The catalogue went away, or a fault of ours: the work stays.
        let wait = ypogeion_core::retry::wait(job.attempts, crate::security::chance());
        Ended::Again(now + wait, chain(&e))
    });
    let ended = match ended {
        // Whatever it says, that is why; and it was not tried.
        Ended::Again(..) | Ended::GivenUp(_) | Ended::NotYet(..)
            if home::needs(job.kind) && app.home_is_there().await.is_err() =>
        {
            Ended::Later(now)
        }
        ended => ended,
    };
    let noted = match &ended {
        Ended::Done => app.catalog.finish_work(job).await,
        Ended::Round => Ok(()),
        Ended::Later(due) => app.catalog.put_back_work(job, None, *due).await,
        Ended::Waits => app.catalog.put_back_work(job, None, now).await,
        Ended::Again(_, error) if job.attempts >= ATTEMPTS => app.catalog.give_up_work(job, error).await,
        Ended::Again(due, error) | Ended::NotYet(due, error) => app.catalog.put_back_work(job, Some(error), *due).await,
        Ended::GivenUp(error) => app.catalog.give_up_work(job, error).await,
    };
    if let Ended::Again(_, error) | Ended::GivenUp(error) = &ended {
        tracing::warn!(kind = job.kind.word(), key = %job.key, attempt = job.attempts, error, "background work failed");
    }
    if let Err(e) = noted {
        // Its lease runs out and it is done again, which does no harm.
        tracing::warn!(kind = job.kind.word(), error = %chain(&e), "the end of some background work could not be noted");
    }
    if matches!(ended, Ended::Done) && job.kind == Kind::Ledger {
        // Rows that changed in any way while the segment was written stay to be said, whether or not somebody wished for it.
        if let Err(e) = offsite::want_ledger_again(app, job).await {
            tracing::warn!(error = %chain(&e), "could not look for more to write into the ledger");
        }
    }
    app.live.changed(&[LiveEvent::Work]);
}

/// Wakes the loops of what was added, here or by another process.
async fn listen(app: Arc<App>) {
    loop {
        if let Err(e) = app.catalog.listen_for_work(|kinds| app.wake_for(kinds)).await {
            tracing::warn!(error = %chain(&e), "lost the connection that tells of new work; trying again");
        }
        tokio::time::sleep(BREATH).await;
        app.wake_workers();
    }
}

/// Looks after leases and idle children while there are any, and sleeps while there are none.
async fn keep_leases(app: Arc<App>, held: Held) {
    loop {
        if held.lock().unwrap_or_else(PoisonError::into_inner).is_empty() && app.reader.is_resting() && app.previewer.is_resting()
        {
            app.stirred.notified().await;
        }
        tokio::time::sleep(KEEP_LEASES).await;
        let ids: Vec<i64> = held.lock().unwrap_or_else(PoisonError::into_inner).iter().copied().collect();
        if !ids.is_empty()
            && let Err(e) = app.catalog.keep_leases(app.me, &ids, app.now() + LEASE).await
        {
            tracing::warn!(error = %chain(&e), "leases could not be kept");
        }
        app.reader.rest(Duration::from_secs(30));
        app.previewer.rest(Duration::from_secs(30));
    }
}

/// Looks through everything once a day, a little at a time, for work that should be down and is not.
async fn derive_missing(app: Arc<App>) {
    loop {
        let (mut after, mut found) = (OriginalId(uuid::Uuid::nil()), 0);
        loop {
            match app.catalog.derive_work(after, LOOKED_AT, app.now()).await {
                Ok(Some(looked)) => (after, found) = (looked.last, found + looked.missing),
                Ok(None) => break,
                Err(e) => {
                    tracing::warn!(error = %chain(&e), "could not look for missing work; trying again");
                    tokio::time::sleep(BREATH).await;
                }
            }
            tokio::time::sleep(BETWEEN_LOOKS).await;
        }
        if found > 0 {
            tracing::warn!(found, "background work was missing and has been put down");
        }
        match app.catalog.miscounts().await {
            Ok(wrong) => wrong.iter().for_each(|w| tracing::warn!(differs = w, "a count was wrong and has been put right")),
            Err(e) => tracing::warn!(error = %chain(&e), "the counts could not be compared"),
        }
        tokio::time::sleep(Duration::from_secs(86_400)).await;
    }
}

/// Removes uploads whose time has passed, once an hour.
async fn tidy(app: Arc<App>) {
    loop {
        let spool = app.settings.data_folder.join("spool");
        match tokio::task::spawn_blocking(move || ypogeion_offsite::spool::tidy(&spool, SPOOL_LIFE)).await {
            Ok(Ok(())) => {}
            Ok(Err(e)) => tracing::warn!(error = %e, "the spool could not be tidied"),
            Err(e) => tracing::warn!(error = %e, "the spool could not be tidied"),
        }
        if let Err(e) = note_exposure(&app).await {
            tracing::warn!(error = %chain(&e), "how exposed the house is could not be noted");
        }
        if let Err(e) = remove_expired(&app).await {
            tracing::warn!(error = %chain(&e), "expired uploads could not be removed");
        }
        tokio::time::sleep(Duration::from_secs(3600)).await;
    }
}

async fn note_exposure(app: &Arc<App>) -> Answer<()> {
    let depths = app.catalog.depths(None, app.proven_since()).await?;
    Ok(app.catalog.note_exposure(&depths, app.now()).await?)
}

async fn remove_expired(app: &Arc<App>) -> Answer<()> {
    for id in app.catalog.expired_uploads(app.now()).await? {
        // One that is being written to right now is not as old as it looks.
        if let Some(_writing) = app.busy.take(id) {
            landing::discard(app, id).await?;
        }
    }
    Ok(())
}
