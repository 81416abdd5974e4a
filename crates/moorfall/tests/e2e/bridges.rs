//! Bridges: between services, over links that fail, under the rules.

use std::net::SocketAddr;

use moorfall_contract::kinds::LinkState;
use moorfall_links::WeakLink;
use moorfall_wire::*;
use serde_json::Value;
use tokio::runtime::Runtime;

use crate::{
    harness::{Place, Service, wait},
    peer::{self, Peer, V5, V311, connect, keeping},
};

/// A link with a runtime of its own, so that tests can be without one.
struct Wire {
    link: Option<WeakLink>,
    runtime: Option<Runtime>,
}

impl Wire {
    fn to(target: SocketAddr) -> Self {
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().unwrap();
        let link = runtime.block_on(WeakLink::start(target)).unwrap();
        Self { link: Some(link), runtime: Some(runtime) }
    }

    fn link(&self) -> &WeakLink {
        self.link.as_ref().unwrap()
    }

    fn url(&self) -> String {
        format!("mqtt://{}", self.link().address())
    }

    fn cut(&self) {
        self.link().set(LinkState::Cut);
    }

    fn restore(&self) {
        self.link().set(LinkState::Open);
    }
}

impl Drop for Wire {
    fn drop(&mut self) {
        drop(self.link.take());
        if let Some(runtime) = self.runtime.take() {
            runtime.shutdown_background();
        }
    }
}

/// A blueprint whose name is that of a broker, with bridges.
fn blueprint(name: &str, bridges: &str) -> String {
    format!("name = \"{name}\"\n{bridges}")
}

fn bridge(name: &str, remote: &str, mappings: &str) -> String {
    format!("[[bridges]]\nname = \"{name}\"\nremotes = [\"{remote}\"]\n{mappings}")
}

/// An open service with a folder of its own.
fn serve<'a>(place: &'a Place, name: &str, blueprint: &str) -> Service<'a> {
    let file = place.write(&format!("{name}.toml"), blueprint);
    let data = place.path().join(name);
    place.serve(&["--open", "--data", data.to_str().unwrap(), "--blueprint", file.to_str().unwrap()])
}

fn shown(service: &Service<'_>, bridge: &str) -> Value {
    let data = service.data.to_str().unwrap();
    service.run(&["bridge", "show", bridge, "--json", "--data", data]).json()
}

#[track_caller]
fn wait_until(service: &Service<'_>, bridge: &str, what: &str, wanted: impl Fn(&Value) -> bool) -> Value {
    wait(what, || Some(shown(service, bridge)).filter(|view| wanted(view)))
}

#[track_caller]
fn up(service: &Service<'_>, bridge: &str) {
    wait_until(service, bridge, "the bridge is up", |view| view["phase"] == "up");
}

fn publish(topic: &str, payload: impl Into<String>, qos: QoS) -> Publish {
    peer::publish(topic, payload.into().into_bytes(), qos)
}

fn text(message: &Publish) -> String {
    format!("{} {}", message.topic, String::from_utf8_lossy(&message.payload))
}

const MAPPINGS: &str = r#"
[[bridges.push]]
filter = "river/#"
as = "harrowmere/#"
[[bridges.pull]]
filter = "tide/#"
"#;

/// A client that has one message at a time, so that its handshakes don't mix.
fn one_at_a_time() -> Connect {
    let mut connect = keeping(V5, "desk");
    connect.properties.receive_maximum = Some(PacketId::MIN);
    connect
}

