//! Client certificates as what identities sign in by, and the authorities that sign them.

use moorfall_wire::*;

use crate::{
    harness::{Place, Service},
    peer::{Peer, V5, V311, connect},
    transports::{BOTH, make_certificates, tls},
};

/// A service with one listener, which requires client certificates and names no authority.
fn serve(place: &Place) -> Service<'_> {
    let folder = place.path().join("certificates");
    let folder = folder.display();
    let text = format!(
        "[[listeners]]\nname = \"field\"\naddress = \"127.0.0.1:0\"\ntransport = \"tls\"\n[listeners.tls]\n\
         certificate = \"{folder}/server.pem\"\nkey = \"{folder}/server.key\"\nclient-certificates = \"required\"\n"
    );
    let file = place.write("moorfall.toml", &text);
    place.serve_as_configured(&["--config", file.to_str().unwrap()])
}

fn file(place: &Place, name: &str) -> String {
    place.path().join("certificates").join(name).to_str().unwrap().to_owned()
}

/// Connects with a device's certificate, and gives the answer of the broker.
fn arrive(service: &Service<'_>, place: &Place, device: &str, connect: Connect) -> (Peer, Option<ConnAck>) {
    let mut peer = Peer::over(tls(service.listener("field"), place, Some(device), BOTH), connect.version);
    peer.send(&Packet::Connect(Box::new(connect)));
    let answer = match peer.receive() {
        Some(Packet::ConnAck(answer)) => Some(*answer),
        None => None,
        other => panic!("{other:?}"),
    };
    (peer, answer)
}

fn reason(answer: Option<ConnAck>) -> (ReasonCode, String) {
    let answer = answer.unwrap();
    (answer.reason, answer.properties.reason_string.map(|words| words.to_string()).unwrap_or_default())
}

#[test]
fn a_device_is_known_by_its_certificate() {
    let place = Place::new();
    make_certificates(&place);
    let service = serve(&place);
    let named = |name: &str| Connect { user_name: Some(name.into()), ..connect(V5, "weir-1") };

    let warning = "Nobody can connect to listener field: it requires client certificates, and no authority is trusted";
    service.wait_for("the warning", |status| status["warnings"].to_string().contains(warning));
    let mut peer = Peer::over(tls(service.listener("field"), &place, Some("kettle-weir"), BOTH), V5);
    let hello = std::panic::AssertUnwindSafe(|| peer.sign_in());
    assert!(std::panic::catch_unwind(hello).is_err(), "nobody is accepted before there is an authority");
    service.wait_for_event("`moorfall authorities add` adds one");

    let add = |name: &str, of: &str| service.run(&["authorities", "add", name, &file(&place, of)]);
    assert!(add("trust", "authority.key").failed().contains("private key"));
    assert!(add("trust", "kettle-weir.pem").failed().contains("not an authority's"));
    assert!(add("trust", "authority.pem").ok().contains("trusted until"));
    assert!(add("trust", "authority.pem").failed().contains("There is already an authority trust"));
    assert!(service.run(&["authorities", "list"]).ok().contains("CN=Moorfall authority"));
    assert!(!service.status()["warnings"].to_string().contains(warning));

    let (_, answer) = arrive(&service, &place, "kettle-weir", connect(V5, "weir-1"));
    let (code, words) = reason(answer);
    assert_eq!(code, ReasonCode::NotAuthorized);
    assert!(
        words.contains("No identity accepts this client certificate") && words.contains("subject:CN=kettle-weir"),
        "{words}"
    );

    let set = |name: &str, mark: &str| service.run(&["identities", "set", name, "--certificate", mark]);
    assert!(set("kettle-weir", "kettle-weir").failed().contains("use subject:"));
    set("kettle-weir", "subject:cn=kettle-weir").ok();
    assert!(
        set("nine-arches", "subject:CN=kettle-weir").failed().contains("is already a certificate match of kettle-weir")
    );
    set("nine-arches", "dns:nine-arches.example").ok();

    for version in [V5, V311] {
        let (peer, answer) = arrive(&service, &place, "kettle-weir", connect(version, "weir-1"));
        assert_eq!(answer.unwrap().reason, ReasonCode::Success);
        let session = service.run(&["sessions", "--json"]).json()["sessions"][0].clone();
        assert_eq!(session["identity"], "kettle-weir");
        assert_eq!(session["signed_in_by"], "certificate");
        assert_eq!(session["certificate"], "subject:CN=kettle-weir");
        drop(peer);
    }
    let (_peer, answer) = arrive(&service, &place, "kettle-weir", named("kettle-weir"));
    assert_eq!(reason(answer).0, ReasonCode::Success);
    let (_, answer) = arrive(&service, &place, "kettle-weir", named("nine-arches"));
    assert_eq!(reason(answer).0, ReasonCode::BadUserNameOrPassword, "a certificate lends no other name");
    service.identity("ferry-stage", &[]);
    let by_password = Connect { password: Some(b"egats-yrref".to_vec().into()), ..named("ferry-stage") };
    let by_password = Connect { client_id: "ferry".into(), ..by_password };
    let (_other, answer) = arrive(&service, &place, "kettle-weir", by_password);
    assert_eq!(reason(answer).0, ReasonCode::Success, "a password counts before the certificate");
    let listed = service.run(&["identities", "list"]);
    assert!(listed.ok().contains("certificate"), "{listed:?}");
}

