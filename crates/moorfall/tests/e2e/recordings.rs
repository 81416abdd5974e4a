//! What is recorded of live messages, compared with what their recipients saw.

use moorfall_wire::*;
use serde_json::Value;

use crate::{
    harness::{BLUEPRINT, Place, Service, wait},
    peer::{Peer, V5, V311, connect, keeping, publish},
};

const LEVEL: &str = "harrowmere/gorge/kettle-weir/stage/level";

/// Begins a recording and leaves it to the service; gives its number.
fn begin(service: &Service<'_>, filter: &str) -> String {
    service.run(&["recording", "start", filter, "--for", "10m", "--background", "--json"]).json()["number"].to_string()
}

fn messages(service: &Service<'_>, recording: &str) -> Vec<Value> {
    service.run(&["recording", "show", recording, "--json"]).json()["messages"].as_array().unwrap().clone()
}

/// The journey of the newest message, once it is as wanted.
#[track_caller]
fn newest(service: &Service<'_>, recording: &str, wanted: impl Fn(&Value) -> bool) -> Value {
    wait("the message is recorded as wanted", || {
        let message = messages(service, recording).first()?["number"].to_string();
        Some(service.run(&["recording", "message", &message, "--json"]).json()).filter(|journey| wanted(journey))
    })
}

/// What a client got of a message: outcome and why.
fn of<'a>(journey: &'a Value, client: &str) -> (&'a str, &'a str) {
    let all = journey["recipients"].as_array().unwrap();
    let one = all.iter().find(|one| one["client_id"] == client).unwrap_or_else(|| panic!("{client}: {journey}"));
    (one["outcome"].as_str().unwrap(), one["explanation"].as_str().unwrap())
}

fn send(service: &Service<'_>, payload: &str, qos: &str) {
    service.run(&["publish", LEVEL, payload, "--qos", qos]).ok();
}

