//! Runs as people see them.

use actix_web::{get, web};
use serde::Deserialize;
use utoipa::IntoParams;
use uuid::Uuid;
use ypogeion_catalog::runs::{RunState, RunView};
use ypogeion_core::{DeviceId, RunId};
use ypogeion_wire::run::{Run, RunCounts, RunEntries, RunEntry};

use crate::{app::App, caller::Caller, failure::Answer};

/// A run for the wire.
pub fn view(run: RunView) -> Run {
    Run {
        id: run.id,
        device: run.device,
        device_name: run.device_name,
        began_at: run.began_at,
        ended_at: run.ended_at,
        state: match run.state {
            RunState::Running => "running",
            RunState::Complete => "complete",
            RunState::Partly => "partly",
            RunState::Halted => "halted",
            RunState::BrokenOff => "broken-off",
        }
        .to_owned(),
        halted: run.halted,
        counts: RunCounts {
            checked: run.counts.checked,
            sent: run.counts.sent,
            present: run.counts.present,
            skipped: run.counts.skipped,
            failed: run.counts.failed,
            bytes: run.counts.bytes,
        },
    }
}

/// Which runs.
#[derive(Deserialize, IntoParams)]
pub struct RunsQuery {
    /// Only of this device.
    device: Option<Uuid>,
    /// At most this many, up to 200.
    limit: Option<i64>,
}

/// The last runs, newest first.
#[utoipa::path(params(RunsQuery), responses((status = 200, body = Vec<Run>)))]
#[get("/api/runs")]
pub async fn list_runs(app: web::Data<App>, caller: Caller, query: web::Query<RunsQuery>) -> Answer<web::Json<Vec<Run>>> {
    let limit = query.limit.unwrap_or(50).clamp(1, 200);
    let device = match &caller {
        Caller::Device(own) => Some(own.id),
        _ => query.device.map(DeviceId),
    };
    let runs = app.catalog.runs(caller.scope()?, device, limit, app.now()).await?;
    Ok(web::Json(runs.into_iter().map(view).collect()))
}

/// Which entries.
#[derive(Deserialize, IntoParams)]
pub struct EntriesQuery {
    /// Only `sent`, `present`, `skipped` or `failed`.
    outcome: Option<String>,
    /// Pass over this many.
    offset: Option<i64>,
    /// At most this many, up to 1,000.
    limit: Option<i64>,
}

/// What a run did, file by file.
#[utoipa::path(params(EntriesQuery), responses((status = 200, body = RunEntries)))]
#[get("/api/runs/{id}/entries")]
pub async fn list_run_entries(
    app: web::Data<App>,
    caller: Caller,
    id: web::Path<Uuid>,
    query: web::Query<EntriesQuery>,
) -> Answer<web::Json<RunEntries>> {
    let (offset, limit) = (query.offset.unwrap_or(0).max(0), query.limit.unwrap_or(100).clamp(1, 1000));
    let (entries, total) = app.catalog.run_entries(RunId(*id), caller.scope()?, query.outcome.as_deref(), offset, limit).await?;
    let entries = entries
        .into_iter()
        .map(|e| RunEntry { name: e.name, source: e.source, outcome: e.outcome, reason: e.reason, size: e.size })
        .collect();
    Ok(web::Json(RunEntries { entries, total }))
}
