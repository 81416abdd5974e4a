//! Set-ups of the bench, kept for everyone who works at it.

use serde_json::Value;
use sqlx::FromRow;
use time::OffsetDateTime;

use crate::{Store, StoreError};

/// A set-up.
#[derive(Clone, Debug, FromRow)]
pub struct BenchSetup {
    /// Its name.
    pub name: String,
    /// Which clients stand on the bench, and what they do.
    pub panes: Value,
    /// Who kept it last.
    pub changed_by: String,
    /// When.
    pub changed_at: OffsetDateTime,
}

impl Store {
    /// All set-ups, by name.
    pub async fn bench_setups(&self) -> Result<Vec<BenchSetup>, StoreError> {
        Ok(sqlx::query_as("SELECT * FROM bench_setup ORDER BY name").fetch_all(&self.pool).await?)
    }

    /// Keeps a set-up in place of one of the same name; `None` if it is new and there are `most` already.
    pub async fn put_bench_setup(
        &self,
        name: &str,
        panes: &Value,
        changed_by: &str,
        most: i64,
    ) -> Result<Option<BenchSetup>, StoreError> {
        let statement = "INSERT INTO bench_setup (name, panes, changed_by) SELECT $1, $2, $3 \
             WHERE (SELECT count(*) FROM bench_setup WHERE name <> $1) < $4 \
             ON CONFLICT (name) DO UPDATE SET panes = $2, changed_by = $3, changed_at = now() RETURNING *";
        let put = sqlx::query_as(statement).bind(name).bind(panes).bind(changed_by).bind(most);
        Ok(put.fetch_optional(&self.pool).await?)
    }

    /// Forgets a set-up; gives whether there was one.
    pub async fn remove_bench_setup(&self, name: &str) -> Result<bool, StoreError> {
        let done = sqlx::query("DELETE FROM bench_setup WHERE name = $1").bind(name).execute(&self.pool).await?;
        Ok(done.rows_affected() > 0)
    }
}
