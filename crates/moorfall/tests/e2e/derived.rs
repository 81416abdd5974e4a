//! Derived topics: made of what clients publish, through restarts and changes of the design.

use moorfall_wire::{Packet, QoS, ReasonCode};
use serde_json::Value;

use crate::{
    harness::{Place, Service, wait},
    peer::{self, Peer, V5, V311},
};

const LEVEL: &str = r#"
[[derived]]
name = "level"
from = "harrowmere/{station}/stage"
value = "payload.m"
factor = 100
to = "values/{station}/level"
dead-band = 5
retained = true
"#;

const FALL: &str = r#"
[[derived]]
name = "fall"
from = { upper = "harrowmere/kettle-weir/stage", lower = "harrowmere/nine-arches/stage" }
value = "upper.m - lower.m"
to = "values/fall"
payload = "record"
qos = 1
"#;

const ALARM: &str = r#"
[[derived]]
name = "alarm"
from = "values/{station}/level"
value = "payload > 200 ? 'high' : 'normal'"
on-change = true
to = "values/{station}/alarm"
"#;

fn blueprint(entries: &[&str]) -> String {
    format!("name = \"harrowmere\"\n[levels.station]\npattern = \"[a-z-]+\"\n{}", entries.concat())
}

/// An open service with this blueprint.
fn serve<'a>(place: &'a Place, entries: &[&str]) -> Service<'a> {
    let file = place.write("harrowmere.toml", &blueprint(entries));
    place.serve(&["--open", "--blueprint", file.to_str().unwrap()])
}

fn say(gauge: &mut Peer, topic: &str, payload: &str) {
    gauge.send(&Packet::Publish(peer::publish(topic, payload.as_bytes().to_vec(), QoS::AtMostOnce)));
}

fn heard(peer: &mut Peer) -> String {
    let message = peer.message();
    format!("{} {}", message.topic, String::from_utf8_lossy(&message.payload))
}

const WEIR: &str = "harrowmere/kettle-weir/stage";

#[test]
fn values_are_made_of_messages_and_of_each_other() {
    let place = Place::new();
    let service = serve(&place, &[LEVEL, FALL, ALARM]);
    let mut desk = Peer::open(service.mqtt, V5, "desk");
    desk.subscribe("values/#", QoS::AtLeastOnce);
    for version in [V5, V311] {
        let mut gauge = Peer::open(service.mqtt, version, "gauge");
        let number = if version == V5 { "1.83" } else { "2.5" };
        say(&mut gauge, WEIR, &format!("{{\"m\": {number}}}"));
        let made = [heard(&mut desk), heard(&mut desk)];
        let expected = if version == V5 {
            ["values/kettle-weir/level 183", "values/kettle-weir/alarm normal"]
        } else {
            ["values/kettle-weir/level 250", "values/kettle-weir/alarm high"]
        };
        assert_eq!(made, expected);
    }
    let mut gauge = Peer::open(service.mqtt, V5, "gauge");
    say(&mut gauge, "harrowmere/nine-arches/stage", "{\"m\": 1.25}");
    assert_eq!(heard(&mut desk), "values/nine-arches/level 125");
    let both = [heard(&mut desk), heard(&mut desk)];
    assert!(
        both.iter()
            .any(|one| one.starts_with("values/fall {\"value\":1.25,\"time\":\"20") && one.ends_with("\"good\"}")),
        "{both:?}"
    );
    say(&mut gauge, WEIR, "online");

    let list: Value = wait("the failure is counted", || {
        let list = service.run(&["derived", "list", "--json"]).json();
        (list["derived"][0]["counts"]["failed"] == 1).then_some(list)
    });
    let level = &list["derived"][0];
    assert_eq!(
        (&level["counts"]["heard"], &level["counts"]["published"], &level["topics"]),
        (&4.into(), &3.into(), &2.into()),
        "{level}"
    );
    assert_eq!((&level["failure"]["topic"], &level["failure"]["payload"]), (&WEIR.into(), &"online".into()));
    assert_eq!(list["trouble"], Value::Null);
    let told = service.run(&["derived", "list"]);
    assert!(told.ok().contains("level made no value of 1 message") && told.ok().contains("no such fields"), "{told:?}");
    let told = service.run(&["derived", "show", "level"]);
    for words in [
        "from        harrowmere/{station}/stage",
        "number      times 100",
        "when it has changed by 5",
        "250",
        "values/kettle-weir/level",
    ] {
        assert!(told.ok().contains(words), "{words}: {told:?}");
    }
    let told = service.run(&["topics", "show", "values/kettle-weir/level"]);
    for words in ["made by     level, of", WEIR, "values/kettle-weir/alarm by alarm"] {
        assert!(told.ok().contains(words), "{words}: {told:?}");
    }
    let measured = service.run(&["measures", "derived"]);
    assert!(measured.ok().contains("Messages that derived topics published"), "{measured:?}");
}

