//! Sessions, messages and deliveries: written in batches, read when the service starts.

use std::{
    collections::HashMap,
    num::{NonZeroU16, NonZeroU32},
    sync::Arc,
    time::Duration,
};

use bytes::{Bytes, BytesMut};
use futures_util::TryStreamExt;
use moorfall_core::{
    Condition, Delivery, Filed, Message, Page, SessionKey, Shelved, Time, Via,
    session::{DelayedWill, Granted, Sent, SessionState},
};
use moorfall_wire::{
    Frame, MAX_PACKET_SIZE, Packet, PacketId, ProtocolVersion, Publish, PublishProperties, QoS, SubscriptionOptions,
    TopicFilter, TopicName, VariableInt,
};
use sqlx::{Postgres, Row, Transaction, postgres::PgRow};
use tokio::sync::mpsc::Sender;

use crate::{
    Changes, SessionRow, Store, StoreError, audit,
    changes::{DeliveryRow, MessageRow, Table},
};

/// A session as it was found.
#[derive(Debug)]
pub struct StoredSession {
    /// Its key.
    pub key: SessionKey,
    /// What is known of it.
    pub row: SessionRow,
    /// Its subscriptions, what was sent, what was received.
    pub state: SessionState,
    /// Subscriptions of which the retained messages are still to be sent.
    pub retained_due: Vec<(TopicFilter, Granted)>,
    /// What waits to be sent and stays in the database, in order, each with its message's place unless that is this
    /// session's alone.
    pub shelved: Vec<(Shelved, Option<Arc<Filed>>)>,
    /// What waits to be sent and may become another member's turn, in order.
    pub turns: Vec<Delivery>,
}

/// Everything that was kept.
#[derive(Debug, Default)]
pub struct Stored {
    /// Sessions, in no order.
    pub sessions: Vec<StoredSession>,
    /// Retained messages.
    pub retained: usize,
}

/// The highest numbers in use.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct LastUsed {
    /// Of messages.
    pub number: u64,
    /// Of session keys.
    pub key: u64,
}

/// Retained messages in no order, each with the identity that published it; empty if that is not known.
pub type RetainedPage = Vec<(Arc<Message>, Arc<str>)>;

/// Messages of a page.
const PAGE: usize = 2_048;

/// What [`read_message`] reads.
macro_rules! message_columns {
    () => {
        "SELECT number, topic, payload, properties, qos, retain, publisher, received"
    };
}