#[test]
fn what_is_stored_while_the_link_is_down_arrives_once_and_in_order() {
    for version in ["5.0", "3.1.1"] {
        let (here, there) = (Place::with_private_servers(), Place::with_private_servers());
        let remote = serve(&there, "tideway", &blueprint("tideway", ""));
        let wire = Wire::to(remote.mqtt);
        let mappings = format!("protocol = \"{version}\"\n{MAPPINGS}");
        let design = blueprint("harrowmere", &bridge("tideway", &wire.url(), &mappings));
        let local = serve(&here, "harrowmere", &design);
        up(&local, "tideway");
        wire.cut();
        let down = wait_until(&local, "tideway", "the bridge is down", |view| view["phase"] == "down");
        assert!(down["trouble"]["words"].as_str().unwrap().contains("closed"), "{down}");

        let mut gauge = Peer::open(local.mqtt, V5, "gauge");
        let mut barrier = Peer::open(remote.mqtt, V5, "barrier");
        for number in 1..=20_u16 {
            // Order holds within a topic and a QoS.
            let (qos, topic) = if number % 2 == 0 { (QoS::ExactlyOnce, "two") } else { (QoS::AtLeastOnce, "one") };
            gauge.publish(number, publish(&format!("river/{topic}"), number.to_string(), qos));
            barrier.publish(number, publish(&format!("tide/{topic}"), number.to_string(), qos));
        }
        wait_until(&local, "tideway", "all of it waits", |view| view["waiting"]["messages"] == 20);
        // Both are killed; what waits is on disk.
        remote.crash();
        local.crash();
        let remote = serve(&there, "tideway", &blueprint("tideway", ""));
        let (mut heard_there, _) = Peer::resume(remote.mqtt, one_at_a_time());
        heard_there.subscribe("harrowmere/#", QoS::ExactlyOnce);
        wire.link().lead_to(remote.mqtt);
        let local = serve(&here, "harrowmere", &design);
        let (mut heard_here, _) = Peer::resume(local.mqtt, one_at_a_time());
        heard_here.subscribe("tide/#", QoS::ExactlyOnce);
        let waiting = shown(&local, "tideway");
        assert_eq!(waiting["waiting"]["messages"], 20, "{waiting}");
        wire.restore();
        for (heard, root) in [(&mut heard_there, "harrowmere"), (&mut heard_here, "tide")] {
            let mut all = Vec::new();
            for _ in 1..=20 {
                let message = heard.message();
                heard.acknowledge(&message);
                all.push(text(&message));
            }
            for (topic, first) in [("one", 1), ("two", 2)] {
                let of_topic: Vec<&String> = all.iter().filter(|one| one.contains(topic)).collect();
                let expected: Vec<String> =
                    (first..=20).step_by(2).map(|number| format!("{root}/{topic} {number}")).collect();
                assert_eq!(of_topic, expected.iter().collect::<Vec<_>>(), "by MQTT {version}");
            }
        }
        let drained = wait_until(&local, "tideway", "nothing waits", |view| {
            view["waiting"]["messages"] == 0 && view["waiting"]["in_flight"] == 0
        });
        assert_eq!((&drained["phase"], &drained["dropped"]), (&"up".into(), &serde_json::json!({})), "{drained}");
        assert_eq!(drained["pushed"]["acknowledged"], 20);
    }
}

#[test]
fn the_bounds_of_what_waits_are_kept_and_told() {
    let place = Place::new();
    let mappings = format!("[bridges.waiting]\nmessages = 5\nfull = \"drop-oldest\"\n{MAPPINGS}");
    let design = blueprint("harrowmere", &bridge("tideway", "mqtt://127.0.0.1:1", &mappings));
    let local = serve(&place, "harrowmere", &design);
    let mut gauge = Peer::open(local.mqtt, V5, "gauge");
    for number in 1..=8_u16 {
        gauge.publish(number, publish("river/level", number.to_string(), QoS::AtLeastOnce));
    }
    let view = wait_until(&local, "tideway", "the oldest are dropped", |view| {
        view["waiting"]["messages"] == 5 && view["dropped"]["queue-full"] == 3
    });
    assert!(view["trouble"]["words"].as_str().unwrap().starts_with("Nothing listens on 127.0.0.1:1."), "{view}");
    local.wait_for_event("Bridge tideway: messages that waited were dropped");
    let told = local.run(&["bridge", "show", "tideway"]);
    assert!(told.ok().contains("5 messages") && told.ok().contains("dropped     3 (queue-full)"), "{told:?}");
}

