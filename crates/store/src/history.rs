//! What was measured over time: spans of ten seconds, rolled up to minutes and to quarters of an hour.

use std::collections::HashMap;

use time::OffsetDateTime;

use crate::{Store, StoreError, row::from_row};

/// The length of one span.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Resolution {
    /// Ten seconds.
    TenSeconds = 10,
    /// A minute.
    Minute = 60,
    /// A quarter of an hour.
    QuarterHour = 900,
}

impl Resolution {
    /// All, the finest first.
    pub const ALL: [Self; 3] = [Self::TenSeconds, Self::Minute, Self::QuarterHour];

    /// The length of a span, seconds.
    pub fn seconds(self) -> u32 {
        self as u32
    }
}

/// The number of a series in the database.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct SeriesId(i16);

/// A span as it was measured.
#[derive(Clone, Debug, PartialEq)]
pub struct Span {
    /// Its end: a whole number of its lengths.
    pub at: OffsetDateTime,
    /// Of counters the rates per second, of all others the values; counters that counted nothing are left out.
    pub values: Vec<(SeriesId, f32)>,
}

/// A point of one series.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Point {
    /// The end of its span.
    pub at: OffsetDateTime,
    /// The least of the values in it.
    pub minimum: f64,
    /// Their mean.
    pub mean: f64,
    /// The greatest.
    pub maximum: f64,
    /// The last one.
    pub last: f64,
}

from_row!(Point { at, minimum, mean, maximum, last });

/// What is to be known of a time, such as why nothing was measured.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Remark {
    /// Its beginning.
    pub began_at: OffsetDateTime,
    /// Its end.
    pub ended_at: OffsetDateTime,
    /// What, as it was stored.
    pub kind: String,
}

from_row!(Remark { began_at, ended_at, kind });

impl Store {
    /// The numbers of series; those that are new get one. With each whether spans without a value of it are 0.
    pub async fn history_series(&self, series: &[(String, bool)]) -> Result<HashMap<String, SeriesId>, StoreError> {
        let names: Vec<&str> = series.iter().map(|(name, _)| name.as_str()).collect();
        let zeros: Vec<bool> = series.iter().map(|(_, zero)| *zero).collect();
        // Those that are known use up no number.
        let new = "INSERT INTO history_series (name, zero_left_out) \
             SELECT * FROM UNNEST($1::text[], $2::boolean[]) AS new (name, zero) \
             WHERE NOT EXISTS (SELECT FROM history_series AS known WHERE known.name = new.name)";
        sqlx::query(new).bind(&names).bind(&zeros).execute(&self.pool).await?;
        let known = sqlx::query_as("SELECT name, id FROM history_series WHERE name = ANY($1)");
        let known: Vec<(String, i16)> = known.bind(&names).fetch_all(&self.pool).await?;
        Ok(known.into_iter().map(|(name, id)| (name, SeriesId(id))).collect())
    }

    /// Adds spans of one resolution in one transaction. A span for a time that has one is left out.
    pub async fn add_history(&self, resolution: Resolution, spans: &[Span]) -> Result<(), StoreError> {
        let mut change = self.pool.begin().await?;
        let ends: Vec<OffsetDateTime> = spans.iter().map(|span| span.at).collect();
        let new = "INSERT INTO history_span (resolution, at, parts) SELECT $2, at, 1 FROM UNNEST($1::timestamptz[]) AS at \
             ON CONFLICT DO NOTHING RETURNING at";
        let new: Vec<OffsetDateTime> =
            sqlx::query_scalar(new).bind(&ends).bind(resolution as i16).fetch_all(&mut *change).await?;
        let (mut series, mut at, mut value) = (Vec::new(), Vec::new(), Vec::new());
        for span in spans.iter().filter(|span| new.contains(&span.at)) {
            for (id, one) in &span.values {
                series.push(id.0);
                at.push(span.at);
                value.push(*one);
            }
        }
        let rows = "INSERT INTO history (series, resolution, at, minimum, mean, maximum, last) \
             SELECT series, $4, at, value, value, value, value \
             FROM UNNEST($1::int2[], $2::timestamptz[], $3::real[]) AS new (series, at, value)";
        sqlx::query(rows).bind(&series).bind(&at).bind(&value).bind(resolution as i16).execute(&mut *change).await?;
        change.commit().await?;
        Ok(())
    }

