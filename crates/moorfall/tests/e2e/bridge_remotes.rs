//! What a remote may say, played packet by packet: limits that a bridge keeps, refusals and goodbyes that it tells.

use std::net::TcpListener;

use moorfall_wire::*;
use serde_json::Value;

use crate::{
    harness::{PATIENCE, Place, Service, wait},
    peer::{self, Peer, V5},
};

/// A broker that is a script.
struct Remote(TcpListener);

impl Remote {
    fn new() -> Self {
        Self(TcpListener::bind("127.0.0.1:0").unwrap())
    }

    fn blueprint(&self, mappings: &str) -> String {
        let url = format!("mqtt://{}", self.0.local_addr().unwrap());
        format!("name = \"harrowmere\"\n[[bridges]]\nname = \"tideway\"\nremotes = [\"{url}\"]\n{mappings}")
    }

    /// Lets the bridge in, with these terms; gives what it said, too.
    fn accept(&self, terms: impl FnOnce(&mut ConnAckProperties)) -> (Peer, Connect) {
        let (stream, _) = self.0.accept().unwrap();
        stream.set_read_timeout(Some(PATIENCE)).unwrap();
        let mut link = Peer::over(stream, V5);
        let Some(Packet::Connect(connect)) = link.receive() else { panic!("it does not connect") };
        let mut properties = ConnAckProperties::default();
        terms(&mut properties);
        let connack = ConnAck { session_present: false, reason: ReasonCode::Success, properties };
        link.send(&Packet::ConnAck(Box::new(connack)));
        (link, *connect)
    }
}

/// The next packet that is none of the link's own upkeep.
fn next(link: &mut Peer) -> Packet {
    loop {
        match link.receive().expect("the bridge has closed the link") {
            Packet::PingReq => link.send(&Packet::PingResp),
            packet => return packet,
        }
    }
}

#[track_caller]
fn message(link: &mut Peer) -> Publish {
    match next(link) {
        Packet::Publish(publish) => publish,
        other => panic!("not a message: {other:?}"),
    }
}

fn serve<'a>(place: &'a Place, blueprint: &str) -> Service<'a> {
    let file = place.write("harrowmere.toml", blueprint);
    place.serve(&["--open", "--blueprint", file.to_str().unwrap()])
}

fn shown(service: &Service<'_>) -> Value {
    service.run(&["bridge", "show", "tideway", "--json"]).json()
}

#[track_caller]
fn wait_until(service: &Service<'_>, what: &str, wanted: impl Fn(&Value) -> bool) -> Value {
    wait(what, || Some(shown(service)).filter(|view| wanted(view)))
}

fn refusing(packet_id: Option<PacketId>, words: &str) -> Acknowledgement {
    let mut ack = Acknowledgement::success(packet_id.unwrap());
    ack.reason = ReasonCode::NotAuthorized;
    ack.properties.reason_string = Some(words.into());
    ack
}

const PUSH: &str = "[[bridges.push]]\nfilter = \"river/#\"\n";

