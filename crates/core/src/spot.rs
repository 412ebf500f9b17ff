//! Where on earth a picture was taken, and which part of the earth somebody looks at.
//!
//! Degrees are kept as whole millionths (11 cm), so that sums of them are exact. Whoever draws a map asks for cells: the earth is halved in both
//! directions again and again, at level 0 it is one cell, at level 24 cells are 2.4 m wide. A cell's number tells the cells that it lies in: at one
//! level less, it is a quarter of it ([Morton's order](https://en.wikipedia.org/wiki/Z-order_curve)).

use std::fmt;

/// The level whose cells are kept with each picture.
pub const DEEPEST: u8 = 24;
/// The levels at which pictures are counted: cells are from 2,500 km wide to 150 m, each a sixteenth of one of the level before.
pub const LEVELS: [u8; 8] = [4, 6, 8, 10, 12, 14, 16, 18];

const MILLION: f64 = 1e6;
const HALF_TURN: i64 = 180_000_000;
const QUARTER_TURN: i64 = 90_000_000;
/// The earth's mean radius, in kilometres (IUGG).
const RADIUS: f64 = 6371.0088;

/// A spot on earth, in millionths of a degree.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Spot {
    lat: i32,
    lon: i32,
}

impl Spot {
    /// From degrees north and east. `None`: there is no such spot.
    pub fn new(north: f64, east: f64) -> Option<Self> {
        let is_one = north.abs() <= 90.0 && east.abs() <= 180.0;
        // As the database rounds.
        is_one.then(|| Spot { lat: (north * MILLION).round_ties_even() as i32, lon: (east * MILLION).round_ties_even() as i32 })
    }

    /// Degrees north.
    pub fn north(self) -> f64 {
        f64::from(self.lat) / MILLION
    }

    /// Degrees east.
    pub fn east(self) -> f64 {
        f64::from(self.lon) / MILLION
    }

    /// The column of its cell at the deepest level, from the west, and its row, from the south.
    fn column_and_row(self) -> (i64, i64) {
        let along = |v: i64, whole: i64| ((v << DEEPEST) / whole).min((1 << DEEPEST) - 1);
        (along(i64::from(self.lon) + HALF_TURN, 2 * HALF_TURN), along(i64::from(self.lat) + QUARTER_TURN, HALF_TURN))
    }

    /// The number of its cell at the deepest level.
    pub fn cell(self) -> i64 {
        let (x, y) = self.column_and_row();
        spread(x) | spread(y) << 1
    }

    /// The middle of a cell of the deepest level.
    pub fn of_cell(cell: i64) -> Self {
        let c = cells_of(DEEPEST, cell);
        Spot::middle(1, c.columns.0, c.rows.0).unwrap_or(Spot { lat: 0, lon: 0 })
    }

    /// The spot that so many pictures have in the middle, from the sums of their columns and rows. `None`: there are none.
    pub fn middle(n: i64, columns: i64, rows: i64) -> Option<Self> {
        let along = |sum: i64, whole: i64| ((sum as f64 / n as f64 + 0.5) * whole as f64 / f64::from(1 << DEEPEST)) / MILLION;
        let (east, north) = (along(columns, 2 * HALF_TURN) - 180.0, along(rows, HALF_TURN) - 90.0);
        if n > 0 { Spot::new(north.clamp(-90.0, 90.0), east.clamp(-180.0, 180.0)) } else { None }
    }

    /// Kilometres to another spot, on a sphere.
    pub fn kilometres(self, other: Spot) -> f64 {
        let [a, b] = [self, other].map(|s| (s.north().to_radians(), s.east().to_radians()));
        let half = |d: f64| (d / 2.0).sin().powi(2);
        let h = half(b.0 - a.0) + a.0.cos() * b.0.cos() * half(b.1 - a.1);
        2.0 * RADIUS * h.sqrt().min(1.0).asin()
    }
}

/// The bits of a number, with a gap after each.
fn spread(v: i64) -> i64 {
    [
        (16, 0x0000_ffff_0000_ffff),
        (8, 0x00ff_00ff_00ff_00ff),
        (4, 0x0f0f_0f0f_0f0f_0f0f),
        (2, 0x3333_3333_3333_3333),
        (1, 0x5555_5555_5555_5555),
    ]
    .into_iter()
    .fold(v, |v, (by, mask)| (v | v << by) & mask)
}

/// A part of the earth between two latitudes and two longitudes; over the date line, its west is east of its east.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Area {
    south: i32,
    west: i32,
    north: i32,
    east: i32,
}

