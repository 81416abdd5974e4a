//! Payloads of Sparkplug B, wherever payloads are shown.

use serde_json::{Value, json};

use crate::{
    harness::{Place, wait},
    peer::{self, Peer, V5},
};
use moorfall_wire::{Packet, QoS};

const ALL: &str =
    "[[rules]]\nname = \"all\"\nwho = \"everyone\"\nmay = [\"publish\", \"subscribe\"]\ntopics = [\"#\"]\n";

const DATA: &str = "spBv1.0/harrowmere/DDATA/withy-drain/pump-1";

/// Number 3, and the metric `power` of type Float with the value 37.5.
const POWER: [u8; 18] = [0x12, 14, 0x0a, 5, b'p', b'o', b'w', b'e', b'r', 0x20, 9, 0x65, 0, 0, 0x16, 0x42, 0x18, 3];

const TOLD: &str = r#"{"seq":3,"metrics":[{"name":"power","type":"Float","value":37.5}]}"#;

#[test]
fn payloads_of_the_industrial_standard_are_read_wherever_they_are_shown() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let recording = service.run(&["recording", "start", "spBv1.0/#", "--for", "10m", "--background", "--json"]).json();
    let command = service.spawn(&["subscribe", "spBv1.0/#", "--take", "2"], "subscribed to spBv1.0/#");
    let as_json = service.spawn(&["subscribe", "spBv1.0/#", "--take", "1", "--json"], "subscribed to spBv1.0/#");
    let mut pump = Peer::open(service.mqtt, V5, "pump");
    let mut message = peer::publish(DATA, POWER.to_vec(), QoS::AtLeastOnce);
    message.retain = true;
    pump.publish(1, message);
    pump.publish(2, peer::publish(DATA, b"no such payload".to_vec(), QoS::AtLeastOnce));
    let told = command.finish();
    assert_eq!(told.ok(), format!("{DATA} {TOLD}\n{DATA} no such payload\n"), "{told:?}");
    let told = as_json.finish();
    let read: Value = serde_json::from_str(told.ok()).unwrap();
    assert_eq!(read["sparkplug"], serde_json::from_str::<Value>(TOLD).unwrap());

    let listed = service.run(&["retained", "show", DATA]);
    assert!(listed.ok().contains(TOLD), "{listed:?}");
    let number = recording["number"].to_string();
    let messages = wait("both are recorded", || {
        let messages = service.run(&["recording", "show", &number, "--json"]).json()["messages"].clone();
        messages.as_array().filter(|all| all.len() == 2).cloned()
    });
    assert_eq!((&messages[1]["preview"], &messages[0]["preview"]), (&json!(TOLD), &json!("no such payload")));
    pump.publish(3, peer::publish(DATA, POWER.to_vec(), QoS::AtLeastOnce));
    let shown = service.run(&["topics", "show", DATA]);
    let plain: String = shown.ok().split_whitespace().collect();
    assert!(plain.contains(&TOLD.replace(' ', "")), "{shown:?}");
}

#[test]
fn a_plan_may_ask_for_payloads_of_the_standard() {
    let place = Place::new();
    let plan = |form: &str| {
        let text = format!(
            "name = \"harrowmere\"\n[levels.kind]\n[levels.node]\n[levels.device]\n{ALL}\
             [[topics]]\npath = \"spBv1.0/harrowmere/{{kind}}/{{node}}/{{device}}\"\npayload = \"{form}\"\non-breach = \"refuse\"\n"
        );
        place.write("harrowmere.toml", &text)
    };
    let told = place.run(&["topics", "check", plan("sparkle").to_str().unwrap()]);
    assert!(told.out.contains("write json, text, number, bytes or sparkplug"), "{told:?}");
    let file = plan("sparkplug");
    let service = place.serve(&["--blueprint", file.to_str().unwrap()]);
    service.identity("pump", &["kind=station"]);
    let connect = moorfall_wire::Connect {
        user_name: Some("pump".into()),
        password: Some("pmup".into()),
        ..peer::connect(V5, "pump")
    };
    let mut pump = Peer::open_with(service.mqtt, connect);
    pump.publish(1, peer::publish(DATA, POWER.to_vec(), QoS::AtLeastOnce));
    let wrong = peer::publish(DATA, b"{\"kw\": 37.5}".to_vec(), QoS::AtLeastOnce);
    pump.send(&Packet::Publish(moorfall_wire::Publish { packet_id: moorfall_wire::PacketId::new(2), ..wrong }));
    let Some(Packet::PubAck(ack)) = pump.receive() else { panic!("no PUBACK") };
    let words = ack.properties.reason_string.unwrap();
    assert!(words.contains("the payload is not of Sparkplug B: it is no protocol buffer"), "{words}");
    let drift = service.run(&["topics", "drift"]);
    let plain = drift.ok().split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(plain.contains("the payload is not of Sparkplug B") && plain.contains("1 refused"), "{drift:?}");
}
