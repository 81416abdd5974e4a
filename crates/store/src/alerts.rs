//! How alerts stand, and the notices that are sent of them.

use serde::Serialize;
use serde_json::Value;
use sqlx::{QueryBuilder, types::Json};
use time::OffsetDateTime;

use crate::{Author, Deed, Store, StoreError, audit::note, row::from_row};

/// How one subject of an alert stands. Times are microseconds since 1970.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct StandingRecord {
    /// The alert's name.
    pub alert: String,
    /// What it is about.
    pub subject: String,
    /// Where it is.
    pub phase: String,
    /// Since when.
    pub since: i64,
    /// Since when it is out.
    pub out_since: Option<i64>,
    /// The last value when anything changed.
    pub value: Option<f64>,
    /// The value that was furthest out.
    pub worst: Option<f64>,
    /// When it was raised lately.
    pub raises: Vec<i64>,
    /// Whether it is raised again and again.
    pub flapping: bool,
    /// Whether the last notice said that it is out.
    pub told: bool,
}

from_row!(StandingRecord { alert, subject, phase, since, out_since, value, worst, raises, flapping, told });

/// An alert of which nobody is told for a while.
#[derive(Clone, Debug, PartialEq)]
pub struct QuietRecord {
    /// The alert's name.
    pub alert: String,
    /// Who wants it.
    pub person: String,
    /// Until when.
    pub until: OffsetDateTime,
}

from_row!(QuietRecord { alert, person, until });

/// A notice to be sent.
#[derive(Clone, Debug, PartialEq)]
pub struct NewNotice {
    /// The same for all addresses.
    pub id: String,
    /// Of which alert.
    pub alert: String,
    /// To which contact.
    pub contact: String,
    /// Which way.
    pub way: String,
    /// To which address.
    pub target: String,
    /// When it was decided.
    pub at: OffsetDateTime,
    /// What is told.
    pub facts: Value,
}

/// A notice, and what has become of it.
#[derive(Clone, Debug, PartialEq)]
pub struct NoticeRecord {
    /// Its place in the order of notices.
    pub number: i64,
    /// The same for all addresses.
    pub id: String,
    /// Of which alert.
    pub alert: String,
    /// To which contact.
    pub contact: String,
    /// Which way.
    pub way: String,
    /// To which address.
    pub target: String,
    /// When it was decided.
    pub at: OffsetDateTime,
    /// What is told.
    pub facts: Value,
    /// What has become of it.
    pub state: String,
    /// How often it was tried.
    pub tries: i64,
    /// The last attempts.
    pub attempts: Value,
    /// When it is tried next.
    pub next_at: Option<OffsetDateTime>,
}

from_row!(NoticeRecord { number, id, alert, contact, way, target, at, facts, state, tries, attempts, next_at });

/// Which notices are asked for.
#[derive(Clone, Debug, Default)]
pub struct NoticeQuery {
    /// Of this alert.
    pub alert: Option<String>,
    /// In this state.
    pub state: Option<String>,
    /// With this identifier.
    pub id: Option<String>,
    /// Before the one of this number.
    pub before: Option<i64>,
}

/// What changes together.
#[derive(Clone, Debug, Default)]
pub struct AlertChanges {
    /// Standings that are so from now on.
    pub standings: Vec<StandingRecord>,
    /// Alerts and subjects that are just in their bands, or not watched any more.
    pub gone: Vec<(String, String)>,
    /// What is told of it.
    pub notices: Vec<NewNotice>,
}

impl AlertChanges {
    /// Whether there is nothing.
    pub fn is_empty(&self) -> bool {
        self.standings.is_empty() && self.gone.is_empty() && self.notices.is_empty()
    }
}

impl Store {
    /// How alerts stand, and which are quiet.
    pub async fn alerts(&self) -> Result<(Vec<StandingRecord>, Vec<QuietRecord>), StoreError> {
        let standings = sqlx::query_as("SELECT * FROM alert_standing").fetch_all(&self.pool).await?;
        let quiet = sqlx::query_as("SELECT * FROM alert_quiet WHERE until > now()").fetch_all(&self.pool).await?;
        Ok((standings, quiet))
    }

