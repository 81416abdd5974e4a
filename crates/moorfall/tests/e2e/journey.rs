//! What would become of a message, compared with what does.

use moorfall_wire::*;
use serde_json::Value;

use crate::{
    harness::{Place, Service, wait},
    peer::{Peer, V5, connect, keeping},
};

const LEVEL: &str = "harrowmere/gorge/kettle-weir/stage/level";
const TARGET: &str = "harrowmere/gorge/kettle-weir/gate/target";

fn journey(service: &Service<'_>, arguments: &[&str]) -> Value {
    service.run(&[&["journey", "--json"][..], arguments].concat()).json()
}

/// A client that signs in as an identity whose password is its name backwards.
fn enter(service: &Service<'_>, identity: &str, kept: bool) -> Peer {
    let base = if kept { keeping(V5, identity) } else { connect(V5, identity) };
    let password: String = identity.chars().rev().collect();
    Peer::open_with(service.mqtt, Connect { user_name: Some(identity.into()), password: Some(password.into()), ..base })
}

#[test]
fn a_journey_tells_what_then_happens_to_each_recipient() {
    let place = Place::new();
    let service = place.serve_catchment();
    for (name, attributes) in [
        ("kettle-weir", &["kind=station", "reach=gorge"][..]),
        ("auditor", &["kind=person"]),
        ("duty-desk", &["kind=person"]),
    ] {
        service.identity(name, attributes);
    }
    let mut reading = enter(&service, "auditor", false);
    reading.subscribe("harrowmere/#", QoS::AtMostOnce);
    let mut kept = enter(&service, "duty-desk", true);
    kept.subscribe("harrowmere/#", QoS::ExactlyOnce);
    drop(kept);
    service.wait_for("the desk to be away", |status| status["sessions_away"] == 1);

    let payload = r#"{"m": 1.83, "at": "2031-03-02T06:15:00Z", "quality": "good"}"#;
    let told = journey(&service, &[LEVEL, payload, "--as", "kettle-weir", "--qos", "1"]);
    assert_eq!(told["accepted"], true, "{told}");
    assert_eq!(told["plan"]["path"], "harrowmere/{reach}/{station}/{gauge}/level");
    let of = |told: &Value, client: &str| {
        told["recipients"].as_array().unwrap().iter().find(|one| one["client_id"] == client).cloned().unwrap()
    };
    assert_eq!((&of(&told, "auditor")["outcome"], &of(&told, "auditor")["qos"]), (&"sent".into(), &0.into()));
    assert_eq!((&of(&told, "duty-desk")["outcome"], &of(&told, "duty-desk")["qos"]), (&"queued".into(), &1.into()));
    let at_0 = journey(&service, &[LEVEL, payload, "--as", "kettle-weir", "--qos", "0"]);
    assert_eq!(of(&at_0, "duty-desk")["outcome"], "withheld", "{at_0}");
    let before = service.status();
    assert_eq!((&before["messages_in"], &before["messages_out"]), (&0.into(), &0.into()), "nothing was sent");

    // And so it is.
    let password = place.write("weir", "riew-elttek");
    service
        .run(&["publish", LEVEL, payload, "--as", "kettle-weir", "--password-file", password.to_str().unwrap()])
        .ok();
    assert_eq!(reading.message().qos, QoS::AtMostOnce);
    let queued = || {
        service.run(&["sessions", "--json"]).json()["sessions"]
            .as_array()
            .unwrap()
            .iter()
            .find(|session| session["client_id"] == "duty-desk")
            .unwrap()["queue"]
            .clone()
    };
    wait("it waits for the desk", || (queued() == 1).then_some(()));
    let told = journey(&service, &[LEVEL, payload, "--as", "kettle-weir"]);
    assert!(of(&told, "duty-desk")["explanation"].as_str().unwrap().contains("1 message queued before it"), "{told}");
}

#[test]
fn a_journey_that_ends_at_the_door_says_at_which() {
    let place = Place::new();
    let service = place.serve_catchment();
    service.identity("kettle-weir", &["kind=station", "reach=gorge"]);
    service.identity("contractor-pumps", &["kind=contractor", "operator=fenwater"]);
    let refused = service.run(&["journey", TARGET, "90", "--as", "contractor-pumps"]);
    assert!(refused.ok().contains("The broker would refuse the message"), "{refused:?}");
    assert!(refused.out.contains("contractor-pumps is not allowed to publish"), "{refused:?}");
    let strange = journey(&service, &["notes/weir", "hello"]);
    assert_eq!((&strange["accepted"], &strange["plan"]["breach"]), (&true.into(), &"unplanned".into()));
    assert_eq!(strange["total"], 0);
    let kept = journey(&service, &["notes/weir", "hello", "--retain"]);
    assert_eq!(kept["retained"], "becomes the retained message of the topic");
    assert!(service.run(&["journey", LEVEL, "--as", "nobody"]).failed().contains("The identity no longer exists"));
    assert!(service.run(&["journey", "a/#"]).code == Some(2));

    // A rule that denies a part of a filter withholds it; one of a group is chosen; no local is seen.
    let open = Place::new();
    let service = open.serve(&["--open"]);
    let mut members: Vec<Peer> = ["one", "two"].into_iter().map(|id| Peer::open(service.mqtt, V5, id)).collect();
    members.iter_mut().for_each(|member| member.subscribe("$share/desk/harrowmere/#", QoS::AtLeastOnce));
    let told = journey(&service, &[LEVEL, "1.83"]);
    assert_eq!(told["total"], 2);
    assert!(told["recipients"].as_array().unwrap().iter().all(|one| one["shared"] == "one of 2"), "{told}");
}
