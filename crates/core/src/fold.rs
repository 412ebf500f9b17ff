//! Lines of a list that say the same thing are told as one.

use std::{collections::HashMap, hash::Hash};

/// Puts together what has the same key, at the place of the first; what has none stands alone. The order stays, of the groups and in each.
///
/// ```
/// use ypogeion_core::fold::fold;
/// let runs = [("phone", 0), ("phone", 3), ("laptop", 0), ("phone", 0)];
/// // A backup that found nothing new is told once for each device.
/// let folded = fold(runs, |(device, sent)| (*sent == 0).then_some(*device));
/// assert_eq!(folded, [vec![("phone", 0), ("phone", 0)], vec![("phone", 3)], vec![("laptop", 0)]]);
/// ```
pub fn fold<T, K: Eq + Hash>(lines: impl IntoIterator<Item = T>, key: impl Fn(&T) -> Option<K>) -> Vec<Vec<T>> {
    let (mut groups, mut open): (Vec<Vec<T>>, HashMap<K, usize>) = Default::default();
    for line in lines {
        let place = key(&line).map(|k| *open.entry(k).or_insert(groups.len()));
        match place.and_then(|p| groups.get_mut(p)) {
            Some(group) => group.push(line),
            None => groups.push(vec![line]),
        }
    }
    groups
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_is_lost_and_nothing_is_put_together_that_says_otherwise() {
        // Every list of up to seven lines that say nothing in particular, or one of two things.
        for case in 0..3u32.pow(7) {
            let digits = (0..7).map(|n| case / 3u32.pow(n) % 3);
            let lines: Vec<(u32, Option<u32>)> = (0..).zip(digits.map(|d| d.checked_sub(1))).take(case as usize % 8).collect();
            let folded = fold(lines.clone(), |(_, key)| *key);
            let mut all = folded.concat();
            all.sort_unstable();
            assert_eq!(all, lines);
            for group in &folded {
                assert!(group.iter().all(|(_, key)| *key == group[0].1 && (group.len() == 1 || key.is_some())), "{folded:?}");
                assert!(group.is_sorted(), "{folded:?}");
            }
            // One group for each thing that is said, in the order in which it was said first.
            assert!(folded.iter().map(|g| g[0]).is_sorted(), "{folded:?}");
            assert!((0..2).all(|key| folded.iter().filter(|g| g[0].1 == Some(key)).count() <= 1), "{folded:?}");
        }
    }
}
