//! Links for people outside: what each opens, until when, and in which browsers it was opened.

use chrono::{DateTime, Utc};
use uuid::Uuid;
use ypogeion_core::{AlbumId, DeviceId, LinkId, OriginalId, PersonId, link::HandsOut};

use crate::{Catalog, CatalogError, Result, db::*, originals::OriginalRow, scope::Scope, unsigned};

/// A link.
#[derive(Clone, Debug)]
pub struct Link {
    /// Which.
    pub id: LinkId,
    /// Who made it; it shows pictures of theirs.
    pub person: PersonId,
    /// What it shows.
    pub album: AlbumId,
    /// The hash of its passphrase, if it has one.
    pub passphrase: Option<String>,
    /// What can be taken along.
    pub hands_out: HandsOut,
    /// Since when.
    pub made_at: DateTime<Utc>,
    /// Until when.
    pub ends_at: DateTime<Utc>,
    /// So often it was opened.
    pub opened: u64,
    /// When it was opened last.
    pub opened_at: Option<DateTime<Utc>>,
    /// As which device it takes pictures, if it takes any.
    pub device: Option<DeviceId>,
}

/// What a link shows, to whoever came by it.
#[derive(Clone, Debug)]
pub struct Shown {
    /// The link.
    pub link: LinkId,
    /// Whose pictures.
    pub person: PersonId,
    /// Their name.
    pub person_name: String,
    /// In which album.
    pub album: AlbumId,
    /// Its name.
    pub name: String,
    /// What is written about it.
    pub words: String,
    /// What can be taken along.
    pub hands_out: HandsOut,
    /// Until when.
    pub ends_at: DateTime<Utc>,
    /// As which device it takes pictures, if it takes any.
    pub device: Option<DeviceId>,
    /// Tells one browser from another.
    pub visit: String,
}

impl Shown {
    /// The pictures that it shows.
    pub fn scope(&self) -> Scope {
        Scope { viewer: self.person, album: Some(self.album), own: true }
    }
}

#[derive(Queryable, Selectable)]
#[diesel(table_name = link)]
struct LinkRow {
    id: Uuid,
    person: Uuid,
    album: Uuid,
    passphrase_hash: Option<String>,
    hands_out: String,
    made_at: DateTime<Utc>,
    ends_at: DateTime<Utc>,
    opened: i64,
    opened_at: Option<DateTime<Utc>>,
    device: Option<Uuid>,
}

fn handed(word: &str) -> HandsOut {
    // Nothing that this version does not know is handed out.
    HandsOut::from_word(word).unwrap_or(HandsOut::Previews)
}

impl From<LinkRow> for Link {
    fn from(r: LinkRow) -> Self {
        Link {
            id: LinkId(r.id),
            person: PersonId(r.person),
            album: AlbumId(r.album),
            passphrase: r.passphrase_hash,
            hands_out: handed(&r.hands_out),
            made_at: r.made_at,
            ends_at: r.ends_at,
            opened: unsigned(r.opened),
            opened_at: r.opened_at,
            device: r.device.map(DeviceId),
        }
    }
}

impl Catalog {
    /// Makes a link to an album. There are no more of somebody's that have not ended than `most`.
    pub async fn add_link(&self, made: &Link, secret: &[u8], most: i64) -> Result<()> {
        let row = (
            link::id.eq(made.id.0),
            link::person.eq(made.person.0),
            link::album.eq(made.album.0),
            link::secret_hash.eq(secret),
            link::passphrase_hash.eq(&made.passphrase),
            link::hands_out.eq(made.hands_out.word()),
            link::made_at.eq(made.made_at),
            link::ends_at.eq(made.ends_at),
            link::device.eq(made.device.map(|d| d.0)),
        );
        let mut c = self.connection().await?;
        whole!(c, {
            let theirs = person::table.find(made.person.0).select(person::id).for_update();
            theirs.get_result::<Uuid>(c).await?;
            let own = link::table.filter(link::person.eq(made.person.0).and(link::ends_at.gt(made.made_at)));
            if own.select(count_star()).get_result::<i64>(c).await? >= most {
                return Err(CatalogError::Taken);
            }
            insert_into(link::table).values(row).execute(c).await?;
            Ok::<_, CatalogError>(())
        })
        .await
    }

    /// The links to an album that somebody made and that have not ended, the newest first.
    pub async fn links(&self, person: PersonId, album: AlbumId, now: DateTime<Utc>) -> Result<Vec<Link>> {
        let mut c = self.connection().await?;
        let own = link::table.filter(link::person.eq(person.0).and(link::album.eq(album.0)).and(link::ends_at.gt(now)));
        let rows: Vec<LinkRow> = own.order((link::made_at.desc(), link::id)).select(LinkRow::as_select()).load(&mut c).await?;
        Ok(rows.into_iter().map(Link::from).collect())
    }

