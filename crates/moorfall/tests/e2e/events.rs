//! What happened, to be found again: by kind, identity, client, address, time and text; also when it was too much.

use std::io::{BufRead, BufReader};

use moorfall_wire::*;
use serde_json::Value;

use crate::{
    harness::{Place, Service, wait},
    peer::{Peer, V5, V311, connect},
};

/// Events that are found with these options; none while the database is away.
fn events(service: &Service<'_>, options: &[&str]) -> Vec<Value> {
    let found = service.run(&[&["events", "--json", "--limit", "5000"], options].concat());
    if found.err.contains("The database is unavailable") {
        return Vec::new();
    }
    found.json().as_array().unwrap().clone()
}

/// Waits until there is an event that has this in its sentence.
#[track_caller]
pub(crate) fn event(service: &Service<'_>, options: &[&str], part: &str) -> Value {
    wait(part, || {
        let found = events(service, options);
        found.into_iter().find(|event| event["explanation"].as_str().unwrap().contains(part))
    })
}

fn signing_in(version: ProtocolVersion, client_id: &str, name: &str, password: &str) -> Connect {
    let mut asked = connect(version, client_id);
    asked.user_name = Some(name.into());
    asked.password = Some(password.to_owned().into());
    asked
}

#[test]
fn the_reason_of_a_closed_connection_is_found() {
    let place = Place::new();
    let service = place.serve_catchment();
    service.identity("kettle-weir", &["kind=station", "reach=gorge"]);
    let weir = |id: &str| Peer::open_with(service.mqtt, signing_in(V311, id, "kettle-weir", "riew-elttek"));
    let connected = {
        let _first = weir("weir-1");
        let connected = event(&service, &["--kind", "connected"], "Connected to mqtt with MQTT 3.1.1.");
        let _second = weir("weir-1");
        event(&service, &["--client-id", "weir-1", "--kind", "taken-over"], "Another client connected");
        connected
    };
    assert_eq!((&connected["identity"], &connected["client_id"]), (&"kettle-weir".into(), &"weir-1".into()));
    assert_eq!((&connected["address"], &connected["subject"]), (&"127.0.0.1".into(), &"mqtt".into()));
    event(&service, &["--client-id", "weir-1", "--kind", "connection-lost"], "without DISCONNECT");
    // Who never came in is found by address: also in 3.1.1, which tells its client no more than a number.
    let mut guess = Peer::begin(service.mqtt, signing_in(V311, "weir-2", "kettle-weir", "a-wrong-guess"));
    assert!(matches!(guess.receive(), Some(Packet::ConnAck(_))));
    let refused = event(&service, &["--address", "127.0.0.1", "--kind", "refused"], "password is wrong");
    assert_eq!(refused["subject"], "kettle-weir");
    assert!(!refused.to_string().contains("a-wrong-guess"), "{refused}");
    drop(std::net::TcpStream::connect(service.mqtt).unwrap());
    event(&service, &["--kind", "unfinished"], "closed the connection");
    // A packet that the protocol does not allow.
    let mut wrong = weir("weir-3");
    wrong.send(&Packet::PingResp);
    assert_eq!(wrong.receive(), None);
    event(&service, &["--identity", "kettle-weir", "--text", "PINGRESP"], "which is not allowed here");

    let told = service.run(&["events", "--kind", "refused"]);
    assert!(
        told.ok().contains("refused as \"kettle-weir\", 127.0.0.1") && told.out.contains("password is wrong"),
        "{told:?}"
    );
    assert!(service.run(&["events", "--kind", "refusals"]).failed().contains("There is no kind of event"));
    assert!(service.run(&["events", "--text", "nothing-like-this"]).ok().contains("No events match."));
    assert_eq!(events(&service, &["--since", "2099-01-01"]), [] as [Value; 0]);
}

#[test]
fn refused_subscriptions_and_lost_connections_are_told_from_what_was_wanted() {
    let place = Place::new();
    let service = place.serve_catchment();
    service.identity("kettle-weir", &["kind=station", "reach=gorge"]);
    for (version, id) in [(V311, "weir-old"), (V5, "weir-new")] {
        let mut weir = Peer::open_with(service.mqtt, signing_in(version, id, "kettle-weir", "riew-elttek"));
        assert!(weir.try_subscribe("harrowmere/#", QoS::AtMostOnce)[0].is_error());
        let options = ["--client-id", id, "--kind", "subscription-refused"];
        let refused = event(&service, &options, "is not allowed to subscribe to harrowmere/#");
        assert_eq!((&refused["subject"], &refused["identity"]), (&"harrowmere/#".into(), &"kettle-weir".into()));
        assert_eq!(refused["count"], 1);
        // Who says goodbye has not been lost.
        weir.send(&Packet::Disconnect(Disconnect::normal()));
        event(&service, &["--client-id", id, "--kind", "disconnected"], "disconnected normally");
        assert_eq!(events(&service, &["--client-id", id, "--kind", "connection-lost"]), [] as [Value; 0]);
    }
    // Who runs the broker has wanted it, too.
    let _weir = Peer::open_with(service.mqtt, signing_in(V5, "weir-3", "kettle-weir", "riew-elttek"));
    service.run(&["sessions", "end", "--client", "weir-3", "--yes"]).ok();
    event(&service, &["--client-id", "weir-3", "--kind", "disconnected"], "");
    // A Keep Alive that runs out is a loss; the session says it, too.
    let asked = Connect { keep_alive: 1, ..signing_in(V5, "weir-4", "kettle-weir", "riew-elttek") };
    let _silent = Peer::open_with(service.mqtt, asked);
    let lost = event(&service, &["--client-id", "weir-4", "--kind", "connection-lost"], "Keep Alive");
    assert_eq!(lost["address"], "127.0.0.1");
}

