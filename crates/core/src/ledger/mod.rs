//! The ledger: the store's own list of what it holds, so that a replica can be read without this server.
//!
//! A ledger is a row of numbered segments; a segment is JSON Lines, one [`Record`] a line, the first of them a
//! [`Record::Segment`]. A checkpoint says in parts of the same form, each opened by a [`Record::Checkpoint`], what all segments up to its
//! number add up to, so that not all of them have to be read. How segments are compressed, sealed and named is the offsite crate's business and is described in
//! `docs/formats/store-layout.md`; what the records mean is described here and in `docs/formats/ledger.md`.

mod error;
mod heads;
mod holdings;
mod proof;
mod records;

pub use self::{
    error::LedgerError,
    heads::{CheckpointHead, LedgerEnd, SegmentHead, SegmentRef},
    holdings::{Change, Holdings, OriginalsTable, made_at},
    proof::{LedgerKey, Proof, with_proof},
    records::{
        AlbumRecord, AlbumShareRecord, BroughtRecord, DeviceRecord, EntryRecord, FORMAT, FollowsRecord, GivenPlaceRecord,
        GivenTimeRecord, GivenTurnRecord, HeldRecord, HouseholdRecord, InAlbumRecord, MacRecord, ObjectRecord, OriginalRecord,
        PersonRecord, RecipientRecord, Record, RemovedRecord, RulesRecord, StoreRecord, WordsRecord, line,
    },
};

#[cfg(test)]
mod tests {
    use chrono::DateTime;
    use uuid::Uuid;

    use super::*;
    use crate::{
        Digest, OriginalId, PersonId, capture::CaptureRule, checksum::Checksum, cost::Prices, filing::FiledPath, kind::MediaKind,
        name::OriginalName, window::Week,
    };

    fn original(id: u128, path: &str) -> Record {
        Record::Original(Box::new(OriginalRecord {
            id: OriginalId(Uuid::from_u128(id)),
            person: PersonId(Uuid::from_u128(1)),
            device: None,
            sha256: Digest::of(b"a"),
            size: 1,
            path: FiledPath::parse(path).unwrap(),
            name: OriginalName::from_device("a.jpg"),
            kind: MediaKind::Photo,
            taken_at: DateTime::UNIX_EPOCH,
            taken_local: None,
            taken_rule: CaptureRule::ExifLocal,
            landed_at: DateTime::UNIX_EPOCH,
            source: String::new(),
            file_time: None,
            shot: None,
            held: None,
            favourite_of: Vec::new(),
            albums: Vec::new(),
            without: Vec::new(),
            words: None,
            given_time: None,
            given_place: None,
            given_turn: None,
            put_away: false,
            forward: None,
            version_of: None,
            brought: None,
            object: ObjectRecord { name: "objects/00/00.age".into(), size: 200, hash: Digest::of(b"s").into() },
        }))
    }

    fn head(number: u64, format: u32) -> Record {
        Record::Segment(SegmentHead { format, replica: Uuid::nil(), number, made_at: DateTime::UNIX_EPOCH, before: None })
    }

    fn text(records: &[Record]) -> String {
        records.iter().map(|r| line(r) + "\n").collect()
    }

    #[test]
    fn later_records_replace_earlier_ones() {
        let mut holdings: Holdings = Holdings::default();
        holdings
            .take_segment(
                (Uuid::nil(), 1),
                None,
                &text(&[head(1, 1), original(5, "juno/2026/04/a.jpg"), original(6, "juno/2026/04/b.jpg")]),
            )
            .unwrap();
        holdings.take_segment((Uuid::nil(), 2), None, &text(&[head(2, 1), original(5, "juno/2026/05/a.jpg")])).unwrap();
        let paths: Vec<_> = holdings.originals.values().map(|o| o.path.as_str()).collect();
        assert_eq!(paths, ["juno/2026/05/a.jpg", "juno/2026/04/b.jpg"]);
    }

