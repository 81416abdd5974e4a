//! The packets of a client, both ways.

use moorfall_wire::*;
use serde_json::Value;

use crate::{
    harness::{Place, Service, wait},
    peer::{Peer, V5, connect, publish},
};

const TARGET: &str = "harrowmere/gorge/kettle-weir/gate/target";

/// A catchment with somebody who may move a gate, and their CONNECT.
fn catchment(place: &Place) -> (Service<'_>, Connect) {
    let service = place.serve_catchment();
    service.identity("duty-desk", &["kind=person", "operator=rivers-trust"]);
    let mut sign_in = connect(V5, "duty-1");
    (sign_in.user_name, sign_in.password) = (Some("duty-desk".into()), Some(b"ksed-ytud".to_vec().into()));
    (service, sign_in)
}

/// All ladders, the newest first.
fn ladders(service: &Service<'_>) -> Value {
    tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap().block_on(async {
        let asked = reqwest::Client::new().get(format!("{}/api/v1/ladders", service.http));
        asked.bearer_auth(service.secret()).send().await.unwrap().json::<Value>().await.unwrap()
    })
}

/// Waits until so many packets of the newest ladder have passed.
pub(crate) fn passed(service: &Service<'_>, count: u64) {
    let enough = || ladders(service)[0]["packets"].as_u64().is_some_and(|packets| packets >= count);
    wait("the packets have passed", || enough().then_some(()));
}

#[test]
fn the_four_steps_of_a_command_at_qos_2_are_seen() {
    let place = Place::new();
    let (service, sign_in) = catchment(&place);
    let file = place.path().join("desk.pcapng");
    let ladder = service
        .spawn(&["ladder", "--identity", "duty-desk", "--for", "5m", "--pcapng", file.to_str().unwrap()], "runs for");
    let mut desk = Peer::open_with(service.mqtt, sign_in);
    desk.publish(7, publish(TARGET, b"40".to_vec(), QoS::ExactlyOnce));
    passed(&service, 6);
    let shown = ladder.interrupt();
    let lines: Vec<&str> = shown.ok().lines().collect();
    assert!(lines[0].contains("duty-1 (duty-desk)"), "{shown:?}");
    for (line, part) in lines[1..].iter().zip([
        "──▶ CONNECT",
        "◀── CONNACK            new session",
        "──▶ PUBLISH 7 1/4",
        "◀── PUBREC 7 2/4",
        "──▶ PUBREL 7 3/4",
        "◀── PUBCOMP 7 4/4",
    ]) {
        assert!(line.contains(part) && line.chars().count() <= 80, "{part}: {line}");
    }
    let bytes = std::fs::read(&file).unwrap();
    assert_eq!(&bytes[..4], [0x0A, 0x0D, 0x0D, 0x0A], "a section begins");
    assert!(bytes.windows(TARGET.len()).any(|part| part == TARGET.as_bytes()), "the topic is in it");
    assert!(bytes.windows(9).all(|part| part != b"ksed-ytud"), "and the password is not");
    assert!(service.run(&["audit"]).ok().contains("ladder"), "it is audited");
}

#[test]
fn payloads_are_kept_if_they_are_asked_for_and_passwords_never() {
    let place = Place::new();
    let (service, sign_in) = catchment(&place);
    for (payloads, payload) in [(false, "5 B, not kept"), (true, "40.25")] {
        let mut asked = vec!["ladder", "--client", "duty-1", "--for", "5m", "--fields"];
        asked.extend(payloads.then_some("--payloads"));
        let ladder = service.spawn(&asked, "runs for");
        let mut desk = Peer::open_with(service.mqtt, sign_in.clone());
        desk.publish(7, publish(TARGET, b"40.25".to_vec(), QoS::AtLeastOnce));
        passed(&service, 4);
        let shown = ladder.interrupt();
        assert!(shown.ok().contains(&format!("Payload  {payload}")), "{shown:?}");
        assert!(shown.out.contains("Password  not kept") && !shown.out.contains("ksed-ytud"), "{shown:?}");
    }
    // Whoever is looked at may have been there before, or never be let in.
    let mut there = Peer::open_with(service.mqtt, sign_in.clone());
    let ladder = service.spawn(&["ladder", "--address", "127.0.0.1", "--for", "5m", "--json"], "");
    wait("the third has begun", || (ladders(&service)[0]["address"] == "127.0.0.1").then_some(()));
    there.send(&Packet::PingReq);
    there.receive();
    let guess = Connect { password: Some(b"guessed".to_vec().into()), client_id: "guess".into(), ..sign_in };
    let mut guesser = Peer::begin(service.mqtt, guess);
    guesser.receive();
    passed(&service, 4);
    let shown = ladder.interrupt();
    let packets: Vec<Value> = shown.ok().lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let has =
        |packet: &str, failure: bool| packets.iter().any(|one| one["packet"] == *packet && one["failure"] == failure);
    assert!(
        has("PINGREQ", false) && has("PINGRESP", false) && has("CONNECT", false) && has("CONNACK", true),
        "{shown:?}"
    );
    let wrong = service.run(&["ladder", "--address", "weir"]);
    assert!(wrong.failed().contains("is not an address"), "{wrong:?}");
    assert!(service.run(&["ladder", "--client", "x", "--for", "2h"]).failed().contains("runs for 1 to 3600 seconds"));
    assert_eq!(service.run(&["ladder"]).code, Some(2));
}