#[test]
fn wills_subscriptions_and_changes_are_events_and_are_followed() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let mut following = place.program(&["events", "--follow", "--json", "--kind", "subscribed,unsubscribed,will-sent"]);
    let mut following = following.stdout(std::process::Stdio::piped()).spawn().unwrap();
    let mut lines = BufReader::new(following.stdout.take().unwrap()).lines();
    let mut desk = Peer::open(service.mqtt, V5, "desk");
    // What comes before the command looks for the first time is printed, too.
    desk.subscribe("harrowmere/#", QoS::AtLeastOnce);
    let next = |lines: &mut dyn Iterator<Item = std::io::Result<String>>| -> Value {
        serde_json::from_str(&lines.next().unwrap().unwrap()).unwrap()
    };
    let first = next(&mut lines);
    assert_eq!((&first["kind"], &first["subject"]), (&"subscribed".into(), &"harrowmere/#".into()));
    let topic = "harrowmere/gorge/kettle-weir/status".parse().unwrap();
    let will = Some(Will::new(topic, "offline", QoS::AtLeastOnce, false));
    drop(Peer::open_with(service.mqtt, Connect { will, ..connect(V5, "weir") }));
    let sent = next(&mut lines);
    assert_eq!((&sent["kind"], &sent["client_id"]), (&"will-sent".into(), &"weir".into()));
    following.kill().unwrap();
    following.wait().unwrap();

    service.run(&["identities", "set", "auditor"]).ok();
    let changed = event(&service, &["--kind", "identity-changed"], "made or changed the identity auditor");
    assert_eq!(changed["subject"], "auditor");
    service.run(&["identities", "remove", "auditor"]).ok();
    event(&service, &["--kind", "identity-removed"], "removed the identity auditor");
    let blueprint = place.write("blueprint.toml", "name = \"harrowmere\"\n");
    service.run(&["blueprint", "apply", blueprint.to_str().unwrap(), "--message", "an empty one"]).ok();
    event(&service, &["--kind", "blueprint-applied"], "Revision 1 is in force: an empty one");
}

#[test]
fn a_flood_is_counted_and_not_listed() {
    let place = Place::new();
    let config = place.write("moorfall.toml", "[limits]\nconnects-per-second = 0\nconnecting-per-address = 10000\n");
    let service = place.serve(&["--open", "--config", config.to_str().unwrap()]);
    let all = 3_000;
    std::thread::scope(|scope| {
        for part in 0..6 {
            let address = service.mqtt;
            scope.spawn(move || {
                for number in 0..all / 6 {
                    drop(Peer::open(address, V5, &format!("gauge-{part}-{number}")));
                }
            });
        }
    });
    let count = |kind: &str| -> u64 {
        events(&service, &["--kind", kind]).iter().map(|event| event["count"].as_u64().unwrap()).sum()
    };
    wait("all are counted", || (count("connected") == all && count("connection-lost") == all).then_some(()));
    let rows = events(&service, &[]);
    assert!(rows.len() < 2_000, "{} rows for {} events", rows.len(), 2 * all);
    let more = event(&service, &[], "too many to list each");
    assert!(more["count"].as_u64().unwrap() > 1, "{more}");
}

#[test]
fn events_survive_an_absence_of_the_database() {
    let place = Place::with_private_servers();
    let service = place.serve(&["--open"]);
    let pid = crate::harness::database_pid(&service.data).unwrap();
    nix::sys::signal::kill(pid, nix::sys::signal::Signal::SIGQUIT).unwrap();
    let _weir = Peer::open(service.mqtt, V5, "weir");
    event(&service, &["--kind", "database-away"], "The database is unavailable");
    event(&service, &["--kind", "database-back"], "available again");
    event(&service, &["--client-id", "weir", "--kind", "connected"], "Connected to mqtt");
}

#[test]
fn a_certificate_that_ends_soon_is_told_in_time() {
    let place = Place::new();
    let secret = place.write("passphrase", "moor-water\n");
    let folder = place.path().join("certificates");
    let common = ["--folder", folder.to_str().unwrap(), "--passphrase-file", secret.to_str().unwrap()];
    place.run(&[&["cert", "authority"], &common[..]].concat()).ok();
    for (name, days) in [("short", "3"), ("long", "300")] {
        let server = ["cert", "server", "--host", "localhost", "--name", name, "--days", days];
        place.run(&[&server[..], &common[..]].concat()).ok();
    }
    let listener = |name: &str| {
        let folder = folder.display();
        format!(
            "[[listeners]]\nname = \"{name}\"\naddress = \"127.0.0.1:0\"\ntransport = \"tls\"\n[listeners.tls]\n\
             certificate = \"{folder}/{name}.pem\"\nkey = \"{folder}/{name}.key\"\n"
        )
    };
    let config = place.write("moorfall.toml", &[listener("short"), listener("long")].concat());
    let service = place.serve_as_configured(&["--config", config.to_str().unwrap()]);
    let told = event(&service, &["--kind", "certificate-ends"], "The certificate of listener short is valid until 20");
    assert_eq!(told["subject"], "short");
    assert_eq!(events(&service, &["--kind", "certificate-ends"]).len(), 1, "the other one has time");
}
