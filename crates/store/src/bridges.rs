//! What is known of bridges besides their design, and the name of this broker.

use std::fmt;

use crate::{Author, Deed, Store, StoreError, audit::note, row::from_row};

/// What is known of a bridge.
#[derive(Clone, Default)]
pub struct BridgeRecord {
    /// Its name.
    pub name: String,
    /// Whether it was told to rest.
    pub paused: bool,
    /// The address that its session here was connected with last; empty if none.
    pub remote: String,
    /// Filters that it has subscribed to here.
    pub here: Vec<String>,
    /// Filters that it has subscribed to there.
    pub there: Vec<String>,
    /// The password that it shows there.
    pub secret: Option<Vec<u8>>,
}

from_row!(BridgeRecord { name, paused, remote, here, there, secret });

impl fmt::Debug for BridgeRecord {
    /// Leaves the secret out.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("BridgeRecord").field("name", &self.name).field("paused", &self.paused).finish_non_exhaustive()
    }
}

impl Store {
    /// By which other brokers know this one, and the secret beside it: what was given first, or else `new`.
    pub async fn broker_name(&self, new: (&str, &str)) -> Result<(String, String), StoreError> {
        let statement = "INSERT INTO broker_name (name, secret) VALUES ($1, $2) \
             ON CONFLICT (single) DO UPDATE SET name = broker_name.name RETURNING name, secret";
        Ok(sqlx::query_as(statement).bind(new.0).bind(new.1).fetch_one(&self.pool).await?)
    }

    /// All bridges that something is known of.
    pub async fn bridges(&self) -> Result<Vec<BridgeRecord>, StoreError> {
        Ok(sqlx::query_as("SELECT * FROM bridge").fetch_all(&self.pool).await?)
    }

    /// What is known of a bridge; nothing yet if it is new.
    pub async fn bridge(&self, name: &str) -> Result<BridgeRecord, StoreError> {
        let found =
            sqlx::query_as("SELECT * FROM bridge WHERE name = $1").bind(name).fetch_optional(&self.pool).await?;
        Ok(found.unwrap_or_else(|| BridgeRecord { name: name.to_owned(), ..BridgeRecord::default() }))
    }

    /// Notes where a bridge's session here is connected.
    pub async fn put_bridge_remote(&self, name: &str, remote: &str) -> Result<(), StoreError> {
        let statement = "INSERT INTO bridge (name, remote) VALUES ($1, $2) ON CONFLICT (name) DO UPDATE SET remote = EXCLUDED.remote";
        sqlx::query(statement).bind(name).bind(remote).execute(&self.pool).await?;
        Ok(())
    }

    /// Notes what a bridge has subscribed to here.
    pub async fn put_bridge_here(&self, name: &str, filters: &[String]) -> Result<(), StoreError> {
        let statement =
            "INSERT INTO bridge (name, here) VALUES ($1, $2) ON CONFLICT (name) DO UPDATE SET here = EXCLUDED.here";
        sqlx::query(statement).bind(name).bind(filters).execute(&self.pool).await?;
        Ok(())
    }

    /// Notes what a bridge has subscribed to there.
    pub async fn put_bridge_there(&self, name: &str, filters: &[String]) -> Result<(), StoreError> {
        let statement =
            "INSERT INTO bridge (name, there) VALUES ($1, $2) ON CONFLICT (name) DO UPDATE SET there = EXCLUDED.there";
        sqlx::query(statement).bind(name).bind(filters).execute(&self.pool).await?;
        Ok(())
    }

    /// A bridge is told to rest, or to go on.
    pub async fn pause_bridge(&self, name: &str, paused: bool, by: &Author, deed: &Deed) -> Result<(), StoreError> {
        let statement = "INSERT INTO bridge (name, paused) VALUES ($1, $2) ON CONFLICT (name) DO UPDATE SET paused = EXCLUDED.paused";
        let mut change = self.pool.begin().await?;
        sqlx::query(statement).bind(name).bind(paused).execute(&mut *change).await?;
        note(&mut change, by, deed).await?;
        change.commit().await?;
        Ok(())
    }

    /// Keeps the password that a bridge shows, in place of an earlier one; without one it is forgotten.
    pub async fn put_bridge_secret(
        &self,
        name: &str,
        secret: Option<&[u8]>,
        by: &Author,
        deed: &Deed,
    ) -> Result<(), StoreError> {
        let statement = "INSERT INTO bridge (name, secret) VALUES ($1, $2) ON CONFLICT (name) DO UPDATE SET secret = EXCLUDED.secret";
        let mut change = self.pool.begin().await?;
        sqlx::query(statement).bind(name).bind(secret).execute(&mut *change).await?;
        note(&mut change, by, deed).await?;
        change.commit().await?;
        Ok(())
    }

    /// Forgets bridges that are in the design no more.
    pub async fn keep_bridges(&self, names: &[String]) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM bridge WHERE name <> ALL($1)").bind(names).execute(&self.pool).await?;
        Ok(())
    }
}
