//! QoS 1 and 2 in both directions: handshakes, order, duplicates, what is sent again (§4.3, §4.4, §4.6).

use std::num::NonZeroU16;

use moorfall_core::{client::Event, session::Keep};
use moorfall_wire::*;

use crate::{
    basics::both_versions,
    world::{World, closed, connect, messages, publish, reasons},
};

const LEVEL: &str = "harrowmere/gorge/kettle-weir/stage/level";

/// A client whose session outlives its connection.
pub(crate) fn keeping(client_id: &str, version: ProtocolVersion) -> Connect {
    let mut asked = Connect { clean_start: false, ..connect(client_id, version) };
    if version == ProtocolVersion::V5 {
        asked.properties.session_expiry_interval = Some(3_600);
    }
    asked
}

fn ack(number: u16) -> Acknowledgement {
    Acknowledgement::success(id(number))
}

fn id(number: u16) -> PacketId {
    PacketId::new(number).unwrap()
}

fn with_id(number: u16, payload: &str) -> Publish {
    Publish { packet_id: Some(id(number)), ..publish(LEVEL, payload.as_bytes(), QoS::ExactlyOnce) }
}

fn payloads(events: &[Event]) -> Vec<String> {
    messages(events).iter().map(|message| String::from_utf8_lossy(&message.payload).into_owned()).collect()
}

/// Short names of packets, for comparing a whole exchange at a glance.
fn names(packets: &[Packet]) -> Vec<String> {
    packets
        .iter()
        .map(|packet| match packet {
            Packet::Publish(publish) => {
                let mark = if publish.duplicate { " again" } else { "" };
                let id = publish.packet_id.map_or(0, PacketId::get);
                format!("PUBLISH {id} {}{mark}", String::from_utf8_lossy(&publish.payload))
            }
            Packet::PubAck(ack) | Packet::PubRec(ack) | Packet::PubRel(ack) | Packet::PubComp(ack) => {
                format!("{} {} {:02x}", packet.packet_type(), ack.packet_id, ack.reason as u8)
            }
            other => other.packet_type().to_string(),
        })
        .collect()
}

#[test]
fn the_qos_of_delivery_is_the_lower_of_published_and_granted() {
    both_versions(|version| {
        let mut world = World::default();
        let levels = [QoS::AtMostOnce, QoS::AtLeastOnce, QoS::ExactlyOnce];
        for granted in levels {
            let desk = world.open(connect("duty-desk", version));
            let answer = reasons(&world.subscribe(desk, "#", granted));
            assert_eq!(answer[0] as u8, granted.level());
            for sent in levels {
                world.publish(desk, publish(LEVEL, b"1.83", sent));
                let arrived = messages(&world.events(desk));
                assert_eq!(arrived.len(), 1);
                assert_eq!(arrived[0].qos, sent.min(granted), "{sent} to {granted}");
            }
            assert_eq!(world.in_flight(desk), 0, "every handshake is complete");
        }
    });
}

#[test]
fn a_qos_2_message_is_passed_on_once_however_often_it_comes() {
    both_versions(|version| {
        let mut world = World::default();
        let desk = world.open(connect("duty-desk", version));
        world.subscribe(desk, "#", QoS::ExactlyOnce);
        let station = world.open_raw(connect("kettle-weir", version));
        world.packets(station);
        for _ in 0..3 {
            world.inject(station, &Packet::Publish(Publish { duplicate: true, ..with_id(7, "1.83") }));
        }
        assert_eq!(names(&world.packets(station)), ["PUBREC 7 00", "PUBREC 7 00", "PUBREC 7 00"]);
        world.inject(station, &Packet::PubRel(ack(7)));
        assert_eq!(names(&world.packets(station)), ["PUBCOMP 7 00"]);
        assert_eq!(payloads(&world.events(desk)), ["1.83"]);

        // Released, so the same identifier is another message ([MQTT-4.3.3-12]).
        world.inject(station, &Packet::Publish(with_id(7, "1.84")));
        assert_eq!(payloads(&world.events(desk)), ["1.84"]);
    });
}