impl Store {
    /// Writes changes in one transaction: all of them or none. `again` says that it was tried before, so that it may have
    /// been done: what is written then need not be new.
    pub async fn commit(&self, changes: &Changes, again: bool) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        let run = &mut transaction;
        write_sessions(run, changes).await?;
        write_subscriptions(run, changes).await?;
        write_messages(run, changes, again).await?;
        write_deliveries(run, changes, again).await?;
        write_received(run, changes).await?;
        for (by, deed, at) in &changes.deeds {
            audit::note_at(run, by, deed, Some(*at)).await?;
        }
        transaction.commit().await?;
        Ok(())
    }

    /// Notes that the service runs; gives whether it ran before and did not stop in order.
    pub async fn note_start(&self, now: Time) -> Result<bool, StoreError> {
        let found: Option<i64> = sqlx::query_scalar("SELECT since FROM running").fetch_optional(&self.pool).await?;
        sqlx::query(
            "INSERT INTO running (since) VALUES ($1) ON CONFLICT (single) DO UPDATE SET since = excluded.since",
        )
        .bind(signed(now.as_micros()))
        .execute(&self.pool)
        .await?;
        Ok(found.is_some())
    }

    /// Notes that the service stopped in order, and everything is written.
    pub async fn note_stop(&self) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM running").execute(&self.pool).await?;
        Ok(())
    }

    /// The highest numbers in use, once what a crash has left behind is gone.
    pub async fn last_used(&self, crashed: bool) -> Result<LastUsed, StoreError> {
        if crashed {
            sqlx::query(
                "DELETE FROM message WHERE NOT retained AND NOT EXISTS (SELECT FROM delivery WHERE delivery.message = \
                 message.number)",
            )
            .execute(&self.pool)
            .await?;
        }
        let all = "SELECT (SELECT max(number) FROM message), (SELECT max(key) FROM session)";
        let (number, key): (Option<i64>, Option<i64>) = sqlx::query_as(all).fetch_one(&self.pool).await?;
        Ok(LastUsed { number: number.map_or(0, unsigned), key: key.map_or(0, unsigned) })
    }

    /// Everything that was kept. Retained messages go to `pages`, so that they find their places while others are read.
    /// After a crash, what was sent last may or may not have arrived.
    pub async fn load(&self, crashed: bool, pages: Sender<RetainedPage>) -> Result<Stored, StoreError> {
        let mut stored = Stored::default();
        let messages = self.load_messages(&mut stored, &pages).await?;
        drop(pages);
        let mut sessions = self.load_sessions().await?;
        self.load_subscriptions(&mut sessions).await?;
        self.load_deliveries(&mut sessions, &messages, crashed).await?;
        self.load_shelved(&mut sessions, &messages, crashed).await?;
        self.load_received(&mut sessions).await?;
        stored.sessions = sessions.into_values().collect();
        Ok(stored)
    }

    /// Retained messages, and those that are in flight or may become another member's turn.
    async fn load_messages(
        &self,
        stored: &mut Stored,
        pages: &Sender<RetainedPage>,
    ) -> Result<HashMap<u64, Arc<Message>>, StoreError> {
        let mut messages = HashMap::new();
        let mut page = Vec::with_capacity(PAGE);
        let mut rows = sqlx::query(concat!(message_columns!(), ", coalesce(owner, '') FROM message WHERE retained"))
            .fetch(&self.pool);
        loop {
            let row = rows.try_next().await?;
            if page.len() == PAGE || row.is_none() {
                stored.retained += page.len();
                // Whoever does not take them does not want them.
                let _ = pages.send(std::mem::replace(&mut page, Vec::with_capacity(PAGE))).await;
            }
            let Some(row) = row else { break };
            let (number, message) = read_numbered(&row)?;
            message.set_retained(true);
            page.push((Arc::clone(&message), row.try_get::<&str, _>(8)?.into()));
            messages.insert(number, message);
        }
        drop(rows);
        // Asked for by their numbers: the planner knows nothing of tables that have just been filled, and may go through
        // one of them for each row of the other.
        let all = "SELECT DISTINCT message FROM delivery WHERE packet_id IS NOT NULL OR shared IS NOT NULL";
        let mut numbers: Vec<i64> = sqlx::query_scalar(all).fetch_all(&self.pool).await?;
        numbers.retain(|number| !messages.contains_key(&unsigned(*number)));
        for numbers in numbers.chunks(STATEMENT_ROWS) {
            for row in &self.messages(numbers).await? {
                let (number, message) = read_numbered(row)?;
                messages.insert(number, message);
            }
        }
        Ok(messages)
    }

    /// Messages by their numbers.
    async fn messages(&self, numbers: &[i64]) -> Result<Vec<PgRow>, StoreError> {
        let by_number = concat!(message_columns!(), " FROM message WHERE number = ANY($1)");
        Ok(sqlx::query(by_number).bind(numbers).fetch_all(&self.pool).await?)
    }

    async fn load_sessions(&self) -> Result<HashMap<SessionKey, StoredSession>, StoreError> {
        let mut rows =
            sqlx::query("SELECT key, client_id, identity, expiry, away_since, began_at, will, will_delay FROM session")
                .fetch(&self.pool);
        let mut sessions = HashMap::new();
        while let Some(row) = rows.try_next().await? {
            let key = SessionKey(unsigned(row.try_get(0)?));
            let will: Option<&[u8]> = row.try_get(6)?;
            let delay = Duration::from_secs(unsigned(row.try_get(7)?));
            let away_since: Option<i64> = row.try_get(4)?;
            let identity: &str = row.try_get(2)?;
            let session = SessionRow {
                client_id: row.try_get(1)?,
                identity: identity.into(),
                expiry: u32::try_from(row.try_get::<i64, _>(3)?).unwrap_or(u32::MAX),
                away_since: away_since.map(unsigned),
                began_at: unsigned(row.try_get(5)?),
                will: will.and_then(|bytes| read_will(bytes, key)).map(|message| DelayedWill { message, delay }),
            };
            let state = SessionState::default();
            let stored = StoredSession {
                key,
                row: session,
                state,
                retained_due: Vec::new(),
                shelved: Vec::new(),
                turns: Vec::new(),
            };
            sessions.insert(key, stored);
        }
        Ok(sessions)
    }

    async fn load_subscriptions(&self, sessions: &mut HashMap<SessionKey, StoredSession>) -> Result<(), StoreError> {
        let all = "SELECT session, filter, options, identifier, retained_due, condition FROM subscription";
        let mut rows = sqlx::query(all).fetch(&self.pool);
        while let Some(row) = rows.try_next().await? {
            let key = SessionKey(unsigned(row.try_get(0)?));
            let filter: String = row.try_get(1)?;
            let bits: i16 = row.try_get(2)?;
            let identifier: Option<i64> = row.try_get(3)?;
            let filter = TopicFilter::new(filter).map_err(damaged)?;
            let options = SubscriptionOptions::from_bits(u8::try_from(bits).unwrap_or(u8::MAX)).map_err(damaged)?;
            let identifier = identifier.and_then(variable_int);
            if let Some(session) = sessions.get_mut(&key) {
                let condition: Option<String> = row.try_get(5)?;
                let condition = condition.map(|text| Condition::shared(&text)).transpose().map_err(damaged)?;
                let granted = Granted { options, identifier, condition };
                if row.try_get(4)? {
                    session.retained_due.push((filter.clone(), granted.clone()));
                }
                session.state.restore_subscription(filter, granted);
            }
        }
        Ok(())
    }

    async fn load_deliveries(
        &self,
        sessions: &mut HashMap<SessionKey, StoredSession>,
        messages: &HashMap<u64, Arc<Message>>,
        crashed: bool,
    ) -> Result<(), StoreError> {
        // First what was sent, in the order in which it is sent again, then what waits.
        let mut rows = sqlx::query(
            "SELECT session, sequence, message, qos, retain, identifiers, shared, packet_id, released FROM delivery \
             WHERE packet_id IS NOT NULL OR shared IS NOT NULL \
             ORDER BY session, packet_id IS NULL, released NULLS FIRST, sequence",
        )
        .fetch(&self.pool);
        while let Some(row) = rows.try_next().await? {
            let key = SessionKey(unsigned(row.try_get(0)?));
            let number = unsigned(row.try_get(2)?);
            let (Some(session), Some(message)) = (sessions.get_mut(&key), messages.get(&number)) else { continue };
            let packet_id: Option<i32> = row.try_get(7)?;
            let released: Option<i64> = row.try_get(8)?;
            let mut delivery = read_delivery(&row, message)?;
            message.hold();
            match packet_id.and_then(packet_number) {
                Some(id) => session.state.restore_sent(id, Sent { delivery, released: released.is_some() }),
                None => {
                    delivery.duplicate = crashed && delivery.qos == QoS::AtLeastOnce;
                    session.turns.push(delivery);
                }
            }
        }
        Ok(())
    }

    /// What waits and is read when it is due.
    async fn load_shelved(
        &self,
        sessions: &mut HashMap<SessionKey, StoredSession>,
        messages: &HashMap<u64, Arc<Message>>,
        crashed: bool,
    ) -> Result<(), StoreError> {
        let several: Vec<i64> = sqlx::query_scalar(
            "SELECT message FROM delivery WHERE packet_id IS NULL AND shared IS NULL GROUP BY message \
             HAVING count(*) > 1",
        )
        .fetch_all(&self.pool)
        .await?;
        let several = several.into_iter().map(unsigned);
        let several: HashMap<u64, Arc<Filed>> = several.map(|number| (number, Filed::new(number, 0))).collect();
        let mut rows = sqlx::query(
            "SELECT session, sequence, message, delivery.qos, received, topic, octet_length(topic)::int8 + \
             octet_length(payload) + octet_length(properties) FROM delivery JOIN message ON message = number \
             WHERE packet_id IS NULL AND shared IS NULL ORDER BY session, sequence",
        )
        .fetch(&self.pool);
        while let Some(row) = rows.try_next().await? {
            let key = SessionKey(unsigned(row.try_get(0)?));
            let Some(session) = sessions.get_mut(&key) else { continue };
            let (sequence, number) = (unsigned(row.try_get(1)?), unsigned(row.try_get(2)?));
            let received = Time::from_micros(unsigned(row.try_get(4)?));
            let weight = usize::try_from(row.try_get::<i64, _>(6)?).unwrap_or(usize::MAX);
            let found = Shelved::found(sequence, number, received, row.try_get(5)?, weight);
            let sent_perhaps = crashed && read_qos(row.try_get(3)?)? == QoS::AtLeastOnce;
            let filed = messages.get(&number).and_then(|message| message.filed()).or_else(|| several.get(&number));
            if let Some(filed) = filed {
                filed.hold();
            }
            session.shelved.push((if sent_perhaps { found.sent_perhaps() } else { found }, filed.cloned()));
        }
        Ok(())
    }

    /// Deliveries that wait for a session, with their messages, in the order of their places.
    pub async fn deliveries(&self, session: SessionKey, page: Page) -> Result<Vec<Delivery>, StoreError> {
        let rows = sqlx::query(
            "SELECT session, sequence, message, qos, retain, identifiers, shared FROM delivery \
             WHERE session = $1 AND sequence BETWEEN $2 AND $3 AND packet_id IS NULL ORDER BY sequence",
        )
        .bind(signed(session.0))
        .bind(signed(page.first))
        .bind(signed(page.last))
        .fetch_all(&self.pool)
        .await?;
        let numbers: Vec<i64> = rows.iter().map(|row| row.try_get(2)).collect::<Result<_, _>>()?;
        let found = self.messages(&numbers).await?;
        let mut messages = HashMap::with_capacity(found.len());
        for row in &found {
            messages.insert(row.try_get::<i64, _>(0)?, Arc::new(read_message(row)?));
        }
        let of_row = |(row, number)| messages.get(number).map(|message| read_delivery(row, message));
        rows.iter().zip(&numbers).filter_map(of_row).collect()
    }

    async fn load_received(&self, sessions: &mut HashMap<SessionKey, StoredSession>) -> Result<(), StoreError> {
        let mut rows = sqlx::query("SELECT session, packet_id FROM received").fetch(&self.pool);
        while let Some(row) = rows.try_next().await? {
            let key = SessionKey(unsigned(row.try_get(0)?));
            if let (Some(session), Some(id)) = (sessions.get_mut(&key), packet_number(row.try_get(1)?)) {
                session.state.restore_received(id);
            }
        }
        Ok(())
    }
}

