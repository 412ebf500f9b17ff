//! Whom things are sealed for, what the last recovery kit said, and what is still sealed for an earlier key.

use chrono::{DateTime, Utc};
use diesel::{
    OptionalExtension, QueryableByName, sql_query,
    sql_types::{BigInt, Binary, Bool, Nullable, SmallInt, Text, Timestamptz, Uuid as SqlUuid},
};
use diesel_async::RunQueryDsl;
use ypogeion_core::{Digest, StoreId, ledger::ObjectRecord};

use crate::{
    Catalog, CatalogError, Count, Prepare, Result,
    columns::HashColumn,
    signed, unsigned,
    work::{Kind, WISH, WISH_NOW},
};

/// A public half of a key of the household.
#[derive(Clone, Debug, QueryableByName)]
pub struct OwnKey {
    /// Since when in the order of keys.
    #[diesel(sql_type = SmallInt)]
    pub epoch: i16,
    /// `age1…`.
    #[diesel(sql_type = Text)]
    pub recipient: String,
    /// When it was made.
    #[diesel(sql_type = Timestamptz)]
    pub made_at: DateTime<Utc>,
}

/// Somebody else who can open what is sealed.
#[derive(Clone, Debug, QueryableByName)]
pub struct OtherRecipient {
    /// `age1…`.
    #[diesel(sql_type = Text)]
    pub recipient: String,
    /// What people call them.
    #[diesel(sql_type = Text)]
    pub name: String,
    /// Since when.
    #[diesel(sql_type = Timestamptz)]
    pub added_at: DateTime<Utc>,
}

/// The recovery kit that was shown last.
#[derive(Clone, Debug, QueryableByName)]
pub struct ShownKit {
    /// A hash of what it says, without its date.
    #[diesel(sql_type = Text)]
    pub said: String,
    /// Its last line.
    #[diesel(sql_type = Text)]
    pub check_word: String,
    /// When it was shown.
    #[diesel(sql_type = Timestamptz)]
    pub shown_at: DateTime<Utc>,
    /// When a part of it was typed back.
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub proven_at: Option<DateTime<Utc>>,
}

/// All that is known of keys; none of it is secret.
#[derive(Clone, Debug)]
pub struct Sealing {
    /// Raised whenever things are sealed for others than before.
    pub epoch: i16,
    /// The server keeps no key that opens copies.
    pub strict: bool,
    /// The household's own keys, the present one first.
    pub own: Vec<OwnKey>,
    /// The others.
    pub others: Vec<OtherRecipient>,
}

/// An object that is sealed for earlier recipients.
#[derive(Clone, Debug)]
pub struct ToReseal {
    /// Its plaintext.
    pub digest: Digest,
    /// Its name in the store.
    pub name: String,
    /// Its sealed bytes.
    pub size: u64,
}

#[derive(QueryableByName)]
struct ObjectRow {
    #[diesel(sql_type = Binary)]
    digest: HashColumn,
    #[diesel(sql_type = Text)]
    name: String,
    #[diesel(sql_type = BigInt)]
    size: i64,
}

impl Catalog {
    /// Whom things are sealed for. `first`: the key of a household that had none written down yet.
    pub async fn sealing(&self, first: Option<&str>, now: DateTime<Utc>) -> Result<Sealing> {
        #[derive(QueryableByName)]
        struct Row {
            #[diesel(sql_type = SmallInt)]
            seal_epoch: i16,
            #[diesel(sql_type = Bool)]
            strict: bool,
        }
        let mut c = self.connection().await?;
        if let Some(first) = first {
            sql_query(
                "INSERT INTO household_key (epoch, recipient, made_at) SELECT 0, $1, $2 WHERE NOT EXISTS (SELECT 1 FROM household_key)",
            )
            .bind::<Text, _>(first)
            .bind::<Timestamptz, _>(now)
            .prepared()
            .execute(&mut c)
            .await?;
        }
        let row: Row = sql_query("SELECT seal_epoch, strict FROM household").prepared().get_result(&mut c).await?;
        let own =
            sql_query("SELECT epoch, recipient, made_at FROM household_key ORDER BY epoch DESC").prepared().load(&mut c).await?;
        let others = sql_query("SELECT recipient, name, added_at FROM other_recipient ORDER BY added_at, recipient");
        let others = others.prepared().load(&mut c).await?;
        Ok(Sealing { epoch: row.seal_epoch, strict: row.strict, own, others })
    }

