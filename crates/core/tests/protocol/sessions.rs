//! Sessions that outlive their connections, and wills (§3.1.2.4, §3.1.2.5, §3.1.3.2, §4.1).

use std::time::Duration;

use moorfall_core::{
    Limits,
    client::Event,
    session::{Keep, NEVER, Withheld},
};
use moorfall_wire::*;

use crate::{
    basics::both_versions,
    handshakes::keeping,
    world::{World, closed, connect, messages, publish},
};

const LEVEL: &str = "harrowmere/gorge/kettle-weir/stage/level";
const STATUS: &str = "harrowmere/gorge/kettle-weir/status";

fn seconds(count: u64) -> Duration {
    Duration::from_secs(count)
}

fn connack(world: &mut World, peer: usize) -> ConnAck {
    let events = world.events(peer);
    let Some(Event::Connected(connack)) = events.first() else { panic!("{events:?}") };
    (**connack).clone()
}

/// Asks for a session that outlives its connection by so many seconds.
fn expiring(client_id: &str, expiry: u32, clean_start: bool) -> Connect {
    let mut asked = Connect { clean_start, ..connect(client_id, ProtocolVersion::V5) };
    asked.properties.session_expiry_interval = Some(expiry);
    asked
}

fn with_will(mut asked: Connect, delay: Option<u32>) -> Connect {
    let mut will = Will::new(STATUS.parse().unwrap(), "offline", QoS::AtLeastOnce, false);
    will.properties.will_delay_interval = delay;
    asked.will = Some(will);
    asked
}

/// A desk that sees every status.
fn watching(world: &mut World) -> usize {
    let desk = world.open(connect("watcher", ProtocolVersion::V5));
    world.subscribe(desk, "harrowmere/+/+/status", QoS::AtLeastOnce);
    desk
}

fn wills(world: &mut World, desk: usize) -> usize {
    messages(&world.events(desk)).len()
}

#[test]
fn a_kept_session_goes_on_and_a_clean_start_ends_it() {
    both_versions(|version| {
        let mut world = World::default();
        let first = world.begin(keeping("duty-desk", version));
        assert!(!connack(&mut world, first).session_present);
        world.subscribe(first, "#", QoS::AtLeastOnce);
        world.disconnect(first);
        world.publish_unheard(LEVEL, "1.83", QoS::AtLeastOnce);

        let second = world.begin(keeping("duty-desk", version));
        let events = world.events(second);
        assert!(matches!(&events[0], Event::Connected(connack) if connack.session_present));
        assert_eq!(messages(&events).len(), 1, "what came meanwhile, by the subscription that was kept");
        world.disconnect(second);

        let third = world.begin(connect("duty-desk", version));
        assert!(!connack(&mut world, third).session_present);
        world.publish_unheard(LEVEL, "1.84", QoS::AtLeastOnce);
        assert_eq!(world.events(third), []);
        world.disconnect(third);
        let fourth = world.begin(keeping("duty-desk", version));
        assert!(!connack(&mut world, fourth).session_present, "a clean session leaves nothing");
    });
}

#[test]
fn a_session_ends_when_its_time_is_over() {
    for (expiry, still_there) in [(0, false), (10, false), (11, true), (NEVER, true)] {
        let mut world = World::default();
        let first = world.open(expiring("duty-desk", expiry, false));
        world.subscribe(first, "#", QoS::AtLeastOnce);
        world.break_connection(first);
        world.advance(seconds(10));
        assert_eq!(world.subscription_count(), usize::from(still_there), "{expiry}");
        let again = world.begin(expiring("duty-desk", expiry, false));
        assert_eq!(connack(&mut world, again).session_present, still_there, "{expiry}");
    }
}

