//! Publishing, subscribing and asking in all the ways that the command line knows.

use std::{io::Write, process::Stdio};

use moorfall_wire::*;
use serde_json::Value;

use crate::{
    harness::{Place, Ran},
    peer::{Peer, V5, publish},
};

const LEVEL: &str = "harrowmere/gorge/kettle-weir/stage/level";
const TARGET: &str = "harrowmere/gorge/kettle-weir/gate/target";

/// Runs a command with something on its standard input.
fn feed(place: &Place, arguments: &[&str], input: &[u8]) -> Ran {
    let mut command = place.program(arguments);
    let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(input).unwrap();
    Ran::from(child.wait_with_output().unwrap())
}

/// The payloads that a subscriber got.
fn payloads(got: &Ran) -> Vec<String> {
    let object = |line: &str| serde_json::from_str::<Value>(line).unwrap();
    got.ok().lines().map(|line| object(line)["payload"].as_str().unwrap_or("(bytes)").to_owned()).collect()
}

#[test]
fn payloads_come_from_arguments_files_and_lines_in_every_form() {
    let place = Place::new();
    let service = place.serve(&[]);
    let reader = service.spawn(&["subscribe", LEVEL, "--take", "10", "--json"], "subscribed");
    let send = |more: &[&str]| service.run(&[&["publish", LEVEL][..], more].concat());
    send(&["6f6e", "--encoding", "hex"]).ok();
    send(&["b2Zm", "--encoding", "base64"]).ok();
    send(&["{\"m\": 1}", "--encoding", "json"]).ok();
    assert!(send(&["{\"m\": }", "--encoding", "json"]).failed().contains("The payload is not JSON"));
    assert!(send(&["xy", "--encoding", "hex"]).failed().contains("Invalid character"));
    let file = place.write("payload", "from a file\nin two lines\n");
    send(&["--file", file.to_str().unwrap()]).ok();
    feed(&place, &["publish", LEVEL, "--file", "-"], &[0xff, 0xfe]).ok();
    let lines = feed(&place, &["publish", LEVEL, "--lines"], b"1.81\n1.82\n1.83\n");
    assert!(lines.ok().contains("3 of 3 messages acknowledged"), "{lines:?}");
    let wrong = feed(&place, &["publish", LEVEL, "--lines", "--encoding", "json"], b"1.84\n{\n1.85\n");
    assert!(wrong.failed().contains("Line 2: The payload is not JSON"), "{wrong:?}");
    assert!(wrong.out.contains(&format!("{LEVEL}: acknowledged")), "what went before is told: {wrong:?}");
    send(&["last"]).ok();
    assert_eq!(
        payloads(&reader.finish()),
        ["on", "off", "{\"m\": 1}", "from a file\nin two lines\n", "(bytes)", "1.81", "1.82", "1.83", "1.84", "last"]
    );
    assert!(send(&["--file", "/nowhere/at/all"]).failed().contains("can't be read"));
}

#[test]
fn messages_are_repeated_with_what_differs_filled_in() {
    let place = Place::new();
    let service = place.serve(&[]);
    let reader = service.spawn(&["subscribe", LEVEL, "--take", "3", "--json"], "subscribed");
    let sent = service.run(&[
        "publish",
        LEVEL,
        "{\"n\": %{count}, \"m\": %{random 1.5..2.5}, \"at\": \"%{time}\"}",
        "--count",
        "3",
        "--every",
        "20ms",
        "--verbose",
    ]);
    assert!(sent.ok().contains("3 of 3 messages acknowledged") && sent.out.contains("(least / median / greatest)"));
    for (number, payload) in (1..).zip(payloads(&reader.finish())) {
        let filled: Value = serde_json::from_str(&payload).unwrap();
        assert_eq!(filled["n"], number);
        assert!((1.5..2.5).contains(&filled["m"].as_f64().unwrap()), "{filled}");
    }
    let told = service.run(&["publish", LEVEL, "%{what}", "--count", "2"]);
    assert!(told.failed().contains("`%{what}` is unknown"), "{told:?}");
    let json = service.run(&["publish", LEVEL, "1.83", "--count", "5", "--json"]).json();
    assert_eq!((&json["sent"], &json["without_subscribers"], &json["refused"]), (&5.into(), &5.into(), &0.into()));
    assert!(json["milliseconds"]["median"].as_f64().unwrap() > 0.0);
}