#[test]
fn what_the_remote_takes_is_kept_to_and_told() {
    let (place, remote) = (Place::new(), Remote::new());
    let pull = "[[bridges.pull]]\nfilter = \"tide/#\"\n[[bridges.pull]]\nfilter = \"tide/level\"\n";
    let service = serve(&place, &remote.blueprint(&format!("{PUSH}{pull}")));
    let (mut link, connect) = remote.accept(|terms| {
        terms.maximum_qos = Some(true);
        terms.retain_available = Some(false);
        terms.receive_maximum = std::num::NonZeroU16::new(2);
        terms.maximum_packet_size = std::num::NonZeroU32::new(300);
        terms.wildcard_subscription_available = Some(false);
    });
    assert_eq!((&*connect.client_id, connect.version, connect.clean_start), ("harrowmere-tideway", V5, false));
    // The subscription with a wildcard is not made, the other one is.
    let Packet::Subscribe(subscribe) = next(&mut link) else { panic!("it does not subscribe") };
    let filters: Vec<&str> = subscribe.subscriptions.iter().map(|one| &*one.filter).collect();
    assert_eq!(filters, ["tide/level"]);
    let reasons = vec![ReasonCode::GrantedQoS1];
    link.send(&Packet::SubAck(SubAck { packet_id: subscribe.packet_id, properties: Default::default(), reasons }));
    let view = wait_until(&service, "limits are told", |view| view["phase"] == "up");
    let troubles = view["mappings"].to_string();
    for words in
        ["takes QoS 1 at most", "has no retained messages", "has no subscriptions with wildcards", "grants QoS 1"]
    {
        assert!(troubles.contains(words), "{words}: {troubles}");
    }

    let mut gauge = Peer::open(service.mqtt, V5, "gauge");
    wait_until(&service, "it is subscribed here", |_| {
        service.run(&["sessions", "--json"]).out.contains("bridge:tideway:push")
    });
    let large = peer::publish("river/level", vec![b'x'; 400], QoS::ExactlyOnce);
    gauge.publish(1, large);
    for number in 2..=5_u16 {
        let message = peer::publish("river/level", number.to_string().into_bytes(), QoS::ExactlyOnce);
        gauge.publish(number, Publish { retain: true, ..message });
    }
    // Two at a time, at the QoS that it takes, and none retained.
    let (first, second) = (message(&mut link), message(&mut link));
    for (got, payload) in [(&first, "2"), (&second, "3")] {
        assert_eq!((got.qos, got.retain, &*got.payload), (QoS::AtLeastOnce, false, payload.as_bytes()));
    }
    wait_until(&service, "two wait", |view| view["waiting"]["messages"] == 2 && view["waiting"]["in_flight"] == 2);
    link.acknowledge(&first);
    assert_eq!(&*message(&mut link).payload, b"4");
    link.acknowledge(&second);
    assert_eq!(&*message(&mut link).payload, b"5");
    let view = shown(&service);
    assert_eq!(view["pushed"]["not_carried"]["too-large"], 1, "{view}");
    service.wait_for_event("A message is larger than");
}

#[test]
fn what_the_remote_refuses_is_told_with_its_words() {
    let (place, remote) = (Place::new(), Remote::new());
    let service = serve(&place, &remote.blueprint(&format!("{PUSH}[[bridges.pull]]\nfilter = \"tide/#\"\n")));
    let (mut link, _) = remote.accept(|_| {});
    let Packet::Subscribe(subscribe) = next(&mut link) else { panic!("it does not subscribe") };
    let mut answer = SubAck {
        packet_id: subscribe.packet_id,
        properties: Default::default(),
        reasons: vec![ReasonCode::NotAuthorized],
    };
    answer.properties.reason_string = Some("The tide is not for the river.".into());
    link.send(&Packet::SubAck(answer));
    let told = "refused the subscription: The tide is not for the river (Not authorized, 0x87)";
    wait_until(&service, "the mapping has it", |view| view["mappings"].to_string().contains(told));
    service.wait_for_event(told);

    let mut gauge = Peer::open(service.mqtt, V5, "gauge");
    wait_until(&service, "it is subscribed here", |_| {
        service.run(&["sessions", "--json"]).out.contains("bridge:tideway:push")
    });
    for (number, qos) in [(1, QoS::AtLeastOnce), (2, QoS::ExactlyOnce)] {
        gauge.publish(number, peer::publish("river/level", b"1.83".to_vec(), qos));
        let got = message(&mut link);
        let no = refusing(got.packet_id, "No levels today.");
        link.send(&if qos == QoS::AtLeastOnce { Packet::PubAck(no) } else { Packet::PubRec(no) });
    }
    // It is not sent again (§4.3), and the next one comes.
    gauge.publish(3, peer::publish("river/flow", b"12".to_vec(), QoS::AtLeastOnce));
    let other = message(&mut link);
    assert_eq!(&*other.topic, "river/flow");
    link.acknowledge(&other);
    let view = wait_until(&service, "all is done", |view| {
        view["pushed"]["acknowledged"] == 1 && view["waiting"]["in_flight"] == 0
    });
    assert_eq!(view["pushed"]["not_carried"]["refused"], 2, "{view}");
}

