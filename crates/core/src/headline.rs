//! The state of the house in one sentence, from the same numbers that the section through the ground is drawn with.

use chrono::{DateTime, TimeDelta, Utc};
use serde::{Deserialize, Serialize};

use crate::words::{count, counted, list, size, span};

/// The one state for the whole house, the worst true one.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum HouseState {
    /// Nothing to report.
    Well,
    /// Something is under way and needs nobody.
    Busy,
    /// No household has been set up yet.
    Setup,
    /// Somebody should look, today or tomorrow.
    Look,
    /// Something is wrong now.
    Trouble,
}

/// How many, and how large together.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Amount {
    /// Originals.
    pub count: u64,
    /// Bytes.
    pub bytes: u64,
}

/// A device as far as the headline cares.
#[derive(Clone, Debug)]
pub struct DeviceNow {
    /// As shown.
    pub name: String,
    /// Offered, wanted, and not here yet.
    pub waiting: u64,
    /// Last contact.
    pub seen_at: Option<DateTime<Utc>>,
    /// Whether a run is under way.
    pub sending: bool,
}

/// A store as far as the headline cares.
#[derive(Clone, Debug)]
pub struct StoreNow {
    /// As shown.
    pub name: String,
    /// The reason, if it was stopped for good and waits for the keeper.
    pub stopped: Option<String>,
    /// Whether its last attempt failed and it will be tried again by itself.
    pub failing: bool,
}

/// Everything that the headline is made from.
#[derive(Clone, Debug, Default)]
pub struct House {
    /// Paired devices that are not revoked.
    pub devices: Vec<DeviceNow>,
    /// Good at home.
    pub home: Amount,
    /// Confirmed by at least one store.
    pub offsite: Amount,
    /// At home and in no store.
    pub exposed: Amount,
    /// When the oldest exposed one came home.
    pub exposed_since: Option<DateTime<Utc>>,
    /// Originals whose copy at home was found bad or gone.
    pub damaged: u64,
    /// Background work that gave up.
    pub failed_work: u64,
    /// The stores.
    pub stores: Vec<StoreNow>,
    /// Deleted originals that the brake holds.
    pub braked: u64,
    /// On their way home from a store, after the house was rebuilt.
    pub coming: Amount,
    /// Why the library's disk counts as away, if it does: a sentence's second half, with its mark at the end.
    pub library_away: Option<String>,
}

/// What is said.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Headline {
    /// The lamp's colour.
    pub state: HouseState,
    /// The most exposed fact.
    pub sentence: String,
    /// The rest, in one or two more sentences.
    pub rest: String,
    /// The sentence without any name, for those who have not signed in (a lamp, a dashboard).
    pub plain: &'static str,
}

fn capitalised(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().into_iter().flat_map(char::to_uppercase).chain(letters).collect()
}

/// Exposure older than this is worth a look.
const EXPOSURE_ALLOWED: TimeDelta = TimeDelta::hours(48);
/// A device with something to send that has not been heard of for this long is worth a look.
const QUIET: TimeDelta = TimeDelta::days(7);

