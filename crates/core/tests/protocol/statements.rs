//! Statements of both standards about the bytes themselves: what is malformed or out of place, and how it is answered.

use moorfall_wire::*;

use crate::world::{World, connect};

const V311: ProtocolVersion = ProtocolVersion::V311;
const V5: ProtocolVersion = ProtocolVersion::V5;

/// How a broker answers bytes that are wrong.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Answer {
    /// It goes on.
    None,
    /// It closes the connection without a word.
    Closed,
    /// It says why and closes.
    Told(ReasonCode),
}

/// The answer to these bytes from a client that was accepted.
fn answer(version: ProtocolVersion, bytes: &[u8]) -> Answer {
    let mut world = World::default();
    let peer = world.open_raw(connect("stranger", version));
    world.packets(peer);
    world.inject_bytes(peer, bytes);
    match (world.is_open(peer), world.packets(peer).pop()) {
        (true, _) => Answer::None,
        (false, Some(Packet::Disconnect(told))) => Answer::Told(told.reason),
        (false, None) => Answer::Closed,
        (false, Some(other)) => panic!("{other:?}"),
    }
}

/// The answer to these bytes as the first ones; `Told` is a CONNACK.
fn first_answer(bytes: &[u8]) -> Answer {
    let mut world = World::default();
    let peer = world.begin_silent();
    world.inject_bytes(peer, bytes);
    let raw = world.raw(peer).to_vec();
    let code = |at: usize| ReasonCode::try_from(raw[at]).unwrap();
    match (world.is_open(peer), &raw[..]) {
        (true, _) => Answer::None,
        (false, []) => Answer::Closed,
        // 3.1.1 has two bytes, and other codes.
        (false, [0x20, 2, 0, code]) => Answer::Told(match code {
            1 => ReasonCode::UnsupportedProtocolVersion,
            2 => ReasonCode::ClientIdentifierNotValid,
            other => panic!("{other}"),
        }),
        (false, [0x20, ..]) => {
            assert_eq!(raw[2], 0, "session present goes with success alone");
            Answer::Told(code(3))
        }
        (false, other) => panic!("{other:?}"),
    }
}

#[test]
fn malformed_packets_are_answered_by_their_reason_code_in_5_0_and_by_closing_in_3_1_1() {
    use ReasonCode::*;
    let cases: &[(&str, &[u8], ReasonCode)] = &[
        ("packet type 0", &[0x00, 0], MalformedPacket),
        ("flags of SUBSCRIBE", &[0x80, 6, 0, 1, 0, 1, b'a', 0], MalformedPacket),
        ("flags of UNSUBSCRIBE", &[0xa0, 5, 0, 1, 0, 1, b'a'], MalformedPacket),
        ("flags of PUBREL", &[0x60, 2, 0, 1], MalformedPacket),
        ("flags of PUBACK", &[0x41, 2, 0, 1], MalformedPacket),
        ("flags of PUBREC", &[0x52, 2, 0, 1], MalformedPacket),
        ("flags of PUBCOMP", &[0x74, 2, 0, 1], MalformedPacket),
        ("flags of PINGREQ", &[0xc1, 0], MalformedPacket),
        ("flags of DISCONNECT", &[0xe1, 0], MalformedPacket),
        ("a length of five bytes", &[0x30, 0xff, 0xff, 0xff, 0xff, 0x01], MalformedPacket),
        ("QoS 3", &[0x36, 6, 0, 1, b'a', 0, 1, 0], MalformedPacket),
        ("DUP at QoS 0", &[0x38, 4, 0, 1, b'a', 0], MalformedPacket),
        ("packet identifier 0", &[0x32, 6, 0, 1, b'a', 0, 0, 0], MalformedPacket),
        ("packet identifier 0 of PUBACK", &[0x40, 2, 0, 0], MalformedPacket),
        ("PUBACK without identifier", &[0x40, 1, 0], MalformedPacket),
        ("PINGREQ with a body", &[0xc0, 1, 0], MalformedPacket),
        ("a topic that is not UTF-8", &[0x30, 4, 0, 1, 0xff, 0], MalformedPacket),
        ("a topic with a surrogate", &[0x30, 6, 0, 3, 0xed, 0xa0, 0x80, 0], MalformedPacket),
        ("a topic with U+0000", &[0x30, 4, 0, 1, 0, 0], MalformedPacket),
        ("a topic that reaches beyond the packet", &[0x30, 4, 0, 9, b'a', 0], MalformedPacket),
        ("a wildcard in a topic name", &[0x30, 4, 0, 1, b'#', 0], TopicNameInvalid),
        ("CONNECT again", b"\x10\x0d\0\x04MQTT\x05\x02\0\0\0\0\0", ProtocolError),
        ("CONNACK from a client", &[0x20, 3, 0, 0, 0], ProtocolError),
        ("SUBACK from a client", &[0x90, 4, 0, 1, 0, 0], ProtocolError),
        ("UNSUBACK from a client", &[0xb0, 4, 0, 1, 0, 0], ProtocolError),
        ("PINGRESP from a client", &[0xd0, 0], ProtocolError),
    ];
    for (what, bytes, reason) in cases {
        assert_eq!(answer(V5, bytes), Answer::Told(*reason), "{what}");
        // The same packets without properties are as wrong in 3.1.1, which has no word for it.
        assert_eq!(answer(V311, bytes), Answer::Closed, "{what}");
    }
}