#[test]
fn releasing_what_is_not_known_is_answered_as_the_version_says() {
    for (version, expected) in [(ProtocolVersion::V311, "00"), (ProtocolVersion::V5, "92")] {
        let mut world = World::default();
        let station = world.open_raw(connect("kettle-weir", version));
        world.packets(station);
        world.inject(station, &Packet::PubRel(ack(9)));
        world.inject(station, &Packet::PubRec(ack(9)));
        world.inject(station, &Packet::PubAck(ack(9)));
        world.inject(station, &Packet::PubComp(ack(9)));
        let answers = names(&world.packets(station));
        assert_eq!(answers, [format!("PUBCOMP 9 {expected}"), format!("PUBREL 9 {expected}")]);
        assert!(world.is_open(station));
    }
}

#[test]
fn an_acknowledgement_of_the_wrong_kind_is_a_protocol_error() {
    for (qos, packet) in [
        (QoS::AtLeastOnce, Packet::PubRec(ack(1))),
        (QoS::ExactlyOnce, Packet::PubAck(ack(1))),
        (QoS::ExactlyOnce, Packet::PubComp(ack(1))),
    ] {
        let mut world = World::default();
        let desk = world.open(connect("duty-desk", ProtocolVersion::V5));
        world.subscribe(desk, "#", qos);
        world.mute(desk);
        world.publish_unheard(LEVEL, "1", qos);
        world.inject(desk, &packet);
        world.unmute(desk);
        assert!(closed(&world.events(desk)).contains("Protocol Error, 0x82"), "{packet:?}");
    }
}

#[test]
fn a_client_may_refuse_a_message_and_nothing_follows() {
    let mut world = World::default();
    let desk = world.open_raw(connect("duty-desk", ProtocolVersion::V5));
    world.subscribe_raw(desk, "#", QoS::ExactlyOnce);
    world.publish_unheard(LEVEL, "1", QoS::ExactlyOnce);
    world.packets(desk);
    world.inject(desk, &Packet::PubRec(Acknowledgement { reason: ReasonCode::QuotaExceeded, ..ack(1) }));
    assert_eq!((names(&world.packets(desk)), world.in_flight(desk)), (vec![], 0));
}

#[test]
fn what_was_not_acknowledged_is_sent_again_in_order_with_its_identifier() {
    both_versions(|version| {
        let mut world = World::default();
        let desk = world.open_raw(keeping("duty-desk", version));
        world.subscribe_raw(desk, "#", QoS::ExactlyOnce);
        world.packets(desk);
        for (payload, qos) in
            [("a", QoS::AtLeastOnce), ("b", QoS::ExactlyOnce), ("c", QoS::ExactlyOnce), ("d", QoS::AtLeastOnce)]
        {
            world.publish_unheard(LEVEL, payload, qos);
        }
        world.publish_unheard(LEVEL, "not kept", QoS::AtMostOnce);
        let sent = names(&world.packets(desk));
        assert_eq!(sent, ["PUBLISH 1 a", "PUBLISH 2 b", "PUBLISH 3 c", "PUBLISH 4 d", "PUBLISH 0 not kept"]);
        world.inject(desk, &Packet::PubRec(ack(2)));
        world.packets(desk);
        world.break_connection(desk);
        world.publish_unheard(LEVEL, "e", QoS::AtLeastOnce);
        world.publish_unheard(LEVEL, "gone", QoS::AtMostOnce);

        let again = world.open_raw(keeping("duty-desk", version));
        let packets = world.packets(again);
        let Packet::ConnAck(connack) = &packets[0] else { panic!("{packets:?}") };
        assert!(connack.session_present);
        let expected =
            ["CONNACK", "PUBLISH 1 a again", "PUBLISH 3 c again", "PUBLISH 4 d again", "PUBREL 2 00", "PUBLISH 5 e"];
        assert_eq!(names(&packets), expected);
        world.inject(again, &Packet::PubComp(ack(2)));
        world.inject(again, &Packet::PubAck(ack(1)));
        world.inject(again, &Packet::PubRec(ack(3)));
        assert_eq!(names(&world.packets(again)), ["PUBREL 3 00"]);
        world.inject(again, &Packet::PubComp(ack(3)));
        world.inject(again, &Packet::PubAck(ack(4)));
        world.inject(again, &Packet::PubAck(ack(5)));
        assert_eq!(world.in_flight(again), 0);
    });
}

