//! What survives: the end of the service, in order or not, and of the database.

use moorfall_wire::*;

use crate::{
    harness::{Place, wait},
    peer::{Peer, V5, V311, ack, connect, keeping, publish},
};

const LEVEL: &str = "harrowmere/gorge/kettle-weir/stage/level";

fn text(message: &Publish) -> String {
    String::from_utf8_lossy(&message.payload).into_owned()
}

#[test]
fn retained_messages_that_a_new_subscription_is_still_owed_outlive_the_service() {
    let place = Place::with_private_servers();
    let service = place.serve(&["--open"]);
    let mut station = Peer::open(service.mqtt, V5, "kettle-weir");
    let names = ["gorge", "meadow", "tidal"];
    for (id, name) in (1..).zip(names) {
        let status = publish(&format!("harrowmere/{name}/status"), name.into(), QoS::AtLeastOnce);
        station.publish(id, Publish { retain: true, ..status });
    }
    let one_at_a_time = || {
        let mut connect = keeping(V5, "duty-desk");
        connect.properties.receive_maximum = std::num::NonZeroU16::new(1);
        connect
    };
    let (mut desk, _) = Peer::resume(service.mqtt, one_at_a_time());
    desk.subscribe("harrowmere/+/status", QoS::AtLeastOnce);
    let first = text(&desk.message());
    // Not acknowledged: the others wait behind it.
    service.wait_for("everything is written", |status| status["unwritten"] == 0);
    service.crash();

    let service = place.serve(&["--open"]);
    let (mut desk, present) = Peer::resume(service.mqtt, one_at_a_time());
    assert!(present);
    let mut seen = Vec::new();
    for _ in 0..4 {
        let message = desk.message();
        assert!(message.retain);
        desk.acknowledge(&message);
        // The one that was under way comes again, and says so.
        if message.duplicate {
            assert_eq!(text(&message), first);
        } else {
            seen.push(text(&message));
        }
    }
    seen.sort();
    assert_eq!(seen, names);
    // Once they were sent nothing is owed.
    service.wait_for("everything is written", |status| status["unwritten"] == 0);
    drop(desk);
    service.crash();
    let service = place.serve(&["--open"]);
    let (mut desk, _) = Peer::resume(service.mqtt, one_at_a_time());
    desk.send(&Packet::PingReq);
    assert_eq!(desk.receive(), Some(Packet::PingResp));
}

