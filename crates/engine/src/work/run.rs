//! Taking work, doing it, noting how it ended; and what looks after that.

use std::{
    collections::HashSet,
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};

use chrono::TimeDelta;
use tokio::{
    sync::{OwnedSemaphorePermit, Semaphore},
    task::JoinSet,
};
use ypogeion_catalog::work::{Job, Kind};
use ypogeion_core::OriginalId;

use super::{
    adopt, checks, derive, ended::Ended, films, groups, heal, holding, home, ledger, previews, refile, reseal, sending, towns,
    words,
};
use crate::{
    connections::Slot,
    elsewhere,
    engine::Engine,
    error::{Error, Result, chain},
    followed, landing,
    live::Change,
};

/// Work that is not heard of for this long is taken by somebody else.
const LEASE: TimeDelta = TimeDelta::seconds(90);
/// What needs an original on a disk that is not connected is tried again after this, should nobody notice that it is back.
const AWAIT_FOLDER: TimeDelta = TimeDelta::hours(3);
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

/// Starts all background work. The tasks end when the set is dropped; what they were doing comes back by its lease.
pub fn start(engine: &Arc<Engine>) -> JoinSet<()> {
    let mut tasks = JoinSet::new();
    let held: Held = Arc::default();
    for kind in Kind::ALL {
        let parallel = match kind {
            Kind::Preview => engine.settings.media_workers,
            // So many for each store, as far as it is worth it; see `Engine::full_stores`.
            Kind::Replicate => STORES_AT_ONCE * engine.settings.offsite.parallel,
            Kind::Fetch => engine.settings.offsite.parallel,
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
            | Kind::Remove
            | Kind::Town
            | Kind::Words
            | Kind::Film => 1,
            // A slow place must not keep the others from being checked.
            Kind::Reading | Kind::Listing | Kind::Drill => 3,
        };
        tasks.spawn(run_kind(Arc::clone(engine), kind, parallel, Arc::clone(&held)));
    }
    tasks.spawn(listen(Arc::clone(engine)));
    let catalog = engine.catalog.clone();
    tasks.spawn(async move { catalog.tell_of_work().await });
    let catalog = engine.catalog.clone();
    tasks.spawn(async move { catalog.keep_statistics().await });
    let catalog = engine.catalog.clone();
    tasks.spawn(async move { catalog.keep_counts().await });
    tasks.spawn(keep_leases(Arc::clone(engine), held));
    tasks.spawn(engine.live.clone().tell());
    let told = Arc::clone(engine);
    tasks.spawn(async move {
        loop {
            told.catalog.recorded().await;
            told.live.changed(&[Change::Record]);
        }
    });
    tasks.spawn(tidy(Arc::clone(engine)));
    tasks.spawn(derive_missing(Arc::clone(engine)));
    tasks.spawn(home::watch(Arc::clone(engine)));
    tasks.spawn(elsewhere::watch(Arc::clone(engine)));
    tasks.spawn(followed::keep(Arc::clone(engine)));
    tasks
}

/// The numbers of the work that is under way here.
type Held = Arc<Mutex<HashSet<i64>>>;

/// A piece of work that is under way: as long as this is kept, its lease is. Let go of even if the work panics: its lease then runs out, and
/// it is done again.
struct UnderWay {
    engine: Arc<Engine>,
    held: Held,
    kind: Kind,
    id: i64,
    room: Option<(OwnedSemaphorePermit, Option<Slot>)>,
}

impl Drop for UnderWay {
    fn drop(&mut self) {
        self.held.lock().unwrap_or_else(PoisonError::into_inner).remove(&self.id);
        // Before the loop is woken, or it would find no room and sleep again.
        drop(self.room.take());
        self.engine.wakeups.of(self.kind).notify_one();
    }
}

