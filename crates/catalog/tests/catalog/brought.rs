//! What people outside bring, and what it can do to what is here: nothing, until it is taken.

use chrono::Utc as Zone;
use ypogeion_catalog::{albums::NewAlbum, brought::Brought};
use ypogeion_core::AlbumId;

use super::{sql::ask, *};

impl World {
    async fn lands(&self, bytes: &[u8], pair: &str, brought: Option<Brought>) -> OriginalId {
        let upload = Upload {
            id: UploadId(Uuid::now_v7()),
            device: self.device,
            person: self.person,
            length: bytes.len() as u64,
            digest: None,
            name: format!("{}.jpg", String::from_utf8_lossy(bytes)),
            source: "Camera".into(),
            file_time: None,
            expires_at: self.now + TimeDelta::days(1),
            metadata: String::new(),
            concat: None,
            target: None,
            original: None,
            touched_at: self.now,
            brought,
        };
        let terms = ypogeion_catalog::uploads::Terms { free: 1 << 40, ..Default::default() };
        let promised = self.catalog.promise(&upload, &terms, self.now).await.unwrap();
        assert_eq!(promised, ypogeion_catalog::uploads::Promise::Given);
        let kept = self.catalog.upload(upload.id, self.device).await.unwrap();
        assert_eq!(kept.brought, upload.brought, "also after a restart it is known for what it comes");
        let facts = Facts { kind: Some(ypogeion_core::kind::MediaKind::Photo), pair: Some(pair.into()), ..Facts::default() };
        let landing = Landing {
            upload: &kept,
            id: OriginalId(Uuid::now_v7()),
            digest: Digest::of(bytes),
            path: &FiledPath::parse(&format!("juno/2026/04/{}.jpg", String::from_utf8_lossy(bytes))).unwrap(),
            facts: &facts,
            captured: Captured { at: self.now, local: self.now.naive_utc(), rule: CaptureRule::Received },
            at: self.now,
        };
        self.catalog.land(&landing).await.unwrap().unwrap()
    }

    /// By whom each is led, and whether it is put away.
    async fn state(&self, id: OriginalId) -> (OriginalId, bool) {
        let row = self.catalog.original(id, None).await.unwrap();
        (row.shot, row.put_away)
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_brought_belongs_to_nothing_of_the_household_until_it_is_taken() {
    let w = world().await;
    let album = AlbumId(Uuid::now_v7());
    let kites = NewAlbum { id: album, owner: w.person, name: "Kites".to_owned(), words: String::new(), follows: None };
    w.catalog.add_album(&kites, 10, w.now).await.unwrap();
    let by = |name: &str| Some(Brought { album, by: name.into() });
    // Whoever brings it says that it is the other half of a picture of the household's.
    let own = w.lands(b"own", "pair", None).await;
    let brought = w.lands(b"brought", "pair", by("Ada")).await;
    let second = w.lands(b"second", "pair", by("")).await;
    for _ in 0..2 {
        for id in [own, brought, second] {
            w.catalog.regroup(id, &Zone, w.now).await.unwrap();
        }
    }
    assert_eq!(w.state(own).await, (own, false), "nothing of it has changed");
    let lead = w.state(brought).await.0;
    assert_eq!((w.state(second).await, lead != own), ((lead, true), true), "and what came together belongs together");
    assert_eq!(w.catalog.brought_waiting(w.person).await.unwrap().count, 1);
    assert_eq!(w.catalog.brought_so_far(w.person).await.unwrap().count, 2);
    let waits = w.catalog.brought(w.person, 10).await.unwrap();
    assert_eq!((waits.len(), waits[0].id, waits[0].album.as_ref().map(|(id, _)| *id)), (1, lead, Some(album)));
    let month = w.now.format("%Y-%m").to_string();
    assert_eq!(w.catalog.months(w.person).await.unwrap(), [(month, 1)], "what waits is in no month");
    // Somebody else takes nothing of it; whose it is takes all of the picture, and then it belongs to what is here.
    let other = PersonId(Uuid::now_v7());
    assert!(w.catalog.take_brought(other, &[lead], w.now).await.unwrap().is_empty());
    assert_eq!(w.catalog.take_brought(w.person, &[lead], w.now).await.unwrap().len(), 1);
    assert!(w.catalog.take_brought(w.person, &[lead], w.now).await.unwrap().is_empty(), "twice does no harm");
    for id in [brought, second] {
        w.catalog.regroup(id, &Zone, w.now).await.unwrap();
    }
    let lead = w.state(own).await.0;
    for id in [own, brought, second] {
        assert_eq!(w.state(id).await, (lead, false));
    }
    assert_eq!(w.catalog.albums(w.person, Some(album)).await.unwrap()[0].pictures, 1);
    assert_eq!(ask(&w, "SELECT what AS line FROM discrepancy").await, [""; 0]);
}
