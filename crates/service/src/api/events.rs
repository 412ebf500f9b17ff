//! Server-sent events (HTML Living Standard, 9.2).

use std::time::Duration;

use actix_web::{HttpResponse, get, web};
use futures_util::stream;
use ypogeion_core::access::Role;
use ypogeion_engine::live::Heard;
use ypogeion_wire::{problem::ProblemType, work::LiveEvent};

use crate::{
    app::App,
    caller::Caller,
    failure::{Answer, Failure},
};

/// Keeps proxies and phones from closing a quiet connection.
const BEAT: Duration = Duration::from_secs(25);

/// Too much changed at once: the listener is told that everything may have.
const EVERYTHING: [LiveEvent; 7] = [
    LiveEvent::Overview,
    LiveEvent::Library,
    LiveEvent::Devices { ids: Vec::new() },
    LiveEvent::Runs,
    LiveEvent::Offsite,
    LiveEvent::Work,
    LiveEvent::Record,
];

/// What changes, as it changes. Events say what changed; listeners ask for that themselves. Everybody hears of what they may see.
#[utoipa::path(responses((status = 200, content_type = "text/event-stream", body = LiveEvent)))]
#[get("/api/events")]
pub async fn events(app: web::Data<App>, caller: Caller) -> Answer<HttpResponse> {
    let too_many = || Failure::new(ProblemType::TooMany, "Too many pages of this house are open; close some of them.");
    let listener = app.engine.live.listen(caller.owner()?, caller.role() == Role::Keeper);
    let (heard, live) = (listener.ok_or_else(too_many)?, app.engine.live.clone());
    let lines = stream::unfold((heard, live, true), |(mut heard, live, first)| async move {
        if first {
            return Some((Ok::<_, actix_web::Error>(web::Bytes::from_static(b"retry: 2000\n\n")), (heard, live, false)));
        }
        let next = tokio::select! {
            next = tokio::time::timeout(BEAT, heard.hear()) => next,
            () = live.stopped() => return None,
        };
        let line = match next {
            Err(_) => ": still here\n\n".to_owned(),
            Ok(Heard::Event(event)) => line(&event),
            Ok(Heard::TooMuch) => EVERYTHING.iter().map(line).collect(),
            Ok(Heard::End) => return None,
        };
        Some((Ok(web::Bytes::from(line)), (heard, live, false)))
    });
    Ok(HttpResponse::Ok()
        .content_type("text/event-stream")
        .insert_header(("Cache-Control", "no-store"))
        .insert_header(("X-Accel-Buffering", "no"))
        .streaming(lines))
}

fn line(event: &LiveEvent) -> String {
    let data = serde_json::to_value(event).unwrap_or_default();
    format!("event: {}\ndata: {data}\n\n", data["kind"].as_str().unwrap_or("overview"))
}
