//! The PUBLISH that most devices send most of the time, read without making a packet of it.

use std::ops::Range;

use bytes::Bytes;

use crate::{EncodedRun, ProtocolVersion, frame::remaining_length, reader::variable_int_size};

/// A PUBLISH at QoS 0 that is not to be retained and has no properties (§3.3), where it stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PlainPublish<'a> {
    /// The bytes of its topic; not checked.
    pub topic: &'a [u8],
    /// Where its payload stands.
    pub payload: Range<usize>,
}

impl<'a> PlainPublish<'a> {
    /// The first byte: neither DUP nor RETAIN, QoS 0.
    const FIRST: u8 = 0x30;

    /// What `bytes` begin with, if it is such a packet, and whole. Whatever is wrong with it, it is none.
    pub fn peek(bytes: &'a [u8], version: ProtocolVersion) -> Option<Self> {
        if *bytes.first()? != Self::FIRST {
            return None;
        }
        let (length, header) = remaining_length(bytes).ok()??;
        let size = header + length;
        let topic_at = header + 2;
        if bytes.len() < size || length < 2 || header != 1 + variable_int_size(length) {
            return None;
        }
        let topic_ends = topic_at + usize::from(u16::from_be_bytes([bytes[header], bytes[header + 1]]));
        let topic = bytes[..size].get(topic_at..topic_ends)?;
        let payload = match version {
            // No properties are a length of 0.
            ProtocolVersion::V5 if bytes[..size].get(topic_ends) == Some(&0) => topic_ends + 1..size,
            ProtocolVersion::V5 => return None,
            ProtocolVersion::V311 => topic_ends..size,
        };
        Some(Self { topic, payload })
    }

    /// Bytes of the whole packet.
    pub fn size(&self) -> usize {
        self.payload.end
    }
}

/// Plain PUBLISH packets of one topic that follow each other, as they came.
#[derive(Clone, Debug)]
pub struct PlainRun {
    version: ProtocolVersion,
    encoded: EncodedRun,
    /// Bytes of their topic.
    topic: usize,
    /// Bytes of all payloads.
    payloads: usize,
}

impl PlainRun {
    /// How many packets at the front of `bytes`, of so many at most and of at most `limit` bytes each, are plain, have the
    /// topic of the first one, and are `accepted` by their payloads; `None` if the first is not. Gives where each ends.
    pub fn measure(
        bytes: &[u8],
        version: ProtocolVersion,
        (most, limit): (usize, usize),
        mut is_accepted: impl FnMut(&[u8]) -> bool,
    ) -> Option<Measured> {
        let first = PlainPublish::peek(bytes, version)?;
        let topic = first.topic;
        let mut measured = Measured { version, topic: topic.len(), payloads: 0, largest: 0, ends: Vec::new() };
        let (mut start, mut next) = (0, Some(first));
        while let Some(packet) = next {
            let payload = &bytes[start..][packet.payload.clone()];
            if packet.topic != topic || packet.size() > limit || !is_accepted(payload) {
                break;
            }
            start += packet.size();
            let Ok(end) = u32::try_from(start) else { break };
            measured.ends.push(end);
            measured.payloads += payload.len();
            measured.largest = measured.largest.max(packet.size());
            next = if measured.ends.len() < most { PlainPublish::peek(&bytes[start..], version) } else { None };
        }
        (!measured.ends.is_empty()).then_some(measured)
    }

    /// How many packets.
    pub fn len(&self) -> usize {
        self.encoded.len()
    }

    /// Whether there is none, which is never so.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The version that they are encoded for.
    pub fn version(&self) -> ProtocolVersion {
        self.version
    }

    /// The packets, as they are sent at QoS 0.
    pub fn encoded(&self) -> &EncodedRun {
        &self.encoded
    }

    /// The same in memory of its own.
    pub fn detached(&self) -> Self {
        Self { encoded: self.encoded.detached(), ..*self }
    }

    /// Bytes of all payloads.
    pub fn payload_bytes(&self) -> usize {
        self.payloads
    }

    /// The payload of one of them.
    pub fn payload(&self, index: usize) -> Bytes {
        self.encoded.bytes().slice(self.payload_range(index))
    }

    /// The same, borrowed.
    pub fn payload_slice(&self, index: usize) -> &[u8] {
        &self.encoded.bytes()[self.payload_range(index)]
    }

    /// Its length, bytes.
    pub fn payload_len(&self, index: usize) -> usize {
        self.payload_range(index).len()
    }

