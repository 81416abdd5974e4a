//! What happened now and then.

use sqlx::QueryBuilder;
use time::OffsetDateTime;

use crate::{Store, StoreError, row::from_row};

/// An event that is stored.
#[derive(Clone, Debug, PartialEq)]
pub struct EventRecord {
    /// Its place in the order in which events were written.
    pub id: i64,
    /// When it happened.
    pub at: OffsetDateTime,
    /// What, by its name.
    pub kind: String,
    /// Whom it is about; empty if nobody who is known.
    pub identity: String,
    /// By which client; empty if none.
    pub client_id: String,
    /// From which address; empty if none.
    pub address: String,
    /// What it is about; empty if nothing else.
    pub subject: String,
    /// How and why, in a sentence.
    pub explanation: String,
    /// How often.
    pub times: i64,
}

from_row!(EventRecord { id, at, kind, identity, client_id, address, subject, explanation, times });

/// Which events are asked for.
#[derive(Clone, Debug, Default)]
pub struct EventQuery {
    /// Of these kinds; of all if there is none.
    pub kinds: Vec<String>,
    /// About this identity.
    pub identity: Option<String>,
    /// By this client.
    pub client_id: Option<String>,
    /// From this address.
    pub address: Option<String>,
    /// With this text in any of their texts.
    pub text: Option<String>,
    /// At or after this time.
    pub since: Option<OffsetDateTime>,
    /// At or before this one.
    pub until: Option<OffsetDateTime>,
    /// Written after this one.
    pub after: Option<i64>,
    /// Written before this one.
    pub before: Option<i64>,
}

/// A search for a text goes through all events of its time, so it has a limit.
const LONGEST: &str = "SET LOCAL statement_timeout = '5s'";

impl Store {
    /// Adds events in one statement; their numbers are made here.
    pub async fn add_events(&self, events: &[EventRecord]) -> Result<(), StoreError> {
        let texts = |of: fn(&EventRecord) -> &str| -> Vec<&str> { events.iter().map(of).collect() };
        let statement = "INSERT INTO event (at, kind, identity, client_id, address, subject, explanation, times) \
             SELECT * FROM UNNEST($1::timestamptz[], $2::text[], $3::text[], $4::text[], $5::text[], $6::text[], \
             $7::text[], $8::int8[])";
        sqlx::query(statement)
            .bind(events.iter().map(|event| event.at).collect::<Vec<_>>())
            .bind(texts(|event| &event.kind))
            .bind(texts(|event| &event.identity))
            .bind(texts(|event| &event.client_id))
            .bind(texts(|event| &event.address))
            .bind(texts(|event| &event.subject))
            .bind(texts(|event| &event.explanation))
            .bind(events.iter().map(|event| event.times).collect::<Vec<_>>())
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Events, the newest first; with `after` the oldest of those first, so that none is missed.
    pub async fn events(&self, query: &EventQuery, most: i64) -> Result<Vec<EventRecord>, StoreError> {
        let mut asked = QueryBuilder::new("SELECT * FROM event WHERE true");
        if !query.kinds.is_empty() {
            asked.push(" AND kind = ANY(").push_bind(&query.kinds).push(")");
        }
        for (column, wanted) in
            [("identity", &query.identity), ("client_id", &query.client_id), ("address", &query.address)]
        {
            if let Some(wanted) = wanted {
                asked.push(" AND ").push(column).push(" = ").push_bind(wanted);
            }
        }
        if let Some(text) = &query.text {
            asked.push(" AND strpos(lower(concat_ws(' ', identity, client_id, address, subject, explanation)), lower(");
            asked.push_bind(text).push(")) > 0");
        }
        for (comparison, time) in [(" AND at >= ", query.since), (" AND at <= ", query.until)] {
            if let Some(time) = time {
                asked.push(comparison).push_bind(time);
            }
        }
        if let Some(after) = query.after {
            asked.push(" AND id > ").push_bind(after);
        }
        if let Some(before) = query.before {
            asked.push(" AND id < ").push_bind(before);
        }
        asked.push(if query.after.is_some() { " ORDER BY id LIMIT " } else { " ORDER BY id DESC LIMIT " });
        asked.push_bind(most);
        let mut search = self.pool.begin().await?;
        sqlx::query(LONGEST).execute(&mut *search).await?;
        match asked.build_query_as().fetch_all(&mut *search).await {
            // Query canceled.
            Err(sqlx::Error::Database(why)) if why.code().as_deref() == Some("57014") => Err(StoreError::TooMuch),
            found => Ok(found?),
        }
    }

    /// Forgets the oldest events of before this time, at most so many; gives how many those were.
    pub async fn forget_events(&self, before: OffsetDateTime, most: i64) -> Result<u64, StoreError> {
        let statement = "DELETE FROM event WHERE id IN (SELECT id FROM event WHERE at < $1 ORDER BY at LIMIT $2)";
        Ok(sqlx::query(statement).bind(before).bind(most).execute(&self.pool).await?.rows_affected())
    }
}