#[test]
fn sending_again_keeps_within_what_the_client_takes() {
    let mut world = World::default();
    let desk = world.open_raw(keeping("duty-desk", ProtocolVersion::V5));
    world.subscribe_raw(desk, "#", QoS::AtLeastOnce);
    for payload in ["a", "b", "c"] {
        world.publish_unheard(LEVEL, payload, QoS::AtLeastOnce);
    }
    world.break_connection(desk);
    let mut asked = keeping("duty-desk", ProtocolVersion::V5);
    asked.properties.receive_maximum = NonZeroU16::new(1);
    let again = world.open_raw(asked);
    world.publish_unheard(LEVEL, "d", QoS::AtLeastOnce);
    assert_eq!(names(&world.packets(again)), ["CONNACK", "PUBLISH 1 a again"]);
    for (number, next) in [(1, "PUBLISH 2 b again"), (2, "PUBLISH 3 c again"), (3, "PUBLISH 4 d")] {
        world.inject(again, &Packet::PubAck(ack(number)));
        assert_eq!(names(&world.packets(again)), [next]);
    }
}

#[test]
fn a_client_that_resumes_sends_again_and_nothing_arrives_twice() {
    both_versions(|version| {
        let mut world = World::default();
        let desk = world.open(connect("duty-desk", version));
        world.subscribe(desk, "#", QoS::ExactlyOnce);
        let station = world.open(keeping("kettle-weir", version));
        world.hold_commits();
        for payload in [b"1", b"2"] {
            world.publish(station, publish(LEVEL, payload, QoS::ExactlyOnce));
        }
        assert_eq!(reasons(&world.events(station)), []);
        world.break_connection(station);
        let state = world.client_state(station);
        world.commit();
        let station = world.resume(keeping("kettle-weir", version), state);
        assert_eq!(reasons(&world.events(station)), [ReasonCode::Success; 2], "both handshakes end");
        assert_eq!(payloads(&world.events(desk)), ["1", "2"]);
    });
}

#[test]
fn a_client_whose_session_is_forgotten_is_told_so() {
    let mut world = World::default();
    let station = world.open(keeping("kettle-weir", ProtocolVersion::V5));
    world.hold_commits();
    world.publish(station, publish(LEVEL, b"1", QoS::AtLeastOnce));
    let state = world.client_state(station);
    world.commit();
    let other = world.resume(keeping("sallow-head", ProtocolVersion::V5), state);
    let events = world.events(other);
    assert!(matches!(events[..], [Event::Connected(_), Event::Forgotten { .. }]), "{events:?}");
}

#[test]
fn nothing_is_promised_before_it_is_safe() {
    both_versions(|version| {
        let mut world = World::default();
        let station = world.open_raw(keeping("kettle-weir", version));
        let desk = world.open_raw(keeping("duty-desk", version));
        world.packets(station);
        world.packets(desk);
        world.hold_commits();
        world.subscribe_raw(desk, "#", QoS::ExactlyOnce);
        world.inject(station, &Packet::Publish(Publish { qos: QoS::AtLeastOnce, ..with_id(1, "a") }));
        world.inject(station, &Packet::Publish(with_id(2, "b")));
        assert_eq!(names(&world.packets(station)), [""; 0]);
        // At QoS 1 a second copy does no harm; at QoS 2 the identifier must be safe before it is used.
        assert_eq!(names(&world.packets(desk)), ["PUBLISH 1 a"]);
        world.commit();
        assert_eq!(names(&world.packets(station)), ["PUBACK 1 00", "PUBREC 2 00"]);
        assert_eq!(names(&world.packets(desk)), ["SUBACK", "PUBLISH 2 b"]);

        world.hold_commits();
        world.inject(station, &Packet::PubRel(ack(2)));
        world.inject(desk, &Packet::PubRec(ack(2)));
        assert_eq!((names(&world.packets(station)), names(&world.packets(desk))), (vec![], vec![]));
        assert!(matches!(world.kept[..], [.., Keep::Assign(..), Keep::Forget(_), Keep::Release(..)]));
        world.commit();
        assert_eq!(names(&world.packets(station)), ["PUBCOMP 2 00"]);
        assert_eq!(names(&world.packets(desk)), ["PUBREL 2 00"]);
        world.inject(desk, &Packet::PubComp(ack(2)));
        world.inject(desk, &Packet::PubAck(ack(1)));
        assert!(matches!(world.kept[..], [.., Keep::Done(_), Keep::Done(_)]));
    });
}

