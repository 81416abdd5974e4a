//! What is known of a topic: its last value, its numbers, its messages while somebody looks, and what is said of it.

use moorfall_wire::*;
use serde_json::Value;

use crate::{
    harness::{Place, Service, wait},
    peer::{Peer, V5, connect, keeping},
};

const LEVEL: &str = "harrowmere/gorge/kettle-weir/stage/level";

fn show(service: &Service<'_>, topic: &str) -> Value {
    service.run(&["topics", "show", topic, "--json"]).json()
}

#[test]
fn a_topic_tells_its_value_its_plan_its_rules_and_its_readers() {
    let place = Place::new();
    let service = place.serve_catchment();
    for (name, attributes) in [("kettle-weir", &["kind=station", "reach=gorge"][..]), ("auditor", &["kind=person"])] {
        service.identity(name, attributes);
    }
    let before = show(&service, LEVEL);
    assert_eq!(before["about"], Value::Null, "{before}");
    assert_eq!(before["plan"]["path"], "harrowmere/{reach}/{station}/{gauge}/level");
    let rules: Vec<&str> =
        before["rules"].as_array().unwrap().iter().map(|one| one["rule"].as_str().unwrap()).collect();
    assert!(rules.contains(&"stations-report"), "{rules:?}");
    assert!(!rules.iter().any(|rule| rule.contains("gate")), "{rules:?}");

    let password = place.write("auditor", "rotidua");
    let sign_in = ["--as", "auditor", "--password-file", password.to_str().unwrap()];
    let reading = ["subscribe", "harrowmere/#", "--take", "1"];
    let reader = service.spawn(&[&reading[..], &sign_in].concat(), "subscribed");
    let payload = r#"{"m": 1.83, "at": "2031-03-02T06:15:00Z", "quality": "good"}"#;
    let weir = place.write("weir", "riew-elttek");
    let as_weir = ["--as", "kettle-weir", "--password-file", weir.to_str().unwrap()];
    let during =
        wait("the auditor reads", || Some(show(&service, LEVEL)).filter(|shown| shown["subscribers_total"] == 1));
    assert_eq!(during["subscribers"][0]["identity"], "auditor");
    service.run(&[&["publish", LEVEL, payload][..], &as_weir].concat()).ok();
    reader.finish().ok();
    let after = show(&service, LEVEL);
    assert_eq!((&after["about"]["value"], &after["about"]["value_bytes"]), (&payload.into(), &payload.len().into()));
    assert_eq!(after["about"]["publisher"], "kettle-weir");
    assert_eq!(after["about"]["numbers"].as_array().unwrap().len(), 1, "{after}");
    assert!((after["about"]["numbers"][0].as_f64().unwrap() - 1.83).abs() < 1e-6, "{after}");
    let gathered = after["messages"].as_array().unwrap();
    assert_eq!((gathered.len(), &gathered[0]["payload"], &gathered[0]["qos"]), (1, &payload.into(), &1.into()));

    let text = service.run(&["topics", "show", LEVEL]);
    assert!(text.ok().contains("stations-report") && text.out.contains("from kettle-weir"), "{text:?}");
    assert!(text.out.lines().all(|line| line.chars().count() <= 80), "{text:?}");
    let strange = service.run(&["topics", "show", "notes/weir"]);
    assert!(
        strange.ok().contains("no messages since the service started") && strange.out.contains("not planned"),
        "{strange:?}"
    );
    assert_eq!(service.run(&["topics", "show", "a/#"]).code, Some(2));
    let tree = service.run(&["topics", "tree", "harrowmere/gorge/kettle-weir/stage", "--json"]).json();
    assert_eq!(tree["levels"][0]["value"], payload);
}