/// Writes the headline.
pub fn headline(house: &House, now: DateTime<Utc>) -> Headline {
    let exposure = exposure_sentence(house, now);
    let everything = format!("{} at home, {}.", counted(house.home.count, "original"), size(house.home.bytes));
    let say = |state, sentence: String, rest: String, plain| Headline { state, sentence, rest, plain };
    let waiting: u64 = house.devices.iter().map(|d| d.waiting).sum();
    let waiting_names: Vec<&str> = house.devices.iter().filter(|d| d.waiting > 0).map(|d| d.name.as_str()).collect();

    if let Some(why) = &house.library_away {
        // Before everything else: of what lies on it nothing is known now.
        return say(
            HouseState::Trouble,
            "The library’s disk is not there.".to_owned(),
            format!("{} Nothing is received until it is back; then everything goes on by itself. {exposure}", capitalised(why)),
            "The library’s disk is not there.",
        );
    }
    if house.damaged > 0 {
        let sentence = format!("{} at home can no longer be read as received.", counted(house.damaged, "original"));
        return say(HouseState::Trouble, sentence, exposure, "Some originals at home are damaged.");
    }
    if let Some(store) = house.stores.iter().find(|s| s.stopped.is_some()) {
        let reason = store.stopped.as_deref().unwrap_or_default();
        return say(
            HouseState::Trouble,
            format!("{} takes no more copies.", store.name),
            format!("{} {exposure}", ended(reason)),
            "A store takes no more copies.",
        );
    }
    if house.coming.count > 0 {
        let names: Vec<&str> = house.stores.iter().map(|s| s.name.as_str()).collect();
        let sentence = format!(
            "{} of {} are home again.",
            count(house.home.count),
            counted(house.home.count + house.coming.count, "original")
        );
        let verb = if house.coming.count == 1 { "comes" } else { "come" };
        return say(
            HouseState::Busy,
            sentence,
            format!(
                "{} more {verb} from {}, {}, the newest first.",
                count(house.coming.count),
                list(&names),
                size(house.coming.bytes)
            ),
            "Originals are coming home again.",
        );
    }
    if house.braked > 0 {
        let verb = if house.braked == 1 { "waits" } else { "wait" };
        let sentence = format!(
            "{} {verb} for your look before {} for good.",
            counted(house.braked, "deleted original"),
            if house.braked == 1 { "it goes" } else { "they go" }
        );
        return say(
            HouseState::Look,
            sentence,
            format!("So much at once may be a mistake: see Restore. {exposure}"),
            "Deleted originals wait for the keeper's look.",
        );
    }
    let overdue = house.exposed_since.filter(|since| house.exposed.count > 0 && now - *since > EXPOSURE_ALLOWED);
    if let Some(since) = overdue.filter(|_| !house.stores.is_empty()) {
        let sentence =
            format!("{} had no copy away from home for {}.", counted(house.exposed.count, "original"), span(now - since));
        return say(HouseState::Look, sentence, everything, "Some originals have had no copy elsewhere for too long.");
    }
    if let Some(quiet) = house.devices.iter().find(|d| d.waiting > 0 && !d.sending && d.seen_at.is_some_and(|s| now - s > QUIET))
    {
        let verb = if quiet.waiting == 1 { "is" } else { "are" };
        let sentence = format!("{} {verb} still only on {}.", counted(quiet.waiting, "picture"), quiet.name);
        let ago = quiet.seen_at.map(|s| span(now - s)).unwrap_or_default();
        return say(
            HouseState::Look,
            sentence,
            format!("It was last heard of {ago} ago. {exposure}"),
            "A device has been quiet for too long.",
        );
    }
    if house.home.count > 0 && house.stores.is_empty() {
        let sentence = "Nothing has a copy away from home yet.".to_owned();
        return say(
            HouseState::Look,
            sentence,
            format!("{everything} Add a store, so that a fire or a thief cannot take the only copy."),
            "Nothing has a copy away from home yet.",
        );
    }
    if house.failed_work > 0 {
        let sentence = format!("{} could not be finished.", counted(house.failed_work, "background task"));
        return say(
            HouseState::Look,
            sentence,
            format!("The reasons are under Activity. {exposure}"),
            "Some background work could not be finished.",
        );
    }
    if let Some(store) = house.stores.iter().find(|s| s.failing).filter(|_| house.exposed.count > 0) {
        let sentence = format!("{} does not answer as it should; trying again.", store.name);
        return say(HouseState::Busy, sentence, exposure, "A store is being tried again.");
    }
    if waiting > 0 {
        let verb = if waiting == 1 { "is" } else { "are" };
        let sentence = format!("{} {verb} still only on {}.", counted(waiting, "picture"), list(&waiting_names));
        return say(HouseState::Busy, sentence, exposure, "Pictures are still to be received.");
    }
    if house.exposed.count > 0 {
        let verb = if house.exposed.count == 1 { "is on its" } else { "are on their" };
        let names: Vec<&str> = house.stores.iter().map(|s| s.name.as_str()).collect();
        let sentence = format!("{} {verb} way to {}.", counted(house.exposed.count, "original"), list(&names));
        return say(HouseState::Busy, sentence, everything, "Copies are on their way offsite.");
    }
    if house.home.count == 0 {
        let (sentence, rest) = if house.devices.is_empty() {
            ("Nothing is here yet.", "Pair a first device, and its pictures will come home.")
        } else {
            ("Nothing has been sent yet.", "A device is paired; its first backup will show here.")
        };
        return say(HouseState::Well, sentence.to_owned(), rest.to_owned(), "Nothing is here yet.");
    }
    say(HouseState::Well, "Everything is safe, at home and away.".to_owned(), everything, "Everything is safe.")
}

fn exposure_sentence(house: &House, now: DateTime<Utc>) -> String {
    match (house.exposed.count, house.exposed_since) {
        (0, _) if house.home.count == 0 => String::new(),
        (0, _) => "Everything at home has a copy elsewhere.".to_owned(),
        (n, since) => {
            let verb = if n == 1 { "has" } else { "have" };
            let oldest = since.map(|s| format!(", the oldest for {}", span(now - s))).unwrap_or_default();
            format!("{} {verb} no copy elsewhere yet{oldest}.", count(n))
        }
    }
}