#[test]
fn disconnect_may_change_the_time_that_a_session_is_kept() {
    let mut world = World::default();
    let shortened = world.open(expiring("duty-desk", 100, false));
    world.disconnect_with(shortened, ReasonCode::Success, Some(0));
    assert_eq!(world.session_count(), 0);
    let lengthened = world.open(expiring("duty-desk", 5, false));
    world.disconnect_with(lengthened, ReasonCode::Success, Some(100));
    world.advance(seconds(50));
    assert_eq!(world.session_count(), 1);
    let unkept = world.open(connect("cold-tor", ProtocolVersion::V5));
    world.mute(unkept);
    let properties = DisconnectProperties { session_expiry_interval: Some(5), ..DisconnectProperties::default() };
    world.inject(unkept, &Packet::Disconnect(Disconnect { reason: ReasonCode::Success, properties }));
    assert!(
        world.ending(unkept).contains("asked in DISCONNECT for a Session Expiry Interval"),
        "{}",
        world.ending(unkept)
    );
}

#[test]
fn the_broker_may_keep_sessions_for_less_and_says_so() {
    let mut world =
        World::with_limits(Limits { session_expiry_seconds: 60, keep_alive_seconds: 30, ..Limits::default() });
    let desk = world.begin(expiring("duty-desk", NEVER, true));
    let properties = connack(&mut world, desk).properties;
    assert_eq!((properties.session_expiry_interval, properties.server_keep_alive), (Some(60), Some(30)));
    let modest = world.begin(Connect { keep_alive: 20, ..expiring("cold-tor", 10, true) });
    let properties = connack(&mut world, modest).properties;
    assert_eq!((properties.session_expiry_interval, properties.server_keep_alive), (None, None));
}

#[test]
fn a_take_over_goes_on_with_the_session() {
    both_versions(|version| {
        let mut world = World::default();
        let first = world.open(keeping("duty-desk", version));
        world.subscribe(first, "#", QoS::AtLeastOnce);
        let second = world.begin(keeping("duty-desk", version));
        let told = closed(&world.events(first));
        assert_eq!(told.contains("Session taken over, 0x8E"), version == ProtocolVersion::V5, "{told}");
        assert!(connack(&mut world, second).session_present);
        world.publish_unheard(LEVEL, "1.83", QoS::AtLeastOnce);
        assert_eq!(messages(&world.events(second)).len(), 1);
    });
}

#[test]
fn identifiers_of_unreleased_messages_survive_the_connection() {
    let mut world = World::default();
    let desk = world.open(connect("duty-desk", ProtocolVersion::V5));
    world.subscribe(desk, "#", QoS::ExactlyOnce);
    let message = Publish { packet_id: PacketId::new(7), ..publish(LEVEL, b"1", QoS::ExactlyOnce) };
    for expected in [1, 0] {
        let station = world.open_raw(keeping("kettle-weir", ProtocolVersion::V5));
        world.inject(station, &Packet::Publish(Publish { duplicate: expected == 0, ..message.clone() }));
        assert_eq!(messages(&world.events(desk)).len(), expected);
        world.break_connection(station);
    }
}

#[test]
fn a_delayed_will_waits_for_its_time_or_the_end_of_the_session() {
    for (expiry, delay, due) in [(100, 10, 10), (10, 100, 10), (NEVER, 10, 10), (0, 10, 0), (100, 0, 0)] {
        let mut world = World::default();
        let desk = watching(&mut world);
        let station = world.open(with_will(expiring("kettle-weir", expiry, true), Some(delay)));
        world.break_connection(station);
        if due > 0 {
            assert_eq!(wills(&mut world, desk), 0);
            world.advance(seconds(due - 1));
            assert_eq!(wills(&mut world, desk), 0, "{expiry} {delay}");
            world.advance(seconds(1));
        }
        assert_eq!(wills(&mut world, desk), 1, "{expiry} {delay}");
        world.advance(seconds(1_000));
        assert_eq!(wills(&mut world, desk), 0, "once");
    }
}

#[test]
fn a_delayed_will_is_cancelled_by_coming_back_but_not_by_a_clean_start() {
    for (clean_start, expected) in [(false, 0), (true, 1)] {
        let mut world = World::default();
        let desk = watching(&mut world);
        let station = world.open(with_will(expiring("kettle-weir", 100, true), Some(10)));
        world.break_connection(station);
        world.open(expiring("kettle-weir", 100, clean_start));
        world.advance(seconds(50));
        assert_eq!(wills(&mut world, desk), expected, "clean start {clean_start}");
    }
}

