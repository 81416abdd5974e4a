//! The design of the broker, revision by revision.

use moorfall_core::blueprint::SourceFile;
use sqlx::types::Json;
use time::OffsetDateTime;

use crate::{Author, Deed, Store, StoreError, row::from_row};

/// One revision.
#[derive(Clone, Debug)]
pub struct RevisionRecord {
    /// Its number, from 1.
    pub number: i64,
    /// When it was applied.
    pub applied_at: OffsetDateTime,
    /// Who applied it.
    pub author: String,
    /// Why.
    pub message: String,
    /// The files of the blueprint.
    pub files: Json<Vec<SourceFile>>,
}

from_row!(RevisionRecord { number, applied_at, author, message, files });

impl Store {
    /// The revision in force, if there is one.
    pub async fn current_revision(&self) -> Result<Option<RevisionRecord>, StoreError> {
        Ok(sqlx::query_as("SELECT * FROM revision ORDER BY number DESC LIMIT 1").fetch_optional(&self.pool).await?)
    }

    /// One revision.
    pub async fn revision(&self, number: i64) -> Result<Option<RevisionRecord>, StoreError> {
        let found = sqlx::query_as("SELECT * FROM revision WHERE number = $1").bind(number);
        Ok(found.fetch_optional(&self.pool).await?)
    }

    /// The newest revisions, newest first, without their files.
    pub async fn revisions(&self, most: i64) -> Result<Vec<RevisionRecord>, StoreError> {
        let statement = "SELECT number, applied_at, author, message, '[]'::jsonb AS files FROM revision \
                         ORDER BY number DESC LIMIT $1";
        Ok(sqlx::query_as(statement).bind(most).fetch_all(&self.pool).await?)
    }

    /// Adds a revision upon `base`, the number of the one in force. `None` if another is in force by now: nothing is
    /// added then.
    pub async fn add_revision(
        &self,
        base: i64,
        message: &str,
        files: &[SourceFile],
        by: &Author,
        deed: impl FnOnce(&RevisionRecord) -> Deed + Send,
    ) -> Result<Option<RevisionRecord>, StoreError> {
        // Whoever comes second finds its number taken.
        let statement = "INSERT INTO revision (number, author, message, files) \
                         SELECT $1 + 1, $2, $3, $4 \
                         WHERE $1 = (SELECT coalesce(max(number), 0) FROM revision) \
                         ON CONFLICT (number) DO NOTHING RETURNING *";
        let added = sqlx::query_as(statement).bind(base).bind(&*by.person).bind(message).bind(Json(files));
        self.put(added, by, deed).await
    }
}
