//! Topics that have one owner at a time.

use std::time::Duration;

use moorfall_wire::{
    Acknowledgement, Connect, Packet, PacketId, ProtocolVersion, Publish, QoS, ReasonCode, UserProperty, Will,
};
use serde_json::Value;

use crate::{
    harness::{Place, Service, wait},
    peer::{self, Peer, V5, V311},
};

const ALL: &str =
    "[[rules]]\nname = \"all\"\nwho = \"everyone\"\nmay = [\"publish\", \"subscribe\"]\ntopics = [\"#\"]\n";

const LEVEL: &str = "harrowmere/gorge/kettle-weir/level";

/// A design in which levels are owned in this way.
fn design(place: &Place, owned: &str) -> String {
    let owned = if owned.is_empty() {
        String::new()
    } else {
        format!("[[owned]]\npath = \"harrowmere/{{reach}}/{{station}}/level\"\n{owned}\n")
    };
    let text = format!("name = \"harrowmere\"\n[levels.reach]\n[levels.station]\n{ALL}{owned}");
    place.write("harrowmere.toml", &text).to_str().unwrap().to_owned()
}

const BY_RANK: &str = "strength = { attribute = \"rank\" }";

fn named(connect: Connect, name: &str) -> Connect {
    let password: String = name.chars().rev().collect();
    Connect { user_name: Some(name.into()), password: Some(password.into()), ..connect }
}

fn sign_in(service: &Service<'_>, version: ProtocolVersion, name: &str) -> Peer {
    Peer::open_with(service.mqtt, named(peer::connect(version, name), name))
}

fn level(value: &str, qos: QoS) -> Publish {
    peer::publish(LEVEL, value.as_bytes().to_vec(), qos)
}

/// Publishes at QoS 1 or 2 and gives what is answered.
fn say(peer: &mut Peer, id: u16, publish: Publish) -> Acknowledgement {
    let exactly_once = publish.qos == QoS::ExactlyOnce;
    peer.send(&Packet::Publish(Publish { packet_id: PacketId::new(id), ..publish }));
    match peer.receive() {
        Some(Packet::PubAck(ack)) => ack,
        Some(Packet::PubRec(ack)) => {
            if exactly_once && !ack.reason.is_error() {
                peer.send(&Packet::PubRel(Acknowledgement::success(ack.packet_id)));
                assert!(matches!(peer.receive(), Some(Packet::PubComp(_))));
            }
            ack
        }
        other => panic!("{other:?}"),
    }
}

fn heard(peer: &mut Peer) -> String {
    let message = peer.message();
    if message.qos == QoS::AtLeastOnce {
        peer.acknowledge(&message);
    }
    String::from_utf8_lossy(&message.payload).into_owned()
}

fn owner(service: &Service<'_>) -> Value {
    let list = service.run(&["topics", "owners", "harrowmere/#", "--json"]).json();
    list["topics"].as_array().and_then(|topics| topics.first()).cloned().unwrap_or_default()
}

fn wait_for_owner(service: &Service<'_>, who: &str) {
    wait("the owner changes", || (owner(service)["owner"]["client_id"] == who).then_some(()));
}

