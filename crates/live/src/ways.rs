//! Messages that come by bridges: which have been here before, by whatever way.

use std::{
    sync::{
        OnceLock,
        atomic::{AtomicBool, Ordering},
    },
    time::Duration,
};

use moorfall_core::{
    Message, Time,
    bridge::{CameBack, Memory, Passed},
};
use moorfall_wire::ProtocolVersion;
use tracing_mutex::parkinglot::Mutex;

/// Messages that came by a bridge and are remembered, and for how long: about 60 bytes each.
const SEEN: (usize, Duration) = (200_000, Duration::from_secs(3_600));

/// Messages that were sent by a bridge and are remembered, and for how long: what comes back by a link of 3.1.1 does so
/// soon.
const SENT: (usize, Duration) = (50_000, Duration::from_secs(30));

/// How long it is remembered who brought what: it may be sent much later.
const BROUGHT: Duration = Duration::from_secs(86_400);

/// What is remembered of messages that bridges carry.
#[derive(Debug)]
pub struct Ways {
    own: OnceLock<Box<str>>,
    seen: Mutex<Memory>,
    sent: Mutex<Sent>,
    /// Whether there are bridges that send.
    is_sending: AtomicBool,
}

/// What was sent by bridges, and by whom it came here. All by topic and payload.
#[derive(Debug)]
struct Sent {
    /// What came here by a way that is told, or from a client of 5.0.
    told: Memory,
    /// What came from a client of 3.1.1.
    untold: Memory,
    /// What clients of 3.1.1 have brought, and which of them brought what.
    brought: (Memory, Memory),
}

impl Default for Ways {
    fn default() -> Self {
        Self {
            own: OnceLock::new(),
            seen: Mutex::new(Memory::new(SEEN.0, SEEN.1)),
            sent: Mutex::new(Sent {
                told: Memory::new(SENT.0, SENT.1),
                untold: Memory::new(SENT.0, SENT.1),
                brought: (Memory::new(SENT.0, BROUGHT), Memory::new(SENT.0, BROUGHT)),
            }),
            is_sending: AtomicBool::new(false),
        }
    }
}

impl Ways {
    /// By which other brokers know this one; the first name stands.
    pub fn set_name(&self, name: &str) {
        let _first = self.own.set(name.into());
    }

    /// By which other brokers know this one.
    pub fn name(&self) -> &str {
        self.own.get().map_or("", |name| name)
    }

    /// Whether every message of clients of a version is to be checked; else only those with properties are.
    pub fn checks_all_of(&self, version: ProtocolVersion) -> bool {
        version == ProtocolVersion::V311 && self.is_sending.load(Ordering::Relaxed)
    }

    /// A message has come from a client. Gives why it is not to be passed on, if it is not; else it is remembered, if
    /// it may have come by a bridge.
    pub fn check(&self, message: &Message, client_id: &str, now: Time) -> Option<CameBack> {
        if message.is_of_untold_way() {
            return self.is_sending.load(Ordering::Relaxed).then(|| self.check_content(message, client_id, now))?;
        }
        if message.properties.user_properties.is_empty() {
            return None;
        }
        let passed = Passed::read(&message.properties)?;
        if passed.has_passed(self.name()) {
            return Some(CameBack::PassedHere);
        }
        if passed.unsure {
            let mut sent = self.sent.lock();
            let content = (&*message.topic, &message.payload);
            if sent.told.take(content, now) || sent.untold.take(content, now) {
                return Some(CameBack::SentFromHere);
            }
        }
        self.seen.lock().was_noted(&passed.id, now).then_some(CameBack::CameBefore)
    }

    /// A client of 3.1.1 may be a bridge that brings back what was sent from here. It is not what a client says again,
    /// nor what nobody knows who has said first: a message that comes twice does less harm than one that is lost.
    fn check_content(&self, message: &Message, client_id: &str, now: Time) -> Option<CameBack> {
        let mut sent = self.sent.lock();
        let content = (&*message.topic, &message.payload);
        let is_brought = sent.brought.0.is_noted(content, now);
        let by_this_one = sent.brought.1.is_noted((client_id, content), now);
        if !by_this_one && (sent.told.take(content, now) || is_brought && sent.untold.take(content, now)) {
            return Some(CameBack::SentFromHere);
        }
        if !is_brought {
            sent.brought.0.note(content, now);
        }
        if !by_this_one {
            sent.brought.1.note((client_id, content), now);
        }
        None
    }

