//! Filling an empty catalogue from a store's ledger: after the database was lost, or the whole house.
//!
//! Every step may be done again: what is there stays. Nothing is said about the home disk here; [`crate::work::Kind::Fetch`] looks.

use std::collections::HashSet;

use chrono::{DateTime, Local, TimeZone, Utc};
use diesel::{
    sql_query,
    sql_types::{Array, BigInt, Jsonb, Text, Timestamptz, Uuid as SqlUuid},
};
use serde_json::{Value, json};
use ypogeion_core::{
    Digest, OriginalId, StoreId,
    capture::{Captured, Facts},
    kind::MediaKind,
    layers::{Act, Outcome},
    ledger::{DeviceRecord, EntryRecord, OriginalRecord, RecipientRecord, SegmentRef},
    shot,
    spot::Spot,
};

use crate::{
    Catalog, CatalogError, Result,
    db::*,
    derived::FROM,
    given::MOST_GIVEN,
    shots::lock_pictures,
    signed,
    wishes::{WISH, due_for, wish, work_for},
    work::Kind,
};

impl Catalog {
    /// Adds a device of a ledger. It has no token any more and has to be paired again: it is there for its history.
    pub async fn rebuild_device(&self, told: &DeviceRecord, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        if !select(exists(person::table.find(told.person.0).select(person::id))).get_result::<bool>(&mut c).await? {
            return Ok(());
        }
        let row = (
            device::id.eq(told.id.0),
            device::person.eq(told.person.0),
            device::name.eq(&told.name),
            device::kind.eq(told.kind.as_deref().unwrap_or("computer")),
            // Nothing hashes to it.
            device::token_hash.eq(told.id.0.as_bytes().as_slice()),
            device::paired_at.eq(now),
            device::revoked_at.eq(now),
        );
        insert_into(device::table).values(row).on_conflict_do_nothing().execute(&mut c).await?;
        Ok(())
    }

    /// Adds somebody who could open what was sealed. Nothing is sealed anew by that: it was sealed for them already.
    pub async fn rebuild_recipient(&self, told: &RecipientRecord) -> Result<()> {
        let mut c = self.connection().await?;
        let row = (
            other_recipient::recipient.eq(&told.recipient),
            other_recipient::name.eq(&told.name),
            other_recipient::added_at.eq(told.added_at),
        );
        insert_into(other_recipient::table).values(row).on_conflict_do_nothing().execute(&mut c).await?;
        Ok(())
    }

