//! Two brokers and what a relay carries between them, with links that break at any packet.

use std::sync::Arc;

use bytes::Buf;
use bytestring::ByteString;
use moorfall_core::{
    NameKey, Time,
    blueprint::{Blueprint, Bridge},
    bridge::{
        Direction, NotCarried, PASSED, RemoteTerms,
        relay::{Beginning, End, Happened, Names, NextId, Relay},
    },
    client::Event,
    session::Handed,
};
use moorfall_wire::*;
use proptest::prelude::*;

use crate::{
    handshakes::keeping,
    world::{World, connect, messages, publish},
};

const BRIDGE: &str = r#"
name = "harrowmere"
[[bridges]]
name = "tideway"
remotes = ["mqtt://tideway"]
[[bridges.push]]
filter = "river/#"
as = "harrowmere/#"
[[bridges.pull]]
filter = "tide/#"
"#;

#[derive(Debug)]
struct Counted(u64);

impl NextId for Counted {
    fn next_id(&mut self) -> ByteString {
        self.0 += 1;
        format!("id-{}", self.0).into()
    }
}

/// Two brokers, and a link between them that is up or down.
struct Estuary {
    here: World,
    there: World,
    bridge: Arc<Bridge>,
    version: ProtocolVersion,
    link: Option<Link>,
    happened: Vec<Happened>,
    /// Packets that still pass before the link breaks.
    budget: usize,
    now: Time,
}

struct Link {
    relay: Relay,
    push: usize,
    pull: usize,
    remote: usize,
    /// What came right behind CONNACK.
    waiting: Vec<Came>,
}

/// Something that is to be carried.
#[derive(Debug)]
enum Came {
    Packet(End, Box<Packet>),
    Handed(Handed),
}

impl Estuary {
    fn new(text: &str) -> Self {
        let blueprint = Blueprint::parse(text).unwrap_or_else(|findings| panic!("{findings:?}"));
        let bridge = Arc::new(blueprint.bridges[0].clone());
        Self {
            here: World::default(),
            there: World::default(),
            version: bridge.version,
            bridge,
            link: None,
            happened: Vec::new(),
            budget: usize::MAX,
            now: Time::default(),
        }
    }

    /// Brings the link up, as the caller of a relay does.
    fn connect(&mut self, in_line: bool) {
        let keep = |id: &str, version| keeping(id, version);
        let mut asked = keep("harrowmere", self.version);
        if self.version == ProtocolVersion::V5 {
            asked.properties.topic_alias_maximum = Some(moorfall_core::bridge::relay::ALIASES);
        }
        let remote = self.there.open_raw(asked);
        let mut packets = self.there.packets(remote);
        let Packet::ConnAck(connack) = packets.remove(0) else { panic!("{packets:?}") };
        let waiting = packets.into_iter().map(|packet| Came::Packet(End::Remote, Box::new(packet))).collect();
        let terms = RemoteTerms::new(self.version, &connack);
        let push = self.here.open_handing(keep("push", ProtocolVersion::V5));
        let clean_start = !(terms.session_present && in_line);
        let pull = self.here.open_raw(Connect { clean_start, ..keep("pull", ProtocolVersion::V5) });
        let names = Names {
            broker: "harrowmere.1".into(),
            link: "tideway.1".into(),
            remote: Some("tideway.2".into()),
            key: Arc::new(NameKey::of("what only this broker knows")),
        };
        let beginning = Beginning { in_line, retained_here: 0, retained_there: false, at: self.now };
        let relay = Relay::new(Arc::clone(&self.bridge), names, terms, beginning, Box::new(Counted(0)));
        for mapping in &self.bridge.pull {
            self.there.subscribe_raw(remote, mapping.names.filter(), mapping.highest_qos);
        }
        for mapping in &self.bridge.push {
            self.here.subscribe_raw(push, mapping.names.filter(), mapping.highest_qos);
        }
        self.link = Some(Link { relay, push, pull, remote, waiting });
        self.run();
    }

