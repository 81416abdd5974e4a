//! Conditions of subscriptions: asked for by clients, and said by the design.

use moorfall_wire::{
    Connect, Packet, PacketId, QoS, ReasonCode, Subscribe, SubscribeProperties, Subscription, SubscriptionOptions,
    UserProperty,
};
use serde_json::Value;

use crate::{
    harness::{Place, Service, wait},
    peer::{self, Peer, V5, V311},
};

/// A rule that allows everything.
const ALL: &str =
    "[[rules]]\nname = \"all\"\nwho = \"everyone\"\nmay = [\"publish\", \"subscribe\"]\ntopics = [\"#\"]\n";

const LEVEL: &str = "harrowmere/gorge/kettle-weir/stage";

/// Subscribes by a condition; gives the reason codes, what the broker says of the condition, and its words.
fn only_where(peer: &mut Peer, filter: &str, qos: QoS, conditions: &[&str]) -> (Vec<ReasonCode>, bool, String) {
    let user_properties =
        conditions.iter().map(|text| UserProperty { name: "only-where".into(), value: (*text).into() }).collect();
    let options = SubscriptionOptions { qos, ..SubscriptionOptions::default() };
    peer.send(&Packet::Subscribe(Subscribe {
        packet_id: PacketId::new(7).unwrap(),
        properties: SubscribeProperties { user_properties, ..SubscribeProperties::default() },
        subscriptions: vec![Subscription { filter: filter.parse().unwrap(), options }],
    }));
    let Some(Packet::SubAck(ack)) = peer.receive() else { panic!("no SUBACK") };
    let judged = ack.properties.user_properties.iter().any(|one| (&*one.name, &*one.value) == ("only-where", "judged"));
    (ack.reasons, judged, ack.properties.reason_string.map(|words| words.to_string()).unwrap_or_default())
}

/// With the name of an identity and the password that it was given.
fn named(connect: Connect, name: &str) -> Connect {
    let password: String = name.chars().rev().collect();
    Connect { user_name: Some(name.into()), password: Some(password.into()), ..connect }
}

fn say(gauge: &mut Peer, topic: &str, payload: &str) {
    gauge.send(&Packet::Publish(peer::publish(topic, payload.as_bytes().to_vec(), QoS::AtMostOnce)));
}

fn heard(peer: &mut Peer) -> String {
    let message = peer.message();
    if message.qos == QoS::AtLeastOnce {
        peer.acknowledge(&message);
    }
    String::from_utf8_lossy(&message.payload).into_owned()
}

/// Messages of which the condition of a session was not true, and those of which it could not be judged.
fn kept_back(service: &Service<'_>, client: &str) -> (u64, u64) {
    let session = service.run(&["sessions", "show", client, "--json"]).json();
    let number = |value: &Value| value.as_u64().unwrap_or_default();
    assert_eq!(session["withheld"], number(&session["withheld_by"]["no-verdict"]), "{session}");
    (number(&session["left_out"]), number(&session["withheld_by"]["no-verdict"]))
}

#[test]
fn a_client_gets_what_it_asks_for_and_no_more() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let mut desk = Peer::open(service.mqtt, V5, "desk");
    let answer = only_where(&mut desk, "harrowmere/#", QoS::AtLeastOnce, &["payload.m > 2.5"]);
    assert_eq!(answer, (vec![ReasonCode::GrantedQoS1], true, String::new()));
    let mut gauge = Peer::open(service.mqtt, V311, "gauge");
    for payload in ["{\"m\": 2.4}", "{\"m\": 2.6}", "online", "{\"m\": 2.5}", "{\"m\": 9}"] {
        say(&mut gauge, LEVEL, payload);
    }
    assert_eq!([heard(&mut desk), heard(&mut desk)], ["{\"m\": 2.6}", "{\"m\": 9}"]);
    assert_eq!(kept_back(&service, "desk"), (2, 1));
    let told = service.run(&["sessions", "show", "desk"]);
    assert!(told.ok().contains("subscribes to harrowmere/# at QoS 1\n    where payload.m > 2.5"), "{told:?}");
    let told = service.run(&["subscribers", LEVEL]);
    assert!(told.ok().contains("desk receives of harrowmere/# only where payload.m > 2.5"), "{told:?}");
    let told = service.run(&["journey", LEVEL, "{\"m\": 1}"]);
    assert!(told.ok().contains("payload.m > 2.5 is not true") && told.ok().contains("1 withheld"), "{told:?}");
    let told = service.run(&["journey", LEVEL, "{}"]);
    assert!(told.ok().contains("can't be judged: there is no") && told.ok().contains("`m`"), "{told:?}");
    wait("it is measured", || service.run(&["measures", "withheld"]).ok().contains("no-verdict").then_some(()));
    assert!(service.run(&["measures", "left_out"]).ok().contains("left_out  2"));

    // The same filter again replaces the subscription, condition and all.
    desk.subscribe("harrowmere/#", QoS::AtMostOnce);
    say(&mut gauge, LEVEL, "{\"m\": 1}");
    assert_eq!(heard(&mut desk), "{\"m\": 1}");
}

