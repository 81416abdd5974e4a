//! Throughput over time.

use moorfall_core::measure::Totals;
use sqlx::{FromRow, types::Json};
use time::OffsetDateTime;

use crate::{Store, StoreError};

/// The span of one sample.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Resolution {
    /// About one second; kept for two days.
    Second = 1,
    /// About one minute; kept for good.
    Minute = 60,
}

/// What the broker carried in the span that ended at `at`.
#[derive(Clone, Debug, PartialEq, FromRow)]
pub struct Sample {
    /// The end of the span.
    pub at: OffsetDateTime,
    /// Its length, seconds.
    pub span_seconds: f64,
    /// Connected sessions at its end.
    pub sessions: i64,
    /// What was counted in it, by the names of the measures; what a sample does not name was not measured yet.
    #[sqlx(json)]
    pub counts: Totals,
}

impl Store {
    /// Adds samples, all of one resolution, in one statement. A sample for a time that has one is left out.
    pub async fn add_samples(&self, resolution: Resolution, samples: &[Sample]) -> Result<(), StoreError> {
        let statement = "INSERT INTO throughput_sample (resolution, at, span_seconds, sessions, counts) \
             SELECT $1, * FROM UNNEST($2::timestamptz[], $3::float8[], $4::int8[], $5::jsonb[]) \
             ON CONFLICT DO NOTHING";
        sqlx::query(statement)
            .bind(resolution as i16)
            .bind(samples.iter().map(|sample| sample.at).collect::<Vec<_>>())
            .bind(samples.iter().map(|sample| sample.span_seconds).collect::<Vec<_>>())
            .bind(samples.iter().map(|sample| sample.sessions).collect::<Vec<_>>())
            .bind(samples.iter().map(|sample| Json(sample.counts)).collect::<Vec<_>>())
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// The samples that ended at or after `since`, oldest first.
    pub async fn samples(&self, resolution: Resolution, since: OffsetDateTime) -> Result<Vec<Sample>, StoreError> {
        let statement = "SELECT at, span_seconds, sessions, counts FROM throughput_sample \
             WHERE resolution = $1 AND at >= $2 ORDER BY at";
        Ok(sqlx::query_as(statement).bind(resolution as i16).bind(since).fetch_all(&self.pool).await?)
    }

    /// Forgets samples of one-second spans older than two days; gives how many.
    pub async fn forget_old_samples(&self) -> Result<u64, StoreError> {
        let statement = "DELETE FROM throughput_sample WHERE resolution = 1 AND at < now() - interval '2 days'";
        Ok(sqlx::query(statement).execute(&self.pool).await?.rows_affected())
    }
}