#[test]
fn a_kept_session_outlives_every_end_of_the_service() {
    for (version, crash) in [(V311, false), (V5, true)] {
        let place = Place::with_private_servers();
        let service = place.serve(&["--open"]);
        let (mut desk, present) = Peer::resume(service.mqtt, keeping(version, "duty-desk"));
        assert!(!present);
        desk.subscribe("harrowmere/#", QoS::ExactlyOnce);
        let mut station = Peer::open(service.mqtt, version, "kettle-weir");
        // In flight: at QoS 1 not acknowledged, at QoS 2 at either half of the handshake.
        for (id, qos) in [(1, QoS::AtLeastOnce), (2, QoS::ExactlyOnce), (3, QoS::ExactlyOnce)] {
            station.publish(id, publish(LEVEL, vec![b'0' + id as u8], qos));
        }
        let sent: Vec<_> = (0..3).map(|_| desk.message()).collect();
        desk.send(&Packet::PubRec(Acknowledgement::success(sent[1].packet_id.unwrap())));
        assert!(matches!(desk.receive(), Some(Packet::PubRel(_))));
        drop(desk);
        service.wait_for("it is away", |status| status["sessions_away"] == 1);
        // Waiting: published while the client is away. Not kept: QoS 0.
        for (id, qos) in [(4, QoS::AtLeastOnce), (5, QoS::ExactlyOnce)] {
            station.publish(id, publish(LEVEL, vec![b'0' + id as u8], qos));
        }
        station.send(&Packet::Publish(publish(LEVEL, b"none".to_vec(), QoS::AtMostOnce)));
        let status = Publish { retain: true, ..publish("harrowmere/status", b"on".to_vec(), QoS::AtLeastOnce) };
        station.publish(6, status);
        if crash {
            service.crash();
        } else {
            service.terminate();
        }

        let service = place.serve(&["--open"]);
        let status = service.status();
        assert_eq!((&status["sessions_away"], &status["retained"]), (&1.into(), &1.into()), "{status}");
        let (mut desk, present) = Peer::resume(service.mqtt, keeping(version, "duty-desk"));
        assert!(present);
        let again: Vec<_> = (0..2).map(|_| desk.message()).collect();
        let release = desk.receive();
        let rest: Vec<_> = (0..3).map(|_| desk.message()).collect();
        assert_eq!(again.iter().map(text).collect::<String>(), "13");
        assert!(again.iter().all(|message| message.duplicate));
        let ids: Vec<_> = again.iter().map(|message| message.packet_id).collect();
        assert_eq!(ids, [sent[0].packet_id, sent[2].packet_id], "under their own identifiers");
        assert_eq!(release, Some(Packet::PubRel(Acknowledgement::success(sent[1].packet_id.unwrap()))));
        // A QoS 2 message waits until its identifier is safe; the order holds for each QoS.
        assert_eq!(rest.iter().map(text).collect::<Vec<_>>(), ["4", "on", "5"]);
        desk.send(&Packet::PubComp(Acknowledgement::success(sent[1].packet_id.unwrap())));
        again.iter().chain(&rest).for_each(|message| desk.acknowledge(message));
        desk.send(&Packet::PingReq);
        assert_eq!(desk.receive(), Some(Packet::PingResp));
        let mut late = Peer::open(service.mqtt, version, "late");
        late.subscribe("harrowmere/status", QoS::AtMostOnce);
        assert!(late.message().retain, "the retained message is still there");
        drop(desk);
        service.wait_for("it is away", |status| status["sessions_away"] == 1);
        service.wait_for("everything is written", |status| status["unwritten"] == 0);
        service.crash();

        let service = place.serve(&["--open"]);
        let (mut desk, present) = Peer::resume(service.mqtt, keeping(version, "duty-desk"));
        assert!(present);
        desk.send(&Packet::PingReq);
        assert_eq!(desk.receive(), Some(Packet::PingResp), "nothing is left over");
        let (_, present) = Peer::resume(service.mqtt, connect(version, "duty-desk"));
        assert!(!present, "a clean start ends it");
    }
}

#[test]
fn unreleased_identifiers_of_a_publisher_survive() {
    let place = Place::with_private_servers();
    let service = place.serve(&["--open"]);
    let (mut desk, _) = Peer::resume(service.mqtt, keeping(V5, "duty-desk"));
    desk.subscribe("harrowmere/#", QoS::ExactlyOnce);
    let (mut station, _) = Peer::resume(service.mqtt, keeping(V5, "kettle-weir"));
    let message = Publish { packet_id: PacketId::new(7), ..publish(LEVEL, b"1".to_vec(), QoS::ExactlyOnce) };
    station.send(&Packet::Publish(message.clone()));
    assert!(matches!(station.receive(), Some(Packet::PubRec(_))));
    let first = desk.message();
    desk.acknowledge(&first);
    service.crash();

    let service = place.serve(&["--open"]);
    let (mut desk, _) = Peer::resume(service.mqtt, keeping(V5, "duty-desk"));
    let (mut station, present) = Peer::resume(service.mqtt, keeping(V5, "kettle-weir"));
    assert!(present);
    station.send(&Packet::Publish(Publish { duplicate: true, ..message }));
    assert!(matches!(station.receive(), Some(Packet::PubRec(_))));
    station.send(&Packet::PubRel(ack(7)));
    assert_eq!(station.receive(), Some(Packet::PubComp(ack(7))));
    // The first message may be released again, its handshake was cut; but no second one comes.
    desk.send(&Packet::PingReq);
    while let Some(packet) = desk.receive() {
        match packet {
            Packet::PubRel(release) => assert_eq!(Some(release.packet_id), first.packet_id),
            Packet::PingResp => break,
            other => panic!("{other:?}"),
        }
    }
}