#[test]
fn what_cannot_be_a_condition_is_refused_with_its_place() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let mut desk = Peer::open(service.mqtt, V5, "desk");
    let long = "x".repeat(1_001);
    for (conditions, words) in [
        (vec!["payload.m >"], "column 12: the expression is not complete"),
        (vec!["payload.m = 2"], "column 11: unknown operator `=`; compare with =="),
        (vec!["attr.kind == 'x'"], "column 1: `attr` is unknown here; write topic"),
        (vec!["payload.m + 1"], "must be true or false"),
        (vec!["payload.m > 1", "payload.m < 2"], "more than once. Put both conditions into one, with &&."),
        (vec![&*long], "the limit is 1000"),
        (vec!["payload.all(x, x > 1)"], "steps for each message; the limit is 500"),
    ] {
        let (reasons, judged, told) = only_where(&mut desk, "harrowmere/#", QoS::AtMostOnce, &conditions);
        assert_eq!((reasons, judged), (vec![ReasonCode::ImplementationSpecific], false), "{conditions:?}");
        assert!(told.contains(words), "{conditions:?}: {told}");
    }
    for number in 0..100 {
        let filter = format!("harrowmere/{number}");
        assert!(only_where(&mut desk, &filter, QoS::AtMostOnce, &["payload > 1"]).1, "{number}");
    }
    let (reasons, _, told) = only_where(&mut desk, "harrowmere/more", QoS::AtMostOnce, &["payload > 1"]);
    assert_eq!(reasons, [ReasonCode::QuotaExceeded]);
    assert!(told.contains("as many subscriptions with conditions as it may"), "{told}");
    assert_eq!(desk.try_subscribe("harrowmere/more", QoS::AtMostOnce), [ReasonCode::Success], "without one");
    let refusals = service.run(&["access", "refusals"]);
    assert!(refusals.ok().contains("The condition of the subscription can"), "{refusals:?}");
    let told = service.run(&["subscribe", "#", "--where", "payload.flow > 1", "--for", "100ms"]);
    assert!(told.ok().is_empty() && told.err.contains("no message matched the condition"), "{told:?}");
    let told = service.run(&["subscribe", "#", "--where", "payload.m >"]);
    assert!(told.code == Some(2) && told.err.contains("the expression is not complete"), "{told:?}");
}

