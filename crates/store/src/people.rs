//! Who may run the broker, and what they did.

use sqlx::FromRow;
use time::OffsetDateTime;

use crate::{Store, StoreError};

/// A person who may run the broker.
#[derive(Clone, FromRow)]
pub struct PersonRecord {
    /// The name.
    pub name: String,
    /// Argon2id hash of the password in PHC form.
    pub password_hash: String,
    /// watch, operate, design or own.
    pub role: String,
    /// When it was made.
    pub created_at: OffsetDateTime,
    /// When it was last changed.
    pub changed_at: OffsetDateTime,
}

impl std::fmt::Debug for PersonRecord {
    /// Leaves the password hash out.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("PersonRecord").field("name", &self.name).field("role", &self.role).finish_non_exhaustive()
    }
}

/// Something that was changed.
#[derive(Clone, Debug, FromRow)]
pub struct AuditRecord {
    /// Its place in the order of changes.
    pub id: i64,
    /// When.
    pub at: OffsetDateTime,
    /// Who.
    pub person: String,
    /// From which address.
    pub address: String,
    /// What was done.
    pub act: String,
    /// To what kind of thing.
    pub kind: String,
    /// To which.
    pub name: String,
    /// How it was.
    pub before: Option<serde_json::Value>,
    /// How it is.
    pub after: Option<serde_json::Value>,
}

/// A change to be noted.
#[derive(Clone, Debug)]
pub struct Audited<'a> {
    /// Who.
    pub person: &'a str,
    /// From which address.
    pub address: &'a str,
    /// What was done.
    pub act: &'a str,
    /// To what kind of thing.
    pub kind: &'a str,
    /// To which.
    pub name: &'a str,
    /// How it was.
    pub before: Option<serde_json::Value>,
    /// How it is.
    pub after: Option<serde_json::Value>,
}

impl Store {
    /// Everyone, by name.
    pub async fn people(&self) -> Result<Vec<PersonRecord>, StoreError> {
        Ok(sqlx::query_as("SELECT * FROM person ORDER BY name").fetch_all(&self.pool).await?)
    }

    /// One person.
    pub async fn person(&self, name: &str) -> Result<Option<PersonRecord>, StoreError> {
        Ok(sqlx::query_as("SELECT * FROM person WHERE name = $1").bind(name).fetch_optional(&self.pool).await?)
    }

    /// Makes or changes a person. Without a hash an earlier password stays; `None` is given if there is none.
    pub async fn put_person(
        &self,
        name: &str,
        password_hash: Option<&str>,
        role: &str,
    ) -> Result<Option<PersonRecord>, StoreError> {
        let statement = "INSERT INTO person (name, password_hash, role) \
             SELECT $1, coalesce($2, (SELECT password_hash FROM person WHERE name = $1)), $3 \
             WHERE $2 IS NOT NULL OR EXISTS (SELECT 1 FROM person WHERE name = $1) \
             ON CONFLICT (name) DO UPDATE SET role = $3, changed_at = now(), \
             password_hash = coalesce($2, person.password_hash) RETURNING *";
        Ok(sqlx::query_as(statement).bind(name).bind(password_hash).bind(role).fetch_optional(&self.pool).await?)
    }

    /// Ends all sign-ins of a person.
    pub async fn sign_out_person(&self, name: &str) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM console_session WHERE person = $1").bind(name).execute(&self.pool).await?;
        Ok(())
    }

    /// Removes a person, and ends all sign-ins; gives whether there was one.
    pub async fn remove_person(&self, name: &str) -> Result<bool, StoreError> {
        let done = sqlx::query("DELETE FROM person WHERE name = $1").bind(name).execute(&self.pool).await?;
        Ok(done.rows_affected() > 0)
    }

    /// Notes a change.
    pub async fn add_audit(&self, audited: &Audited<'_>) -> Result<(), StoreError> {
        let Audited { person, address, act, kind, name, before, after } = audited;
        sqlx::query(
            "INSERT INTO audit (person, address, act, kind, name, before, after) VALUES ($1, $2, $3, $4, $5, $6, $7)",
        )
        .bind(person)
        .bind(address)
        .bind(act)
        .bind(kind)
        .bind(name)
        .bind(before)
        .bind(after)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// The newest changes that hold the text in who, what or which, newest first.
    /// With `before`, of those that came earlier than the change of this number.
    pub async fn audits(&self, search: &str, before: Option<i64>, most: i64) -> Result<Vec<AuditRecord>, StoreError> {
        let statement = "SELECT * FROM audit WHERE ($1 = '' OR strpos(person, $1) > 0 OR strpos(name, $1) > 0 \
                         OR strpos(kind, $1) > 0 OR strpos(act, $1) > 0) AND ($2::int8 IS NULL OR id < $2) \
                         ORDER BY id DESC LIMIT $3";
        Ok(sqlx::query_as(statement).bind(search).bind(before).bind(most).fetch_all(&self.pool).await?)
    }

    /// Forgets changes that were made so many days ago, a part at a time; gives how many.
    pub async fn forget_audits(&self, days: u32) -> Result<u64, StoreError> {
        let statement = "DELETE FROM audit WHERE id IN (SELECT id FROM audit \
                         WHERE at < now() - make_interval(days => $1) ORDER BY id LIMIT 5000)";
        let mut forgotten = 0;
        loop {
            let days = i32::try_from(days).unwrap_or(i32::MAX);
            let gone = sqlx::query(statement).bind(days).execute(&self.pool).await?.rows_affected();
            forgotten += gone;
            if gone < 5_000 {
                return Ok(forgotten);
            }
        }
    }
}