#[test]
fn of_two_sensors_the_better_one_is_heard_and_the_other_takes_over() {
    let place = Place::new();
    let file = design(&place, BY_RANK);
    let service = place.serve(&["--blueprint", &file]);
    for (name, rank) in [("stage", "rank=2"), ("stage-2", "rank=1"), ("diver", "rank=1"), ("desk", "kind=person")] {
        service.identity(name, &[rank]);
    }
    let mut desk = sign_in(&service, V5, "desk");
    desk.subscribe(LEVEL, QoS::AtLeastOnce);
    let mut second = sign_in(&service, V5, "stage-2");
    assert_eq!(say(&mut second, 1, level("second 1", QoS::AtLeastOnce)).reason, ReasonCode::Success);
    let mut first = sign_in(&service, V5, "stage");
    assert_eq!(say(&mut first, 1, level("first 1", QoS::AtLeastOnce)).reason, ReasonCode::Success, "it is stronger");
    let recording = service.run(&["recording", "start", LEVEL, "--for", "10m", "--background", "--json"]).json();
    let recording = recording["number"].to_string();
    for (id, qos) in [(2, QoS::AtLeastOnce), (3, QoS::ExactlyOnce), (3, QoS::ExactlyOnce)] {
        let told = say(&mut second, id, Publish { retain: true, ..level("second 2", qos) });
        assert_eq!(told.reason, ReasonCode::ImplementationSpecific);
        let words = told.properties.reason_string.unwrap();
        assert_eq!(&*words, "Message withheld: the topic is owned by stage (strength 2).");
    }
    second.send(&Packet::Publish(level("second 3", QoS::AtMostOnce)));
    let message = wait("it is recorded", || {
        let messages = service.run(&["recording", "show", &recording, "--json"]).json()["messages"].clone();
        messages.as_array().filter(|all| all.len() == 4).map(|all| all[0]["number"].to_string())
    });
    let told = service.run(&["recording", "message", &message]);
    assert!(told.ok().contains("withheld The topic is owned by stage, strength 2."), "{told:?}");
    // 3.1.1 can't be told: it is acknowledged as usual.
    let mut diver = sign_in(&service, V311, "diver");
    assert_eq!(say(&mut diver, 1, level("diver 1", QoS::AtLeastOnce)).reason, ReasonCode::Success);
    say(&mut first, 2, level("first 2", QoS::AtLeastOnce));
    assert_eq!([heard(&mut desk), heard(&mut desk), heard(&mut desk)], ["second 1", "first 1", "first 2"]);
    assert!(!service.run(&["retained", "list"]).ok().contains("kettle-weir"), "nothing of it is kept");

    let told = service.run(&["topics", "owners"]);
    assert!(told.ok().contains("owned by stage (strength 2) for"), "{told:?}");
    assert!(told.ok().contains("withheld: stage-2 (strength 1), last message"), "{told:?}");
    assert!(told.ok().contains("5 messages withheld"), "{told:?}");
    let told = service.run(&["topics", "show", LEVEL]);
    assert!(told.ok().contains("whoever has the greatest attribute rank owns it"), "{told:?}");
    let told = service.run(&["journey", LEVEL, "1", "--as", "stage-2"]);
    assert!(told.ok().contains("The topic is owned by stage, strength 2."), "{told:?}");
    assert!(told.ok().contains("Nobody would get the message"), "{told:?}");
    let told = service.run(&["journey", LEVEL, "1", "--as", "stage"]);
    assert!(told.ok().contains("The client owns the topic"), "{told:?}");
    let told = service.run(&["sessions", "show", "diver"]);
    assert!(told.ok().contains("1 withheld: another client owns the topic"), "{told:?}");
    wait("it is measured", || service.run(&["measures", "not_owner"]).ok().contains("not_owner  5").then_some(()));

    // Its connection breaks, and its session ends with it: of the two others the first is heard.
    drop(first);
    wait_for_owner(&service, "stage-2");
    assert_eq!(say(&mut second, 4, level("second 4", QoS::ExactlyOnce)).reason, ReasonCode::Success);
    say(&mut diver, 2, level("diver 2", QoS::AtLeastOnce));
    let mut first = sign_in(&service, V5, "stage");
    say(&mut first, 1, level("first 3", QoS::AtLeastOnce));
    assert_eq!(say(&mut second, 5, level("second 5", QoS::AtLeastOnce)).reason, ReasonCode::ImplementationSpecific);
    assert_eq!([heard(&mut desk), heard(&mut desk)], ["second 4", "first 3"]);
    service.wait_for_event("stage-2 (strength 1) owns harrowmere/gorge/kettle-weir/level now: the session of stage (strength 2) has ended.");
    service.wait_for_event(
        "stage (strength 2) owns harrowmere/gorge/kettle-weir/level now: it is stronger than stage-2 (strength 1).",
    );
}