    fn payload_range(&self, index: usize) -> Range<usize> {
        let packet = self.encoded.range(index);
        let behind = 2 + self.topic + usize::from(self.version == ProtocolVersion::V5);
        // The header is what is left when its own length is found.
        let header = (2..=5).find(|header| variable_int_size(packet.len() - header) == header - 1).unwrap_or(2);
        packet.start + header + behind..packet.end
    }
}

/// What [`PlainRun::measure`] has found.
#[derive(Debug)]
pub struct Measured {
    version: ProtocolVersion,
    topic: usize,
    payloads: usize,
    largest: usize,
    ends: Vec<u32>,
}

impl Measured {
    /// Bytes of all packets.
    pub fn size(&self) -> usize {
        self.ends.last().map_or(0, |end| *end as usize)
    }

    /// The run whose bytes these are: those that were measured, taken off the buffer.
    pub fn of(self, bytes: Bytes) -> PlainRun {
        let Self { version, topic, payloads, largest, ends } = self;
        PlainRun { version, encoded: EncodedRun::of_frames(bytes, ends, largest), topic, payloads }
    }
}

#[cfg(test)]
mod tests {
    use bytes::BytesMut;

    use super::*;
    use crate::{Packet, Publish, PublishProperties, QoS};

    const VERSIONS: [ProtocolVersion; 2] = [ProtocolVersion::V5, ProtocolVersion::V311];

    fn encoded(publish: Publish, version: ProtocolVersion) -> BytesMut {
        let mut bytes = BytesMut::new();
        Packet::Publish(publish).encode(version, &mut bytes).unwrap();
        bytes
    }

    fn publish(topic: &str, payload: &[u8]) -> Publish {
        Publish::new(topic.parse().unwrap(), payload.to_vec(), QoS::AtMostOnce)
    }

    #[test]
    fn only_what_is_plain_and_whole_is_seen() {
        for version in VERSIONS {
            let bytes = encoded(publish("gorge/weir", b"1.83"), version);
            let seen = PlainPublish::peek(&bytes, version).unwrap();
            assert_eq!(
                (seen.topic, &bytes[seen.payload.clone()], seen.size()),
                (&b"gorge/weir"[..], &b"1.83"[..], bytes.len())
            );
            for end in 0..bytes.len() {
                assert_eq!(PlainPublish::peek(&bytes[..end], version), None);
            }
            let retained = Publish { retain: true, ..publish("gorge/weir", b"1.83") };
            assert_eq!(PlainPublish::peek(&encoded(retained, version), version), None);
            // A topic that would reach over the end.
            assert_eq!(PlainPublish::peek(&[0x30, 4, 0, 9, b'a', 0], version), None);
            // A length that takes more bytes than it needs.
            assert_eq!(PlainPublish::peek(&[0x30, 0x84, 0, 0, 1, b'a', 0], version), None);
            assert_eq!(PlainPublish::peek(&[0x30, 1, 0], version), None);
        }
        let properties = PublishProperties { message_expiry_interval: Some(9), ..PublishProperties::default() };
        let told = Publish { properties, ..publish("gorge/weir", b"1.83") };
        assert_eq!(PlainPublish::peek(&encoded(told, VERSIONS[0]), VERSIONS[0]), None);
    }

    #[test]
    fn a_run_ends_where_something_else_begins_and_gives_each_payload() {
        let payloads: [&[u8]; 5] = [b"", b"1", &[7; 118], &[8; 300], &[9; 17_000]];
        for version in VERSIONS {
            let mut bytes = BytesMut::new();
            payloads.iter().for_each(|payload| bytes.extend(encoded(publish("gorge/weir", payload), version)));
            let whole = bytes.len();
            bytes.extend(encoded(publish("gorge/well", b"1"), version));
            let all = PlainRun::measure(&bytes, version, (9, 20_000), |_| true).unwrap();
            assert_eq!(all.size(), whole);
            let run = all.of(bytes.split_to(whole).freeze());
            let found: Vec<Bytes> = (0..run.len()).map(|index| run.payload(index)).collect();
            assert_eq!(found, payloads);
            assert_eq!(run.payload_bytes(), payloads.iter().map(|payload| payload.len()).sum::<usize>());
            assert_eq!(run.encoded().shared(0..5).len(), whole);
            let again = run.encoded().shared(0..5);
            let count = |bounds, accepted: fn(&[u8]) -> bool| {
                PlainRun::measure(&again, version, bounds, accepted).map(|run| run.ends.len())
            };
            assert_eq!(count((2, 20_000), |_| true), Some(2), "so many at most");
            assert_eq!(count((9, 10_000), |_| true), Some(4), "the last is too large");
            assert_eq!(count((9, 20_000), |payload| payload != b"1"), Some(1));
            assert_eq!(count((9, 20_000), |payload| !payload.is_empty()), None);
        }
    }
}
