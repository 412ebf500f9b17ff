//! Runs as people see them.

use actix_web::{HttpResponse, get, web};
use chrono::NaiveDate;
use futures_util::stream;
use serde::Deserialize;
use utoipa::IntoParams;
use uuid::Uuid;
use ypogeion_core::{DeviceId, RunId};
use ypogeion_engine::activity;
use ypogeion_wire::run::{Run, RunEntries, RunEntry};

use crate::{
    app::App,
    caller::Caller,
    failure::{Answer, Failure},
};

/// Which runs.
#[derive(Deserialize, IntoParams)]
pub struct RunsQuery {
    /// Only of this device.
    device: Option<Uuid>,
    /// Only of this day, by the server's clock; then the device has to be said, and all of that day are told.
    day: Option<NaiveDate>,
    /// Tell those of a device and day that found nothing new as one.
    #[serde(default)]
    folded: bool,
    /// At most this many, up to 200.
    limit: Option<usize>,
}

/// The last runs, newest first.
#[utoipa::path(params(RunsQuery), responses((status = 200, body = Vec<Run>)))]
#[get("/api/runs")]
pub async fn list_runs(app: web::Data<App>, caller: Caller, query: web::Query<RunsQuery>) -> Answer<web::Json<Vec<Run>>> {
    let device = caller.own_device().or(query.device.map(DeviceId));
    let runs = match (query.day, device) {
        (Some(day), Some(device)) => activity::runs_of_day(&app.engine, caller.scope()?, device, day).await?,
        (Some(_), None) => return Err(Failure::bad("A day is asked for together with a device.")),
        (None, _) => {
            let limit = query.limit.unwrap_or(50).clamp(1, 200);
            activity::runs(&app.engine, caller.scope()?, device, limit, query.folded).await?
        }
    };
    Ok(web::Json(runs))
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
    let (entries, total) = app
        .engine
        .catalog
        .run_entries(RunId(*id), caller.scope()?, caller.own_device(), query.outcome.as_deref(), offset, limit)
        .await?;
    let entries = entries
        .into_iter()
        .map(|e| RunEntry { name: e.name, source: e.source, outcome: e.outcome, reason: e.reason, size: e.size })
        .collect();
    Ok(web::Json(RunEntries { entries, total }))
}

const EXPORTED_AT_ONCE: i64 = 1000;

/// The log of a run as a table for a spreadsheet (CSV, RFC 4180), every file that was not simply there.
#[utoipa::path(responses((status = 200, content_type = "text/csv", body = String)))]
#[get("/api/runs/{id}/entries.csv")]
pub async fn export_run_entries(app: web::Data<App>, caller: Caller, id: web::Path<Uuid>) -> Answer<HttpResponse> {
    let (app, run, scope, device) = (app.into_inner(), RunId(*id), caller.scope()?, caller.own_device());
    // Asked once before anything is sent: a run that is somebody else's is not an empty table.
    app.engine.catalog.run_entries(run, scope, device, None, 0, 1).await?;
    let head = web::Bytes::from_static(b"outcome,source,name,bytes,reason\r\n");
    let pages = stream::try_unfold((0i64, Some(head)), move |(offset, head)| {
        let app = std::sync::Arc::clone(&app);
        async move {
            if let Some(head) = head {
                return Ok::<_, Failure>(Some((head, (0, None))));
            }
            let (entries, _) = app.engine.catalog.run_entries(run, scope, device, None, offset, EXPORTED_AT_ONCE).await?;
            if entries.is_empty() {
                return Ok(None);
            }
            let lines: String = entries
                .iter()
                .map(|e| {
                    let reason = e.reason.as_deref().unwrap_or_default();
                    format!("{},{},{},{},{}\r\n", e.outcome, cell(&e.source), cell(&e.name), e.size, cell(reason))
                })
                .collect();
            Ok(Some((web::Bytes::from(lines), (offset + entries.len() as i64, None))))
        }
    });
    Ok(HttpResponse::Ok()
        .content_type("text/csv; charset=utf-8")
        .insert_header(("Content-Disposition", "attachment; filename=\"run.csv\""))
        .streaming(pages))
}

/// A quoted cell. Names come from devices: what a spreadsheet would take for a formula gets an apostrophe in front, which
/// spreadsheets do not show.
fn cell(text: &str) -> String {
    let apostrophe = if text.starts_with(['=', '+', '-', '@', '\t', '\r']) { "'" } else { "" };
    format!("\"{apostrophe}{}\"", text.replace('"', "\"\""))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn cells_are_quoted_and_run_nothing() {
        assert_eq!(cell("kite, red.jpg"), "\"kite, red.jpg\"");
        assert_eq!(cell("say \"kite\".jpg"), "\"say \"\"kite\"\".jpg\"");
        assert_eq!(cell("=HYPERLINK(\"x\")"), "\"'=HYPERLINK(\"\"x\"\")\"");
    }
}
