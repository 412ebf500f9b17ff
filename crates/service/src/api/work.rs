//! Background work and the append-only record.

use actix_web::{get, post, web};
use serde::Deserialize;
use utoipa::IntoParams;
use ypogeion_engine::{activity, live::Change};
use ypogeion_wire::work::{RecordLine, Retried, Work, WorkFault, WorkKind};

use crate::{app::App, failure::Answer};

/// How much is told.
#[derive(Deserialize, IntoParams)]
pub struct WorkQuery {
    /// At most so many faults: 100 if it is not said, up to 10,000.
    faults: Option<u16>,
}

/// Background work in numbers, and what failed.
#[utoipa::path(params(WorkQuery), responses((status = 200, body = Work)))]
#[get("/api/work")]
pub async fn list_work(app: web::Data<App>, query: web::Query<WorkQuery>) -> Answer<web::Json<Work>> {
    let kinds = app.engine.catalog.work_numbers(app.engine.now()).await?;
    let (faults, faults_in_all) = app.engine.catalog.work_faults(query.faults.unwrap_or(100).min(10_000).into()).await?;
    Ok(web::Json(Work {
        kinds: kinds
            .into_iter()
            .map(|k| WorkKind {
                kind: k.kind.word().into(),
                waiting: k.waiting,
                running: k.running,
                retrying: k.retrying,
                failed: k.failed,
            })
            .collect(),
        faults: faults
            .into_iter()
            .map(|f| WorkFault { id: f.id, kind: f.kind, about: f.about, attempts: f.attempts, error: f.error, due: f.due })
            .collect(),
        faults_in_all,
    }))
}

/// Gives failed work another chance.
#[utoipa::path(responses((status = 200, body = Retried)))]
#[post("/api/work/retry")]
pub async fn retry_work(app: web::Data<App>) -> Answer<web::Json<Retried>> {
    let count = app.engine.catalog.retry_work(app.engine.now()).await?;
    app.engine.wakeups.wake_all();
    app.engine.live.changed(&[Change::Work]);
    Ok(web::Json(Retried { count }))
}

/// Who did what, and when: the last two hundred lines, newest first. What was said several times on a day is one line.
#[utoipa::path(responses((status = 200, body = Vec<RecordLine>)))]
#[get("/api/record")]
pub async fn list_record(app: web::Data<App>) -> Answer<web::Json<Vec<RecordLine>>> {
    Ok(web::Json(activity::record(&app.engine).await?))
}