#[test]
fn subscriptions_without_filters_or_with_reserved_bits_are_refused() {
    for (bytes, reason) in [
        (&[0x82, 3, 0, 1, 0][..], ReasonCode::ProtocolError),
        (&[0xa2, 3, 0, 1, 0], ReasonCode::ProtocolError),
        (&[0x82, 7, 0, 1, 0, 0, 1, b'a', 0x40], ReasonCode::MalformedPacket),
        (&[0x82, 7, 0, 1, 0, 0, 1, b'a', 0x03], ReasonCode::MalformedPacket),
        (&[0x82, 7, 0, 1, 0, 0, 1, b'a', 0x30], ReasonCode::ProtocolError),
        (&[0x82, 7, 0, 0, 0, 0, 1, b'a', 0x00], ReasonCode::MalformedPacket),
        (&[0x82, 7, 0, 1, 0, 0, 1, 0xff, 0x00], ReasonCode::MalformedPacket),
        (&[0x82, 8, 0, 1, 0, 0, 2, b'#', b'/', 0x00], ReasonCode::TopicFilterInvalid),
        (&[0x82, 6, 0, 1, 0, 0, 0, 0x00], ReasonCode::TopicFilterInvalid),
    ] {
        assert_eq!(answer(V5, bytes), Answer::Told(reason), "{bytes:02x?}");
    }
    for bytes in [
        &[0x82, 2, 0, 1][..],
        &[0xa2, 2, 0, 1],
        &[0x82, 6, 0, 1, 0, 1, b'a', 0x03],
        &[0x82, 6, 0, 1, 0, 1, b'a', 0x04],
        &[0x82, 6, 0, 0, 0, 1, b'a', 0x00],
        &[0xa2, 5, 0, 0, 0, 1, b'a'],
        &[0x82, 6, 0, 1, 0, 1, 0xff, 0x00],
    ] {
        assert_eq!(answer(V311, bytes), Answer::Closed, "{bytes:02x?}");
    }
}