#[test]
fn a_bridge_has_the_rights_of_its_identity_and_no_others() {
    let place = Place::new();
    let remote = serve(&place, "tideway", &blueprint("tideway", ""));
    let rules = r#"
[[rules]]
name = "levels go to the barrier"
who = { identity = "bridge:tideway" }
may = ["subscribe"]
topics = ["river/level"]
"#;
    let mappings = "[[bridges.push]]\nfilter = \"river/level\"\n[[bridges.push]]\nfilter = \"river/gate\"\n\
                    [[bridges.pull]]\nfilter = \"tide/#\"\n";
    let url = format!("mqtt://{}", remote.mqtt);
    let design = blueprint("harrowmere", &format!("{rules}{}", bridge("tideway", &url, mappings)));
    let file = place.write("harrowmere.toml", &design);
    let data = place.path().join("harrowmere");
    let data = data.to_str().unwrap();
    let local = place.serve(&["--data", data, "--blueprint", file.to_str().unwrap()]);
    up(&local, "tideway");
    let mut barrier = Peer::open(remote.mqtt, V5, "barrier");
    barrier.publish(1, publish("tide/level", "4.1", QoS::ExactlyOnce));
    let view = wait_until(&local, "tideway", "what is pulled is refused", |view| {
        view["pulled"]["not_carried"]["refused"] == 1
    });
    let mappings = view["mappings"].as_array().unwrap();
    assert_eq!(mappings[0]["troubles"].as_array().unwrap().len(), 0, "{view}");
    let trouble = mappings[1]["troubles"][0].as_str().unwrap();
    assert!(trouble.contains("refuses bridge:tideway the subscription (Not authorized, 0x87)"), "{trouble}");
    wait("it is told", || {
        let events = local.run(&["events", "--json", "--data", data, "--limit", "100"]);
        events.ok().contains("Bridge tideway, tide/level: this broker refused a message").then_some(())
    });
    let explained =
        local.run(&["access", "explain", "--as", "bridge:tideway", "--data", data, "publish", "tide/level"]);
    assert!(explained.code == Some(1) && explained.out.contains("bridge:tideway"), "{explained:?}");
    let check = local.run(&["topics", "check", file.to_str().unwrap()]);
    assert!(check.out.contains("no rule allows bridge:tideway to publish"), "{check:?}");
    // Nobody else has its sessions, nor its name.
    let taken = local.run(&["identities", "set", "bridge:tideway", "--data", data]);
    assert!(taken.failed().contains("belong to bridges"), "{taken:?}");
    let secret = local.secret();
    let stolen = Connect {
        user_name: Some("administrator".into()),
        password: Some(secret.into()),
        ..connect(V5, "bridge:tideway:push")
    };
    let mut stranger = Peer::begin(local.mqtt, stolen);
    let Some(Packet::ConnAck(refused)) = stranger.receive() else { panic!("no CONNACK") };
    assert!(refused.reason.is_error(), "{refused:?}");
}

