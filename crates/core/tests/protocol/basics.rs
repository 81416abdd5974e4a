//! Whole conversations between simulated clients and a simulated broker, on a simulated clock.
use std::time::Duration;

use crate::world::{World, closed, connect, message, messages, publish, reasons, words};
use moorfall_core::{Limits, client::Event, session::Withheld};
use moorfall_wire::*;

const LEVEL: &str = "harrowmere/gorge/kettle-weir/stage/level";
const STATUS: &str = "harrowmere/gorge/kettle-weir/status";

pub(crate) fn both_versions(test: impl Fn(ProtocolVersion)) {
    test(ProtocolVersion::V311);
    test(ProtocolVersion::V5);
}

#[test]
fn a_message_reaches_those_who_subscribed_at_the_lower_qos() {
    both_versions(|version| {
        let mut world = World::default();
        let station = world.open(connect("kettle-weir", version));
        let desk = world.open(connect("duty-desk", version));
        let answer = world.subscribe(desk, "harrowmere/+/+/stage/level", QoS::AtLeastOnce);
        assert_eq!(reasons(&answer), [ReasonCode::GrantedQoS1]);
        for (sent, received) in [(QoS::AtMostOnce, QoS::AtMostOnce), (QoS::AtLeastOnce, QoS::AtLeastOnce)] {
            world.publish(station, publish(LEVEL, b"1.83", sent));
            let arrived = messages(&world.events(desk));
            assert_eq!(arrived.len(), 1);
            assert_eq!((&*arrived[0].topic, &arrived[0].payload[..], arrived[0].qos), (LEVEL, &b"1.83"[..], received));
            assert!(!arrived[0].retain && !arrived[0].duplicate);
        }
        let answered = reasons(&world.events(station));
        assert_eq!(answered, [ReasonCode::Success], "the QoS 1 message is acknowledged, the other is not");
    });
}

#[test]
fn the_publisher_learns_when_nobody_receives() {
    let mut world = World::default();
    let station = world.open(connect("kettle-weir", ProtocolVersion::V5));
    world.publish(station, publish(LEVEL, b"1.83", QoS::AtLeastOnce));
    assert_eq!(reasons(&world.events(station)), [ReasonCode::NoMatchingSubscribers]);
}

#[test]
fn retained_messages_come_at_subscription_and_go_with_an_empty_payload() {
    both_versions(|version| {
        let mut world = World::default();
        let station = world.open(connect("kettle-weir", version));
        let retained = |payload: &'static [u8]| Publish { retain: true, ..publish(STATUS, payload, QoS::AtLeastOnce) };
        world.publish(station, retained(b"offline"));
        world.publish(station, retained(b"online"));
        let desk = world.open(connect("duty-desk", version));
        world.subscribe(desk, "harrowmere/+/+/status", QoS::AtMostOnce);
        let arrived = messages(&world.events(desk));
        assert_eq!(arrived.len(), 1);
        assert_eq!((&arrived[0].payload[..], arrived[0].retain), (&b"online"[..], true));

        world.publish(station, retained(b""));
        let live = messages(&world.events(desk));
        assert_eq!((live.len(), live[0].retain), (1, false), "the clearing message itself is delivered as any other");
        let late = world.open(connect("late", version));
        world.subscribe(late, "#", QoS::AtMostOnce);
        assert_eq!(messages(&world.events(late)), []);
    });
}