    /// A new key of the household: from now on things are sealed for it, and what is sealed for earlier ones is sealed anew, over time.
    pub async fn new_key(&self, recipient: &str, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        whole!(c, {
            raise_epoch(c, now).await?;
            sql_query("INSERT INTO household_key (epoch, recipient, made_at) SELECT seal_epoch, $1, $2 FROM household")
                .bind::<Text, _>(recipient)
                .bind::<Timestamptz, _>(now)
                .prepared()
                .execute(c)
                .await?;
            Ok::<_, CatalogError>(())
        })
        .await?;
        self.work_added(&Kind::ALL);
        Ok(())
    }

    /// The keys of a household that is rebuilt from its kit, the present one first.
    pub async fn rebuild_keys(&self, recipients: &[String], now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        let last = recipients.len().saturating_sub(1);
        for (n, recipient) in recipients.iter().enumerate() {
            sql_query("INSERT INTO household_key (epoch, recipient, made_at) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING")
                .bind::<SmallInt, _>(i16::try_from(last - n).unwrap_or(i16::MAX))
                .bind::<Text, _>(recipient)
                .bind::<Timestamptz, _>(now)
                .prepared()
                .execute(&mut c)
                .await?;
        }
        sql_query("UPDATE household SET seal_epoch = greatest(seal_epoch, $1)")
            .bind::<SmallInt, _>(i16::try_from(last).unwrap_or(i16::MAX))
            .prepared()
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// Adds somebody who can open what is sealed from now on, and what was sealed before once it is sealed anew.
    pub async fn add_recipient(&self, recipient: &str, name: &str, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        whole!(c, {
            sql_query("INSERT INTO other_recipient (recipient, name, added_at) VALUES ($1, $2, $3)")
                .bind::<Text, _>(recipient)
                .bind::<Text, _>(name)
                .bind::<Timestamptz, _>(now)
                .prepared()
                .execute(c)
                .await?;
            raise_epoch(c, now).await
        })
        .await?;
        self.work_added(&Kind::ALL);
        Ok(())
    }

    /// Seals for somebody no more. What is sealed for them stays so until it is sealed anew. Returns their name.
    pub async fn remove_recipient(&self, recipient: &str, now: DateTime<Utc>) -> Result<String> {
        #[derive(QueryableByName)]
        struct Row {
            #[diesel(sql_type = Text)]
            name: String,
        }
        let mut c = self.connection().await?;
        let name = whole!(c, {
            let row: Option<Row> = sql_query("DELETE FROM other_recipient WHERE recipient = $1 RETURNING name")
                .bind::<Text, _>(recipient)
                .prepared()
                .get_result(c)
                .await
                .optional()?;
            let row = row.ok_or(CatalogError::NotFound)?;
            raise_epoch(c, now).await?;
            Ok::<_, CatalogError>(row.name)
        })
        .await?;
        self.work_added(&Kind::ALL);
        Ok(name)
    }

    /// Whether the server keeps no key that opens copies.
    pub async fn set_strict(&self, strict: bool) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query("UPDATE household SET strict = $1").bind::<Bool, _>(strict).prepared().execute(&mut c).await?;
        Ok(())
    }

    /// A recovery kit was shown. One that says the same as the last one stays proven, if it was.
    pub async fn kit_shown(&self, said: &str, check_word: &str, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query(
            "INSERT INTO kit (said, check_word, shown_at) VALUES ($1, $2, $3) ON CONFLICT (one) DO UPDATE SET
                 check_word = excluded.check_word, shown_at = excluded.shown_at, said = excluded.said,
                 proven_at = CASE WHEN kit.said = excluded.said THEN kit.proven_at END",
        )
        .bind::<Text, _>(said)
        .bind::<Text, _>(check_word)
        .bind::<Timestamptz, _>(now)
        .prepared()
        .execute(&mut c)
        .await?;
        Ok(())
    }