#[test]
fn properties_are_read_as_strictly_as_they_are_written() {
    use ReasonCode::*;
    for (what, bytes, reason) in [
        ("a padded length", &[0xc0, 0x80, 0x00][..], MalformedPacket),
        ("a padded property length", &[0x30, 5, 0, 1, b'a', 0x80, 0x00], MalformedPacket),
        ("no property length", &[0x30, 3, 0, 1, b'a'], MalformedPacket),
        ("a property of another packet", &[0x30, 9, 0, 1, b'a', 5, 0x11, 0, 0, 0, 1], MalformedPacket),
        ("an unknown property", &[0x30, 6, 0, 1, b'a', 2, 0x7f, 0], MalformedPacket),
        ("a property twice", &[0x30, 8, 0, 1, b'a', 4, 0x01, 0, 0x01, 0], ProtocolError),
        ("a truth of 2", &[0x30, 6, 0, 1, b'a', 2, 0x01, 2], ProtocolError),
        ("half a pair", &[0x30, 8, 0, 1, b'a', 4, 0x26, 0, 1, b'a'], MalformedPacket),
        ("a pair that is not UTF-8", &[0x30, 11, 0, 1, b'a', 7, 0x26, 0, 1, 0xff, 0, 1, b'a'], MalformedPacket),
        ("a response topic with a wildcard", &[0x30, 8, 0, 1, b'a', 4, 0x08, 0, 1, b'#'], TopicNameInvalid),
        ("a content type that is not UTF-8", &[0x30, 8, 0, 1, b'a', 4, 0x03, 0, 1, 0xff], MalformedPacket),
        ("a subscription identifier from a client", &[0x30, 6, 0, 1, b'a', 2, 0x0b, 1], ProtocolError),
        ("subscription identifier 0", &[0x82, 9, 0, 1, 2, 0x0b, 0, 0, 1, b'a', 0], ProtocolError),
        ("a reason code that PUBACK does not have", &[0x40, 3, 0, 1, 0x8b], MalformedPacket),
        ("a reason code that DISCONNECT does not have", &[0xe0, 1, 0x10], MalformedPacket),
        ("AUTH without a method", &[0xf0, 2, 0x18, 0], ProtocolError),
    ] {
        assert_eq!(answer(V5, bytes), Answer::Told(reason), "{what}");
    }
    assert_eq!(answer(V311, &[0xf0, 0]), Answer::Closed, "AUTH does not exist in 3.1.1");
}

