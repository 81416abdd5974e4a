//! Messages that are taken off the buffer together are the ones that would be taken one by one.

use std::sync::Arc;

use bytes::{Buf, BytesMut};
use moorfall_core::{
    Identity, Limits, Message, SessionKey, Time,
    access::{Access, Policy},
    blueprint::Blueprint,
    session::{Action, Session, Verdict},
};
use moorfall_wire::{Connect, Packet, PacketId, ProtocolVersion, Publish, PublishProperties, QoS, UserProperty};
use proptest::prelude::*;

const DESIGN: &str = r##"
name = "harrowmere"
[[topics]]
path = "harrowmere/level"
payload = "number"
[[topics]]
path = "harrowmere/log"
payload = "number"
on-breach = "refuse"
[[rules]]
name = "publishes"
who = "everyone"
may = ["publish"]
topics = ["harrowmere/level", "harrowmere/log", "harrowmere/other"]
[[rules]]
name = "now-and-then"
who = "everyone"
may = ["publish"]
topics = ["harrowmere/gate"]
rate = "3/m"
"##;

const TOPICS: [&str; 5] =
    ["harrowmere/level", "harrowmere/log", "harrowmere/other", "harrowmere/gate", "harrowmere/secret"];

fn now() -> Time {
    Time::from_micros(1_000_000)
}

fn access(has_rules: bool) -> Access {
    if !has_rules {
        return Access::unrestricted("gauge");
    }
    let policy = Arc::new(Policy::new(Arc::new(Blueprint::parse(DESIGN).unwrap())));
    policy.bind(&Identity { name: "gauge".into(), attributes: Default::default() }, "gauge").unwrap()
}

fn open(version: ProtocolVersion, has_rules: bool) -> Session {
    let limits = Limits { packet_bytes: 300, ..Limits::default() };
    let mut session = Session::new(Arc::new(limits), "spare", now());
    session.handle_packet(now(), Packet::Connect(Box::new(Connect::new(version, "gauge"))));
    while let Some(action) = session.poll_action() {
        match action {
            Action::Authenticate(_) => session.handle_verdict(Verdict::Known(access(has_rules))),
            Action::Admit { .. } => session.handle_admitted(now(), SessionKey(2), None),
            other => panic!("{other:?}"),
        }
    }
    session
}

/// What is seen of a message.
fn seen(message: &Message) -> String {
    let Message { topic, payload, qos, retain, properties, publisher, received, .. } = message;
    let (weight, untold) = (message.weight(), message.is_of_untold_way());
    format!("{topic} {payload:?} {qos:?} {retain} {:?} {publisher:?} {received:?} {weight} {untold}", **properties)
}

/// What becomes of bytes that arrive in pieces, and how many messages were taken together.
fn receive(mut session: Session, pieces: &[Vec<u8>], together: bool) -> (Vec<String>, usize) {
    let (mut buffer, mut found, mut taken) = (BytesMut::new(), Vec::new(), 0);
    for piece in pieces {
        buffer.extend_from_slice(piece);
        while session.wants_packets() {
            if together && let Some(run) = session.take_run(now(), &mut buffer) {
                taken += run.len();
                let weight: usize = run.messages().iter().map(|message| message.weight()).sum();
                assert_eq!((run.weight(), run.received(), run.qos()), (weight, now(), QoS::AtMostOnce));
                found.extend(run.messages().iter().map(|message| seen(message)));
                continue;
            }
            match session.next_packet(&mut buffer) {
                Ok(None) => break,
                Ok(Some(packet)) => session.handle_packet(now(), packet),
                Err(error) => session.handle_decode_error(now(), &error),
            }
            while let Some(action) = session.poll_action() {
                match action {
                    Action::Route { message, .. } => found.push(seen(&message)),
                    other => found.push(format!("{other:?}")),
                }
            }
        }
    }
    let mut drift: Vec<String> = session.take_drift().iter().map(|drift| format!("{drift:?}")).collect();
    drift.sort();
    found.extend(drift);
    let left = session.outgoing().remaining();
    found.push(format!("{:?} {:?} {buffer:?}", session.outgoing().copy_to_bytes(left), session.poll_timeout()));
    (found, taken)
}