/// A part of the earth that does not lie over the date line, in millionths of a degree.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Frame {
    south: i32,
    west: i32,
    north: i32,
    east: i32,
}

/// A part of the earth in cells of the deepest level.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Cells {
    /// The first column, counted from the west, and the last.
    pub columns: (i64, i64),
    /// The first row, counted from the south, and the last.
    pub rows: (i64, i64),
}

impl Area {
    /// From degrees. `None`: there is no such part.
    pub fn new([south, west, north, east]: [f64; 4]) -> Option<Self> {
        let (low, high) = (Spot::new(south, west)?, Spot::new(north, east)?);
        (low.lat <= high.lat).then_some(Area { south: low.lat, west: low.lon, north: high.lat, east: high.lon })
    }

    /// Reads what [`Area`] writes: `52.15/4.48..52.17/4.5`, degrees north and east of its south-western corner, and of its north-eastern one.
    ///
    /// ```
    /// use ypogeion_core::spot::Area;
    /// let leiden = Area::read("52.15/4.48..52.17/4.5").unwrap();
    /// assert_eq!(leiden.to_string(), "52.15/4.48..52.17/4.5");
    /// assert_eq!(Area::read("52.17/4.48..52.15/4.5"), None);
    /// ```
    pub fn read(text: &str) -> Option<Self> {
        let corner = |text: &str| {
            let (north, east) = text.split_once('/')?;
            // "inf" and "1e3" are numbers, and nobody's degrees.
            let degrees = |t: &str| t.chars().all(|c| matches!(c, '0'..='9' | '.' | '-')).then(|| t.parse::<f64>().ok())?;
            Some((degrees(north)?, degrees(east)?))
        };
        let (low, high) = text.split_once("..")?;
        let ((south, west), (north, east)) = (corner(low)?, corner(high)?);
        Area::new([south, west, north, east])
    }

    /// The cells that it has, wholly or in part; over the date line, in two parts.
    pub fn cells(self) -> Vec<Cells> {
        let all = self.frames().into_iter().map(|f| {
            let corner = |lat, lon| Spot { lat, lon }.column_and_row();
            let (low, high) = (corner(f.south, f.west), corner(f.north, f.east));
            Cells { columns: (low.0, high.0), rows: (low.1, high.1) }
        });
        all.collect()
    }

    /// Its parts that do not lie over the date line: one or two.
    fn frames(self) -> Vec<Frame> {
        let frame = |west, east| Frame { south: self.south, west, north: self.north, east };
        match self.west <= self.east {
            true => vec![frame(self.west, self.east)],
            false => vec![frame(self.west, HALF_TURN as i32), frame(-HALF_TURN as i32, self.east)],
        }
    }

    /// Whether one of its cells has this spot.
    pub fn has(self, spot: Spot) -> bool {
        let (x, y) = spot.column_and_row();
        self.cells().iter().any(|c| (c.columns.0..=c.columns.1).contains(&x) && (c.rows.0..=c.rows.1).contains(&y))
    }

    /// Where it is, by its middle, as people say it.
    pub fn told(self) -> String {
        let over = if self.west > self.east { 2 * HALF_TURN } else { 0 };
        let width = i64::from(self.east) - i64::from(self.west) + over;
        let (lat, lon) = ((i64::from(self.south) + i64::from(self.north)) / 2, i64::from(self.west) + width / 2);
        let lon = if lon > HALF_TURN { lon - 2 * HALF_TURN } else { lon };
        let digits = if width < 1_000_000 { 2 } else { 1 };
        let degrees = |v: i64, plus: char, minus: char| {
            format!("{:.digits$}° {}", v.abs() as f64 / MILLION, if v < 0 { minus } else { plus })
        };
        format!("on the map around {}, {}", degrees(lat, 'N', 'S'), degrees(lon, 'E', 'W'))
    }