#[test]
fn retain_handling_and_retain_as_published_are_kept() {
    let mut world = World::default();
    let desk = world.open(connect("duty-desk", ProtocolVersion::V5));
    world.publish(desk, Publish { retain: true, ..publish(STATUS, b"online", QoS::AtMostOnce) });
    let options = |handling, as_published| SubscriptionOptions {
        retain_handling: handling,
        retain_as_published: as_published,
        ..SubscriptionOptions::default()
    };
    for (handling, expected) in [
        (RetainHandling::Never, 0),
        (RetainHandling::IfNew, 0),
        (RetainHandling::Always, 1),
        (RetainHandling::Always, 1),
    ] {
        world.subscribe_with(desk, "#", options(handling, true));
        assert_eq!(messages(&world.events(desk)).len(), expected, "{handling:?}");
    }
    world.publish(desk, Publish { retain: true, ..publish(STATUS, b"online", QoS::AtMostOnce) });
    assert!(messages(&world.events(desk))[0].retain, "as published");
    world.unsubscribe(desk, "#");
    world.subscribe_with(desk, "#", options(RetainHandling::IfNew, false));
    assert_eq!(messages(&world.events(desk)).len(), 1, "new again");
}

#[test]
fn own_messages_are_left_out_when_asked() {
    let mut world = World::default();
    let desk = world.open(connect("duty-desk", ProtocolVersion::V5));
    let other = world.open(connect("other", ProtocolVersion::V5));
    world.subscribe_with(desk, "#", SubscriptionOptions { no_local: true, ..SubscriptionOptions::default() });
    world.publish(desk, publish(LEVEL, b"mine", QoS::AtMostOnce));
    world.publish(other, publish(LEVEL, b"theirs", QoS::AtMostOnce));
    let arrived = messages(&world.events(desk));
    assert_eq!(arrived.iter().map(|message| &message.payload[..]).collect::<Vec<_>>(), [b"theirs"]);
}

#[test]
fn unsubscribing_ends_delivery_and_says_what_was_not_there() {
    let mut world = World::default();
    let desk = world.open(connect("duty-desk", ProtocolVersion::V5));
    world.subscribe(desk, "#", QoS::AtMostOnce);
    assert_eq!(reasons(&world.unsubscribe(desk, "#")), [ReasonCode::Success]);
    assert_eq!(reasons(&world.unsubscribe(desk, "#")), [ReasonCode::NoSubscriptionExisted]);
    world.publish(desk, publish(LEVEL, b"1", QoS::AtMostOnce));
    assert_eq!(messages(&world.events(desk)), []);
    assert_eq!(world.subscription_count(), 0);
}

#[test]
fn the_will_is_published_unless_the_client_says_goodbye() {
    both_versions(|version| {
        let mut world = World::default();
        let desk = world.open(connect("duty-desk", version));
        world.subscribe(desk, "harrowmere/+/+/status", QoS::AtLeastOnce);
        let with_will = || {
            let mut connect = connect("kettle-weir", version);
            connect.will = Some(Will::new(STATUS.parse().unwrap(), "offline", QoS::AtLeastOnce, true));
            connect
        };
        let station = world.open(with_will());
        world.disconnect(station);
        assert_eq!(messages(&world.events(desk)), []);

        let station = world.open(with_will());
        world.break_connection(station);
        let arrived = messages(&world.events(desk));
        assert_eq!((arrived.len(), &arrived[0].payload[..]), (1, &b"offline"[..]));
        assert!(!arrived[0].retain, "live, not retained, for one who had subscribed");

        let station = world.open(with_will());
        world.inject(station, &Packet::PingResp);
        assert_eq!(messages(&world.events(desk)).len(), 1, "after a protocol error");
        assert_eq!(world.retained_count(), 1);
    });
}

#[test]
fn disconnecting_with_reason_4_publishes_the_will() {
    let mut world = World::default();
    let desk = world.open(connect("duty-desk", ProtocolVersion::V5));
    world.subscribe(desk, "#", QoS::AtMostOnce);
    let mut connect = connect("kettle-weir", ProtocolVersion::V5);
    connect.will = Some(Will::new(STATUS.parse().unwrap(), "asleep", QoS::AtMostOnce, false));
    let station = world.open(connect);
    let packet = Disconnect { reason: ReasonCode::DisconnectWithWill, properties: DisconnectProperties::default() };
    world.inject(station, &Packet::Disconnect(packet));
    assert_eq!(&messages(&world.events(desk))[0].payload[..], b"asleep");
}

