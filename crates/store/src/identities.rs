//! Records of identities.

use std::collections::BTreeMap;

use moorfall_core::AttributeValue;
use sqlx::{FromRow, types::Json};
use time::OffsetDateTime;

use crate::{Store, StoreError};

/// One identity with its credential.
#[derive(Clone, FromRow)]
pub struct IdentityRecord {
    /// The name, which a client gives as its user name.
    pub name: String,
    /// What the access rules know of it.
    pub attributes: Json<BTreeMap<String, AttributeValue>>,
    /// Argon2id hash of the password in PHC form; without it nobody can sign in by password.
    pub password_hash: Option<String>,
    /// Whether it may connect.
    pub enabled: bool,
    /// A note for people.
    pub note: String,
    /// When it was made.
    pub created_at: OffsetDateTime,
    /// When it was last changed.
    pub changed_at: OffsetDateTime,
}

impl std::fmt::Debug for IdentityRecord {
    /// Leaves the password hash out.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("IdentityRecord")
            .field("name", &self.name)
            .field("attributes", &self.attributes.0)
            .field("enabled", &self.enabled)
            .finish_non_exhaustive()
    }
}

impl Store {
    /// All identities, by name.
    pub async fn identities(&self) -> Result<Vec<IdentityRecord>, StoreError> {
        Ok(sqlx::query_as("SELECT * FROM identity ORDER BY name").fetch_all(&self.pool).await?)
    }

    /// Makes or replaces an identity and gives what is stored. Without a hash an earlier password stays.
    pub async fn put_identity(
        &self,
        name: &str,
        attributes: &BTreeMap<String, AttributeValue>,
        password_hash: Option<&str>,
        enabled: bool,
        note: &str,
    ) -> Result<IdentityRecord, StoreError> {
        let statement = "INSERT INTO identity (name, attributes, password_hash, enabled, note) \
             VALUES ($1, $2, $3, $4, $5) \
             ON CONFLICT (name) DO UPDATE SET attributes = $2, enabled = $4, note = $5, changed_at = now(), \
             password_hash = coalesce($3, identity.password_hash) \
             RETURNING *";
        let record = sqlx::query_as(statement)
            .bind(name)
            .bind(Json(attributes))
            .bind(password_hash)
            .bind(enabled)
            .bind(note)
            .fetch_one(&self.pool)
            .await?;
        Ok(record)
    }

    /// Removes an identity; gives whether there was one.
    pub async fn remove_identity(&self, name: &str) -> Result<bool, StoreError> {
        let done = sqlx::query("DELETE FROM identity WHERE name = $1").bind(name).execute(&self.pool).await?;
        Ok(done.rows_affected() > 0)
    }
}