/// Rows of one statement at most.
const STATEMENT_ROWS: usize = 4_000;

/// Bytes of messages in one statement at most, unless a single one is larger: PostgreSQL takes less than 1 GiB.
const STATEMENT_BYTES: usize = 16 * 1024 * 1024;

type Run<'a> = &'a mut Transaction<'static, Postgres>;

async fn write_sessions(run: Run<'_>, changes: &Changes) -> Result<(), StoreError> {
    let gone: Vec<i64> = changes.sessions.removals().map(|key| signed(key.0)).collect();
    if !gone.is_empty() {
        for statement in [
            "DELETE FROM session WHERE key = ANY($1)",
            "DELETE FROM subscription WHERE session = ANY($1)",
            "DELETE FROM delivery WHERE session = ANY($1)",
            "DELETE FROM received WHERE session = ANY($1)",
        ] {
            sqlx::query(statement).bind(&gone).execute(&mut **run).await?;
        }
    }
    let rows: Vec<_> = changes.sessions.puts().collect();
    if rows.is_empty() {
        return Ok(());
    }
    let wills = rows.iter().map(|(_, row)| row.will.as_ref().map(|will| will_bytes(&will.message)).transpose());
    let wills: Vec<Option<Vec<u8>>> = wills.collect::<Result<_, _>>()?;
    let delay = |row: &SessionRow| row.will.as_ref().map_or(0, |will| signed(will.delay.as_secs()));
    sqlx::query(
        "INSERT INTO session (key, client_id, identity, expiry, away_since, began_at, will, will_delay) \
         SELECT * FROM UNNEST($1::int8[], $2::text[], $3::text[], $4::int8[], $5::int8[], $6::int8[], $7::bytea[], \
         $8::int8[]) ON CONFLICT (key) DO UPDATE SET expiry = excluded.expiry, away_since = excluded.away_since, \
         will = excluded.will, will_delay = excluded.will_delay",
    )
    .bind(column(&rows, |(key, _)| signed(key.0)))
    .bind(column(&rows, |(_, row)| row.client_id.as_str()))
    .bind(column(&rows, |(_, row)| &*row.identity))
    .bind(column(&rows, |(_, row)| i64::from(row.expiry)))
    .bind(column(&rows, |(_, row)| row.away_since.map(signed)))
    .bind(column(&rows, |(_, row)| signed(row.began_at)))
    .bind(wills)
    .bind(column(&rows, |(_, row)| delay(row)))
    .execute(&mut **run)
    .await?;
    Ok(())
}