async fn run_kind(engine: Arc<Engine>, kind: Kind, parallel: usize, held: Held) {
    let room = Arc::new(Semaphore::new(parallel));
    let mut running = JoinSet::new();
    loop {
        while running.try_join_next().is_some() {}
        if home::needs(kind) {
            home::wait(&engine).await;
        }
        let free = room.available_permits();
        // A store has a limit of its own, so that a slow one takes no turn of another; then one is taken at a time.
        let (full, limit) = if kind == Kind::Replicate { (engine.connections.full(), free.min(1)) } else { (Vec::new(), free) };
        let taken = if free == 0 {
            Ok(Vec::new())
        } else {
            engine.catalog.take_work(kind, engine.me, (engine.now(), LEASE), limit as i64, &full).await
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
            engine.wakeups.activity.notify_one();
            let permit = Arc::clone(&room).acquire_owned().await.expect("the semaphore is never closed");
            let lane = job.store.filter(|_| kind == Kind::Replicate).map(|store| engine.connections.take_slot(store));
            let room = Some((permit, lane));
            let under_way = UnderWay { engine: Arc::clone(&engine), held: Arc::clone(&held), kind, id: job.id, room };
            running.spawn(async move { do_one(&under_way.engine, &job).await });
        }
        if more && room.available_permits() > 0 {
            continue;
        }
        // Nothing to take now: sleep until woken, or until something is due.
        let due = if room.available_permits() == 0 {
            None
        } else {
            engine.catalog.next_due(kind, engine.now(), &full).await.ok().flatten()
        };
        let nap = due.map(|d| (d - engine.now()).to_std().unwrap_or(Duration::ZERO).max(Duration::from_millis(20)));
        tokio::select! {
            () = engine.wakeups.of(kind).notified() => {}
            () = async { match nap { Some(nap) => tokio::time::sleep(nap).await, None => std::future::pending().await } } => {}
        }
    }
}

async fn begin(engine: &Arc<Engine>, job: &Job) -> Result<Ended> {
    match job.kind {
        Kind::Preview => previews::make(engine, job).await,
        Kind::Replicate => sending::replicate(engine, job).await,
        Kind::Ledger => ledger::write(engine, job).await,
        Kind::Prove => sending::prove(engine, job).await,
        Kind::Group => groups::group(engine, job).await,
        Kind::Refile => refile::refile(engine, job).await,
        Kind::Adopt => adopt::adopt(engine, job).await,
        Kind::Derive => derive::derive(engine, job).await,
        Kind::Reading => checks::read(engine, job).await,
        Kind::Listing => checks::list(engine, job).await,
        Kind::Drill => checks::drill(engine, job).await,
        Kind::Heal => heal::heal(engine, job).await,
        Kind::Fetch => heal::bring(engine, job).await,
        Kind::Reseal => reseal::reseal(engine, job).await,
        Kind::Hold => holding::settle(engine, job).await,
        Kind::Release => holding::release(engine).await,
        Kind::Remove => holding::remove(engine, job).await,
        Kind::Town => towns::name(engine, job).await,
        Kind::Words => words::read(engine).await,
        Kind::Film => films::make(engine, job).await,
    }
}

/// Does a piece of work, and says how it ended: also of what failed.
async fn end(engine: &Arc<Engine>, job: &Job) -> Ended {
    let ended = begin(engine, job).await;
    let now = engine.now();
    let wait = ypogeion_core::retry::wait(job.attempts, crate::secrets::chance());
    let ended = match ended {
        Ok(ended) => ended,
        // All that waits for a disk is tried again when that is connected; an idle house does not try it every minute.
        Err(Error::Elsewhere(folder)) => match elsewhere::met(engine, &folder).await {
            Ok(()) => Ended::NotYet(now + AWAIT_FOLDER, Error::Elsewhere(folder).to_string()),
            Err(e) => Ended::Again(now + wait, chain(&e)),
        },
        // The catalogue went away, or a fault of ours: the work stays.
        Err(e) => Ended::Again(now + wait, chain(&e)),
    };
    match ended {
        // Whatever it says, that is why; and it was not tried.
        Ended::Again(..) | Ended::GivenUp(_) | Ended::NotYet(..)
            if home::needs(job.kind) && engine.home_is_there().await.is_err() =>
        {
            Ended::Later(now)
        }
        ended => ended,
    }
}

