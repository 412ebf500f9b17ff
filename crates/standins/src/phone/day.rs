//! A day in the life of a phone, as a file: what happens, and when.
//!
//! ```toml
//! [[event]]
//! at = "07:30"
//! what = "unplug"
//!
//! [[event]]
//! at = "08:10"
//! what = "take"
//! album = "Camera"
//! count = 3
//! ```

use chrono::NaiveTime;
use serde::Deserialize;
use ypogeion_core::condition::Network;

/// What can happen to a phone.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Event {
    /// So many pictures are taken into an album.
    Take {
        /// The album.
        album: String,
        /// How many.
        count: u32,
    },
    /// So many videos are taken into an album.
    Film {
        /// The album.
        album: String,
        /// How many.
        count: u32,
    },
    /// The last picture of an album is edited.
    Edit {
        /// The album.
        album: String,
    },
    /// The first picture of an album is deleted.
    Delete {
        /// The album.
        album: String,
    },
    /// The charger is plugged in, or out.
    Plug(bool),
    /// Another network, or none.
    Join {
        /// Which.
        network: Network,
        /// Whether it is the one at home.
        at_home: bool,
    },
    /// The owner taps "back up now".
    BackUp,
    /// The owner makes room.
    MakeRoom,
}

/// The events of a day, in order.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Day(pub Vec<(NaiveTime, Event)>);

/// Why a file does not tell a day.
#[derive(Debug, thiserror::Error)]
pub enum BadDay {
    /// It is not understood.
    #[error("the day is not understood: {0}")]
    Syntax(#[from] toml::de::Error),
    /// An event is not understood.
    #[error("the event at {at} is not understood: {why}")]
    Event {
        /// When.
        at: String,
        /// Why not.
        why: String,
    },
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawDay {
    #[serde(default)]
    event: Vec<RawEvent>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawEvent {
    at: String,
    what: String,
    #[serde(default)]
    album: Option<String>,
    #[serde(default)]
    count: Option<u32>,
}

impl Day {
    /// Reads a day. Events have to be in the order of time.
    pub fn parse(text: &str) -> Result<Self, BadDay> {
        let raw: RawDay = toml::from_str(text)?;
        let mut events: Vec<(NaiveTime, Event)> = Vec::new();
        for e in raw.event {
            let bad = |why: String| BadDay::Event { at: e.at.clone(), why };
            let at = NaiveTime::parse_from_str(&e.at, "%H:%M").map_err(|_| bad("a time is written 07:30".into()))?;
            if events.last().is_some_and(|(before, _)| *before > at) {
                return Err(bad("it comes before the one above it".into()));
            }
            let album = || e.album.clone().unwrap_or_else(|| "Camera".into());
            let count = e.count.unwrap_or(1);
            let event = match e.what.as_str() {
                "take" => Event::Take { album: album(), count },
                "film" => Event::Film { album: album(), count },
                "edit" => Event::Edit { album: album() },
                "delete" => Event::Delete { album: album() },
                "plug" => Event::Plug(true),
                "unplug" => Event::Plug(false),
                "home" => Event::Join { network: Network::Wifi, at_home: true },
                "elsewhere" => Event::Join { network: Network::Wifi, at_home: false },
                "mobile" => Event::Join { network: Network::Mobile, at_home: false },
                "no network" => Event::Join { network: Network::None, at_home: false },
                "back up" => Event::BackUp,
                "make room" => Event::MakeRoom,
                other => return Err(bad(format!("nothing is called {other:?}"))),
            };
            events.push((at, event));
        }
        Ok(Day(events))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_day_is_read_in_order() {
        let text = "[[event]]\nat = '07:30'\nwhat = 'unplug'\n[[event]]\nat = '08:10'\nwhat = 'take'\ncount = 3\n";
        let Day(events) = Day::parse(text).unwrap();
        assert_eq!(events[1].1, Event::Take { album: "Camera".into(), count: 3 });
        for wrong in [
            "[[event]]\nat='late'\nwhat='plug'",
            "[[event]]\nat='08:00'\nwhat='dance'",
            "[[event]]\nat='09:00'\nwhat='plug'\n[[event]]\nat='08:00'\nwhat='plug'",
            "[[event]]\nwhat='plug'",
        ] {
            assert!(Day::parse(wrong).is_err(), "{wrong}");
        }
    }
}
