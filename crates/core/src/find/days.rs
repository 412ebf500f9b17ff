//! Days: one, a span of them, or the same ones of each year; and how people say them.

use chrono::{Datelike, Days as Many, Months, NaiveDate, Weekday};

/// From a day on, until another one, which is not in it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Span {
    /// The first day; the earliest of all, if there is none.
    pub from: NaiveDate,
    /// The day after the last one; the latest of all, if there is none.
    pub until: NaiveDate,
}

impl Span {
    /// Always.
    pub const ALL: Span = Span { from: NaiveDate::MIN, until: NaiveDate::MAX };

    fn new(from: NaiveDate, until: NaiveDate) -> Option<Self> {
        (from < until).then_some(Span { from, until })
    }

    fn day(day: NaiveDate) -> Option<Self> {
        Span::new(day, day.succ_opt()?)
    }

    fn month(year: i32, month: u32) -> Option<Self> {
        let from = NaiveDate::from_ymd_opt(year, month, 1)?;
        Span::new(from, from.checked_add_months(Months::new(1))?)
    }

    fn years(first: i32, last: i32) -> Option<Self> {
        Span::new(NaiveDate::from_ymd_opt(first, 1, 1)?, NaiveDate::from_ymd_opt(last + 1, 1, 1)?)
    }
}

/// The parts of `spans` that are in one of `others` as well. Both are in order and apart, and so is what comes of it.
pub fn both(spans: &[Span], others: &[Span]) -> Vec<Span> {
    let (mut one, mut other, mut found) = (0, 0, Vec::new());
    while let (Some(a), Some(b)) = (spans.get(one), others.get(other)) {
        found.extend(Span::new(a.from.max(b.from), a.until.min(b.until)));
        if a.until <= b.until {
            one += 1;
        } else {
            other += 1;
        }
    }
    found
}

/// All that is not in `spans`, which are in order and apart.
pub fn without(spans: &[Span]) -> Vec<Span> {
    let starts = std::iter::once(Span::ALL.from).chain(spans.iter().map(|s| s.until));
    let ends = spans.iter().map(|s| s.from).chain([Span::ALL.until]);
    starts.zip(ends).filter_map(|(from, until)| Span::new(from, until)).collect()
}

/// Days that come once in each year.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Yearly {
    /// From a day of a month (from 1) to another one of it, which is in it.
    Dates(u32, u32, u32),
    /// A whole month, from 1.
    Month(u32),
    /// Three months, by the first of them: those of the meteorologists, in the north.
    Season(u32),
    /// Good Friday to Easter Monday, by the Gregorian rule.
    Easter,
    /// 24 to 26 December.
    Christmas,
    /// 31 December and the day after it: of the year that begins.
    NewYear,
}

impl Yearly {
    /// When that is in a year. None in a year without such a day.
    pub fn of(self, year: i32) -> Option<Span> {
        let date = |month, day| NaiveDate::from_ymd_opt(year, month, day);
        match self {
            Yearly::Dates(month, first, last) => Span::new(date(month, first)?, date(month, last)?.succ_opt()?),
            Yearly::Month(month) => Span::month(year, month),
            Yearly::Season(month) => {
                let from = date(month, 1)?;
                Span::new(from, from.checked_add_months(Months::new(3))?)
            }
            Yearly::Easter => {
                let sunday = easter_sunday(year)?;
                Span::new(sunday.checked_sub_days(Many::new(2))?, sunday.checked_add_days(Many::new(2))?)
            }
            Yearly::Christmas => Span::new(date(12, 24)?, date(12, 27)?),
            Yearly::NewYear => Span::new(date(1, 1)?.pred_opt()?, date(1, 2)?),
        }
    }

    /// The last one that began on this day or before it.
    fn latest(self, today: NaiveDate) -> Option<Span> {
        (0..9).filter_map(|back| self.of(today.year() + 1 - back)).find(|s| s.from <= today)
    }

    fn told(self) -> String {
        match self {
            Yearly::Dates(month, first, last) if first == last => format!("{first} {} of each year", month_name(month)),
            Yearly::Dates(month, first, last) => format!("{first} to {last} {} of each year", month_name(month)),
            Yearly::Month(month) => format!("{} of each year", month_name(month)),
            Yearly::Season(month) => format!("each {}", SEASONS.iter().find(|(_, m)| *m == month).map_or("", |(name, _)| name)),
            Yearly::Easter => "each Easter".to_owned(),
            Yearly::Christmas => "each Christmas".to_owned(),
            Yearly::NewYear => "each New Year".to_owned(),
        }
    }
}

