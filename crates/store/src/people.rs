//! Who may run the broker.

use time::OffsetDateTime;

use crate::{Author, Deed, Store, StoreError, audit::note, row::from_row};

/// A person who may run the broker.
#[derive(Clone)]
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

from_row!(PersonRecord { name, password_hash, role, created_at, changed_at });

impl std::fmt::Debug for PersonRecord {
    /// Leaves the password hash out.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("PersonRecord").field("name", &self.name).field("role", &self.role).finish_non_exhaustive()
    }
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

    /// Makes or changes a person. Without a hash an earlier password stays; `None` is given if there is none. With
    /// `ends_sign_ins` all their sign-ins end.
    pub async fn put_person(
        &self,
        name: &str,
        password_hash: Option<&str>,
        role: &str,
        ends_sign_ins: bool,
        by: &Author,
        deed: impl FnOnce(&PersonRecord) -> Deed + Send,
    ) -> Result<Option<PersonRecord>, StoreError> {
        let statement = "INSERT INTO person (name, password_hash, role) \
             SELECT $1, coalesce($2, (SELECT password_hash FROM person WHERE name = $1)), $3 \
             WHERE $2 IS NOT NULL OR EXISTS (SELECT 1 FROM person WHERE name = $1) \
             ON CONFLICT (name) DO UPDATE SET role = $3, changed_at = now(), \
             password_hash = coalesce($2, person.password_hash) RETURNING *";
        let mut change = self.pool.begin().await?;
        let put = sqlx::query_as(statement).bind(name).bind(password_hash).bind(role);
        let record: Option<PersonRecord> = put.fetch_optional(&mut *change).await?;
        if let Some(record) = &record {
            let deed = deed(record);
            note(&mut change, by, &deed).await?;
            if ends_sign_ins {
                sqlx::query("DELETE FROM console_session WHERE person = $1").bind(name).execute(&mut *change).await?;
            }
        }
        change.commit().await?;
        Ok(record)
    }

    /// Removes a person, and ends all sign-ins; gives whether there was one.
    pub async fn remove_person(&self, name: &str, by: &Author, deed: &Deed) -> Result<bool, StoreError> {
        self.take(sqlx::query("DELETE FROM person WHERE name = $1").bind(name), by, deed).await
    }
}
