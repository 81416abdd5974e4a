//! Events that wait to be written, bounded whatever happens: when there are too many, the rest is counted by kind.

use std::{
    net::IpAddr,
    sync::{
        Arc,
        atomic::{AtomicI64, AtomicU64, Ordering},
    },
};

use moorfall_core::{EventKind, Time, blueprint::Act, session::Ended, shown::count};
use parking_lot::Mutex;
use strum::VariantArray;

use crate::facts::{Client, Fact};

/// Who causes an event; each has room of its own, so that a flood of one does not hide what the others do.
#[derive(Clone, Copy)]
enum Cause {
    /// Whoever reaches a port.
    Stranger,
    /// A client that was let in.
    Client,
    /// The service, or who runs it.
    Service,
}

impl Cause {
    const COUNT: usize = 3;

    fn of(kind: EventKind) -> Self {
        match kind {
            EventKind::Refused | EventKind::Unfinished | EventKind::HandshakeFailed => Self::Stranger,
            EventKind::Connected
            | EventKind::Disconnected
            | EventKind::ConnectionLost
            | EventKind::TakenOver
            | EventKind::SessionExpired
            | EventKind::SessionEnded
            | EventKind::Subscribed
            | EventKind::SubscriptionRefused
            | EventKind::Unsubscribed
            | EventKind::WillSent
            | EventKind::WillRefused
            | EventKind::OwnerChanged
            | EventKind::AlertRaised
            | EventKind::AlertCleared => Self::Client,
            _ => Self::Service,
        }
    }
}

/// Events of one cause that may come at once after a quiet time.
const BURST: i64 = 500;

/// Those for which there is room again each time that events are taken out.
const REFILL: i64 = 50;

/// Bytes of a text that a client chose.
const TEXT: usize = 256;

/// Something that happened.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Event {
    /// When.
    pub at: Time,
    /// What.
    pub kind: EventKind,
    /// Whom it is about; empty if nobody who is known.
    pub identity: Arc<str>,
    /// By which client; empty if none.
    pub client_id: String,
    /// From which address.
    pub address: Option<IpAddr>,
    /// What it is about: a topic, a filter, a listener, the name of an identity; empty if nothing else.
    pub subject: String,
    /// How and why, in a sentence.
    pub explanation: String,
    /// How often; more than once for those that were too many to tell.
    pub count: u64,
}

impl Event {
    fn new(at: Time, kind: EventKind) -> Self {
        Self {
            at,
            kind,
            identity: Arc::default(),
            client_id: String::new(),
            address: None,
            subject: String::new(),
            explanation: String::new(),
            count: 1,
        }
    }

    fn of(self, client: &Client) -> Self {
        Self { identity: Arc::clone(&client.identity), client_id: cut(&client.id), ..self }
    }
}

fn cut(text: &str) -> String {
    text[..text.floor_char_boundary(TEXT)].to_owned()
}

/// Events that are not written yet.
#[derive(Debug)]
pub struct Events {
    waiting: Mutex<Vec<Event>>,
    /// For how many there is room, by cause.
    room: [AtomicI64; Cause::COUNT],
    /// Those for which there was none, by kind.
    left_out: [AtomicU64; EventKind::VARIANTS.len()],
}

impl Default for Events {
    fn default() -> Self {
        Self {
            waiting: Mutex::default(),
            room: [const { AtomicI64::new(BURST) }; Cause::COUNT],
            left_out: Default::default(),
        }
    }
}

impl Events {
    /// Notes a fact, if it is an event.
    pub fn note(&self, fact: &Fact, now: Time) {
        let Some(kind) = kind(fact) else { return };
        let room = &self.room[Cause::of(kind) as usize];
        if room.fetch_sub(1, Ordering::Relaxed) <= 0 {
            room.fetch_add(1, Ordering::Relaxed);
            self.left_out[kind as usize].fetch_add(1, Ordering::Relaxed);
            return;
        }
        let event = event(fact, kind, now);
        self.waiting.lock().push(event);
    }

    /// Takes out what waits, and how many more there were of each kind; to be called twice a second.
    pub fn take(&self, now: Time) -> Vec<Event> {
        let mut events = std::mem::take(&mut *self.waiting.lock());
        for room in &self.room {
            let more = |room: i64| Some(room.saturating_add(REFILL).min(BURST));
            let _unchanged = room.fetch_update(Ordering::Relaxed, Ordering::Relaxed, more);
        }
        for kind in EventKind::VARIANTS {
            let more = self.left_out[*kind as usize].swap(0, Ordering::Relaxed);
            if more > 0 {
                let explanation = format!("{} more, too many to list each.", count(more));
                events.push(Event { explanation, count: more, ..Event::new(now, *kind) });
            }
        }
        events
    }
}

