//! Who is signed in to the console, or by the command line.

use sha2::{Digest, Sha256};
use time::{Duration, OffsetDateTime};

use crate::{PersonRecord, Store, StoreError};

fn hash(token: &str) -> Vec<u8> {
    Sha256::digest(token.as_bytes()).to_vec()
}

/// Whose a sign-in is.
#[derive(Clone, Debug)]
pub enum SignedIn {
    /// Whoever had the administrator's secret.
    Administrator,
    /// A person.
    Person(Box<PersonRecord>),
}

impl Store {
    /// Remembers a token of a person, or of the administrator, for `life`; tokens that have ended are forgotten.
    pub async fn add_console_session(
        &self,
        token: &str,
        person: Option<&str>,
        life: Duration,
    ) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM console_session WHERE expires_at < now()").execute(&self.pool).await?;
        sqlx::query("INSERT INTO console_session (token_hash, expires_at, person) VALUES ($1, $2, $3)")
            .bind(hash(token))
            .bind(OffsetDateTime::now_utc() + life)
            .bind(person)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Whose a token is; `None` if it is not known or has ended.
    pub async fn console_session(&self, token: &str) -> Result<Option<SignedIn>, StoreError> {
        let found: Option<Option<String>> =
            sqlx::query_scalar("SELECT person FROM console_session WHERE token_hash = $1 AND expires_at > now()")
                .bind(hash(token))
                .fetch_optional(&self.pool)
                .await?;
        Ok(match found {
            None => None,
            Some(None) => Some(SignedIn::Administrator),
            Some(Some(name)) => self.person(&name).await?.map(|person| SignedIn::Person(Box::new(person))),
        })
    }

    /// Forgets a token.
    pub async fn remove_console_session(&self, token: &str) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM console_session WHERE token_hash = $1").bind(hash(token)).execute(&self.pool).await?;
        Ok(())
    }
}