#[test]
fn refused_messages_are_counted_and_told() {
    let place = Place::new();
    let service = place.serve_catchment();
    service.identity("auditor", &["kind=person"]);
    let password = place.write("password", "rotidua");
    let auditor = ["--as", "auditor", "--password-file", password.to_str().unwrap()];
    let refused = service.run(&[&["publish", TARGET, "90", "--count", "12"][..], &auditor].concat());
    assert!(refused.failed().contains("Refused: 12 messages"), "{refused:?}");
    assert!(refused.out.contains("0 of 12 messages acknowledged, 12 refused"), "{refused:?}");
    assert_eq!(refused.out.matches("rule `auditor-never-writes` denies it").count(), 10, "the first of them are told");
}

#[test]
fn properties_travel_and_are_shown() {
    let place = Place::new();
    let service = place.serve(&[]);
    let reader = service
        .spawn(&["subscribe", "harrowmere/#", "--take", "1", "--show", "all", "--payload-as", "json"], "subscribed");
    let json = service.spawn(&["subscribe", "harrowmere/#", "--take", "1", "--json"], "subscribed");
    let send = [
        "publish",
        LEVEL,
        "{\"m\":1.83}",
        "--expiry",
        "2m",
        "--property",
        "sensor=2",
        "--property",
        "sensor=3",
        "--content-type",
        "application/json",
        "--response-topic",
        "harrowmere/answers",
        "--correlation",
        "c-1",
    ];
    service.run(&send).ok();
    let shown = reader.finish();
    for part in [
        "(QoS 1, 10 B)",
        "Content Type      application/json",
        "Expires in",
        "Response Topic    harrowmere/answers",
        "Correlation Data  c-1",
        "sensor            2",
        "sensor            3",
        "  {\n    \"m\": 1.83\n  }",
    ] {
        assert!(shown.ok().contains(part), "{part}: {}", shown.out);
    }
    let properties = json.finish().json()["properties"].clone();
    assert_eq!(properties["user"], serde_json::json!([["sensor", "2"], ["sensor", "3"]]));
    assert_eq!(properties["content_type"], "application/json");
    assert!(properties["expiry_seconds"].as_u64().unwrap() >= 119);
    let older = service.run(&[&send[..], &["--protocol", "3.1.1"]].concat());
    assert!(older.failed().contains("need MQTT 5.0"), "nothing is left out in silence: {older:?}");
}

#[test]
fn what_is_read_can_be_chosen() {
    let place = Place::new();
    let service = place.serve(&[]);
    for (station, state) in [("kettle-weir", "online"), ("nine-arches", "offline")] {
        service.run(&["publish", &format!("harrowmere/gorge/{station}/status"), state, "--retain"]).ok();
    }
    // Retained ones alone: it ends by itself.
    let only = service.run(&["subscribe", "harrowmere/#", "--only", "retained"]);
    assert_eq!(only.ok().lines().count(), 2, "{only:?}");
    let online = service.run(&["subscribe", "#", "--only", "retained", "--where", "payload == 'online' && retained"]);
    assert_eq!(online.ok(), "harrowmere/gorge/kettle-weir/status (retained) online\n");

    // New ones alone, each filter with its own QoS, and a condition on a field.
    for version in ["5.0", "3.1.1"] {
        let arguments = [
            "subscribe",
            "harrowmere/+/+/stage/level:2",
            "harrowmere/#:0",
            "--only",
            "new",
            "--where",
            "payload.m > 1.8 && levels[1] == 'gorge'",
            "--take",
            "2",
            "--show",
            "json",
            "--protocol",
            version,
        ];
        let reader = service.spawn(&arguments, "subscribed to harrowmere/# at QoS 0");
        service.run(&["publish", LEVEL, "{\"m\": 1.7}", "--qos", "2"]).ok();
        service.run(&["publish", LEVEL, "{\"m\": 1.9}", "--qos", "2"]).ok();
        service.run(&["publish", LEVEL, "{\"m\": 2}", "--qos", "2"]).ok();
        let got = reader.finish();
        let first: Value = serde_json::from_str(got.ok().lines().next().unwrap()).unwrap();
        assert_eq!((&first["payload"], &first["retained"]), (&"{\"m\": 1.9}".into(), &false.into()), "{version}");
    }
    let wrong = service.run(&["subscribe", "harrowmere/#", "--where", "payload.m ="]);
    assert!(wrong.code == Some(2) && wrong.err.contains('^'), "{wrong:?}");
}

#[test]
fn a_summary_shows_rates_in_place_of_messages() {
    let place = Place::new();
    let service = place.serve(&[]);
    let reader = service.spawn(&["subscribe", "harrowmere/#", "--summary", "--take", "50", "--json"], "subscribed");
    service.run(&["publish", LEVEL, "1.83", "--count", "40"]).ok();
    service.run(&["publish", TARGET, "90", "--count", "10"]).ok();
    let got = reader.finish();
    let lines: Vec<Value> = got.ok().lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(lines.last().unwrap()["total"], 50);
    assert_eq!(lines.iter().map(|line| line["messages"].as_u64().unwrap()).sum::<u64>(), 50, "{got:?}");
    assert!(got.out.contains(LEVEL) && !got.out.contains("1.83"), "{got:?}");
}

