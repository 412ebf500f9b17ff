//! What PostgreSQL's planner knows of a catalogue that grows.
//!
//! A table that was never analysed passes for nearly empty. PostgreSQL's own housekeeping comes by once a minute at most; until
//! then, the first evening of a household, or the first minute after everything was brought back, would be spent going through
//! whole tables for every row. So whoever adds rows says so, and whenever the catalogue has grown fourfold it is analysed. Each time, every
//! connection makes its plans anew.

use std::sync::atomic::{AtomicU64, Ordering};

use diesel::sql_query;
use tokio::sync::Notify;

use crate::{Catalog, Count, Result, unsigned};

/// With fewer rows than this, going through a whole table is the best plan.
const FIRST: u64 = 50;
/// So many times as many rows are enough to look again: what is the best plan for some is not a bad one for four times as many.
const TIMES: u64 = 4;
/// The tables that grow with the pictures, and the small ones that are joined to them.
const TABLES: &str = "original, sighting, standing, counted, observation, object, upload, job, held, folder_entry, run, device, device_source, person, store";

/// Rows that were added by this process since the catalogue was analysed.
pub(crate) struct Growth {
    fresh: AtomicU64,
    /// So many are enough to analyse it anew.
    enough: AtomicU64,
    more: Notify,
}

impl Default for Growth {
    fn default() -> Self {
        Growth { fresh: AtomicU64::new(0), enough: AtomicU64::new(FIRST), more: Notify::new() }
    }
}

impl Growth {
    fn is_due(&self) -> bool {
        self.fresh.load(Ordering::Relaxed) >= self.enough.load(Ordering::Relaxed)
    }
}

impl Catalog {
    /// So many originals, or files of devices, were added.
    pub(crate) fn grew(&self, rows: usize) {
        self.growth.fresh.fetch_add(rows as u64, Ordering::Relaxed);
        if self.growth.is_due() {
            self.growth.more.notify_one();
        }
    }

    /// Analyses the catalogue whenever it has grown by [`TIMES`], as long as the future is polled.
    pub async fn keep_statistics(&self) {
        loop {
            while !self.growth.is_due() {
                self.growth.more.notified().await;
            }
            self.growth.fresh.store(0, Ordering::Relaxed);
            match self.analyse().await {
                Ok(rows) => self.growth.enough.store((rows * (TIMES - 1)).max(FIRST), Ordering::Relaxed),
                // Slower, not wrong; the next ones that are added are another chance.
                Err(e) => tracing::warn!(error = %e, "the planner could not be told how much there is"),
            }
        }
    }

    /// Tells the planner how much there is of everything; returns the rows of the largest of what [`Self::grew`] counts.
    pub async fn analyse(&self) -> Result<u64> {
        // Here, because it gives everything a `load`.
        use diesel_async::RunQueryDsl;

        // Text: neither is a query of ours.

        let mut c = self.async_commit_connection().await?;
        sql_query(format!("ANALYZE {TABLES}")).execute(&mut c).await?;
        let rows: Count = sql_query(
            "SELECT max(reltuples)::bigint AS n FROM pg_class WHERE oid IN ('original'::regclass, 'sighting'::regclass)",
        )
        .get_result(&mut c)
        .await?;
        Ok(unsigned(rows.n))
    }
}
