//! The recovery kit: the sheet of paper with which a replica can be opened when the house is gone.
//!
//! It is plain text in `Name: value` lines, so that it can be read aloud, typed, or taken from its QR code. The last line
//! is a check over all the lines above it, so that a slip in typing is noticed before anything is tried.

use std::fmt::Write as _;

use chrono::NaiveDate;

use crate::{
    Digest,
    ledger::{LedgerEnd, LedgerKey},
};

/// Where a store is and how to sign in there.
#[derive(Clone, PartialEq, Eq)]
pub struct StoreAddress {
    /// What the household calls it.
    pub name: String,
    /// URL of the S3-compatible endpoint; `davs://` (or `dav://`) and the rest of the address of a WebDAV share; or `file://` and the whole
    /// path of a folder, for a disk. A disk has no region, bucket or keys.
    pub endpoint: String,
    /// Region, as the endpoint wants it in signatures.
    pub region: String,
    /// Bucket.
    pub bucket: String,
    /// Everything of this household is below this prefix; may be empty.
    pub prefix: String,
    /// Access key id.
    pub access_key: String,
    /// Secret access key.
    pub secret_key: String,
    /// Whether the house decided that copies there are sealed. What lies in the store never decides that.
    pub sealed: bool,
    /// SHA-256 of the one certificate that is trusted there, for a store at home for which no authority vouches.
    pub certificate: Option<Digest>,
}

impl StoreAddress {
    /// The URL of a WebDAV share, if it is one: `davs://` stands for `https://`, `dav://` for `http://`. A share has no bucket and no region;
    /// its keys are a name and a password.
    pub fn share(&self) -> Option<String> {
        let (scheme, rest) = self.endpoint.split_once("://")?;
        match scheme {
            "davs" => Some(format!("https://{rest}")),
            "dav" => Some(format!("http://{rest}")),
            _ => None,
        }
    }

    /// The folder, if it is a disk.
    pub fn disk(&self) -> Option<&str> {
        self.endpoint.strip_prefix("file://").filter(|p| p.starts_with('/'))
    }

    /// Whether it is an object store. A disk and a share may be away, and what is then there of a folder says nothing.
    pub fn is_bucket(&self) -> bool {
        self.disk().is_none() && self.share().is_none()
    }
}

impl std::fmt::Debug for StoreAddress {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "StoreAddress({} at {}/{}/{})", self.name, self.endpoint, self.bucket, self.prefix)
    }
}

/// Everything on the sheet.
#[derive(Clone, PartialEq, Eq)]
pub struct RecoveryKit {
    /// The household's name.
    pub household: String,
    /// The day it was made.
    pub made: NaiveDate,
    /// The age identity, `AGE-SECRET-KEY-1…`: it opens every sealed object.
    pub key: String,
    /// Keys that the household had before: some of what is in the stores may still be sealed for them.
    pub older: Vec<String>,
    /// The key that proves who wrote the stores' ledgers. Kits of an earlier version have none.
    pub ledger_key: Option<LedgerKey>,
    /// The stores, at least one.
    pub stores: Vec<StoreAddress>,
    /// Where the ledger of each store ended when the kit was made, in the same order.
    pub ends: Vec<Option<KitEnd>>,
}

/// Where a ledger ended, as it is on paper.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KitEnd {
    /// Number of its last segment.
    pub number: u64,
    /// The first digits of that one's SHA-256.
    pub digits: String,
}

impl KitEnd {
    /// How many digits.
    const DIGITS: usize = 16;

    /// As much of an end as is on paper.
    pub fn of(end: &LedgerEnd) -> Self {
        KitEnd { number: end.number, digits: end.segment.sha256.to_string()[..Self::DIGITS].to_owned() }
    }

    fn parse(text: &str) -> Option<Self> {
        let (number, digits) = text.split_once(' ')?;
        let digits = digits.trim().to_ascii_lowercase();
        let fits = digits.len() == Self::DIGITS && digits.bytes().all(|b| b.is_ascii_hexdigit());
        Some(KitEnd { number: number.parse().ok()?, digits }).filter(|_| fits)
    }
}

impl std::fmt::Debug for RecoveryKit {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "RecoveryKit({}, {}, {:?})", self.household, self.made, self.stores)
    }
}

/// The words for a store's copies. A kit of an earlier version has none: its stores are sealed.
const SEALED: &str = "sealed";
const READABLE: &str = "readable";

const TITLE: &str = "Ypogeion recovery kit 1";

