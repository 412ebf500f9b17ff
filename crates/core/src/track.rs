//! A track: where somebody was, and when. What was taken on the way was taken there.

use chrono::{DateTime, TimeDelta, Utc};

use crate::spot::Spot;

/// Between two points with no more time between them, whoever wrote the track went straight on.
const STRAIGHT: TimeDelta = TimeDelta::minutes(15);
/// So long before and after a point, they were still there.
const THERE: TimeDelta = TimeDelta::minutes(5);

/// Points in the order of their times.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Track {
    points: Vec<(DateTime<Utc>, Spot)>,
}

impl Track {
    /// Of these points, in whatever order; of those of one instant, the first counts. `None`: there are none.
    pub fn new(mut points: Vec<(DateTime<Utc>, Spot)>) -> Option<Self> {
        points.sort_by_key(|(at, _)| *at);
        points.dedup_by_key(|(at, _)| *at);
        (!points.is_empty()).then_some(Track { points })
    }

    /// When it begins and ends.
    pub fn span(&self) -> Option<(DateTime<Utc>, DateTime<Utc>)> {
        Some((self.points.first()?.0, self.points.last()?.0))
    }

    /// From when to when it may tell where they were.
    pub fn reach(&self) -> Option<(DateTime<Utc>, DateTime<Utc>)> {
        let (from, until) = self.span()?;
        Some((from.checked_sub_signed(THERE)?, until.checked_add_signed(THERE)?))
    }

    /// Where they were then; `None`: the track does not tell.
    ///
    /// ```
    /// use chrono::{DateTime, Utc};
    /// use ypogeion_core::{spot::Spot, track::Track};
    /// let at = |minute| format!("2026-04-12T10:{minute}:00Z").parse::<DateTime<Utc>>().unwrap();
    /// let spot = |north, east| Spot::new(north, east).unwrap();
    /// let track = Track::new(vec![(at("00"), spot(52.0, 4.0)), (at("10"), spot(53.0, 4.5))]).unwrap();
    /// assert_eq!(track.at(at("05")), Some(spot(52.5, 4.25)));
    /// assert_eq!(track.at(at("14")), Some(spot(53.0, 4.5)));
    /// assert_eq!(track.at(at("16")), None);
    /// ```
    pub fn at(&self, when: DateTime<Utc>) -> Option<Spot> {
        let next = self.points.partition_point(|(at, _)| *at < when);
        let after = self.points.get(next);
        let before = next.checked_sub(1).and_then(|n| self.points.get(n));
        if let Some(((from, a), (until, b))) = before.zip(after).filter(|((from, _), (until, _))| *until - *from <= STRAIGHT) {
            let share = (when - *from).as_seconds_f64() / (*until - *from).as_seconds_f64();
            return between(*a, *b, share);
        }
        let near = [before, after].into_iter().flatten().map(|(at, spot)| ((*at - when).abs(), *spot));
        near.filter(|(apart, _)| *apart <= THERE).min_by_key(|(apart, _)| *apart).map(|(_, spot)| spot)
    }
}

/// On the way from one to the other, the shorter way round the earth. Over the few kilometres that it is, the map's straight line is the earth's.
fn between(a: Spot, b: Spot, share: f64) -> Option<Spot> {
    let turn = |east: f64| (east + 540.0).rem_euclid(360.0) - 180.0;
    let north = a.north() + (b.north() - a.north()) * share;
    Spot::new(north.clamp(-90.0, 90.0), turn(a.east() + turn(b.east() - a.east()) * share))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn at(seconds: i64) -> DateTime<Utc> {
        DateTime::from_timestamp(1_776_000_000 + seconds, 0).unwrap()
    }

    fn spot(north: f64, east: f64) -> Spot {
        Spot::new(north, east).unwrap()
    }

    #[rstest]
    #[case::at_a_point(0, Some((52.0, 4.0)))]
    #[case::on_the_way(150, Some((52.25, 4.025)))]
    #[case::shortly_before(-300, Some((52.0, 4.0)))]
    #[case::long_before(-301, None)]
    #[case::in_a_gap_near_its_beginning(700, Some((53.0, 4.1)))]
    #[case::in_a_gap_near_its_end(9_900, Some((55.0, 8.0)))]
    #[case::in_a_gap(5_000, None)]
    #[case::shortly_after(10_300, Some((55.0, 8.0)))]
    #[case::long_after(10_301, None)]
    fn a_track_tells_where_somebody_was(#[case] seconds: i64, #[case] expected: Option<(f64, f64)>) {
        // Not in order, and with a point that was written twice.
        let points =
            vec![(at(600), spot(53.0, 4.1)), (at(10_000), spot(55.0, 8.0)), (at(0), spot(52.0, 4.0)), (at(0), spot(1.0, 1.0))];
        let track = Track::new(points).unwrap();
        assert_eq!(track.at(at(seconds)), expected.map(|(north, east)| spot(north, east)));
        assert_eq!(track.span(), Some((at(0), at(10_000))));
    }

    #[test]
    fn the_way_over_the_date_line_is_the_shorter_one() {
        let track = Track::new(vec![(at(0), spot(-16.0, 179.9)), (at(100), spot(-16.2, -179.9))]).unwrap();
        assert_eq!(track.at(at(25)), Some(spot(-16.05, 179.95)));
        assert_eq!(track.at(at(75)), Some(spot(-16.15, -179.95)));
        assert_eq!(Track::new(Vec::new()), None);
    }

    #[test]
    fn nobody_is_ever_farther_away_than_the_points_of_the_track() {
        let points: Vec<_> =
            (0..200).map(|n| (at(n * n % 977 * 60), spot((n % 90) as f64 - 45.0, (n * 7 % 360) as f64 - 180.0))).collect();
        let track = Track::new(points.clone()).unwrap();
        let (south, north) = points.iter().fold((90.0_f64, -90.0_f64), |(s, n), (_, p)| (s.min(p.north()), n.max(p.north())));
        for seconds in (-600..60_000).step_by(37) {
            if let Some(there) = track.at(at(seconds)) {
                assert!((south..=north).contains(&there.north()) && there.east().abs() <= 180.0, "{there:?}");
            }
        }
    }
}