#[test]
fn conditions_hold_for_retained_shared_and_kept_subscriptions() {
    let place = Place::with_private_servers();
    let service = place.serve(&["--open"]);
    let mut gauge = Peer::open(service.mqtt, V5, "gauge");
    for number in 0..1_000_u16 {
        let mut message = peer::publish(
            &format!("harrowmere/gauge-{number}"),
            format!("{{\"m\": {number}}}").into_bytes(),
            QoS::AtLeastOnce,
        );
        message.retain = true;
        gauge.publish(number + 1, message);
    }
    let mut desk = Peer::resume(service.mqtt, peer::keeping(V5, "desk")).0;
    only_where(&mut desk, "harrowmere/+", QoS::AtLeastOnce, &["payload.m >= 998"]);
    let mut found = [heard(&mut desk), heard(&mut desk)];
    found.sort();
    assert_eq!(found, ["{\"m\": 998}", "{\"m\": 999}"], "of a thousand that are retained");
    drop(desk);

    // While it is away, and over a crash of the service.
    gauge.publish(2_001, peer::publish("harrowmere/gauge-1", b"{\"m\": 5}".to_vec(), QoS::AtLeastOnce));
    gauge.publish(2_002, peer::publish("harrowmere/gauge-1", b"{\"m\": 2000}".to_vec(), QoS::AtLeastOnce));
    service.crash();
    let service = place.serve(&["--open"]);
    let mut gauge = Peer::open(service.mqtt, V5, "gauge");
    gauge.publish(1, peer::publish("harrowmere/gauge-2", b"{\"m\": 6}".to_vec(), QoS::AtLeastOnce));
    gauge.publish(2, peer::publish("harrowmere/gauge-2", b"{\"m\": 3000}".to_vec(), QoS::AtLeastOnce));
    let mut desk = Peer::resume(service.mqtt, peer::keeping(V5, "desk")).0;
    assert_eq!([heard(&mut desk), heard(&mut desk)], ["{\"m\": 2000}", "{\"m\": 3000}"]);

    // A member for whom it is not true is not there for the message.
    let mut high = Peer::open(service.mqtt, V5, "high");
    let mut low = Peer::open(service.mqtt, V5, "low");
    only_where(&mut high, "$share/desk/tide/#", QoS::AtMostOnce, &["payload > 5"]);
    only_where(&mut low, "$share/desk/tide/#", QoS::AtMostOnce, &["payload <= 5"]);
    for number in [1, 9, 2, 8, 3, 7] {
        say(&mut gauge, "tide/level", &number.to_string());
    }
    assert_eq!([heard(&mut low), heard(&mut low), heard(&mut low)], ["1", "2", "3"]);
    assert_eq!([heard(&mut high), heard(&mut high), heard(&mut high)], ["9", "8", "7"]);
}

#[test]
fn changes_alone_are_asked_for_by_the_message_before() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let mut desk = Peer::open(service.mqtt, V5, "desk");
    only_where(&mut desk, "harrowmere/#", QoS::AtMostOnce, &["before == null || payload.state != before.state"]);
    let mut gauge = Peer::open(service.mqtt, V5, "gauge");
    for (topic, state) in
        [("a", "ok"), ("a", "ok"), ("b", "ok"), ("a", "high"), ("b", "ok"), ("a", "high"), ("a", "ok")]
    {
        say(&mut gauge, &format!("harrowmere/{topic}"), &format!("{{\"state\": \"{state}\"}}"));
    }
    let heard: Vec<String> = (0..4)
        .map(|_| {
            let message = desk.message();
            let payload: Value = serde_json::from_slice(&message.payload).unwrap();
            format!("{} {}", message.topic, payload["state"].as_str().unwrap())
        })
        .collect();
    assert_eq!(heard, ["harrowmere/a ok", "harrowmere/b ok", "harrowmere/a high", "harrowmere/a ok"]);
}

