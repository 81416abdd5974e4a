//! Properties of 5.0: passed on, honoured, or refused as the standard says (§2.2.2).

use std::num::{NonZeroU16, NonZeroU32};

use moorfall_core::{Limits, session::Withheld};
use moorfall_wire::*;

use crate::world::{World, closed, connect, messages, publish, reasons, words};

const LEVEL: &str = "harrowmere/gorge/kettle-weir/stage/level";

#[test]
fn everything_that_is_the_publishers_is_passed_on_as_it_was() {
    let mut world = World::default();
    let desk = world.open(connect("duty-desk", ProtocolVersion::V5));
    world.subscribe(desk, "#", QoS::AtMostOnce);
    let older = world.open(connect("older", ProtocolVersion::V311));
    world.subscribe(older, "#", QoS::AtMostOnce);
    let mut message = publish(LEVEL, b"{\"m\":1.83}", QoS::AtMostOnce);
    let pair = |name: &str, value: &str| UserProperty { name: name.into(), value: value.into() };
    message.properties = PublishProperties {
        payload_format_indicator: Some(true),
        content_type: Some("application/json".into()),
        response_topic: Some("harrowmere/answers".into()),
        correlation_data: Some("\u{0}\u{1}".into()),
        user_properties: vec![pair("b", "1"), pair("a", "2"), pair("b", "1")],
        ..PublishProperties::default()
    };
    world.publish(desk, message.clone());
    assert_eq!(messages(&world.events(desk))[0].properties, message.properties, "in order, repeats included");
    assert!(messages(&world.events(older))[0].properties.is_empty());
}

#[test]
fn a_payload_that_is_said_to_be_text_is_looked_at() {
    let mut world = World::default();
    let desk = world.open(connect("duty-desk", ProtocolVersion::V5));
    for (indicator, expected) in [
        (None, ReasonCode::NoMatchingSubscribers),
        (Some(false), ReasonCode::NoMatchingSubscribers),
        (Some(true), ReasonCode::PayloadFormatInvalid),
    ] {
        let mut message = publish(LEVEL, b"level \xff", QoS::ExactlyOnce);
        message.properties.payload_format_indicator = indicator;
        world.publish(desk, message);
        let events = world.events(desk);
        assert_eq!(reasons(&events), [expected]);
        assert_eq!(words(&events).contains("from byte 6 on"), expected.is_error());
    }
    let mut asked = connect("kettle-weir", ProtocolVersion::V5);
    let mut will = Will::new(LEVEL.parse().unwrap(), vec![0xff], QoS::AtMostOnce, false);
    will.properties.payload_format_indicator = Some(true);
    asked.will = Some(will);
    let station = world.begin(asked);
    assert!(!world.is_open(station) && world.ending(station).contains("The Will Message"), "{}", world.ending(station));
}

#[test]
fn subscription_identifiers_come_back_also_several_and_change_with_the_subscription() {
    let mut world = World::default();
    let desk = world.open(connect("duty-desk", ProtocolVersion::V5));
    world.subscribe_as(desk, "harrowmere/#", 7);
    world.subscribe_as(desk, "+/gorge/#", 268_435_455);
    let identifiers = |world: &mut World| {
        world.publish_unheard(LEVEL, "1", QoS::AtLeastOnce);
        let arrived = messages(&world.events(desk)).remove(0);
        let mut numbers: Vec<_> = arrived.properties.subscription_identifiers.iter().map(|id| id.0.get()).collect();
        numbers.sort_unstable();
        numbers
    };
    assert_eq!(identifiers(&mut world), [7, 268_435_455]);
    world.subscribe_as(desk, "harrowmere/#", 9);
    assert_eq!(identifiers(&mut world), [9, 268_435_455], "replaced");
    world.subscribe(desk, "+/gorge/#", QoS::AtMostOnce);
    assert_eq!(identifiers(&mut world), [9], "taken away");
    // A retained message carries that of the subscription which brings it.
    let station = world.open(connect("kettle-weir", ProtocolVersion::V5));
    world.publish(station, Publish { retain: true, ..publish(LEVEL, b"1", QoS::AtMostOnce) });
    world.events(desk);
    world.subscribe_as(desk, LEVEL, 11);
    let retained = messages(&world.events(desk)).remove(0);
    assert_eq!(retained.properties.subscription_identifiers, [VariableInt(NonZeroU32::new(11).unwrap())]);
}

