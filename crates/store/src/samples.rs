//! Throughput over time.

use sqlx::FromRow;
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
    /// Messages accepted from clients.
    pub messages_in: i64,
    /// Messages sent to clients.
    pub messages_out: i64,
    /// Bytes read from clients.
    pub bytes_in: i64,
    /// Bytes written to clients.
    pub bytes_out: i64,
}

impl Store {
    /// Adds samples, all of one resolution, in one statement. A sample for a time that has one is left out.
    pub async fn add_samples(&self, resolution: Resolution, samples: &[Sample]) -> Result<(), StoreError> {
        let column = |pick: fn(&Sample) -> i64| samples.iter().map(pick).collect::<Vec<_>>();
        let statement = "INSERT INTO throughput_sample \
             (resolution, at, span_seconds, sessions, messages_in, messages_out, bytes_in, bytes_out) \
             SELECT $1, * FROM UNNEST($2::timestamptz[], $3::float8[], $4::int8[], $5::int8[], $6::int8[], $7::int8[], $8::int8[]) \
             ON CONFLICT DO NOTHING";
        sqlx::query(statement)
            .bind(resolution as i16)
            .bind(samples.iter().map(|sample| sample.at).collect::<Vec<_>>())
            .bind(samples.iter().map(|sample| sample.span_seconds).collect::<Vec<_>>())
            .bind(column(|sample| sample.sessions))
            .bind(column(|sample| sample.messages_in))
            .bind(column(|sample| sample.messages_out))
            .bind(column(|sample| sample.bytes_in))
            .bind(column(|sample| sample.bytes_out))
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// The samples that ended at or after `since`, oldest first.
    pub async fn samples(&self, resolution: Resolution, since: OffsetDateTime) -> Result<Vec<Sample>, StoreError> {
        let statement = "SELECT at, span_seconds, sessions, messages_in, messages_out, bytes_in, bytes_out \
             FROM throughput_sample WHERE resolution = $1 AND at >= $2 ORDER BY at";
        Ok(sqlx::query_as(statement).bind(resolution as i16).bind(since).fetch_all(&self.pool).await?)
    }

    /// Forgets samples of one-second spans older than two days; gives how many.
    pub async fn forget_old_samples(&self) -> Result<u64, StoreError> {
        let statement = "DELETE FROM throughput_sample WHERE resolution = 1 AND at < now() - interval '2 days'";
        Ok(sqlx::query(statement).execute(&self.pool).await?.rows_affected())
    }
}