#[test]
fn a_trial_tells_what_would_be_published_and_publishes_nothing() {
    let place = Place::new();
    let service = serve(&place, &[LEVEL, FALL, ALARM]);
    wait("the design is heard", || {
        (service.run(&["derived", "list", "--json"]).json()["derived"][0]["name"] == "level").then_some(())
    });
    for (arguments, words) in [
        (["level", WEIR, "{\"m\": 2}"], "values/kettle-weir/level\n  200\n"),
        (["fall", WEIR, "{\"m\": 2}"], "Nothing is published until lower has said something, too."),
        (["level", WEIR, "{}"], "No value can be made: there is no `m`."),
        (["level", "elsewhere", "1"], "level does not hear elsewhere."),
    ] {
        let told = service.run(&[["derived", "try"].as_slice(), &arguments].concat());
        assert!(told.ok().contains(words), "{arguments:?}: {told:?}");
    }
    let told = service.run(&["derived", "try", "none", WEIR, "1"]);
    assert!(
        told.failed().contains("There is no derived topic none. The blueprint in force has: level, fall, alarm."),
        "{told:?}"
    );
    let told = service.run(&["derived", "try", "level", "a/+", "1"]);
    assert!(told.failed().contains("`a/+` is not a topic"), "{told:?}");
    assert_eq!(service.run(&["derived", "list", "--json"]).json()["derived"][0]["counts"]["heard"], 0);
}

#[test]
fn what_is_known_outlives_the_service_and_the_newest_value_is_retained() {
    let place = Place::with_private_servers();
    let service = serve(&place, &[LEVEL, FALL]);
    let mut desk = Peer::open(service.mqtt, V5, "desk");
    desk.subscribe("values/#", QoS::AtMostOnce);
    let mut gauge = Peer::open(service.mqtt, V5, "gauge");
    gauge.publish(1, peer::publish(WEIR, b"{\"m\": 2.0}".to_vec(), QoS::AtLeastOnce));
    assert_eq!(heard(&mut desk), "values/kettle-weir/level 200");
    service.terminate();

    let service = serve(&place, &[LEVEL, FALL]);
    let mut desk = Peer::open(service.mqtt, V5, "desk");
    desk.subscribe("values/#", QoS::AtMostOnce);
    assert_eq!(heard(&mut desk), "values/kettle-weir/level 200", "retained");
    let mut gauge = Peer::open(service.mqtt, V5, "gauge");
    // Within the dead band of what was published before; and of the fall the upper one is known.
    gauge.publish(1, peer::publish("harrowmere/nine-arches/stage", b"{\"m\": 1.0}".to_vec(), QoS::AtLeastOnce));
    gauge.publish(2, peer::publish(WEIR, b"{\"m\": 2.04}".to_vec(), QoS::AtLeastOnce));
    let mut made = Vec::new();
    while made.len() < 3 {
        made.push(heard(&mut desk));
    }
    let (falls, levels): (Vec<String>, Vec<String>) = made.into_iter().partition(|one| one.starts_with("values/fall"));
    assert_eq!(levels, ["values/nine-arches/level 100"]);
    assert!(falls[0].contains("\"value\":1,") && falls[1].contains("\"value\":1.04,"), "{falls:?}");
}