fn publish() -> impl Strategy<Value = Publish> {
    let payload = prop_oneof![8 => "[0-9]{1,3}".prop_map(String::into_bytes), 2 => "[a-z]{0,9}".prop_map(String::into_bytes),
        1 => (250_usize..300).prop_map(|size| vec![b'7'; size])];
    let odd = prop_oneof![12 => Just(0), 1 => Just(1), 1 => Just(2), 1 => Just(3)];
    (prop::sample::select(TOPICS.to_vec()), payload, odd).prop_map(|(topic, payload, odd)| {
        let plain = Publish::new(topic.parse().unwrap(), payload, QoS::AtMostOnce);
        match odd {
            1 => Publish { retain: true, ..plain },
            2 => Publish { qos: QoS::AtLeastOnce, packet_id: Some(PacketId::MIN), ..plain },
            3 => {
                let user_properties = vec![UserProperty { name: "unit".into(), value: "m".into() }];
                Publish { properties: PublishProperties { user_properties, ..Default::default() }, ..plain }
            }
            _ => plain,
        }
    })
}

/// Many of one topic, as devices send them, and sometimes bytes that are no packet.
fn stream(version: ProtocolVersion) -> impl Strategy<Value = Vec<u8>> {
    let alike = (publish(), 1_usize..6).prop_map(|(publish, count)| vec![publish; count]);
    let broken = prop_oneof![20 => Just(Vec::new()), 1 => prop::collection::vec(any::<u8>(), 1..6)];
    (prop::collection::vec(alike, 1..12), broken).prop_map(move |(publishes, broken)| {
        let mut bytes = BytesMut::new();
        for mut publish in publishes.into_iter().flatten() {
            if version == ProtocolVersion::V311 {
                publish.properties = PublishProperties::default();
            }
            Packet::Publish(publish).encode(version, &mut bytes).unwrap();
        }
        bytes.extend_from_slice(&broken);
        bytes.to_vec()
    })
}

fn arrived() -> impl Strategy<Value = (ProtocolVersion, Vec<Vec<u8>>)> {
    let version = prop_oneof![Just(ProtocolVersion::V311), Just(ProtocolVersion::V5)];
    version.prop_flat_map(|version| {
        (stream(version), 1_usize..400)
            .prop_map(move |(bytes, size)| (version, bytes.chunks(size).map(<[u8]>::to_vec).collect()))
    })
}

proptest! {
    #[test]
    fn together_or_one_by_one_the_same_becomes_of_them((version, pieces) in arrived(), has_rules in any::<bool>()) {
        let (single, none) = receive(open(version, has_rules), &pieces, false);
        let (all, _) = receive(open(version, has_rules), &pieces, true);
        prop_assert_eq!(none, 0);
        prop_assert_eq!(single, all);
    }
}

#[test]
fn what_is_known_to_be_allowed_is_taken_together_and_nothing_else() {
    let encoded = |topic: &str, payload: &str| {
        let mut bytes = BytesMut::new();
        let publish = Publish::new(topic.parse().unwrap(), payload.to_owned(), QoS::AtMostOnce);
        for _ in 0..4 {
            Packet::Publish(publish.clone()).encode(ProtocolVersion::V5, &mut bytes).unwrap();
        }
        vec![bytes.to_vec()]
    };
    // The first one is decided on; the others follow it.
    for (topic, payload, taken) in [
        ("harrowmere/level", "1.83", 3),
        ("harrowmere/level", "high", 0),
        ("harrowmere/other", "1.83", 0),
        ("harrowmere/gate", "1", 0),
        ("harrowmere/secret", "1", 0),
    ] {
        let session = open(ProtocolVersion::V5, true);
        assert_eq!(receive(session, &encoded(topic, payload), true).1, taken, "{topic} {payload}");
    }
    assert_eq!(receive(open(ProtocolVersion::V5, false), &encoded("harrowmere/other", ""), true).1, 3);
}