#[test]
fn each_recipient_has_its_outcome_and_its_reason() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let mut desk = Peer::open(service.mqtt, V5, "duty-desk");
    desk.subscribe("harrowmere/#", QoS::AtLeastOnce);
    let mut glance = Peer::open(service.mqtt, V311, "glance");
    glance.subscribe("harrowmere/#", QoS::AtMostOnce);
    let mut small = connect(V5, "small-screen");
    small.properties.maximum_packet_size = std::num::NonZeroU32::new(60);
    let mut small = Peer::open_with(service.mqtt, small);
    small.subscribe("harrowmere/#", QoS::AtLeastOnce);
    for (name, qos) in [("archive", QoS::ExactlyOnce), ("away", QoS::AtMostOnce)] {
        let mut kept = Peer::open_with(service.mqtt, keeping(V5, name));
        kept.subscribe("harrowmere/#", qos);
    }
    service.wait_for("two to be away", |status| status["sessions_away"] == 2);

    send(&service, "1.81", "1");
    assert_eq!(desk.message().payload, "1.81", "nothing is recorded of it");
    let recording = begin(&service, "harrowmere/+/+/stage/level");
    send(&service, r#"{"m": 1.83, "quality": "good"}"#, "1");
    let message = desk.message();
    assert_eq!(message.payload, r#"{"m": 1.83, "quality": "good"}"#);
    let before = newest(&service, &recording, |journey| of(journey, "duty-desk").0 == "sent");
    assert!(of(&before, "duty-desk").1.ends_with("not acknowledged yet"), "{before}");
    desk.acknowledge(&message);
    let journey = newest(&service, &recording, |journey| of(journey, "duty-desk").0 == "acknowledged");
    assert_eq!(journey["message"]["preview"], r#"{"m": 1.83, "quality": "good"}"#);
    assert_eq!((&journey["message"]["qos"], &journey["message"]["recipients"]), (&1.into(), &5.into()));
    assert_eq!(of(&journey, "glance").0, "sent");
    assert_eq!(of(&journey, "small-screen"), ("withheld", "larger than the Maximum Packet Size of the client"));
    assert_eq!(of(&journey, "archive"), ("queued", "the client is disconnected"));
    assert_eq!(of(&journey, "away"), ("withheld", "the client is disconnected"));
    let desk_of = journey["recipients"].as_array().unwrap().iter().find(|one| one["client_id"] == "duty-desk").unwrap();
    let (sent, answered) = (desk_of["sent_after"].as_f64().unwrap(), desk_of["answered_after"].as_f64().unwrap());
    assert!(0.0 < sent && sent < answered, "{desk_of}");
    let counts = ["queued", "sent", "acknowledged", "withheld"].map(|name| journey["message"][name].as_u64().unwrap());
    assert_eq!(counts, [1, 1, 1, 2], "{journey}");

    // Who was away takes it later, and refuses the next.
    let (mut archive, resumed) = Peer::resume(service.mqtt, keeping(V5, "archive"));
    assert!(resumed);
    archive.message();
    let waited = archive.message();
    archive.acknowledge(&waited);
    newest(&service, &recording, |journey| of(journey, "archive").0 == "acknowledged");
    send(&service, "1.85", "1");
    let refused = archive.message();
    let refusal =
        Acknowledgement { reason: ReasonCode::QuotaExceeded, ..Acknowledgement::success(refused.packet_id.unwrap()) };
    archive.send(&Packet::PubAck(refusal));
    let journey = newest(&service, &recording, |journey| of(journey, "archive").0 == "refused");
    assert!(of(&journey, "archive").1.contains("Quota exceeded"), "{journey}");

    // A session that ends has not got what waited for it.
    send(&service, "1.87", "1");
    archive.message();
    newest(&service, &recording, |journey| of(journey, "archive").0 == "sent");
    let mut over = Disconnect { reason: ReasonCode::Success, properties: Default::default() };
    over.properties.session_expiry_interval = Some(0);
    archive.send(&Packet::Disconnect(over));
    newest(&service, &recording, |journey| {
        let (outcome, words) = of(journey, "archive");
        outcome == "withheld" && words.contains("the session ended before the client acknowledged it")
    });

    let text = service.run(&["recording", "show", &recording]);
    assert!(text.ok().contains(" acknowledged") && text.out.contains(" withheld"), "{text:?}");
    assert!(text.out.lines().all(|line| line.chars().count() <= 80), "{text:?}");
    let number = messages(&service, &recording)[0]["number"].to_string();
    let one = service.run(&["recording", "message", &number]);
    assert!(one.ok().contains("small-screen") && one.out.contains("withheld"), "{one:?}");
    assert!(one.out.lines().all(|line| line.chars().count() <= 80), "{one:?}");
}

#[test]
fn own_messages_full_queues_turns_and_expiry_are_told_apart() {
    let place = Place::new();
    let configuration = place.write("moorfall.toml", "[limits]\nqueue-messages = 1\n");
    let service = place.serve(&["--open", "--config", configuration.to_str().unwrap()]);
    let recording = begin(&service, "#");
    let mut station = Peer::open(service.mqtt, V5, "kettle-weir");
    let options = SubscriptionOptions { qos: QoS::AtLeastOnce, no_local: true, ..SubscriptionOptions::default() };
    let own = Subscription { filter: "harrowmere/#".parse().unwrap(), options };
    let packet_id = PacketId::MIN;
    station.send(&Packet::Subscribe(Subscribe { packet_id, properties: Default::default(), subscriptions: vec![own] }));
    assert!(matches!(station.receive(), Some(Packet::SubAck(_))));
    for name in ["one", "two"] {
        let mut kept = Peer::open_with(service.mqtt, keeping(V5, name));
        kept.subscribe(if name == "one" { "harrowmere/#" } else { "$share/desks/harrowmere/#" }, QoS::AtLeastOnce);
    }
    service.wait_for("both to be away", |status| status["sessions_away"] == 2);
    let mut expiring = publish(LEVEL, b"1.83".to_vec(), QoS::AtLeastOnce);
    expiring.properties.message_expiry_interval = Some(1);
    station.publish(1, expiring);
    let journey = newest(&service, &recording, |journey| journey["recipients"].as_array().unwrap().len() == 3);
    assert!(of(&journey, "kettle-weir").1.contains("No Local"), "{journey}");
    assert_eq!((of(&journey, "one").0, of(&journey, "two").0), ("queued", "queued"));
    let by = journey["recipients"].as_array().unwrap().iter().find(|one| one["client_id"] == "two").unwrap();
    assert_eq!(by["shared"], "$share/desks/harrowmere/#");
    assert_eq!(journey["message"]["client_id"], "kettle-weir");
    let first = journey["message"]["number"].to_string();

    let lost = publish(LEVEL, b"1.85".to_vec(), QoS::AtLeastOnce);
    station.send(&Packet::Publish(Publish { packet_id: PacketId::new(2), ..lost }));
    let told = station.receive();
    assert!(matches!(&told, Some(Packet::PubAck(ack)) if ack.reason == ReasonCode::QuotaExceeded), "{told:?}");
    let full = newest(&service, &recording, |journey| journey["message"]["preview"] == "1.85");
    assert_eq!(of(&full, "one"), ("withheld", "the queue is full"));

    // The first one's life is a second; then its client comes back.
    let over = || service.run(&["retained", "list", "--json"]).code == Some(0);
    let began = std::time::Instant::now();
    wait("a second is over", || (over() && began.elapsed() > std::time::Duration::from_millis(1_100)).then_some(()));
    let (_one, _) = Peer::resume(service.mqtt, keeping(V5, "one"));
    let journey = || service.run(&["recording", "message", &first, "--json"]).json();
    wait("it has expired", || (of(&journey(), "one") == ("withheld", "expired in the queue")).then_some(()));
}

#[test]
fn what_the_broker_does_not_take_is_recorded_with_the_reason() {
    let place = Place::new();
    let service = place.serve_catchment();
    service.identity("contractor-pumps", &["kind=contractor", "operator=fenwater"]);
    let recording = begin(&service, "harrowmere/#");
    let password = place.write("pumps", "spmup-rotcartnoc");
    let target = "harrowmere/gorge/kettle-weir/gate/target";
    let sign_in = ["--as", "contractor-pumps", "--password-file", password.to_str().unwrap()];
    assert_eq!(service.run(&[&["publish", target, "90"][..], &sign_in].concat()).code, Some(1));
    let journey = newest(&service, &recording, |_| true);
    assert!(
        journey["message"]["refused"].as_str().unwrap().contains("contractor-pumps is not allowed to publish"),
        "{journey}"
    );
    assert_eq!(journey["message"]["identity"], "contractor-pumps");
    assert!(journey["recipients"].as_array().unwrap().is_empty());
    let told = service.run(&["recording", "show", &recording]);
    assert!(told.ok().contains("refused"), "{told:?}");

    // What it may: the deciding rule and the plan are told.
    service.run(&["publish", LEVEL, "not a number"]).ok();
    let journey = newest(&service, &recording, |journey| journey["message"]["topic"] == LEVEL);
    assert!(
        journey["message"]["plan"]["explanation"].as_str().unwrap().contains("does not match the plan"),
        "{journey}"
    );
    assert_eq!(journey["message"]["refused"], "");
}

#[test]
fn what_a_rule_denies_within_an_allowed_filter_is_recorded_as_withheld() {
    let place = Place::new();
    let rules = "[[rules]]\nname = \"reader-reads\"\nwho = { identity = \"reader\" }\nmay = [\"subscribe\"]\n\
         topics = [\"harrowmere/#\"]\n[[rules]]\nname = \"reader-sees-no-gates\"\nwho = { identity = \"reader\" \
         }\nnever = [\"subscribe\"]\ntopics = [\"harrowmere/+/+/gate/#\"]\n";
    let blueprint = place.write("blueprint.toml", &format!("{BLUEPRINT}\n{rules}"));
    let service = place.serve(&["--blueprint", blueprint.to_str().unwrap()]);
    service.identity("reader", &["kind=person"]);
    let sign_in = connect(V5, "reader");
    let sign_in = Connect { user_name: Some("reader".into()), password: Some("redaer".into()), ..sign_in };
    let mut reader = Peer::open_with(service.mqtt, sign_in);
    reader.subscribe("harrowmere/#", QoS::AtLeastOnce);
    let recording = begin(&service, "#");
    service.run(&["publish", "harrowmere/gorge/kettle-weir/gate/position", "40"]).ok();
    let journey = newest(&service, &recording, |journey| of(journey, "reader").0 == "withheld");
    assert_eq!(of(&journey, "reader").1, "a rule denies the topic");
    service.run(&["publish", LEVEL, "1.83"]).ok();
    assert_eq!(reader.message().payload, "1.83");
    newest(&service, &recording, |journey| of(journey, "reader").0 == "sent");
}

#[test]
fn a_recording_is_bounded_in_time_and_amount() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let short = service.run(&["recording", "start", "a/#", "--for", "1s", "--background", "--json"]).json();
    let short = short["number"].to_string();
    let list = || service.run(&["recording", "list", "--json"]).json();
    wait("it has ended", || (list()[0]["running"] == false).then_some(()));
    service.run(&["publish", "a/b", "late"]).ok();
    assert!(messages(&service, &short).is_empty(), "it came after the end");

    let busy = begin(&service, "b/#");
    service.run(&["publish", "b/c", "%{count}", "--count", "1000", "--qos", "0"]).ok();
    let shown = wait("all have come", || {
        let shown = service.run(&["recording", "show", &busy, "--json", "--limit", "500"]).json();
        (shown["recording"]["seen"] == 1_000).then_some(shown)
    });
    let (held, left_out) = (shown["recording"]["held"].as_u64().unwrap(), shown["recording"]["left_out"].as_u64());
    assert!(left_out.unwrap() >= 500 && held + left_out.unwrap() == 1_000, "{}", shown["recording"]);
    assert_eq!(shown["messages"].as_array().unwrap().len() as u64, held);
    let ended = service.run(&["recording", "stop", &busy]);
    assert!(ended.ok().contains("not recorded: more than 100 in one second"), "{ended:?}");
    service.run(&["publish", "b/c", "after"]).ok();
    assert_eq!(messages(&service, &busy).len(), 20, "the newest are shown");

    // Those that have ended make room, those that run do not.
    let running: Vec<String> = (0..8).map(|_| begin(&service, "c/#")).collect();
    let full = service.run(&["recording", "start", "c/#", "--background"]);
    assert!(full.failed().contains("Stop one of them"), "{full:?}");
    assert!(service.run(&["recording", "show", &short]).failed().contains("There is no recording"));
    service.run(&["publish", "c/d", "to all"]).ok();
    for number in &running {
        assert_eq!(messages(&service, number).len(), 1);
    }
    for (arguments, words) in [
        (&["recording", "start", "c/#", "--for", "2h", "--background"][..], "1 to 3600 seconds"),
        (&["recording", "message", "99999"], "is no longer held"),
        (&["recording", "stop", "99999"], "There is no recording"),
    ] {
        assert!(service.run(arguments).failed().contains(words), "{arguments:?}");
    }
    let wrong = service.run(&["recording", "start", "c/#/d"]);
    assert_eq!(wrong.code, Some(2), "{wrong:?}");
    let audit = service.run(&["audit", "--json"]).ok().to_owned();
    assert!(audit.contains("recording"), "{audit}");
}

#[test]
fn a_recording_at_the_terminal_shows_messages_as_they_settle() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let mut desk = Peer::open(service.mqtt, V5, "duty-desk");
    desk.subscribe("harrowmere/#", QoS::AtMostOnce);
    let recording = service.spawn(&["recording", "start", "harrowmere/#"], "recording 1 runs");
    service.run(&["publish", LEVEL, "1.83", "--retain"]).ok();
    desk.message();
    wait("it is recorded", || messages(&service, "1").first().map(|_| ()));
    let told = recording.interrupt();
    assert!(told.ok().contains(LEVEL) && told.out.contains("sent") && told.out.contains("1.83"), "{told:?}");
    assert!(told.err.contains("recording 1 stopped: 1 message"), "{told:?}");
    assert_eq!(service.run(&["recording", "list", "--json"]).json()[0]["running"], false);

    let lines = service.run(&["recording", "start", "harrowmere/#", "--for", "1s", "--json"]);
    assert_eq!(lines.ok(), "", "nothing came");
    assert!(service.run(&["recording", "list"]).ok().contains("stopped"));
}