/// Does a piece of work, and writes down how it ended.
async fn do_one(engine: &Arc<Engine>, job: &Job) {
    let ended = end(engine, job).await;
    let now = engine.now();
    let noted = match &ended {
        Ended::Done => engine.catalog.finish_work(job).await,
        Ended::Round => Ok(()),
        Ended::Later(due) => engine.catalog.put_back_work(job, None, *due).await,
        Ended::Waits => engine.catalog.put_back_work(job, None, now).await,
        Ended::Again(_, error) if job.attempts >= ATTEMPTS => engine.catalog.give_up_work(job, error).await,
        Ended::Again(due, error) | Ended::NotYet(due, error) => engine.catalog.put_back_work(job, Some(error), *due).await,
        Ended::GivenUp(error) => engine.catalog.give_up_work(job, error).await,
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
        if let Err(e) = ledger::want_again(engine, job).await {
            tracing::warn!(error = %chain(&e), "could not look for more to write into the ledger");
        }
    }
    engine.live.changed(&[Change::Work]);
}

/// Wakes the loops of what was added, here or by another process.
async fn listen(engine: Arc<Engine>) {
    loop {
        if let Err(e) = engine.catalog.listen_for_work(|kinds| engine.wakeups.wake(kinds)).await {
            tracing::warn!(error = %chain(&e), "lost the connection that tells of new work; trying again");
        }
        tokio::time::sleep(BREATH).await;
        engine.wakeups.wake_all();
    }
}

/// Looks after leases and idle children while there are any, and sleeps while there are none.
async fn keep_leases(engine: Arc<Engine>, held: Held) {
    loop {
        if held.lock().unwrap_or_else(PoisonError::into_inner).is_empty()
            && engine.reader.is_resting()
            && engine.previewer.is_resting()
            && engine.films.is_resting()
        {
            engine.wakeups.activity.notified().await;
        }
        tokio::time::sleep(KEEP_LEASES).await;
        let ids: Vec<i64> = held.lock().unwrap_or_else(PoisonError::into_inner).iter().copied().collect();
        if !ids.is_empty()
            && let Err(e) = engine.catalog.keep_leases(engine.me, &ids, engine.now() + LEASE).await
        {
            tracing::warn!(error = %chain(&e), "leases could not be kept");
        }
        engine.reader.rest(Duration::from_secs(30));
        engine.previewer.rest(Duration::from_secs(30));
        engine.films.rest(Duration::from_secs(30));
    }
}

/// Looks through everything once a day, a little at a time, for work that should be down and is not.
async fn derive_missing(engine: Arc<Engine>) {
    loop {
        let (mut after, mut found) = (OriginalId(uuid::Uuid::nil()), 0);
        loop {
            match engine.catalog.derive_work(after, LOOKED_AT, engine.now()).await {
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
        match engine.catalog.miscounts().await {
            Ok(wrong) => wrong.iter().for_each(|w| tracing::warn!(differs = w, "a count was wrong and has been put right")),
            Err(e) => tracing::warn!(error = %chain(&e), "the counts could not be compared"),
        }
        tokio::time::sleep(Duration::from_secs(86_400)).await;
    }
}

/// Removes uploads whose time has passed, once an hour.
async fn tidy(engine: Arc<Engine>) {
    loop {
        let spool = engine.settings.spool();
        match tokio::task::spawn_blocking(move || ypogeion_offsite::spool::tidy(&spool, SPOOL_LIFE)).await {
            Ok(Ok(())) => {}
            Ok(Err(e)) => tracing::warn!(error = %e, "the spool could not be tidied"),
            Err(e) => tracing::warn!(error = %e, "the spool could not be tidied"),
        }
        if let Err(e) = note_exposure(&engine).await {
            tracing::warn!(error = %chain(&e), "how exposed the house is could not be noted");
        }
        if let Err(e) = remove_expired(&engine).await {
            tracing::warn!(error = %chain(&e), "expired uploads could not be removed");
        }
        tokio::time::sleep(Duration::from_secs(3600)).await;
    }
}

async fn note_exposure(engine: &Arc<Engine>) -> Result<()> {
    let depths = engine.catalog.depths(None, engine.proven_since()).await?;
    Ok(engine.catalog.note_exposure(&depths, engine.now()).await?)
}

async fn remove_expired(engine: &Arc<Engine>) -> Result<()> {
    for id in engine.catalog.expired_uploads(engine.now()).await? {
        // One that is being written to right now is not as old as it looks.
        if let Some(_writing) = engine.busy.take(id) {
            landing::discard(engine, id).await?;
        }
    }
    Ok(())
}