    /// Writes how alerts stand, and what is told of it, in one transaction: what is written as told is told.
    pub async fn change_alerts(&self, changes: &AlertChanges) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        if !changes.standings.is_empty() {
            sqlx::query(
                "INSERT INTO alert_standing \
                 (alert, subject, phase, since, out_since, value, worst, raises, flapping, told) \
                 SELECT * FROM jsonb_to_recordset($1) AS changed (alert text, subject text, phase text, since bigint, \
                 out_since bigint, value float8, worst float8, raises bigint[], flapping boolean, told boolean) \
                 ON CONFLICT (alert, subject) DO UPDATE SET phase = EXCLUDED.phase, since = EXCLUDED.since, \
                 out_since = EXCLUDED.out_since, value = EXCLUDED.value, worst = EXCLUDED.worst, \
                 raises = EXCLUDED.raises, flapping = EXCLUDED.flapping, told = EXCLUDED.told",
            )
            .bind(Json(&changes.standings))
            .execute(&mut *transaction)
            .await?;
        }
        if !changes.gone.is_empty() {
            let statement = "DELETE FROM alert_standing WHERE (alert, subject) IN \
                 (SELECT * FROM UNNEST($1::text[], $2::text[]))";
            let (alerts, subjects): (Vec<&str>, Vec<&str>) =
                changes.gone.iter().map(|(alert, subject)| (alert.as_str(), subject.as_str())).unzip();
            sqlx::query(statement).bind(alerts).bind(subjects).execute(&mut *transaction).await?;
        }
        for NewNotice { id, alert, contact, way, target, at, facts } in &changes.notices {
            sqlx::query(
                "INSERT INTO notice (id, alert, contact, way, target, at, facts, state, tries, attempts, next_at) \
                 VALUES ($1, $2, $3, $4, $5, $6, $7, 'waiting', 0, '[]', $6) ON CONFLICT DO NOTHING",
            )
            .bind(id)
            .bind(alert)
            .bind(contact)
            .bind(way)
            .bind(target)
            .bind(at)
            .bind(facts)
            .execute(&mut *transaction)
            .await?;
        }
        transaction.commit().await?;
        Ok(())
    }

    /// The oldest notice to each address, as far as it is to be tried now: later ones wait for it. Tests come before them.
    pub async fn due_notices(&self, now: OffsetDateTime, most: i64) -> Result<Vec<NoticeRecord>, StoreError> {
        let statement = "SELECT * FROM (SELECT DISTINCT ON (way, target) * FROM notice WHERE state = 'waiting' \
             ORDER BY way, target, facts->>'kind' <> 'test', number) AS oldest WHERE next_at <= $1 ORDER BY next_at LIMIT $2";
        Ok(sqlx::query_as(statement).bind(now).bind(most).fetch_all(&self.pool).await?)
    }

    /// What has become of a notice.
    pub async fn note_attempt(&self, notice: &NoticeRecord) -> Result<(), StoreError> {
        let statement = "UPDATE notice SET state = $2, tries = $3, attempts = $4, next_at = $5 WHERE number = $1 AND state = 'waiting'";
        sqlx::query(statement)
            .bind(notice.number)
            .bind(&notice.state)
            .bind(notice.tries)
            .bind(&notice.attempts)
            .bind(notice.next_at)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// What has become of a notice that may not be stored yet.
    pub async fn put_outcome(&self, notice: &NoticeRecord) -> Result<(), StoreError> {
        let statement = "INSERT INTO notice \
             (id, alert, contact, way, target, at, facts, state, tries, attempts, next_at) \
             VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11) ON CONFLICT (id, contact, way, target) DO UPDATE SET \
             state = EXCLUDED.state, tries = EXCLUDED.tries, attempts = EXCLUDED.attempts, next_at = EXCLUDED.next_at \
             WHERE notice.state = 'waiting'";
        sqlx::query(statement)
            .bind(&notice.id)
            .bind(&notice.alert)
            .bind(&notice.contact)
            .bind(&notice.way)
            .bind(&notice.target)
            .bind(notice.at)
            .bind(&notice.facts)
            .bind(&notice.state)
            .bind(notice.tries)
            .bind(&notice.attempts)
            .bind(notice.next_at)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Notices, the newest first.
    pub async fn notices(&self, query: &NoticeQuery, most: i64) -> Result<Vec<NoticeRecord>, StoreError> {
        let mut asked = QueryBuilder::new("SELECT * FROM notice WHERE true");
        for (column, wanted) in [("alert", &query.alert), ("state", &query.state), ("id", &query.id)] {
            if let Some(wanted) = wanted {
                asked.push(" AND ").push(column).push(" = ").push_bind(wanted);
            }
        }
        if let Some(before) = query.before {
            asked.push(" AND number < ").push_bind(before);
        }
        asked.push(" ORDER BY number DESC LIMIT ").push_bind(most);
        Ok(asked.build_query_as().fetch_all(&self.pool).await?)
    }

    /// How many notices wait.
    pub async fn waiting_notices(&self) -> Result<u64, StoreError> {
        let statement = "SELECT count(*) FROM notice WHERE state = 'waiting'";
        let count: i64 = sqlx::query_scalar(statement).fetch_one(&self.pool).await?;
        Ok(count.unsigned_abs())
    }

    /// Forgets notices of before this time that do not wait, at most so many; gives how many those were.
    pub async fn forget_notices(&self, before: OffsetDateTime, most: i64) -> Result<u64, StoreError> {
        let statement = "DELETE FROM notice WHERE number IN \
             (SELECT number FROM notice WHERE at < $1 AND state <> 'waiting' ORDER BY at LIMIT $2)";
        Ok(sqlx::query(statement).bind(before).bind(most).execute(&self.pool).await?.rows_affected())
    }

    /// Nobody is told of an alert until then; `None` ends it.
    pub async fn put_quiet(
        &self,
        alert: &str,
        until: Option<OffsetDateTime>,
        by: &Author,
        deed: Deed,
    ) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        match until {
            Some(until) => {
                let statement = "INSERT INTO alert_quiet (alert, person, until) VALUES ($1, $2, $3) \
                     ON CONFLICT (alert) DO UPDATE SET person = EXCLUDED.person, until = EXCLUDED.until";
                let statement = sqlx::query(statement).bind(alert).bind(&*by.person).bind(until);
                statement.execute(&mut *transaction).await?;
            }
            None => {
                let statement = sqlx::query("DELETE FROM alert_quiet WHERE alert = $1").bind(alert);
                statement.execute(&mut *transaction).await?;
            }
        }
        note(&mut transaction, by, &deed).await?;
        transaction.commit().await?;
        Ok(())
    }
}