#[test]
fn silence_longer_than_one_and_a_half_keep_alives_ends_the_connection() {
    both_versions(|version| {
        let mut world = World::default();
        let mut asked = connect("cold-tor", version);
        asked.keep_alive = 20;
        let gauge = world.open(asked);
        world.mute(gauge);
        world.advance(Duration::from_secs(29));
        assert!(world.is_open(gauge));
        world.inject(gauge, &Packet::PingReq);
        world.advance(Duration::from_secs(29));
        assert!(world.is_open(gauge), "a ping counts as life");
        world.advance(Duration::from_secs(1));
        assert!(!world.is_open(gauge));
        assert!(world.ending(gauge).contains("Keep Alive timeout: no packet for 30 s"), "{}", world.ending(gauge));
    });
}

#[test]
fn a_client_keeps_itself_alive() {
    let mut world = World::default();
    let mut asked = connect("cold-tor", ProtocolVersion::V5);
    asked.keep_alive = 20;
    let gauge = world.open(asked);
    for _ in 0..100 {
        world.advance(Duration::from_secs(10));
    }
    assert!(world.is_open(gauge));
}

#[test]
fn a_second_connection_takes_over_and_the_first_is_told() {
    let mut world = World::default();
    let first = world.open(connect("kettle-weir", ProtocolVersion::V5));
    let second = world.open(connect("kettle-weir", ProtocolVersion::V5));
    assert!(closed(&world.events(first)).contains("Session taken over, 0x8E"));
    assert!(world.is_open(second) && !world.is_open(first));
}

#[test]
fn the_will_of_the_one_taken_over_comes_before_the_newcomer_s_messages() {
    let mut world = World::default();
    let desk = world.open(connect("duty-desk", ProtocolVersion::V5));
    world.subscribe(desk, "#", QoS::AtMostOnce);
    let mut with_will = connect("kettle-weir", ProtocolVersion::V5);
    with_will.will = Some(Will::new(STATUS.parse().unwrap(), "offline", QoS::AtMostOnce, true));
    world.open(with_will.clone());
    let second = world.open(with_will);
    world.publish(second, Publish { retain: true, ..publish(STATUS, b"online", QoS::AtMostOnce) });
    let arrived: Vec<_> = messages(&world.events(desk)).into_iter().map(|message| message.payload).collect();
    assert_eq!(arrived, ["offline", "online"]);
}

#[test]
fn no_more_is_sent_than_the_client_takes_unacknowledged() {
    let mut world = World::default();
    let station = world.open(connect("kettle-weir", ProtocolVersion::V5));
    let mut asked = connect("duty-desk", ProtocolVersion::V5);
    asked.properties.receive_maximum = std::num::NonZeroU16::new(2);
    let desk = world.open(asked);
    world.subscribe(desk, "#", QoS::AtLeastOnce);
    world.mute(desk);
    for number in 0..5 {
        world.publish(station, publish(LEVEL, format!("{number}").as_bytes(), QoS::AtLeastOnce));
    }
    assert_eq!((world.in_flight(desk), world.waiting(desk)), (2, 3));
    world.unmute(desk);
    let payloads: Vec<_> = messages(&world.events(desk)).into_iter().map(|message| message.payload).collect();
    assert_eq!(payloads, ["0", "1", "2", "3", "4"], "in order, none lost");
    assert_eq!((world.in_flight(desk), world.waiting(desk)), (0, 0));
}

#[test]
fn a_message_that_expires_while_it_waits_is_withheld() {
    let mut world = World::default();
    let station = world.open(connect("kettle-weir", ProtocolVersion::V5));
    let mut asked = connect("duty-desk", ProtocolVersion::V5);
    asked.properties.receive_maximum = std::num::NonZeroU16::new(1);
    let desk = world.open(asked);
    world.subscribe(desk, "#", QoS::AtLeastOnce);
    world.mute(desk);
    for life in [None, Some(10), Some(60)] {
        let mut message = publish(LEVEL, b"1.83", QoS::AtLeastOnce);
        message.properties.message_expiry_interval = life;
        world.publish(station, message);
    }
    world.advance(Duration::from_secs(15));
    world.unmute(desk);
    let lives: Vec<_> =
        messages(&world.events(desk)).iter().map(|message| message.properties.message_expiry_interval).collect();
    assert_eq!(lives, [None, Some(45)]);
    assert_eq!(world.withheld(desk), [Withheld::Expired]);
}