#[test]
fn the_design_says_which_messages_somebody_gets_and_a_change_of_it_acts_at_once() {
    let place = Place::new();
    let rules = format!("[cohorts.boards]\nwhere = 'attr.kind == \"board\"'\n{ALL}");
    let condition = |text: &str| {
        format!(
            "[[conditions]]\nname = \"high-alone\"\nwho = {{ cohort = \"boards\" }}\ntopics = [\"harrowmere/#\"]\nwhere = \"{text}\"\n"
        )
    };
    let write = |condition: &str| place.write("harrowmere.toml", &format!("name = \"harrowmere\"\n{rules}{condition}"));
    let file = write(&condition("payload.m > 2"));
    let service = place.serve(&["--blueprint", file.to_str().unwrap()]);
    for (name, kind) in [("desk", "board"), ("away", "board"), ("gauge", "station")] {
        service.identity(name, &[&format!("kind={kind}")]);
    }
    let sign_in = |version, name: &str| Peer::open_with(service.mqtt, named(peer::connect(version, name), name));
    let kept = || Peer::resume(service.mqtt, named(peer::keeping(V5, "away"), "away")).0;
    let mut desk = sign_in(V311, "desk");
    desk.subscribe("#", QoS::AtLeastOnce);
    let mut away = kept();
    away.subscribe("harrowmere/#", QoS::AtLeastOnce);
    drop(away);
    let mut gauge = sign_in(V5, "gauge");
    for (number, (topic, payload)) in
        [("harrowmere/stage", "{\"m\": 1}"), ("harrowmere/stage", "{\"m\": 3}"), ("tide/level", "low")]
            .into_iter()
            .enumerate()
    {
        gauge.publish(number as u16 + 1, peer::publish(topic, payload.into(), QoS::AtLeastOnce));
    }
    assert_eq!([heard(&mut desk), heard(&mut desk)], ["{\"m\": 3}", "low"], "of other topics it gets all");
    let told = service.run(&["sessions", "show", "desk"]);
    assert!(told.ok().contains("by high-alone: of harrowmere/# only where payload.m > 2"), "{told:?}");

    let changed = write(&condition("payload.m > 5"));
    let told = service.run(&["blueprint", "diff", changed.to_str().unwrap()]);
    assert!(told.ok().contains("high-alone") && told.ok().contains("payload.m > 5"), "{told:?}");
    for who in ["client desk (desk) gets other messages", "client away (away) gets other messages"] {
        assert!(told.ok().contains(who), "{who}: {told:?}");
    }
    assert!(!told.ok().contains("(gauge)"), "{told:?}");
    service.run(&["blueprint", "apply", changed.to_str().unwrap(), "--message", "higher"]).ok();
    wait("the new condition counts", || {
        service.run(&["sessions", "show", "desk"]).ok().contains("payload.m > 5").then_some(())
    });
    for (number, payload) in ["{\"m\": 4}", "{\"m\": 6}"].into_iter().enumerate() {
        gauge.publish(number as u16 + 11, peer::publish("harrowmere/stage", payload.into(), QoS::AtLeastOnce));
    }
    assert_eq!(heard(&mut desk), "{\"m\": 6}");
    let mut away = kept();
    assert_eq!([heard(&mut away), heard(&mut away)], ["{\"m\": 3}", "{\"m\": 6}"], "also of who was away");

    let none = write("");
    service.run(&["blueprint", "apply", none.to_str().unwrap(), "--message", "all again"]).ok();
    wait("there is no condition", || {
        (!service.run(&["sessions", "show", "desk"]).ok().contains("only where")).then_some(())
    });
    gauge.publish(21, peer::publish("harrowmere/stage", b"{\"m\": 0}".to_vec(), QoS::AtLeastOnce));
    assert_eq!(heard(&mut desk), "{\"m\": 0}");
}

#[test]
fn the_command_asks_the_broker_and_judges_by_itself_where_it_cannot() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    for version in [V5, V311] {
        let number = if version == V5 { "5" } else { "3.1.1" };
        let condition = "before == null || payload > before + 1";
        let arguments = [
            "subscribe",
            "harrowmere/#",
            "--where",
            condition,
            "--take",
            "2",
            "--show",
            "payload",
            "--protocol",
            number,
        ];
        let command = service.spawn(&arguments, "subscribed to harrowmere/#");
        let mut gauge = Peer::open(service.mqtt, V5, "gauge");
        for payload in ["1", "2", "4", "4"] {
            say(&mut gauge, &format!("harrowmere/{number}"), payload);
        }
        let told = command.finish();
        assert_eq!(told.ok(), "1\n4\n", "{number}: {told:?}");
    }
}

#[test]
fn what_a_bridge_pushes_is_judged_before_it_waits_for_the_link() {
    let (place, other) = (Place::new(), Place::new());
    let there = other.serve(&["--open"]);
    let mut desk = Peer::open(there.mqtt, V5, "desk");
    desk.subscribe("harrowmere/#", QoS::AtMostOnce);
    let remote = there.mqtt;
    let text = format!(
        "name = \"here\"\n{ALL}[[bridges]]\nname = \"there\"\nremotes = [\"mqtt://{remote}\"]\n[[bridges.push]]\nfilter = \"harrowmere/#\"\n\
         [[conditions]]\nname = \"high-alone\"\nwho = {{ identity = \"bridge:there\" }}\ntopics = [\"harrowmere/#\"]\nwhere = \"payload.m > 2\"\n"
    );
    let file = place.write("here.toml", &text);
    let here = place.serve(&["--blueprint", file.to_str().unwrap()]);
    wait("the bridge is up", || {
        (here.run(&["bridge", "show", "there", "--json"]).json()["phase"] == "up").then_some(())
    });
    for payload in ["{\"m\": 1}", "{\"m\": 3}", "{}", "{\"m\": 4}"] {
        here.run(&["publish", "harrowmere/stage", payload]).ok();
    }
    assert_eq!([heard(&mut desk), heard(&mut desk)], ["{\"m\": 3}", "{\"m\": 4}"]);
    assert_eq!(kept_back(&here, "bridge:there:push"), (1, 1));
}
