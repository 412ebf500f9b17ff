//! A copy was found lost or damaged: from where is it made good again?

use chrono::TimeDelta;

use crate::{
    StoreId,
    layers::{Place, Standing},
};

/// A place is given the same copy again at most this often within [`LATELY`]. One that loses it each time is not healed by
/// giving it a fourth one; somebody has to look at that place.
pub const MOST_LATELY: u32 = 3;
/// See [`MOST_LATELY`].
pub const LATELY: TimeDelta = TimeDelta::days(30);

/// What to do about a copy.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Remedy {
    /// Nothing: it is good (again).
    None,
    /// Fetch the copy of this store to home.
    FetchFrom(StoreId),
    /// Send the copy at home to the store again.
    SendAgain,
    /// Fetch from this store to home first; then send that on.
    ByWayOfHome(StoreId),
    /// No good copy is known anywhere. A device that still has it mends it with its next backup.
    Nowhere,
    /// It was made good often enough, and did not stay so.
    EnoughTried,
}

/// What to do about the copy at `place`, by where good ones are. `lately` is how often it was made good there since
/// [`LATELY`] ago.
///
/// Of several stores the one is taken that was read back last: its copy is the surest.
pub fn remedy(place: Place, standings: &[(Place, Standing)], lately: u32) -> Remedy {
    let good = |at: Place| standings.iter().any(|(p, s)| *p == at && s.good);
    if good(place) {
        return Remedy::None;
    }
    if lately >= MOST_LATELY {
        return Remedy::EnoughTried;
    }
    let surest = standings
        .iter()
        .filter(|(p, s)| s.good && *p != place)
        .filter_map(|(p, s)| Some((s.proven_at, s.since, p.store()?)))
        .max()
        .map(|(_, _, id)| id);
    match (place, surest) {
        (Place::Home, Some(store)) => Remedy::FetchFrom(store),
        (Place::Store(_), _) if good(Place::Home) => Remedy::SendAgain,
        (Place::Store(_), Some(store)) => Remedy::ByWayOfHome(store),
        (_, None) => Remedy::Nowhere,
    }
}

#[cfg(test)]
mod tests {
    use chrono::DateTime;
    use rstest::rstest;
    use uuid::Uuid;

    use super::*;

    const A: StoreId = StoreId(Uuid::from_u128(1));
    const B: StoreId = StoreId(Uuid::from_u128(2));

    fn standing(good: bool, proven: Option<i64>) -> Standing {
        let day = |n| DateTime::UNIX_EPOCH + TimeDelta::days(n);
        Standing { good, since: day(100), proven_at: proven.map(day) }
    }

    #[rstest]
    #[case::good_again(Place::Home, &[(Place::Home, standing(true, Some(1)))], 0, Remedy::None)]
    #[case::home_from_a_store(Place::Home, &[(Place::Home, standing(false, None)), (Place::Store(A), standing(true, None))], 0, Remedy::FetchFrom(A))]
    #[case::from_the_one_read_last(
        Place::Home, &[(Place::Store(A), standing(true, Some(9))), (Place::Store(B), standing(true, Some(3)))], 0, Remedy::FetchFrom(A))]
    #[case::read_beats_never_read(
        Place::Home, &[(Place::Store(A), standing(true, Some(9))), (Place::Store(B), standing(true, None))], 0, Remedy::FetchFrom(A))]
    #[case::store_from_home(Place::Store(A), &[(Place::Home, standing(true, Some(1))), (Place::Store(B), standing(true, Some(2)))], 2, Remedy::SendAgain)]
    #[case::store_from_store(Place::Store(A), &[(Place::Home, standing(false, None)), (Place::Store(B), standing(true, None))], 0, Remedy::ByWayOfHome(B))]
    #[case::gone_everywhere(Place::Home, &[(Place::Home, standing(false, None)), (Place::Store(A), standing(false, None))], 0, Remedy::Nowhere)]
    #[case::never_from_itself(Place::Store(A), &[(Place::Store(A), standing(false, None))], 0, Remedy::Nowhere)]
    #[case::no_fourth_time(Place::Store(A), &[(Place::Home, standing(true, None))], 3, Remedy::EnoughTried)]
    #[case::good_whatever_was_tried(Place::Store(A), &[(Place::Store(A), standing(true, None))], 9, Remedy::None)]
    fn it_comes_from_where_it_is_good(
        #[case] place: Place,
        #[case] standings: &[(Place, Standing)],
        #[case] lately: u32,
        #[case] expected: Remedy,
    ) {
        assert_eq!(remedy(place, standings, lately), expected);
    }
}
