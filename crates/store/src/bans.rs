//! Who is not let in for a time.

use time::OffsetDateTime;

use crate::{Author, Deed, Store, StoreError, audit::note, row::from_row};

/// A ban.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BanRecord {
    /// By which it is named.
    pub id: String,
    /// `identity` or `address`.
    pub kind: String,
    /// Which: a name, or a network.
    pub name: String,
    /// Until when.
    pub until: OffsetDateTime,
    /// Why.
    pub note: String,
    /// By whom.
    pub person: String,
}

from_row!(BanRecord { id, kind, name, until, note, person });

impl Store {
    /// All bans that are in force.
    pub async fn bans(&self) -> Result<Vec<BanRecord>, StoreError> {
        Ok(sqlx::query_as("SELECT * FROM ban WHERE until > now()").fetch_all(&self.pool).await?)
    }

    /// Bans somebody, in place of an earlier ban of the same; what is over is forgotten.
    pub async fn put_ban(&self, ban: &BanRecord, by: &Author, deed: &Deed) -> Result<(), StoreError> {
        let mut change = self.pool.begin().await?;
        sqlx::query("DELETE FROM ban WHERE until <= now()").execute(&mut *change).await?;
        let statement = "INSERT INTO ban (id, kind, name, until, note, person) VALUES ($1, $2, $3, $4, $5, $6) \
             ON CONFLICT (kind, name) DO UPDATE SET id = EXCLUDED.id, until = EXCLUDED.until, note = EXCLUDED.note, \
             person = EXCLUDED.person";
        sqlx::query(statement)
            .bind(&ban.id)
            .bind(&ban.kind)
            .bind(&ban.name)
            .bind(ban.until)
            .bind(&ban.note)
            .bind(&ban.person)
            .execute(&mut *change)
            .await?;
        note(&mut change, by, deed).await?;
        change.commit().await?;
        Ok(())
    }

    /// Lifts a ban; gives whether there was one.
    pub async fn remove_ban(&self, id: &str, by: &Author, deed: &Deed) -> Result<bool, StoreError> {
        self.take(sqlx::query("DELETE FROM ban WHERE id = $1").bind(id), by, deed).await
    }
}
