//! Sessions in the running service: shared subscriptions, wills that wait, sessions whose time is over.

use moorfall_wire::*;

use crate::{
    harness::{Place, wait},
    peer::{Peer, V5, V311, connect, keeping, publish},
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

#[test]
fn who_is_banned_is_not_let_in_until_it_is_over_and_can_find_out_why() {
    let place = Place::new();
    let service = place.serve_catchment();
    service.identity("auditor", &["kind=person", "operator=county"]);
    let sign_in = |version| {
        let mut sign_in = connect(version, "audit-desk");
        (sign_in.user_name, sign_in.password) = (Some("auditor".into()), Some(b"rotidua".to_vec().into()));
        sign_in.properties.session_expiry_interval = (version == V5).then_some(600);
        sign_in
    };
    let mut auditor = Peer::open_with(service.mqtt, sign_in(V5));
    let ban = service.run(&["sessions", "ban", "--identity", "auditor", "--for", "1h", "--note", "tries gates"]);
    assert!(ban.ok().contains("auditor is not let in for 60 min"), "{ban:?}");
    assert!(
        matches!(auditor.receive(), Some(Packet::Disconnect(bye)) if bye.reason == ReasonCode::AdministrativeAction)
    );
    let kept = service.run(&["sessions", "show", "audit-desk"]);
    assert!(kept.ok().contains("away") && kept.ok().contains("was banned by an administrator"), "{kept:?}");
    for (version, reason) in [(V5, ReasonCode::Banned), (V311, ReasonCode::NotAuthorized)] {
        let mut again = Peer::begin(service.mqtt, sign_in(version));
        assert!(matches!(again.receive(), Some(Packet::ConnAck(ack)) if ack.reason == reason), "{version}");
    }
    // Whoever has not shown who it is learns nothing of it.
    let guess = Connect { password: Some(b"guessed".to_vec().into()), ..sign_in(V5) };
    let mut guesser = Peer::begin(service.mqtt, guess);
    assert!(matches!(guesser.receive(), Some(Packet::ConnAck(ack)) if ack.reason == ReasonCode::BadUserNameOrPassword));
    let events = wait("it is among the events", || {
        let ran = service.run(&["events", "--kind", "refused", "--address", "127.0.0.1"]);
        ran.out.contains("is banned for another").then_some(ran.out)
    });
    assert!(events.contains("as \"auditor\", 127.0.0.1"), "{events}");
    let bans = service.run(&["sessions", "bans"]);
    assert!(bans.ok().contains("auditor") && bans.ok().contains("tries gates"), "{bans:?}");
    service.terminate();

    let service = place.serve(&[]);
    let mut still = Peer::begin(service.mqtt, sign_in(V5));
    assert!(matches!(still.receive(), Some(Packet::ConnAck(ack)) if ack.reason == ReasonCode::Banned));
    service.run(&["sessions", "unban", "auditor"]).ok();
    drop(Peer::resume(service.mqtt, sign_in(V5)));
    assert!(service.run(&["sessions", "unban", "auditor"]).failed().contains("auditor is not banned"));
    service.run(&["sessions", "ban", "--address", "127.0.0.0/8", "--for", "1h"]).ok();
    let mut anybody = Peer::begin(service.mqtt, sign_in(V5));
    assert!(matches!(anybody.receive(), Some(Packet::ConnAck(ack)) if ack.reason == ReasonCode::Banned));
    for (wrong, words) in [
        (&["--address", "weir", "--for", "1h"][..], "is not an address"),
        (&["--identity", "administrator", "--for", "1h"], "is built in and can't be banned"),
        (&["--identity", "auditor", "--for", "900d"], "A ban lasts for 1 to"),
    ] {
        let ran = service.run(&[&["sessions", "ban"], wrong].concat());
        assert!(ran.failed().contains(words), "{ran:?}");
    }
    assert!(service.run(&["audit"]).ok().contains("ban"), "it is audited");
}

#[test]
fn sessions_are_found_sorted_and_ended_by_what_they_are() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let mut weir = Peer::open(service.mqtt, V5, "weir");
    let mut gauges: Vec<Peer> =
        ["gauge-1", "gauge-2", "gauge-3"].iter().map(|name| Peer::open(service.mqtt, V311, name)).collect();
    gauges[1].subscribe("harrowmere/#", QoS::AtLeastOnce);
    weir.publish(1, level(1));
    gauges[1].message();
    let names = |options: &[&str]| {
        let list = service.run(&[&["sessions", "--json"], options].concat()).json();
        let sessions = list["sessions"].as_array().unwrap().iter();
        let names: Vec<String> = sessions.map(|session| session["client_id"].as_str().unwrap().to_owned()).collect();
        (names.join(" "), list["total"].as_u64().unwrap())
    };
    assert_eq!(names(&[]), ("gauge-1 gauge-2 gauge-3 weir".into(), 4));
    assert_eq!(names(&["--reverse", "--limit", "2"]), ("weir gauge-3".into(), 4));
    assert_eq!(names(&["--sort", "in-flight", "--limit", "1"]), ("gauge-2".into(), 4));
    assert_eq!(names(&["--sort", "subscriptions", "--limit", "1"]).0, "gauge-2");
    assert_eq!(names(&["--version", "5.0"]), ("weir".into(), 1));
    assert_eq!(names(&["--address", "127.0.0.1/32", "gauge"]).1, 3);
    assert_eq!(names(&["--address", "192.0.2.7"]).1, 0);
    assert_eq!((names(&["--away"]).1, names(&["--connected"]).1, names(&["--listener", "none"]).1), (0, 4, 0));
    assert!(service.run(&["sessions", "--address", "weir"]).failed().contains("is not an address"));
    let one = service.run(&["sessions", "show", "gauge-2"]);
    assert!(one.ok().contains("subscribes to harrowmere/# at QoS 1") && one.ok().contains("MQTT 3.1.1"), "{one:?}");

    // Only whom the preview names is ended.
    let preview = service.run(&["sessions", "end", "gauge"]);
    assert!(preview.ok().contains("gauge-3") && preview.ok().contains("would end 3 sessions; --yes"), "{preview:?}");
    assert_eq!(names(&[]).1, 4);
    assert!(service.run(&["sessions", "end", "--yes"]).failed().contains("Say which sessions are meant"));
    assert!(service.run(&["sessions", "end", "gauge", "--yes"]).ok().contains("3 sessions ended"));
    assert!(gauges.iter_mut().all(|gauge| gauge.receive().is_none()));
    let busy = ["sessions", "end", "--client", "weir", "--reason", "server-busy", "--yes"];
    assert!(service.run(&busy).ok().contains("1 session ended"));
    assert!(matches!(weir.receive(), Some(Packet::Disconnect(bye)) if bye.reason == ReasonCode::ServerBusy));
    assert!(service.run(&busy).failed().contains("There is no session of weir"));
    // One that is away is forgotten, and one that is kept stays.
    let mut keeper = Peer::open_with(service.mqtt, keeping(V5, "keeper"));
    service.run(&["sessions", "end", "--client", "keeper", "--keep", "--yes"]).ok();
    while keeper.receive().is_some() {}
    assert_eq!(names(&["--away"]), ("keeper".into(), 1));
    service.run(&["sessions", "end", "--away", "--yes"]).ok();
    assert_eq!(names(&[]).1, 0);
}

#[test]
fn how_a_connection_of_3_1_1_ended_is_found_although_it_was_told_nothing() {
    let place = Place::new();
    let config = place.write("small.toml", "[limits]\npacket-bytes = 4096\n");
    let service = place.serve(&["--open", "--config", config.to_str().unwrap()]);
    let mut gauge = Peer::open(service.mqtt, V311, "gauge");
    gauge.send(&Packet::Publish(publish(LEVEL, vec![0; 10_000], QoS::AtMostOnce)));
    assert!(gauge.receive().is_none());
    let event = wait("it is among the events", || {
        let ran = service.run(&["events", "--client-id", "gauge", "--kind", "connection-lost"]);
        ran.out.contains("limit of 4096").then_some(ran.out)
    });
    assert!(event.contains("gauge"), "{event}");
    // It comes back, and its session says how the connection before ended.
    let _again = Peer::open(service.mqtt, V311, "gauge");
    let shown = service.run(&["sessions", "show", "gauge"]);
    assert!(shown.ok().contains("last end") && shown.ok().contains("limit of 4096"), "{shown:?}");
}