    /// Makes spans of the next coarser resolution of those that are there, at most so many of the oldest that are due: those
    /// whose end a finer span has reached. Gives how many.
    pub async fn roll_up(&self, finer: Resolution, coarser: Resolution, most: u32) -> Result<u64, StoreError> {
        let statement = "WITH due AS ( \
                 SELECT bucket, count(*)::integer AS parts FROM ( \
                     SELECT date_bin(make_interval(secs => $2), at - interval '1 microsecond', \
                         timestamptz '2000-01-01 00:00:00Z') + make_interval(secs => $2) AS bucket \
                     FROM history_span WHERE resolution = $1 AND at > coalesce( \
                         (SELECT max(at) FROM history_span WHERE resolution = $2), timestamptz '2000-01-01 00:00:00Z') \
                     ORDER BY at LIMIT $3 * ($2 / $1) + 1 \
                 ) AS finer \
                 WHERE bucket <= (SELECT max(at) FROM history_span WHERE resolution = $1) \
                 GROUP BY bucket ORDER BY bucket LIMIT $3 \
             ), done AS ( \
                 INSERT INTO history_span (resolution, at, parts) SELECT $2, bucket, parts FROM due RETURNING at \
             ), rows AS ( \
                 INSERT INTO history (series, resolution, at, minimum, mean, maximum, last) \
                 SELECT series.id, $2, due.bucket, \
                     CASE WHEN zero_left_out AND known < parts THEN least(minimum, 0) ELSE minimum END, \
                     CASE WHEN zero_left_out THEN total / parts ELSE total / known END, \
                     CASE WHEN zero_left_out AND known < parts THEN greatest(maximum, 0) ELSE maximum END, \
                     CASE WHEN zero_left_out AND newest < newest_span THEN 0 ELSE last END \
                 FROM due CROSS JOIN history_series AS series CROSS JOIN LATERAL ( \
                     SELECT count(*) AS known, min(minimum) AS minimum, sum(mean) AS total, max(maximum) AS maximum, \
                         (array_agg(last ORDER BY at DESC))[1] AS last, max(at) AS newest \
                     FROM history AS finer \
                     WHERE finer.series = series.id AND finer.resolution = $1 \
                         AND finer.at > due.bucket - make_interval(secs => $2) AND finer.at <= due.bucket \
                 ) AS finer CROSS JOIN LATERAL ( \
                     SELECT max(at) AS newest_span FROM history_span AS finer \
                     WHERE finer.resolution = $1 AND finer.at <= due.bucket \
                 ) AS newest \
                 WHERE known > 0 \
             ) SELECT count(*) FROM done";
        let done: i64 = sqlx::query_scalar(statement)
            .bind(finer as i16)
            .bind(coarser as i32)
            .bind(i64::from(most))
            .fetch_one(&self.pool)
            .await?;
        Ok(done.unsigned_abs())
    }

    /// Forgets what one series, or of all of them the list of spans, has of a resolution before this time; gives how much
    /// that was.
    pub async fn forget_history(
        &self,
        series: Option<SeriesId>,
        resolution: Resolution,
        before: OffsetDateTime,
    ) -> Result<u64, StoreError> {
        let query = match series {
            Some(series) => sqlx::query("DELETE FROM history WHERE resolution = $1 AND at < $2 AND series = $3")
                .bind(resolution as i16)
                .bind(before)
                .bind(series.0),
            None => sqlx::query("DELETE FROM history_span WHERE resolution = $1 AND at < $2")
                .bind(resolution as i16)
                .bind(before),
        };
        Ok(query.execute(&self.pool).await?.rows_affected())
    }

