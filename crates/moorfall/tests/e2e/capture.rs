//! The file of a ladder, read as a network tool reads it: nothing of the writer's code is used here.

use std::{collections::BTreeMap, net::IpAddr};

use bytes::BytesMut;
use moorfall_wire::*;

use crate::{
    harness::Place,
    ladder::passed,
    peer::{Peer, V5, connect, publish},
};

/// The flag of a segment that begins a connection.
const SYN: u8 = 2;

/// An address and a port.
type End = (IpAddr, u16);

/// A TCP segment of a capture.
#[derive(Debug)]
struct Segment {
    micros: u64,
    from: End,
    to: End,
    sequence: u32,
    acknowledged: u32,
    flags: u8,
    bytes: Vec<u8>,
    /// Bytes that were sent; more than there are if not all were kept.
    size: usize,
}

fn word(bytes: &[u8], at: usize) -> usize {
    u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap()) as usize
}

fn big(bytes: &[u8], at: usize) -> u32 {
    u32::from_be_bytes(bytes[at..at + 4].try_into().unwrap())
}

fn short(bytes: &[u8], at: usize) -> usize {
    usize::from(u16::from_be_bytes([bytes[at], bytes[at + 1]]))
}

/// The sum over words of 16 bits (RFC 1071); 0xffff if the checksum among them is right.
fn sum(bytes: &[u8]) -> u32 {
    let words = bytes.chunks(2).map(|pair| u32::from(pair[0]) << 8 | u32::from(pair.get(1).copied().unwrap_or(0)));
    let mut sum: u32 = words.sum();
    while sum > 0xffff {
        sum = (sum & 0xffff) + (sum >> 16);
    }
    sum
}

/// All segments of a file.
fn segments(file: &[u8]) -> Vec<Segment> {
    assert_eq!((word(file, 0), word(file, 8)), (0x0A0D_0D0A, 0x1A2B_3C4D), "a section in this byte order");
    let (mut found, mut at, mut interfaces) = (Vec::new(), 0, 0);
    while at < file.len() {
        let (kind, length) = (word(file, at), word(file, at + 4));
        assert!(length % 4 == 0 && word(file, at + length - 4) == length, "a block of {length} bytes at {at}");
        let body = &file[at + 8..at + length - 4];
        at += length;
        match kind {
            1 => {
                assert_eq!(u16::from_le_bytes([body[0], body[1]]), 101, "packets begin with their IP headers");
                interfaces += 1;
            }
            6 => {
                assert!(word(body, 0) < interfaces, "the interface was described before");
                let micros = (word(body, 4) as u64) << 32 | word(body, 8) as u64;
                found.push(segment(micros, &body[20..20 + word(body, 12)], word(body, 16)));
            }
            _ => {}
        }
    }
    found
}

/// A packet of IPv4 with TCP in it, `original` bytes long when it was sent.
fn segment(micros: u64, packet: &[u8], original: usize) -> Segment {
    assert_eq!((packet[0], packet[9]), (0x45, 6), "IPv4 without options, and TCP");
    assert_eq!(sum(&packet[..20]), 0xffff, "the sum of the IP header");
    assert_eq!(short(packet, 2), original, "its length");
    let (ip, tcp) = packet.split_at(20);
    let pseudo = [&ip[12..20], &[0, 6], &((original - 20) as u16).to_be_bytes()].concat();
    if packet.len() == original {
        assert_eq!(sum(&[&pseudo, tcp].concat()), 0xffff, "the sum of the TCP segment");
    } else {
        assert_eq!(short(tcp, 16), 0, "no sum over what is not there");
    }
    let address = |at: usize| IpAddr::from(<[u8; 4]>::try_from(&ip[at..at + 4]).unwrap());
    let header = usize::from(tcp[12] >> 4) * 4;
    Segment {
        micros,
        from: (address(12), short(tcp, 0) as u16),
        to: (address(16), short(tcp, 2) as u16),
        sequence: big(tcp, 4),
        acknowledged: big(tcp, 8),
        flags: tcp[13],
        bytes: tcp[header..].to_vec(),
        size: original - 20 - header,
    }
}

/// One end of a connection as the other one sees it.
#[derive(Default)]
struct Stream {
    /// The number of the next byte, once it has begun.
    next: Option<u32>,
    bytes: BytesMut,
    missing: usize,
}