#[test]
fn what_is_too_large_for_one_client_is_withheld_from_it_alone() {
    let mut world = World::default();
    let mut asked = connect("small", ProtocolVersion::V5);
    asked.properties.maximum_packet_size = std::num::NonZeroU32::new(100);
    let small = world.open(asked);
    let large = world.open(connect("large", ProtocolVersion::V5));
    world.subscribe(small, "#", QoS::AtMostOnce);
    world.subscribe(large, "#", QoS::AtMostOnce);
    world.publish(large, publish(LEVEL, &[b'x'; 200], QoS::AtMostOnce));
    assert_eq!(messages(&world.events(small)).len(), 0);
    assert_eq!(messages(&world.events(large)).len(), 1);
    assert_eq!(world.withheld(small), [Withheld::TooLarge]);
}

#[test]
fn a_message_loses_the_time_it_waited_and_dies_when_its_life_is_over() {
    let mut world = World::default();
    let desk = world.open(connect("duty-desk", ProtocolVersion::V5));
    let mut command = Publish { retain: true, ..publish("gate/target", b"40", QoS::AtMostOnce) };
    command.properties.message_expiry_interval = Some(60);
    command.properties.content_type = Some("application/json".into());
    world.publish(desk, command);
    world.advance(Duration::from_secs(25));
    world.subscribe(desk, "gate/#", QoS::AtMostOnce);
    let arrived = messages(&world.events(desk));
    assert_eq!(arrived[0].properties.message_expiry_interval, Some(35));
    assert_eq!(arrived[0].properties.content_type.as_deref(), Some("application/json"));
    world.advance(Duration::from_secs(35));
    world.subscribe(desk, "gate/#", QoS::AtMostOnce);
    assert_eq!(messages(&world.events(desk)), []);
}

#[test]
fn what_the_rules_refuse_is_said_in_5_0_and_recorded_in_both() {
    both_versions(|version| {
        let mut world = World::with_blueprint(
            "name = \"harrowmere\"\n[[rules]]\nname = \"auditor-reads\"\nwho = { identity = \"auditor\" }\n\
             may = [\"subscribe\"]\ntopics = [\"harrowmere/#\"]\n",
        );
        let auditor = world.open(connect("auditor", version));
        world.publish(auditor, publish("harrowmere/gate", b"40", QoS::AtLeastOnce));
        let events = world.events(auditor);
        let sentence = "auditor is not allowed to publish to harrowmere/gate: no rule allows it. No rule allows \
                        auditor to publish \
                        anywhere.";
        assert_eq!(world.refusals(auditor), [sentence]);
        match version {
            ProtocolVersion::V5 => {
                assert_eq!(reasons(&events), [ReasonCode::NotAuthorized]);
                assert_eq!(words(&events), sentence);
            }
            ProtocolVersion::V311 => assert_eq!(reasons(&events), [ReasonCode::Success]),
        }
        let refused = world.subscribe(auditor, "#", QoS::AtMostOnce);
        let expected = if version == ProtocolVersion::V5 { ReasonCode::NotAuthorized } else { ReasonCode::Unspecified };
        assert_eq!(reasons(&refused), [expected]);
        let granted = world.subscribe(auditor, "harrowmere/#", QoS::AtMostOnce);
        assert_eq!(reasons(&granted), [ReasonCode::Success]);
    });
}