    /// The recovery kit that was shown last.
    pub async fn kit(&self) -> Result<Option<ShownKit>> {
        let mut c = self.connection().await?;
        Ok(sql_query("SELECT said, check_word, shown_at, proven_at FROM kit").prepared().get_result(&mut c).await.optional()?)
    }

    /// A part of it was typed back.
    pub async fn kit_proven(&self, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query("UPDATE kit SET proven_at = $1").bind::<Timestamptz, _>(now).prepared().execute(&mut c).await?;
        Ok(())
    }

    /// Objects of a store that are sealed for earlier recipients, the oldest first.
    pub async fn to_reseal(&self, store: StoreId, epoch: i16, limit: i64) -> Result<Vec<ToReseal>> {
        let mut c = self.connection().await?;
        let rows: Vec<ObjectRow> = sql_query(
            "SELECT digest, name, size FROM object WHERE store = $1 AND epoch < $2 AND NOT leaving ORDER BY confirmed_at, name LIMIT $3",
        )
        .bind::<SqlUuid, _>(store.0)
        .bind::<SmallInt, _>(epoch)
        .bind::<BigInt, _>(limit)
        .prepared()
        .load(&mut c)
        .await?;
        Ok(rows.into_iter().map(|r| ToReseal { digest: r.digest.0, name: r.name, size: unsigned(r.size) }).collect())
    }

    /// How many objects are sealed for earlier recipients, in all stores, and their bytes.
    pub async fn left_to_reseal(&self, epoch: i16) -> Result<(u64, u64)> {
        #[derive(QueryableByName)]
        struct Row {
            #[diesel(sql_type = BigInt)]
            n: i64,
            #[diesel(sql_type = BigInt)]
            bytes: i64,
        }
        let mut c = self.connection().await?;
        let row: Row = sql_query(
            "SELECT count(*) AS n, coalesce(sum(b.size), 0)::bigint AS bytes FROM object b JOIN store s ON s.id = b.store AND s.sealed
             WHERE b.epoch < $1 AND NOT b.leaving",
        )
        .bind::<SmallInt, _>(epoch)
        .prepared()
        .get_result(&mut c)
        .await?;
        Ok((unsigned(row.n), unsigned(row.bytes)))
    }