    /// Carries packets until nothing is left to carry, or the link breaks.
    fn run(&mut self) {
        while let Some(link) = &mut self.link {
            let mut waiting = std::mem::take(&mut link.waiting);
            for (end, packets) in [
                (End::Push, self.here.packets(link.push)),
                (End::Pull, self.here.packets(link.pull)),
                (End::Remote, self.there.packets(link.remote)),
            ] {
                waiting.extend(packets.into_iter().map(|packet| Came::Packet(end, Box::new(packet))));
            }
            waiting.extend(self.here.handed(link.push).into_iter().map(Came::Handed));
            if waiting.is_empty() {
                return;
            }
            for came in waiting {
                if self.budget == 0 {
                    return self.cut();
                }
                self.budget = self.budget.saturating_sub(1);
                let link = self.link.as_mut().unwrap();
                match came {
                    Came::Packet(end, packet) => match (end, *packet) {
                        (_, Packet::ConnAck(_) | Packet::SubAck(_)) => continue,
                        (End::Push, packet) => link.relay.handle_push(&packet),
                        (End::Pull, packet) => link.relay.handle_pull(packet, self.now),
                        (End::Remote, packet) => link.relay.handle_remote(packet, self.now, |_, _| false),
                    },
                    Came::Handed(handed) => link.relay.push(handed, self.now),
                }
                self.happened.extend(std::iter::from_fn(|| link.relay.poll_happened()));
                for end in [End::Push, End::Pull, End::Remote] {
                    let out = link.relay.outgoing(end);
                    let bytes = out.copy_to_bytes(out.remaining());
                    // What is on its way when the link breaks is lost with it.
                    if self.budget == 0 && end == End::Remote {
                        continue;
                    }
                    match end {
                        End::Push => self.here.inject_bytes(link.push, &bytes),
                        End::Pull => self.here.inject_bytes(link.pull, &bytes),
                        End::Remote => self.there.inject_bytes(link.remote, &bytes),
                    }
                }
            }
        }
    }

    fn cut(&mut self) {
        if let Some(Link { push, pull, remote, .. }) = self.link.take() {
            self.here.break_connection(push);
            self.here.break_connection(pull);
            self.there.break_connection(remote);
        }
        self.budget = usize::MAX;
    }

    fn publish_here(&mut self, peer: usize, publish: Publish) {
        self.here.publish(peer, publish);
        self.run();
    }
}

fn heard(world: &mut World, peer: usize) -> Vec<String> {
    let shown = |message: &Publish| format!("{} {}", message.topic, String::from_utf8_lossy(&message.payload));
    messages(&world.events(peer)).iter().map(shown).collect()
}

#[test]
fn messages_go_both_ways_under_their_new_names() {
    for protocol in ["5.0", "3.1.1"] {
        let mut both = Estuary::new(
            &BRIDGE.replace("name = \"tideway\"", &format!("name = \"tideway\"\nprotocol = \"{protocol}\"")),
        );
        let gauge = both.here.open(connect("gauge", ProtocolVersion::V5));
        both.here.subscribe(gauge, "tide/#", QoS::ExactlyOnce);
        let barrier = both.there.open(connect("barrier", ProtocolVersion::V5));
        both.there.subscribe(barrier, "harrowmere/#", QoS::ExactlyOnce);
        both.connect(true);
        for qos in [QoS::AtMostOnce, QoS::AtLeastOnce, QoS::ExactlyOnce] {
            both.publish_here(gauge, publish("river/level", b"1.83", qos));
            both.there.publish(barrier, publish("tide/level", b"4.1", qos));
            both.run();
        }
        assert_eq!(heard(&mut both.there, barrier), ["harrowmere/level 1.83"; 3], "{protocol}");
        assert_eq!(heard(&mut both.here, gauge), ["tide/level 4.1"; 3], "{protocol}");
        let acknowledged = both.happened.iter().filter(|one| matches!(one, Happened::Acknowledged { .. })).count();
        assert_eq!(acknowledged, 4, "QoS 1 and 2, each way");
        assert_eq!(both.link.as_ref().unwrap().relay.in_flight(), (0, 0));
        assert_eq!((both.here.in_flight(gauge), both.there.in_flight(barrier)), (0, 0));
    }
}

