//! Which sessions are asked for, and in which order: pages of any number of them.

use std::{
    cmp::Ordering as Order,
    net::IpAddr,
    sync::{Arc, atomic::Ordering},
};

use axum::http::StatusCode;
use ipnet::IpNet;
use moorfall_broker::{
    bans::network,
    broker::Broker,
    sessions::record::{Place, SessionRecord},
};
use moorfall_contract::{kinds::SessionOrder, sessions::SessionList};
use moorfall_core::Time;
use serde::Deserialize;
use utoipa::IntoParams;

use super::session_view::view;
use crate::http::{problem::Fault, reading::Limit};

/// Which sessions are asked for.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Wanted {
    /// Only those whose client identifier, identity or address holds this text.
    #[serde(default)]
    search: String,
    /// Only those whose clients are connected, or are not.
    #[param(nullable = false)]
    connected: Option<bool>,
    /// Only those of this identity.
    #[param(nullable = false)]
    identity: Option<String>,
    /// Only those of this cohort.
    #[param(nullable = false)]
    cohort: Option<String>,
    /// Only those connected from this address or network.
    #[param(nullable = false)]
    address: Option<String>,
    /// Only those that came by this listener.
    #[param(nullable = false)]
    listener: Option<String>,
    /// Only those that speak this version, 3.1.1 or 5.0.
    #[param(nullable = false)]
    version: Option<String>,
    /// Only those that were refused something, or of which something waits, was withheld or dropped.
    #[serde(default)]
    trouble: bool,
    /// By what they are sorted.
    #[serde(default)]
    #[param(inline)]
    order: SessionOrder,
    /// Whether the largest come first.
    #[serde(default)]
    descending: bool,
    /// Without so many of the first.
    #[serde(default)]
    offset: usize,
    /// Only those behind this client identifier, in the order of these: the last one of the page before.
    #[param(nullable = false)]
    after: Option<String>,
    /// The largest number returned.
    #[serde(default)]
    #[param(value_type = u64, default = 500, minimum = 1, maximum = 10_000)]
    limit: Limit<500, 10_000>,
}

/// What is to hold of a session.
struct Filter<'a> {
    wanted: &'a Wanted,
    net: Option<IpNet>,
}

impl Filter<'_> {
    fn is_open(&self) -> bool {
        let Wanted { search, connected, identity, cohort, address, listener, version, trouble, .. } = self.wanted;
        let texts = [identity, cohort, address, listener, version];
        search.is_empty() && connected.is_none() && !trouble && texts.iter().all(|text| text.is_none())
    }

    fn holds(&self, broker: &Broker, record: &SessionRecord) -> bool {
        let Wanted { search, connected, identity, cohort, listener, version, trouble, .. } = self.wanted;
        if connected.is_some_and(|wanted| wanted != record.is_connected())
            || identity.as_ref().is_some_and(|wanted| **wanted != *record.identity)
            || *trouble && !has_trouble(record)
        {
            return false;
        }
        let by_link = self.net.is_some() || listener.is_some() || version.is_some();
        let link = if by_link || !search.is_empty() { record.link() } else { None };
        if by_link {
            let Some(link) = &link else { return false };
            let from: IpAddr = link.address.ip().to_canonical();
            if self.net.is_some_and(|net| !net.contains(&from))
                || listener.as_ref().is_some_and(|wanted| **wanted != *link.listener)
                || version.as_ref().is_some_and(|wanted| *wanted != link.version.to_string())
            {
                return false;
            }
        }
        let is_found = search.is_empty()
            || record.client_id.contains(search)
            || record.identity.contains(&**search)
            || link.is_some_and(|link| link.address.to_string().contains(search));
        is_found && cohort.as_ref().is_none_or(|cohort| is_in(broker, record, cohort))
    }
}

fn has_trouble(record: &SessionRecord) -> bool {
    let (waiting, dropped) = record.queue();
    waiting > 0 || dropped > 0 || record.counters.read().refused > 0 || !record.withheld().is_empty()
}

fn is_in(broker: &Broker, record: &SessionRecord, cohort: &str) -> bool {
    let policy = broker.design.policy();
    let identity = broker.identity(&record.identity);
    identity.is_some_and(|identity| policy.cohorts_of(&identity).any(|known| known == cohort))
}

/// What a session is sorted by; sessions of which it is the same come by client identifier.
enum Key {
    Text(Arc<str>),
    Number(f64),
}

