//! Messages that come all at once: each arrives, in order, though nothing follows that would push it.

use bytes::BytesMut;
use moorfall_wire::*;

use crate::{
    harness::Place,
    peer::{Peer, V5, V311, publish},
};

const LEVEL: &str = "harrowmere/gorge/kettle-weir/stage/level";

/// As they are sent: numbered, all of one size.
fn payload(number: usize, size: usize) -> Vec<u8> {
    let mut payload = number.to_string().into_bytes();
    payload.resize(size.max(payload.len()), b' ');
    payload
}

fn number(publish: &Publish) -> usize {
    String::from_utf8_lossy(&publish.payload).trim().parse().unwrap()
}

/// Sends so many messages in one write.
fn burst(peer: &mut Peer, qos: QoS, count: usize, size: usize) {
    let mut bytes = BytesMut::new();
    for number in 0..count {
        let packet_id = if qos == QoS::AtMostOnce { None } else { PacketId::new(number as u16 + 1) };
        let message = Publish { packet_id, ..publish(LEVEL, payload(number, size), qos) };
        Packet::Publish(message).encode(peer.version(), &mut bytes).unwrap();
    }
    peer.stream.write_all(&bytes).unwrap();
}

#[test]
fn every_message_of_a_burst_arrives_at_whoever_waits_for_it() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    for (version, size) in [(V5, 20), (V311, 20), (V5, 700), (V311, 700), (V5, 3_000), (V5, 70_000)] {
        for qos in [QoS::AtMostOnce, QoS::AtLeastOnce] {
            let mut readers = [("desk", V5), ("old-desk", V311), ("late", V5)]
                .map(|(name, version)| Peer::open(service.mqtt, version, name));
            readers.iter_mut().for_each(|reader| reader.subscribe(LEVEL, qos));
            let mut station = Peer::open(service.mqtt, version, "station");
            let count = if size < 1_000 { 400 } else { 40 };
            // The first is decided on, and others follow its way.
            for round in 0..2 {
                burst(&mut station, qos, count, size);
                for (place, reader) in readers.iter_mut().enumerate() {
                    for expected in 0..count {
                        let message = reader.message();
                        assert_eq!(number(&message), expected, "reader {place}, round {round}, {size} B at {qos:?}");
                        assert_eq!(message.payload.len(), size);
                        reader.acknowledge(&message);
                    }
                }
                if qos == QoS::AtLeastOnce {
                    (0..count).for_each(|_| assert!(matches!(station.receive(), Some(Packet::PubAck(_)))));
                }
            }
        }
    }
}