async fn write_subscriptions(run: Run<'_>, changes: &Changes) -> Result<(), StoreError> {
    let gone: Vec<_> = changes.subscriptions.removals().collect();
    if !gone.is_empty() {
        sqlx::query(
            "DELETE FROM subscription USING UNNEST($1::int8[], $2::bytea[]) AS gone (session, filter_key) \
             WHERE subscription.session = gone.session AND subscription.filter_key = gone.filter_key",
        )
        .bind(column(&gone, |(session, _)| signed(session.0)))
        .bind(column(&gone, |(_, key)| &key[..]))
        .execute(&mut **run)
        .await?;
    }
    let rows: Vec<_> = changes.subscriptions.puts().collect();
    if rows.is_empty() {
        return Ok(());
    }
    sqlx::query(
        "INSERT INTO subscription (session, filter_key, filter, options, identifier, retained_due, condition) \
         SELECT * FROM UNNEST($1::int8[], $2::bytea[], $3::text[], $4::int2[], $5::int8[], $6::bool[], $7::text[]) \
         ON CONFLICT (session, filter_key) DO UPDATE SET options = excluded.options, identifier = excluded.identifier, \
         retained_due = excluded.retained_due, condition = excluded.condition",
    )
    .bind(column(&rows, |((session, _), _)| signed(session.0)))
    .bind(column(&rows, |((_, key), _)| &key[..]))
    .bind(column(&rows, |(_, row)| &*row.filter))
    .bind(column(&rows, |(_, row)| i16::from(row.granted.options.bits())))
    .bind(column(&rows, |(_, row)| row.granted.identifier.map(|number| i64::from(number.0.get()))))
    .bind(column(&rows, |(_, row)| row.retained_due))
    .bind(column(&rows, |(_, row)| row.granted.condition.as_ref().map(|condition| condition.text())))
    .execute(&mut **run)
    .await?;
    Ok(())
}

