//! A session, as it is told.

use std::{collections::BTreeMap, sync::atomic::Ordering};

use moorfall_broker::{
    broker::Broker,
    clock::date,
    sessions::record::{Place, SessionRecord, SignedInBy as Proof},
};
use moorfall_contract::{
    kinds::SignedInBy,
    sessions::{SessionRates, SessionView},
};
use moorfall_core::Time;
use time::OffsetDateTime;

fn signed_in_by(by: &Proof) -> SignedInBy {
    match by {
        Proof::Nothing => SignedInBy::Nothing,
        Proof::Secret => SignedInBy::Secret,
        Proof::Password => SignedInBy::Password,
        Proof::Token(_) => SignedInBy::Token,
        Proof::Certificate => SignedInBy::Certificate,
        Proof::Person(_) => SignedInBy::Person,
        Proof::Bridge => SignedInBy::Bridge,
        Proof::Derived => SignedInBy::Derived,
    }
}

fn by_reason(counts: Vec<(&'static str, u64)>) -> BTreeMap<String, u64> {
    counts.into_iter().map(|(reason, count)| (reason.to_owned(), count)).collect()
}

pub(super) fn view(broker: &Broker, record: &SessionRecord, now: Time) -> SessionView {
    let totals = record.counters.read();
    let (queue, dropped) = record.queue();
    let (withheld_by, refused_by) = (by_reason(record.withheld()), by_reason(record.refused()));
    let rates = record.rates(now);
    let last_end = record.last_end();
    let refusal = record.last_refusal.lock().clone();
    let link = record.link();
    let (since, ends_at) = match (&link, &*record.place.lock()) {
        (Some(link), _) => (link.connected_at, None),
        (None, Place::Parked(parked)) => (date(parked.since), parked.ends.map(date)),
        (None, _) => (OffsetDateTime::now_utc(), None),
    };
    SessionView {
        client_id: record.client_id.clone(),
        identity: record.identity.to_string(),
        connected: link.is_some(),
        address: link.as_ref().map_or_else(String::new, |link| link.address.to_string()),
        listener: link.as_ref().map_or_else(String::new, |link| link.listener.to_string()),
        signed_in_by: link.as_ref().map(|link| signed_in_by(&link.by)),
        certificate: link
            .as_ref()
            .and_then(|link| link.certificate.as_ref()?.matches.last().cloned())
            .unwrap_or_default(),
        tls: link.as_ref().and_then(|link| link.tls).map(|version| version.to_string()).unwrap_or_default(),
        certificate_ends_at: link.as_ref().and_then(|link| Some(link.certificate.as_ref()?.ends)),
        keep_alive_seconds: link.as_ref().map_or(0, |link| link.keep_alive.load(Ordering::Relaxed)),
        heard_at: link.as_ref().map(|link| date(Time::from_micros(link.heard.load(Ordering::Relaxed)))),
        version: link.as_ref().map_or_else(String::new, |link| link.version.to_string()),
        since,
        began_at: date(record.began_at),
        persistent: record.is_persistent(),
        ends_at,
        messages_in: totals.messages_in,
        messages_out: totals.messages_out,
        bytes_in: totals.bytes_in,
        bytes_out: totals.bytes_out,
        rates: SessionRates {
            messages_in: rates.messages_in,
            messages_out: rates.messages_out,
            bytes_in: rates.bytes_in,
            bytes_out: rates.bytes_out,
        },
        subscriptions: record.subscriptions.load(Ordering::Relaxed) as u64,
        queue: queue as u64,
        queue_bytes: record.waiting().1 as u64,
        queue_limit: broker.limits.queue_messages as u64,
        in_flight: record.in_flight.load(Ordering::Relaxed) as u64,
        dropped,
        withheld: withheld_by.values().sum(),
        withheld_by,
        left_out: record.left_out(),
        not_owner: record.not_owner(),
        refused: totals.refused,
        refused_by,
        last_refusal: refusal.as_ref().map_or_else(String::new, |last| last.1.to_string()),
        last_refusal_at: refusal.map(|last| last.0),
        last_end: last_end.as_ref().map_or_else(String::new, |(_, why)| why.to_string()),
        last_end_at: last_end.map(|(at, _)| date(at)),
    }
}
