//! How far the ledger of each store is written.

use chrono::{DateTime, Utc};
use diesel::{
    sql_query,
    sql_types::{Array, Text, Uuid as SqlUuid},
};
use ypogeion_core::{Digest, StoreId, ledger::SegmentRef};

use crate::{
    Catalog, CatalogError, Result, columns::HashColumn, db::*, originals::Unlisted, signed, wishes::ledger_due, work::Kind,
};

impl Catalog {
    /// A store's ledger has a checkpoint up to this segment. Another one is due if [`Catalog::say_all_again`] was called while it was written.
    pub async fn checkpoint_written(&self, store: StoreId, number: u64) -> Result<()> {
        let mut c = self.connection().await?;
        update(store::table.find(store.0))
            .set((
                store::checkpoint.eq(greatest(store::checkpoint, signed(number))),
                store::checkpoint_due.eq(store::said.is_null()),
            ))
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// A ledger segment is in the store: the originals in it are listed as they were written, and its number is used up. One of which
    /// anything has changed since it was read, or whose copy there has, stays to be written.
    /// `said`: the hash of what it said of the household.
    pub async fn segment_written(
        &self,
        store: StoreId,
        number: u64,
        written: &[Unlisted],
        (said, end): (Option<Digest>, Option<&SegmentRef>),
        recorded: u64,
    ) -> Result<()> {
        #[derive(Clone, AsChangeset)]
        #[diesel(table_name = store)]
        struct Said {
            said: Option<HashColumn>,
            ledger_name: Option<String>,
            ledger_digest: Option<HashColumn>,
        }
        let said = Said {
            said: said.map(HashColumn),
            ledger_name: end.map(|e| e.name.clone()),
            ledger_digest: end.map(|e| HashColumn(e.sha256)),
        };
        let mut c = self.connection().await?;
        whole!(c, {
            // Text: joined with rows that are handed in, by a column that every table has and none declares.
            sql_query(
                "UPDATE standing s SET listed = true FROM unnest($2, $3, $4) AS w (id, version, copy), original o
                 WHERE s.place = $1 AND s.original = w.id AND s.xmin::text = w.copy AND o.id = w.id AND o.xmin::text = w.version",
            )
            .bind::<SqlUuid, _>(store.0)
            .bind::<Array<SqlUuid>, _>(written.iter().map(|w| w.original.id.0).collect::<Vec<_>>())
            .bind::<Array<Text>, _>(written.iter().map(|w| w.original.version.as_str()).collect::<Vec<_>>())
            .bind::<Array<Text>, _>(written.iter().map(|w| w.copy.as_str()).collect::<Vec<_>>())
            .execute(c)
            .await?;
            update(store::table.find(store.0))
                .set((
                    store::ledger_segment.eq(greatest(store::ledger_segment, signed(number))),
                    store::recorded.eq(greatest(store::recorded, signed(recorded))),
                    said.clone(),
                ))
                .execute(c)
                .await?;
            Ok::<_, CatalogError>(())
        })
        .await
    }

    /// Whether a store's ledger said this of the household last: by its hash.
    pub async fn has_said(&self, store: StoreId, said: Digest) -> Result<bool> {
        let mut c = self.connection().await?;
        let so = store::table.find(store.0).filter(store::said.eq(HashColumn(said)));
        Ok(select(exists(so.select(store::id))).get_result(&mut c).await?)
    }

    /// A store's ledger lacks something: everything is said once more, by a segment and a checkpoint.
    pub async fn say_all_again(&self, store: StoreId, at: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        let nothing = (store::checkpoint_due.eq(true), store::said.eq(None::<Vec<u8>>));
        update(store::table.find(store.0)).set(nothing).execute(&mut c).await?;
        drop(c);
        self.want_ledger(store, at).await
    }

    /// Puts down that the store's ledger has something to be written, unless that is down already.
    pub async fn want_ledger(&self, store: StoreId, at: DateTime<Utc>) -> Result<()> {
        ledger_due(&mut *self.connection().await?, store, at).await?;
        self.work_added(&[Kind::Ledger]);
        Ok(())
    }
}
