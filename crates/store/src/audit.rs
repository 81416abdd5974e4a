//! What was changed by whom: a deed is written with its change, in one transaction.

use std::sync::Arc;

use serde_json::Value;
use sqlx::{
    FromRow, PgConnection, Postgres,
    postgres::{PgArguments, PgRow},
    query::{Query, QueryAs},
};
use time::OffsetDateTime;

use crate::{Store, StoreError, row::from_row};

/// Something that was changed.
#[derive(Clone, Debug)]
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
    pub before: Option<Value>,
    /// How it is.
    pub after: Option<Value>,
}

from_row!(AuditRecord { id, at, person, address, act, kind, name, before, after });

/// Who makes a change.
#[derive(Clone, Debug)]
pub struct Author {
    /// The name.
    pub person: Arc<str>,
    /// From which address; empty for the service itself.
    pub address: String,
}

/// What a change is.
#[derive(Clone, Debug)]
pub struct Deed {
    /// What is done.
    pub act: &'static str,
    /// To what kind of thing.
    pub kind: &'static str,
    /// To which.
    pub name: String,
    /// How it was.
    pub before: Option<Value>,
    /// How it is.
    pub after: Option<Value>,
}

impl Deed {
    /// One of which no more is to be said.
    pub fn new(act: &'static str, kind: &'static str, name: impl Into<String>) -> Self {
        Self { act, kind, name: name.into(), before: None, after: None }
    }
}

/// Notes a change in its transaction.
pub(crate) async fn note(connection: &mut PgConnection, by: &Author, deed: &Deed) -> Result<(), StoreError> {
    note_at(connection, by, deed, None).await
}

/// Notes a deed that was done at this time; `None` is now.
pub(crate) async fn note_at(
    connection: &mut PgConnection,
    by: &Author,
    deed: &Deed,
    at: Option<OffsetDateTime>,
) -> Result<(), StoreError> {
    let Deed { act, kind, name, before, after } = deed;
    sqlx::query(
        "INSERT INTO audit (person, address, act, kind, name, before, after, at) \
         VALUES ($1, $2, $3, $4, $5, $6, $7, coalesce($8, now()))",
    )
    .bind(&*by.person)
    .bind(&by.address)
    .bind(act)
    .bind(kind)
    .bind(name)
    .bind(before)
    .bind(after)
    .bind(at)
    .execute(connection)
    .await?;
    Ok(())
}

impl Store {
    /// Makes a change that gives what is stored, or nothing if it could not be; and notes it.
    pub(crate) async fn put<'q, T>(
        &self,
        statement: QueryAs<'q, Postgres, T, PgArguments>,
        by: &Author,
        deed: impl FnOnce(&T) -> Deed + Send,
    ) -> Result<Option<T>, StoreError>
    where
        T: for<'r> FromRow<'r, PgRow> + Send + Sync + Unpin,
    {
        let mut change = self.pool.begin().await?;
        let stored = statement.fetch_optional(&mut *change).await?;
        if let Some(stored) = &stored {
            let deed = deed(stored);
            note(&mut change, by, &deed).await?;
        }
        change.commit().await?;
        Ok(stored)
    }

    /// Takes something away, and notes it; gives whether it was there.
    pub(crate) async fn take(
        &self,
        statement: Query<'_, Postgres, PgArguments>,
        by: &Author,
        deed: &Deed,
    ) -> Result<bool, StoreError> {
        let mut change = self.pool.begin().await?;
        let is_gone = statement.execute(&mut *change).await?.rows_affected() > 0;
        if is_gone {
            note(&mut change, by, deed).await?;
        }
        change.commit().await?;
        Ok(is_gone)
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
