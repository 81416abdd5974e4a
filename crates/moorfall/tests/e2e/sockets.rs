//! Clients that are not ours: raw sockets and bytes.

use std::{
    io::{Read, Write},
    time::Duration,
};

use bytes::BytesMut;
use moorfall_wire::*;

use crate::{
    harness::Place,
    peer::{Peer, V5, V311, connect, publish},
};

#[test]
fn the_two_versions_hear_each_other() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let mut older = Peer::open(service.mqtt, V311, "older");
    let mut newer = Peer::open(service.mqtt, V5, "newer");
    older.subscribe("from/newer", QoS::AtLeastOnce);
    newer.subscribe("from/older", QoS::AtLeastOnce);

    let mut message = publish("from/newer", b"with properties".to_vec(), QoS::AtLeastOnce);
    message.properties.content_type = Some("text/plain".into());
    newer.send(&Packet::Publish(message));
    assert!(matches!(newer.receive(), Some(Packet::PubAck(ack)) if ack.reason == ReasonCode::Success));
    let arrived = older.message();
    assert_eq!((&arrived.payload[..], arrived.qos), (&b"with properties"[..], QoS::AtLeastOnce));
    older.send(&Packet::PubAck(Acknowledgement::success(arrived.packet_id.unwrap())));

    older.send(&Packet::Publish(publish("from/older", b"plain".to_vec(), QoS::AtMostOnce)));
    assert_eq!(&newer.message().payload[..], b"plain");
    older.send(&Packet::PingReq);
    assert_eq!(older.receive(), Some(Packet::PingResp));
}

#[test]
fn large_payloads_arrive_whole_and_too_large_ones_end_the_connection() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let mut receiver = Peer::open(service.mqtt, V5, "receiver");
    receiver.subscribe("#", QoS::AtMostOnce);
    let mut sender = Peer::open(service.mqtt, V5, "sender");
    let payload: Vec<u8> = (0..900_000_u32).map(|number| number as u8).collect();
    for _ in 0..3 {
        sender.send(&Packet::Publish(publish("large", payload.clone(), QoS::AtMostOnce)));
        assert_eq!(receiver.message().payload, payload);
    }
    let mut bytes = BytesMut::new();
    Packet::Publish(publish("larger", vec![0; 1_100_000], QoS::AtMostOnce)).encode(V5, &mut bytes).unwrap();
    // The broker may close before all is written.
    let _ = sender.stream.write_all(&bytes);
    match sender.receive() {
        Some(Packet::Disconnect(disconnect)) => assert_eq!(disconnect.reason, ReasonCode::PacketTooLarge),
        other => assert_eq!(other, None),
    }
}

#[test]
fn a_stranger_gets_no_further_than_256_kib_and_nonsense_harms_nobody() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let mut friend = Peer::open(service.mqtt, V5, "friend");
    friend.subscribe("#", QoS::AtMostOnce);

    let mut large = connect(V5, "large");
    let property = |number: usize| UserProperty { name: number.to_string().into(), value: "x".repeat(60_000).into() };
    large.properties.user_properties = (0..5).map(property).collect();
    let mut stranger = Peer::begin(service.mqtt, large);
    assert!(matches!(stranger.receive(), Some(Packet::ConnAck(ack)) if ack.reason == ReasonCode::PacketTooLarge));

    let openings: [&[u8]; 6] = [
        b"GET / HTTP/1.1\r\nHost: weir\r\n\r\n",
        &[0x00; 64],
        &[0xff; 64],
        &[0x10, 0xff, 0xff, 0xff, 0xff, 0x7f],
        &[0x30, 0x03, 0x00, 0x01, b'a'],
        &[0x10, 0x0a, 0, 4, b'M', b'Q', b'T', b'T', 5, 0xff, 0, 0],
    ];
    for opening in openings {
        let mut stranger = Peer::new(service.mqtt, V5);
        stranger.stream.write_all(opening).unwrap();
        let mut answer = Vec::new();
        let _ = stranger.stream.read_to_end(&mut answer);
        // Nobody was accepted, so there is no DISCONNECT; a CONNECT that names its version is told why.
        let told = opening.starts_with(b"\x10\x0a\0\x04MQTT\x05");
        assert!(if told { matches!(answer[..], [0x20, _, 0, 0x81, ..]) } else { answer.is_empty() }, "{answer:?}");
    }
    friend.send(&Packet::Publish(publish("still", b"here".to_vec(), QoS::AtMostOnce)));
    assert_eq!(&friend.message().payload[..], b"here");
    assert!(!service.log().contains("panicked"), "{}", service.log());
}