/// What kind of event a fact is; `None` for what clients can cause at any rate and is counted elsewhere.
fn kind(fact: &Fact) -> Option<EventKind> {
    Some(match fact {
        Fact::Connected { .. } => EventKind::Connected,
        Fact::Disconnected { why: Ended::TakenOver, .. } => EventKind::TakenOver,
        Fact::Disconnected { why, .. } if why.is_lost() => EventKind::ConnectionLost,
        Fact::Disconnected { .. } => EventKind::Disconnected,
        Fact::NotAccepted { why: Ended::NotAccepted(_), .. } => EventKind::Refused,
        Fact::NotAccepted { .. } => EventKind::Unfinished,
        Fact::NotSecured { .. } => EventKind::HandshakeFailed,
        Fact::Refusing { .. } => EventKind::ListenerRefuses,
        Fact::Accepting { .. } => EventKind::ListenerAccepts,
        Fact::Expired { .. } => EventKind::SessionExpired,
        Fact::EndedAway { .. } => EventKind::SessionEnded,
        Fact::Refused { refusal, .. } if refusal.is_will => EventKind::WillRefused,
        Fact::Refused { refusal, .. } if refusal.act == Act::Subscribe => EventKind::SubscriptionRefused,
        Fact::Subscribed { .. } => EventKind::Subscribed,
        Fact::Unsubscribed { .. } => EventKind::Unsubscribed,
        Fact::WillSent { .. } => EventKind::WillSent,
        Fact::SignInsFail { .. } => EventKind::SignInsFail,
        Fact::OwnerChanged(_) => EventKind::OwnerChanged,
        Fact::BlueprintApplied { .. } => EventKind::BlueprintApplied,
        Fact::IdentityChanged { .. } => EventKind::IdentityChanged,
        Fact::IdentityRemoved { .. } => EventKind::IdentityRemoved,
        Fact::DatabaseAway { .. } => EventKind::DatabaseAway,
        Fact::DatabaseBack => EventKind::DatabaseBack,
        Fact::CertificateEnds { .. } => EventKind::CertificateEnds,
        Fact::AlertRaised { .. } => EventKind::AlertRaised,
        Fact::AlertCleared { .. } => EventKind::AlertCleared,
        Fact::NoticeFails { .. } => EventKind::NoticeFails,
        Fact::BridgeUp { .. } => EventKind::BridgeUp,
        Fact::BridgeDown { .. } => EventKind::BridgeDown,
        Fact::BridgeRefused { .. } => EventKind::BridgeRefused,
        Fact::BridgeDrops { .. } => EventKind::BridgeDrops,
        Fact::BridgeTold { .. } => EventKind::BridgeTold,
        Fact::Refused { .. } | Fact::Withheld { .. } => return None,
    })
}