#[test]
fn a_bridge_rests_drains_and_goes_on_as_it_is_told() {
    let (here, there) = (Place::new(), Place::new());
    let remote = serve(&there, "tideway", &blueprint("tideway", ""));
    let wire = Wire::to(remote.mqtt);
    let mappings = format!("status-there = \"harrowmere/bridge\"\n{MAPPINGS}");
    let design = blueprint("harrowmere", &bridge("tideway", &wire.url(), &mappings));
    let local = serve(&here, "harrowmere", &design);
    up(&local, "tideway");
    let mut desk = Peer::open(remote.mqtt, V5, "desk");
    desk.subscribe("harrowmere/#", QoS::AtLeastOnce);
    let mut next = || {
        let message = desk.message();
        desk.acknowledge(&message);
        text(&message)
    };
    assert_eq!(next(), "harrowmere/bridge up");
    let mut gauge = Peer::open(local.mqtt, V5, "gauge");
    gauge.subscribe("$SYS/moorfall/bridges/tideway", QoS::AtMostOnce);
    assert_eq!(&gauge.message().payload[..], b"up");

    local.run(&["bridge", "pause", "tideway"]).ok();
    assert_eq!(next(), "harrowmere/bridge down");
    assert_eq!(&gauge.message().payload[..], b"paused");
    wait_until(&local, "tideway", "it rests", |view| view["phase"] == "paused");
    gauge.publish(1, publish("river/level", "1", QoS::AtLeastOnce));
    wait_until(&local, "tideway", "a message waits", |view| view["waiting"]["messages"] == 1);
    local.crash();
    let local = serve(&here, "harrowmere", &design);
    assert_eq!(shown(&local, "tideway")["phase"], "paused", "also after a restart");
    local.run(&["bridge", "resume", "tideway"]).ok();
    let both = [next(), next()];
    assert!(both.contains(&"harrowmere/bridge up".into()) && both.contains(&"harrowmere/level 1".into()), "{both:?}");

    wire.cut();
    wait_until(&local, "tideway", "it is down", |view| view["phase"] == "down");
    assert_eq!(next(), "harrowmere/bridge down", "the will");
    let mut gauge = Peer::open(local.mqtt, V5, "gauge");
    gauge.publish(2, publish("river/level", "2", QoS::AtLeastOnce));
    wire.restore();
    local.run(&["bridge", "drain", "tideway"]).ok();
    let both = [next(), next()];
    assert!(both.contains(&"harrowmere/level 2".into()), "{both:?}");
    wait_until(&local, "tideway", "it is drained", |view| view["phase"] == "paused");
    assert_eq!(next(), "harrowmere/bridge down");
    gauge.publish(3, publish("river/level", "3", QoS::AtLeastOnce));
    assert_eq!(shown(&local, "tideway")["waiting"]["messages"], 0, "nothing new is taken");
    local.run(&["bridge", "resume", "tideway"]).ok();
    assert_eq!(next(), "harrowmere/bridge up");
    wait_until(&local, "tideway", "it subscribes again", |view| {
        view["phase"] == "up" && view["waiting"]["in_flight"] == 0
    });
    wait("what is new passes", || {
        gauge.publish(4, publish("river/level", "4", QoS::AtLeastOnce));
        (next() == "harrowmere/level 4").then_some(())
    });
    local.wait_for_event("administrator has begun to drain the bridge tideway");
    let unknown = local.run(&["bridge", "pause", "barrier"]);
    assert!(
        unknown.failed().contains("There is no bridge barrier. The blueprint in force has: tideway."),
        "{unknown:?}"
    );
}

#[test]
fn each_way_in_which_a_link_fails_has_its_own_sentence() {
    let (here, there) = (Place::new(), Place::new());
    let data = there.path().join("tideway");
    let remote = there.serve(&["--data", data.to_str().unwrap()]);
    remote.identity("barrier", &[]);
    let closes = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let closing = closes.local_addr().unwrap();
    std::thread::spawn(move || {
        while let Ok((mut stream, _)) = closes.accept() {
            use std::io::{Read, Write};
            let _ = stream.read(&mut [0; 500]);
            let _ = stream.write_all(&[0x20, 3, 0, 0, 0]);
        }
    });
    let bridges = [
        ("host", "mqtt://no-such-host.invalid".to_owned(), "Unknown host no-such-host.invalid."),
        ("port", "mqtt://127.0.0.1:1".to_owned(), "Nothing listens on 127.0.0.1:1."),
        ("wrong", format!("mqtt://barrier@{}", remote.mqtt), "Check both, and that the identity exists."),
        ("nobody", format!("mqtt://{}", remote.mqtt), "refused an anonymous client"),
        ("tls", format!("mqtts://{}", remote.mqtt), "Perhaps this port is for plain mqtt://"),
        ("web", format!("ws://{}", remote.mqtt), "did not open a WebSocket"),
        ("closes", format!("mqtt://{closing}"), "accepted the connection and closed it after"),
        ("file", format!("mqtt://barrier@{}", remote.mqtt), "The secret file"),
    ];
    let mappings = |name: &str| {
        let file = if name == "file" { "secret-file = \"none\"\n" } else { "" };
        format!("{file}[[bridges.push]]\nfilter = \"river/#\"\n")
    };
    let all: Vec<String> = bridges.iter().map(|(name, url, _)| bridge(name, url, &mappings(name))).collect();
    let local = serve(&here, "harrowmere", &blueprint("harrowmere", &all.concat()));
    for (name, _, words) in &bridges {
        let down = wait_until(&local, name, "it is down", |view| view["phase"] == "down");
        let told = down["trouble"]["words"].as_str().unwrap();
        assert!(told.contains(words), "{name}: {told}");
        local.wait_for_event(&format!("Bridge {name} is down: "));
    }
    // With the right secret the next attempt is a good one.
    let secret = here.write("secret", "reirrab");
    local.run(&["bridge", "secret", "wrong", "--secret-file", secret.to_str().unwrap()]).ok();
    up(&local, "wrong");
    let shown = local.run(&["bridge", "show", "wrong", "--json"]);
    assert!(shown.ok().contains("\"has_secret\": true") && !shown.out.contains("reirrab"), "{shown:?}");
    // The loop runs no hotter than its back-off.
    let closes = shown_attempts(&local, "closes");
    assert!(closes < 15, "{closes} attempts");
}