async fn write_messages(run: Run<'_>, changes: &Changes, again: bool) -> Result<(), StoreError> {
    let gone: Vec<i64> = changes.messages.removals().map(|number| signed(*number)).collect();
    for gone in gone.chunks(STATEMENT_ROWS) {
        sqlx::query("DELETE FROM message WHERE number = ANY($1)").bind(gone).execute(&mut **run).await?;
    }
    let (mut new, mut known) = changes.messages.puts_apart();
    for (rows, is_new) in [(&mut new, !again), (&mut known, false)] {
        // In the order of the index, which makes writing it cheaper.
        rows.sort_unstable_by_key(|(number, _)| **number);
        insert_all_messages(run, rows, is_new).await?;
    }
    Ok(())
}

async fn insert_all_messages(run: Run<'_>, rows: &[(&u64, &MessageRow)], are_new: bool) -> Result<(), StoreError> {
    let mut rest = rows;
    while !rest.is_empty() {
        let mut bytes = 0;
        let fits = rest.iter().take(STATEMENT_ROWS).take_while(|(_, row)| {
            let first = bytes == 0;
            bytes += row.message.weight() + 1;
            first || bytes <= STATEMENT_BYTES
        });
        let (now, later) = rest.split_at(fits.count());
        insert_messages(run, now, are_new).await?;
        rest = later;
    }
    Ok(())
}