#[test]
fn an_unreleased_message_is_not_passed_on_again_though_nobody_s_session_was_kept_but_the_publisher_s() {
    let place = Place::with_private_servers();
    let service = place.serve(&["--open"]);
    let mut desk = Peer::open(service.mqtt, V5, "duty-desk");
    desk.subscribe("harrowmere/#", QoS::AtMostOnce);
    let (mut station, _) = Peer::resume(service.mqtt, keeping(V5, "kettle-weir"));
    let message = Publish { packet_id: PacketId::new(7), ..publish(LEVEL, b"1".to_vec(), QoS::ExactlyOnce) };
    station.send(&Packet::Publish(message.clone()));
    assert!(matches!(station.receive(), Some(Packet::PubRec(_))));
    assert_eq!(text(&desk.message()), "1");
    service.crash();

    let service = place.serve(&["--open"]);
    let mut desk = Peer::open(service.mqtt, V5, "duty-desk");
    desk.subscribe("harrowmere/#", QoS::AtMostOnce);
    let (mut station, present) = Peer::resume(service.mqtt, keeping(V5, "kettle-weir"));
    assert!(present);
    station.send(&Packet::Publish(Publish { duplicate: true, ..message }));
    assert!(matches!(station.receive(), Some(Packet::PubRec(_))));
    desk.send(&Packet::PingReq);
    assert_eq!(desk.receive(), Some(Packet::PingResp), "no second copy");
}

#[test]
fn the_will_of_a_kept_session_is_published_after_a_crash() {
    let place = Place::with_private_servers();
    let service = place.serve(&["--open"]);
    let mut asked = keeping(V5, "kettle-weir");
    asked.will = Some(Will::new("harrowmere/status".parse().unwrap(), "offline", QoS::AtLeastOnce, true));
    let (_station, _) = Peer::resume(service.mqtt, asked);
    service.wait_for("it is written", |status| status["unwritten"] == 0);
    service.crash();
    let service = place.serve(&["--open"]);
    let mut desk = Peer::open(service.mqtt, V5, "duty-desk");
    desk.subscribe("harrowmere/status", QoS::AtMostOnce);
    assert_eq!(text(&desk.message()), "offline");
}

#[test]
fn a_full_queue_does_what_its_policy_says() {
    for (policy, expected) in [("drop-newest", Some("012")), ("drop-oldest", Some("345")), ("end-session", None)] {
        let place = Place::with_private_servers();
        let limits = format!("[limits]\nqueue-messages = 3\nqueue-policy = \"{policy}\"\n");
        let config = place.write("moorfall.toml", &limits);
        let service = place.serve(&["--open", "--config", config.to_str().unwrap()]);
        let (mut away, _) = Peer::resume(service.mqtt, keeping(V5, "forecast"));
        away.subscribe("harrowmere/#", QoS::AtLeastOnce);
        drop(away);
        service.wait_for("it is away", |status| status["sessions_away"] == 1);
        let mut station = Peer::open(service.mqtt, V5, "kettle-weir");
        let count: u8 = if expected.is_some() { 6 } else { 4 };
        for number in 0..count {
            let message = publish(LEVEL, vec![b'0' + number], QoS::AtLeastOnce);
            station.send(&Packet::Publish(Publish { packet_id: PacketId::new(u16::from(number) + 1), ..message }));
            let Some(Packet::PubAck(ack)) = station.receive() else { panic!("not acknowledged") };
            // Only what nobody gets is told: of what is displaced somebody else's message is.
            let is_lost = number >= 3 && policy != "drop-oldest";
            assert_eq!(ack.reason == ReasonCode::QuotaExceeded, is_lost, "{policy}, {number}: {ack:?}");
        }
        if expected.is_none() {
            service.wait_for("the session has ended", |status| status["sessions_away"] == 0);
        }
        let (mut back, present) = Peer::resume(service.mqtt, keeping(V5, "forecast"));
        assert_eq!(present, expected.is_some());
        let arrived: String = expected.unwrap_or_default().chars().map(|_| text(&back.message())).collect();
        assert_eq!(arrived, expected.unwrap_or_default(), "{policy}");
        let dropped = service.run(&["sessions", "forecast", "--json"]).json()["sessions"][0]["dropped"].clone();
        assert_eq!(dropped, if expected.is_some() { 3 } else { 0 }, "{policy}");
    }
}

