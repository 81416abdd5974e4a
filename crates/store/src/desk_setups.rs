//! Set-ups of the desk, kept for everyone who works at it.

use serde_json::Value;
use sqlx::FromRow;
use time::OffsetDateTime;

use crate::{Author, Deed, Store, StoreError};

/// A set-up.
#[derive(Clone, Debug, FromRow)]
pub struct DeskSetup {
    /// Its name.
    pub name: String,
    /// Which clients stand on the desk, and what they do.
    pub panes: Value,
    /// Who kept it last.
    pub changed_by: String,
    /// When.
    pub changed_at: OffsetDateTime,
}

impl Store {
    /// All set-ups, by name.
    pub async fn desk_setups(&self) -> Result<Vec<DeskSetup>, StoreError> {
        Ok(sqlx::query_as("SELECT * FROM desk_setup ORDER BY name").fetch_all(&self.pool).await?)
    }

    /// Keeps a set-up in place of one of the same name; `None` if it is new and there are `most` already.
    pub async fn put_desk_setup(
        &self,
        name: &str,
        panes: &Value,
        most: i64,
        by: &Author,
    ) -> Result<Option<DeskSetup>, StoreError> {
        let statement = "INSERT INTO desk_setup (name, panes, changed_by) SELECT $1, $2, $3 \
             WHERE (SELECT count(*) FROM desk_setup WHERE name <> $1) < $4 \
             ON CONFLICT (name) DO UPDATE SET panes = $2, changed_by = $3, changed_at = now() RETURNING *";
        let put = sqlx::query_as(statement).bind(name).bind(panes).bind(&*by.person).bind(most);
        self.put(put, by, |_| Deed::new("keep", "desk set-up", name)).await
    }

    /// Forgets a set-up; gives whether there was one.
    pub async fn remove_desk_setup(&self, name: &str, by: &Author) -> Result<bool, StoreError> {
        let statement = sqlx::query("DELETE FROM desk_setup WHERE name = $1").bind(name);
        self.take(statement, by, &Deed::new("remove", "desk set-up", name)).await
    }
}
