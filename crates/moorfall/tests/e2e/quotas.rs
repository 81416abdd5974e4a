//! What an identity may hold and take, and that nobody else is worse off for it.

use moorfall_wire::*;

use crate::{
    harness::{Place, Service, wait},
    hold::{answer, is_unanswered, signing_in},
    peer::Peer,
};

const RULED: &str = r#"
name = "hold"
[cohorts.pumps]
where = "attr.kind == 'pump'"
limits = { sessions-per-identity = 2, retained-bytes-per-identity = 600 }
[[rules]]
name = "all"
who = "everyone"
may = ["publish", "subscribe"]
topics = ["harrowmere/#"]
"#;

/// A service with RULED, and the identities `desk` and `pump`, which is one of the cohort.
fn serve_ruled<'a>(place: &'a Place, limits: &str) -> Service<'a> {
    let config = place.write("moorfall.toml", &format!("[limits]\n{limits}"));
    let blueprint = place.write("blueprint.toml", RULED);
    let service = place.serve(&["--config", config.to_str().unwrap(), "--blueprint", blueprint.to_str().unwrap()]);
    service.identity("desk", &[]);
    service.identity("pump", &["kind=pump"]);
    service
}

fn kept(client_id: &str, name: &str) -> Connect {
    let password: String = name.chars().rev().collect();
    let mut connect = signing_in(client_id, name, &password);
    connect.clean_start = false;
    connect.properties.session_expiry_interval = Some(3_600);
    connect
}

#[test]
fn no_identity_takes_the_room_of_all() {
    let place = Place::new();
    let service =
        serve_ruled(&place, "sessions = 3\nsubscription-bytes-per-identity = 1024\nqueue-bytes-per-identity = 4000\n");
    let mut first = Peer::open_with(service.mqtt, kept("p-1", "pump"));
    let _second = Peer::open_with(service.mqtt, kept("p-2", "pump"));
    let mut third = Peer::begin(service.mqtt, kept("p-3", "pump"));
    let refused = answer(&mut third);
    assert_eq!(refused.reason, ReasonCode::QuotaExceeded);
    assert!(
        refused.properties.reason_string.unwrap().contains("The limit of 2 sessions for this identity is reached"),
        "its cohort says so"
    );
    let _desk = Peer::open_with(service.mqtt, kept("d-1", "desk"));
    let mut full = Peer::begin(service.mqtt, kept("d-2", "desk"));
    assert!(answer(&mut full).properties.reason_string.unwrap().contains("The limit of 3 sessions"));
    // There are as many sessions as may be; the first of an identity is accepted all the same.
    Peer::open_with(service.mqtt, signing_in("a-1", "administrator", &service.secret()));

    let reasons: Vec<_> =
        (0..6).flat_map(|n| first.try_subscribe(&format!("harrowmere/{n}"), QoS::AtLeastOnce)).collect();
    assert_eq!(reasons.iter().filter(|reason| **reason == ReasonCode::QuotaExceeded).count(), 2, "{reasons:?}");

    let retain = |peer: &mut Peer, id: u16, topic: &str, bytes: usize| {
        let message = Publish { retain: true, ..crate::peer::publish(topic, vec![b'x'; bytes], QoS::AtLeastOnce) };
        peer.send(&Packet::Publish(Publish { packet_id: PacketId::new(id), ..message }));
        match peer.receive() {
            Some(Packet::PubAck(ack)) => ack.reason,
            other => panic!("{other:?}"),
        }
    };
    assert!(!retain(&mut first, 1, "harrowmere/kept/1", 300).is_error());
    assert_eq!(retain(&mut first, 2, "harrowmere/kept/2", 300), ReasonCode::QuotaExceeded);
    let turned_away = service.status()["turned_away"].clone();
    for limit in ["sessions_per_identity", "subscription_bytes_per_identity", "retained_bytes_per_identity"] {
        assert!(turned_away[limit].as_u64().unwrap() >= 1, "{limit}: {turned_away}");
    }
    // What was retained counts after a restart, too.
    service.wait_for("it is written", |status| status["unwritten"] == 0);
    drop(first);
    service.terminate();
    let service = serve_ruled(&place, "");
    let mut first = Peer::open_with(service.mqtt, kept("p-1", "pump"));
    assert_eq!(retain(&mut first, 3, "harrowmere/kept/2", 300), ReasonCode::QuotaExceeded);
}

#[test]
fn a_publisher_is_told_when_nobody_has_room_for_its_message() {
    let place = Place::new();
    let service = serve_ruled(&place, "queue-messages = 2\nin-flight = 1\n");
    for session in [3_600, 0] {
        let mut slow = kept("slow", "desk");
        slow.clean_start = true;
        slow.properties.session_expiry_interval = Some(session);
        slow.properties.receive_maximum = std::num::NonZeroU16::new(1);
        let mut slow = Peer::open_with(service.mqtt, slow);
        slow.subscribe("harrowmere/level", QoS::AtLeastOnce);
        let mut sender = Peer::open_with(service.mqtt, signing_in("sender", "pump", "pmup"));
        let mut reasons = Vec::new();
        for id in 1..=40 {
            let message = crate::peer::publish("harrowmere/level", b"1.83".to_vec(), QoS::AtLeastOnce);
            sender.send(&Packet::Publish(Publish { packet_id: PacketId::new(id), ..message }));
            let Some(Packet::PubAck(ack)) = sender.receive() else { panic!("not acknowledged") };
            reasons.push(ack.reason);
        }
        assert_eq!(reasons[0], ReasonCode::Success);
        assert_eq!(*reasons.last().unwrap(), ReasonCode::QuotaExceeded, "{reasons:?}");
    }
}