    /// Adds originals of a store's ledger, with their objects there, and puts down that each is to be brought home; in the order in which
    /// they are given. `there`: whether the store's list has their objects, with the right sizes.
    pub async fn rebuild_originals(
        &self,
        store: StoreId,
        originals: &[(OriginalRecord, bool)],
        now: DateTime<Utc>,
    ) -> Result<()> {
        let rows = Value::Array(originals.iter().map(|(o, there)| row(o, *there, &Local)).collect());
        let mut c = self.connection().await?;
        whole!(c, {
            // Text: rows that are handed in, each once, however many tables they go to.
            sql_query(format!(
                "WITH told AS (
                     SELECT * FROM jsonb_to_recordset($1) AS t (n integer, id uuid, person uuid, device uuid, digest text, size bigint, name text,
                         path text, folded text, kind text, taken_at timestamptz, taken_local timestamp, taken_rule text, landed_at timestamptz,
                         source text, file_time timestamptz, shot_key text, shot uuid, held_at timestamptz, held_until timestamptz, was_at text,
                         favourite_of uuid[], albums jsonb, without uuid[], words jsonb, given_time jsonb, given_place jsonb, given_turn jsonb, put_away boolean, forward timestamptz, version_of uuid, brought jsonb, object text, sealed_size bigint, sealed_hash text, sealed_algorithm text, there boolean)
                     WHERE EXISTS (SELECT 1 FROM person p WHERE p.id = t.person)
                 ), kept AS (
                     INSERT INTO original (id, person, device, digest, size, name, path, folded, kind, taken_at, taken_local, taken_rule, facts,
                         landed_at, source, file_time, shot_key, shot, held_at, put_away)
                     SELECT id, person, (SELECT d.id FROM device d WHERE d.id = t.device), decode(digest, 'hex'), size, name, path, folded, kind,
                         taken_at, taken_local, taken_rule, '{{}}', landed_at, source, file_time, shot_key, coalesce(shot, id), held_at, put_away
                     FROM told t ON CONFLICT DO NOTHING RETURNING id
                 ), waiting AS (
                     INSERT INTO held (original, was_at, deleted_by, at, until)
                     SELECT t.id, t.was_at, 'somebody', t.held_at, t.held_until FROM told t JOIN kept k USING (id) WHERE t.held_at IS NOT NULL
                 ), first AS (
                     INSERT INTO forward (original, forward_at) SELECT t.id, t.forward FROM told t JOIN kept k USING (id) WHERE t.forward IS NOT NULL
                 ), made AS (
                     INSERT INTO version (original, version_of)
                     SELECT t.id, t.version_of FROM told t JOIN kept k USING (id) WHERE t.version_of IS NOT NULL AND t.version_of <> t.id
                 ), inbox AS (
                     INSERT INTO brought (original, person, album, brought_by, brought_at)
                     SELECT t.id, t.person, a.id, left(concat(t.brought ->> 'by'), 100), (t.brought ->> 'at')::timestamptz
                     FROM told t JOIN kept k USING (id) LEFT JOIN album a ON a.id = (t.brought ->> 'album')::uuid WHERE t.brought ->> 'at' IS NOT NULL
                 ), liked AS (
                     INSERT INTO favourite (person, original)
                     SELECT p.id, t.id FROM told t JOIN kept k USING (id) JOIN person p ON p.id = ANY (t.favourite_of)
                 ), gathered AS (
                     INSERT INTO album_picture (album, original, added_by, added_at, followed)
                     SELECT a.id, t.id, p.id, i.at, coalesce(i.followed, false) FROM told t JOIN kept k USING (id)
                     CROSS JOIN LATERAL jsonb_to_recordset(t.albums) AS i (album uuid, by uuid, at timestamptz, followed boolean)
                     JOIN album a ON a.id = i.album LEFT JOIN person p ON p.id = i.by
                     ON CONFLICT DO NOTHING
                 ), left_out AS (
                     INSERT INTO album_without (album, original)
                     SELECT a.id, t.id FROM told t JOIN kept k USING (id) JOIN album a ON a.id = ANY (t.without) ON CONFLICT DO NOTHING
                 ), written AS (
                     INSERT INTO words (original, of_file, title, caption, written_by, written_at)
                     SELECT t.id, false, left(concat(t.words ->> 'title'), 200), left(concat(t.words ->> 'caption'), 5000), p.id, (t.words ->> 'at')::timestamptz
                     FROM told t JOIN kept k USING (id) LEFT JOIN person p ON p.id = (t.words ->> 'by')::uuid WHERE t.words ->> 'at' IS NOT NULL
                 ), timed AS (
                     INSERT INTO given_time (original, seconds, given_by, given_at)
                     SELECT t.id, (t.given_time ->> 'seconds')::bigint, p.id, (t.given_time ->> 'at')::timestamptz
                     FROM told t JOIN kept k USING (id) LEFT JOIN person p ON p.id = (t.given_time ->> 'by')::uuid
                     WHERE abs((t.given_time ->> 'seconds')::bigint) <= {MOST_GIVEN} AND t.given_time ->> 'at' IS NOT NULL
                 ), placed AS (
                     INSERT INTO given_place (original, north, east, given_by, given_at)
                     SELECT t.id, (t.given_place -> 'place' ->> 0)::double precision, (t.given_place -> 'place' ->> 1)::double precision, p.id,
                         (t.given_place ->> 'at')::timestamptz
                     FROM told t JOIN kept k USING (id) LEFT JOIN person p ON p.id = (t.given_place ->> 'by')::uuid
                     WHERE t.given_place ->> 'at' IS NOT NULL
                 ), turned AS (
                     INSERT INTO given_turn (original, quarters, given_by, given_at)
                     SELECT t.id, (t.given_turn ->> 'quarters')::smallint, p.id, (t.given_turn ->> 'at')::timestamptz
                     FROM told t JOIN kept k USING (id) LEFT JOIN person p ON p.id = (t.given_turn ->> 'by')::uuid
                     WHERE (t.given_turn ->> 'quarters')::smallint BETWEEN 1 AND 3 AND t.given_turn ->> 'at' IS NOT NULL
                 )
                 INSERT INTO job (kind, key, priority, due)
                 SELECT 'fetch', t.id, CASE WHEN t.held_at IS NULL THEN 16 ELSE 3 END, $2 FROM told t JOIN kept k USING (id) ORDER BY t.n
                 {WISH}"
            ))
            .bind::<Jsonb, _>(&rows)
            .bind::<Timestamptz, _>(now)
            .execute(c)
            .await?;
            // What the store has, as its ledger and its list say together.
            sql_query(
                "WITH told AS (
                     SELECT t.* FROM jsonb_to_recordset($1) AS t (id uuid, digest text, object text, sealed_size bigint, sealed_hash text, sealed_algorithm text, there boolean)
                     JOIN original o ON o.id = t.id
                 ), objects AS (
                     INSERT INTO object (store, digest, name, size, sealed_hash, sealed_algorithm, confirmed_at)
                     SELECT $2, decode(digest, 'hex'), object, sealed_size, decode(sealed_hash, 'hex'), sealed_algorithm, $3 FROM told WHERE there
                     ON CONFLICT DO NOTHING
                 ), seen AS (
                     INSERT INTO observation (original, place, act, at, outcome)
                     SELECT id, $2, $4, $3, CASE WHEN there THEN $5 ELSE $6 END FROM told
                     WHERE NOT EXISTS (SELECT 1 FROM standing s WHERE s.original = told.id AND s.place = $2)
                 )
                 INSERT INTO standing (original, place, good, since, listed) SELECT id, $2, there, $3, there FROM told ON CONFLICT DO NOTHING",
            )
            .bind::<Jsonb, _>(&rows)
            .bind::<SqlUuid, _>(store.0)
            .bind::<Timestamptz, _>(now)
            .bind::<Text, _>(Act::Listed.word())
            .bind::<Text, _>(Outcome::Right.word())
            .bind::<Text, _>(Outcome::Missing.word())
            .execute(c)
            .await?;
            Ok::<_, CatalogError>(())
        })
        .await?;
        self.grew(originals.len());
        Ok(())
    }

    /// The ledger of a store goes on after this segment. `due`: not all of it has a proof, so all of it is said once more.
    /// `recorded`: the last line of the house's record that it has.
    pub async fn rebuild_segment(
        &self,
        store: StoreId,
        (last, recorded): (u64, u64),
        end: Option<&SegmentRef>,
        due: bool,
    ) -> Result<()> {
        self.segment_written(store, last, &[], (None, end), recorded).await?;
        if due {
            let mut c = self.connection().await?;
            update(store::table.find(store.0)).set(store::checkpoint_due.eq(true)).execute(&mut c).await?;
        }
        Ok(())
    }

    /// Lines of the house's record, as its ledgers have them. One that is there already stays: nothing of the record ever changes.
    pub async fn rebuild_record(&self, entries: impl IntoIterator<Item = &EntryRecord>) -> Result<()> {
        let mut c = self.connection().await?;
        let mut rest = entries.into_iter().peekable();
        while rest.peek().is_some() {
            let some: Vec<&EntryRecord> = rest.by_ref().take(1000).collect();
            // Text: Diesel gives no row the number that the database would give it.
            sql_query(
                "INSERT INTO record (id, at, who, what) OVERRIDING SYSTEM VALUE SELECT * FROM unnest($1, $2, $3, $4) ON CONFLICT DO NOTHING",
            )
            .bind::<Array<BigInt>, _>(some.iter().map(|e| signed(e.number)).collect::<Vec<_>>())
            .bind::<Array<Timestamptz>, _>(some.iter().map(|e| e.at).collect::<Vec<_>>())
            .bind::<Array<Text>, _>(some.iter().map(|e| e.who.as_str()).collect::<Vec<_>>())
            .bind::<Array<Text>, _>(some.iter().map(|e| e.what.as_str()).collect::<Vec<_>>())
            .execute(&mut c)
            .await?;
        }
        // What is written from now on comes after it.
        sql_query("SELECT setval(pg_get_serial_sequence('record', 'id'), greatest((SELECT max(id) FROM record), 1))")
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// All filed paths, folded.
    pub async fn all_paths(&self) -> Result<HashSet<String>> {
        let mut c = self.connection().await?;
        let all: Vec<String> = original::table
            .filter(original::folded.is_not_null())
            .select(original::folded.assume_not_null())
            .load(&mut c)
            .await?;
        Ok(all.into_iter().collect())
    }

    /// An original that came from a ledger is at home: what was read from it, and the work that follows (previews, company, what may be
    /// made from it, and copies for the stores that have none). When it was taken stays as the ledger says: it may have been put right.
    /// `dated`: when it was taken by these facts, if it was dated without any.
    pub async fn fetched(&self, id: OriginalId, facts: &Facts, dated: Option<Captured>, now: DateTime<Utc>) -> Result<()> {
        let read = serde_json::to_value(facts).expect("facts are text and numbers");
        let made_from = facts.media_type.as_deref().is_some_and(|t| FROM.contains(&t));
        let mut c = self.connection().await?;
        whole!(c, {
            lock_pictures(c, &[id.0]).await?;
            let here = update(original::table.find(id.0)).set((original::facts.eq(&read), original::pair.eq(&facts.pair)));
            let held_at: Option<Option<DateTime<Utc>>> = here.returning(original::held_at).get_result(c).await.optional()?;
            let Some(held_at) = held_at else { return Ok(()) };
            let given = given_time::table.find(id.0).select(given_time::original);
            let given: Option<uuid::Uuid> = given.get_result(c).await.optional()?;
            if let Some(dated) = dated.filter(|_| given.is_none()) {
                let time = (
                    original::taken_at.eq(dated.at),
                    original::taken_local.eq(dated.local),
                    original::taken_rule.eq(dated.rule.word()),
                );
                update(original::table.find(id.0)).set(time).execute(c).await?;
                due_for(c, Kind::Refile, &[id.0], 4, now).await?;
            }
            let good = standing::table.find((id.0, store::id)).filter(standing::good).select(standing::place);
            let without = store::table.filter(not(exists(good))).order(store::id);
            let key = id.0.into_sql::<SqlUuid>();
            wish!(from without.select(work_for!(Kind::Replicate, key, store::id.nullable(), 13, now))).execute(c).await?;
            due_for(c, Kind::Preview, &[id.0], 20, now).await?;
            due_for(c, Kind::Group, &[id.0], 18, now).await?;
            if facts.kind == Some(MediaKind::Video) || facts.film_inside.is_some() {
                due_for(c, Kind::Film, &[id.0], 26, now).await?;
            }
            if held_at.is_some() {
                // Deleted before the ledger's last word, and perhaps not moved by then.
                due_for(c, Kind::Hold, &[id.0], 19, now).await?;
            }
            if made_from && household::table.select(household::derive_jpeg).get_result::<bool>(c).await? {
                due_for(c, Kind::Derive, &[id.0], 22, now).await?;
            }
            Ok::<_, CatalogError>(())
        })
        .await?;
        self.work_added(&Kind::ALL);
        Ok(())
    }
}