    /// Cells that cover it and little more, as ranges of numbers at the deepest level, in order and apart: each from its first to the one after its
    /// last. About so many.
    pub fn ranges(self, most: usize) -> Vec<(i64, i64)> {
        let own = self.cells();
        let meets = |level: u8, cell: i64| {
            let c = cells_of(level, cell);
            own.iter().any(|a| overlap(a.columns, c.columns) && overlap(a.rows, c.rows))
        };
        let inside = |level: u8, cell: i64| {
            let c = cells_of(level, cell);
            own.iter().any(|a| within(c.columns, a.columns) && within(c.rows, a.rows))
        };
        let (mut level, mut cells) = (0, vec![(0u8, 0i64)]);
        while level < DEEPEST {
            level += 1;
            let split = cells.iter().flat_map(|(own, cell)| match inside(*own, *cell) {
                true => vec![(*own, *cell)],
                false => (0..4).map(|n| (level, cell << 2 | n)).filter(|(l, c)| meets(*l, *c)).collect(),
            });
            let split: Vec<(u8, i64)> = split.collect();
            let ranges = joined(&split);
            if ranges.len() > most {
                break;
            }
            cells = split;
        }
        joined(&cells)
    }
}

impl fmt::Display for Area {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let [south, west, north, east] = [self.south, self.west, self.north, self.east].map(|v| f64::from(v) / MILLION);
        write!(f, "{south}/{west}..{north}/{east}")
    }
}

/// Ranges of the deepest level that these cells have, neighbours as one.
fn joined(cells: &[(u8, i64)]) -> Vec<(i64, i64)> {
    let mut ranges: Vec<(i64, i64)> = cells.iter().map(|(level, cell)| range(*level, *cell)).collect();
    ranges.sort_unstable();
    ranges.dedup_by(|next, before| {
        let follows = next.0 == before.1;
        if follows {
            before.1 = next.1;
        }
        follows
    });
    ranges
}

/// The cells of the deepest level that a cell has: from its first to the one after its last.
pub fn range(level: u8, cell: i64) -> (i64, i64) {
    let by = 2 * (DEEPEST - level);
    (cell << by, (cell + 1) << by)
}

/// The part of the earth that a cell has.
pub fn area_of(level: u8, cell: i64) -> Area {
    let c = cells_of(level, cell);
    // Within its first and its last cell, so that it has all of them and none beside it.
    let corner = |x: i64, y: i64| Spot::of_cell(spread(x) | spread(y) << 1);
    let (low, high) = (corner(c.columns.0, c.rows.0), corner(c.columns.1, c.rows.1));
    Area { south: low.lat, west: low.lon, north: high.lat, east: high.lon }
}

/// The cells of the deepest level that a cell has, by column and row.
fn cells_of(level: u8, cell: i64) -> Cells {
    let side = |shift: i64| (0..i64::from(level)).fold(0, |v, n| v | (cell >> (2 * n + shift) & 1) << n);
    let by = DEEPEST - level;
    let all = |n: i64| (n << by, ((n + 1) << by) - 1);
    Cells { columns: all(side(0)), rows: all(side(1)) }
}

fn overlap(a: (i64, i64), b: (i64, i64)) -> bool {
    a.0 <= b.1 && b.0 <= a.1
}