/// Why a text is not a usable kit.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
pub enum KitError {
    /// It does not begin as a kit does.
    #[error("this is not a recovery kit: its first line should be \"{TITLE}\"")]
    NotAKit,
    /// A line is missing.
    #[error("the recovery kit has no \"{0}\" line; was all of it copied?")]
    Missing(&'static str),
    /// A line is not understood.
    #[error("line {0} of the recovery kit is not understood")]
    Line(usize),
    /// The check does not fit: something was mistyped.
    #[error("the recovery kit's check does not fit: a letter was mistyped or a line is missing")]
    Check,
}

impl RecoveryKit {
    /// The kit's text.
    pub fn to_text(&self) -> String {
        let mut text = format!("{TITLE}\nHousehold: {}\nMade: {}\nKey: {}\n", one_line(&self.household), self.made, self.key);
        for key in &self.older {
            let _ = writeln!(text, "Older key: {key}");
        }
        if let Some(key) = &self.ledger_key {
            let _ = writeln!(text, "Ledger key: {}", key.reveal());
        }
        for (n, s) in self.stores.iter().enumerate() {
            let fields = [
                ("Store", &s.name),
                ("Address", &s.endpoint),
                ("Region", &s.region),
                ("Bucket", &s.bucket),
                ("Prefix", &s.prefix),
                (if s.share().is_some() { "User name" } else { "Access key" }, &s.access_key),
                (if s.share().is_some() { "Password" } else { "Secret key" }, &s.secret_key),
                ("Copies", &(if s.sealed { SEALED } else { READABLE }).to_owned()),
            ];
            // Whoever types it is spared what a disk or a share does not have.
            let needless = |name: &str| match name {
                "Region" | "Bucket" => s.disk().is_some() || s.share().is_some(),
                "Access key" | "Secret key" => s.disk().is_some(),
                _ => false,
            };
            for (name, value) in fields.into_iter().filter(|(name, _)| !needless(name)) {
                let _ = writeln!(text, "{name}: {}", one_line(value));
            }
            if let Some(certificate) = &s.certificate {
                let _ = writeln!(text, "Certificate: {certificate}");
            }
            if let Some(Some(end)) = self.ends.get(n) {
                let _ = writeln!(text, "Ledger: {} {}", end.number, end.digits);
            }
        }
        let check = check(&text);
        text + "Check: " + &check + "\n"
    }

    /// A hash of all that it says but its date, and where the ledgers end: two kits with the same one open and prove the same.
    pub fn says(&self) -> Digest {
        Digest::of(RecoveryKit { made: NaiveDate::default(), ends: Vec::new(), ..self.clone() }.to_text().as_bytes())
    }

    /// The check in its last line.
    pub fn check_word(&self) -> String {
        let text = self.to_text();
        text.trim_end().rsplit(' ').next().unwrap_or_default().to_owned()
    }