fn row<Z: TimeZone>(o: &OriginalRecord, there: bool, zone: &Z) -> Value {
    let (folder, bare) = shot::place_on_device(&o.source, o.name.as_str());
    let hex = |d: Digest| d.to_string();
    json!({
        "id": o.id, "person": o.person, "device": o.device, "digest": hex(o.sha256), "size": o.size, "name": o.name.as_str(),
        "path": o.path.as_str(), "folded": o.path.folded(), "kind": o.kind.word(), "taken_at": o.taken_at,
        "taken_local": o.taken_local.unwrap_or_else(|| o.taken_at.with_timezone(zone).naive_local()), "taken_rule": o.taken_rule.word(),
        "landed_at": o.landed_at, "source": o.source, "file_time": o.file_time,
        // Of one whose device nobody knows, no other is told to be of the same shot by its name.
        "shot_key": o.device.map_or_else(|| o.id.to_string(), |d| shot::key(Some(d), &folder, &bare)), "shot": o.shot,
        "held_at": o.held.as_ref().map(|h| h.at), "held_until": o.held.as_ref().and_then(|h| h.until),
        "was_at": o.held.as_ref().map(|h| h.was_at.as_str()), "favourite_of": o.favourite_of, "albums": o.albums, "without": o.without,
        "words": o.words, "given_time": o.given_time, "given_turn": o.given_turn, "put_away": o.put_away, "forward": o.forward, "version_of": o.version_of, "brought": o.brought,
        // What is no place is none that anybody gave.
        "given_place": o.given_place.as_ref().filter(|g| g.place.is_none_or(|(north, east)| Spot::new(north, east).is_some())),
        "object": o.object.name, "sealed_size": o.object.size, "sealed_hash": o.object.hash.digits(),
        "sealed_algorithm": o.object.hash.algorithm().word(), "there": there,
    })
}
