//! The state of the house in one sentence, from the same numbers that the section through the ground is drawn with.

use chrono::{DateTime, NaiveDate, TimeDelta, Utc};

use crate::{
    amount::Amount,
    state::{HouseState, KitWorth},
    words::{count, counted, list, size, span},
};

/// A device as far as the headline cares.
#[derive(Clone, Debug, Default)]
pub struct DeviceNow {
    /// As shown.
    pub name: String,
    /// Offered, wanted, and not here yet.
    pub waiting: u64,
    /// Offered, refused, and not here: they are on the device alone.
    pub refused: u64,
    /// Why, of the latest: a sentence without its end.
    pub refused_why: Option<String>,
    /// Could not be read on the device in its last run.
    pub unread: u64,
    /// Last contact.
    pub seen_at: Option<DateTime<Utc>>,
    /// The longest that it usually is silent, if it has a habit: see [`habit`].
    pub usual: Option<TimeDelta>,
    /// Whether a run is under way.
    pub sending: bool,
    /// When its credential ends because nobody used it, or ended; none: not soon.
    pub ends_at: Option<DateTime<Utc>>,
}

/// A store as far as the headline cares.
#[derive(Clone, Debug, Default)]
pub struct StoreNow {
    /// As shown.
    pub name: String,
    /// The reason, if it was stopped for good and waits for the keeper.
    pub stopped: Option<String>,
    /// Whether its last attempt failed and it will be tried again by itself.
    pub failing: bool,
    /// A disk that is connected now and then.
    pub disk: bool,
}

/// The last check of a place, if it could not be done or found something.
#[derive(Clone, Debug)]
pub struct CheckNow {
    /// The place, as shown.
    pub place: String,
    /// `reading`, `listing` or `drill`.
    pub check: String,
    /// What it said.
    pub said: String,
}

/// Originals that nobody can look at, because the disk that they were left on is not connected.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct OutOfReach {
    /// The folder in which they were left; none: that is not this reader's to know.
    pub folder: Option<String>,
    /// Further ones.
    pub more: u64,
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
    /// Deleted originals that the safety stop holds.
    pub held_back: u64,
    /// On their way home from a store, after the house was rebuilt.
    pub coming: Amount,
    /// Why the library's disk counts as away, if it does: a sentence's second half, with its mark at the end.
    pub library_away: Option<String>,
    /// A folder outside the library, in which originals were left, that is empty or not there.
    pub out_of_reach: Option<OutOfReach>,
    /// Bytes of room above the reserve; none: nobody can say, which the disk's being away explains.
    pub room: Option<u64>,
    /// Checks whose last round could not be done.
    pub failed_checks: Vec<CheckNow>,
    /// What the recovery kit is worth; none: it is not this reader's to see to.
    pub kit: Option<KitWorth>,
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

/// Exposure older than this is worth a look.
const EXPOSURE_ALLOWED: TimeDelta = TimeDelta::hours(48);
/// A device with something to send that has not been heard of for this long is worth a look.
const QUIET: TimeDelta = TimeDelta::days(7);
/// Less room than this is worth a look before it is used up.
const LITTLE_ROOM: u64 = 2_000_000_000;

/// The longest that a device usually is silent, from the days on which it was heard of: none, if it was heard of on too few to have a
/// habit. Four times the usual distance between two such days, and four days at least: a phone that came daily is missed after four days,
/// a laptop that comes each Sunday after four weeks.
///
/// `days`: in any order; as many as are known of the last months.
pub fn habit(days: &[NaiveDate]) -> Option<TimeDelta> {
    let mut days = days.to_vec();
    days.sort_unstable();
    days.dedup();
    let mut gaps: Vec<i64> = days.windows(2).map(|d| (d[1] - d[0]).num_days()).collect();
    gaps.sort_unstable();
    // The usual one is the middle one: a holiday is no habit.
    let usual = (gaps.len() >= 4).then(|| gaps[gaps.len() / 2])?;
    Some(TimeDelta::days((4 * usual).max(4)))
}