fn within(inner: (i64, i64), outer: (i64, i64)) -> bool {
    outer.0 <= inner.0 && inner.1 <= outer.1
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    /// Spots all over the earth, close together and far apart, and at its ends.
    fn spots() -> Vec<Spot> {
        let mut seed = 7u64;
        let mut next = || {
            seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (seed >> 11) as f64 / (1u64 << 53) as f64
        };
        let far = (0..400).map(|_| Spot::new(next() * 180.0 - 90.0, next() * 360.0 - 180.0).unwrap()).collect::<Vec<_>>();
        let near = (0..400).map(|_| Spot::new(52.1 + next() / 10.0, 4.4 + next() / 10.0).unwrap());
        let ends = [(90.0, 0.0), (-90.0, 180.0), (90.0, -180.0), (0.0, 180.0), (0.0, 0.0), (52.25, 4.5)];
        near.chain(ends.map(|(n, e)| Spot::new(n, e).unwrap())).chain(far).collect()
    }

    fn area(sides: [f64; 4]) -> Area {
        Area::new(sides).unwrap()
    }

    #[rstest]
    #[case::town([52.1, 4.4, 52.2, 4.5])]
    #[case::country([50.0, 3.0, 54.0, 8.0])]
    #[case::over_the_date_line([-30.0, 170.0, 10.0, -160.0])]
    #[case::everything([-90.0, -180.0, 90.0, 180.0])]
    #[case::a_line([52.25, 4.5, 52.25, 4.5])]
    #[case::pole([80.0, -180.0, 90.0, 180.0])]
    fn an_area_is_covered_by_few_ranges_and_little_else(#[case] sides: [f64; 4]) {
        let area = area(sides);
        for most in [1, 4, 16, 64] {
            let ranges = area.ranges(most);
            assert!(ranges.len() <= most.max(1) && !ranges.is_empty(), "{most}: {}", ranges.len());
            assert!(
                ranges.windows(2).all(|w| w[0].1 < w[1].0) && ranges.iter().all(|(from, until)| from < until),
                "in order and apart"
            );
            for spot in spots().into_iter().filter(|s| area.has(*s)) {
                assert!(ranges.iter().any(|(from, until)| (*from..*until).contains(&spot.cell())), "{spot:?} of {area}");
            }
        }
        let cells = |most| area.ranges(most).iter().map(|(from, until)| until - from).sum::<i64>();
        assert!(cells(64) <= cells(4), "more ranges have less around it");
    }

    #[test]
    fn a_cell_lies_in_the_one_above() {
        for spot in spots() {
            let deep = spot.cell();
            assert!((0..1 << 48).contains(&deep));
            for level in 0..=DEEPEST {
                let cell = deep >> (2 * (DEEPEST - level));
                let (from, until) = range(level, cell);
                assert!((from..until).contains(&deep));
                assert_eq!(area_of(level, cell).ranges(1), [(from, until)], "{spot:?} {level}");
                let (c, (x, y)) = (cells_of(level, cell), spot.column_and_row());
                assert!(within((x, x), c.columns) && within((y, y), c.rows), "{spot:?} {level} {c:?}");
            }
        }
        // Rows go from south to north, and in them from west to east.
        let first = |n, e| Spot::new(n, e).unwrap().cell() >> 46;
        assert_eq!([first(-1.0, -1.0), first(-1.0, 1.0), first(1.0, -1.0), first(1.0, 1.0)], [0, 1, 2, 3]);
    }

    #[test]
    fn there_are_no_other_spots() {
        assert!(Spot::new(90.1, 0.0).is_none() && Spot::new(0.0, -180.1).is_none() && Spot::new(f64::NAN, 0.0).is_none());
        let leiden = Spot::new(52.1583, 4.4931).unwrap();
        assert_eq!((leiden.north(), leiden.east()), (52.1583, 4.4931));
    }

    #[test]
    fn the_middle_of_spots_is_between_them() {
        let sum = |spots: &[Spot]| {
            let all = spots.iter().map(|s| s.column_and_row()).fold((0, 0), |a, b| (a.0 + b.0, a.1 + b.1));
            Spot::middle(spots.len() as i64, all.0, all.1)
        };
        let spot = |n, e| Spot::new(n, e).unwrap();
        for one in spots() {
            assert!(sum(&[one]).unwrap().kilometres(one) < 0.003, "{one:?}");
            assert_eq!(Spot::of_cell(one.cell()).cell(), one.cell());
        }
        assert!(sum(&[spot(52.0, 4.0), spot(54.0, 8.0)]).unwrap().kilometres(spot(53.0, 6.0)) < 0.003);
        assert_eq!(sum(&[]), None);
    }

    #[rstest]
    #[case((52.1583, 4.4931), (52.0705, 4.3007), 16.4)]
    #[case((0.0, 179.5), (0.0, -179.5), 111.2)]
    #[case((90.0, 0.0), (-90.0, 77.0), 20015.1)]
    #[case((1.0, 1.0), (1.0, 1.0), 0.0)]
    fn distances_go_round_the_earth(#[case] a: (f64, f64), #[case] b: (f64, f64), #[case] kilometres: f64) {
        let found = Spot::new(a.0, a.1).unwrap().kilometres(Spot::new(b.0, b.1).unwrap());
        assert!((found - kilometres).abs() < 0.1, "{found}");
    }

    #[rstest]
    #[case("")]
    #[case("52/4")]
    #[case("52/4..53")]
    #[case("53/4..52/5")]
    #[case("91/4..92/5")]
    #[case("1e1/4..53/5")]
    #[case("inf/4..53/5")]
    #[case("--1/4..53/5")]
    #[case("NaN/4..53/5")]
    fn what_is_no_area_is_none(#[case] text: &str) {
        assert_eq!(Area::read(text), None);
    }

    #[test]
    fn an_area_is_told_by_its_middle_and_read_again() {
        let over = area([-30.0, 170.0, 10.0, -160.0]);
        assert_eq!(over.told(), "on the map around 10.0° S, 175.0° W");
        assert_eq!(area([52.15, 4.48, 52.17, 4.5]).told(), "on the map around 52.16° N, 4.49° E");
        assert_eq!(Area::read(&over.to_string()), Some(over));
    }
}