/// By the rule of 1582 in the form of Meeus, Jones and Butcher (Meeus, *Astronomical Algorithms*, chapter 8).
fn easter_sunday(year: i32) -> Option<NaiveDate> {
    let (a, b, c) = (year % 19, year / 100, year % 100);
    let h = (19 * a + b - b / 4 - (b - (b + 8) / 25 + 1) / 3 + 15) % 30;
    let l = (32 + 2 * (b % 4) + 2 * (c / 4) - h - c % 4) % 7;
    let m = (a + 11 * h + 22 * l) / 451;
    let n = h + l - 7 * m + 114;
    NaiveDate::from_ymd_opt(year, u32::try_from(n / 31).ok()?, u32::try_from(n % 31 + 1).ok()?)
}

/// When something was taken.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Days {
    /// In this span.
    Span(Span),
    /// On these days, in whatever year.
    Each(Yearly),
}

impl Days {
    /// The spans that are meant, in order and apart, of those that touch these years (both included).
    pub fn spans(self, first: i32, last: i32) -> Vec<Span> {
        match self {
            Days::Span(span) => vec![span],
            // A winter reaches into the next year, a New Year back into the one before.
            Days::Each(yearly) => (first.saturating_sub(1)..=last.saturating_add(1)).filter_map(|year| yearly.of(year)).collect(),
        }
    }

    /// One span: of what comes each year, the last one that has begun.
    fn latest(self, today: NaiveDate) -> Option<Span> {
        match self {
            Days::Span(span) => Some(span),
            Days::Each(yearly) => yearly.latest(today),
        }
    }

    /// As people say it; what is said is read as the same days again.
    pub fn told(self) -> String {
        let Span { from, until } = match self {
            Days::Each(yearly) => return yearly.told(),
            Days::Span(span) => span,
        };
        let last = until.pred_opt().unwrap_or(until);
        let month = |d: NaiveDate| format!("{} {}", month_name(d.month()), d.year());
        let day = |d: NaiveDate| format!("{} {}", d.day(), month(d));
        let (year_starts, year_ends) = (from.ordinal() == 1, until.ordinal() == 1);
        match (from == Span::ALL.from, until == Span::ALL.until) {
            (true, true) => "any day".to_owned(),
            (true, false) => format!("before {}", day(until)),
            (false, true) => format!("since {}", day(from)),
            _ if from == last => day(from),
            _ if year_starts && year_ends && from.year() == last.year() => from.year().to_string(),
            _ if year_starts && year_ends => format!("{} to {}", from.year(), last.year()),
            _ if from.day() == 1 && until.day() == 1 && (from.year(), from.month()) == (last.year(), last.month()) => month(from),
            _ if from.day() == 1 && until.day() == 1 => format!("{} to {}", month(from), month(last)),
            _ => format!("{} to {}", day(from), day(last)),
        }
    }
}

const MONTHS: [&str; 12] =
    ["January", "February", "March", "April", "May", "June", "July", "August", "September", "October", "November", "December"];

fn month_name(month: u32) -> &'static str {
    MONTHS.get(month.wrapping_sub(1) as usize).copied().unwrap_or_default()
}

/// Names of seasons, and the month that each begins with.
const SEASONS: [(&str, u32); 5] = [("spring", 3), ("summer", 6), ("autumn", 9), ("winter", 12), ("fall", 9)];
const FEASTS: [(&str, Yearly); 7] = [
    ("easter", Yearly::Easter),
    ("christmas", Yearly::Christmas),
    ("christmas eve", Yearly::Dates(12, 24, 24)),
    ("new year", Yearly::NewYear),
    ("new years eve", Yearly::Dates(12, 31, 31)),
    ("new years day", Yearly::Dates(1, 1, 1)),
    ("halloween", Yearly::Dates(10, 31, 31)),
];

/// What comes each year and has a name, for whoever is about to write it.
pub(super) fn named() -> impl Iterator<Item = String> {
    let seasons = SEASONS.iter().take(4).map(|(name, _)| (*name).to_owned());
    let feasts = FEASTS.iter().map(|(name, _)| (*name).to_owned());
    MONTHS.iter().map(|m| (*m).to_owned()).chain(seasons).chain(feasts)
}