    /// Whether earlier keys of the household open something that no later one does: an object, or a ledger.
    pub async fn needs_earlier_keys(&self) -> Result<bool> {
        let mut c = self.connection().await?;
        let row: Count = sql_query(
            "SELECT count(*) AS n FROM store s, household h WHERE s.sealed AND (
                 s.checkpoint_due OR EXISTS (SELECT 1 FROM object b WHERE b.store = s.id AND b.epoch < h.seal_epoch))",
        )
        .prepared()
        .get_result(&mut c)
        .await?;
        Ok(row.n > 0)
    }

    /// An object was sealed anew under another name: the ledger is to name that one, and the one before goes once it does.
    pub async fn resealed(
        &self,
        store: StoreId,
        (digest, before): (Digest, &str),
        object: &ObjectRecord,
        epoch: i16,
        now: DateTime<Utc>,
    ) -> Result<()> {
        let mut c = self.connection().await?;
        whole!(c, {
            let changed = sql_query(
                "UPDATE object SET name = $3, size = $4, sealed_digest = $5, epoch = $6 WHERE store = $1 AND digest = $2 AND name = $7
                     AND NOT leaving",
            )
            .bind::<SqlUuid, _>(store.0)
            .bind::<Binary, _>(digest.as_bytes().as_slice())
            .bind::<Text, _>(&object.name)
            .bind::<BigInt, _>(signed(object.size))
            .bind::<Binary, _>(object.sha256.as_bytes().as_slice())
            .bind::<SmallInt, _>(epoch)
            .bind::<Text, _>(before)
            .prepared()
            .execute(c)
            .await?;
            // Meanwhile it was found bad and is sent again, or it is being removed: then the new object is the one too many.
            let superseded = if changed == 0 { object.name.as_str() } else { before };
            // After a rebuilding it may have been sealed anew under the name that it had: then nothing is too many.
            sql_query(
                "INSERT INTO superseded (store, name, digest, at) SELECT $1, $2, $3, $4
                 WHERE NOT EXISTS (SELECT 1 FROM object WHERE store = $1 AND name = $2) ON CONFLICT DO NOTHING",
            )
                .bind::<SqlUuid, _>(store.0)
                .bind::<Text, _>(superseded)
                .bind::<Binary, _>(digest.as_bytes().as_slice())
                .bind::<Timestamptz, _>(now)
                .prepared()
                .execute(c)
                .await?;
            sql_query(
                "UPDATE standing s SET listed = false FROM original o WHERE s.place = $1 AND o.id = s.original AND o.digest = $2 AND $3",
            )
            .bind::<SqlUuid, _>(store.0)
            .bind::<Binary, _>(digest.as_bytes().as_slice())
            .bind::<Bool, _>(changed > 0)
            .prepared()
            .execute(c)
            .await?;
            sql_query(format!("INSERT INTO job (kind, key, store, priority, due) VALUES ('ledger', $1, $1, 15, $2) {WISH}"))
                .bind::<SqlUuid, _>(store.0)
                .bind::<Timestamptz, _>(now)
                .prepared()
                .execute(c)
                .await?;
            Ok::<_, CatalogError>(())
        })
        .await?;
        self.work_added(&[Kind::Ledger]);
        Ok(())
    }

    /// Objects that the ledger of a store has stopped naming, because they were sealed anew.
    pub async fn superseded(&self, store: StoreId, limit: i64) -> Result<Vec<String>> {
        #[derive(QueryableByName)]
        struct Row {
            #[diesel(sql_type = Text)]
            name: String,
        }
        let mut c = self.connection().await?;
        let rows: Vec<Row> = sql_query(
            "SELECT u.name FROM superseded u WHERE u.store = $1
                 -- It may have become the one in use again.
                 AND NOT EXISTS (SELECT 1 FROM object b WHERE b.store = u.store AND b.name = u.name)
                 AND NOT EXISTS (SELECT 1 FROM standing s JOIN original o ON o.id = s.original
                                 WHERE s.place = u.store AND o.digest = u.digest AND s.good AND NOT s.listed)
             ORDER BY u.at, u.name LIMIT $2",
        )
        .bind::<SqlUuid, _>(store.0)
        .bind::<BigInt, _>(limit)
        .prepared()
        .load(&mut c)
        .await?;
        Ok(rows.into_iter().map(|r| r.name).collect())
    }

    /// How many of those a store still has.
    pub async fn superseded_left(&self, store: StoreId) -> Result<u64> {
        let mut c = self.connection().await?;
        let row: crate::Count = sql_query("SELECT count(*) AS n FROM superseded WHERE store = $1")
            .bind::<SqlUuid, _>(store.0)
            .prepared()
            .get_result(&mut c)
            .await?;
        Ok(unsigned(row.n))
    }

    /// One of them is gone.
    pub async fn superseded_gone(&self, store: StoreId, name: &str) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query("DELETE FROM superseded WHERE store = $1 AND name = $2")
            .bind::<SqlUuid, _>(store.0)
            .bind::<Text, _>(name)
            .prepared()
            .execute(&mut c)
            .await?;
        Ok(())
    }
}

async fn raise_epoch(c: &mut diesel_async::AsyncPgConnection, now: DateTime<Utc>) -> Result<()> {
    sql_query("UPDATE household SET seal_epoch = seal_epoch + 1").prepared().execute(c).await?;
    // Its ledger is said once more, too, for those who open it from now on.
    sql_query("UPDATE store SET checkpoint_due = true, said = NULL WHERE sealed AND ledger_segment > 0")
        .prepared()
        .execute(c)
        .await?;
    sql_query(format!("INSERT INTO job (kind, key, store, priority, due) SELECT 'ledger', id, id, 15, $1 FROM store {WISH}"))
        .bind::<Timestamptz, _>(now)
        .prepared()
        .execute(c)
        .await?;
    sql_query(format!("INSERT INTO job (kind, key, store, priority, due) SELECT 'reseal', id, id, 0, $1 FROM store {WISH_NOW}"))
        .bind::<Timestamptz, _>(now)
        .prepared()
        .execute(c)
        .await?;
    Ok(())
}
