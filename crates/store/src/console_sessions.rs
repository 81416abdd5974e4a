//! Who is signed in to the console, or by the command line.

use time::OffsetDateTime;

use crate::{Author, Deed, Store, StoreError, audit::note, row::from_row};

/// What is kept of a sign-in.
#[derive(Clone, Debug)]
pub struct StoredSignIn {
    /// SHA-256 of its token.
    pub token_hash: Vec<u8>,
    /// Whose it is; the administrator's if nobody's.
    pub person: Option<String>,
    /// The person's role.
    pub role: Option<String>,
    /// When it ends.
    pub expires_at: OffsetDateTime,
}

from_row!(StoredSignIn { token_hash, person, role, expires_at });

impl Store {
    /// All sign-ins that have not ended; those that have are forgotten.
    pub async fn sign_ins(&self) -> Result<Vec<StoredSignIn>, StoreError> {
        sqlx::query("DELETE FROM console_session WHERE expires_at < now()").execute(&self.pool).await?;
        let statement = "SELECT token_hash, person, role, expires_at FROM console_session \
             LEFT JOIN person ON person.name = console_session.person";
        Ok(sqlx::query_as(statement).fetch_all(&self.pool).await?)
    }

    /// Keeps a sign-in of a person, or of the administrator; those that have ended are forgotten.
    pub async fn add_sign_in(
        &self,
        token_hash: &[u8],
        person: Option<&str>,
        expires_at: OffsetDateTime,
        by: &Author,
    ) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM console_session WHERE expires_at < now()").execute(&self.pool).await?;
        let mut change = self.pool.begin().await?;
        sqlx::query("INSERT INTO console_session (token_hash, expires_at, person) VALUES ($1, $2, $3)")
            .bind(token_hash)
            .bind(expires_at)
            .bind(person)
            .execute(&mut *change)
            .await?;
        note(&mut change, by, &Deed::new("sign-in", "person", &*by.person)).await?;
        Ok(change.commit().await?)
    }

    /// Forgets a sign-in.
    pub async fn remove_sign_in(&self, token_hash: &[u8]) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM console_session WHERE token_hash = $1").bind(token_hash).execute(&self.pool).await?;
        Ok(())
    }
}