    /// There are bridges that send from here on, or none.
    pub fn set_sending(&self, is_sending: bool) {
        self.is_sending.store(is_sending, Ordering::Relaxed);
    }

    /// A bridge has sent these; `untold` if a client of 3.1.1 brought them here.
    pub fn note_sent<'a>(&self, topic: &str, payloads: impl IntoIterator<Item = &'a [u8]>, untold: bool, now: Time) {
        let mut sent = self.sent.lock();
        let memory = if untold { &mut sent.untold } else { &mut sent.told };
        payloads.into_iter().for_each(|payload| memory.note((topic, payload), now));
    }
}

#[cfg(test)]
mod tests {
    use moorfall_core::SessionKey;
    use moorfall_wire::{PublishProperties, QoS};

    use super::*;

    fn message(way: Option<&str>) -> Message {
        let mut properties = PublishProperties::default();
        if let Some(way) = way {
            let user = moorfall_wire::UserProperty { name: moorfall_core::bridge::PASSED.into(), value: way.into() };
            properties.user_properties.push(user);
        }
        let topic = "harrowmere/tidal/status".parse().unwrap();
        Message::new(topic, "up".into(), QoS::AtLeastOnce, false, properties, SessionKey(1), Time::default())
    }

    #[test]
    fn what_comes_by_two_ways_is_passed_on_once() {
        let ways = Ways::default();
        ways.set_name("harrowmere.1");
        let check = |way: Option<&str>| ways.check(&message(way), "barrier", Time::default());
        assert_eq!([check(None), check(None)], [None, None], "it did not come by a bridge");
        assert_eq!(check(Some("a1 tideway.2 north.3")), None);
        assert_eq!(check(Some("a1 tideway.2")), Some(CameBack::CameBefore));
        assert_eq!(check(Some("a2 tideway.2")), None, "another message of the same content");
        assert_eq!(check(Some("a3 harrowmere.1 tideway.2")), Some(CameBack::PassedHere));
    }

    #[test]
    fn what_lost_its_way_is_known_by_its_content_as_often_as_it_was_sent() {
        let ways = Ways::default();
        let check = |way: &str| ways.check(&message(Some(way)), "barrier", Time::default());
        ways.note_sent("harrowmere/tidal/status", [&b"up"[..]], false, Time::default());
        assert_eq!(check("b1 tideway.2"), None, "its way is known");
        assert_eq!(check("?b2 tideway.2"), Some(CameBack::SentFromHere));
        assert_eq!(check("?b3 tideway.2"), None, "it was sent once");
    }

    #[test]
    fn a_client_of_3_1_1_may_repeat_itself_and_not_what_others_have_sent() {
        let ways = Ways::default();
        ways.set_sending(true);
        let untold = || message(None).of_untold_way();
        let check = |client: &str| ways.check(&untold(), client, Time::default());
        assert_eq!([check("gauge"), check("gauge")], [None, None]);
        for _ in 0..2 {
            ways.note_sent("harrowmere/tidal/status", [&b"up"[..]], true, Time::default());
        }
        assert_eq!([check("gauge"), check("gauge")], [None, None], "it says so again");
        assert_eq!(check("bridge"), Some(CameBack::SentFromHere));
        // Of a client of 5.0, once.
        let ways = Ways::default();
        ways.set_sending(true);
        let check = |client: &str| ways.check(&untold(), client, Time::default());
        for _ in 0..2 {
            ways.note_sent("harrowmere/tidal/status", [&b"up"[..]], false, Time::default());
        }
        let came_back = Some(CameBack::SentFromHere);
        assert_eq!([check("bridge"), check("bridge"), check("bridge")], [came_back, came_back, None]);
    }

    #[test]
    fn what_nobody_knows_who_said_it_first_passes() {
        let ways = Ways::default();
        ways.set_sending(true);
        // As after a restart, when what waited is sent.
        ways.note_sent("harrowmere/tidal/status", [&b"up"[..]], true, Time::default());
        let untold = message(None).of_untold_way();
        assert_eq!(ways.check(&untold, "gauge", Time::default()), None);
    }
}