#[test]
fn an_owner_that_is_silent_or_whose_session_is_kept() {
    let place = Place::new();
    let file = design(&place, &format!("{BY_RANK}\nsilent-after = \"2s\""));
    let service = place.serve(&["--blueprint", &file]);
    for (name, rank) in [("stage", "rank=2"), ("stage-2", "rank=1")] {
        service.identity(name, &[rank]);
    }
    // It keeps its session, which so does not end with the connection.
    let mut first = Peer::resume(service.mqtt, named(peer::keeping(V5, "stage"), "stage")).0;
    let mut second = sign_in(&service, V5, "stage-2");
    say(&mut first, 1, level("1", QoS::AtLeastOnce));
    drop(first);
    let began = std::time::Instant::now();
    let mut id = 0;
    wait("the owner is silent for too long", || {
        id += 1;
        (say(&mut second, id, level("2", QoS::AtLeastOnce)).reason == ReasonCode::NoMatchingSubscribers).then_some(())
    });
    assert!(began.elapsed() > Duration::from_millis(1_500), "not before its time");
    service.wait_for_event("stage (strength 2) was silent for too long.");
    // Nobody says anything for a while: then nobody is the owner.
    wait("nobody owns it", || owner(&service).is_null().then_some(()));
    service.wait_for_event(
        "Nobody owns harrowmere/gorge/kettle-weir/level now: stage-2 (strength 1) was silent for too long.",
    );
}

#[test]
fn strength_may_stand_in_the_messages_within_bounds() {
    let place = Place::new();
    let file = design(&place, "strength = { property = \"strength\", least = 0, greatest = 9 }");
    let service = place.serve(&["--blueprint", &file]);
    service.identity("weir", &["kind=station"]);
    let open = |client: &str| {
        let weir = named(peer::connect(V5, client), "weir");
        Peer::open_with(service.mqtt, weir)
    };
    let (mut one, mut two) = (open("one"), open("two"));
    let with = |strength: &str| {
        let mut publish = level("1", QoS::AtLeastOnce);
        publish.properties.user_properties.push(UserProperty { name: "strength".into(), value: strength.into() });
        publish
    };
    let mut say = |peer: usize, strength: &str| {
        let peer = if peer == 1 { &mut one } else { &mut two };
        !say(peer, 1, with(strength)).reason.is_error()
    };
    assert!(say(1, "5"));
    assert!(!say(2, "5"), "equal: the first stays");
    assert!(!say(2, "10"), "out of bounds is no strength");
    assert!(!say(2, "NaN") && !say(2, "strong"));
    assert!(say(2, "6"));
    assert!(!say(1, "5"));
    assert!(!say(2, "4"), "whoever says that it is weaker now is heard no more");
    assert!(say(1, "5"));
    let told = service.run(&["topics", "owners"]);
    assert!(told.ok().contains("owned by one (strength 5, identity weir)"), "{told:?}");
    let told = service.run(&["topics", "show", LEVEL]);
    assert!(told.ok().contains("whoever says the greatest strength (0 to 9) owns it"), "{told:?}");
}

#[test]
fn owners_outlive_the_service_whether_it_stops_or_crashes() {
    let place = Place::with_private_servers();
    let file = design(&place, BY_RANK);
    let mut service = place.serve(&["--blueprint", &file]);
    for (name, rank) in [("stage", "rank=1"), ("stage-2", "rank=1")] {
        service.identity(name, &[rank]);
    }
    let mut first = sign_in(&service, V5, "stage");
    say(&mut first, 1, level("1", QoS::AtLeastOnce));
    let since = owner(&service)["since"].clone();
    for crashes in [false, true] {
        if crashes {
            service.crash();
        } else {
            service.terminate();
        }
        service = place.serve(&["--blueprint", &file]);
        let seen = owner(&service);
        assert_eq!((&seen["owner"]["client_id"], &seen["unheard"]), (&"stage".into(), &true.into()), "{seen}");
        assert_eq!(seen["since"], since);
        let mut second = sign_in(&service, V5, "stage-2");
        let told = say(&mut second, 1, level("2", QoS::AtLeastOnce));
        assert_eq!(told.reason, ReasonCode::ImplementationSpecific, "the first may come back");
        let mut first = sign_in(&service, V5, "stage");
        assert!(!say(&mut first, 1, level("3", QoS::AtLeastOnce)).reason.is_error());
        assert_eq!(owner(&service)["unheard"], false);
    }
}

