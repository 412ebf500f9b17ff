//! How somebody turns a picture that lies on its side, whatever its file says of that. No pixel of the file is changed by it.

/// Quarters of a turn to the right.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct Turn(u8);

impl Turn {
    /// So many quarters to the right; less than 0: to the left. Four are none.
    pub fn of(quarters: i64) -> Self {
        Turn(quarters.rem_euclid(4) as u8)
    }

    /// How many quarters to the right: 0 to 3.
    pub fn quarters(self) -> u8 {
        self.0
    }

    /// Whether it lies as its file says.
    pub fn is_none(self) -> bool {
        self.0 == 0
    }

    /// This one, and another one after it.
    #[must_use]
    pub fn and(self, then: Turn) -> Turn {
        Turn((self.0 + then.0) % 4)
    }

    /// How a picture is to be shown that is turned so and whose file says `orientation`, which may be missing or make no sense: in the same
    /// numbers, those of Exif (CIPA DC-008, 4.6.5.1.6, tag 0x0112). Pictures that are seen in a mirror stay in it.
    ///
    /// ```
    /// use ypogeion_core::turn::Turn;
    /// // A camera was held so that its picture is to be turned to the right (6); a quarter more, and it stands on its head.
    /// assert_eq!(Turn::of(1).after(Some(6)), 3);
    /// ```
    pub fn after(self, orientation: Option<u8>) -> u8 {
        const PLAIN: [u8; 4] = [1, 6, 3, 8];
        const MIRRORED: [u8; 4] = [2, 7, 4, 5];
        let quarter = |of: &[u8; 4]| of.iter().position(|o| Some(*o) == orientation);
        let (of, from) = match (quarter(&PLAIN), quarter(&MIRRORED)) {
            (_, Some(from)) => (MIRRORED, from),
            (from, None) => (PLAIN, from.unwrap_or(0)),
        };
        of[(from + usize::from(self.0)) % 4]
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    /// Where a corner (left and top are `false`) comes to, by the names of the orientations: how a program shows them.
    fn shown(orientation: u8, (right, bottom): (bool, bool)) -> (bool, bool) {
        match orientation {
            1 => (right, bottom),
            2 => (!right, bottom),
            3 => (!right, !bottom),
            4 => (right, !bottom),
            5 => (bottom, right),
            6 => (!bottom, right),
            7 => (!bottom, !right),
            _ => (bottom, !right),
        }
    }

    #[test]
    fn each_orientation_that_is_turned_is_that_one() {
        for orientation in 1..=8 {
            for quarters in -4..=7 {
                let turn = Turn::of(quarters);
                for corner in [(false, false), (true, false), (false, true), (true, true)] {
                    let expected = (0..quarters.rem_euclid(4)).fold(shown(orientation, corner), |at, _| shown(6, at));
                    assert_eq!(shown(turn.after(Some(orientation)), corner), expected, "{orientation} turned by {quarters}");
                }
            }
        }
    }

    #[rstest]
    #[case(None)]
    #[case(Some(0))]
    #[case(Some(9))]
    fn a_file_that_says_nothing_lies_as_it_is(#[case] orientation: Option<u8>) {
        assert_eq!((0..4).map(|q| Turn::of(q).after(orientation)).collect::<Vec<_>>(), [1, 6, 3, 8]);
    }

    #[test]
    fn turns_add_up() {
        for (one, other) in (0..16).map(|n| (n / 4 - 2, n % 4 - 2)) {
            assert_eq!(Turn::of(one).and(Turn::of(other)), Turn::of(one + other));
        }
        assert_eq!((Turn::of(i64::MIN).quarters(), Turn::of(i64::MAX).quarters()), (0, 3));
        assert!(Turn::of(2).and(Turn::of(-2)).is_none());
    }
}