#[test]
fn the_first_packet_is_a_connect_that_keeps_the_rules() {
    let v5 = |flags: u8, rest: &[u8]| {
        let body = [b"\0\x04MQTT\x05", &[flags][..], b"\0\0", rest].concat();
        [&[0x10, u8::try_from(body.len()).unwrap()], &body[..]].concat()
    };
    let v311 = |flags: u8, rest: &[u8]| {
        let body = [b"\0\x04MQTT\x04", &[flags][..], b"\0\0", rest].concat();
        [&[0x10, u8::try_from(body.len()).unwrap()], &body[..]].concat()
    };
    assert_eq!(first_answer(&v5(0x02, b"\0\0\x01a")), Answer::None);
    assert_eq!(first_answer(&v311(0x02, b"\0\x01a")), Answer::None);
    // Anything else first is no client of this protocol. A CONNECT of 5.0 that is wrong is told why, one of 3.1.1 is not.
    for (what, bytes) in [
        ("PUBLISH first", vec![0x30, 4, 0, 1, b'a', 0]),
        ("flags of CONNECT", [&[0x11], &v5(0x02, b"\0\0\x01a")[1..]].concat()),
        ("the reserved flag", v5(0x03, b"\0\0\x01a")),
        ("the reserved flag in 3.1.1", v311(0x03, b"\0\x01a")),
        ("a will of QoS 3", v5(0x1e, b"\0\0\x01a\0\0\x01t\0\x01m")),
        ("will QoS without a will", v5(0x0a, b"\0\0\x01a")),
        ("will retain without a will", v311(0x22, b"\0\x01a")),
        ("a password without a user name in 3.1.1", v311(0x42, b"\0\x01a\0\x01p")),
        ("a user name that is missing", v5(0x82, b"\0\0\x01a")),
        ("a password that is missing", v311(0xc2, b"\0\x01a\0\x01u")),
        ("a user name that was not announced", v5(0x02, b"\0\0\x01a\0\x01u")),
        ("a will that is missing", v5(0x06, b"\0\0\x01a")),
        ("a client identifier that is not UTF-8", v5(0x02, b"\0\0\x01\xff")),
        ("no client identifier", v5(0x02, b"\0")),
        ("a user name that is not UTF-8", v311(0x82, b"\0\x01a\0\x01\xff")),
        ("a will topic that is not UTF-8", v5(0x06, b"\0\0\x01a\0\0\x01\xff\0\x01m")),
        ("a will topic with a wildcard", v311(0x06, b"\0\x01a\0\x01#\0\x01m")),
        ("receive maximum 0", v5(0x02, b"\x03\x21\0\0\0\x01a")),
        ("maximum packet size 0", v5(0x02, b"\x05\x27\0\0\0\0\0\x01a")),
        ("another protocol", b"\x10\x0d\0\x04MQTX\x05\x02\0\0\0\0\x01a".to_vec()),
    ] {
        let expected = match bytes.get(8) {
            Some(5) if bytes.starts_with(&[0x10]) => match what {
                "receive maximum 0" | "maximum packet size 0" => Answer::Told(ReasonCode::ProtocolError),
                "a will topic with a wildcard" => Answer::Told(ReasonCode::TopicNameInvalid),
                _ if bytes.contains(&b'X') => Answer::Closed,
                _ => Answer::Told(ReasonCode::MalformedPacket),
            },
            _ => Answer::Closed,
        };
        assert_eq!(first_answer(&bytes), expected, "{what}");
    }
    assert_eq!(
        first_answer(&v311(0x00, b"\0\0")),
        Answer::Told(ReasonCode::ClientIdentifierNotValid),
        "no identifier and no clean session"
    );
    assert_eq!(
        first_answer(b"\x10\x0e\0\x04MQTT\x06\x02\0\0\0\0\x01a"),
        Answer::Told(ReasonCode::UnsupportedProtocolVersion)
    );
}

#[test]
fn nothing_behind_a_refused_connect_is_looked_at() {
    let mut world = World::default();
    let desk = world.open(connect("duty-desk", V5));
    world.subscribe(desk, "#", QoS::AtMostOnce);
    let mut asked = connect("stranger", V5);
    asked.properties.authentication_method = Some("none".into());
    let mut bytes = bytes::BytesMut::new();
    Packet::Connect(Box::new(asked)).encode(V5, &mut bytes).unwrap();
    bytes.extend_from_slice(&[0x30, 4, 0, 1, b'a', 0]);
    let stranger = world.begin_silent();
    world.inject_bytes(stranger, &bytes);
    assert_eq!(world.packets(stranger).len(), 1, "one CONNACK and nothing else");
    assert_eq!(world.events(desk), []);
}

#[test]
fn client_identifiers_of_all_letters_and_digits_are_taken() {
    let letters = "0123456789abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ";
    for version in [V311, V5] {
        let mut world = World::default();
        for id in [&letters[..1], &letters[..23], &letters[39..], letters, "station/é: 7"] {
            world.open(connect(id, version));
        }
    }
}

#[test]
fn a_byte_order_mark_is_a_character_as_any_other() {
    let mut world = World::default();
    let desk = world.open(connect("duty-desk", V5));
    world.subscribe(desk, "\u{feff}gate", QoS::AtMostOnce);
    world.publish_unheard("gate", "1", QoS::AtLeastOnce);
    world.publish_unheard("\u{feff}gate", "2", QoS::AtLeastOnce);
    let arrived = crate::world::messages(&world.events(desk));
    assert_eq!((arrived.len(), &*arrived[0].topic), (1, "\u{feff}gate"));
}