fn event(fact: &Fact, kind: EventKind, now: Time) -> Event {
    let event = Event::new(now, kind);
    match fact {
        Fact::Connected { client, address, listener, version, resumed } => Event {
            address: Some(address.ip()),
            subject: listener.to_string(),
            explanation: format!(
                "Connected to {listener} with MQTT {version}{}.",
                if *resumed { "; its session continues" } else { "" }
            ),
            ..event.of(client)
        },
        Fact::Disconnected { client, address, why } => {
            Event { address: Some(address.ip()), explanation: why.to_string(), ..event.of(client) }
        }
        Fact::NotAccepted { user_name, address, why } => {
            Event { address: Some(address.ip()), subject: cut(user_name), explanation: why.to_string(), ..event }
        }
        Fact::NotSecured { address, listener, why } => Event {
            address: Some(address.ip()),
            subject: listener.to_string(),
            explanation: format!("{why}."),
            ..event
        },
        Fact::Refusing { address, listener, why } => {
            Event { address: Some(address.ip()), subject: listener.to_string(), explanation: why.to_string(), ..event }
        }
        Fact::Accepting { listener } => Event {
            subject: listener.to_string(),
            explanation: format!("{listener} accepts connections again."),
            ..event
        },
        Fact::Expired { client } => {
            Event { explanation: "The session expired while its client was away.".into(), ..event.of(client) }
        }
        Fact::EndedAway { client, why } => Event { explanation: why.to_string(), ..event.of(client) },
        Fact::Refused { client, refusal } => Event {
            subject: cut(&refusal.topic),
            explanation: refusal.to_string(),
            count: refusal.count,
            ..event.of(client)
        },
        Fact::Withheld { client, topic, why } => {
            Event { subject: cut(topic), explanation: why.to_string(), ..event.of(client) }
        }
        Fact::Subscribed { client, filter, qos } => Event {
            subject: cut(filter),
            explanation: format!("Subscribed to {} at QoS {}.", cut(filter), qos.level()),
            ..event.of(client)
        },
        Fact::Unsubscribed { client, filter } => Event {
            subject: cut(filter),
            explanation: format!("Unsubscribed from {}.", cut(filter)),
            ..event.of(client)
        },
        Fact::WillSent { client, topic } => Event {
            subject: cut(topic),
            explanation: format!("The Will Message was published to {}.", cut(topic)),
            ..event.of(client)
        },
        Fact::SignInsFail { address } => Event {
            address: Some(*address),
            explanation: "Many sign-ins from this address have failed; the next ones wait.".into(),
            ..event
        },
        Fact::OwnerChanged(change) => {
            let about = change.now.as_ref().unwrap_or(&change.before);
            let client = Client { id: about.client_id.to_string(), identity: Arc::clone(&about.identity) };
            Event { subject: cut(&change.topic), explanation: change.to_string(), ..event.of(&client) }
        }
        Fact::BlueprintApplied { revision, by, message } => Event {
            identity: Arc::clone(by),
            subject: revision.to_string(),
            explanation: format!("Revision {revision} is in force: {}", cut(message)),
            ..event
        },
        Fact::IdentityChanged { name, by } => {
            Event { subject: name.clone(), explanation: format!("{by} made or changed the identity {name}."), ..event }
        }
        Fact::IdentityRemoved { name, by } => {
            Event { subject: name.clone(), explanation: format!("{by} removed the identity {name}."), ..event }
        }
        Fact::DatabaseAway { why } => Event { explanation: format!("The database is unavailable: {why}"), ..event },
        Fact::DatabaseBack => Event { explanation: "The database is available again.".into(), ..event },
        Fact::AlertRaised { alert, subject, value } => Event {
            subject: cut(subject),
            explanation: format!("Alert {alert} was raised: {} is {value}.", cut(subject)),
            ..event
        },
        Fact::AlertCleared { alert, subject, value } => Event {
            subject: cut(subject),
            explanation: format!("Alert {alert} was cleared: {} is {value}.", cut(subject)),
            ..event
        },
        Fact::NoticeFails { contact, target, why } => Event {
            subject: cut(target),
            explanation: format!("A notice to {contact} could not be delivered to {}: {why}", cut(target)),
            ..event
        },
        Fact::BridgeUp { bridge, remote, session_present } => Event {
            subject: bridge.clone(),
            explanation: format!(
                "Bridge {bridge} is connected to {remote}{}.",
                if *session_present { "; its session there continues" } else { "" }
            ),
            ..event
        },
        Fact::BridgeDown { bridge, why } => {
            Event { subject: bridge.clone(), explanation: format!("Bridge {bridge} is down: {why}"), ..event }
        }
        Fact::BridgeRefused { bridge, topic, why, count } => Event {
            subject: bridge.clone(),
            explanation: format!("Bridge {bridge}, {}: {why}", cut(topic)),
            count: *count,
            ..event
        },
        Fact::BridgeDrops { bridge, count, why } => {
            Event { subject: bridge.clone(), explanation: format!("Bridge {bridge}: {why}"), count: *count, ..event }
        }
        Fact::BridgeTold { bridge, what, by } => Event {
            identity: Arc::clone(by),
            subject: bridge.clone(),
            explanation: format!("{by} has {what} the bridge {bridge}."),
            ..event
        },
        Fact::CertificateEnds { listener, at } => Event {
            subject: listener.to_string(),
            explanation: format!("The certificate of listener {listener} is valid until {}.", at.date()),
            ..event
        },
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn connected(number: usize) -> Fact {
        Fact::Connected {
            client: Client { id: format!("gauge-{number}"), identity: "gauges".into() },
            address: ([192, 0, 2, 7], 1_024).into(),
            listener: "mqtt".into(),
            version: moorfall_wire::ProtocolVersion::V5,
            resumed: false,
        }
    }

    #[test]
    fn ten_thousand_that_connect_at_once_are_counted_and_not_listed() {
        let events = Events::default();
        let now = Time::from_micros(7);
        (0..10_000).for_each(|number| events.note(&connected(number), now));
        let taken = events.take(now);
        assert_eq!(taken.len(), 501);
        assert_eq!((taken[0].client_id.as_str(), taken[0].kind, taken[0].count), ("gauge-0", EventKind::Connected, 1));
        // What others do is told all the same.
        events.note(&Fact::DatabaseBack, now);
        assert_eq!(events.take(now)[0].kind, EventKind::DatabaseBack);
        let rest = &taken[500];
        assert_eq!((rest.count, rest.explanation.as_str()), (9_500, "9,500 more, too many to list each."));
        // There is room again, little by little.
        (0..150).for_each(|number| events.note(&connected(number), now));
        let taken = events.take(now);
        assert_eq!((taken.len(), taken[100].count), (101, 50));
        assert_eq!(events.take(now), []);
    }

    #[test]
    fn what_clients_choose_is_cut() {
        let events = Events::default();
        let client = Client { id: "ä".repeat(1_000), identity: "weir".into() };
        events.note(&Fact::Expired { client }, Time::default());
        assert_eq!(events.take(Time::default())[0].client_id.len(), TEXT);
    }
}