    /// Reads a kit's text. Forgives spaces around lines and blank lines, since people type it; forgives nothing else.
    pub fn parse(text: &str) -> Result<Self, KitError> {
        let lines: Vec<&str> = text.lines().map(str::trim).filter(|l| !l.is_empty()).collect();
        if lines.first() != Some(&TITLE) {
            return Err(KitError::NotAKit);
        }
        let mut kit = RecoveryKit {
            household: String::new(),
            made: NaiveDate::default(),
            key: String::new(),
            older: Vec::new(),
            ledger_key: None,
            stores: Vec::new(),
            ends: Vec::new(),
        };
        let (mut seen_check, mut body) = (None, format!("{TITLE}\n"));
        for (index, line) in lines.iter().enumerate().skip(1) {
            let (name, value) = match line.split_once(':') {
                Some((name, value)) if seen_check.is_none() => (name.trim(), value.trim()),
                _ => return Err(KitError::Line(index + 1)),
            };
            if name != "Check" {
                let _ = writeln!(body, "{name}: {value}");
            }
            let value = value.to_owned();
            match (name, kit.stores.last_mut()) {
                ("Household", None) => kit.household = value,
                ("Made", None) => kit.made = value.parse().map_err(|_| KitError::Line(index + 1))?,
                ("Key", None) => kit.key = value,
                ("Older key", None) => kit.older.push(value),
                ("Ledger key", None) => {
                    kit.ledger_key = Some(LedgerKey::parse(&value).ok_or(KitError::Line(index + 1))?);
                }
                ("Ledger", Some(_)) => {
                    kit.ends.resize(kit.stores.len() - 1, None);
                    kit.ends.push(Some(KitEnd::parse(&value).ok_or(KitError::Line(index + 1))?));
                }
                ("Store", _) => kit.stores.push(StoreAddress {
                    name: value,
                    endpoint: String::new(),
                    region: String::new(),
                    bucket: String::new(),
                    prefix: String::new(),
                    access_key: String::new(),
                    secret_key: String::new(),
                    sealed: true,
                    certificate: None,
                }),
                ("Address", Some(s)) => s.endpoint = value,
                ("Region", Some(s)) => s.region = value,
                ("Bucket", Some(s)) => s.bucket = value,
                ("Prefix", Some(s)) => s.prefix = value,
                ("Access key" | "User name", Some(s)) => s.access_key = value,
                ("Secret key" | "Password", Some(s)) => s.secret_key = value,
                ("Copies", Some(s)) if value == SEALED || value == READABLE => s.sealed = value == SEALED,
                ("Certificate", Some(s)) => s.certificate = Some(value.parse().map_err(|_| KitError::Line(index + 1))?),
                ("Check", _) => seen_check = Some(value),
                _ => return Err(KitError::Line(index + 1)),
            }
        }
        let Some(seen) = seen_check else { return Err(KitError::Missing("Check")) };
        if seen != check(&body) {
            return Err(KitError::Check);
        }
        kit.ends.resize(kit.stores.len(), None);
        match () {
            () if kit.key.is_empty() => Err(KitError::Missing("Key")),
            () if kit.stores.is_empty() => Err(KitError::Missing("Store")),
            () if kit.stores.iter().any(|s| s.endpoint.is_empty()) => Err(KitError::Missing("Address")),
            () if kit.stores.iter().any(|s| s.bucket.is_empty() && s.disk().is_none() && s.share().is_none()) => {
                Err(KitError::Missing("Bucket"))
            }
            () => Ok(kit),
        }
    }
}

fn check(body: &str) -> String {
    Digest::of(body.as_bytes()).to_string()[..8].to_owned()
}

fn one_line(value: &str) -> String {
    value.split_whitespace().collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn kit() -> RecoveryKit {
        RecoveryKit {
            household: "Mill House".into(),
            made: NaiveDate::from_ymd_opt(2026, 11, 23).unwrap(),
            key: "AGE-SECRET-KEY-1EXAMPLE".into(),
            older: Vec::new(),
            ledger_key: Some(LedgerKey::new([7; 32])),
            ends: vec![Some(KitEnd { number: 17, digits: "0123456789abcdef".into() })],
            stores: vec![StoreAddress {
                name: "North Quay".into(),
                endpoint: "https://quay.example:9000".into(),
                region: "north".into(),
                bucket: "mill-house".into(),
                prefix: String::new(),
                access_key: "AK".into(),
                secret_key: "SK:with:colons".into(),
                sealed: true,
                certificate: None,
            }],
        }
    }

    #[test]
    fn a_kit_reads_back_from_paper() {
        let text = kit().to_text();
        assert_eq!(RecoveryKit::parse(&text).unwrap(), kit());
        let typed = text.replace('\n', "  \n\n   ");
        assert_eq!(RecoveryKit::parse(&typed).unwrap(), kit());
    }

    #[test]
    fn older_keys_stand_behind_the_present_one() {
        let kit = RecoveryKit { older: vec!["AGE-SECRET-KEY-1OLD".into(), "AGE-SECRET-KEY-1OLDER".into()], ..kit() };
        assert!(
            kit.to_text()
                .contains("Key: AGE-SECRET-KEY-1EXAMPLE\nOlder key: AGE-SECRET-KEY-1OLD\nOlder key: AGE-SECRET-KEY-1OLDER\n")
        );
        assert_eq!(RecoveryKit::parse(&kit.to_text()).unwrap(), kit);
        // The date is of no weight for what a kit opens.
        let later = RecoveryKit { made: NaiveDate::from_ymd_opt(2027, 1, 1).unwrap(), ..kit.clone() };
        assert_eq!(later.says(), kit.says());
        assert_ne!(RecoveryKit { older: Vec::new(), ..kit.clone() }.says(), kit.says());
    }

    #[test]
    fn a_disk_needs_nothing_but_its_folder() {
        let mut kit = kit();
        let address = StoreAddress {
            name: "Red disk".into(),
            endpoint: "file:///media/red".into(),
            region: String::new(),
            ..kit.stores[0].clone()
        };
        let disk = StoreAddress { bucket: String::new(), access_key: String::new(), secret_key: String::new(), ..address };
        kit.stores.push(disk);
        kit.ends.push(None);
        let text = kit.to_text();
        assert!(text.contains("Store: Red disk\nAddress: file:///media/red\nPrefix: \nCopies: sealed\nCheck: "), "{text}");
        assert_eq!(RecoveryKit::parse(&text).unwrap(), kit);
    }

    #[test]
    fn a_share_has_a_name_and_a_password() {
        let mut kit = kit();
        kit.stores[0] = StoreAddress {
            name: "Aunt’s box".into(),
            endpoint: "davs://box.example/copies".into(),
            region: String::new(),
            bucket: String::new(),
            access_key: "mill".into(),
            secret_key: "weir".into(),
            ..kit.stores[0].clone()
        };
        let text = kit.to_text();
        assert!(
            text.contains(
                "Address: davs://box.example/copies\nPrefix: \nUser name: mill\nPassword: weir\nCopies: sealed\nLedger: 17 0123456789abcdef\nCheck: "
            ),
            "{text}"
        );
        assert_eq!(RecoveryKit::parse(&text).unwrap(), kit);
        assert_eq!(kit.stores[0].share().as_deref(), Some("https://box.example/copies"));
    }

    #[test]
    fn a_store_at_home_is_known_by_its_certificate() {
        let mut kit = kit();
        let plain = kit.says();
        kit.stores[0].certificate = Some(Digest::of(b"the box under the stairs"));
        let text = kit.to_text();
        let line = format!("Copies: sealed\nCertificate: {}\nLedger: 17", Digest::of(b"the box under the stairs"));
        assert!(text.contains(&line), "{text}");
        assert_eq!(RecoveryKit::parse(&text).unwrap(), kit);
        assert_ne!(kit.says(), plain, "the sheet that was printed before is out of date");
    }

    #[rstest]
    #[case::mistyped("EXAMPLE", "EXAMPIE", KitError::Check)]
    #[case::line_lost("Region: north\n", "", KitError::Check)]
    #[case::another_text("Ypogeion recovery", "Shopping list", KitError::NotAKit)]
    #[case::half_a_kit("Check: ", "Chuck: ", KitError::Line(15))]
    #[case::no_way_of_keeping("Copies: sealed", "Copies: open", KitError::Line(13))]
    #[case::no_end("Ledger: 17 0123456789abcdef", "Ledger: 17 0123456789", KitError::Line(14))]
    #[case::no_key("Ledger key: 07", "Ledger key: ", KitError::Line(5))]
    fn a_slip_is_noticed(#[case] from: &str, #[case] to: &str, #[case] error: KitError) {
        assert_eq!(RecoveryKit::parse(&kit().to_text().replace(from, to)), Err(error));
    }

    #[test]
    fn the_kit_says_whether_copies_are_sealed() {
        let mut readable = kit();
        readable.stores[0].sealed = false;
        assert!(readable.to_text().contains("\nCopies: readable\n"));
        assert_eq!(RecoveryKit::parse(&readable.to_text()).unwrap(), readable);
        assert_ne!(readable.says(), kit().says());
        // One of an earlier version, which said nothing of it.
        let body = kit().to_text().replace("Copies: sealed\n", "");
        let body = body.split("Check: ").next().unwrap();
        assert_eq!(RecoveryKit::parse(&format!("{body}Check: {}\n", check(body))).unwrap(), kit());
    }

    #[test]
    fn where_a_ledger_ends_is_told_and_makes_no_kit_out_of_date() {
        let mut later = kit();
        later.ends = vec![Some(KitEnd { number: 90, digits: "fedcba9876543210".into() })];
        assert_eq!(later.says(), kit().says());
        assert_ne!(RecoveryKit { ledger_key: None, ..kit() }.says(), kit().says());
        // One of an earlier version knows neither.
        let old = RecoveryKit { ledger_key: None, ends: vec![None], ..kit() };
        assert!(!old.to_text().contains("Ledger"));
        assert_eq!(RecoveryKit::parse(&old.to_text()).unwrap(), old);
    }

    #[test]
    fn a_kit_cut_short_says_so() {
        let text = kit().to_text();
        let cut = &text[..text.find("Check").unwrap()];
        assert_eq!(RecoveryKit::parse(cut), Err(KitError::Missing("Check")));
    }

    #[test]
    fn secrets_do_not_print() {
        let shown = format!("{:?}", kit());
        assert!(!shown.contains("AGE-SECRET") && !shown.contains("SK:with"), "{shown}");
    }
}