    #[test]
    fn what_was_deleted_for_good_is_not_named_any_more_unless_it_came_again() {
        let removed = Record::Removed(RemovedRecord { id: OriginalId(Uuid::from_u128(5)), at: DateTime::UNIX_EPOCH });
        let mut holdings: Holdings = Holdings::default();
        holdings
            .take_segment((Uuid::nil(), 1), None, &text(&[head(1, 1), original(5, "a/b"), original(6, "a/c"), removed]))
            .unwrap();
        assert_eq!(holdings.originals.keys().map(|id| id.0.as_u128()).collect::<Vec<_>>(), [6]);
        holdings.take_segment((Uuid::nil(), 2), None, &text(&[head(2, 1), original(5, "a/b")])).unwrap();
        assert_eq!(holdings.originals.len(), 2);
    }

    #[test]
    fn an_object_is_told_by_either_hash_and_a_store_by_what_it_verifies() {
        let object = |hash: &str| format!("{{\"name\":\"objects/00/00.age\",\"size\":200,{hash}}}");
        let digits = "ab".repeat(32);
        for algorithm in ["sha256", "blake3"] {
            let written = object(&format!("\"{algorithm}\":\"{digits}\""));
            let read: ObjectRecord = serde_json::from_str(&written).unwrap();
            assert_eq!((read.hash.algorithm().word(), read.hash.digits()), (algorithm, digits.clone()));
            assert_eq!(serde_json::to_string(&read).unwrap(), written);
        }
        assert!(serde_json::from_str::<ObjectRecord>(&object("\"later\":7")).is_err(), "without a hash it is none");
        let store = |says: &str| {
            let text = format!(
                "{{\"endpoint\":\"https://q\",\"away\":true,{says}\"week\":{},\"prices\":{}}}",
                serde_json::to_string(&Week::default()).unwrap(),
                serde_json::to_string(&Prices::default()).unwrap()
            );
            serde_json::from_str::<StoreRecord>(&text).unwrap().checksum
        };
        assert_eq!(store("\"notices\":true,"), Some(Checksum::Sha256), "as it was called up to format 2");
        assert_eq!((store("\"notices\":false,"), store("")), (None, None));
        assert_eq!(store("\"checksum\":\"crc64nvme\","), Some(Checksum::Crc64Nvme));
    }

    #[test]
    fn kinds_of_records_from_the_future_are_passed_over() {
        let future =
            format!("{}\n{{\"type\":\"constellation\",\"stars\":7}}\n{}\n", line(&head(1, 1)), line(&original(5, "a/b")));
        let mut holdings: Holdings = Holdings::default();
        holdings.take_segment((Uuid::nil(), 1), None, &future).unwrap();
        assert_eq!(holdings.originals.len(), 1);
    }

    #[test]
    fn a_segment_is_taken_whole_or_not_at_all() {
        let mut holdings: Holdings = Holdings::default();
        let torn = text(&[head(1, 1), original(5, "a/b")]) + "{\"type\":\"orig";
        assert!(matches!(holdings.take_segment((Uuid::nil(), 1), None, &torn), Err(LedgerError::NotARecord { line: 3, .. })));
        assert!(matches!(
            holdings.take_segment((Uuid::nil(), 1), None, &text(&[head(1, FORMAT + 1)])),
            Err(LedgerError::TooNew { found }) if found == FORMAT + 1
        ));
        assert!(matches!(holdings.take_segment((Uuid::nil(), 1), None, &text(&[original(5, "a/b")])), Err(LedgerError::NoHead)));
        assert!(matches!(
            holdings.take_segment((Uuid::max(), 1), None, &text(&[head(1, 1)])),
            Err(LedgerError::AnotherReplica { .. })
        ));
        assert!(holdings.originals.is_empty());
    }

    #[test]
    fn a_path_that_leads_outside_is_no_record() {
        let bad = line(&original(5, "a/b")).replace("a/b", "../b");
        let mut holdings: Holdings = Holdings::default();
        let lines = format!("{}\n{bad}\n", line(&head(1, 1)));
        assert!(matches!(holdings.take_segment((Uuid::nil(), 1), None, &lines), Err(LedgerError::NotARecord { line: 2, .. })));
    }

