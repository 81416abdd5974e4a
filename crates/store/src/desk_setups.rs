//! Setups of the desk, kept for everyone who works at it.

use serde_json::Value;
use time::OffsetDateTime;

use crate::{Author, Deed, Store, StoreError, row::from_row};

/// A setup.
#[derive(Clone, Debug)]
pub struct DeskSetup {
    /// Its name.
    pub name: String,
    /// Which clients stand on the desk, and what they do.
    pub clients: Value,
    /// Who kept it last.
    pub changed_by: String,
    /// When.
    pub changed_at: OffsetDateTime,
}

from_row!(DeskSetup { name, clients, changed_by, changed_at });

impl Store {
    /// All setups, by name.
    pub async fn desk_setups(&self) -> Result<Vec<DeskSetup>, StoreError> {
        Ok(sqlx::query_as("SELECT * FROM desk_setup ORDER BY name").fetch_all(&self.pool).await?)
    }

    /// Keeps a setup in place of one of the same name; `None` if it is new and there are `most` already.
    pub async fn put_desk_setup(
        &self,
        name: &str,
        clients: &Value,
        most: i64,
        by: &Author,
    ) -> Result<Option<DeskSetup>, StoreError> {
        let statement = "INSERT INTO desk_setup (name, clients, changed_by) SELECT $1, $2, $3 \
             WHERE (SELECT count(*) FROM desk_setup WHERE name <> $1) < $4 \
             ON CONFLICT (name) DO UPDATE SET clients = $2, changed_by = $3, changed_at = now() RETURNING *";
        let put = sqlx::query_as(statement).bind(name).bind(clients).bind(&*by.person).bind(most);
        self.put(put, by, |_| Deed::new("save", "desk setup", name)).await
    }

    /// Forgets a setup; gives whether there was one.
    pub async fn remove_desk_setup(&self, name: &str, by: &Author) -> Result<bool, StoreError> {
        let statement = sqlx::query("DELETE FROM desk_setup WHERE name = $1").bind(name);
        self.take(statement, by, &Deed::new("remove", "desk setup", name)).await
    }
}
