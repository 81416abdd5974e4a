//! Records of identities.

use std::collections::BTreeMap;

use moorfall_core::AttributeValue;
use sqlx::types::Json;
use time::OffsetDateTime;

use crate::{Author, Deed, Store, StoreError, audit::note, row::from_row};

/// One identity with its credential.
#[derive(Clone)]
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
    /// The only client identifier that it may use; any if absent.
    pub client_id: Option<String>,
    /// What its client certificates are known by.
    pub certificates: Json<Vec<String>>,
    /// When it was made.
    pub created_at: OffsetDateTime,
    /// When it was last changed.
    pub changed_at: OffsetDateTime,
}

from_row!(IdentityRecord {
    name,
    attributes,
    password_hash,
    enabled,
    note,
    client_id,
    certificates,
    created_at,
    changed_at
});

/// One identity as it is to be.
#[derive(Clone, Copy)]
pub struct IdentityRow<'a> {
    /// The name.
    pub name: &'a str,
    /// What the access rules know of it.
    pub attributes: &'a BTreeMap<String, AttributeValue>,
    /// A hash in PHC form, if the password changes.
    pub password_hash: Option<&'a str>,
    /// Whether it may connect.
    pub enabled: bool,
    /// A note for people.
    pub note: &'a str,
    /// The only client identifier that it may use; any if absent.
    pub client_id: Option<&'a str>,
    /// What its client certificates are known by.
    pub certificates: &'a [String],
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

    /// Makes or replaces identities in one statement, and gives what is stored. Those without a hash keep an earlier
    /// password. No name may stand in it twice.
    pub async fn put_identities(
        &self,
        rows: &[IdentityRow<'_>],
        by: &Author,
        deed: impl FnOnce(&[IdentityRecord]) -> Deed + Send,
    ) -> Result<Vec<IdentityRecord>, StoreError> {
        let statement = "INSERT INTO identity (name, attributes, password_hash, enabled, note, client_id, \
                         certificates) \
             SELECT * FROM UNNEST($1::text[], $2::jsonb[], $3::text[], $4::bool[], $5::text[], $6::text[], \
             $7::jsonb[]) \
             ON CONFLICT (name) DO UPDATE SET attributes = excluded.attributes, enabled = excluded.enabled, \
             note = excluded.note, client_id = excluded.client_id, \
             certificates = excluded.certificates, changed_at = now(), \
             password_hash = coalesce(excluded.password_hash, identity.password_hash) RETURNING *";
        let mut change = self.pool.begin().await?;
        let records: Vec<IdentityRecord> = sqlx::query_as(statement)
            .bind(rows.iter().map(|row| row.name).collect::<Vec<_>>())
            .bind(rows.iter().map(|row| Json(row.attributes)).collect::<Vec<_>>())
            .bind(rows.iter().map(|row| row.password_hash).collect::<Vec<_>>())
            .bind(rows.iter().map(|row| row.enabled).collect::<Vec<_>>())
            .bind(rows.iter().map(|row| row.note).collect::<Vec<_>>())
            .bind(rows.iter().map(|row| row.client_id).collect::<Vec<_>>())
            .bind(rows.iter().map(|row| Json(row.certificates)).collect::<Vec<_>>())
            .fetch_all(&mut *change)
            .await?;
        let deed = deed(&records);
        note(&mut change, by, &deed).await?;
        change.commit().await?;
        Ok(records)
    }

    /// Removes an identity; gives whether there was one.
    pub async fn remove_identity(&self, name: &str, by: &Author, deed: &Deed) -> Result<bool, StoreError> {
        self.take(sqlx::query("DELETE FROM identity WHERE name = $1").bind(name), by, deed).await
    }
}
