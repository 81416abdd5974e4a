//! Runs that a bridge pushes: the same bytes and the same counts as if each message went by itself.

use std::sync::Arc;

use bytes::{Buf, Bytes, BytesMut};
use bytestring::ByteString;
use moorfall_core::{
    NameKey, Part, Run, SessionKey, Time,
    blueprint::Blueprint,
    bridge::{
        Direction, NotCarried, RemoteTerms,
        relay::{Beginning, End, Happened, Names, NextId, Relay},
    },
    session::Handed,
};
use moorfall_wire::*;
use proptest::prelude::*;

#[derive(Debug)]
struct NoId;

impl NextId for NoId {
    fn next_id(&mut self) -> ByteString {
        unreachable!("nothing is pulled")
    }
}

/// What is on the other side, and what the mapping asks for.
#[derive(Clone, Debug)]
struct Way {
    version: ProtocolVersion,
    aliases: u16,
    packet_size: Option<u32>,
    more: &'static str,
}

fn relay(way: &Way) -> Relay {
    let text = format!(
        "name = \"harrowmere\"\n[[bridges]]\nname = \"tideway\"\nremotes = [\"mqtt://tideway\"]\n\
         [[bridges.push]]\nfilter = \"river/#\"\nas = \"harrowmere/#\"\n{}",
        way.more
    );
    let blueprint = Blueprint::parse(&text).unwrap_or_else(|findings| panic!("{findings:?}"));
    let properties = ConnAckProperties {
        topic_alias_maximum: Some(way.aliases),
        maximum_packet_size: way.packet_size.and_then(std::num::NonZeroU32::new),
        ..ConnAckProperties::default()
    };
    let connack = ConnAck { session_present: true, reason: ReasonCode::Success, properties };
    let names = Names {
        broker: "harrowmere.1".into(),
        link: "tideway.1".into(),
        remote: Some("tideway.2".into()),
        key: Arc::new(NameKey::of("what only this broker knows")),
    };
    let beginning = Beginning { in_line: true, retained_here: 0, retained_there: false, at: Time::default() };
    let terms = RemoteTerms::new(way.version, &connack);
    Relay::new(Arc::new(blueprint.bridges[0].clone()), names, terms, beginning, Box::new(NoId))
}

/// A run as it comes from a client.
fn run(topic: &str, payloads: &[Vec<u8>], version: ProtocolVersion) -> Arc<Run> {
    let mut bytes = BytesMut::new();
    for payload in payloads {
        let publish = Publish::new(topic.parse().unwrap(), payload.clone(), QoS::AtMostOnce);
        Packet::Publish(publish).encode(version, &mut bytes).unwrap();
    }
    let measured = PlainRun::measure(&bytes, version, (1_000, 100_000), |_| true).unwrap();
    let plain = measured.of(bytes.freeze());
    Arc::new(Run::plain(topic.parse().unwrap(), plain, SessionKey(1), Time::from_micros(7)))
}

/// What was written, and what is told of each message.
fn outcome(relay: &mut Relay) -> (Bytes, Vec<String>) {
    let mut told = Vec::new();
    while let Some(happened) = relay.poll_happened() {
        match happened {
            Happened::Carried {
                direction: Direction::Push,
                mapping,
                to,
                payload,
                untold,
                is_first: true,
                journey: 0,
            } => {
                told.push(format!("{mapping} {to} {payload:?} {untold}"));
            }
            Happened::PushedRun { mapping, to, part, untold } => {
                let payloads = part.payloads().map(Bytes::copy_from_slice);
                told.extend(payloads.map(|payload| format!("{mapping} {to} {payload:?} {untold}")));
            }
            Happened::NotCarried { mapping, topic, why, .. } => told.push(format!("{mapping:?} {topic} {why:?}")),
            other => panic!("{other:?}"),
        }
    }
    let out = relay.outgoing(End::Remote);
    (out.copy_to_bytes(out.remaining()), told)
}

const MORE: [&str; 4] = ["", "rate = \"3/m\"\n", "where = \"payload != '1'\"\n", "highest-qos = 0\n"];

const TOPICS: [&str; 4] = ["river/gorge/kettle-weir/level", "river/a", "tide/level", "river/gorge/flow"];

fn way() -> impl Strategy<Value = Way> {
    let version = prop_oneof![Just(ProtocolVersion::V5), Just(ProtocolVersion::V311)];
    let size = prop_oneof![Just(None), (100_u32..300).prop_map(Some)];
    (version, prop_oneof![Just(0_u16), Just(1), Just(9)], size, proptest::sample::select(&MORE[..]))
        .prop_map(|(version, aliases, packet_size, more)| Way { version, aliases, packet_size, more })
}