#[test]
fn topics_are_compared_byte_by_byte() {
    let mut world = World::default();
    let desk = world.open(connect("duty-desk", V5));
    for filter in ["Gate", "/gate", "gate/", "e\u{301}"] {
        world.subscribe(desk, filter, QoS::AtMostOnce);
    }
    for topic in ["gate", "GATE", "\u{e9}", "gate/", "/gate"] {
        world.publish_unheard(topic, "1", QoS::AtLeastOnce);
    }
    let topics: Vec<_> = crate::world::messages(&world.events(desk)).iter().map(|m| m.topic.to_string()).collect();
    assert_eq!(topics, ["gate/", "/gate"]);
}

#[test]
fn several_filters_are_answered_one_by_one_in_their_order() {
    let mut world = World::default();
    let desk = world.open_raw(connect("duty-desk", V5));
    world.packets(desk);
    let options = |qos| SubscriptionOptions { qos, ..SubscriptionOptions::default() };
    let subscription = |filter: &str, qos| Subscription { filter: filter.parse().unwrap(), options: options(qos) };
    let subscriptions = vec![
        subscription("a", QoS::ExactlyOnce),
        subscription("$share/b", QoS::AtMostOnce),
        subscription("c", QoS::AtMostOnce),
        subscription("d", QoS::AtLeastOnce),
    ];
    let packet_id = PacketId::new(77).unwrap();
    let properties = SubscribeProperties::default();
    world.inject(desk, &Packet::Subscribe(Subscribe { packet_id, properties, subscriptions }));
    let Some(Packet::SubAck(ack)) = world.packets(desk).pop() else { panic!("no SUBACK") };
    use ReasonCode::*;
    assert_eq!(
        (ack.packet_id, &ack.reasons[..]),
        (packet_id, &[GrantedQoS2, TopicFilterInvalid, Success, GrantedQoS1][..])
    );
    let filters = ["c", "x", "a"].map(|filter| filter.parse().unwrap()).to_vec();
    let properties = UnsubscribeProperties::default();
    world.inject(desk, &Packet::Unsubscribe(Unsubscribe { packet_id, properties, filters }));
    let Some(Packet::UnsubAck(ack)) = world.packets(desk).pop() else { panic!("no UNSUBACK") };
    assert_eq!((ack.packet_id, &ack.reasons[..]), (packet_id, &[Success, NoSubscriptionExisted, Success][..]));
    assert_eq!(world.subscription_count(), 1);
}

#[test]
fn a_message_that_is_on_its_way_is_delivered_after_unsubscribing() {
    let mut world = World::default();
    let desk = world.open_raw(connect("duty-desk", V5));
    world.subscribe_raw(desk, "gate", QoS::ExactlyOnce);
    world.publish_unheard("gate", "1", QoS::ExactlyOnce);
    world.packets(desk);
    let filters = vec!["gate".parse().unwrap()];
    let (packet_id, properties) = (PacketId::MIN, UnsubscribeProperties::default());
    world.inject(desk, &Packet::Unsubscribe(Unsubscribe { packet_id, properties, filters }));
    world.publish_unheard("gate", "2", QoS::ExactlyOnce);
    world.inject(desk, &Packet::PubRec(Acknowledgement::success(PacketId::MIN)));
    world.inject(desk, &Packet::PubComp(Acknowledgement::success(PacketId::MIN)));
    let kinds: Vec<_> = world.packets(desk).iter().map(Packet::packet_type).collect();
    assert_eq!(kinds, [PacketType::UnsubAck, PacketType::PubRel], "the handshake ends, and nothing new comes");
    assert_eq!(world.in_flight(desk), 0);
}