#[test]
fn packets_may_come_byte_by_byte_or_all_at_once() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let mut bytes = BytesMut::new();
    let ping = [Packet::PingReq, Packet::PingReq];
    Packet::Connect(Box::new(connect(V311, "slow"))).encode(V311, &mut bytes).unwrap();
    for packet in &ping {
        packet.encode(V311, &mut bytes).unwrap();
    }
    for step in [1, bytes.len()] {
        let mut peer = Peer::new(service.mqtt, V311);
        for part in bytes.chunks(step) {
            peer.stream.write_all(part).unwrap();
        }
        assert!(matches!(peer.receive(), Some(Packet::ConnAck(_))));
        assert_eq!([peer.receive(), peer.receive()], [Some(Packet::PingResp), Some(Packet::PingResp)]);
    }
}

#[test]
fn a_broken_connection_publishes_the_will_before_a_newcomer_is_let_in() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let mut desk = Peer::open(service.mqtt, V5, "desk");
    desk.subscribe("harrowmere/#", QoS::AtLeastOnce);
    let with_will = || {
        let mut connect = connect(V5, "kettle-weir");
        connect.will =
            Some(Will::new("harrowmere/gorge/kettle-weir/status".parse().unwrap(), "offline", QoS::AtMostOnce, true));
        connect
    };
    drop(Peer::open_with(service.mqtt, with_will()));
    assert_eq!(&desk.message().payload[..], b"offline");

    let mut first = Peer::open_with(service.mqtt, with_will());
    let mut second = Peer::open_with(service.mqtt, with_will());
    let online =
        Publish { retain: true, ..publish("harrowmere/gorge/kettle-weir/status", b"online".to_vec(), QoS::AtMostOnce) };
    second.send(&Packet::Publish(online));
    match first.receive() {
        Some(Packet::Disconnect(disconnect)) => assert_eq!(disconnect.reason, ReasonCode::SessionTakenOver),
        other => panic!("{other:?}"),
    }
    assert_eq!(first.receive(), None);
    assert_eq!([desk.message().payload, desk.message().payload], ["offline", "online"]);
}

#[test]
fn another_identity_can_t_push_a_client_out() {
    let place = Place::new();
    let service = place.serve_catchment();
    for name in ["kettle-weir", "auditor"] {
        service.identity(name, &["kind=station", "reach=gorge"]);
    }
    let sign_in = |name: &str| {
        let mut connect = connect(V5, "weir-controller");
        connect.user_name = Some(name.into());
        connect.password = Some(name.chars().rev().collect::<String>().into());
        connect
    };
    let mut owner = Peer::open_with(service.mqtt, sign_in("kettle-weir"));
    let mut intruder = Peer::new(service.mqtt, V5);
    intruder.send(&Packet::Connect(Box::new(sign_in("auditor"))));
    match intruder.receive() {
        Some(Packet::ConnAck(connack)) => {
            assert_eq!(connack.reason, ReasonCode::NotAuthorized);
            let words = connack.properties.reason_string.unwrap();
            assert!(words.contains("weir-controller is in use by another identity"), "{words}");
        }
        other => panic!("{other:?}"),
    }
    owner.send(&Packet::PingReq);
    assert_eq!(owner.receive(), Some(Packet::PingResp));
}

#[test]
fn a_client_without_identity_is_refused_in_its_version_s_words() {
    let place = Place::new();
    let service = place.serve(&[]);
    for version in [V311, V5] {
        let mut stranger = Peer::new(service.mqtt, version);
        stranger.send(&Packet::Connect(Box::new(connect(version, "stranger"))));
        match stranger.receive() {
            Some(Packet::ConnAck(connack)) => assert_eq!(connack.reason, ReasonCode::NotAuthorized),
            other => panic!("{other:?}"),
        }
        assert_eq!(stranger.receive(), None);
    }
}