fn runs() -> impl Strategy<Value = Vec<(&'static str, Vec<Vec<u8>>, usize)>> {
    let length = prop_oneof![0_usize..200, Just(3_000), Just(20_000)];
    let payload = (any::<u8>(), length).prop_map(|(byte, length)| vec![byte; length]);
    let one = (proptest::sample::select(&TOPICS[..]), proptest::collection::vec(payload, 1..8), 0_usize..8);
    proptest::collection::vec(one, 1..4)
}

proptest! {
    #[test]
    fn what_is_pushed_together_is_what_would_be_pushed_one_by_one(
        way in way(),
        runs in runs(),
        came in prop_oneof![Just(ProtocolVersion::V5), Just(ProtocolVersion::V311)],
        before in any::<bool>(),
    ) {
        let (mut together, mut apart) = (relay(&way), relay(&way));
        for (topic, payloads, skipped) in runs {
            let run = run(topic, &payloads, came);
            let mut part = Part::new(Arc::clone(&run), QoS::AtMostOnce, None);
            part.by_ref().take(skipped.min(payloads.len() - 1)).for_each(drop);
            // Whichever of several bridges is first, and wherever the run stands: a message has one name.
            let at_rest = Part::new(Arc::clone(run.at_rest()), QoS::AtMostOnce, None);
            let single = if before { part.clone() } else { at_rest };
            let skip = if before { 0 } else { payloads.len() - part.len() };
            let mut push_apart = || {
                for message in Handed::Run(single.clone()).into_messages().skip(skip) {
                    apart.push(Handed::Message(message), Time::default());
                }
            };
            if before {
                push_apart();
                together.push(Handed::Run(part), Time::default());
            } else {
                together.push(Handed::Run(part), Time::default());
                push_apart();
            }
            let (written, told) = outcome(&mut together);
            let (single, single_told) = outcome(&mut apart);
            prop_assert_eq!(told, single_told);
            prop_assert_eq!(written, single);
        }
    }
}

#[test]
fn a_run_is_pushed_at_once_and_each_message_has_a_name_of_its_own() {
    let way = Way { version: ProtocolVersion::V5, aliases: 4, packet_size: None, more: "" };
    let mut relay = relay(&way);
    let payloads = vec![b"1.83".to_vec(); 3];
    let run = run("river/level", &payloads, ProtocolVersion::V311);
    relay.push(Handed::Run(Part::new(run, QoS::AtMostOnce, None)), Time::default());
    let Some(Happened::PushedRun { mapping: 0, to, part, untold: true }) = relay.poll_happened() else { panic!() };
    assert_eq!((&*to, part.len()), ("harrowmere/level", 3));
    assert!(relay.poll_happened().is_none());
    let out = relay.outgoing(End::Remote);
    let mut bytes = BytesMut::from(&out.copy_to_bytes(out.remaining())[..]);
    let mut seen = Vec::new();
    while let Some(frame) = Frame::split(&mut bytes, MAX_PACKET_SIZE).unwrap() {
        let Packet::Publish(publish) = Packet::decode(frame, ProtocolVersion::V5).unwrap() else { panic!() };
        let way = publish.properties.user_properties[0].value.to_string();
        let name = way.strip_prefix('?').and_then(|way| way.strip_suffix(" harrowmere.1 tideway.1")).unwrap();
        assert_eq!((name.len(), publish.properties.topic_alias.map(std::num::NonZero::get)), (16, Some(1)));
        seen.push((publish.topic.to_string(), name.to_owned()));
    }
    let topics: Vec<&str> = seen.iter().map(|(topic, _)| topic.as_str()).collect();
    assert_eq!(topics, ["harrowmere/level", "", ""], "the alias stands in from the second on");
    assert!(seen[0].1 != seen[1].1 && seen[1].1 != seen[2].1);
}

#[test]
fn a_run_beyond_the_rate_is_told_message_by_message() {
    let more = "rate = \"3/m\"\n";
    let mut relay = relay(&Way { version: ProtocolVersion::V5, aliases: 0, packet_size: None, more });
    let run = run("river/level", &vec![b"1".to_vec(); 5], ProtocolVersion::V5);
    relay.push(Handed::Run(Part::new(run, QoS::AtMostOnce, None)), Time::default());
    let happened: Vec<Happened> = std::iter::from_fn(|| relay.poll_happened()).collect();
    let over = |one: &&Happened| matches!(one, Happened::NotCarried { why: NotCarried::Rate, .. });
    assert_eq!((happened.len(), happened.iter().filter(over).count()), (5, 2));
}