impl Key {
    fn of(order: SessionOrder, record: &SessionRecord, now: Time) -> Self {
        let totals = || record.counters.read();
        let number = match order {
            SessionOrder::Client => 0.0,
            SessionOrder::Identity => return Self::Text(Arc::clone(&record.identity)),
            SessionOrder::Since => match &*record.place.lock() {
                Place::Connected(link) => link.connected_at.unix_timestamp_nanos() as f64 / 1e9,
                Place::Parked(parked) => parked.since.as_micros() as f64 / 1e6,
                Place::Over => 0.0,
            },
            SessionOrder::Heard => record.link().map_or(0.0, |link| link.heard.load(Ordering::Relaxed) as f64),
            SessionOrder::RateIn => record.rates(now).messages_in,
            SessionOrder::RateOut => record.rates(now).messages_out,
            SessionOrder::MessagesIn => totals().messages_in as f64,
            SessionOrder::MessagesOut => totals().messages_out as f64,
            SessionOrder::Subscriptions => record.subscriptions.load(Ordering::Relaxed) as f64,
            SessionOrder::Queue => record.queue().0 as f64,
            SessionOrder::InFlight => record.in_flight.load(Ordering::Relaxed) as f64,
            SessionOrder::Refused => totals().refused as f64,
            SessionOrder::Withheld => {
                record.queue().1 as f64 + record.withheld().iter().map(|(_, count)| *count as f64).sum::<f64>()
            }
        };
        Self::Number(number)
    }

    fn compare(&self, other: &Self) -> Order {
        match (self, other) {
            (Self::Text(one), Self::Text(other)) => one.cmp(other),
            (Self::Number(one), Self::Number(other)) => one.total_cmp(other),
            _ => Order::Equal,
        }
    }
}

/// The network that is asked for, if one is.
pub(super) fn net_of(wanted: &Wanted) -> Result<Option<IpNet>, Fault> {
    let Some(text) = &wanted.address else { return Ok(None) };
    network(text).map(Some).ok_or_else(|| no_network(text))
}

/// A text that is no address.
pub(super) fn no_network(text: &str) -> Fault {
    let detail = format!("\"{text}\" is not an address. Write for example 192.0.2.7 or 192.0.2.0/24.");
    Fault::new(StatusCode::UNPROCESSABLE_ENTITY, "Invalid address", detail)
}

/// The sessions that are asked for.
pub(super) fn list_of(broker: &Broker, wanted: &Wanted, net: Option<IpNet>) -> SessionList {
    let (most, now) = (wanted.limit.0, broker.now());
    let filter = Filter { wanted, net };
    let is_in_order = wanted.order == SessionOrder::Client && !wanted.descending && wanted.offset == 0;
    if filter.is_open() && is_in_order {
        // The usual page needs no look at the others.
        let sessions = broker.sessions.registry.page(wanted.after.as_deref(), most);
        let sessions = sessions.iter().map(|record| view(broker, record, now)).collect();
        return SessionList { total: broker.sessions.registry.count() as u64, sessions };
    }
    let is_behind = |record: &SessionRecord| wanted.after.as_ref().is_none_or(|after| record.client_id > *after);
    let found = broker.sessions.registry.all().filter(|record| filter.holds(broker, record));
    if is_in_order {
        let (mut total, mut sessions) = (0, Vec::new());
        for record in found {
            total += 1;
            if sessions.len() < most && is_behind(&record) {
                sessions.push(view(broker, &record, now));
            }
        }
        return SessionList { total, sessions };
    }
    let mut all: Vec<(Key, Arc<SessionRecord>)> =
        found.map(|record| (Key::of(wanted.order, &record, now), record)).collect();
    let total = all.len() as u64;
    let by_client = wanted.order == SessionOrder::Client;
    let compare = |(one, first): &(Key, Arc<SessionRecord>), (other, second): &(Key, Arc<SessionRecord>)| {
        let clients = first.client_id.cmp(&second.client_id);
        let keys = if by_client { clients } else { one.compare(other) };
        let keys = if wanted.descending { keys.reverse() } else { keys };
        keys.then(clients)
    };
    // Only as many are put in order as are looked at.
    let end = wanted.offset.saturating_add(most).min(all.len());
    if end > 0 && end < all.len() {
        all.select_nth_unstable_by(end - 1, compare);
    }
    all.truncate(end);
    all.sort_unstable_by(compare);
    let page = all.iter().skip(wanted.offset);
    SessionList { total, sessions: page.map(|(_, record)| view(broker, record, now)).collect() }
}
