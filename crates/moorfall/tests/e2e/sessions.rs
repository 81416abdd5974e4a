//! Sessions in the running service: shared subscriptions, wills that wait, sessions whose time is over.

use moorfall_wire::*;

use crate::{
    harness::Place,
    peer::{Peer, V5, connect, keeping, publish},
};

const LEVEL: &str = "harrowmere/gorge/kettle-weir/stage/level";
const SHARED: &str = "$share/models/harrowmere/#";

fn text(message: &Publish) -> String {
    String::from_utf8_lossy(&message.payload).into_owned()
}

fn level(number: u16) -> Publish {
    publish(LEVEL, number.to_string().into_bytes(), QoS::AtLeastOnce)
}

#[test]
fn members_of_a_shared_subscription_take_turns() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let mut members = ["a", "b"].map(|name| Peer::open(service.mqtt, V5, name));
    members.iter_mut().for_each(|member| member.subscribe(SHARED, QoS::AtMostOnce));
    // From several connections: the turn is the group's and not a publisher's.
    for number in 0..10 {
        Peer::open(service.mqtt, V5, &format!("station-{number}")).publish(1, level(number));
    }
    service.wait_for("all are sent", |status| status["messages_out"] == 10);
    let counts = members.map(|mut member| {
        member.send(&Packet::PingReq);
        std::iter::from_fn(|| member.receive().filter(|packet| *packet != Packet::PingResp)).count()
    });
    // Who has something waiting is passed over, so the turns need not be even.
    assert!(counts.iter().sum::<usize>() == 10 && counts.iter().all(|count| *count >= 2), "{counts:?}");
}

#[test]
fn what_a_member_leaves_goes_to_another_whether_its_session_is_kept_or_not() {
    for kept in [false, true] {
        let place = Place::new();
        let service = place.serve(&["--open"]);
        let mut asked = if kept { keeping(V5, "leaving") } else { connect(V5, "leaving") };
        asked.properties.receive_maximum = std::num::NonZeroU16::new(2);
        let (mut leaving, _) = Peer::resume(service.mqtt, asked);
        leaving.subscribe(SHARED, QoS::AtLeastOnce);
        let mut station = Peer::open(service.mqtt, V5, "kettle-weir");
        (1..=4).for_each(|number| station.publish(number, level(number)));
        // Two are in flight, and two wait.
        assert_eq!([leaving.message(), leaving.message()].map(|message| text(&message)), ["1", "2"]);
        let mut staying = Peer::open(service.mqtt, V5, "staying");
        staying.subscribe(SHARED, QoS::AtLeastOnce);
        drop(leaving);
        let expected: &[&str] = if kept { &["3", "4"] } else { &["1", "2", "3", "4"] };
        let arrived: Vec<_> = expected.iter().map(|_| text(&staying.message())).collect();
        assert_eq!(arrived, expected, "kept: {kept}");
        if kept {
            // The others wait for the member; when its session ends they are handed on too.
            let (_, present) = Peer::resume(service.mqtt, connect(V5, "leaving"));
            assert!(!present);
            assert_eq!([staying.message(), staying.message()].map(|message| text(&message)), ["1", "2"]);
        }
    }
}

#[test]
fn a_will_that_waits_is_published_in_time_or_cancelled() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let mut desk = Peer::open(service.mqtt, V5, "duty-desk");
    desk.subscribe("harrowmere/+/status", QoS::AtMostOnce);
    let with_will = |name: &str| {
        let mut asked = keeping(V5, name);
        let topic = format!("harrowmere/{name}/status").parse().unwrap();
        let mut will = Will::new(topic, "offline", QoS::AtMostOnce, false);
        will.properties.will_delay_interval = Some(1);
        asked.will = Some(will);
        asked
    };
    let [back, lost] = ["cold-tor", "sallow-head"].map(|name| Peer::resume(service.mqtt, with_will(name)).0);
    drop(back);
    service.wait_for("it is away", |status| status["sessions_away"] == 1);
    let (_back, present) = Peer::resume(service.mqtt, with_will("cold-tor"));
    assert!(present);
    drop(lost);
    // Were the first will not cancelled it would be the first to come.
    assert_eq!(&*desk.message().topic, "harrowmere/sallow-head/status");
}

#[test]
fn a_session_ends_when_its_time_is_over_and_at_once_when_it_is_ended() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let mut short = keeping(V5, "short");
    short.properties.session_expiry_interval = Some(1);
    for asked in [short, keeping(V5, "long")] {
        let (mut peer, _) = Peer::resume(service.mqtt, asked);
        peer.subscribe("#", QoS::AtLeastOnce);
    }
    service.wait_for("one has ended by itself", |status| status["sessions_away"] == 1 && status["subscriptions"] == 1);
    let left = service.run(&["sessions", "--json"]).json();
    assert_eq!(left["sessions"][0]["client_id"], "long");
    assert!(left["sessions"][0]["ends_at"].is_string(), "no session is kept for ever unless the limits say so: {left}");
    // What is over stays over, also after a crash.
    service.wait_for("it is written", |status| status["unwritten"] == 0);
    service.crash();
    let service = place.serve(&["--open"]);
    assert_eq!(service.status()["sessions_away"], 1);
}

#[test]
fn clients_whose_sessions_end_with_them_leave_nothing_to_write() {
    let place = Place::new();
    let host = place.serve_on_another_database();
    let service = &host.service;
    let mut desk = Peer::open(service.mqtt, V5, "duty-desk");
    desk.subscribe("#", QoS::ExactlyOnce);
    host.stop_database();
    let mut station = Peer::open(service.mqtt, V5, "kettle-weir");
    station.publish(1, publish(LEVEL, b"1".to_vec(), QoS::ExactlyOnce));
    let arrived = desk.message();
    desk.acknowledge(&arrived);
    drop(station);
    drop(desk);
    service.wait_for("both are gone", |status| status["sessions"] == 0);
    assert_eq!(service.status()["unwritten"], 0);
}