#[test]
fn what_a_certificate_rests_on_can_be_taken_away() {
    let place = Place::new();
    make_certificates(&place);
    let service = serve(&place);
    service.run(&["authorities", "add", "trust", &file(&place, "authority.pem")]).ok();
    let set = |mark: &str| service.run(&["identities", "set", "kettle-weir", "--certificate", mark]);
    set("subject:CN=kettle-weir").ok();
    let ended = |mut peer: Peer| match peer.receive() {
        Some(Packet::Disconnect(goodbye)) => goodbye.properties.reason_string.unwrap().to_string(),
        other => panic!("{other:?}"),
    };
    let enter = || {
        let (peer, answer) = arrive(&service, &place, "kettle-weir", connect(V5, "weir-1"));
        assert_eq!(answer.unwrap().reason, ReasonCode::Success);
        peer
    };

    let peer = enter();
    set("").ok();
    assert!(ended(peer).contains("Connect again"), "an identity's certificate is no more one");
    let (_, answer) = arrive(&service, &place, "kettle-weir", connect(V5, "weir-1"));
    assert_eq!(reason(answer).0, ReasonCode::NotAuthorized);

    let shown = service.run(&["cert", "show", &file(&place, "kettle-weir.pem")]);
    let fingerprint = shown.ok().split_whitespace().find(|word| word.starts_with("sha256:")).unwrap().to_owned();
    set(&fingerprint).ok();
    let peer = enter();
    service.run(&["identities", "set", "kettle-weir", "--disable"]).ok();
    assert!(ended(peer).contains("The identity has been changed"));
    let (_, answer) = arrive(&service, &place, "kettle-weir", connect(V5, "weir-1"));
    assert!(reason(answer).1.contains("is disabled"));
    service.run(&["identities", "set", "kettle-weir", "--enable"]).ok();

    let peer = enter();
    service.run(&["authorities", "remove", "trust"]).ok();
    assert!(ended(peer).contains("A certificate authority is no longer trusted"));
    assert!(service.run(&["authorities", "remove", "trust"]).failed().contains("no authority trust"));
    service.run(&["authorities", "add", "trust", &file(&place, "authority.pem")]).ok();
    drop(enter());
    let audited = service.run(&["audit"]);
    assert!(audited.ok().contains("authority trust"), "{audited:?}");
}

