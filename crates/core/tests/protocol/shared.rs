//! Shared subscriptions (§4.8.2).

use moorfall_wire::*;

use crate::{
    handshakes::keeping,
    world::{World, connect, messages, reasons},
};

const LEVEL: &str = "harrowmere/gorge/kettle-weir/stage/level";
const SHARED: &str = "$share/models/harrowmere/#";

fn member(world: &mut World, name: &str, qos: QoS) -> usize {
    let member = world.open(connect(name, ProtocolVersion::V5));
    assert_eq!(reasons(&world.subscribe(member, SHARED, qos))[0] as u8, qos.level());
    member
}

fn received(world: &mut World, peer: usize) -> Vec<String> {
    let events = world.events(peer);
    messages(&events).iter().map(|message| String::from_utf8_lossy(&message.payload).into_owned()).collect()
}

#[test]
fn each_message_goes_to_one_member_and_to_all_others_who_subscribed() {
    let mut world = World::default();
    let members: Vec<_> = ["a", "b", "c"].iter().map(|name| member(&mut world, name, QoS::AtLeastOnce)).collect();
    let desk = world.open(connect("duty-desk", ProtocolVersion::V5));
    world.subscribe(desk, "harrowmere/#", QoS::AtLeastOnce);
    for number in 0..30 {
        world.publish_unheard(LEVEL, &number.to_string(), QoS::AtLeastOnce);
    }
    let counts: Vec<_> = members.iter().map(|peer| received(&mut world, *peer).len()).collect();
    assert_eq!(counts, [10, 10, 10]);
    assert_eq!(received(&mut world, desk).len(), 30);
}

#[test]
fn the_qos_is_that_of_the_member() {
    let mut world = World::default();
    let modest = member(&mut world, "modest", QoS::AtMostOnce);
    world.publish_unheard(LEVEL, "1", QoS::ExactlyOnce);
    assert_eq!(messages(&world.events(modest))[0].qos, QoS::AtMostOnce);
}

#[test]
fn a_member_that_takes_nothing_is_passed_over() {
    let mut world = World::default();
    let mut slow = connect("slow", ProtocolVersion::V5);
    slow.properties.receive_maximum = std::num::NonZeroU16::new(1);
    let slow = world.open(slow);
    world.subscribe(slow, SHARED, QoS::AtLeastOnce);
    let quick = member(&mut world, "quick", QoS::AtLeastOnce);
    world.mute(slow);
    for number in 0..20 {
        world.publish_unheard(LEVEL, &number.to_string(), QoS::AtLeastOnce);
    }
    assert_eq!((received(&mut world, quick).len(), world.in_flight(slow)), (19, 1));
}

#[test]
fn what_one_member_left_goes_to_another() {
    let mut world = World::default();
    let first = member(&mut world, "first", QoS::AtLeastOnce);
    world.mute(first);
    for number in 0..3 {
        world.publish_unheard(LEVEL, &number.to_string(), QoS::AtLeastOnce);
    }
    let second = member(&mut world, "second", QoS::AtLeastOnce);
    assert_eq!(received(&mut world, second).len(), 0);
    world.break_connection(first);
    assert_eq!(received(&mut world, second), ["0", "1", "2"], "in order");
}

#[test]
fn a_qos_2_message_that_was_sent_goes_to_nobody_else() {
    let mut world = World::default();
    let first = member(&mut world, "first", QoS::ExactlyOnce);
    world.mute(first);
    world.publish_unheard(LEVEL, "sent", QoS::ExactlyOnce);
    let second = member(&mut world, "second", QoS::ExactlyOnce);
    world.break_connection(first);
    assert_eq!(received(&mut world, second), [""; 0]);
}

#[test]
fn a_qos_2_hand_shake_is_completed_with_the_member_that_comes_back() {
    let mut world = World::default();
    let first = world.open_raw(keeping("first", ProtocolVersion::V5));
    world.subscribe_raw(first, SHARED, QoS::ExactlyOnce);
    world.publish_unheard(LEVEL, "sent", QoS::ExactlyOnce);
    let second = member(&mut world, "second", QoS::ExactlyOnce);
    world.break_connection(first);
    let again = world.begin(keeping("first", ProtocolVersion::V5));
    assert_eq!((received(&mut world, again), received(&mut world, second)), (vec!["sent".into()], vec![]));
}

#[test]
fn members_that_are_away_are_passed_over_and_get_the_rest_when_alone() {
    let mut world = World::default();
    let away = world.open(keeping("away", ProtocolVersion::V5));
    world.subscribe(away, SHARED, QoS::AtLeastOnce);
    let here = member(&mut world, "here", QoS::AtLeastOnce);
    world.disconnect(away);
    world.publish_unheard(LEVEL, "1", QoS::AtLeastOnce);
    world.publish_unheard(LEVEL, "2", QoS::AtLeastOnce);
    assert_eq!(received(&mut world, here), ["1", "2"]);
    world.disconnect(here);
    world.publish_unheard(LEVEL, "3", QoS::AtLeastOnce);
    let back = world.begin(keeping("away", ProtocolVersion::V5));
    assert_eq!(received(&mut world, back), ["3"], "nobody was there, so it waited");
}

#[test]
fn no_retained_messages_come_by_a_shared_subscription() {
    let mut world = World::default();
    let station = world.open(connect("kettle-weir", ProtocolVersion::V5));
    let message = crate::world::publish(LEVEL, b"1", QoS::AtLeastOnce);
    world.publish(station, Publish { retain: true, ..message });
    let only = member(&mut world, "only", QoS::AtLeastOnce);
    assert_eq!(received(&mut world, only), [""; 0]);
}

#[test]
fn a_shared_filter_that_is_none_is_refused() {
    let mut world = World::default();
    let desk = world.open(connect("duty-desk", ProtocolVersion::V5));
    for filter in ["$share/models", "$share//harrowmere", "$share/models/"] {
        assert_eq!(
            reasons(&world.subscribe(desk, filter, QoS::AtMostOnce)),
            [ReasonCode::TopicFilterInvalid],
            "{filter}"
        );
    }
    let own = SubscriptionOptions { no_local: true, ..SubscriptionOptions::default() };
    let mut bytes = bytes::BytesMut::new();
    // [MQTT-3.8.3-4]: written by hand, since the encoder refuses it.
    bytes.extend_from_slice(&[0x82, 0]);
    bytes.extend_from_slice(&[0, 1, 0, 0, SHARED.len() as u8]);
    bytes.extend_from_slice(SHARED.as_bytes());
    bytes.extend_from_slice(&[u8::from(own.no_local) << 2]);
    bytes[1] = bytes.len() as u8 - 2;
    world.inject_bytes(desk, &bytes);
    let told = crate::world::closed(&world.events(desk));
    assert!(told.contains("Protocol Error, 0x82"), "{told}");
}