fn shown_attempts(service: &Service<'_>, bridge: &str) -> u64 {
    shown(service, bridge)["failed_attempts"].as_u64().unwrap()
}

#[test]
fn the_next_address_is_taken_and_the_first_one_when_it_is_back() {
    let (here, there) = (Place::new(), Place::new());
    let second = serve(&there, "second", &blueprint("second", ""));
    let wire = Wire::to(second.mqtt);
    wire.cut();
    let remotes = format!("{}\", \"mqtt://{}", wire.url(), second.mqtt);
    let mappings = format!("fail-back = \"1s\"\n{MAPPINGS}");
    let local = serve(&here, "harrowmere", &blueprint("harrowmere", &bridge("tideway", &remotes, &mappings)));
    let direct = format!("mqtt://{}", second.mqtt);
    wait_until(&local, "tideway", "it takes the second address", |view| {
        view["phase"] == "up" && view["remote"] == *direct
    });
    wire.restore();
    wait_until(&local, "tideway", "it goes back to the first", |view| {
        view["phase"] == "up" && view["remote"] == *wire.url()
    });
}

#[test]
fn retained_messages_are_brought_once_and_cleared_on_both_sides() {
    let (here, there) = (Place::new(), Place::new());
    let remote = serve(&there, "tideway", &blueprint("tideway", ""));
    let retained = |topic: &str, payload: &str| Publish { retain: true, ..publish(topic, payload, QoS::AtLeastOnce) };
    let mut barrier = Peer::open(remote.mqtt, V5, "barrier");
    for number in 1..=30_u16 {
        barrier.publish(number, retained(&format!("tide/{number}"), "up"));
    }
    let mappings = format!("retained-rate = \"20/s\"\n{MAPPINGS}");
    let wire = Wire::to(remote.mqtt);
    let design = blueprint("harrowmere", &bridge("tideway", &wire.url(), &mappings));
    let local = serve(&here, "harrowmere", &design);
    let data = local.data.to_str().unwrap();
    let count = |filter: &str| {
        let listed = local.run(&["retained", "list", filter, "--json", "--data", data]).json();
        listed["retained"].as_array().unwrap_or_else(|| panic!("{listed}")).len()
    };
    wait("all are here", || (count("tide/#") == 30).then_some(()));
    let mut gauge = Peer::open(local.mqtt, V5, "gauge");
    gauge.publish(1, retained("river/status", "on"));
    let mut desk = Peer::open(remote.mqtt, V5, "desk");
    wait("it is there", || {
        desk.subscribe("harrowmere/status", QoS::AtMostOnce);
        Some(desk.message()).filter(|message| message.retain).map(drop)
    });
    gauge.publish(2, retained("river/status", ""));
    barrier.publish(31, retained("tide/7", ""));
    wait("one is cleared here", || (count("tide/#") == 29).then_some(()));
    let cleared = desk.message();
    assert!(cleared.payload.is_empty(), "{cleared:?}");
    // A session there that is lost brings nothing that is here already.
    let before = shown(&local, "tideway")["pulled"]["messages"].as_u64().unwrap();
    let mut taker = Peer::begin(remote.mqtt, connect(V5, "harrowmere-tideway"));
    taker.receive();
    drop(taker);
    wait_until(&local, "tideway", "what is the same is left out", |view| {
        view["pulled"]["not_carried"]["unchanged"].as_u64() == Some(29)
    });
    assert_eq!(shown(&local, "tideway")["pulled"]["messages"].as_u64().unwrap(), before);
}