/// What of the words is about days, and how many words that is. `None`: they begin with something else.
pub(super) fn read(words: &[&str], today: NaiveDate) -> Option<(Days, usize)> {
    let bound = |at: usize| {
        let (days, used) = point(words.get(at..)?, today)?;
        Some((days.latest(today)?, at + used))
    };
    let to = |from: Span, at: usize, joins: &[&str]| {
        let second = words.get(at).is_some_and(|w| joins.contains(w)).then(|| bound(at + 1))??;
        Some((Days::Span(Span::new(from.from, second.0.until)?), second.1))
    };
    let relation =
        |at: usize, of: fn(Span) -> Option<Span>| bound(at).and_then(|(span, used)| Some((Days::Span(of(span)?), used)));
    match *words.first()? {
        "since" => return relation(1, |s| Span::new(s.from, Span::ALL.until)),
        "after" => return relation(1, |s| Span::new(s.until, Span::ALL.until)),
        "before" => return relation(1, |s| Span::new(Span::ALL.from, s.from)),
        "until" | "till" => return relation(1, |s| Span::new(Span::ALL.from, s.until)),
        "between" => return bound(1).and_then(|(from, at)| to(from, at, &["and", "to", "-"])),
        "from" => return bound(1).and_then(|(from, at)| to(from, at, &["to", "until", "till", "-"])),
        "each" | "every" => {
            return point(&words[1..], today).filter(|(d, _)| matches!(d, Days::Each(_))).map(|(d, n)| (d, n + 1));
        }
        _ => {}
    }
    let (days, used) = point(words, today)?;
    if let (Days::Each(_), ["of", "each" | "every", "year", ..]) = (days, &words[used..]) {
        return Some((days, used + 3));
    }
    days.latest(today).and_then(|from| to(from, used, &["to", "until", "till", "-"])).or(Some((days, used)))
}

/// Days without a word about what they have to do with others.
fn point(words: &[&str], today: NaiveDate) -> Option<(Days, usize)> {
    let span = |span: Option<Span>, used| Some((Days::Span(span?), used));
    let first = *words.first()?;
    match first {
        "today" => return span(Span::day(today), 1),
        "yesterday" => return span(Span::day(today.pred_opt()?), 1),
        "this" => return this(words.get(1)?, today).map(|s| (Days::Span(s), 2)),
        "last" | "past" => return last(&words[1..], today).map(|(s, used)| (Days::Span(s), used + 1)),
        _ => {}
    }
    if let (Ok(n), Some(unit), Some(&"ago")) = (first.parse::<u32>(), words.get(1), words.get(2)) {
        return span(ago(n, unit, today), 3);
    }
    if let Some(found) = number(first, today) {
        // A year may come before its month.
        if let (Some(year), Some(month)) = (year(first, today), words.get(1).and_then(|w| month(w))) {
            return span(Span::month(year, month), 2);
        }
        return Some((Days::Span(found), 1));
    }
    let (yearly, used) = yearly(words)?;
    let at = used + usize::from(words.get(used) == Some(&"of"));
    match words.get(at).and_then(|w| year(w, today)) {
        Some(year) => span(yearly.of(year), at + 1),
        None => Some((Days::Each(yearly), used)),
    }
}

/// What comes each year.
fn yearly(words: &[&str]) -> Option<(Yearly, usize)> {
    let feast = FEASTS.iter().filter(|(name, _)| {
        let name: Vec<&str> = name.split(' ').collect();
        words.len() >= name.len() && name.iter().zip(words).all(|(n, w)| n == w)
    });
    if let Some((name, yearly)) = feast.max_by_key(|(name, _)| name.len()) {
        return Some((*yearly, name.split(' ').count()));
    }
    let first = *words.first()?;
    if let Some((_, month)) = SEASONS.iter().find(|(name, _)| *name == first) {
        return Some((Yearly::Season(*month), 1));
    }
    let days = |first: u32, last: u32, month: u32, used: usize| {
        // Some year has it.
        let there = |day| NaiveDate::from_ymd_opt(2024, month, day).is_some();
        (first <= last && there(first) && there(last)).then_some((Yearly::Dates(month, first, last), used))
    };
    if let Some(month) = month(first) {
        let dated = words.get(1).and_then(|w| day(w)).and_then(|d| days(d, d, month, 2));
        return dated.or(Some((Yearly::Month(month), 1)));
    }
    let after = |at: usize| {
        let at = at + usize::from(words.get(at) == Some(&"of"));
        words.get(at).and_then(|w| month(w)).map(|m| (m, at + 1))
    };
    if let Some((from, to)) = first.split_once('-') {
        let (month, used) = after(1)?;
        return days(day(from)?, day(to)?, month, used);
    }
    let one = day(first)?;
    if let (Some(&("to" | "until" | "till" | "-")), Some(last)) = (words.get(1), words.get(2).and_then(|w| day(w))) {
        let (month, used) = after(3)?;
        return days(one, last, month, used);
    }
    let (month, used) = after(1)?;
    days(one, one, month, used)
}

fn month(word: &str) -> Option<u32> {
    // "ma" may be two of them, and "jun" is one.
    let short = word.len() >= 3 && !word.contains(' ');
    let at = MONTHS.iter().position(|m| {
        m.to_lowercase() == word || short && (m.to_lowercase()[..3] == *word || word == "sept" && *m == "September")
    })?;
    u32::try_from(at + 1).ok()
}

fn day(word: &str) -> Option<u32> {
    let digits = ["st", "nd", "rd", "th"].iter().find_map(|end| word.strip_suffix(end)).unwrap_or(word);
    let short = (1..=2).contains(&digits.len()) && digits.bytes().all(|b| b.is_ascii_digit());
    digits.parse().ok().filter(|d| short && (1..=31).contains(d))
}