#[test]
fn what_is_not_carried_is_acknowledged_and_told() {
    let text = BRIDGE.replace(
        "as = \"harrowmere/#\"",
        "as = \"harrowmere/#\"\nwhere = \"payload.quality == 'good'\"\nrate = \"2/m\"\nclearing = false",
    );
    let mut both = Estuary::new(&text);
    let gauge = both.here.open(connect("gauge", ProtocolVersion::V5));
    let barrier = both.there.open(connect("barrier", ProtocolVersion::V5));
    both.there.subscribe(barrier, "harrowmere/#", QoS::ExactlyOnce);
    both.connect(true);
    for (payload, retain) in [("{}", false), ("", true)] {
        let message = publish("river/level", payload.as_bytes(), QoS::ExactlyOnce);
        both.publish_here(gauge, Publish { retain, ..message });
    }
    for _ in 0..3 {
        both.publish_here(gauge, publish("river/level", br#"{"quality": "good"}"#, QoS::AtLeastOnce));
    }
    let why: Vec<NotCarried> = both
        .happened
        .iter()
        .filter_map(|one| if let Happened::NotCarried { why, .. } = one { Some(*why) } else { None })
        .collect();
    // Without Retain As Published the subscription here would not see the flag, so an empty message has no quality.
    assert_eq!(why, [NotCarried::Condition, NotCarried::Condition, NotCarried::Rate]);
    assert_eq!(heard(&mut both.there, barrier).len(), 2);
    assert_eq!(both.link.as_ref().unwrap().relay.in_flight(), (0, 0));
}

#[test]
fn a_message_does_not_go_back_by_the_link_that_it_came_by() {
    let text = BRIDGE.replace("filter = \"tide/#\"", "filter = \"tide/#\"\nas = \"river/tide/#\"");
    let mut both = Estuary::new(&text);
    let barrier = both.there.open(connect("barrier", ProtocolVersion::V5));
    both.there.subscribe(barrier, "#", QoS::ExactlyOnce);
    both.connect(true);
    both.there.publish(barrier, publish("tide/level", b"4.1", QoS::ExactlyOnce));
    both.run();
    assert_eq!(heard(&mut both.there, barrier), ["tide/level 4.1"]);
    let is_told = |one: &Happened| {
        matches!(one, Happened::NotCarried {
            direction: Direction::Push,
            mapping: None,
            topic,
            why: NotCarried::CameFromThere,
            said: None,
            journey: 0,
        } if **topic == *"river/tide/level")
    };
    assert!(both.happened.iter().any(is_told), "{:?}", both.happened);
}

#[test]
fn the_way_of_a_message_is_told_and_one_that_was_there_is_not_sent_there() {
    let mut both = Estuary::new(BRIDGE);
    let gauge = both.here.open(connect("gauge", ProtocolVersion::V5));
    let barrier = both.there.open(connect("barrier", ProtocolVersion::V5));
    both.there.subscribe(barrier, "harrowmere/#", QoS::ExactlyOnce);
    both.connect(true);
    let mut was_there = publish("river/level", b"1", QoS::AtLeastOnce);
    let way = UserProperty { name: PASSED.into(), value: "other tideway.2".into() };
    was_there.properties.user_properties.push(way);
    both.publish_here(gauge, was_there);
    both.publish_here(gauge, publish("river/level", b"2", QoS::AtLeastOnce));
    let events = both.there.events(barrier);
    let [Event::Message(message)] = &events[..] else { panic!("{events:?}") };
    let way: Vec<&str> = message.properties.user_properties[0].value.split(' ').collect();
    assert!(way[0].len() == 16 && way[1..] == ["harrowmere.1", "tideway.1"], "{way:?}");
    assert_eq!(message.payload, &b"2"[..]);
}

#[test]
fn the_remotes_limits_are_kept() {
    let mut both = Estuary::new(BRIDGE);
    both.there = World::with_limits(moorfall_core::Limits { packet_bytes: 300, ..Default::default() });
    let gauge = both.here.open(connect("gauge", ProtocolVersion::V5));
    both.connect(true);
    both.publish_here(gauge, publish("river/level", &[b'x'; 400], QoS::ExactlyOnce));
    both.publish_here(gauge, publish("river/level", b"1", QoS::ExactlyOnce));
    let large = both.happened.iter().any(|one| matches!(one, Happened::NotCarried { why: NotCarried::TooLarge, .. }));
    assert!(large && both.link.is_some(), "{:?}", both.happened);
    assert!(both.there.ending(both.link.as_ref().unwrap().remote).is_empty(), "the remote did not end the connection");
}

#[test]
fn an_identifier_that_the_remote_holds_from_another_time_swallows_no_message() {
    let mut both = Estuary::new(BRIDGE);
    let gauge = both.here.open(connect("gauge", ProtocolVersion::V5));
    let barrier = both.there.open(connect("barrier", ProtocolVersion::V5));
    both.there.subscribe(barrier, "harrowmere/#", QoS::ExactlyOnce);
    // The remote has received a message and waits for PUBREL when the link breaks.
    both.connect(true);
    // PUBLISH arrives there, and its PUBREC here; PUBREL is not sent any more.
    both.budget = 2;
    both.publish_here(gauge, publish("river/level", b"1", QoS::ExactlyOnce));
    both.cut();
    assert_eq!(heard(&mut both.there, barrier), ["harrowmere/level 1"]);
    // Here the session is made anew: identifiers begin at 1 again.
    let anew = both.here.open(connect("push", ProtocolVersion::V5));
    both.here.disconnect(anew);
    both.connect(false);
    both.publish_here(gauge, publish("river/level", b"2", QoS::ExactlyOnce));
    assert_eq!(heard(&mut both.there, barrier), ["harrowmere/level 2"]);
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, ..ProptestConfig::default() })]

    /// Whatever breaks when: each QoS 2 message arrives once and in order, each QoS 1 message at least once.
    #[test]
    fn links_that_break_lose_nothing_and_bring_nothing_twice(
        cuts in proptest::collection::vec(0_usize..14, 0..12),
        qos in proptest::collection::vec(1_u8..3, 1..12),
        v5 in any::<bool>(),
    ) {
        let mut both = Estuary::new(BRIDGE);
        if !v5 {
            both.version = ProtocolVersion::V311;
        }
        let gauge = both.here.open(connect("gauge", ProtocolVersion::V5));
        both.here.subscribe(gauge, "tide/#", QoS::ExactlyOnce);
        let barrier = both.there.open(connect("barrier", ProtocolVersion::V5));
        both.there.subscribe(barrier, "harrowmere/#", QoS::ExactlyOnce);
        both.connect(true);
        let mut cuts = cuts.into_iter();
        for (number, qos) in qos.iter().enumerate() {
            if let Some(budget) = cuts.next() {
                both.budget = budget;
            }
            let qos = QoS::try_from(*qos).unwrap();
            let payload = number.to_string();
            both.publish_here(gauge, publish("river/level", payload.as_bytes(), qos));
            both.there.publish(barrier, publish("tide/level", payload.as_bytes(), qos));
            both.run();
            if both.link.is_none() {
                both.budget = cuts.next().unwrap_or(usize::MAX);
                both.connect(true);
            }
        }
        for _ in 0..3 {
            both.budget = usize::MAX;
            if both.link.is_none() {
                both.connect(true);
            }
            both.run();
        }
        let pushed = heard(&mut both.there, barrier);
        let pulled = heard(&mut both.here, gauge);
        for (heard, name) in [(&pushed, "harrowmere/level"), (&pulled, "tide/level")] {
            for (number, qos) in qos.iter().enumerate() {
                let count = heard.iter().filter(|one| **one == format!("{name} {number}")).count();
                prop_assert!(count >= 1, "{} {} is lost: {:?}", name, number, heard);
                prop_assert!(*qos == 1 || count == 1, "{} {} came {} times: {:?}", name, number, count, heard);
            }
        }
        prop_assert_eq!(both.link.as_ref().unwrap().relay.in_flight(), (0, 0));
    }
}