#[test]
fn a_will_that_could_never_be_published_is_refused_at_connect() {
    let mut world = World::with_blueprint("name = \"empty\"");
    let mut asked = connect("auditor", ProtocolVersion::V5);
    asked.will = Some(Will::new(STATUS.parse().unwrap(), "offline", QoS::AtMostOnce, false));
    let auditor = world.begin(asked);
    let events = world.events(auditor);
    let [Event::Refused { reason: ReasonCode::NotAuthorized, reason_string: Some(words) }] = &events[..] else {
        panic!("{events:?}")
    };
    assert!(
        words.starts_with(
            "The Will Message was refused. auditor is not allowed to publish to harrowmere/gorge/kettle-weir/status"
        ),
        "{words}"
    );
}

#[test]
fn a_denied_part_of_an_allowed_filter_is_withheld() {
    let mut world = World::with_blueprint(
        "name = \"harrowmere\"\n[[rules]]\nname = \"all\"\nwho = \"everyone\"\nmay = [\"publish\", \"subscribe\"]\n\
         topics = [\"harrowmere/#\"]\n[[rules]]\nname = \"no-gates\"\nwho = { identity = \"auditor\" }\nnever = \
         [\"subscribe\"]\ntopics = [\"harrowmere/gate/#\"]\n",
    );
    let auditor = world.open(connect("auditor", ProtocolVersion::V5));
    world.subscribe(auditor, "harrowmere/#", QoS::AtMostOnce);
    world.publish(auditor, publish("harrowmere/gate/target", b"40", QoS::AtMostOnce));
    world.publish(auditor, publish("harrowmere/level", b"1.8", QoS::AtMostOnce));
    assert_eq!(messages(&world.events(auditor)).len(), 1);
    assert_eq!(world.withheld(auditor), [Withheld::NotAllowed]);
}

#[test]
fn client_identifiers_are_assigned_or_refused_as_the_version_says() {
    let mut world = World::default();
    let assigned = world.begin(connect("", ProtocolVersion::V5));
    let events = world.events(assigned);
    let [Event::Connected(connack)] = &events[..] else { panic!("{events:?}") };
    assert!(connack.properties.assigned_client_identifier.is_some());
    assert_eq!((connack.properties.maximum_qos, connack.session_present), (None, false));

    let mut stateful = connect("", ProtocolVersion::V311);
    stateful.clean_start = false;
    let refused = world.begin(stateful);
    assert!(matches!(
        &world.events(refused)[..],
        [Event::Refused { reason: ReasonCode::ClientIdentifierNotValid, .. }]
    ));
    let control = world.begin(connect("a\u{1b}[31m", ProtocolVersion::V5));
    assert!(matches!(
        &world.events(control)[..],
        [Event::Refused { reason: ReasonCode::ClientIdentifierNotValid, .. }]
    ));
}

#[test]
fn limits_are_refused_in_words() {
    let limits = Limits { subscriptions: 1, topic_levels: 3, topic_bytes: 20, ..Limits::default() };
    let mut world = World::with_limits(limits);
    let desk = world.open(connect("duty-desk", ProtocolVersion::V5));
    assert_eq!(reasons(&world.subscribe(desk, "a/b", QoS::AtMostOnce)), [ReasonCode::Success]);
    let full = world.subscribe(desk, "a/c", QoS::AtMostOnce);
    assert_eq!(
        (reasons(&full), words(&full).as_str()),
        (
            vec![ReasonCode::QuotaExceeded],
            "The limit of 1 subscription in one session is reached. Unsubscribe from some, or raise `subscriptions` in \
             `[limits]`."
        )
    );
    world.publish(desk, publish("a/b/c/d", b"", QoS::AtLeastOnce));
    assert_eq!(reasons(&world.events(desk)), [ReasonCode::TopicNameInvalid]);
    assert_eq!(
        reasons(&world.subscribe(desk, "a/b", QoS::AtMostOnce)),
        [ReasonCode::Success],
        "replacing is no growth"
    );
}