/// What each end of each connection has sent, by whose it is; as TCP puts it together.
fn streams(segments: &[Segment]) -> BTreeMap<(End, End), Stream> {
    let mut streams: BTreeMap<_, Stream> = BTreeMap::new();
    let mut before = 0;
    for segment in segments {
        assert!(segment.micros >= before, "in the order of time: {} us back at {segment:?}", before - segment.micros);
        before = segment.micros;
        let other = streams.get(&(segment.to, segment.from)).and_then(|stream| stream.next);
        let own = streams.entry((segment.from, segment.to)).or_default();
        if segment.flags & SYN != 0 {
            assert_eq!((own.next, segment.size), (None, 0), "a connection begins once");
            own.next = Some(segment.sequence.wrapping_add(1));
        } else {
            assert_eq!(Some(segment.sequence), own.next, "nothing is left out, and nothing comes twice");
            assert_eq!(Some(segment.acknowledged), other, "all that has come is acknowledged");
            own.next = Some(segment.sequence.wrapping_add(segment.size as u32));
            own.bytes.extend_from_slice(&segment.bytes);
            own.missing += segment.size - segment.bytes.len();
        }
    }
    streams
}

/// The packets in a stream.
fn packets(stream: &mut Stream) -> Vec<Packet> {
    let mut packets = Vec::new();
    while let Some(frame) = Frame::split(&mut stream.bytes, 1 << 20).unwrap() {
        packets.push(Packet::decode(frame, V5).unwrap());
    }
    assert!(stream.bytes.is_empty(), "{} bytes are left", stream.bytes.len());
    packets
}

#[test]
fn what_passed_is_found_in_the_file_by_whoever_can_read_tcp() {
    const TOPIC: &str = "harrowmere/gorge/kettle-weir/survey";
    let place = Place::new();
    let service = place.serve(&["--open"]);
    for payloads in [true, false] {
        let file = place.path().join(format!("survey-{payloads}.pcapng"));
        let mut asked = vec!["ladder", "--client", "survey", "--for", "5m", "--pcapng", file.to_str().unwrap()];
        asked.extend(payloads.then_some("--payloads"));
        let ladder = service.spawn(&asked, "runs for");
        // More than one segment; of a packet 64 KiB are kept.
        let survey: Vec<u8> =
            (0..if payloads { 62_000_u32 } else { 150_000 }).map(|place| (place % 251) as u8).collect();
        let mut peer = Peer::open_with(service.mqtt, connect(V5, "survey"));
        peer.subscribe("harrowmere/orders", QoS::AtMostOnce);
        peer.publish(9, publish(TOPIC, survey.clone(), QoS::ExactlyOnce));
        let mut desk = Peer::open(service.mqtt, V5, "desk");
        desk.send(&Packet::Publish(publish("harrowmere/orders", survey.clone(), QoS::AtMostOnce)));
        assert_eq!(peer.message().payload, survey);
        // It comes again, and takes nothing over: another connection, with numbers of its own.
        drop(peer);
        service.wait_for("it has gone", |status| status["subscriptions"] == 0);
        let mut peer = Peer::open_with(service.mqtt, connect(V5, "survey"));
        peer.send(&Packet::PingReq);
        assert!(matches!(peer.receive(), Some(Packet::PingResp)));
        passed(&service, 13);
        ladder.interrupt().ok();
        drop(peer);

        let segments = segments(&std::fs::read(&file).unwrap());
        let began: Vec<u16> = segments.iter().filter(|one| one.flags == SYN).map(|one| one.from.1).collect();
        let [first, second] = began[..] else { panic!("{began:?} have begun") };
        let mut streams = streams(&segments);
        assert_eq!(streams.len(), 4, "two connections, both ways");
        // The broker has the port that is registered for MQTT, so that tools know what they see.
        let broker = (service.mqtt.ip(), 1_883);
        let mut said = |port: u16, sent: bool| {
            let client = (service.mqtt.ip(), port);
            let key = if sent { (broker, client) } else { (client, broker) };
            streams.remove(&key).unwrap_or_else(|| panic!("{key:?}"))
        };
        let names = |packets: &[Packet]| -> Vec<String> {
            packets.iter().map(|packet| packet.packet_type().to_string()).collect()
        };
        let (mut from, mut to) = (said(first, false), said(first, true));
        if payloads {
            let from = packets(&mut from);
            assert_eq!(names(&from), ["CONNECT", "SUBSCRIBE", "PUBLISH", "PUBREL"]);
            assert!(matches!(&from[2], Packet::Publish(sent) if sent.payload == survey), "each byte of the payload");
            let to = packets(&mut to);
            assert_eq!(names(&to), ["CONNACK", "SUBACK", "PUBREC", "PUBCOMP", "PUBLISH"]);
            assert!(matches!(&to[4], Packet::Publish(sent) if sent.payload == survey));
        } else {
            for stream in [&from, &to] {
                assert_eq!(stream.missing, survey.len(), "only the payload is missing");
                assert!(!stream.bytes.windows(50).any(|part| part == &survey[..50]), "and it is");
            }
        }
        let (mut from, mut to) = (said(second, false), said(second, true));
        assert_eq!(names(&packets(&mut from)), ["CONNECT", "PINGREQ"]);
        assert_eq!(names(&packets(&mut to)), ["CONNACK", "PINGRESP"]);
    }
}
