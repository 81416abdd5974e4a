//! Every way in which a connection ends: found among the events, in words, as the client was told it.

use std::{
    io::{Read, Write},
    net::{SocketAddr, TcpStream},
    num::NonZeroU16,
};

use bytes::Bytes;
use moorfall_wire::*;

use crate::{
    events::event,
    harness::{PATIENCE, Place, Service},
    peer::{Peer, V5, V311, connect, keeping, publish},
};

const TOPIC: &str = "harrowmere/gorge/kettle-weir/stage/level";

/// Limits that are soon reached.
const LIMITS: &str = "[limits]\npacket-bytes = 4096\nfirst-packet-bytes = 1024\nreceive-maximum = 3\n\
    topic-aliases = 2\nconnect-seconds = 1\nqueue-messages = 2\nqueue-policy = \"end-session\"\nfailed-sign-ins-per-minute = 0\n";

/// What a client does until its connection ends.
type Play = fn(&Service<'_>, &mut Peer, &str);

/// One way to end.
struct Ending {
    client_id: &'static str,
    versions: &'static [ProtocolVersion],
    play: Play,
    kind: &'static str,
    words: &'static str,
}

/// A message with a topic alias, whose topic is left out if it is empty.
fn message(alias: u16, topic: &str) -> Publish {
    let properties = PublishProperties { topic_alias: NonZeroU16::new(alias), ..PublishProperties::default() };
    let topic = topic.parse().unwrap_or_default();
    Publish { properties, topic, ..publish(TOPIC, b"1.8".to_vec(), QoS::AtMostOnce) }
}

fn says_goodbye(peer: &mut Peer, reason: ReasonCode, expiry: Option<u32>) {
    let mut goodbye = Disconnect { reason, ..Disconnect::normal() };
    goodbye.properties.session_expiry_interval = expiry;
    peer.send(&Packet::Disconnect(goodbye));
}

const BOTH: &[ProtocolVersion] = &[V311, V5];

const ENDINGS: &[Ending] = &[
    Ending {
        client_id: "goodbye",
        versions: BOTH,
        play: |_, peer, _| peer.send(&Packet::Disconnect(Disconnect::normal())),
        kind: "disconnected",
        words: "The client disconnected normally.",
    },
    Ending {
        client_id: "goodbye-with-will",
        versions: &[V5],
        play: |_, peer, _| says_goodbye(peer, ReasonCode::DisconnectWithWill, None),
        kind: "disconnected",
        words: "The client disconnected:",
    },
    Ending {
        client_id: "goodbye-in-anger",
        versions: &[V5],
        play: |_, peer, _| says_goodbye(peer, ReasonCode::ImplementationSpecific, None),
        kind: "connection-lost",
        words: "The client disconnected:",
    },
    Ending {
        client_id: "keeps-after-all",
        versions: &[V5],
        play: |_, peer, _| says_goodbye(peer, ReasonCode::Success, Some(60)),
        kind: "connection-lost",
        words: "asked in DISCONNECT for a Session Expiry Interval",
    },
    Ending {
        client_id: "too-large",
        versions: BOTH,
        play: |_, peer, _| peer.send(&Packet::Publish(publish(TOPIC, vec![b'1'; 5_000], QoS::AtMostOnce))),
        kind: "connection-lost",
        words: "limit of 4096",
    },
    Ending {
        client_id: "connects-twice",
        versions: BOTH,
        play: |_, peer, _| peer.send(&Packet::Connect(Box::new(connect(peer.version(), "connects-twice")))),
        kind: "connection-lost",
        words: "The client sent CONNECT, which is not allowed here.",
    },
    Ending {
        client_id: "plays-broker",
        versions: BOTH,
        play: |_, peer, _| peer.send(&Packet::PingResp),
        kind: "connection-lost",
        words: "The client sent PINGRESP, which is not allowed here.",
    },
    Ending {
        client_id: "takes-another-step",
        versions: BOTH,
        play: |_, peer, _| {
            peer.subscribe(TOPIC, QoS::AtLeastOnce);
            peer.send(&Packet::Publish(publish(TOPIC, b"1.8".to_vec(), QoS::AtLeastOnce)));
            let id = loop {
                if let Some(Packet::Publish(message)) = peer.receive() {
                    break message.packet_id.unwrap();
                }
            };
            peer.send(&Packet::PubComp(Acknowledgement::success(id)));
        },
        kind: "connection-lost",
        words: "an unexpected PUBCOMP for packet identifier",
    },
    Ending {
        client_id: "babbles",
        versions: BOTH,
        play: |_, peer, _| peer.stream.write_all(b"\x30\xff\xff\xff\xff\xff").unwrap(),
        kind: "connection-lost",
        words: "The client sent an invalid packet:",
    },
    Ending {
        client_id: "high-alias",
        versions: &[V5],
        play: |_, peer, _| peer.send(&Packet::Publish(message(7, TOPIC))),
        kind: "connection-lost",
        words: "above the Topic Alias Maximum of this connection, 2.",
    },
    Ending {
        client_id: "unknown-alias",
        versions: &[V5],
        play: |_, peer, _| peer.send(&Packet::Publish(message(2, ""))),
        kind: "connection-lost",
        words: "has not been given a topic",
    },
    Ending {
        client_id: "too-many-under-way",
        versions: &[V5],
        play: |_, peer, _| {
            for id in 1..=4 {
                let message = publish(TOPIC, b"1.8".to_vec(), QoS::ExactlyOnce);
                peer.send(&Packet::Publish(Publish { packet_id: PacketId::new(id), ..message }));
            }
        },
        kind: "connection-lost",
        words: "more than 3 unacknowledged QoS 1 and 2 messages",
    },
    Ending {
        client_id: "ended-by-hand",
        versions: BOTH,
        play: |service, _, id| {
            service.run(&["sessions", "end", "--client", id, "--yes"]).ok();
        },
        kind: "disconnected",
        words: "The session was ended by an administrator.",
    },
    Ending {
        client_id: "taken-over",
        versions: BOTH,
        play: |service, _, id| drop(Peer::open(service.mqtt, V5, id)),
        kind: "taken-over",
        words: "Another client connected with this client identifier.",
    },
];

/// Everything that comes until the connection ends: the reason that DISCONNECT has, if there is one.
fn told(peer: &mut Peer) -> Option<(ReasonCode, String)> {
    let mut reason = None;
    while let Some(packet) = peer.receive() {
        if let Packet::Disconnect(Disconnect { reason: code, properties }) = packet {
            reason = Some((code, properties.reason_string.map(|words| words.to_string()).unwrap_or_default()));
        }
    }
    reason
}

#[test]
fn however_a_connection_ends_the_reason_is_found_and_is_what_the_client_was_told() {
    let place = Place::new();
    let config = place.write("limits.toml", LIMITS);
    let service = place.serve(&["--open", "--config", config.to_str().unwrap()]);
    for Ending { client_id, versions, play, kind, words } in ENDINGS {
        for &version in *versions {
            let number = if version == V5 { "MQTT 5.0" } else { "MQTT 3.1.1" };
            let client_id = &format!("{client_id}-{}", number.trim_start_matches("MQTT "));
            let mut peer = Peer::open(service.mqtt, version, client_id);
            // If it waits in vain it is known for whom.
            println!("{client_id} is to end");
            play(&service, &mut peer, client_id);
            let reason = told(&mut peer);
            event(&service, &["--client-id", client_id, "--kind", "connected"], number);
            let ended = event(&service, &["--client-id", client_id, "--kind", kind], words);
            assert_eq!(ended["address"], "127.0.0.1", "{client_id}: {ended}");
            match reason {
                // Who left by themselves need not be told; 3.1.1 has no DISCONNECT from the broker (§3.14).
                None => assert!(version == V311 || client_id.starts_with("goodbye"), "{client_id} was told nothing"),
                Some((code, said)) => {
                    assert!(version == V5 && code.is_error(), "{client_id}: {code:?}");
                    assert_eq!(ended["explanation"], *said, "{client_id}");
                }
            }
        }
    }
    // Who does not read is told, too, once the queue is full.
    let mut away = Peer::open_with(service.mqtt, keeping(V5, "sleeper"));
    away.subscribe("harrowmere/#", QoS::AtLeastOnce);
    drop(away);
    service.wait_for("it is away", |status| status["sessions_away"] == 1);
    let mut weir = Peer::open(service.mqtt, V5, "weir");
    for id in 1..=2 {
        weir.publish(id, publish(TOPIC, b"1.8".to_vec(), QoS::AtLeastOnce));
    }
    weir.send(&Packet::Publish(publish(TOPIC, b"1.8".to_vec(), QoS::AtLeastOnce)));
    assert!(matches!(weir.receive(), Some(Packet::PubAck(ack)) if ack.reason == ReasonCode::QuotaExceeded));
    event(&service, &["--client-id", "sleeper", "--kind", "session-ended"], "queue of the session is full");
    assert!(service.run(&["sessions", "show", "sleeper"]).failed().contains("sleeper"), "its session is over");
    // Who is forgotten while away is told of, too.
    drop(Peer::open_with(service.mqtt, keeping(V311, "night-desk")));
    service.wait_for("it is away", |status| status["sessions_away"] == 1);
    service.run(&["sessions", "end", "--client", "night-desk", "--yes"]).ok();
    event(&service, &["--client-id", "night-desk", "--kind", "session-ended"], "ended by an administrator");
}

/// What somebody sends who is never let in.
fn say(address: SocketAddr, bytes: &[u8]) -> Vec<u8> {
    let mut stream = TcpStream::connect(address).unwrap();
    stream.set_read_timeout(Some(PATIENCE)).unwrap();
    stream.write_all(bytes).unwrap();
    let mut answer = Vec::new();
    let _reset = stream.read_to_end(&mut answer);
    answer
}

fn encoded(packet: &Packet, version: ProtocolVersion) -> Vec<u8> {
    let mut bytes = bytes::BytesMut::new();
    packet.encode(version, &mut bytes).unwrap();
    bytes.to_vec()
}

#[test]
fn who_was_never_let_in_is_found_by_address_with_the_reason() {
    let place = Place::new();
    let config = place.write("limits.toml", LIMITS);
    let service = place.serve(&["--config", config.to_str().unwrap()]);
    let mut large = connect(V5, "large");
    large.password = Some(Bytes::from(vec![b'x'; 3_000]));
    let nameless = Connect { clean_start: false, ..connect(V311, "") };
    let mut guess = connect(V311, "guess");
    (guess.user_name, guess.password) = (Some("kettle-weir".into()), Some(b"guessed".to_vec().into()));
    let connecting = |connect: &Connect| encoded(&Packet::Connect(Box::new(connect.clone())), connect.version);
    for (bytes, kind, words) in [
        (Vec::new(), "unfinished", "No CONNECT arrived in time."),
        (encoded(&Packet::PingReq, V5), "unfinished", "The first packet was PINGREQ, not CONNECT."),
        (b"GET / HTTP/1.1\r\nHost: weir\r\n\r\n".to_vec(), "unfinished", "invalid packet"),
        (b"\x16\x03\x01\x02\x00\x01\x00\x01\xfc\x03\x03".to_vec(), "unfinished", "invalid packet"),
        (b"\x10\x0c\x00\x04MQTT\x09\x02\x00\x3c\x00\x00".to_vec(), "refused", "protocol"),
        (connecting(&large), "refused", "limit of 1024"),
        (connecting(&nameless), "refused", "client identifier"),
        (connecting(&connect(V5, "anybody")), "refused", "user name"),
        (connecting(&guess), "refused", "password is wrong"),
    ] {
        say(service.mqtt, &bytes);
        let ended = event(&service, &["--address", "127.0.0.1", "--kind", kind], words);
        assert!(!ended.to_string().contains("guessed"), "{ended}");
        assert_eq!(ended["identity"], "", "nobody has signed in: {ended}");
    }
    // All of it is counted by its reason, too.
    let refused = service.run(&["measures", "connections_refused"]);
    assert!(refused.ok().lines().count() > 3, "{refused:?}");
}