/// Three services, each of which pushes everything to the next one.
fn ring(first_link: &str) {
    let places = [Place::new(), Place::new(), Place::new()];
    let names = ["moor", "gorge", "tidal"];
    // Each one's address is known when it has started, so links come first and are led there.
    let wires: Vec<Wire> = (0..3).map(|_| Wire::to(([127, 0, 0, 1], 1).into())).collect();
    let services: Vec<Service<'_>> = (0..3)
        .map(|place| {
            let next = (place + 1) % 3;
            let protocol = if place == 0 { first_link } else { "5.0" };
            let mappings = format!("protocol = \"{protocol}\"\n[[bridges.push]]\nfilter = \"river/#\"\n");
            let design = blueprint(names[place], &bridge("next", &wires[next].url(), &mappings));
            let service = serve(&places[place], names[place], &design);
            wires[place].link().lead_to(service.mqtt);
            service
        })
        .collect();
    services.iter().for_each(|service| {
        service.run(&["bridge", "retry", "next", "--data", service.data.to_str().unwrap()]).ok();
        up(service, "next");
    });
    let mut listeners: Vec<Peer> = services
        .iter()
        .map(|service| {
            let mut listener = Peer::open(service.mqtt, V5, "listener");
            // At QoS 1, so that messages need no handshake of several steps; no connection of it breaks.
            listener.subscribe("#", QoS::AtLeastOnce);
            listener
        })
        .collect();
    for (place, service) in services.iter().enumerate() {
        let mut gauge = Peer::open(service.mqtt, V5, "gauge");
        // The same content twice is two messages.
        for number in 1..=2 {
            gauge.publish(number, publish(&format!("river/{}", names[place]), "1", QoS::ExactlyOnce));
        }
    }
    for listener in &mut listeners {
        let mut heard = Vec::new();
        for _ in 0..6 {
            let message = listener.message();
            listener.acknowledge(&message);
            heard.push(text(&message));
        }
        heard.sort();
        let expected =
            ["river/gorge 1", "river/gorge 1", "river/moor 1", "river/moor 1", "river/tidal 1", "river/tidal 1"];
        assert_eq!(heard, expected);
    }
    // What comes round is acknowledged, counted, and goes no further: nothing waits and nothing more comes.
    for service in &services {
        wait_until(service, "next", "nothing is under way", |view| {
            view["waiting"]["messages"] == 0 && view["waiting"]["in_flight"] == 0
        });
    }
    for (listener, service) in listeners.iter_mut().zip(&services) {
        let mut last = Peer::open(service.mqtt, V5, "last");
        last.publish(9, publish("end", "", QoS::AtLeastOnce));
        let message = listener.message();
        assert_eq!(&*message.topic, "end", "{message:?}");
    }
}

#[test]
fn in_a_ring_each_message_arrives_once_at_each() {
    ring("5.0");
}

#[test]
fn in_a_ring_with_a_link_of_3_1_1_each_message_arrives_once_at_each() {
    ring("3.1.1");
}