#[test]
fn topic_aliases_are_understood_and_given() {
    let mut world = World::default();
    let desk = world.open(connect("duty-desk", ProtocolVersion::V5));
    world.subscribe(desk, "#", QoS::AtMostOnce);
    let mut asked = connect("short", ProtocolVersion::V5);
    asked.properties.topic_alias_maximum = Some(1);
    let short = world.open_raw(asked);
    world.subscribe_raw(short, "#", QoS::AtMostOnce);
    world.packets(short);

    let alias = NonZeroU16::new(32);
    let mut message = publish(LEVEL, b"1", QoS::AtMostOnce);
    message.properties.topic_alias = alias;
    world.inject(desk, &Packet::Publish(message.clone()));
    message.topic = TopicName::default();
    world.inject(desk, &Packet::Publish(message));
    world.inject(desk, &Packet::Publish(publish("harrowmere/tidal/barrier", b"2", QoS::AtMostOnce)));
    let topics: Vec<_> = messages(&world.events(desk)).into_iter().map(|message| message.topic).collect();
    assert_eq!(topics.iter().map(|topic| &**topic).collect::<Vec<_>>(), [LEVEL, LEVEL, "harrowmere/tidal/barrier"]);

    let seen: Vec<_> = world
        .packets(short)
        .into_iter()
        .filter_map(|packet| if let Packet::Publish(publish) = packet { Some(publish) } else { None })
        .map(|publish| (publish.topic.to_string(), publish.properties.topic_alias.map(NonZeroU16::get)))
        .collect();
    let expected = [(LEVEL, Some(1)), ("", Some(1)), ("harrowmere/tidal/barrier", None)];
    assert_eq!(seen, expected.map(|(topic, alias)| (topic.to_owned(), alias)));
}

#[test]
fn an_alias_that_was_never_sent_is_not_used() {
    let mut world = World::default();
    let mut asked = connect("small", ProtocolVersion::V5);
    asked.properties.topic_alias_maximum = Some(1);
    asked.properties.maximum_packet_size = NonZeroU32::new(100);
    let small = world.open(asked);
    world.subscribe(small, "#", QoS::ExactlyOnce);
    for size in [200, 1, 1] {
        world.publish_unheard(LEVEL, &"x".repeat(size), QoS::ExactlyOnce);
    }
    // The first was too large to be sent, so the second one brings the topic.
    assert!(world.is_open(small), "{}", world.ending(small));
    assert_eq!(messages(&world.events(small)).iter().filter(|message| *message.topic == *LEVEL).count(), 2);
}

#[test]
fn an_alias_that_stands_for_nothing_is_a_protocol_error_and_zero_is_none() {
    let mut unknown = publish(LEVEL, b"1", QoS::AtMostOnce);
    unknown.topic = TopicName::default();
    unknown.properties.topic_alias = NonZeroU16::new(3);
    let mut world = World::default();
    let station = world.open(connect("kettle-weir", ProtocolVersion::V5));
    world.inject(station, &Packet::Publish(unknown));
    assert!(closed(&world.events(station)).contains("Protocol Error, 0x82"));
    let station = world.open(connect("kettle-weir", ProtocolVersion::V5));
    world.inject_bytes(station, &[0x30, 7, 0, 1, b'a', 3, 0x23, 0, 0]);
    assert!(closed(&world.events(station)).contains("Topic Alias invalid, 0x94"));
}

#[test]
fn a_client_that_wants_no_reasons_gets_none_but_in_its_refusal() {
    let mut world = World::default();
    let mut asked = connect("duty-desk", ProtocolVersion::V5);
    asked.properties.request_problem_information = Some(false);
    let desk = world.open(asked.clone());
    let refused = world.subscribe(desk, "$share/models", QoS::AtMostOnce);
    assert_eq!((reasons(&refused), words(&refused)), (vec![ReasonCode::TopicFilterInvalid], String::new()));
    // CONNACK and DISCONNECT may say it all the same.
    world.inject(desk, &Packet::PingResp);
    assert!(closed(&world.events(desk)).contains("which is not allowed here"));
}

#[test]
fn nothing_larger_than_the_client_takes_is_sent() {
    let mut world = World::default();
    let mut asked = connect("duty-desk", ProtocolVersion::V5);
    asked.properties.maximum_packet_size = NonZeroU32::new(60);
    let desk = world.open(asked);
    world.subscribe(desk, "$share/models", QoS::AtMostOnce);
    world.subscribe(desk, "#", QoS::ExactlyOnce);
    for size in [1, 10, 100] {
        world.publish_unheard("gate", &"x".repeat(size), QoS::ExactlyOnce);
    }
    assert_eq!(messages(&world.events(desk)).len(), 2);
    assert_eq!((world.withheld(desk), world.in_flight(desk)), (&[Withheld::TooLarge][..], 0));
}

#[test]
fn what_only_a_server_may_send_is_refused() {
    let mut world = World::with_limits(Limits::default());
    let station = world.open(connect("kettle-weir", ProtocolVersion::V5));
    let properties =
        DisconnectProperties { server_reference: Some("elsewhere".into()), ..DisconnectProperties::default() };
    world.inject(station, &Packet::Disconnect(Disconnect { reason: ReasonCode::Success, properties }));
    assert!(closed(&world.events(station)).contains("Protocol Error, 0x82"));
}

#[test]
fn an_authentication_method_that_is_not_offered_is_refused() {
    let mut world = World::default();
    let mut asked = connect("duty-desk", ProtocolVersion::V5);
    asked.properties.authentication_method = Some("SCRAM-SHA-256".into());
    let desk = world.begin(asked);
    let events = world.events(desk);
    let [moorfall_core::client::Event::Refused { reason, reason_string }] = &events[..] else { panic!("{events:?}") };
    assert_eq!(*reason, ReasonCode::BadAuthenticationMethod);
    assert!(reason_string.as_deref().is_some_and(|words| words.contains("SCRAM-SHA-256")));
}