    #[test]
    fn a_checkpoint_stands_for_the_segments_before_it_and_later_ones_come_on_top() {
        let part = |part: u32, last: bool, records: &[Record]| {
            let head = CheckpointHead {
                format: 1,
                replica: Uuid::nil(),
                number: 7,
                part,
                last,
                made_at: DateTime::UNIX_EPOCH,
                folder: None,
                upto: None,
            };
            text(&[&[Record::Checkpoint(head)], records].concat())
        };
        let mut holdings: Holdings = Holdings::default();
        holdings.take_part((Uuid::nil(), "00000007-1234"), None, &part(1, false, &[original(5, "a/b")])).unwrap();
        assert_eq!(holdings.last_segment, 0, "not before its last part");
        holdings.take_part((Uuid::nil(), "00000007-1234"), None, &part(2, true, &[original(6, "a/c")])).unwrap();
        assert_eq!((holdings.last_segment, holdings.originals.len()), (7, 2));
        holdings.take_segment((Uuid::nil(), 8), None, &text(&[head(8, 1), original(5, "a/d")])).unwrap();
        assert_eq!((holdings.last_segment, holdings.originals[&OriginalId(Uuid::from_u128(5))].path.as_str()), (8, "a/d"));
        assert!(
            matches!(holdings.take_segment((Uuid::nil(), 1), None, &part(1, true, &[])), Err(LedgerError::NoHead)),
            "it is no segment"
        );
        assert!(matches!(
            holdings.take_part((Uuid::max(), "00000007-1234"), None, &part(1, true, &[])),
            Err(LedgerError::AnotherReplica { .. })
        ));
    }

    /// A sample of the released format, word for word. It must be read for ever.
    #[test]
    fn format_1_is_read_as_released() {
        let sample = r#"{"type":"segment","format":1,"replica":"00000000-0000-0000-0000-000000000000","number":1,"made_at":"2026-11-23T08:00:00Z"}
{"type":"household","name":"Mill House","name_key":"00"}
{"type":"person","id":"0198a000-0000-7000-8000-000000000001","name":"Juno","role":"keeper","folder":"juno"}
{"type":"device","id":"0198a000-0000-7000-8000-000000000002","person":"0198a000-0000-7000-8000-000000000001","name":"Juno's phone"}
{"type":"original","id":"0198a000-0000-7000-8000-000000000003","person":"0198a000-0000-7000-8000-000000000001","device":"0198a000-0000-7000-8000-000000000002","sha256":"e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855","size":0,"path":"juno/2026/04/IMG_2214.HEIC","name":"IMG_2214.HEIC","kind":"photo","taken_at":"2026-04-12T08:15:30Z","taken_rule":"exif-offset","landed_at":"2026-04-12T20:00:00Z","object":{"name":"objects/ab/abcd.age","size":200,"sha256":"e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"}}
"#;
        let mut holdings: Holdings = Holdings::default();
        assert_eq!(holdings.take_segment((Uuid::nil(), 1), None, sample).unwrap().0.number, 1);
        assert_eq!((holdings.people.len(), holdings.devices.len(), holdings.originals.len()), (1, 1, 1));
    }