#[test]
fn a_reader_that_does_not_read_loses_messages_that_are_counted_and_harms_nobody() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let mut stuck = Peer::open(service.mqtt, V5, "stuck");
    stuck.subscribe("flood", QoS::AtMostOnce);
    let mut sender = Peer::open(service.mqtt, V5, "sender");
    // 64 MiB: more than both sockets and the queue's 16 MiB hold.
    let message = publish("flood", vec![b'x'; 64 * 1024], QoS::AtMostOnce);
    for _ in 0..1_024 {
        sender.send(&Packet::Publish(message.clone()));
    }
    sender.send(&Packet::PingReq);
    assert_eq!(sender.receive(), Some(Packet::PingResp), "the sender is not held up");
    let session = &service.run(&["sessions", "stuck", "--json"]).json()["sessions"][0];
    let (queue, dropped) = (session["queue"].as_u64().unwrap(), session["dropped"].as_u64().unwrap());
    assert!(queue > 0 && dropped > 0 && queue + dropped <= 1_024, "{session}");
    assert!(service.run(&["sessions"]).ok().contains("DROPPED"));
    assert!(service.status()["withheld"].as_u64().unwrap() >= dropped);
    drop(stuck);
    service.wait_for("the queue is given back", |status| status["sessions"] == 1);
}

#[test]
fn more_retained_messages_than_the_queue_holds_all_come_in_order_before_what_is_live() {
    const COUNT: usize = 12_000;
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let limit = service.status()["limits"]["queue_messages"].as_u64().unwrap();
    assert!(limit < COUNT as u64);
    let mut sender = Peer::open(service.mqtt, V5, "sender");
    for number in 0..COUNT {
        let message = publish(&format!("harrowmere/{number:05}"), vec![b'x'], QoS::AtLeastOnce);
        sender.send(&Packet::Publish(Publish { retain: true, ..message }));
        assert!(matches!(sender.receive(), Some(Packet::PubAck(_))));
    }
    // At QoS 1 the client's acknowledgements are needed for the walk to go on.
    let mut reader = Peer::open(service.mqtt, V5, "reader");
    reader.subscribe("harrowmere/#", QoS::AtLeastOnce);
    sender.send(&Packet::Publish(publish("harrowmere/live", vec![b'y'], QoS::AtMostOnce)));
    let mut retained = Vec::new();
    loop {
        match reader.receive() {
            Some(Packet::Publish(message)) if message.retain => {
                reader.send(&Packet::PubAck(Acknowledgement::success(message.packet_id.unwrap())));
                retained.push(message.topic.to_string());
            }
            Some(Packet::Publish(message)) => {
                assert_eq!(&*message.topic, "harrowmere/live");
                break;
            }
            other => panic!("{other:?}"),
        }
    }
    let in_order: Vec<String> = (0..COUNT).map(|number| format!("harrowmere/{number:05}")).collect();
    assert!(retained == in_order, "{} came", retained.len());
    assert_eq!(service.status()["withheld"], 0);
}

#[test]
fn a_silent_client_is_ended_after_one_and_a_half_keep_alives() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let mut connect = connect(V5, "cold-tor");
    connect.keep_alive = 1;
    let began = std::time::Instant::now();
    let mut gauge = Peer::open_with(service.mqtt, connect);
    match gauge.receive() {
        Some(Packet::Disconnect(disconnect)) => assert_eq!(disconnect.reason, ReasonCode::KeepAliveTimeout),
        other => panic!("{other:?}"),
    }
    assert!(began.elapsed() >= Duration::from_millis(1_500));
}

#[test]
fn stopping_tells_every_client_of_version_5() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let mut peers: Vec<Peer> =
        (0..20).map(|number| Peer::open(service.mqtt, V5, &format!("client-{number}"))).collect();
    let (took, _) = service.terminate();
    assert!(took < Duration::from_secs(5), "{took:?}");
    for peer in &mut peers {
        match peer.receive() {
            Some(Packet::Disconnect(disconnect)) => assert_eq!(disconnect.reason, ReasonCode::ServerShuttingDown),
            other => panic!("{other:?}"),
        }
    }
}