#[test]
fn a_change_of_the_design_shows_what_it_does_and_acts_at_once() {
    let place = Place::new();
    let none = design(&place, "");
    let service = place.serve(&["--blueprint", &none]);
    for (name, rank) in [("stage", "rank=2"), ("stage-2", "rank=1")] {
        service.identity(name, &[rank]);
    }
    let (mut first, mut second) = (sign_in(&service, V5, "stage"), sign_in(&service, V5, "stage-2"));
    let reason = |peer: &mut Peer| say(peer, 1, level("1", QoS::AtLeastOnce)).reason;
    assert_eq!(
        (reason(&mut first), reason(&mut second)),
        (ReasonCode::NoMatchingSubscribers, ReasonCode::NoMatchingSubscribers)
    );
    let told = service.run(&["topics", "owners"]);
    assert!(told.ok().contains("No topics have owners. Add [[owned]]"), "{told:?}");
    let changed = design(&place, BY_RANK);
    let told = service.run(&["blueprint", "diff", &changed]);
    let words = format!("{LEVEL} has one owner from then on; stage-2 published to it (strength 1)");
    let plain = told.ok().split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(plain.contains(&words) && plain.contains("owned harrowmere/{reach}/{station}/level"), "{told:?}");
    service.run(&["blueprint", "apply", &changed, "--message", "one is heard"]).ok();
    assert!(!reason(&mut first).is_error());
    assert_eq!(reason(&mut second), ReasonCode::ImplementationSpecific);
    let none = design(&place, "");
    let told = service.run(&["blueprint", "diff", &none]);
    let plain = told.ok().split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(plain.contains(&format!("{LEVEL} has no owner any more")), "{told:?}");
    service.run(&["blueprint", "apply", &none, "--message", "all are heard"]).ok();
    assert!(!reason(&mut second).is_error());
    assert!(owner(&service).is_null());
}

#[test]
fn wills_and_derived_topics_have_owners_too() {
    let place = Place::new();
    let derived = "[[derived]]\nname = \"level\"\nfrom = \"harrowmere/gorge/kettle-weir/raw\"\nto = \"harrowmere/gorge/kettle-weir/level\"\n";
    let file = design(&place, &format!("{BY_RANK}\n{derived}"));
    let service = place.serve(&["--blueprint", &file]);
    for (name, rank) in [("stage", "rank=2"), ("stage-2", "rank=1"), ("desk", "kind=person")] {
        service.identity(name, &[rank]);
    }
    let mut desk = sign_in(&service, V5, "desk");
    desk.subscribe(LEVEL, QoS::AtLeastOnce);
    let willing = |name: &str| {
        let will = Will::new(LEVEL.parse().unwrap(), format!("{name} is gone"), QoS::AtLeastOnce, false);
        Peer::open_with(service.mqtt, named(Connect { will: Some(will), ..peer::connect(V5, name) }, name))
    };
    let (mut first, mut second) = (willing("stage"), willing("stage-2"));
    say(&mut first, 1, level("first", QoS::AtLeastOnce));
    say(&mut second, 1, level("second", QoS::AtLeastOnce));
    drop(second);
    service.wait_for_event("The Will Message was published");
    // What the broker makes is published as by one without strength.
    say(&mut first, 2, peer::publish("harrowmere/gorge/kettle-weir/raw", b"7".to_vec(), QoS::AtLeastOnce));
    wait("it was withheld", || (owner(&service)["others"][0]["client_id"] == "derived:level").then_some(()));
    drop(first);
    assert_eq!([heard(&mut desk), heard(&mut desk)], ["first", "stage is gone"], "of the owner alone");
    wait_for_owner(&service, "derived:level");
    service.run(&["publish", "harrowmere/gorge/kettle-weir/raw", "8"]).ok();
    assert_eq!(heard(&mut desk), "8");
}