#[test]
fn a_certificate_of_two_identities_lets_nobody_in() {
    let place = Place::new();
    make_certificates(&place);
    let secret = place.path().join("passphrase");
    let (folder, secret) = (file(&place, ""), secret.to_str().unwrap());
    let device = ["cert", "device", "two-faced", "--host", "weir.example", "--host", "192.0.2.7"];
    let made = place.run(&[&device[..], &["--folder", &folder, "--passphrase-file", secret]].concat());
    assert!(made.ok().contains("dns:weir.example") && made.ok().contains("ip:192.0.2.7"), "{made:?}");
    let service = serve(&place);
    service.run(&["authorities", "add", "trust", &file(&place, "authority.pem")]).ok();
    let set = |name: &str, mark: &str| service.run(&["identities", "set", name, "--certificate", mark]).ok().to_owned();
    set("kettle-weir", "dns:weir.example");
    set("nine-arches", "ip:192.0.2.7");
    let (_, answer) = arrive(&service, &place, "two-faced", connect(V5, "weir-1"));
    let (code, words) = reason(answer);
    assert_eq!(code, ReasonCode::NotAuthorized);
    assert!(words.contains("kettle-weir") && words.contains("nine-arches"), "{words}");

    let csv = "name,certificates,attr.kind\nkettle-weir,dns:weir.example;subject:CN=a\\;b,weir\nnine-arches,,level\n";
    let import = place.write("identities.csv", csv);
    let import = import.to_str().unwrap();
    assert!(service.run(&["identities", "import", import, "--dry-run"]).ok().contains("2 would be changed"));
    service.run(&["identities", "import", import]).ok();
    let (_peer, answer) = arrive(&service, &place, "two-faced", connect(V5, "weir-1"));
    assert_eq!(reason(answer).0, ReasonCode::Success, "only one of them has it now");
    // One import may pass a mark on, whichever of the two stands first in it.
    for order in [["kettle-weir,", "nine-arches,dns:weir.example"], ["kettle-weir,dns:weir.example", "nine-arches,"]] {
        let passed = place.write("passed.csv", &format!("name,certificates\n{}\n{}\n", order[0], order[1]));
        service.run(&["identities", "import", passed.to_str().unwrap()]).ok();
        let owner = order.into_iter().find(|line| line.ends_with("example")).unwrap().split(',').next().unwrap();
        let (peer, answer) = arrive(&service, &place, "two-faced", connect(V5, &format!("of-{owner}")));
        assert_eq!(reason(answer).0, ReasonCode::Success, "{owner} has it");
        assert_eq!(
            service.run(&["sessions", &format!("of-{owner}"), "--json"]).json()["sessions"][0]["identity"],
            owner
        );
        drop(peer);
    }
    for name in ["out.csv", "out.jsonl"] {
        let out = place.path().join(name);
        let out = out.to_str().unwrap();
        service.run(&["identities", "export", out]).ok();
        let again = service.run(&["identities", "import", out, "--dry-run"]);
        assert!(again.ok().contains("0 would be changed, 2 unchanged"), "{again:?}");
    }
    let twice = place
        .write("twice.csv", "name,certificates\nlong-acre,dns:weir.example\nbarrier,dns:x.y\nsallow-head,dns:x.y\n");
    let twice = service.run(&["identities", "import", twice.to_str().unwrap()]);
    assert!(twice.out.contains("line 2: dns:weir.example is already a certificate match of kettle-weir"), "{twice:?}");
    assert!(twice.out.contains("line 4: dns:x.y is already a certificate match of barrier"), "{twice:?}");
    assert!(twice.failed().contains("Nothing was changed"));
}

#[test]
fn only_who_owns_the_broker_says_whom_it_trusts() {
    let place = Place::new();
    make_certificates(&place);
    let service = serve(&place);
    let password = place.write("password", "a-long-night");
    let password = password.to_str().unwrap();
    service.run(&["people", "set", "wren", "--role", "design", "--password-file", password]).ok();
    service.run(&["sign-in", "wren", "--password-file", password]).ok();
    let add = service.run(&["authorities", "add", "trust", &file(&place, "authority.pem")]);
    assert!(add.failed().contains("wren has the `design` role; this needs `own`"), "{add:?}");
    assert_eq!(service.run(&["authorities", "list", "--json"]).json(), serde_json::json!([]));
    // To say what an identity is known by is part of looking after identities.
    service.run(&["identities", "set", "kettle-weir", "--certificate", "subject:CN=kettle-weir"]).ok();
    service.run(&["sign-out"]).ok();
    service.run(&["authorities", "add", "trust", &file(&place, "authority.pem")]).ok();
    let (_peer, answer) = arrive(&service, &place, "kettle-weir", connect(V5, "weir-1"));
    assert_eq!(reason(answer).0, ReasonCode::Success);
    // What is trusted, and who is known by what, is there again after a start.
    drop(_peer);
    service.terminate();
    let service = serve(&place);
    let (_peer, answer) = arrive(&service, &place, "kettle-weir", connect(V5, "weir-1"));
    assert_eq!(reason(answer).0, ReasonCode::Success);
}

