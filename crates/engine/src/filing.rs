//! Filing plans as the keeper chooses them, and taking a choice back. What moves the files is [`crate::work`].

use uuid::Uuid;
use ypogeion_catalog::{CatalogError, refilings};
use ypogeion_core::{
    OriginalName,
    filing::{FiledPath, FilingPlan},
    state::RefilingState,
};
use ypogeion_wire::filing::{PlanPreview, PlannedMove, Refiling, RefilingOrder};

use crate::{
    engine::Engine,
    error::{Error, Result},
    live::Change,
    renaming::filed,
};

const PAGE: i64 = 2000;
const EXAMPLES: usize = 24;
/// The last re-filings are told.
const TOLD: i64 = 20;

fn plan(text: &str) -> Result<FilingPlan> {
    FilingPlan::parse(text).map_err(|e| Error::invalid(format!("This filing plan cannot be used: {e}.")))
}

fn view(r: refilings::Refiling) -> Refiling {
    Refiling {
        id: r.id,
        plan: r.plan,
        before: r.before,
        undoes: r.undoes,
        made_by: r.made_by,
        began_at: r.began_at,
        ended_at: r.ended_at,
        state: r.state,
        total: r.total,
        looked: r.looked,
        moved: r.moved,
        failed: r.failed,
    }
}

/// Says what a plan would do, with real names. Changes nothing.
pub async fn preview(engine: &Engine, wanted: &str) -> Result<PlanPreview> {
    let plan = plan(wanted)?;
    let (mut total, mut moves, mut examples, mut after) = (0u64, 0u64, Vec::new(), None);
    loop {
        let page = engine.catalog.to_file(after, PAGE).await?;
        let Some(last) = page.last() else { break };
        after = Some(last.id);
        for of in &page {
            total += 1;
            let name = OriginalName::from_device(&of.name);
            let place = filed(of, &name);
            if FiledPath::parse(&of.path).is_ok_and(|path| plan.agrees(&place, &path)) {
                continue;
            }
            moves += 1;
            // The first ones, then fewer and fewer: examples from all over, in one pass and little memory.
            if let Some(to) = plan.places(&place).next().filter(|_| examples.len() < EXAMPLES / 2 || moves.is_power_of_two()) {
                examples.push(PlannedMove { from: of.path.clone(), to: to.into() });
            }
        }
    }
    examples.truncate(EXAMPLES);
    Ok(PlanPreview { plan: plan.pattern().to_owned(), total, moves, examples })
}

async fn one(engine: &Engine, id: Uuid) -> Result<refilings::Refiling> {
    engine.catalog.refilings(Some(id), 1).await?.pop().ok_or(Error::NotFound)
}

/// Files the library by another plan, in the background. What arrives from now on is filed by it, too.
pub async fn begin(engine: &Engine, who: &str, wanted: &str) -> Result<Refiling> {
    let plan = plan(wanted)?;
    begin_by(engine, who, plan.pattern(), None).await
}

async fn begin_by(engine: &Engine, who: &str, plan: &str, undoes: Option<Uuid>) -> Result<Refiling> {
    let id = Uuid::now_v7();
    match engine.catalog.begin_refiling(id, plan, undoes, who, engine.now()).await {
        Err(CatalogError::Taken) => {
            let words = "The library is being filed already. Wait for that, or stop it first.";
            return Err(Error::NotNow(words.to_owned()));
        }
        other => other?,
    }
    engine.catalog.write_record(engine.now(), who, &format!("began to file the library by {plan}")).await?;
    engine.live.changed(&[Change::Work, Change::Library]);
    Ok(view(one(engine, id).await?))
}

/// The last re-filings, newest first.
pub async fn list(engine: &Engine) -> Result<Vec<Refiling>> {
    Ok(engine.catalog.refilings(None, TOLD).await?.into_iter().map(view).collect())
}

/// Pauses a re-filing, lets it go on, stops it, or takes it back: that is a new one.
pub async fn change(engine: &Engine, who: &str, id: Uuid, order: RefilingOrder) -> Result<Refiling> {
    use RefilingState::{Paused, Running, Stopped};
    let (now, there) = (engine.now(), one(engine, id).await?);
    let set = async |from: &[RefilingState], to| engine.catalog.set_refiling_state(id, from, to, now).await;
    let changed = match order {
        RefilingOrder::Pause => set(&[Running], Paused).await?,
        RefilingOrder::Resume => set(&[Paused], Running).await?,
        RefilingOrder::Stop => set(&[Running, Paused], Stopped).await?,
        RefilingOrder::Undo => {
            set(&[Running, Paused], Stopped).await?;
            return begin_by(engine, who, &there.before, Some(id)).await;
        }
    };
    if !changed {
        return Err(Error::invalid(format!("This re-filing is {}; that cannot be done with it.", there.state)));
    }
    engine.live.changed(&[Change::Work, Change::Library]);
    Ok(view(one(engine, id).await?))
}
