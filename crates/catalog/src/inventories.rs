//! What devices have in their sources, and what they wait for.

use chrono::{DateTime, Utc};
use uuid::Uuid;
use ypogeion_core::{DeviceId, PersonId};

use crate::{Catalog, CatalogError, Connection, Result, db::*, signed, unsigned};

/// One source of a device, as it said.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SourceTold {
    /// What it is called.
    pub name: String,
    /// Files that are to be backed up.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Of these, not sent yet when they were counted, if it says so.
    pub fresh: Option<u64>,
    /// Left out by the owner's choice.
    pub left_out: u64,
    /// That choice in a few words.
    pub rule: String,
    /// The platform shows only a selection.
    pub selection_only: bool,
}

/// One source of a device against what is here.
#[derive(Clone, Debug)]
pub struct Coverage {
    /// As the device said.
    pub told: SourceTold,
    /// When.
    pub told_at: DateTime<Utc>,
    /// Of these, at home.
    pub home: u64,
    /// Of these, refused by the server.
    pub refused: u64,
    /// Removed by the device with a clearance; at home all the same.
    pub cleared: u64,
}

/// Something that a device has and the household has not.
#[derive(Clone, Debug)]
pub struct Difference {
    /// Source.
    pub source: String,
    /// Name in there.
    pub name: String,
    /// Bytes.
    pub size: u64,
    /// Why the server does not want it, if that is why.
    pub refused: Option<String>,
    /// When the device last said that it has it.
    pub seen_at: DateTime<Utc>,
}

#[derive(Queryable, Selectable)]
#[diesel(table_name = device_source)]
struct CoverageRow {
    name: String,
    files: i64,
    bytes: i64,
    left_out: i64,
    rule: String,
    selection_only: bool,
    told_at: DateTime<Utc>,
}

impl Catalog {
    /// Notes what a device says of its sources. Sources that it does not name any more are forgotten; what came from them is
    /// not.
    pub async fn note_sources(&self, device: DeviceId, sources: &[SourceTold], now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        whole!(c, {
            let named: Vec<&str> = sources.iter().map(|s| s.name.as_str()).collect();
            let others = device_source::table.filter(device_source::device.eq(device.0).and(device_source::name.ne_all(named)));
            delete(others).execute(c).await?;
            for s in sources {
                let row = (
                    device_source::device.eq(device.0),
                    device_source::name.eq(&s.name),
                    device_source::files.eq(signed(s.files)),
                    device_source::bytes.eq(signed(s.bytes)),
                    device_source::left_out.eq(signed(s.left_out)),
                    device_source::rule.eq(&s.rule),
                    device_source::selection_only.eq(s.selection_only),
                    device_source::told_at.eq(now),
                    device_source::fresh.eq(s.fresh.map(signed)),
                );
                insert_into(device_source::table)
                    .values(row)
                    .on_conflict((device_source::device, device_source::name))
                    .do_update()
                    .set((row, device_source::named.eq(0)))
                    .execute(c)
                    .await?;
            }
            Ok::<_, CatalogError>(())
        })
        .await
    }

    /// Notes what a device waits for; `None`: nothing.
    pub async fn note_waiting(&self, device: DeviceId, waiting_for: Option<&str>) -> Result<()> {
        let mut c = self.async_commit_connection().await?;
        let other = device::table.find(device.0).filter(device::waiting_for.is_distinct_from(waiting_for));
        update(other).set(device::waiting_for.eq(waiting_for)).execute(&mut c).await?;
        Ok(())
    }

    /// A device's sources, number against number. `person` limits it to that member's devices.
    pub async fn coverage(&self, device: DeviceId, person: Option<PersonId>) -> Result<Vec<Coverage>> {
        self.look_at_names().await?;
        let mut c = self.connection().await?;
        if !self.is_device_of(&mut c, device, person).await? {
            return Ok(Vec::new());
        }
        let sources = device_source::table.filter(device_source::device.eq(device.0)).order(device_source::name);
        let rows: Vec<CoverageRow> = sources.select(CoverageRow::as_select()).load(&mut c).await?;
        // What is kept of a device's names, by source: as `fact source`.
        let kept: Vec<(String, i64)> = counts::table
            .filter(counts::about.eq(device.0))
            .group_by(counts::fact)
            .select((counts::fact, total(counts::n)))
            .load(&mut c)
            .await?;
        let of = |fact: &str, source: &str| {
            let is = |kept: &str| kept.split_once(' ').is_some_and(|(f, s)| f == fact && s == source);
            kept.iter().find(|(kept, _)| is(kept)).map_or(0, |(_, n)| unsigned(*n))
        };
        Ok(rows
            .into_iter()
            .map(|r| Coverage {
                told_at: r.told_at,
                home: of("here", &r.name),
                refused: of("refused", &r.name),
                cleared: of("cleared", &r.name),
                told: SourceTold {
                    name: r.name,
                    files: unsigned(r.files),
                    bytes: unsigned(r.bytes),
                    fresh: None,
                    left_out: unsigned(r.left_out),
                    rule: r.rule,
                    selection_only: r.selection_only,
                },
            })
            .collect())
    }

    /// What a device has by name and the household has not: the first of it. What had left the device by its last whole run is not among it,
    /// unless it came once.
    pub async fn difference(&self, device: DeviceId, person: Option<PersonId>, limit: i64) -> Result<Vec<Difference>> {
        self.look_at_names().await?;
        let mut c = self.connection().await?;
        if !self.is_device_of(&mut c, device, person).await? {
            return Ok(Vec::new());
        }
        type Row = (String, String, i64, Option<String>, DateTime<Utc>);
        let rows: Vec<Row> = sighting::table
            .filter(sighting::device.eq(device.0).and(sighting::removed_at.is_null()).and(not(sighting::here)))
            .filter(sighting::known.or(not(sighting::unnamed)))
            .order((sighting::source, sighting::name))
            .limit(limit)
            .select((sighting::source, sighting::name, sighting::size, sighting::refused, sighting::seen_at))
            .load(&mut c)
            .await?;
        let lacks =
            |(source, name, size, refused, seen_at): Row| Difference { source, name, size: unsigned(size), refused, seen_at };
        Ok(rows.into_iter().map(lacks).collect())
    }

    /// Whether there is such a device, of that member if one is named.
    async fn is_device_of(&self, c: &mut Connection, device: DeviceId, person: Option<PersonId>) -> Result<bool> {
        let owner: Option<Uuid> = device::table.find(device.0).select(device::person).get_result(c).await.optional()?;
        Ok(owner.is_some_and(|owner| person.is_none_or(|p| p.0 == owner)))
    }
}