#[test]
fn the_will_follows_every_end_but_a_normal_one() {
    type End = fn(&mut World, usize);
    let ends: [(End, usize); 6] = [
        (|world, peer| world.disconnect(peer), 0),
        (|world, peer| world.disconnect_with(peer, ReasonCode::DisconnectWithWill, None), 1),
        (|world, peer| world.break_connection(peer), 1),
        (|world, peer| world.inject(peer, &Packet::PingResp), 1),
        (|world, peer| world.inject_bytes(peer, &[0xff, 0xff]), 1),
        (
            |world, peer| {
                world.mute(peer);
                world.advance(seconds(15));
            },
            1,
        ),
    ];
    for (number, (end, expected)) in ends.into_iter().enumerate() {
        let mut world = World::default();
        let desk = watching(&mut world);
        let asked = Connect { keep_alive: 10, ..connect("kettle-weir", ProtocolVersion::V5) };
        let station = world.open(with_will(asked, None));
        end(&mut world, station);
        assert!(!world.is_open(station));
        assert_eq!(wills(&mut world, desk), expected, "end {number}");
    }
}

#[test]
fn a_will_carries_its_properties() {
    let mut world = World::default();
    let desk = watching(&mut world);
    let mut asked = connect("kettle-weir", ProtocolVersion::V5);
    let mut will = Will::new(STATUS.parse().unwrap(), "offline", QoS::AtLeastOnce, true);
    let pair = UserProperty { name: "cause".into(), value: "link".into() };
    will.properties = WillProperties {
        payload_format_indicator: Some(true),
        message_expiry_interval: Some(60),
        content_type: Some("text/plain".into()),
        response_topic: Some("harrowmere/answers".into()),
        correlation_data: Some("7".into()),
        user_properties: vec![pair.clone(), pair],
        will_delay_interval: None,
    };
    asked.will = Some(will.clone());
    let station = world.open(asked);
    world.break_connection(station);
    let arrived = messages(&world.events(desk)).remove(0).properties;
    assert_eq!(arrived.content_type, will.properties.content_type);
    assert_eq!(arrived.response_topic, will.properties.response_topic);
    assert_eq!(arrived.correlation_data, will.properties.correlation_data);
    assert_eq!(arrived.user_properties, will.properties.user_properties);
    assert_eq!((arrived.message_expiry_interval, arrived.payload_format_indicator), (Some(60), Some(true)));
    assert_eq!(world.retained_count(), 1);
}

#[test]
fn a_subscription_that_the_rules_allow_no_more_is_withdrawn_at_resumption() {
    let rule = |topics: &str| {
        format!(
            "name = \"harrowmere\"\n[[rules]]\nname = \"read\"\nwho = \"everyone\"\n\
             may = [\"subscribe\"]\ntopics = [\"{topics}\"]\n\
             [[rules]]\nname = \"write\"\nwho = \"everyone\"\nmay = [\"publish\"]\ntopics = [\"#\"]\n"
        )
    };
    let mut world = World::with_blueprint(&rule("#"));
    let desk = world.open(keeping("duty-desk", ProtocolVersion::V5));
    world.subscribe(desk, "harrowmere/#", QoS::AtLeastOnce);
    world.subscribe(desk, "tideway/#", QoS::AtLeastOnce);
    world.disconnect(desk);
    for topic in ["tideway/gate", "harrowmere/gate"] {
        world.publish_unheard(topic, topic, QoS::AtLeastOnce);
    }
    world.change_blueprint(&rule("harrowmere/#"));
    let again = world.begin(keeping("duty-desk", ProtocolVersion::V5));
    assert_eq!(world.subscription_count(), 1);
    assert!(
        world.refusals(again)[0].contains("is not allowed to subscribe to tideway/#"),
        "{:?}",
        world.refusals(again)
    );
    // What had been queued meanwhile is not for its eyes any more, and is done with.
    let topics: Vec<_> = messages(&world.events(again)).iter().map(|message| message.topic.to_string()).collect();
    assert_eq!(topics, ["harrowmere/gate"]);
    assert_eq!(world.withheld(again), [Withheld::NotAllowed]);
    assert!(world.kept.iter().any(|keep| matches!(keep, Keep::Done(done) if &*done.message.topic == "tideway/gate")));
}