#[test]
fn while_the_database_is_away_promises_wait_and_then_are_kept() {
    let place = Place::with_private_servers();
    let guest = place.serve_on_another_database();
    let service = &guest.service;
    let (mut away, _) = Peer::resume(service.mqtt, keeping(V5, "forecast"));
    away.subscribe("harrowmere/#", QoS::AtLeastOnce);
    drop(away);
    let (mut here, _) = Peer::resume(service.mqtt, keeping(V5, "duty-desk"));
    here.subscribe("tideway/#", QoS::AtLeastOnce);
    let mut station = Peer::open(service.mqtt, V5, "kettle-weir");
    guest.stop_database();

    let message =
        |topic: &str, id| Publish { packet_id: PacketId::new(id), ..publish(topic, b"1".to_vec(), QoS::AtLeastOnce) };
    // Everyone for whom this one is kept acknowledges it, so nothing is to be written.
    station.send(&Packet::Publish(message("tideway/level", 1)));
    let arrived = here.message();
    here.acknowledge(&arrived);
    assert!(matches!(station.receive(), Some(Packet::PubAck(done)) if done.packet_id.get() == 1));
    // For this one a promise must wait. A server process may outlive the one that was killed for a moment, and commit:
    // only when the trouble is seen is the database gone for sure.
    service.wait_for("the trouble is seen", |status| status["database"]["healthy"] == false);
    station.send(&Packet::Publish(message(LEVEL, 2)));
    station.send(&Packet::PingReq);
    assert_eq!(station.receive(), Some(Packet::PingResp), "it is served, but nothing is promised");

    // Nor for one that is retained, nor for the identifier of a QoS 2 message of a session that is kept, though everyone
    // for whom these are kept has acknowledged them: something else is still to be written.
    let mut gauge = Peer::open(service.mqtt, V5, "tideway-gauge");
    gauge.send(&Packet::Publish(Publish { retain: true, ..message("tideway/level", 3) }));
    let (mut gate, _) = Peer::resume(service.mqtt, keeping(V5, "tideway-gate"));
    let exactly_once = Publish { qos: QoS::ExactlyOnce, ..message("tideway/gate", 4) };
    gate.send(&Packet::Publish(exactly_once));
    for _ in 0..2 {
        let arrived = here.message();
        here.acknowledge(&arrived);
    }
    for _ in 0..3 {
        for peer in [&mut here, &mut gauge, &mut gate] {
            peer.send(&Packet::PingReq);
            assert_eq!(peer.receive(), Some(Packet::PingResp), "nothing is promised");
        }
    }

    let again = place.serve(&[]);
    assert!(matches!(station.receive(), Some(Packet::PubAck(done)) if done.packet_id.get() == 2));
    assert!(matches!(gauge.receive(), Some(Packet::PubAck(done)) if done.packet_id.get() == 3));
    assert!(matches!(gate.receive(), Some(Packet::PubRec(done)) if done.packet_id.get() == 4));
    let other = service.data.clone();
    wait("it is healthy again", || (service.status_of(&other)["database"]["healthy"] == true).then_some(()));
    let (mut away, present) = Peer::resume(service.mqtt, keeping(V5, "forecast"));
    assert!(present);
    assert_eq!(text(&away.message()), "1");
    drop(guest);
    drop(again);
}

#[test]
fn what_is_in_flight_over_a_crash_is_not_written_over_by_what_comes_next() {
    let place = Place::new();
    let mut service = place.serve(&["--open"]);
    let mut station = Peer::open(service.mqtt, V5, "station");
    let (mut desk, _) = Peer::resume(service.mqtt, keeping(V5, "duty-desk"));
    desk.subscribe("harrowmere/#", QoS::ExactlyOnce);
    // Nothing is answered, so nothing waits, and each message is in flight under an identifier of its own.
    let mut under_way = Vec::new();
    for (id, words) in [(1, "first"), (2, "second"), (3, "third")] {
        station.publish(id, publish(LEVEL, words.into(), QoS::ExactlyOnce));
        let message = desk.message();
        assert_eq!((text(&message).as_str(), message.duplicate), (words, false));
        under_way.push((message.packet_id, words.to_owned()));
        service.crash();
        service = place.serve(&["--open"]);
        station = Peer::open(service.mqtt, V5, "station");
        let (again, present) = Peer::resume(service.mqtt, keeping(V5, "duty-desk"));
        desk = again;
        assert!(present);
        let repeated: Vec<_> = under_way
            .iter()
            .map(|_| {
                let message = desk.message();
                assert!(message.duplicate, "{message:?}");
                (message.packet_id, text(&message))
            })
            .collect();
        assert_eq!(repeated, under_way, "each comes again, once, as it was");
    }
    for (id, _) in under_way {
        desk.send(&Packet::PubRec(Acknowledgement::success(id.unwrap())));
        assert!(matches!(desk.receive(), Some(Packet::PubRel(_))));
        desk.send(&Packet::PubComp(Acknowledgement::success(id.unwrap())));
    }
    desk.send(&Packet::PingReq);
    assert_eq!(desk.receive(), Some(Packet::PingResp));
}

