//! Tokens by which identities sign in.

use time::OffsetDateTime;

use crate::{Author, Deed, Store, StoreError, row::from_row};

/// What is kept of a token.
#[derive(Clone, Debug)]
pub struct TokenRecord {
    /// Its identifier, which is part of it.
    pub id: String,
    /// Whose it is.
    pub identity: String,
    /// What it is called.
    pub name: String,
    /// When it was made.
    pub created_at: OffsetDateTime,
    /// When it ends.
    pub expires_at: OffsetDateTime,
    /// SHA-256 of its secret part; absent for one that was signed by a key, before tokens had one.
    pub digest: Option<Vec<u8>>,
}

from_row!(TokenRecord { id, identity, name, created_at, expires_at, digest });

/// A token that is to be kept.
#[derive(Clone, Debug)]
pub struct NewToken<'a> {
    /// Its identifier.
    pub id: &'a str,
    /// Whose it is.
    pub identity: &'a str,
    /// What it is called.
    pub name: &'a str,
    /// When it ends.
    pub expires_at: OffsetDateTime,
    /// SHA-256 of its secret part.
    pub digest: &'a [u8],
}

impl Store {
    /// All tokens that have not ended; those that have are forgotten.
    pub async fn tokens(&self) -> Result<Vec<TokenRecord>, StoreError> {
        sqlx::query("DELETE FROM identity_token WHERE expires_at < now()").execute(&self.pool).await?;
        Ok(sqlx::query_as("SELECT * FROM identity_token").fetch_all(&self.pool).await?)
    }

    /// Keeps a token; `None` if the identity has one of this name, or there is no such identity.
    pub async fn add_token(
        &self,
        token: &NewToken<'_>,
        by: &Author,
        deed: impl FnOnce(&TokenRecord) -> Deed + Send,
    ) -> Result<Option<TokenRecord>, StoreError> {
        let statement = "INSERT INTO identity_token (id, identity, name, expires_at, digest) \
             SELECT $1, $2, $3, $4, $5 WHERE EXISTS (SELECT 1 FROM identity WHERE name = $2) \
             ON CONFLICT (identity, name) DO UPDATE SET id = $1, created_at = now(), expires_at = $4, digest = $5 \
             WHERE identity_token.expires_at < now() RETURNING *";
        let NewToken { id, identity, name, expires_at, digest } = token;
        let added = sqlx::query_as(statement).bind(id).bind(identity).bind(name).bind(expires_at).bind(*digest);
        self.put(added, by, deed).await
    }

    /// Forgets a token; gives whether there was one.
    pub async fn remove_token(&self, id: &str, by: &Author, deed: &Deed) -> Result<bool, StoreError> {
        self.take(sqlx::query("DELETE FROM identity_token WHERE id = $1").bind(id), by, deed).await
    }

    /// The key that tokens were signed with, if there is one still.
    pub async fn signing_key(&self) -> Result<Option<Vec<u8>>, StoreError> {
        Ok(sqlx::query_scalar("SELECT key FROM signing_key").fetch_optional(&self.pool).await?)
    }

    /// Keeps the digests of tokens that were signed, by their identifiers, and forgets the key.
    pub async fn forget_signing_key(&self, digests: &[(String, Vec<u8>)]) -> Result<(), StoreError> {
        let mut run = self.pool.begin().await?;
        for (id, digest) in digests {
            sqlx::query("UPDATE identity_token SET digest = $2 WHERE id = $1")
                .bind(id)
                .bind(digest)
                .execute(&mut *run)
                .await?;
        }
        sqlx::query("DELETE FROM signing_key").execute(&mut *run).await?;
        Ok(run.commit().await?)
    }
}