    /// All links that somebody made and that have not ended, the newest first, each with the name of its album.
    pub async fn links_of(&self, person: PersonId, now: DateTime<Utc>) -> Result<Vec<(Link, String)>> {
        let mut c = self.connection().await?;
        let own = link::table.inner_join(album::table).filter(link::person.eq(person.0).and(link::ends_at.gt(now)));
        let own = own.order((link::made_at.desc(), link::id)).select((LinkRow::as_select(), album::name));
        let rows: Vec<(LinkRow, String)> = own.load(&mut c).await?;
        Ok(rows.into_iter().map(|(row, name)| (Link::from(row), name)).collect())
    }

    /// Withdraws a link of somebody's, with all browsers in which it was opened. Returns the album that it led to.
    pub async fn withdraw_link(&self, person: PersonId, id: LinkId) -> Result<AlbumId> {
        let mut c = self.connection().await?;
        let gone = delete(link::table.filter(link::id.eq(id.0).and(link::person.eq(person.0)))).returning(link::album);
        Ok(AlbumId(gone.get_result::<Uuid>(&mut c).await?))
    }

    /// The link that this opens, if it has not ended.
    pub async fn link_by_secret(&self, secret: &[u8], now: DateTime<Utc>) -> Result<Link> {
        let mut c = self.connection().await?;
        let this = link::table.filter(link::secret_hash.eq(secret).and(link::ends_at.gt(now)));
        let row: LinkRow = this.select(LinkRow::as_select()).get_result(&mut c).await?;
        Ok(row.into())
    }

    /// A browser in which a link is open until then. What has ended is forgotten.
    pub async fn open_visit(&self, id: LinkId, token: &[u8], now: DateTime<Utc>, until: DateTime<Utc>) -> Result<()> {
        let mut c = self.async_commit_connection().await?;
        whole!(c, {
            delete(link_visit::table.filter(link_visit::ends_at.lt(now))).execute(c).await?;
            delete(link::table.filter(link::ends_at.lt(now))).execute(c).await?;
            let opened = (link::opened.eq(link::opened + 1), link::opened_at.eq(now));
            if update(link::table.find(id.0)).set(opened).execute(c).await? == 0 {
                return Err(CatalogError::NotFound);
            }
            let row = (link_visit::token_hash.eq(token), link_visit::link.eq(id.0), link_visit::ends_at.eq(until));
            insert_into(link_visit::table).values(row).execute(c).await?;
            Ok::<_, CatalogError>(())
        })
        .await
    }

    /// What a browser sees that has opened a link.
    pub async fn visit(&self, token: &[u8], now: DateTime<Utc>) -> Result<Shown> {
        let mut c = self.connection().await?;
        type Row = ((Uuid, String, DateTime<Utc>, Option<Uuid>), (Uuid, String), (Uuid, String, String));
        let row: Row = link_visit::table
            .inner_join(link::table.inner_join(album::table).inner_join(person::table))
            .filter(link_visit::token_hash.eq(token).and(link_visit::ends_at.gt(now)).and(link::ends_at.gt(now)))
            .select((
                (link::id, link::hands_out, link::ends_at, link::device),
                (person::id, person::name),
                (album::id, album::name, album::words),
            ))
            .get_result(&mut c)
            .await?;
        let ((link, hands_out, ends_at, device), (person, person_name), (album, name, words)) = row;
        Ok(Shown {
            link: LinkId(link),
            person: PersonId(person),
            person_name,
            album: AlbumId(album),
            name,
            words,
            hands_out: handed(&hands_out),
            ends_at,
            device: device.map(DeviceId),
            visit: token.iter().take(2).map(|byte| format!("{byte:02x}")).collect(),
        })
    }

    /// Whether a link still opens.
    pub async fn link_opens(&self, id: LinkId, now: DateTime<Utc>) -> Result<bool> {
        let mut c = self.connection().await?;
        let this = link::table.filter(link::id.eq(id.0).and(link::ends_at.gt(now)));
        Ok(select(exists(this.select(link::id))).get_result(&mut c).await?)
    }

    /// A picture that a link shows.
    pub async fn shown_by(&self, shown: &Shown, id: OriginalId) -> Result<OriginalRow> {
        let row = self.original(id, Some(shown.person)).await?;
        let mut c = self.connection().await?;
        let inside = in_album::table.filter(in_album::album.eq(shown.album.0).and(in_album::shot.eq(row.shot.0)));
        let is_inside = row.id == row.shot && row.held.is_none();
        if is_inside && select(exists(inside.select(in_album::shot))).get_result(&mut c).await? {
            Ok(row)
        } else {
            Err(CatalogError::NotFound)
        }
    }
}