#[test]
fn a_change_of_the_design_is_a_change_of_what_is_made_and_the_rest_goes_on() {
    let place = Place::new();
    let service = serve(&place, &[LEVEL, ALARM]);
    let mut desk = Peer::open(service.mqtt, V5, "desk");
    desk.subscribe("values/#", QoS::AtMostOnce);
    let mut gauge = Peer::open(service.mqtt, V5, "gauge");
    say(&mut gauge, WEIR, "{\"m\": 1}");
    assert_eq!(heard(&mut desk), "values/kettle-weir/level 100");
    assert_eq!(heard(&mut desk), "values/kettle-weir/alarm normal");
    let apply = |entries: &[&str]| {
        let file = place.write("next.toml", &blueprint(entries));
        service.run(&["blueprint", "apply", file.to_str().unwrap(), "--message", "another design"])
    };
    let doubled = ALARM.replace("alarm", "doubled").replace("payload > 200 ? 'high' : 'normal'", "payload * 2");
    apply(&[LEVEL, &doubled]).ok();
    wait("the new one is heard", || {
        (service.run(&["derived", "list", "--json"]).json()["derived"][1]["name"] == "doubled").then_some(())
    });
    let list = service.run(&["derived", "list", "--json"]).json();
    assert_eq!(list["derived"][0]["counts"]["published"], 1, "the other one goes on: {list}");
    say(&mut gauge, WEIR, "{\"m\": 1.01}");
    say(&mut gauge, WEIR, "{\"m\": 2}");
    assert_eq!(heard(&mut desk), "values/kettle-weir/level 200", "what lies within the dead band is left out");
    assert_eq!(heard(&mut desk), "values/kettle-weir/doubled 400");
    let round = LEVEL.replace("values/{station}/level", "harrowmere/{station}/stage");
    let told = apply(&[&round]);
    assert!(told.failed().contains("Not ready to apply"), "{told:?}");
    assert!(told.out.contains("derived topics go round: harrowmere/"), "{told:?}");
    let file = place.write("none.toml", &blueprint(&[]));
    let told = service.run(&["blueprint", "diff", file.to_str().unwrap()]);
    let words = "the retained message of values/kettle-weir/level stays, and no derived topic\n  makes it any more";
    assert!(told.ok().contains(words), "{told:?}");
    apply(&[]).ok();
    wait("nothing is made any more", || {
        let sessions = service.run(&["sessions", "--json"]).json().to_string();
        (!sessions.contains("derived:")).then_some(())
    });
    say(&mut gauge, WEIR, "{\"m\": 9}");
    say(&mut gauge, "values/end", "1");
    assert_eq!(heard(&mut desk), "values/end 1");
}

#[test]
fn a_silent_source_makes_its_value_stale_by_itself() {
    let place = Place::new();
    let entry = LEVEL.replace("dead-band = 5", "payload = \"record\"\ncadence = \"1s\"");
    let service = serve(&place, &[&entry]);
    let mut desk = Peer::open(service.mqtt, V5, "desk");
    desk.subscribe("values/#", QoS::AtMostOnce);
    let mut gauge = Peer::open(service.mqtt, V5, "gauge");
    say(&mut gauge, WEIR, "{\"m\": 1}");
    let (good, stale) = (heard(&mut desk), heard(&mut desk));
    assert!(good.contains("\"value\":100") && good.ends_with("\"quality\":\"good\"}"), "{good}");
    assert_eq!(stale, good.replace("\"good\"", "\"stale\""), "its time is that of the value");
    assert!(service.run(&["derived", "show", "level"]).ok().contains("stale values/kettle-weir/level"));
}

#[test]
fn nobody_else_takes_the_name_or_the_place_of_derived_topics() {
    let place = Place::new();
    let service = serve(&place, &[LEVEL]);
    let told = service.run(&["identities", "set", "derived:level"]);
    assert!(told.failed().contains("names that begin with derived: belong to derived topics"), "{told:?}");
    let mut thief = Peer::begin(service.mqtt, peer::connect(V5, "derived:"));
    let Some(Packet::ConnAck(answer)) = thief.receive() else { panic!("no CONNACK") };
    assert_eq!(answer.reason, ReasonCode::ClientIdentifierNotValid, "{answer:?}");
}

#[test]
fn what_is_made_is_held_against_the_plan() {
    let place = Place::new();
    let strict = "[[topics]]\npath = \"values/{station}/level\"\npayload = \"json\"\nschema = { maximum = 200 }\non-breach = \"refuse\"\n";
    let service = serve(&place, &[strict, &LEVEL.replace("retained = true", "")]);
    let mut desk = Peer::open(service.mqtt, V5, "desk");
    desk.subscribe("values/#", QoS::AtMostOnce);
    let mut gauge = Peer::open(service.mqtt, V5, "gauge");
    say(&mut gauge, WEIR, "{\"m\": 3}");
    say(&mut gauge, WEIR, "{\"m\": 1.5}");
    assert_eq!(heard(&mut desk), "values/kettle-weir/level 150", "300 is refused");
    let counts = service.run(&["derived", "list", "--json"]).json()["derived"][0]["counts"].clone();
    assert_eq!(
        (&counts["heard"], &counts["published"], &counts["refused"]),
        (&2.into(), &1.into(), &1.into()),
        "{counts}"
    );
    let told = service.run(&["topics", "drift"]);
    assert!(told.ok().contains("values/kettle-weir/level") && told.ok().contains("derived:level"), "{told:?}");
}