#[test]
fn everything_but_messages_goes_on_while_the_client_takes_no_more() {
    let mut world = World::default();
    let mut asked = connect("duty-desk", V5);
    asked.properties.receive_maximum = std::num::NonZeroU16::new(1);
    let desk = world.open_raw(asked);
    world.subscribe_raw(desk, "gate", QoS::AtLeastOnce);
    world.publish_unheard("gate", "1", QoS::AtLeastOnce);
    world.publish_unheard("gate", "2", QoS::AtLeastOnce);
    world.packets(desk);
    world.inject(desk, &Packet::PingReq);
    world.subscribe_raw(desk, "other", QoS::AtMostOnce);
    world.inject(
        desk,
        &Packet::Publish(Publish { packet_id: PacketId::new(9), ..crate::world::publish("x", b"", QoS::AtLeastOnce) }),
    );
    let kinds: Vec<_> = world.packets(desk).iter().map(Packet::packet_type).collect();
    assert_eq!(kinds, [PacketType::PingResp, PacketType::SubAck, PacketType::PubAck]);
}

#[test]
fn a_duplicate_mark_is_not_passed_on() {
    let mut world = World::default();
    let desk = world.open(connect("duty-desk", V5));
    world.subscribe(desk, "gate", QoS::AtLeastOnce);
    let station = world.open_raw(connect("kettle-weir", V5));
    let message = Publish { packet_id: PacketId::new(1), ..crate::world::publish("gate", b"1", QoS::AtLeastOnce) };
    // After PUBACK the same identifier is another message, whatever the mark says.
    for _ in 0..2 {
        world.inject(station, &Packet::Publish(Publish { duplicate: true, ..message.clone() }));
    }
    let arrived = crate::world::messages(&world.events(desk));
    assert_eq!(arrived.iter().map(|message| message.duplicate).collect::<Vec<_>>(), [false, false]);
}

#[test]
fn a_qos_2_hand_shake_that_has_begun_is_completed_though_the_message_has_expired() {
    let mut world = World::default();
    let desk = world.open_raw(connect("duty-desk", V5));
    world.subscribe_raw(desk, "gate", QoS::ExactlyOnce);
    let station = world.open(connect("kettle-weir", V5));
    let mut message = crate::world::publish("gate", b"1", QoS::ExactlyOnce);
    message.properties.message_expiry_interval = Some(5);
    world.publish(station, message);
    world.packets(desk);
    world.advance(std::time::Duration::from_secs(10));
    world.inject(desk, &Packet::PubRec(Acknowledgement::success(PacketId::MIN)));
    let kinds: Vec<_> = world.packets(desk).iter().map(Packet::packet_type).collect();
    assert_eq!(kinds, [PacketType::PubRel]);
}

#[test]
fn a_message_that_was_sent_is_sent_again_though_it_has_expired() {
    let mut world = World::default();
    let desk = world.open_raw(crate::handshakes::keeping("duty-desk", V5));
    world.subscribe_raw(desk, "gate", QoS::ExactlyOnce);
    let station = world.open(connect("kettle-weir", V5));
    let mut message = crate::world::publish("gate", b"1", QoS::ExactlyOnce);
    message.properties.message_expiry_interval = Some(5);
    world.publish(station, message);
    world.break_connection(desk);
    world.advance(std::time::Duration::from_secs(10));
    let again = world.open_raw(crate::handshakes::keeping("duty-desk", V5));
    assert!(matches!(&world.packets(again)[1], Packet::Publish(publish) if publish.duplicate));
}

#[test]
fn replacing_a_subscription_loses_nothing_and_sends_retained_messages_again() {
    for version in [V311, V5] {
        let mut world = World::default();
        let desk = world.open(connect("duty-desk", version));
        let station = world.open(connect("kettle-weir", version));
        world.publish(station, Publish { retain: true, ..crate::world::publish("gate", b"1", QoS::AtLeastOnce) });
        for _ in 0..2 {
            world.subscribe(desk, "gate", QoS::AtLeastOnce);
            assert_eq!(crate::world::messages(&world.events(desk)).len(), 1);
        }
        world.publish(station, crate::world::publish("gate", b"2", QoS::AtLeastOnce));
        assert_eq!(crate::world::messages(&world.events(desk)).len(), 1, "once, not twice");
    }
}