#[test]
fn a_client_identifier_belongs_to_whom_it_is_tied_to() {
    let place = Place::new();
    let service = serve_ruled(&place, "");
    // Taken before it was given to somebody.
    let mut squatter = Peer::open_with(service.mqtt, kept("gate-1", "desk"));
    service.run(&["identities", "set", "pump", "--client-id", "gate-1"]).ok();
    Peer::open_with(service.mqtt, signing_in("gate-1", "pump", "pmup"));
    let Some(Packet::Disconnect(gone)) = squatter.receive() else { panic!("it is told") };
    assert_eq!(gone.reason, ReasonCode::SessionTakenOver);
    assert!(gone.properties.reason_string.unwrap().contains("reserved for another identity"));
    let mut again = Peer::begin(service.mqtt, kept("gate-1", "desk"));
    assert_eq!(answer(&mut again).reason, ReasonCode::ClientIdentifierNotValid);
    // Nor can names be taken that look like others.
    for name in ["gate-1\u{200b}", " gate-1", "gate\u{202e}1-"] {
        let mut lookalike = Peer::begin(service.mqtt, kept(name, "desk"));
        assert_eq!(answer(&mut lookalike).reason, ReasonCode::ClientIdentifierNotValid, "{name:?}");
        let made = service.run(&["identities", "set", name, "--note", "x"]);
        assert!(made.failed().contains("is not a valid name for an identity"), "{made:?}");
    }
}

#[test]
fn a_delayed_will_is_judged_when_it_is_sent() {
    let place = Place::new();
    let service = serve_ruled(&place, "");
    let mut desk = Peer::open_with(service.mqtt, signing_in("desk-1", "desk", "ksed"));
    desk.subscribe("harrowmere/#", QoS::AtMostOnce);
    let mut leaving = kept("pump-1", "pump");
    leaving.will = Some(Will {
        topic: "harrowmere/pump/status".parse().unwrap(),
        payload: b"offline".to_vec().into(),
        qos: QoS::AtMostOnce,
        retain: false,
        properties: WillProperties { will_delay_interval: Some(1), ..WillProperties::default() },
    });
    drop(Peer::open_with(service.mqtt, leaving));
    service.run(&["identities", "set", "pump", "--disable"]).ok();
    service.wait_for_event("The Will Message was refused");
    let refusals = service.run(&["access", "refusals", "--json"]).json();
    assert!(refusals.to_string().contains("The identity is disabled"), "{refusals}");
    assert!(is_unanswered(&mut desk), "nobody gets it");
}

#[test]
fn refused_filters_and_messages_hold_up_nobody_and_are_short_lists() {
    let place = Place::new();
    let service = serve_ruled(&place, "topic-bytes = 65535\n");
    let mut flood = Peer::open_with(service.mqtt, signing_in("flood", "desk", "ksed"));
    let subscription = |n: usize| Subscription {
        filter: format!("secret/{n}").parse().unwrap(),
        options: SubscriptionOptions::default(),
    };
    flood.send(&Packet::Subscribe(Subscribe {
        packet_id: PacketId::MIN,
        properties: SubscribeProperties::default(),
        subscriptions: (0..60_000).map(subscription).collect(),
    }));
    let Some(Packet::SubAck(ack)) = flood.receive() else { panic!("not answered") };
    assert_eq!(ack.reasons, vec![ReasonCode::QuotaExceeded; 60_000]);
    assert!(ack.properties.reason_string.unwrap().contains("asked for 60,000 subscriptions at once"));
    let mut other = Peer::open_with(service.mqtt, signing_in("other", "pump", "pmup"));
    for n in 0..60 {
        let topic = format!("secret/{n}/{}", "x".repeat(60_000));
        other.send(&Packet::Publish(crate::peer::publish(&topic, vec![b'x'; 1_000], QoS::AtMostOnce)));
    }
    wait("they are counted", || {
        let refusals = service.run(&["access", "refusals", "--json"]).json();
        let of = |identity: &str| {
            let mut all = refusals.as_array().unwrap().iter();
            all.find(|refusal| refusal["identity"] == identity).map(|refusal| refusal["count"].as_u64().unwrap())
        };
        (of("desk") == Some(60_000) && of("pump") == Some(60)).then_some(())
    });
    let refusals = service.run(&["access", "refusals", "--json"]);
    assert!(refusals.ok().len() < 8_000, "{} bytes", refusals.out.len());
}

#[test]
fn a_member_that_may_not_have_a_part_does_not_swallow_it() {
    let place = Place::new();
    let rules = format!(
        "{RULED}[[rules]]\nname = \"no-gates\"\nwho = {{ identity = \"pump\" }}\nnever = [\"subscribe\"]\n\
         topics = [\"harrowmere/gate/#\"]\n"
    );
    let blueprint = place.write("blueprint.toml", &rules);
    let service = place.serve(&["--blueprint", blueprint.to_str().unwrap()]);
    service.identity("desk", &[]);
    service.identity("pump", &[]);
    let mut desk = Peer::open_with(service.mqtt, signing_in("desk-1", "desk", "ksed"));
    let mut pump = Peer::open_with(service.mqtt, signing_in("pump-1", "pump", "pmup"));
    for member in [&mut desk, &mut pump] {
        member.subscribe("$share/all/harrowmere/#", QoS::AtLeastOnce);
    }
    let mut sender = Peer::open_with(service.mqtt, signing_in("sender", "desk", "ksed"));
    for id in 1..=20 {
        sender.publish(id, crate::peer::publish("harrowmere/gate/target", vec![id as u8], QoS::AtLeastOnce));
    }
    for id in 1..=20 {
        let message = desk.message();
        assert_eq!(message.payload[..], [id], "each of them");
        desk.acknowledge(&message);
    }
    assert!(is_unanswered(&mut pump));
}