#[test]
fn a_request_waits_for_its_own_answer() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let alone = service.run(&["request", TARGET, "40"]);
    assert!(alone.failed().contains("has no subscribers"), "{alone:?}");
    let mut gate = Peer::open(service.mqtt, V5, "kettle-weir");
    gate.subscribe(TARGET, QoS::AtLeastOnce);
    let silent = service.run(&["request", TARGET, "40", "--within", "300ms"]);
    assert!(silent.failed().contains("No response within 0.3 s"), "{silent:?}");
    let _unanswered = gate.message();

    let asking = service.spawn(&["request", TARGET, "40", "--within", "10s", "--json"], "");
    let asked = gate.message();
    let place_of_answer = asked.properties.response_topic.clone().unwrap();
    let mut other = publish(&place_of_answer, b"to somebody else".to_vec(), QoS::AtMostOnce);
    other.properties.correlation_data = Some("x".into());
    gate.send(&Packet::Publish(other));
    let mut answer = publish(&place_of_answer, b"41".to_vec(), QoS::AtMostOnce);
    answer.properties.correlation_data = asked.properties.correlation_data.clone();
    gate.send(&Packet::Publish(answer));
    let got = asking.finish();
    assert_eq!(got.json()["payload"], "41");
    assert!(got.err.contains("ignored a response") && got.err.contains("response after"), "{got:?}");
}

#[test]
fn a_subscriber_connects_again_and_says_so() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let mqtt = service.mqtt.to_string();
    let remote = format!("mqtt://{mqtt}");
    let reader = service.spawn(&["subscribe", LEVEL, "--take", "1", "--remote", &remote], "subscribed");
    let impatient =
        service.spawn(&["subscribe", LEVEL, "--take", "1", "--remote", &remote, "--no-reconnect"], "subscribed");
    service.terminate();
    assert!(impatient.finish().failed().contains("Run the command again to continue"));
    let service = place.serve(&["--open", "--mqtt", &mqtt]);
    service.wait_for("the subscriber to return", |status| status["subscriptions"] == 1);
    service.run(&["publish", LEVEL, "1.83"]).ok();
    let got = reader.finish();
    assert_eq!(got.ok(), format!("{LEVEL} 1.83\n"));
    assert!(got.err.contains("Connecting again") && got.err.contains("connected again"), "{got:?}");
}

#[test]
fn messages_wait_for_a_subscriber_whose_session_is_kept() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    service.run(&["publish", LEVEL, "1.80", "--retain", "--qos", "1"]).ok();
    for protocol in ["5.0", "3.1.1"] {
        let kept = |more: &[&str]| {
            let which = ["subscribe", LEVEL, "--client-id", protocol, "--session-expiry", "1h", "--protocol", protocol];
            service.run(&[&which, more].concat())
        };
        assert_eq!(kept(&["--take", "1"]).ok(), format!("{LEVEL} (retained) 1.80\n"));
        service.run(&["publish", LEVEL, "1.91", "--qos", "1"]).ok();
        service.run(&["publish", LEVEL, "2.04", "--qos", "1"]).ok();
        // By 5.0 what was retained does not come once more.
        let again = kept(if protocol == "5.0" { &["--take", "2"] } else { &["--where", "!retained", "--take", "2"] });
        assert_eq!(again.ok(), format!("{LEVEL} 1.91\n{LEVEL} 2.04\n"));
    }
    let nameless = service.run(&["subscribe", LEVEL, "--session-expiry", "1h"]);
    assert_eq!(nameless.code, Some(2));
    assert!(nameless.err.contains("--client-id"), "{nameless:?}");
}

#[test]
fn shells_and_manuals_know_the_commands() {
    let place = Place::new();
    for shell in ["bash", "zsh", "fish"] {
        let script = place.run(&["completions", shell]);
        assert!(script.ok().contains("moorfall") && script.out.contains("password-file"), "{shell}");
    }
    let mut unknown = place.program(&["completions"]);
    let unknown = Ran::from(unknown.env("SHELL", "/bin/false").output().unwrap());
    assert!(unknown.failed().contains("Give one, for example bash"), "{unknown:?}");
    let folder = place.path().join("man");
    place.run(&["manual", folder.to_str().unwrap()]).ok();
    let page = |name: &str| std::fs::read_to_string(folder.join(name)).unwrap();
    assert!(page("moorfall.1").contains("moorfall\\-publish(1)"));
    assert!(page("moorfall-retained-clear.1").contains("asking"));
}