#[test]
fn the_remotes_keep_alive_and_aliases_are_its_own_and_its_goodbye_is_told() {
    let (place, remote) = (Place::new(), Remote::new());
    let service = serve(&place, &remote.blueprint(PUSH));
    let (mut link, connect) = remote.accept(|terms| {
        terms.server_keep_alive = Some(1);
        terms.topic_alias_maximum = Some(1);
    });
    assert_eq!(connect.keep_alive, 30);
    // It asked for 30 s of silence, and has to keep to one (§3.2.2.3.14).
    let asked = std::time::Instant::now();
    assert_eq!(link.receive(), Some(Packet::PingReq));
    assert!(asked.elapsed() < std::time::Duration::from_secs(5), "{:?}", asked.elapsed());
    link.send(&Packet::PingResp);
    wait_until(&service, "the round trip is known", |view| view["round_trip_us"].is_number());

    let mut gauge = Peer::open(service.mqtt, V5, "gauge");
    wait_until(&service, "it is subscribed here", |_| {
        service.run(&["sessions", "--json"]).out.contains("bridge:tideway:push")
    });
    for number in 1..=2 {
        gauge.publish(number, peer::publish("river/level", b"1.83".to_vec(), QoS::AtLeastOnce));
    }
    let (first, second) = (message(&mut link), message(&mut link));
    assert_eq!((&*first.topic, first.properties.topic_alias.map(u16::from)), ("river/level", Some(1)));
    assert_eq!((&*second.topic, second.properties.topic_alias.map(u16::from)), ("", Some(1)));

    let mut goodbye = Disconnect::normal();
    goodbye.reason = ReasonCode::ServerMoved;
    goodbye.properties.reason_string = Some("The barrier has a new broker.".into());
    link.send(&Packet::Disconnect(goodbye));
    service.wait_for_event("The barrier has a new broker (Server moved, 0x9D)");
    // What was not acknowledged comes again on the next link, in its order.
    let (mut link, _) = remote.accept(|_| {});
    for _ in 0..2 {
        let again = message(&mut link);
        assert_eq!((&*again.topic, &*again.payload), ("river/level", &b"1.83"[..]));
        link.acknowledge(&again);
    }
    wait_until(&service, "nothing waits", |view| view["waiting"]["in_flight"] == 0 && view["phase"] == "up");
}

#[test]
fn what_comes_now_goes_behind_what_waits_or_beside_it_as_the_design_says() {
    const COUNT: u16 = 5_500;
    for live in ["behind", "beside"] {
        let (place, remote) = (Place::new(), Remote::new());
        let config = place.write("moorfall.toml", "[limits]\nqueue-memory-bytes = 65536\n");
        let file = place.write("b.toml", &remote.blueprint(&format!("[bridges.waiting]\nlive = \"{live}\"\n{PUSH}")));
        let (config, file) = (config.to_str().unwrap(), file.to_str().unwrap());
        let service = place.serve(&["--open", "--blueprint", file, "--config", config]);
        let (link, _) = remote.accept(|_| {});
        wait_until(&service, "it is up", |view| view["phase"] == "up");
        service.run(&["bridge", "pause", "tideway"]).ok();
        drop(link);
        wait_until(&service, "it rests", |view| view["phase"] == "paused");
        let shown_as = if live == "beside" { "beside what waits of other topics" } else { "behind all that waits" };
        assert!(service.run(&["bridge", "show", "tideway"]).ok().contains(shown_as));

        let mut gauge = Peer::open(service.mqtt, V5, "gauge");
        let all: Vec<u16> = (1..=COUNT).collect();
        // As many at a time as the broker takes without acknowledging.
        for some in all.chunks(1_000) {
            for number in some {
                let message = peer::publish("river/level", number.to_string().into_bytes(), QoS::AtLeastOnce);
                gauge.send(&Packet::Publish(Publish { packet_id: PacketId::new(*number), ..message }));
            }
            some.iter().for_each(|_| assert!(matches!(gauge.receive(), Some(Packet::PubAck(_)))));
        }
        wait_until(&service, "all of them wait", |view| view["waiting"]["messages"] == COUNT);
        service.run(&["bridge", "resume", "tideway"]).ok();
        let (mut link, _) = remote.accept(|terms| terms.receive_maximum = std::num::NonZeroU16::new(16));
        wait_until(&service, "the first are on their way", |view| view["waiting"]["in_flight"] == 16);
        gauge.publish(1, peer::publish("river/wind", b"now".to_vec(), QoS::AtLeastOnce));
        gauge.publish(2, peer::publish("river/level", b"last".to_vec(), QoS::AtLeastOnce));
        let mut all = Vec::new();
        for _ in 0..COUNT + 2 {
            let message = message(&mut link);
            all.push(String::from_utf8_lossy(&message.payload).into_owned());
            link.acknowledge(&message);
        }
        let place = all.iter().position(|one| one == "now").unwrap();
        // What was read from the database by then goes first.
        let expected = if live == "beside" { 16..500 } else { usize::from(COUNT)..usize::from(COUNT) + 1 };
        assert!(expected.contains(&place), "{live}: {place}");
        all.remove(place);
        let in_order: Vec<String> = (1..=COUNT).map(|number| number.to_string()).chain(["last".to_owned()]).collect();
        assert_eq!(all, in_order, "{live}: each topic keeps its order");
    }
}