    /// A series between two times, in steps of so many seconds, oldest first. Steps in which nothing was measured are left
    /// out.
    pub async fn history(
        &self,
        series: &str,
        resolution: Resolution,
        (from, to): (OffsetDateTime, OffsetDateTime),
        step_seconds: u32,
    ) -> Result<Vec<Point>, StoreError> {
        let statement = "SELECT date_bin(make_interval(secs => $5), span.at - interval '1 microsecond', $3) \
                 + make_interval(secs => $5) AS at, \
                 min(coalesce(minimum, 0))::float8 AS minimum, \
                 (sum(coalesce(mean, 0)) / count(*))::float8 AS mean, \
                 max(coalesce(maximum, 0))::float8 AS maximum, \
                 coalesce((array_agg(last ORDER BY span.at DESC))[1], 0)::float8 AS last \
             FROM history_span AS span JOIN history_series AS series ON series.name = $1 \
             LEFT JOIN history ON history.series = series.id AND history.resolution = $2 AND history.at = span.at \
             WHERE span.resolution = $2 AND span.at > $3 AND span.at <= $4 \
                 AND (zero_left_out OR history.at IS NOT NULL) \
             GROUP BY 1 ORDER BY 1";
        Ok(sqlx::query_as(statement)
            .bind(series)
            .bind(resolution as i16)
            .bind(from)
            .bind(to)
            .bind(f64::from(step_seconds))
            .fetch_all(&self.pool)
            .await?)
    }

    /// The end of the newest span of a resolution.
    pub async fn newest_history(&self, resolution: Resolution) -> Result<Option<OffsetDateTime>, StoreError> {
        let newest =
            sqlx::query_scalar("SELECT max(at) FROM history_span WHERE resolution = $1").bind(resolution as i16);
        Ok(newest.fetch_one(&self.pool).await?)
    }

    /// The ends of the oldest spans of each resolution, in the order of [`Resolution::ALL`].
    pub async fn oldest_history(&self) -> Result<[Option<OffsetDateTime>; 3], StoreError> {
        let statement = "SELECT (SELECT min(at) FROM history_span WHERE resolution = 10), \
             (SELECT min(at) FROM history_span WHERE resolution = 60), \
             (SELECT min(at) FROM history_span WHERE resolution = 900)";
        let (ten_seconds, minute, quarter_hour) = sqlx::query_as(statement).fetch_one(&self.pool).await?;
        Ok([ten_seconds, minute, quarter_hour])
    }

    /// Says something of a time.
    pub async fn add_remark(&self, remark: &Remark) -> Result<(), StoreError> {
        let statement =
            "INSERT INTO history_remark (began_at, ended_at, kind) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING";
        sqlx::query(statement)
            .bind(remark.began_at)
            .bind(remark.ended_at)
            .bind(&remark.kind)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// What is said of times that reach into this range, oldest first, at most so many of the longest.
    pub async fn remarks(
        &self,
        (from, to): (OffsetDateTime, OffsetDateTime),
        most: u32,
    ) -> Result<Vec<Remark>, StoreError> {
        let statement = "SELECT * FROM (SELECT began_at, ended_at, kind FROM history_remark \
             WHERE ended_at > $1 AND began_at < $2 ORDER BY ended_at - began_at DESC LIMIT $3) AS longest ORDER BY began_at";
        let remarks = sqlx::query_as(statement).bind(from).bind(to).bind(i64::from(most));
        Ok(remarks.fetch_all(&self.pool).await?)
    }

    /// Forgets what was said of times that ended before this one.
    pub async fn forget_remarks(&self, before: OffsetDateTime) -> Result<u64, StoreError> {
        let gone = sqlx::query("DELETE FROM history_remark WHERE ended_at < $1").bind(before);
        Ok(gone.execute(&self.pool).await?.rows_affected())
    }
}