/// What is said of rows that may be there. It costs a good part of an insert, so it is not said of new ones.
macro_rules! or_update {
    ($insert:literal, $update:literal, $are_new:expr) => {
        if $are_new { $insert } else { concat!($insert, " ", $update) }
    };
}

async fn insert_messages(run: Run<'_>, rows: &[(&u64, &MessageRow)], are_new: bool) -> Result<(), StoreError> {
    let properties: Vec<Vec<u8>> =
        rows.iter().map(|(_, row)| properties_bytes(&row.message.properties)).collect::<Result<_, _>>()?;
    sqlx::query(or_update!(
        "INSERT INTO message (number, topic, payload, properties, qos, retain, retained, publisher, received, owner) \
         SELECT * FROM UNNEST($1::int8[], $2::text[], $3::bytea[], $4::bytea[], $5::int2[], $6::bool[], $7::bool[], \
         $8::int8[], $9::int8[], $10::text[])",
        "ON CONFLICT (number) DO UPDATE SET retained = excluded.retained, owner = excluded.owner",
        are_new
    ))
    .bind(column(rows, |(number, _)| signed(**number)))
    .bind(column(rows, |(_, row)| &*row.message.topic))
    .bind(column(rows, |(_, row)| &row.message.payload[..]))
    .bind(properties)
    .bind(column(rows, |(_, row)| i16::from(row.message.qos.level())))
    .bind(column(rows, |(_, row)| row.message.retain))
    .bind(column(rows, |(_, row)| row.owner.is_some()))
    .bind(column(rows, |(_, row)| signed(row.message.publisher.0)))
    .bind(column(rows, |(_, row)| signed(row.message.received.as_micros())))
    .bind(column(rows, |(_, row)| row.owner.as_deref()))
    .execute(&mut **run)
    .await?;
    Ok(())
}

async fn write_deliveries(run: Run<'_>, changes: &Changes, again: bool) -> Result<(), StoreError> {
    let gone: Vec<_> = changes.deliveries.removals().collect();
    for gone in gone.chunks(STATEMENT_ROWS) {
        sqlx::query(
            "DELETE FROM delivery USING UNNEST($1::int8[], $2::int8[]) AS gone (session, sequence) \
             WHERE delivery.session = gone.session AND delivery.sequence = gone.sequence",
        )
        .bind(column(gone, |(session, _)| signed(session.0)))
        .bind(column(gone, |(_, sequence)| signed(*sequence)))
        .execute(&mut **run)
        .await?;
    }
    let (mut new, mut known) = changes.deliveries.puts_apart();
    for (rows, is_new) in [(&mut new, !again), (&mut known, false)] {
        rows.sort_unstable_by_key(|(key, _)| **key);
        for rows in rows.chunks(STATEMENT_ROWS) {
            insert_deliveries(run, rows, is_new).await?;
        }
    }
    Ok(())
}