#[test]
fn a_full_store_of_retained_messages_refuses_the_publisher() {
    let mut world = World::with_limits(Limits { retained_messages: 1, ..Limits::default() });
    let desk = world.open(connect("duty-desk", ProtocolVersion::V5));
    for (topic, expected) in [("a", ReasonCode::NoMatchingSubscribers), ("b", ReasonCode::QuotaExceeded)] {
        world.publish(desk, Publish { retain: true, ..publish(topic, b"1", QoS::AtLeastOnce) });
        assert_eq!(reasons(&world.events(desk)), [expected]);
    }
}

#[test]
fn what_breaks_the_protocol_ends_the_connection_with_its_reason() {
    let mut aliased = publish(LEVEL, b"1", QoS::AtMostOnce);
    aliased.properties.topic_alias = std::num::NonZeroU16::new(33);
    let mut identified = publish(LEVEL, b"1", QoS::AtMostOnce);
    identified.properties.subscription_identifiers = vec![VariableInt(std::num::NonZeroU32::MIN)];
    for (packet, expected) in [
        (Packet::Connect(Box::new(connect("again", ProtocolVersion::V5))), "Protocol Error, 0x82"),
        (Packet::Auth(Auth { reason: ReasonCode::ReAuthenticate, properties: AuthProperties::default() }), "0x82)"),
        (Packet::Publish(aliased), "Topic Alias invalid, 0x94"),
        (Packet::Publish(identified), "Protocol Error, 0x82"),
    ] {
        let mut world = World::default();
        let stranger = world.open(connect("stranger", ProtocolVersion::V5));
        world.inject(stranger, &packet);
        let events = world.events(stranger);
        assert!(closed(&events).contains(expected), "{events:?}");
    }
}

#[test]
fn bytes_that_are_no_packet_end_the_connection_and_nothing_else() {
    let mut world = World::default();
    let stranger = world.open(connect("stranger", ProtocolVersion::V5));
    let desk = world.open(connect("duty-desk", ProtocolVersion::V5));
    world.inject_bytes(stranger, &[0x82, 0x06, 0, 1, 0, 0, 5, b'a']);
    assert!(closed(&world.events(stranger)).contains("Malformed Packet, 0x81"));
    let misplaced = world.open(connect("stranger", ProtocolVersion::V5));
    world.inject_bytes(misplaced, &[0x82, 0x08, 0, 1, 0, 0, 2, b'a', b'#', 0]);
    let events = world.events(misplaced);
    assert!(closed(&events).contains("Topic Filter invalid, 0x8F") && closed(&events).contains("byte 1"), "{events:?}");
    assert!(world.is_open(desk));
}

#[test]
fn an_unknown_protocol_version_is_answered_in_the_nearest_form() {
    for (level, expected) in [(3, vec![0x20, 2, 0, 1]), (6, vec![0x20])] {
        let mut world = World::default();
        let stranger = world.begin_silent();
        world.inject_bytes(stranger, &[0x10, 12, 0, 4, b'M', b'Q', b'T', b'T', level, 2, 0, 0, 0, 0]);
        assert!(world.raw(stranger).starts_with(&expected), "{:?}", world.raw(stranger));
        assert!(!world.is_open(stranger));
    }
}

#[test]
fn a_connection_that_says_nothing_is_closed() {
    let mut world = World::default();
    let stranger = world.begin_silent();
    world.advance(Duration::from_secs(9));
    assert_eq!(world.ending(stranger), "");
    world.advance(Duration::from_secs(1));
    assert_eq!(world.ending(stranger), "No CONNECT arrived in time.");
}

#[test]
fn packets_right_behind_connect_are_served_in_order_after_it() {
    let mut world = World::default();
    let eager = world.begin_silent();
    let mut bytes = bytes::BytesMut::new();
    let version = ProtocolVersion::V311;
    Packet::Connect(Box::new(connect("eager", version))).encode(version, &mut bytes).unwrap();
    message(&mut bytes, version, "#");
    Packet::PingReq.encode(version, &mut bytes).unwrap();
    world.inject_bytes(eager, &bytes);
    assert_eq!(world.raw(eager), [0x20, 2, 0, 0, 0x90, 3, 0, 1, 0, 0xd0, 0]);
}