#[test]
fn a_certificate_may_come_through_a_web_socket_too() {
    let place = Place::new();
    make_certificates(&place);
    let folder = place.path().join("certificates");
    let folder = folder.display();
    let text = format!(
        "[[listeners]]\nname = \"web\"\naddress = \"127.0.0.1:0\"\ntransport = \"secure-websocket\"\n[listeners.tls]\n\
         certificate = \"{folder}/server.pem\"\nkey = \"{folder}/server.key\"\nclient-certificates = \"optional\"\n\
         client-authorities = [\"{folder}/authority.pem\"]\n"
    );
    let config = place.write("moorfall.toml", &text);
    let service = place.serve_as_configured(&["--config", config.to_str().unwrap()]);
    service.run(&["identities", "set", "kettle-weir", "--certificate", "subject:CN=kettle-weir"]).ok();
    let address = format!("wss://localhost:{}", service.listener("web").port());
    let authority = file(&place, "authority.pem");
    let base = ["remote", "test", &address, "--authority", &authority];
    let none = service.run(&base);
    assert!(none.failed().contains("failed at: sign-in"), "it may come without, and is nobody then: {none:?}");
    let (certificate, key) = (file(&place, "kettle-weir.pem"), file(&place, "kettle-weir.key"));
    let own = service.run(&[&base[..], &["--certificate", &certificate, "--key", &key]].concat());
    assert!(own.ok().contains("accepted"), "{own:?}");
    let named = format!("wss://kettle-weir@localhost:{}", service.listener("web").port());
    let add =
        ["remote", "set", "weir", &named, "--authority", &authority, "--certificate", &certificate, "--key", &key];
    service.run(&add).ok();
    let refused = service.run(&["publish", "notes", "x", "--remote", "weir"]);
    assert!(
        refused.failed().contains("kettle-weir is not allowed to publish to notes"),
        "it is who it says: {refused:?}"
    );
    let half = service.run(&["remote", "set", "half", &named, "--certificate", &certificate]);
    assert_eq!(half.code, Some(2), "a certificate needs its key");
    let mixed = ["remote", "set", "mixed", &named, "--certificate", &certificate, "--key", &file(&place, "server.key")];
    assert!(service.run(&mixed).failed().contains("can't be used together"));
}

#[test]
fn a_listener_that_can_t_follow_is_named() {
    let place = Place::new();
    make_certificates(&place);
    let service = serve(&place);
    service.run(&["authorities", "add", "trust", &file(&place, "authority.pem")]).ok();
    let (server, good) = (file(&place, "server.pem"), std::fs::read(file(&place, "server.pem")).unwrap());
    std::fs::write(&server, "nonsense").unwrap();
    let removed = service.run(&["authorities", "remove", "trust"]);
    assert!(removed.failed().contains("field can't read its own TLS files"), "not in silence: {removed:?}");
    assert_eq!(service.run(&["authorities", "list", "--json"]).json(), serde_json::json!([]), "the change is kept");
    // With its files in order again it follows by itself.
    std::fs::write(&server, good).unwrap();
    service.wait_for("nobody is trusted", |status| {
        status["warnings"].to_string().contains("Nobody can connect to listener field")
    });
    let address = format!("mqtts://localhost:{}", service.listener("field").port());
    let (authority, certificate) = (file(&place, "authority.pem"), file(&place, "kettle-weir.pem"));
    let key = file(&place, "kettle-weir.key");
    let own = ["--authority", &authority, "--certificate", &certificate, "--key", &key];
    service.run(&[&["remote", "test", &address][..], &own].concat()).failed();
    service.wait_for_event("`moorfall authorities add` adds one");
}