#[test]
fn a_preview_says_what_topics_become_and_sends_nothing() {
    let place = Place::new();
    let design = blueprint("harrowmere", &bridge("tideway", "mqtt://127.0.0.1:1", MAPPINGS));
    let local = serve(&place, "harrowmere", &design);
    let mut gauge = Peer::open(local.mqtt, V311, "gauge");
    for (number, topic) in (1..).zip(["river/level", "lake/level"]) {
        gauge.publish(number, publish(topic, "1", QoS::AtLeastOnce));
    }
    let preview = wait("both are live", || {
        let preview = local.run(&["bridge", "preview", "tideway", "--json"]).json();
        (preview["push"]["looked_at"] == 2).then_some(preview)
    });
    assert_eq!(preview["push"]["carried"], 1);
    assert_eq!(preview["push"]["topics"][0]["becomes"], "harrowmere/level");
    assert_eq!(preview["push"]["topics"][1]["why_not"], "no mapping takes it");
    let named = local.run(&["bridge", "preview", "tideway", "river/x", "--there", "tide/a", "--there", "sky"]);
    let told = named.ok();
    assert!(
        told.contains("→ harrowmere/x") && told.contains("→ the same name") && told.contains("✗ no mapping"),
        "{told}"
    );
    let looping = design.replace("filter = \"tide/#\"", "filter = \"harrowmere/#\"\nas = \"river/#\"");
    let file = place.write("looping.toml", &looping);
    let refused = local.run(&["bridge", "preview", "tideway", "--blueprint", file.to_str().unwrap()]);
    assert!(refused.failed().contains("messages can go round: river is pushed as harrowmere"), "{refused:?}");
    let refused = local.run(&["blueprint", "apply", file.to_str().unwrap(), "-m", "round"]);
    refused.failed();
    assert!(refused.out.contains("which is pulled as"), "{refused:?}");
}

#[test]
fn a_change_of_one_bridge_does_not_disturb_another() {
    let (here, there) = (Place::new(), Place::new());
    let remote = serve(&there, "tideway", &blueprint("tideway", ""));
    let url = format!("mqtt://{}", remote.mqtt);
    let two = |filter: &str| {
        let changed = bridge("changed", &url, &format!("[[bridges.push]]\nfilter = \"{filter}\"\n"));
        blueprint("harrowmere", &format!("{changed}{}", bridge("stays", &url, MAPPINGS)))
    };
    let local = serve(&here, "harrowmere", &two("lake/#"));
    up(&local, "changed");
    up(&local, "stays");
    let since = shown(&local, "stays")["since"].clone();
    let file = here.write("other.toml", &two("pond/#"));
    local.run(&["blueprint", "apply", file.to_str().unwrap(), "-m", "another filter"]).ok();
    let mut desk = Peer::open(remote.mqtt, V5, "desk");
    desk.subscribe("#", QoS::AtLeastOnce);
    wait_until(&local, "changed", "it has begun anew", |view| {
        view["phase"] == "up" && view["mappings"][0]["filter"] == "pond/#"
    });
    let mut gauge = Peer::open(local.mqtt, V5, "gauge");
    for (number, topic) in (1..).zip(["lake/a", "pond/b"]) {
        gauge.publish(number, publish(topic, "1", QoS::AtLeastOnce));
    }
    assert_eq!(text(&desk.message()), "pond/b 1", "what the old filter took is not subscribed to any more");
    assert_eq!(shown(&local, "stays")["since"], since);
    // One that is gone leaves nothing.
    let file = here.write("none.toml", &blueprint("harrowmere", &bridge("stays", &url, MAPPINGS)));
    local.run(&["blueprint", "apply", file.to_str().unwrap(), "-m", "one less"]).ok();
    wait("its sessions are gone", || {
        let sessions = local.run(&["sessions", "--json"]);
        (!sessions.out.contains("bridge:changed")).then_some(())
    });
}