#[test]
fn more_unacknowledged_than_agreed_ends_the_connection() {
    let mut world = World::with_limits(moorfall_core::Limits { receive_maximum: 2, ..Default::default() });
    let station = world.open_raw(connect("kettle-weir", ProtocolVersion::V5));
    world.packets(station);
    for number in 1..=3 {
        world.inject(station, &Packet::Publish(with_id(number, "1")));
    }
    let Some(Packet::Disconnect(told)) = world.packets(station).pop() else { panic!("not told") };
    assert_eq!(told.reason, ReasonCode::ReceiveMaximumExceeded);
    // 3.1.1 knows no such bound.
    let older = world.open_raw(connect("sallow-head", ProtocolVersion::V311));
    world.packets(older);
    for number in 1..=3 {
        world.inject(older, &Packet::Publish(with_id(number, "1")));
    }
    assert_eq!(world.packets(older).len(), 3);
}

#[test]
fn a_3_1_1_client_whose_answers_wait_is_read_from_more_slowly() {
    let mut world = World::with_limits(moorfall_core::Limits { receive_maximum: 2, ..Default::default() });
    let station = world.open_raw(connect("kettle-weir", ProtocolVersion::V311));
    world.packets(station);
    world.hold_commits();
    for number in 1..=20 {
        world.inject(station, &Packet::Publish(Publish { qos: QoS::AtLeastOnce, ..with_id(number, "1") }));
    }
    assert_eq!(world.unread_packets(station), 17, "two, and the one that was over");
    world.commit();
    assert_eq!(world.packets(station).len(), 20);
}

#[test]
fn what_clients_answer_is_told_of_messages_whose_journeys_are_recorded() {
    both_versions(|version| {
        let mut world = World::default();
        let station = world.open(connect("kettle-weir", version));
        let desk = world.open(connect("duty-desk", version));
        let kept = world.open(keeping("auditor", version));
        for peer in [desk, kept] {
            world.subscribe(peer, "#", QoS::ExactlyOnce);
        }
        world.publish(station, publish(LEVEL, b"1.83", QoS::ExactlyOnce));
        assert!(world.answered.is_empty(), "nothing is recorded");
        for (journey, qos) in [(7, QoS::AtMostOnce), (8, QoS::AtLeastOnce), (9, QoS::ExactlyOnce)] {
            world.journey = journey;
            world.publish(station, publish(LEVEL, b"1.83", qos));
        }
        world.answered.sort_by_key(|(peer, journey, _)| (*journey, *peer));
        let success = ReasonCode::Success;
        assert_eq!(world.answered, [(desk, 8, success), (kept, 8, success), (desk, 9, success), (kept, 9, success)]);
    });
}

#[test]
fn what_a_client_does_not_take_is_told_with_its_reason() {
    let mut world = World::default();
    let station = world.open(connect("kettle-weir", ProtocolVersion::V5));
    let desk = world.open_raw(connect("duty-desk", ProtocolVersion::V5));
    world.subscribe_raw(desk, "#", QoS::ExactlyOnce);
    for (journey, qos) in [(3, QoS::AtLeastOnce), (4, QoS::ExactlyOnce)] {
        world.journey = journey;
        world.publish(station, publish(LEVEL, b"1.83", qos));
        let sent = world.packets(desk).into_iter().find_map(|packet| match packet {
            Packet::Publish(publish) => publish.packet_id,
            _ => None,
        });
        let reason = ReasonCode::QuotaExceeded;
        let refusal = Acknowledgement { reason, ..Acknowledgement::success(sent.unwrap()) };
        world.inject(desk, &if journey == 3 { Packet::PubAck(refusal) } else { Packet::PubRec(refusal) });
    }
    let reason = ReasonCode::QuotaExceeded;
    assert_eq!(world.answered, [(desk, 3, reason), (desk, 4, reason)]);
}
