//! What the log says of what happens: who, from where, why; and nothing that is secret.

use moorfall_wire::{Connect, Disconnect, Packet, ProtocolVersion, QoS, ReasonCode, Will};

use crate::{
    harness::{Place, Service, wait},
    peer::{Peer, connect},
};

const V5: ProtocolVersion = ProtocolVersion::V5;

/// Waits for a line that has all of this.
#[track_caller]
fn line(service: &Service<'_>, what: &str, parts: &[&str]) -> String {
    wait(what, || {
        let log = service.log();
        log.lines().find(|line| parts.iter().all(|part| line.contains(part))).map(str::to_owned)
    })
}

fn signing_in(client_id: &str, name: &str, password: &str) -> Connect {
    let mut asked = connect(V5, client_id);
    asked.user_name = Some(name.into());
    asked.password = Some(password.to_owned().into());
    asked
}

#[test]
fn connections_are_told_with_who_and_why() {
    let place = Place::with_talkative_log();
    let service = place.serve_catchment();
    service.identity("kettle-weir", &["kind=station", "reach=gorge"]);
    let weir = Peer::open_with(service.mqtt, signing_in("weir-1", "kettle-weir", "riew-elttek"));
    let told = line(&service, "it is connected", &["connected", "client=\"weir-1\"", "identity=kettle-weir"]);
    assert!(told.contains("address=127.0.0.1:") && told.contains("version=5.0"), "{told}");
    assert!(told.contains("listener=mqtt") && told.contains("resumed=false"), "{told}");

    // Another takes over, and says goodbye; a third is cut off.
    let mut again = Peer::open_with(service.mqtt, signing_in("weir-1", "kettle-weir", "riew-elttek"));
    let told = line(&service, "it is taken over", &["disconnected", "Another client connected"]);
    assert!(told.contains("failure=true"), "{told}");
    drop(weir);
    again.send(&Packet::Disconnect(Disconnect::normal()));
    let told = line(&service, "it says goodbye", &["disconnected", "disconnected normally"]);
    assert!(told.contains("failure=false"), "{told}");
    drop(Peer::open_with(service.mqtt, signing_in("weir-2", "kettle-weir", "riew-elttek")));
    line(&service, "it is cut off", &["disconnected", "client=\"weir-2\"", "without DISCONNECT"]);
}

#[test]
fn who_is_refused_is_told_and_no_secret_is_written() {
    let place = Place::with_talkative_log();
    let service = place.serve_catchment();
    service.identity("kettle-weir", &["kind=station", "reach=gorge"]);
    let mut wrong = Peer::begin(service.mqtt, signing_in("weir-1", "kettle-weir", "a-wrong-guess"));
    assert!(matches!(wrong.receive(), Some(Packet::ConnAck(told)) if told.reason == ReasonCode::BadUserNameOrPassword));
    let told = line(&service, "it is refused", &["connection refused", "user_name=\"kettle-weir\""]);
    assert!(told.contains("user name or the password is wrong"), "{told}");
    let mut nobody = Peer::begin(service.mqtt, connect(V5, "weir-2"));
    assert!(matches!(nobody.receive(), Some(Packet::ConnAck(told)) if told.reason.is_error()));
    line(&service, "it is anonymous", &["connection refused", "does not accept anonymous clients"]);
    // A will that its identity may not publish keeps it out, with the rule that would be needed.
    let topic = "harrowmere/gorge/nine-arches/status".parse().unwrap();
    let will = Some(Will::new(topic, "gone", QoS::AtMostOnce, false));
    let asked = Connect { will, ..signing_in("weir-3", "kettle-weir", "riew-elttek") };
    let mut refused = Peer::begin(service.mqtt, asked);
    assert!(matches!(refused.receive(), Some(Packet::ConnAck(told)) if told.reason == ReasonCode::NotAuthorized));
    let told = line(&service, "its will is refused", &["connection refused", "The Will Message was refused"]);
    assert!(told.contains("kettle-weir is not allowed to publish to harrowmere/gorge/nine-arches/status"), "{told}");

    let log = service.log();
    for secret in ["a-wrong-guess", "riew-elttek", &service.secret()] {
        assert!(!log.contains(secret), "the log has a secret");
    }
    // Each line is one: time, level, words, and what they are about.
    for line in log.lines() {
        assert!(
            line.starts_with("20") && [" DEBUG ", " INFO ", " WARN "].iter().any(|level| line.contains(level)),
            "{line}"
        );
        assert!(!line.contains('\u{1b}') && !line.contains("panicked"), "{line}");
    }
}

#[test]
fn the_usual_log_has_no_line_for_each_connection() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    for number in 0..20 {
        drop(Peer::open(service.mqtt, V5, &format!("gauge-{number}")));
    }
    service.wait_for("they have come and gone", |status| status["sessions"] == 0);
    let log = service.log();
    assert!(!log.contains("gauge-") && !log.contains("127.0.0.1:"), "{log}");
}
