//! A store's week, between the wire and the rules.

use chrono::{NaiveTime, Weekday};
use ypogeion_core::{
    condition::Hours,
    window::{Pace, Week, Window},
};
use ypogeion_wire::offsite::{StorePace, StoreWeek, StoreWindow};

use crate::error::{Error, Result};

const DAYS: [(&str, Weekday); 7] = [
    ("mon", Weekday::Mon),
    ("tue", Weekday::Tue),
    ("wed", Weekday::Wed),
    ("thu", Weekday::Thu),
    ("fri", Weekday::Fri),
    ("sat", Weekday::Sat),
    ("sun", Weekday::Sun),
];

/// A pace for the wire.
pub fn pace(pace: Pace) -> StorePace {
    let (may, rate) = match pace {
        Pace::Rest => ("rest", None),
        Pace::Limited { rate } => ("limited", Some(rate)),
        Pace::Full => ("full", None),
    };
    StorePace { may: may.into(), rate }
}

/// A week for the wire.
pub fn told(week: &Week) -> StoreWeek {
    let day = |d: &Weekday| DAYS.iter().find(|(_, day)| day == d).map(|(word, _)| (*word).to_owned());
    let time = |t: NaiveTime| t.format("%H:%M").to_string();
    let window = |w: &Window| StoreWindow {
        days: w.days.iter().filter_map(day).collect(),
        from: time(w.hours.from),
        until: time(w.hours.until),
        pace: pace(w.pace),
    };
    StoreWeek { windows: week.windows.iter().map(window).collect(), otherwise: pace(week.otherwise) }
}

fn understood(pace: &StorePace) -> Result<Pace> {
    match (pace.may.as_str(), pace.rate) {
        ("rest", _) => Ok(Pace::Rest),
        ("full", _) => Ok(Pace::Full),
        ("limited", Some(rate)) => Ok(Pace::Limited { rate }),
        _ => Err(Error::invalid("What may leave is \"rest\", \"full\", or \"limited\" with a rate.")),
    }
}

/// A week from the wire, checked.
pub fn read(week: &StoreWeek) -> Result<Week> {
    let time = |text: &str| {
        NaiveTime::parse_from_str(text, "%H:%M")
            .map_err(|_| Error::invalid(format!("{text:?} is not a time of day such as 23:00.")))
    };
    let day = |word: &String| {
        let found = DAYS.iter().find(|(w, _)| w == word).map(|(_, day)| *day);
        found.ok_or_else(|| Error::invalid("Days are \"mon\", \"tue\", \"wed\", \"thu\", \"fri\", \"sat\" and \"sun\"."))
    };
    let window = |w: &StoreWindow| -> Result<Window> {
        Ok(Window {
            days: w.days.iter().map(day).collect::<Result<_>>()?,
            hours: Hours { from: time(&w.from)?, until: time(&w.until)? },
            pace: understood(&w.pace)?,
        })
    };
    let week = Week { windows: week.windows.iter().map(window).collect::<Result<_>>()?, otherwise: understood(&week.otherwise)? };
    week.check().map_err(|e| Error::invalid(format!("These hours cannot be used: {e}.")))?;
    Ok(week)
}
