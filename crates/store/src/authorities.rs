//! Authorities that sign client certificates.

use time::OffsetDateTime;

use crate::{Author, Deed, Store, StoreError, row::from_row};

/// One authority.
#[derive(Clone, Debug)]
pub struct AuthorityRecord {
    /// What it is called.
    pub name: String,
    /// Its certificates in PEM form.
    pub pem: String,
    /// When it was added.
    pub added_at: OffsetDateTime,
}

from_row!(AuthorityRecord { name, pem, added_at });

impl Store {
    /// All authorities, by name.
    pub async fn authorities(&self) -> Result<Vec<AuthorityRecord>, StoreError> {
        Ok(sqlx::query_as("SELECT * FROM authority ORDER BY name").fetch_all(&self.pool).await?)
    }

    /// Keeps an authority; `None` if there is one of this name.
    pub async fn add_authority(
        &self,
        name: &str,
        pem: &str,
        by: &Author,
        deed: impl FnOnce(&AuthorityRecord) -> Deed + Send,
    ) -> Result<Option<AuthorityRecord>, StoreError> {
        let statement = "INSERT INTO authority (name, pem) VALUES ($1, $2) ON CONFLICT DO NOTHING RETURNING *";
        self.put(sqlx::query_as(statement).bind(name).bind(pem), by, deed).await
    }

    /// Forgets an authority; gives whether there was one.
    pub async fn remove_authority(&self, name: &str, by: &Author, deed: &Deed) -> Result<bool, StoreError> {
        self.take(sqlx::query("DELETE FROM authority WHERE name = $1").bind(name), by, deed).await
    }
}
