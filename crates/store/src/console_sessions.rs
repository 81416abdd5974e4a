//! Who is signed in to the console.

use sha2::{Digest, Sha256};
use time::{Duration, OffsetDateTime};

use crate::{Store, StoreError};

fn hash(token: &str) -> Vec<u8> {
    Sha256::digest(token.as_bytes()).to_vec()
}

impl Store {
    /// Remembers a token for `life`; tokens that have ended are forgotten.
    pub async fn add_console_session(&self, token: &str, life: Duration) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM console_session WHERE expires_at < now()").execute(&self.pool).await?;
        sqlx::query("INSERT INTO console_session (token_hash, expires_at) VALUES ($1, $2)")
            .bind(hash(token))
            .bind(OffsetDateTime::now_utc() + life)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Whether a token is known and has not ended.
    pub async fn has_console_session(&self, token: &str) -> Result<bool, StoreError> {
        let found: Option<i32> =
            sqlx::query_scalar("SELECT 1 FROM console_session WHERE token_hash = $1 AND expires_at > now()")
                .bind(hash(token))
                .fetch_optional(&self.pool)
                .await?;
        Ok(found.is_some())
    }

    /// Forgets a token.
    pub async fn remove_console_session(&self, token: &str) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM console_session WHERE token_hash = $1").bind(hash(token)).execute(&self.pool).await?;
        Ok(())
    }
}