    #[test]
    fn who_wrote_a_segment_is_proven_and_nothing_of_it_can_be_changed() {
        let (key, other) = (LedgerKey::new([7; 32]), LedgerKey::new([8; 32]));
        let lines = text(&[head(1, 2), original(5, "a/b"), original(6, "a/c")]);
        let proven = with_proof(lines.clone(), &key);
        let take = |text: &str, key: Option<&LedgerKey>, number| {
            let mut holdings: Holdings = Holdings::default();
            let taken = holdings.take_segment((Uuid::nil(), number), key, text).map(|(_, proof)| proof);
            assert_eq!(holdings.originals.len(), if taken.is_ok() { 2 } else { 0 });
            taken
        };
        assert_eq!(take(&proven, Some(&key), 1).unwrap(), Proof::Proven);
        assert_eq!(take(&proven, None, 1).unwrap(), Proof::None, "nobody can tell without the key");
        assert!(matches!(take(&proven, Some(&other), 1), Err(LedgerError::Forged)));
        assert!(matches!(take(&proven, Some(&key), 2), Err(LedgerError::Renamed)));
        assert!(matches!(take(&lines, Some(&key), 1), Err(LedgerError::NoProof)));
        assert!(matches!(take(&lines, None, 1), Err(LedgerError::NoProof)));
        // A line less, a line more, another order, another byte anywhere.
        let all: Vec<&str> = proven.lines().collect();
        let joined = |lines: &[&str]| lines.join("\n") + "\n";
        let less = joined(&[all[0], all[1], all[3]]);
        let turned = joined(&[all[0], all[2], all[1], all[3]]);
        let more = joined(&[all[0], all[1], all[2], all[1], all[3]]);
        let after = joined(&[all[0], all[1], all[3], all[2]]);
        let repeated = joined(&[all[0], all[1], all[2], all[3], all[3]]);
        for changed in [less, turned, more, after, repeated] {
            assert!(take(&changed, Some(&key), 1).is_err(), "{changed}");
        }
        for at in 0..proven.len() - 1 {
            let mut bytes = proven.clone().into_bytes();
            bytes[at] ^= 1;
            if let Ok(text) = String::from_utf8(bytes) {
                assert!(take(&text, Some(&key), 1).is_err(), "byte {at}");
            }
        }
        // One that says it is older than proofs are has none, and the reader hears that.
        let older = text(&[head(1, 1), original(5, "a/b"), original(6, "a/c")]);
        assert_eq!(take(&older, Some(&key), 1).unwrap(), Proof::None);
    }

    #[test]
    fn a_part_of_one_checkpoint_is_no_part_of_another() {
        let key = LedgerKey::new([7; 32]);
        let head = CheckpointHead {
            format: 2,
            replica: Uuid::nil(),
            number: 7,
            part: 1,
            last: true,
            made_at: DateTime::UNIX_EPOCH,
            folder: Some("00000007-1234".into()),
            upto: None,
        };
        let part = with_proof(text(&[Record::Checkpoint(head), original(5, "a/b")]), &key);
        let mut holdings: Holdings = Holdings::default();
        assert_eq!(holdings.take_part((Uuid::nil(), "00000007-1234"), Some(&key), &part).unwrap().1, Proof::Proven);
        let moved = holdings.take_part((Uuid::nil(), "00000009-1234"), Some(&key), &part);
        assert!(matches!(moved, Err(LedgerError::Renamed)));
    }

    /// A sample of the released format, word for word, with a proof that `openssl` computes as well.
    #[test]
    fn format_2_is_read_as_released() {
        let key = LedgerKey::parse("000102030405060708090a0b0c0d0e0f101112131415161718191a1b1c1d1e1f").unwrap();
        let sample = r#"{"type":"segment","format":2,"replica":"00000000-0000-0000-0000-000000000000","number":2,"made_at":"2026-11-28T08:00:00Z","before":{"name":"ledger/00000001-9d2c44e1.jsonl.gz.age","sha256":"e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"}}
{"type":"person","id":"0198a000-0000-7000-8000-000000000001","name":"Juno","role":"keeper","folder":"juno"}
{"type":"mac","hmac_sha256":"c588e4e2ae0c688c317a74c3e53af7ddf63c52e75f87080fa3fb1ca7ec108524"}
"#;
        let mut holdings: Holdings = Holdings::default();
        let (head, proof) = holdings.take_segment((Uuid::nil(), 2), Some(&key), sample).unwrap();
        assert_eq!((head.before.unwrap().name.as_str(), proof), ("ledger/00000001-9d2c44e1.jsonl.gz.age", Proof::Proven));
    }
}