/// One thing that is so and that somebody should know.
#[derive(Clone, Debug)]
enum Fact<'a> {
    LibraryAway(&'a str),
    OutOfReach(&'a OutOfReach),
    Damaged(u64),
    StoreStopped(&'a StoreNow, &'a str),
    NoRoom,
    Coming,
    Refused(&'a DeviceNow, u64),
    Unread(&'a DeviceNow),
    HeldBack(u64),
    Overdue(DateTime<Utc>),
    Quiet(&'a DeviceNow, DateTime<Utc>),
    Silent(&'a DeviceNow, DateTime<Utc>),
    Ending(&'a DeviceNow, DateTime<Utc>),
    NoStore,
    CheckFailed(&'a CheckNow),
    FailedWork(u64),
    Kit(KitWorth),
    LittleRoom(u64),
    StoreFailing(&'a StoreNow),
    Waiting(u64),
    OnTheWay,
}

/// All that is so, in the order of its weight: what comes first is said.
fn facts(house: &House, now: DateTime<Utc>) -> Vec<Fact<'_>> {
    let mut all = Vec::new();
    let devices = &house.devices;
    all.extend(house.library_away.as_deref().map(Fact::LibraryAway));
    all.extend((house.damaged > 0).then_some(Fact::Damaged(house.damaged)));
    all.extend(house.stores.iter().find_map(|s| Some(Fact::StoreStopped(s, s.stopped.as_deref()?))));
    all.extend((house.room == Some(0)).then_some(Fact::NoRoom));
    all.extend((house.coming.count > 0).then_some(Fact::Coming));
    let refused = devices.iter().map(|d| d.refused).sum();
    all.extend(devices.iter().max_by_key(|d| d.refused).filter(|d| d.refused > 0).map(|d| Fact::Refused(d, refused)));
    all.extend(devices.iter().max_by_key(|d| d.unread).filter(|d| d.unread > 0).map(Fact::Unread));
    all.extend(house.out_of_reach.as_ref().map(Fact::OutOfReach));
    all.extend((house.held_back > 0).then_some(Fact::HeldBack(house.held_back)));
    // Exposed and nobody knows since when: as if for ever.
    let since = house.exposed_since.unwrap_or(DateTime::<Utc>::MIN_UTC);
    let overdue = house.exposed.count > 0 && now.signed_duration_since(since) > EXPOSURE_ALLOWED;
    all.extend((overdue && !house.stores.is_empty()).then_some(Fact::Overdue(since)));
    let for_long = |d: &&DeviceNow, long: TimeDelta| !d.sending && d.seen_at.is_some_and(|s| now - s > long);
    let quiet = devices.iter().filter(|d| d.waiting > 0 && for_long(d, QUIET));
    all.extend(quiet.filter_map(|d| Some(Fact::Quiet(d, d.seen_at?))).next());
    let silent = devices.iter().filter(|d| d.usual.is_some_and(|usual| for_long(d, usual)));
    all.extend(silent.min_by_key(|d| d.seen_at).and_then(|d| d.seen_at.map(|at| Fact::Silent(d, at))));
    let ending = devices.iter().filter_map(|d| Some((d, d.ends_at?)));
    all.extend(ending.min_by_key(|(_, at)| *at).map(|(d, at)| Fact::Ending(d, at)));
    all.extend((house.home.count > 0 && house.stores.is_empty()).then_some(Fact::NoStore));
    all.extend(house.failed_checks.first().map(Fact::CheckFailed));
    all.extend((house.failed_work > 0).then_some(Fact::FailedWork(house.failed_work)));
    let kit = house.kit.filter(|k| matches!(k, KitWorth::Missing | KitWorth::Outdated) && house.home.count > 0);
    all.extend(kit.map(Fact::Kit));
    all.extend(house.room.filter(|r| (1..LITTLE_ROOM).contains(r)).map(Fact::LittleRoom));
    all.extend(house.stores.iter().find(|s| s.failing && (!s.disk || house.exposed.count > 0)).map(Fact::StoreFailing));
    let waiting = devices.iter().map(|d| d.waiting).sum();
    all.extend((waiting > 0).then_some(Fact::Waiting(waiting)));
    all.extend((house.exposed.count > 0).then_some(Fact::OnTheWay));
    all
}

impl Fact<'_> {
    /// How bad it is.
    fn state(&self) -> HouseState {
        match self {
            Fact::LibraryAway(_) | Fact::Damaged(_) | Fact::StoreStopped(..) | Fact::NoRoom => HouseState::Trouble,
            Fact::Refused(..)
            | Fact::Unread(_)
            | Fact::OutOfReach(_)
            | Fact::HeldBack(_)
            | Fact::Overdue(_)
            | Fact::Quiet(..)
            | Fact::Silent(..)
            | Fact::Ending(..)
            | Fact::NoStore
            | Fact::CheckFailed(_)
            | Fact::FailedWork(_)
            | Fact::Kit(_)
            | Fact::LittleRoom(_) => HouseState::Look,
            Fact::Coming | Fact::StoreFailing(_) | Fact::Waiting(_) | Fact::OnTheWay => HouseState::Busy,
        }
    }

    /// The fact itself; and what follows from it: the next step, or how much else is at stake.
    fn sentences(&self, house: &House, now: DateTime<Utc>) -> (String, String) {
        let exposure = exposure_sentence(house, now);
        let everything = format!("{} at home, {}.", counted(house.home.count, "file"), size(house.home.bytes));
        let be = |n: u64| if n == 1 { "is" } else { "are" };
        match self {
            // Of what lies on it nothing is known now.
            Fact::LibraryAway(why) => (
                "The library’s disk is not connected.".to_owned(),
                format!(
                    "{} Until it is back, nothing is received; then everything continues by itself. {exposure}",
                    capitalised(why)
                ),
            ),
            Fact::OutOfReach(out) => (
                "Some pictures that were left on another disk cannot be reached.".to_owned(),
                match (out.folder.as_deref(), out.more) {
                    (None, _) => format!("Until that disk is connected, they cannot be opened. {exposure}"),
                    (Some(folder), more) => {
                        let others = if more == 0 { String::new() } else { format!(" and {} more", counted(more, "folder")) };
                        format!(
                            "Nothing is in {folder}{others} now. Connect the disk, or say under Library, Adopt an old disk, that it does not come back. {exposure}"
                        )
                    }
                },
            ),
            Fact::Damaged(n) => (format!("{} at home {} damaged or missing.", counted(*n, "file"), be(*n)), exposure),
            Fact::StoreStopped(store, why) => {
                (format!("Sending to {} has stopped.", store.name), format!("{} {exposure}", ended(why)))
            }
            Fact::NoRoom => (
                "The home disk is full.".to_owned(),
                format!(
                    "Nothing more is received. Free some space on it, or lower “reserve_gb” in the settings file. {exposure}"
                ),
            ),
            Fact::Coming => {
                let names: Vec<&str> = house.stores.iter().map(|s| s.name.as_str()).collect();
                let all = house.home.count + house.coming.count;
                let verb = if house.coming.count == 1 { "comes" } else { "come" };
                let (more, bytes) = (count(house.coming.count), size(house.coming.bytes));
                (
                    format!("{} of {} are here again.", count(house.home.count), counted(all, "file")),
                    format!("{more} more {verb} from {}, {bytes}, the newest first.", list(&names)),
                )
            }
            Fact::Refused(device, all) => {
                let why = device.refused_why.as_deref().unwrap_or("they were refused");
                (
                    format!(
                        "{} {} only on a device, because {} refused.",
                        counted(*all, "picture"),
                        be(*all),
                        if *all == 1 { "it was" } else { "they were" }
                    ),
                    format!(
                        "{}: {} They are listed under Devices, and are received when the device sends them again. {exposure}",
                        device.name,
                        ended(&capitalised(why))
                    ),
                )
            }
            Fact::Unread(device) => (
                format!("{} could not be read on {}.", counted(device.unread, "file"), device.name),
                format!("For the reasons, see its last backup under Activity. {exposure}"),
            ),
            Fact::HeldBack(n) => {
                let (verb, go) = if *n == 1 { ("is", "it may") } else { ("are", "they may") };
                (
                    format!("{} {verb} kept until you confirm that {go} be removed.", counted(*n, "deleted file")),
                    format!("So many at once may be a mistake: look under Restore. {exposure}"),
                )
            }
            Fact::Overdue(since) => {
                let long = if *since == DateTime::<Utc>::MIN_UTC { "too long".to_owned() } else { span(now - *since) };
                let have = if house.exposed.count == 1 { "has" } else { "have" };
                (format!("{} {have} had no copy offsite for {long}.", counted(house.exposed.count, "file")), everything)
            }
            Fact::Quiet(device, at) => (
                format!("{} {} still only on {}.", counted(device.waiting, "picture"), be(device.waiting), device.name),
                format!("It was last seen {} ago. {exposure}", span(now - *at)),
            ),
            Fact::Silent(device, at) => (
                format!("{} has not been seen for {}, longer than usual.", device.name, span(now - *at)),
                format!("Pictures that were taken with it since then are only on it: see that it can send. {exposure}"),
            ),
            Fact::Ending(device, at) if *at <= now => (
                format!("{} was not used for a year, and can send no more.", device.name),
                format!("Pair it again under Devices, or revoke it there if nobody uses it any more. {exposure}"),
            ),
            Fact::Ending(device, at) => (
                format!("{} has not been used for a long time: in {} it can send no more.", device.name, span(*at - now)),
                format!("One backup is enough; if nobody uses it any more, revoke it under Devices. {exposure}"),
            ),
            Fact::NoStore => (
                "Nothing has a copy offsite yet.".to_owned(),
                format!("{everything} Add a store, so that a fire or a thief cannot take everything."),
            ),
            Fact::CheckFailed(check) => (
                format!("The last {} of {} could not be done.", check.check, check.place),
                format!("{} {exposure}", ended(&check.said)),
            ),
            Fact::FailedWork(n) => (
                format!("{} could not be finished.", counted(*n, "background task")),
                format!("For the reasons, see Activity. {exposure}"),
            ),
            Fact::Kit(worth) => {
                let (what, so) = match worth {
                    KitWorth::Missing => ("was never printed", "If this server is lost, nobody can open the copies without it."),
                    _ => ("is out of date", "Keys or stores have changed since it was printed."),
                };
                (format!("The recovery kit {what}."), format!("{so} Print it under Offsite, and keep it in another house."))
            }
            Fact::LittleRoom(left) => (
                format!("There is space for only {} more at home.", size(*left)),
                format!("When that is used up, nothing more is received. {exposure}"),
            ),
            Fact::StoreFailing(store) => (format!("There is a problem with {}; the next attempt follows.", store.name), exposure),
            Fact::Waiting(n) => {
                let names: Vec<&str> = house.devices.iter().filter(|d| d.waiting > 0).map(|d| d.name.as_str()).collect();
                (format!("{} {} still only on {}.", counted(*n, "picture"), be(*n), list(&names)), exposure)
            }
            Fact::OnTheWay => {
                let n = house.exposed.count;
                let verb = if n == 1 { "is" } else { "are" };
                let names: Vec<&str> = house.stores.iter().map(|s| s.name.as_str()).collect();
                (format!("{} {verb} being sent to {}.", counted(n, "file"), list(&names)), everything)
            }
        }
    }

    /// For those who have not signed in: names nobody.
    fn plain(&self) -> &'static str {
        match self {
            Fact::LibraryAway(_) => "The library’s disk is not connected.",
            Fact::OutOfReach(_) => "Some pictures that were left on another disk cannot be reached.",
            Fact::Damaged(_) => "Some files at home are damaged or missing.",
            Fact::StoreStopped(..) => "Sending to a store has stopped.",
            Fact::NoRoom => "The home disk is full.",
            Fact::Coming => "Files are being fetched from the stores.",
            Fact::Refused(..) => "Some pictures were refused.",
            Fact::Unread(_) => "Some files could not be read on a device.",
            Fact::HeldBack(_) => "Deleted files are kept until the keeper confirms that they may be removed.",
            Fact::Overdue(_) => "Some files have had no copy offsite for too long.",
            Fact::Ending(..) => "A device was not used for a year, or nearly.",
            Fact::Quiet(..) | Fact::Silent(..) => "A device has not been seen for too long.",
            Fact::NoStore => "Nothing has a copy offsite yet.",
            Fact::CheckFailed(_) => "A check of copies could not be done.",
            Fact::FailedWork(_) => "Some background work could not be finished.",
            Fact::Kit(_) => "The recovery kit is not in order.",
            Fact::LittleRoom(_) => "There is little space left at home.",
            Fact::StoreFailing(_) => "There is a problem with a store; the next attempt follows.",
            Fact::Waiting(_) => "Pictures are still to be received.",
            Fact::OnTheWay => "Copies are being sent offsite.",
        }
    }
}

/// Writes the headline. "Well" is what is left when nothing speaks against it.
pub fn headline(house: &House, now: DateTime<Utc>) -> Headline {
    let all = facts(house, now);
    let worst = |state| all.iter().find(|f| f.state() == state);
    // A house that comes back has many loose ends, and they tie themselves; what is wrong with it is said all the same.
    let coming = all.iter().find(|f| matches!(f, Fact::Coming));
    let first = worst(HouseState::Trouble).or(coming).or_else(|| worst(HouseState::Look)).or_else(|| all.first());
    if let Some(fact) = first {
        let (sentence, rest) = fact.sentences(house, now);
        return Headline { state: fact.state(), sentence, rest: rest.trim_end().to_owned(), plain: fact.plain() };
    }
    let say =
        |sentence: &str, rest: String, plain| Headline { state: HouseState::Well, sentence: sentence.to_owned(), rest, plain };
    if house.home.count == 0 {
        let (sentence, rest) = if house.devices.is_empty() {
            ("Nothing is here yet.", "Pair a first device, and its pictures will arrive here.")
        } else {
            ("Nothing has been sent yet.", "A device is paired. Its first backup will appear here.")
        };
        return say(sentence, rest.to_owned(), "Nothing is here yet.");
    }
    let everything = format!("{} at home, {}.", counted(house.home.count, "file"), size(house.home.bytes));
    say("Everything is safe, at home and offsite.", everything, "Everything is safe.")
}

fn capitalised(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().into_iter().flat_map(char::to_uppercase).chain(letters).collect()
}

fn exposure_sentence(house: &House, now: DateTime<Utc>) -> String {
    match (house.exposed.count, house.exposed_since) {
        (0, _) if house.home.count == 0 => String::new(),
        (0, _) => "Everything at home has a copy offsite.".to_owned(),
        (n, since) => {
            let verb = if n == 1 { "has" } else { "have" };
            let oldest = since.map(|s| format!(", the oldest for {}", span(now - s))).unwrap_or_default();
            format!("{} {verb} no copy offsite yet{oldest}.", count(n))
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
            devices: vec![DeviceNow { name: "Juno’s phone".into(), seen_at: Some(now()), ..DeviceNow::default() }],
            home: all,
            offsite: all,
            stores: vec![StoreNow { name: "North Quay".into(), ..StoreNow::default() }],
            room: Some(400_000_000_000),
            kit: Some(KitWorth::Proven),
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
        assert_eq!((said.state, said.sentence.as_str()), (HouseState::Well, "Everything is safe, at home and offsite."));
        assert_eq!(said.rest, "27,412 files at home, 398 GB.");
    }

    #[test]
    fn a_quiet_phone_with_pictures_comes_before_the_usual_backlog() {
        let mut house = exposed(well(), 212, 3);
        house.devices.push(DeviceNow {
            name: "Piet’s phone".into(),
            waiting: 31,
            seen_at: Some(now() - TimeDelta::days(9)),
            ..DeviceNow::default()
        });
        let said = headline(&house, now());
        assert_eq!((said.state, said.sentence.as_str()), (HouseState::Look, "31 pictures are still only on Piet’s phone."));
        assert_eq!(said.rest, "It was last seen 9 days ago. 212 have no copy offsite yet, the oldest for 3 hours.");
    }

    #[test]
    fn the_worst_true_state_wins() {
        let mut house = exposed(well(), 1, 72);
        assert_eq!(headline(&house, now()).state, HouseState::Look);
        assert_eq!(headline(&house, now()).sentence, "1 file has had no copy offsite for 3 days.");
        house.stores[0].stopped = Some("The access key was refused".into());
        let said = headline(&house, now());
        assert_eq!((said.state, said.sentence.as_str()), (HouseState::Trouble, "Sending to North Quay has stopped."));
        assert!(said.rest.starts_with("The access key was refused. "));
        house.damaged = 2;
        assert_eq!(headline(&house, now()).sentence, "2 files at home are damaged or missing.");
    }

    #[test]
    fn a_house_that_comes_back_says_how_far_it_is() {
        let house = House { coming: Amount { count: 412, bytes: 2_000_000_000 }, ..exposed(well(), 0, 0) };
        let said = headline(&house, now());
        assert_eq!((said.state, said.sentence.as_str()), (HouseState::Busy, "27,412 of 27,824 files are here again."));
        assert_eq!(said.rest, "412 more come from North Quay, 2.0 GB, the newest first.");
    }

    #[test]
    fn what_the_safety_stop_holds_is_worth_a_look() {
        let house = House { held_back: 120, ..exposed(well(), 1, 3) };
        let said = headline(&house, now());
        assert_eq!(said.state, HouseState::Look);
        assert_eq!(said.sentence, "120 deleted files are kept until you confirm that they may be removed.");
        let one = headline(&House { held_back: 1, ..well() }, now());
        assert_eq!(one.sentence, "1 deleted file is kept until you confirm that it may be removed.");
    }

    #[test]
    fn with_no_store_nothing_is_called_safe() {
        let house = House { stores: vec![], ..exposed(well(), 27_412, 100) };
        assert_eq!(headline(&house, now()).state, HouseState::Look);
        assert_eq!(headline(&house, now()).sentence, "Nothing has a copy offsite yet.");
    }

    #[test]
    fn a_backlog_is_busy_not_alarming() {
        assert_eq!(headline(&exposed(well(), 212, 3), now()).sentence, "212 files are being sent to North Quay.");
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

    #[test]
    fn what_was_refused_is_said_with_its_reason_and_what_to_do() {
        let mut house = well();
        house.devices.push(DeviceNow {
            name: "Marisol’s phone".into(),
            refused: 30,
            refused_why: Some("the quota has 4 MB left; 12 MB are needed".into()),
            seen_at: Some(now()),
            ..DeviceNow::default()
        });
        let said = headline(&house, now());
        assert_eq!(said.state, HouseState::Look);
        assert_eq!(said.sentence, "30 pictures are only on a device, because they were refused.");
        assert!(
            said.rest.starts_with("Marisol’s phone: The quota has 4 MB left; 12 MB are needed. They are listed"),
            "{}",
            said.rest
        );
    }

    #[test]
    fn a_habit_is_what_is_usual() {
        let day = |n: i64| NaiveDate::from_ymd_opt(2026, 3, 1).unwrap() + TimeDelta::days(n);
        let daily: Vec<_> = (0..20).map(day).collect();
        assert_eq!(habit(&daily), Some(TimeDelta::days(4)));
        let weekly: Vec<_> = (0..8).map(|n| day(7 * n)).collect();
        assert_eq!(habit(&weekly), Some(TimeDelta::days(28)));
        // A holiday in between changes nothing, nor does the order, nor what is told twice.
        let mut holiday: Vec<_> = (0..10).chain(24..34).map(day).collect();
        holiday.extend(holiday.clone());
        holiday.reverse();
        assert_eq!(habit(&holiday), Some(TimeDelta::days(4)));
        assert_eq!(habit(&daily[..4]), None, "too few to tell");
        assert_eq!(habit(&[]), None);
    }

    #[test]
    fn a_phone_that_came_daily_is_missed_though_nothing_is_known_to_wait() {
        let mut house = well();
        house.devices[0].usual = Some(TimeDelta::days(4));
        house.devices[0].seen_at = Some(now() - TimeDelta::days(3));
        assert_eq!(headline(&house, now()).state, HouseState::Well);
        house.devices[0].seen_at = Some(now() - TimeDelta::days(5));
        let said = headline(&house, now());
        assert_eq!(
            (said.state, said.sentence.as_str()),
            (HouseState::Look, "Juno’s phone has not been seen for 5 days, longer than usual.")
        );
    }

    #[test]
    fn a_device_that_nobody_used_is_said_before_it_ends_and_when_it_has() {
        let mut house = well();
        house.devices[0].ends_at = Some(now() + TimeDelta::days(12));
        let said = headline(&house, now());
        assert_eq!(
            (said.state, said.sentence.as_str()),
            (HouseState::Look, "Juno’s phone has not been used for a long time: in 12 days it can send no more.")
        );
        house.devices[0].ends_at = Some(now());
        assert_eq!(headline(&house, now()).sentence, "Juno’s phone was not used for a year, and can send no more.");
    }

    /// Every way in which something of somebody may be lost, or in which nobody knows. A field that is added to the house has to be named
    /// here, or this does not compile.
    fn something_may_be_lost(house: &House, now: DateTime<Utc>) -> bool {
        let House {
            devices,
            home,
            offsite: _,
            exposed,
            exposed_since: _,
            damaged,
            failed_work,
            stores,
            held_back,
            coming,
            library_away,
            out_of_reach,
            room,
            failed_checks,
            kit,
        } = house;
        let device = |d: &DeviceNow| {
            let DeviceNow { name: _, waiting, refused, refused_why: _, unread, seen_at, usual, sending, ends_at } = d;
            let missed = !sending && usual.zip(*seen_at).is_some_and(|(usual, seen)| now - seen > usual);
            *waiting > 0 || *refused > 0 || *unread > 0 || missed || ends_at.is_some()
        };
        let store = |s: &StoreNow| {
            let StoreNow { name: _, stopped, failing, disk } = s;
            stopped.is_some() || (*failing && !disk)
        };
        devices.iter().any(device)
            || stores.iter().any(store)
            || (home.count > 0 && stores.is_empty())
            || exposed.count > 0
            || *damaged > 0
            || *failed_work > 0
            || *held_back > 0
            || coming.count > 0
            || library_away.is_some()
            || out_of_reach.is_some()
            || room.is_some_and(|r| r < LITTLE_ROOM)
            || !failed_checks.is_empty()
            || (home.count > 0 && matches!(kit, Some(KitWorth::Missing | KitWorth::Outdated)))
    }

    /// A small deterministic source of choices (SplitMix64, Steele et al. 2014).
    struct Dice(u64);

    impl Dice {
        fn roll(&mut self, sides: u64) -> u64 {
            self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
            let mut z = self.0;
            z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
            z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
            (z ^ (z >> 31)) % sides
        }

        /// Mostly nothing, so that houses with one trouble come up as well as those with many.
        fn few(&mut self) -> u64 {
            if self.roll(6) == 0 { 1 + self.roll(40) } else { 0 }
        }

        fn seldom(&mut self) -> bool {
            self.roll(7) == 0
        }
    }

    fn any_house(dice: &mut Dice) -> House {
        let ago = |dice: &mut Dice| now() - TimeDelta::hours(dice.roll(600) as i64);
        let mut devices = Vec::new();
        for n in 0..dice.roll(4) {
            devices.push(DeviceNow {
                name: format!("device {n}"),
                waiting: dice.few(),
                refused: dice.few(),
                refused_why: dice.seldom().then(|| "the quota is used up".into()),
                unread: dice.few(),
                seen_at: (!dice.seldom()).then(|| ago(dice)),
                usual: dice.seldom().then(|| TimeDelta::days(4 + dice.roll(30) as i64)),
                sending: dice.seldom(),
                ends_at: dice.seldom().then(|| now() + TimeDelta::hours(dice.roll(600) as i64 - 300)),
            });
        }
        let mut stores = Vec::new();
        for n in 0..dice.roll(3) {
            stores.push(StoreNow {
                name: format!("store {n}"),
                stopped: dice.seldom().then(|| "its keys were refused".into()),
                failing: dice.seldom(),
                disk: dice.seldom(),
            });
        }
        let amount = |n: u64| Amount { count: n, bytes: n * 1000 };
        let check = CheckNow { place: "store 0".into(), check: "drill".into(), said: "It could not be reached".into() };
        House {
            devices,
            stores,
            home: amount(dice.roll(3) * 1000),
            offsite: amount(dice.roll(3) * 1000),
            exposed: amount(dice.few()),
            exposed_since: (!dice.seldom()).then(|| ago(dice)),
            damaged: dice.few(),
            failed_work: dice.few(),
            held_back: dice.few(),
            coming: amount(dice.few()),
            library_away: dice.seldom().then(|| "the folder is empty.".into()),
            out_of_reach: dice
                .seldom()
                .then(|| OutOfReach { folder: dice.seldom().then(|| "/mnt/old-disk".into()), more: dice.few() }),
            room: [None, Some(0), Some(LITTLE_ROOM / 2), Some(LITTLE_ROOM), Some(1 << 40), Some(1 << 41), Some(1 << 42)]
                [dice.roll(7) as usize],
            failed_checks: if dice.seldom() { vec![check] } else { Vec::new() },
            kit: [
                None,
                Some(KitWorth::Needless),
                Some(KitWorth::Missing),
                Some(KitWorth::Outdated),
                Some(KitWorth::Unproven),
                Some(KitWorth::Proven),
            ][dice.roll(6) as usize],
        }
    }

    #[test]
    fn no_house_in_which_anything_may_be_lost_is_called_well() {
        let (mut dice, mut well, mut otherwise) = (Dice(2026), 0, 0);
        for _ in 0..200_000 {
            let house = any_house(&mut dice);
            let said = headline(&house, now());
            let lost = something_may_be_lost(&house, now());
            assert!(!(lost && said.state == HouseState::Well), "{house:?} is called well");
            assert!(lost || said.state == HouseState::Well, "{said:?} of {house:?}: nothing is wrong with it");
            // Whatever is said is whole: a sentence, and what it means for somebody who has not signed in.
            assert!(said.sentence.ends_with('.') && said.plain.ends_with('.') && said.sentence.len() > 10, "{said:?}");
            assert!(!said.rest.contains("  ") && !said.rest.contains(".."), "{said:?}");
            if lost { otherwise += 1 } else { well += 1 }
        }
        assert!(well > 1000 && otherwise > 1000, "{well} {otherwise}");
    }

    #[test]
    fn the_lamp_is_never_better_than_its_worst_fact() {
        let mut dice = Dice(7);
        for _ in 0..50_000 {
            let house = any_house(&mut dice);
            let worst = facts(&house, now()).iter().map(Fact::state).max().unwrap_or(HouseState::Well);
            let said = headline(&house, now()).state;
            assert!(
                said == worst || (house.coming.count > 0 && said == HouseState::Busy && worst == HouseState::Look),
                "{house:?}"
            );
        }
    }
}