#[test]
fn messages_are_gathered_while_somebody_looks_and_sampled_when_there_are_many() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    service.run(&["publish", "a/b", "before"]).ok();
    let shown = show(&service, "a/b");
    assert!(shown["messages"].as_array().unwrap().is_empty(), "nobody had looked: {shown}");
    assert_eq!(shown["about"]["value"], "before");
    service.run(&["publish", "a/b", "%{count}", "--count", "1000", "--qos", "0"]).ok();
    service.run(&["publish", "a/b", "00ff", "--encoding", "hex"]).ok();
    let shown = wait("all have come", || {
        let shown = show(&service, "a/b");
        (shown["about"]["messages"] == 1_002).then_some(shown)
    });
    let (held, left_out) = (shown["messages"].as_array().unwrap().len() as u64, shown["left_out"].as_u64().unwrap());
    assert!(held <= 200 && left_out > 0 && held + left_out <= 1_001, "{held} {left_out}");
    assert_eq!((&shown["about"]["value"], &shown["about"]["value_bytes"]), (&Value::Null, &2.into()), "no text");

    // A topic that is looked at before it is published to, and one that is shared.
    assert!(show(&service, "new/topic")["about"].is_null());
    let mut member = Peer::open_with(service.mqtt, keeping(V5, "desk-1"));
    member.subscribe("$share/desks/new/#", QoS::AtLeastOnce);
    drop(member);
    service.wait_for("the member to be away", |status| status["sessions_away"] == 1);
    service.run(&["publish", "new/topic", "first"]).ok();
    let shown = show(&service, "new/topic");
    assert_eq!(shown["messages"][0]["payload"], "first", "{shown}");
    let subscriber = &shown["subscribers"][0];
    assert_eq!(subscriber["shared"], "$share/desks/new/#", "{shown}");
    assert_eq!((&subscriber["connected"], &subscriber["queue"]), (&false.into(), &1.into()), "{shown}");
}

#[test]
fn whoever_receives_from_a_topic_or_filter_is_listed() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let mut away = connect(V5, "archive");
    away.properties.session_expiry_interval = Some(600);
    let mut archive = Peer::open_with(service.mqtt, away);
    archive.subscribe("harrowmere/#", QoS::AtLeastOnce);
    archive.send(&Packet::Disconnect(Disconnect::normal()));
    while archive.receive().is_some() {}
    let mut desk = Peer::open(service.mqtt, V5, "desk");
    desk.subscribe("harrowmere/+/kettle-weir/status", QoS::ExactlyOnce);
    desk.subscribe("$share/duty/harrowmere/gorge/+/gate", QoS::AtMostOnce);
    desk.subscribe("$SYS/moorfall/queued", QoS::AtMostOnce);
    let list = |filter: &str, more: &[&str]| service.run(&[&["subscribers", filter, "--json"], more].concat()).json();
    wait("it is away", || {
        let one = list("harrowmere/gorge/kettle-weir/status", &[])["subscriptions"][0].clone();
        (one["connected"] == false).then_some(())
    });
    let names = |found: &Value| -> Vec<(String, String, u64, String)> {
        let text = |one: &Value, name: &str| one[name].as_str().unwrap().to_owned();
        let all = found["subscriptions"].as_array().unwrap().iter();
        all.map(|one| (text(one, "client_id"), text(one, "filter"), one["qos"].as_u64().unwrap(), text(one, "group")))
            .collect()
    };
    let of = |client: &str, filter: &str, qos: u64, group: &str| (client.into(), filter.into(), qos, group.into());
    let archive = of("archive", "harrowmere/#", 1, "");
    let status = of("desk", "harrowmere/+/kettle-weir/status", 2, "");
    let gate = of("desk", "harrowmere/gorge/+/gate", 0, "duty");
    assert_eq!(names(&list("harrowmere/gorge/kettle-weir/status", &[])), [archive.clone(), status.clone()]);
    assert_eq!(names(&list("harrowmere/gorge/#", &[])), [archive.clone(), status, gate.clone()]);
    assert_eq!(names(&list("$share/other/harrowmere/gorge/+/gate", &[])), [archive.clone(), gate]);
    assert_eq!(names(&list("#", &["--limit", "1"])), [archive]);
    assert_eq!(list("#", &["--limit", "1"])["total"], 3, "what begins with $ is not of #");
    let table = service.run(&["subscribers", "#", "--limit", "1"]);
    assert!(table.ok().contains("2 subscriptions more"), "{table:?}");
    assert!(service.run(&["subscribers", "elsewhere"]).ok().contains("Nobody subscribes to elsewhere."));
    assert_eq!(service.run(&["subscribers", "a/#/b"]).code, Some(2));
}