#[test]
fn a_journey_goes_on_across_the_bridge() {
    let (here, there) = (Place::new(), Place::new());
    let remote = serve(&there, "tideway", &blueprint("tideway", ""));
    let mappings =
        "[[bridges.push]]\nfilter = \"river/#\"\nas = \"harrowmere/#\"\nwhere = \"payload.quality == 'good'\"\n";
    let url = format!("mqtt://{}", remote.mqtt);
    let local = serve(&here, "harrowmere", &blueprint("harrowmere", &bridge("tideway", &url, mappings)));
    up(&local, "tideway");
    let tried = local.run(&["journey", "river/level", "1.83", "--as", "administrator", "--json"]).json();
    assert_eq!(tried["recipients"][0]["becomes"], "harrowmere/level", "{tried}");
    let mqtt = local.mqtt;
    let stop = std::sync::Arc::new(std::sync::atomic::AtomicBool::new(false));
    let stopped = std::sync::Arc::clone(&stop);
    let station = std::thread::spawn(move || {
        let mut gauge = Peer::open(mqtt, V5, "gauge");
        for number in 1.. {
            if stopped.load(std::sync::atomic::Ordering::Relaxed) {
                return;
            }
            let quality = if number % 2 == 0 { "good" } else { "doubtful" };
            gauge.publish(number, publish("river/level", format!("{{\"quality\": \"{quality}\"}}"), QoS::ExactlyOnce));
            std::thread::sleep(std::time::Duration::from_millis(50));
        }
    });
    let recorded = local.run(&["recording", "start", "river/#", "--for", "2s", "--json"]);
    stop.store(true, std::sync::atomic::Ordering::Relaxed);
    station.join().unwrap();
    let lines: Vec<Value> = recorded.ok().lines().filter_map(|line| serde_json::from_str(line).ok()).collect();
    let told = serde_json::to_string(&lines).unwrap() + recorded.ok();
    assert!(told.contains("not carried across: the condition is not true of it"), "{told}");
    assert!(told.contains("harrowmere/level") && told.contains(&format!(" by {}", remote.mqtt)), "{told}");
}

#[test]
fn an_alert_is_about_one_bridge_and_what_of_it() {
    let (here, there) = (Place::new(), Place::new());
    let remote = serve(&there, "tideway", &blueprint("tideway", ""));
    let wire = Wire::to(remote.mqtt);
    let alerts = r#"
[[alerts]]
name = "barrier-away"
bridge = "tideway"
figure = "down"
high = 0
[[alerts]]
name = "barrier-behind"
bridge = "tideway"
figure = "waiting"
high = 1
[[alerts]]
name = "works-away"
bridge = "works"
figure = "down"
high = 0
"#;
    let both = format!("{}{}", bridge("tideway", &wire.url(), MAPPINGS), bridge("works", &wire.url(), MAPPINGS));
    let design = blueprint("harrowmere", &format!("{both}{alerts}"));
    let local = serve(&here, "harrowmere", &design);
    let phase = |name: &str, phase: &str| {
        wait(&format!("{name} is {phase}"), || {
            let alert = local.run(&["alerts", "show", name, "--json", "--data", local.data.to_str().unwrap()]).json();
            (alert["phase"] == phase && alert["subjects"] == 1).then_some(())
        });
    };
    up(&local, "works");
    let data = local.data.to_str().unwrap();
    // One that rests as it was told is not down.
    local.run(&["bridge", "pause", "works", "--data", data]).ok();
    phase("barrier-away", "ok");
    wire.cut();
    // What is published before it is seen may be in flight, and does not wait.
    phase("barrier-away", "raised");
    let mut gauge = Peer::open(local.mqtt, V5, "gauge");
    for number in 1..=2 {
        gauge.publish(number, publish("river/level", "1.83", QoS::AtLeastOnce));
    }
    phase("barrier-behind", "raised");
    phase("works-away", "ok");
    wire.restore();
    phase("barrier-away", "ok");
    phase("barrier-behind", "ok");

    for (from, to, words) in [
        ("figure = \"down\"", "figure = \"speed\"", "a bridge has no figure `speed`"),
        ("figure = \"down\"\n", "", "needs to know what of it"),
        ("bridge = \"works\"", "bridge = \"mill\"", "there is no bridge `mill`"),
        ("bridge = \"works\"", "session = \"gauge\"", "`figure` is only for bridges"),
    ] {
        let file = here.write("wrong.toml", &design.replace(from, to));
        let check = local.run(&["blueprint", "check", file.to_str().unwrap(), "--data", data]);
        let said = format!("{}{}", check.out, check.err);
        let said = said.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(said.contains(words), "{words}: {said}");
    }
}
