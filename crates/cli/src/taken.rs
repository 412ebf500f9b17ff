//! When and where pictures were taken, as somebody says it from a terminal.

use std::{fs, path::PathBuf};

use chrono::{NaiveDate, NaiveDateTime, NaiveTime};
use clap::Args;
use ypogeion_core::{OriginalId, words::counted};
use ypogeion_wire::{
    choosing::Marked,
    given::{Along, AlongTrack, SayWhen, SayWhere},
};

use crate::{
    commands::{Context, DONE, Person, Result, agreed, usage},
    find::{AT_ONCE, with_times},
    words::told,
};

#[derive(Args)]
pub struct Taken {
    #[command(flatten)]
    person: Person,
    /// The oldest of them was taken then; the others keep their distance from it. `1987-07-14 15:00`, or a day alone: then at the same time of day.
    #[arg(long, value_name = "TIME", value_parser = moment, conflicts_with = "time_as_before")]
    on: Option<Moment>,
    /// Let what was known of the time before anybody said anything count again.
    #[arg(long)]
    time_as_before: bool,
    /// They were taken there: degrees north and east, `52.158,4.486`.
    #[arg(long, value_name = "NORTH,EAST", value_parser = place, allow_hyphen_values = true, conflicts_with_all = ["nowhere", "place_as_in_file"])]
    at: Option<(f64, f64)>,
    /// They were taken where somebody was then, by this track (GPX). Those that have a place keep it.
    #[arg(long, value_name = "FILE", conflicts_with_all = ["at", "nowhere", "place_as_in_file"])]
    track: Option<PathBuf>,
    /// They have no place, whatever their files say.
    #[arg(long, conflicts_with = "place_as_in_file")]
    nowhere: bool,
    /// Let the place that the files say count again.
    #[arg(long)]
    place_as_in_file: bool,
    /// Do not ask, however many pictures are found.
    #[arg(long)]
    yes: bool,
    /// What is looked for, as with "ypogeion find".
    #[arg(required = true, value_name = "WORD")]
    find: Vec<String>,
}

/// A day, perhaps with a time of day.
#[derive(Clone, Copy, Debug, PartialEq)]
struct Moment(NaiveDate, Option<NaiveTime>);

fn moment(text: &str) -> std::result::Result<Moment, String> {
    let (day, time) = text.trim().split_once([' ', 'T']).map_or((text.trim(), None), |(day, time)| (day, Some(time.trim())));
    let odd = || "a time is written like \"1987-07-14 15:00\", or \"1987-07-14\"".to_owned();
    let day = NaiveDate::parse_from_str(day, "%Y-%m-%d").map_err(|_| odd())?;
    let read = |time: &str| NaiveTime::parse_from_str(time, "%H:%M:%S").or_else(|_| NaiveTime::parse_from_str(time, "%H:%M"));
    Ok(Moment(day, time.map(read).transpose().map_err(|_| odd())?))
}

fn place(text: &str) -> std::result::Result<(f64, f64), String> {
    let number = |part: &str| part.trim().parse::<f64>().ok().filter(|n| n.is_finite());
    let at = text.split_once(',').and_then(|(north, east)| number(north).zip(number(east)));
    at.ok_or_else(|| "a place is written like 52.158,4.486: degrees north and east".to_owned())
}

/// By how many seconds the oldest was taken later than what is known.
fn later(oldest: NaiveDateTime, Moment(day, time): Moment) -> i64 {
    (day.and_time(time.unwrap_or(oldest.time())) - oldest).num_seconds()
}

/// Says when or where the pictures were taken that a line finds.
pub async fn say(context: &Context, taken: Taken) -> Result {
    let (times, places) =
        (taken.on.is_some() || taken.time_as_before, taken.at.is_some() || taken.nowhere || taken.place_as_in_file);
    if !times && !places && taken.track.is_none() {
        return Err(usage("give --on, --at, --track, --nowhere, --time-as-before, or --place-as-in-file"));
    }
    let track = taken.track.as_ref().map(|file| fs::read_to_string(file).map_err(|e| usage(format!("{}: {e}", file.display()))));
    let track = track.transpose()?;
    let session = taken.person.sign_in(context).await?;
    let done = async {
        let found = with_times(&session, &taken.find.join(" "), None).await?;
        let pictures: Vec<OriginalId> = found.iter().map(|p| p.id).collect();
        let what = match (times, places || track.is_some()) {
            (true, true) => "when and where",
            (true, false) => "when",
            _ => "where",
        };
        let asks = format!("This changes {what} {} were taken.", counted(pictures.len() as u64, "picture"));
        if pictures.len() > 1 && !agreed(taken.yes, context.json, &asks, "change it")? {
            return Ok(DONE);
        }
        let by = taken.on.zip(found.iter().map(|p| p.taken_local).min()).map(|(on, oldest)| later(oldest, on));
        let mut count = 0;
        for some in pictures.chunks(AT_ONCE) {
            let mut here = 0;
            if places {
                let (at, nowhere, as_in_file) = (taken.at, taken.nowhere, taken.place_as_in_file);
                let form = SayWhere { pictures: some.to_vec(), at, nowhere, as_in_file };
                here = session.post::<Marked>("api/places", &form).await?.count;
            }
            // What is of that time already stays.
            if taken.time_as_before || by.is_some_and(|by| by != 0) {
                let form = SayWhen { pictures: some.to_vec(), later_by: by, as_before: taken.time_as_before };
                here = session.post::<Marked>("api/times", &form).await?.count;
            } else if times {
                here = some.len() as u64;
            }
            // By the times that they have now.
            if let Some(gpx) = &track {
                let form = AlongTrack {
                    pictures: some.to_vec(),
                    gpx: gpx.clone(),
                    also_placed: false,
                    taken_meanwhile: false,
                    only_say: false,
                };
                here = session.post::<Along>("api/places/track", &form).await?.count;
            }
            count += here;
        }
        told(context, &pictures, count, "changed");
        Ok(DONE)
    }
    .await;
    session.end().await;
    done
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("1987-07-14 15:00", Some("1987-07-14 15:00:00"))]
    #[case("1987-07-14T15:00:30", Some("1987-07-14 15:00:30"))]
    #[case(" 1987-07-14 ", Some("1987-07-14 12:20:07"))]
    #[case("1987-02-30", None)]
    #[case("14.7.1987", None)]
    #[case("1987-07-14 25:00", None)]
    #[case("", None)]
    fn times_are_read(#[case] text: &str, #[case] expected: Option<&str>) {
        let oldest: NaiveDateTime = "2026-04-12T12:20:07".parse().unwrap();
        let read = moment(text).ok().map(|m| (oldest + chrono::TimeDelta::seconds(later(oldest, m))).to_string());
        assert_eq!(read.as_deref(), expected);
    }

    #[rstest]
    #[case("52.158,4.486", Some((52.158, 4.486)))]
    #[case("-16.9, -180", Some((-16.9, -180.0)))]
    #[case("52.158", None)]
    #[case("north,east", None)]
    #[case("NaN,inf", None)]
    fn places_are_read(#[case] text: &str, #[case] expected: Option<(f64, f64)>) {
        assert_eq!(place(text).ok(), expected);
    }
}