async fn insert_deliveries(
    run: Run<'_>,
    rows: &[(&(SessionKey, u64), &DeliveryRow)],
    are_new: bool,
) -> Result<(), StoreError> {
    // An array of arrays must be a rectangle in PostgreSQL; so identifiers travel as text, "{7,9}".
    let identifiers = column(rows, |(_, row)| {
        let via = row.delivery.via.as_ref().filter(|via| !via.identifiers.is_empty())?;
        let numbers: Vec<String> = via.identifiers.iter().map(|number| number.0.to_string()).collect();
        Some(format!("{{{}}}", numbers.join(",")))
    });
    sqlx::query(or_update!(
        "INSERT INTO delivery (session, sequence, message, qos, retain, identifiers, shared, packet_id, released) \
         SELECT s, q, m, o, r, i::int8[], h, p, e FROM UNNEST($1::int8[], $2::int8[], $3::int8[], $4::int2[], \
         $5::bool[], $6::text[], $7::text[], $8::int4[], $9::int8[]) AS row (s, q, m, o, r, i, h, p, e)",
        "ON CONFLICT (session, sequence) DO UPDATE SET packet_id = excluded.packet_id, released = excluded.released",
        are_new
    ))
    .bind(column(rows, |((session, _), _)| signed(session.0)))
    .bind(column(rows, |((_, sequence), _)| signed(*sequence)))
    .bind(column(rows, |(_, row)| row.delivery.message.number().map_or(0, signed)))
    .bind(column(rows, |(_, row)| i16::from(row.delivery.qos.level())))
    .bind(column(rows, |(_, row)| row.delivery.retain))
    .bind(identifiers)
    .bind(column(rows, |(_, row)| row.delivery.shared().map(std::string::ToString::to_string)))
    .bind(column(rows, |(_, row)| row.packet_id.map(|id| i32::from(id.get()))))
    .bind(column(rows, |(_, row)| row.released.map(signed)))
    .execute(&mut **run)
    .await?;
    Ok(())
}

async fn write_received(run: Run<'_>, changes: &Changes) -> Result<(), StoreError> {
    let gone: Vec<_> = changes.received.removals().collect();
    let sessions = |rows: &[&(SessionKey, PacketId)]| column(rows, |(session, _)| signed(session.0));
    let numbers = |rows: &[&(SessionKey, PacketId)]| column(rows, |(_, id)| i32::from(id.get()));
    if !gone.is_empty() {
        sqlx::query(
            "DELETE FROM received USING UNNEST($1::int8[], $2::int4[]) AS gone (session, packet_id) \
             WHERE received.session = gone.session AND received.packet_id = gone.packet_id",
        )
        .bind(sessions(&gone))
        .bind(numbers(&gone))
        .execute(&mut **run)
        .await?;
    }
    let rows: Vec<_> = keys(&changes.received);
    if !rows.is_empty() {
        sqlx::query(
            "INSERT INTO received (session, packet_id) SELECT * FROM UNNEST($1::int8[], $2::int4[]) \
             ON CONFLICT DO NOTHING",
        )
        .bind(sessions(&rows))
        .bind(numbers(&rows))
        .execute(&mut **run)
        .await?;
    }
    Ok(())
}

fn keys<K: Eq + std::hash::Hash + Copy, R>(table: &Table<K, R>) -> Vec<&K> {
    table.puts().map(|(key, _)| key).collect()
}

fn column<'a, T, C>(rows: &'a [T], pick: impl Fn(&'a T) -> C) -> Vec<C> {
    rows.iter().map(pick).collect()
}

/// PostgreSQL has no unsigned numbers; those here never come near the bound.
fn signed(number: u64) -> i64 {
    i64::try_from(number).unwrap_or(i64::MAX)
}