/// Publishes so many messages one after the other, all acknowledged.
fn publish_many(station: &mut Peer, count: u16) {
    for number in 0..count {
        let message = publish(LEVEL, number.to_string().into(), QoS::AtLeastOnce);
        station.send(&Packet::Publish(Publish { packet_id: PacketId::new(number + 1), ..message }));
    }
    for _ in 0..count {
        let Some(Packet::PubAck(ack)) = station.receive() else { panic!("not acknowledged") };
        assert!(!ack.reason.is_error(), "{ack:?}");
    }
}

/// Of what waits for a client that is away about five messages are in memory.
const SHORT_OF_MEMORY: &str = "[limits]\nqueue-memory-bytes = 65536\n";

#[test]
fn a_queue_that_is_longer_than_its_memory_survives_a_crash() {
    let place = Place::new();
    let config = place.write("moorfall.toml", SHORT_OF_MEMORY);
    let options = ["--open", "--config", config.to_str().unwrap()];
    let mut service = place.serve(&options);
    let (mut away, _) = Peer::resume(service.mqtt, keeping(V5, "forecast"));
    away.subscribe("harrowmere/#", QoS::AtLeastOnce);
    drop(away);
    service.wait_for("it is away", |status| status["sessions_away"] == 1);
    publish_many(&mut Peer::open(service.mqtt, V5, "kettle-weir"), 800);
    service.crash();
    service = place.serve(&options);
    let session = service.run(&["sessions", "forecast", "--json"]).json()["sessions"][0].clone();
    assert_eq!(session["queue"], 800, "{session}");
    let (mut back, present) = Peer::resume(service.mqtt, keeping(V5, "forecast"));
    assert!(present);
    for expected in 0..800 {
        let message = back.message();
        // The service that crashed may have sent it.
        assert_eq!((text(&message), message.duplicate), (expected.to_string(), true));
        back.acknowledge(&message);
    }
    service.wait_for("everything is written", |status| status["unwritten"] == 0);
}

#[test]
fn what_is_in_the_database_alone_is_sent_when_that_is_back() {
    let place = Place::with_private_servers();
    let config = place.write("moorfall.toml", SHORT_OF_MEMORY);
    let guest = place.serve_as_guest(&["--open", "--config", config.to_str().unwrap()]);
    let service = &guest.service;
    let (mut away, _) = Peer::resume(service.mqtt, keeping(V5, "forecast"));
    away.subscribe("harrowmere/#", QoS::AtLeastOnce);
    drop(away);
    service.wait_for("it is away", |status| status["sessions_away"] == 1);
    publish_many(&mut Peer::open(service.mqtt, V5, "kettle-weir"), 800);
    guest.stop_database();
    service.wait_for("the trouble is seen", |status| status["database"]["healthy"] == false);
    let (mut back, present) = Peer::resume(service.mqtt, keeping(V5, "forecast"));
    assert!(present);
    let first = back.message();
    assert_eq!(text(&first), "0", "what is in memory comes at once");
    back.acknowledge(&first);
    let mut expected = 1;
    // Nothing else is in the way: a live message of QoS 0 comes though what waits can't be read.
    let mut station = Peer::open(service.mqtt, V5, "station");
    station.send(&Packet::Publish(publish("harrowmere/fen", b"now".to_vec(), QoS::AtMostOnce)));
    loop {
        let message = back.message();
        if text(&message) == "now" {
            break;
        }
        assert_eq!(text(&message), expected.to_string());
        back.acknowledge(&message);
        expected += 1;
    }
    assert!(expected < 200, "{expected} were in memory");
    let _again = place.serve(&[]);
    while expected < 800 {
        let message = back.message();
        assert_eq!(text(&message), expected.to_string());
        back.acknowledge(&message);
        expected += 1;
    }
}
