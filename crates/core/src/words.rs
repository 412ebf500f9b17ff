//! Numbers, sizes and spans of time as people say them. Used for sentences; tables and JSON carry plain numbers.

use chrono::TimeDelta;

/// `27412` → `27,412`.
pub fn count(n: u64) -> String {
    let digits = n.to_string();
    let mut out = String::with_capacity(digits.len() + digits.len() / 3);
    for (i, c) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            out.push(',');
        }
        out.push(c);
    }
    out
}

/// `1, "picture"` → `1 picture`; `31, "picture"` → `31 pictures`.
pub fn counted(n: u64, one: &str) -> String {
    if n == 1 { format!("1 {one}") } else { format!("{} {one}s", count(n)) }
}

/// Bytes in decimal units, as disks and phones are sold: `398 GB`, `3.4 GB`, `812 bytes`.
pub fn size(bytes: u64) -> String {
    const UNITS: [&str; 5] = ["kB", "MB", "GB", "TB", "PB"];
    if bytes < 1000 {
        return if bytes == 1 { "1 byte".to_owned() } else { format!("{bytes} bytes") };
    }
    let mut value = bytes as f64 / 1000.0;
    let mut unit = 0;
    while value >= 999.5 && unit + 1 < UNITS.len() {
        value /= 1000.0;
        unit += 1;
    }
    if value < 9.95 { format!("{value:.1} {}", UNITS[unit]) } else { format!("{value:.0} {}", UNITS[unit]) }
}

/// Reads a size as people write it: `20GB`, `1.5 TB`, `800 kB`, `812`. Units are decimal, in any case.
///
/// ```
/// use ypogeion_core::words::parse_size;
/// assert_eq!(parse_size("1.5 GB"), Some(1_500_000_000));
/// assert_eq!(parse_size("a lot"), None);
/// ```
pub fn parse_size(text: &str) -> Option<u64> {
    let text = text.trim();
    let end = text.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(text.len());
    let (number, unit) = text.split_at(end);
    let power = match unit.trim().to_ascii_lowercase().as_str() {
        "" | "b" | "bytes" => 0,
        "k" | "kb" => 3,
        "m" | "mb" => 6,
        "g" | "gb" => 9,
        "t" | "tb" => 12,
        _ => return None,
    };
    let value = number.parse::<f64>().ok()? * 10f64.powi(power);
    (0.0..=1e18).contains(&value).then_some(value as u64)
}

/// A span of time in its largest fitting unit: `3 hours`, `9 days`, `less than a minute`.
pub fn span(delta: TimeDelta) -> String {
    let minutes = delta.num_minutes().max(0) as u64;
    match minutes {
        0 => "less than a minute".to_owned(),
        1..=119 => counted(minutes, "minute"),
        120..=2879 => counted(minutes / 60, "hour"),
        _ => counted(minutes / 1440, "day"),
    }
}

/// Joins names as a sentence does: `Piet’s phone`, `Piet’s phone and the study desktop`, `a, b and 2 more`.
pub fn list(names: &[&str]) -> String {
    match names {
        [] => String::new(),
        [one] => (*one).to_owned(),
        [one, two] => format!("{one} and {two}"),
        [one, two, rest @ ..] => format!("{one}, {two} and {} more", rest.len()),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    /// The console is held against the same file.
    #[test]
    fn numbers_and_sizes_are_said_as_the_samples_say() {
        #[derive(serde::Deserialize)]
        struct Samples {
            count: Vec<(u64, String)>,
            counted: Vec<(u64, String, String)>,
            size: Vec<(u64, String)>,
        }
        let samples: Samples = serde_json::from_str(include_str!("../../../console/src/words.samples.json")).unwrap();
        assert!(samples.count.len() > 5 && samples.counted.len() > 3 && samples.size.len() > 12);
        for (n, said) in samples.count {
            assert_eq!(count(n), said);
        }
        for (n, one, said) in samples.counted {
            assert_eq!(counted(n, &one), said);
        }
        for (bytes, said) in samples.size {
            assert_eq!(size(bytes), said, "{bytes}");
        }
    }

    #[rstest]
    #[case(10, "less than a minute")]
    #[case(60, "1 minute")]
    #[case(3 * 3600, "3 hours")]
    #[case(9 * 86400, "9 days")]
    fn spans_take_their_largest_unit(#[case] seconds: i64, #[case] said: &str) {
        assert_eq!(span(TimeDelta::seconds(seconds)), said);
    }
}