fn unsigned(number: i64) -> u64 {
    u64::try_from(number).unwrap_or(0)
}

fn packet_number(number: i32) -> Option<PacketId> {
    u16::try_from(number).ok().and_then(NonZeroU16::new)
}

fn variable_int(number: i64) -> Option<VariableInt> {
    u32::try_from(number).ok().and_then(NonZeroU32::new).map(VariableInt)
}

fn damaged(error: impl std::fmt::Display) -> StoreError {
    StoreError::Damaged(error.to_string())
}

fn properties_bytes(properties: &PublishProperties) -> Result<Vec<u8>, StoreError> {
    let mut bytes = BytesMut::with_capacity(properties.size());
    properties.write(&mut bytes).map_err(damaged)?;
    Ok(bytes.into())
}

fn will_bytes(message: &Message) -> Result<Vec<u8>, StoreError> {
    let publish = Publish {
        retain: message.retain,
        properties: PublishProperties::clone(&message.properties),
        packet_id: (message.qos != QoS::AtMostOnce).then_some(PacketId::MIN),
        ..Publish::new(message.topic.clone(), message.payload.clone(), message.qos)
    };
    let mut bytes = BytesMut::new();
    Packet::Publish(publish).encode(ProtocolVersion::V5, &mut bytes).map_err(damaged)?;
    Ok(bytes.into())
}

fn read_will(bytes: &[u8], publisher: SessionKey) -> Option<Arc<Message>> {
    let frame = Frame::split(&mut BytesMut::from(bytes), MAX_PACKET_SIZE).ok()??;
    let Ok(Packet::Publish(publish)) = Packet::decode(frame, ProtocolVersion::V5) else { return None };
    let Publish { topic, payload, qos, retain, properties, .. } = publish;
    Some(Arc::new(Message::new(topic, payload, qos, retain, properties, publisher, Time::default())))
}

/// A message that is filed under its number.
fn read_numbered(row: &PgRow) -> Result<(u64, Arc<Message>), StoreError> {
    let number = unsigned(row.try_get(0)?);
    let message = Arc::new(read_message(row)?);
    message.file(number);
    Ok((number, message))
}

fn read_message(row: &PgRow) -> Result<Message, StoreError> {
    let topic: String = row.try_get(1)?;
    let payload: Vec<u8> = row.try_get(2)?;
    let properties: Vec<u8> = row.try_get(3)?;
    let qos: i16 = row.try_get(4)?;
    Ok(Message::new(
        TopicName::new(topic).map_err(damaged)?,
        payload.into(),
        read_qos(qos)?,
        row.try_get(5)?,
        PublishProperties::read(Bytes::from(properties)).map_err(damaged)?,
        SessionKey(unsigned(row.try_get(6)?)),
        Time::from_micros(unsigned(row.try_get(7)?)),
    ))
}

fn read_delivery(row: &PgRow, message: &Arc<Message>) -> Result<Delivery, StoreError> {
    let qos: i16 = row.try_get(3)?;
    let identifiers: Option<Vec<i64>> = row.try_get(5)?;
    let shared: Option<String> = row.try_get(6)?;
    let shared = shared.map(TopicFilter::new).transpose().map_err(damaged)?;
    let identifiers: Vec<_> = identifiers.unwrap_or_default().into_iter().filter_map(variable_int).collect();
    let via = (shared.is_some() || !identifiers.is_empty()).then(|| Arc::new(Via { identifiers, shared }));
    let delivery = Delivery::new(Arc::clone(message), read_qos(qos)?, row.try_get(4)?);
    Ok(Delivery { sequence: unsigned(row.try_get(1)?), via, ..delivery })
}

fn read_qos(level: i16) -> Result<QoS, StoreError> {
    u8::try_from(level).ok().and_then(|level| QoS::try_from(level).ok()).ok_or_else(|| damaged("a QoS above 2"))
}