fn ended(sentence: &str) -> String {
    let sentence = sentence.trim().trim_end_matches('.');
    if sentence.is_empty() { String::new() } else { format!("{sentence}.") }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn now() -> DateTime<Utc> {
        DateTime::UNIX_EPOCH + TimeDelta::days(20_000)
    }

    fn well() -> House {
        let all = Amount { count: 27_412, bytes: 398_000_000_000 };
        House {
            devices: vec![DeviceNow { name: "Juno’s phone".into(), waiting: 0, seen_at: Some(now()), sending: false }],
            home: all,
            offsite: all,
            stores: vec![StoreNow { name: "North Quay".into(), stopped: None, failing: false }],
            ..House::default()
        }
    }

    fn exposed(mut house: House, count: u64, hours: i64) -> House {
        house.exposed = Amount { count, bytes: count * 1000 };
        house.exposed_since = Some(now() - TimeDelta::hours(hours));
        house
    }

    #[test]
    fn when_all_is_well_it_says_so_and_stops() {
        let said = headline(&well(), now());
        assert_eq!((said.state, said.sentence.as_str()), (HouseState::Well, "Everything is safe, at home and away."));
        assert_eq!(said.rest, "27,412 originals at home, 398 GB.");
    }

    #[test]
    fn a_quiet_phone_with_pictures_comes_before_the_usual_backlog() {
        let mut house = exposed(well(), 212, 3);
        house.devices.push(DeviceNow {
            name: "Piet’s phone".into(),
            waiting: 31,
            seen_at: Some(now() - TimeDelta::days(9)),
            sending: false,
        });
        let said = headline(&house, now());
        assert_eq!((said.state, said.sentence.as_str()), (HouseState::Look, "31 pictures are still only on Piet’s phone."));
        assert_eq!(said.rest, "It was last heard of 9 days ago. 212 have no copy elsewhere yet, the oldest for 3 hours.");
    }

    #[test]
    fn the_worst_true_state_wins() {
        let mut house = exposed(well(), 1, 72);
        assert_eq!(headline(&house, now()).state, HouseState::Look);
        assert_eq!(headline(&house, now()).sentence, "1 original had no copy away from home for 3 days.");
        house.stores[0].stopped = Some("The access key was refused".into());
        let said = headline(&house, now());
        assert_eq!((said.state, said.sentence.as_str()), (HouseState::Trouble, "North Quay takes no more copies."));
        assert!(said.rest.starts_with("The access key was refused. "));
        house.damaged = 2;
        assert_eq!(headline(&house, now()).sentence, "2 originals at home can no longer be read as received.");
    }

    #[test]
    fn a_house_that_comes_back_says_how_far_it_is() {
        let house = House { coming: Amount { count: 412, bytes: 2_000_000_000 }, ..exposed(well(), 0, 0) };
        let said = headline(&house, now());
        assert_eq!((said.state, said.sentence.as_str()), (HouseState::Busy, "27,412 of 27,824 originals are home again."));
        assert_eq!(said.rest, "412 more come from North Quay, 2.0 GB, the newest first.");
    }

    #[test]
    fn what_the_brake_holds_is_worth_a_look() {
        let house = House { braked: 120, ..exposed(well(), 1, 3) };
        let said = headline(&house, now());
        assert_eq!(said.state, HouseState::Look);
        assert_eq!(said.sentence, "120 deleted originals wait for your look before they go for good.");
        let one = headline(&House { braked: 1, ..well() }, now());
        assert_eq!(one.sentence, "1 deleted original waits for your look before it goes for good.");
    }

    #[test]
    fn with_no_store_nothing_is_called_safe() {
        let house = House { stores: vec![], ..exposed(well(), 27_412, 100) };
        assert_eq!(headline(&house, now()).state, HouseState::Look);
        assert_eq!(headline(&house, now()).sentence, "Nothing has a copy away from home yet.");
    }

    #[test]
    fn a_backlog_is_busy_not_alarming() {
        assert_eq!(headline(&exposed(well(), 212, 3), now()).sentence, "212 originals are on their way to North Quay.");
        assert_eq!(headline(&exposed(well(), 1, 3), now()).state, HouseState::Busy);
    }

    #[test]
    fn nothing_that_names_anybody_is_said_to_strangers() {
        let mut house = exposed(well(), 212, 3);
        house.devices[0].waiting = 4;
        let said = headline(&house, now());
        assert!(said.sentence.contains("Juno") && !said.plain.contains("Juno"));
    }

    #[test]
    fn an_empty_house_is_told_the_next_step() {
        assert!(headline(&House::default(), now()).rest.contains("Pair a first device"));
    }
}