/// A year that pictures may be of. Another number is the number of a picture, sooner.
fn year(word: &str, today: NaiveDate) -> Option<i32> {
    let number = (word.len() == 4 && word.bytes().all(|b| b.is_ascii_digit())).then(|| word.parse().ok())?;
    number.filter(|y| (1826..=today.year() + 1).contains(y))
}

/// `2019`, `1990s`, `2019-2021`, `2019-05`, `2019-05-03`, `3.5.2019`, `5/2019`, `25/12/2019`. Where day and month could be either, neither is guessed.
fn number(word: &str, today: NaiveDate) -> Option<Span> {
    if let Some(one) = year(word, today) {
        return Span::years(one, one);
    }
    if let Some(decade) = word.strip_suffix('s').and_then(|w| year(w, today)).filter(|y| y % 10 == 0) {
        return Span::years(decade, decade + 9);
    }
    let of = |parts: &[&str], year_at: usize, month_at: usize, day_at: Option<usize>| {
        let (year, month) = (year(parts.get(year_at)?, today)?, day(parts.get(month_at)?)?);
        match day_at {
            Some(at) => Span::day(NaiveDate::from_ymd_opt(year, month, day(parts.get(at)?)?)?),
            None => Span::month(year, month),
        }
    };
    let parts = |by: char| word.split(by).collect::<Vec<_>>();
    match (parts('-').as_slice(), parts('.').as_slice(), parts('/').as_slice()) {
        ([one, other], ..) if year(other, today).is_some() => Span::years(year(one, today)?, year(other, today)?),
        (p @ [_, _], ..) => of(p, 0, 1, None),
        (p @ [_, _, _], ..) => of(p, 0, 1, Some(2)),
        (_, p @ [_, _, _], _) => of(p, 2, 1, Some(0)),
        (.., p @ [_, _]) => of(p, 1, 0, None),
        (.., p @ [one, other, _]) => match (day(one)?, day(other)?) {
            (a, b) if a > 12 || a == b => of(p, 2, 1, Some(0)),
            (_, b) if b > 12 => of(p, 2, 0, Some(1)),
            _ => None,
        },
        _ => None,
    }
}

fn this(word: &str, today: NaiveDate) -> Option<Span> {
    match word {
        "week" => {
            let monday = today.week(Weekday::Mon).checked_first_day()?;
            Span::new(monday, monday.checked_add_days(Many::new(7))?)
        }
        "month" => Span::month(today.year(), today.month()),
        "year" => Span::years(today.year(), today.year()),
        _ => {
            let yearly = yearly(&[word])?.0;
            // In January, this winter is the one that began last year.
            let present = yearly.of(today.year() - 1).filter(|s| s.from <= today && today < s.until);
            present.or_else(|| yearly.of(today.year()))
        }
    }
}

/// What was before the present one, or the last so many.
fn last(words: &[&str], today: NaiveDate) -> Option<(Span, usize)> {
    let first = *words.first()?;
    if let (Ok(n), Some(unit)) = (first.parse::<u32>(), words.get(1)) {
        return Some((Span::new(back(n, unit, today)?, today.succ_opt()?)?, 2));
    }
    let before = |span: Span| this(first, span.from.pred_opt()?);
    if let "week" | "month" | "year" = first {
        return Some((before(this(first, today)?)?, 1));
    }
    let weekdays = ["monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"];
    if let Some(at) = weekdays.iter().position(|d| *d == first) {
        let back = (today.weekday().num_days_from_monday() as u64 + 6 - at as u64) % 7 + 1;
        return Some((Span::day(today.checked_sub_days(Many::new(back))?)?, 1));
    }
    let (yearly, used) = yearly(words)?;
    let ended = (0..9).filter_map(|back| yearly.of(today.year() + 1 - back)).find(|s| s.until <= today)?;
    Some((ended, used))
}

/// The same day so long before.
fn back(n: u32, unit: &str, today: NaiveDate) -> Option<NaiveDate> {
    match unit.strip_suffix('s').unwrap_or(unit) {
        "day" => today.checked_sub_days(Many::new(n.into())),
        "week" => today.checked_sub_days(Many::new(u64::from(n) * 7)),
        "month" => today.checked_sub_months(Months::new(n)),
        "year" => today.checked_sub_months(Months::new(n.checked_mul(12)?)),
        _ => None,
    }
}

/// The day, week, month or year so long ago.
fn ago(n: u32, unit: &str, today: NaiveDate) -> Option<Span> {
    let then = back(n, unit, today)?;
    match unit.strip_suffix('s').unwrap_or(unit) {
        "day" => Span::day(then),
        whole => this(whole, then),
    }
}
