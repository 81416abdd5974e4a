//! Bytes that wait to be written to one connection.

use std::{collections::VecDeque, io::IoSlice, ops::Range};

use bytes::{Buf, Bytes, BytesMut};
use moorfall_wire::{
    EncodeError, EncodedPublish, EncodedRun, Packet, PacketId, PacketType, ProtocolVersion, PublishHead, QoS,
};

/// Payloads up to this size are copied behind their head; larger ones are written from where they are. Copying a
/// small payload costs less than one more entry in a vectored write.
const COPIED_PAYLOAD: usize = EncodedPublish::INLINE;

/// The capacity that an empty buffer may keep, bytes; idle connections are many.
const KEPT_CAPACITY: usize = 256;

/// The most that is taken for what is likely to come, bytes.
const MOST_EXPECTED: usize = 128 * 1024;

/// A queue of bytes, written as one vectored write: small packets packed together, large payloads by reference.
///
/// It is read as a [`Buf`]; the order of bytes is that of the calls.
#[derive(Debug, Default)]
pub struct Outgoing {
    /// Whole segments, in front of `tail`.
    segments: VecDeque<Bytes>,
    /// Bytes in `segments`.
    in_segments: usize,
    tail: BytesMut,
    /// Bytes taken since the queue was last empty.
    taken: usize,
    /// Those of them, or still to come, that stand in memory that others have too.
    shared: usize,
    /// Packets put in since the last look, by the numbers of their types.
    sent: [u32; 16],
    /// Bytes of its own that were taken between the last two times that it was empty: what is likely to come next.
    expected: usize,
}

impl Outgoing {
    /// Appends a packet.
    pub fn put_packet(&mut self, packet: &Packet, version: ProtocolVersion) -> Result<(), EncodeError> {
        self.prepare();
        self.count(packet.packet_type(), 1);
        packet.encode(version, &mut self.tail)
    }

    /// Appends a packet that was encoded elsewhere.
    pub fn put_encoded(&mut self, packet: PacketType, bytes: &[u8]) {
        self.count(packet, 1);
        self.put_bytes(bytes);
    }

    fn put_bytes(&mut self, bytes: &[u8]) {
        self.prepare();
        self.tail.extend_from_slice(bytes);
    }

    fn count(&mut self, packet: PacketType, count: usize) {
        self.sent[packet as usize] += count as u32;
    }

    /// How many packets of each type were put in since the last call.
    pub fn take_sent(&mut self) -> impl Iterator<Item = (PacketType, u32)> {
        let sent = std::mem::take(&mut self.sent);
        PacketType::ALL.into_iter().map(move |packet| (packet, sent[packet as usize])).filter(|(_, count)| *count > 0)
    }

    /// Appends a shared PUBLISH with this receiver's flags and packet identifier.
    pub fn put_publish(
        &mut self,
        encoded: &EncodedPublish,
        duplicate: bool,
        qos: QoS,
        retain: bool,
        packet_id: Option<PacketId>,
    ) {
        self.prepare();
        self.count(PacketType::Publish, 1);
        encoded.put_head(&mut self.tail, duplicate, qos, retain, packet_id);
        self.put_payload(encoded.payload());
    }

    /// Appends PUBLISH packets, so many, that others are sent too.
    pub fn put_shared(&mut self, count: usize, bytes: Bytes) {
        self.count(PacketType::Publish, count);
        if bytes.len() <= COPIED_PAYLOAD {
            return self.put_bytes(&bytes);
        }
        self.push_shared(bytes);
    }

    /// Appends packets of a run with the identifiers that `next_id` gives.
    pub fn put_run(&mut self, run: &EncodedRun, range: Range<usize>, next_id: impl FnMut() -> PacketId) {
        self.prepare();
        self.count(PacketType::Publish, range.len());
        run.put_with_ids(range, &mut self.tail, next_id);
    }

    /// Appends a PUBLISH that nobody else receives in this form.
    pub fn put_own_publish(
        &mut self,
        head: &PublishHead<'_>,
        payload: &Bytes,
        duplicate: bool,
        qos: QoS,
        retain: bool,
    ) -> Result<(), EncodeError> {
        self.prepare();
        self.count(PacketType::Publish, 1);
        head.write(&mut self.tail, duplicate, qos, retain)?;
        self.put_payload(payload);
        Ok(())
    }

    /// Appends PUBLISH packets, so many, as they are written into the bytes.
    pub(crate) fn put_publishes(&mut self, count: usize, write: impl FnOnce(&mut BytesMut)) {
        self.prepare();
        self.count(PacketType::Publish, count);
        write(&mut self.tail);
    }

    /// Memory for a busy connection is taken in one piece; growing to it anew after each write would copy it all again.
    fn prepare(&mut self) {
        if self.tail.capacity() == 0 && self.expected > KEPT_CAPACITY {
            self.tail.reserve(self.expected.min(MOST_EXPECTED));
        }
    }

    fn put_payload(&mut self, payload: &Bytes) {
        if payload.len() <= COPIED_PAYLOAD {
            self.tail.extend_from_slice(payload);
        } else {
            self.push_shared(payload.clone());
        }
    }

    fn push_shared(&mut self, bytes: Bytes) {
        self.shared += bytes.len();
        let head = self.tail.split().freeze();
        for segment in [head, bytes] {
            if !segment.is_empty() {
                self.in_segments += segment.len();
                self.segments.push_back(segment);
            }
        }
    }
}

impl Buf for Outgoing {
    fn remaining(&self) -> usize {
        self.in_segments + self.tail.len()
    }

    fn chunk(&self) -> &[u8] {
        self.segments.front().map_or(&self.tail, |segment| segment)
    }

    fn chunks_vectored<'a>(&'a self, dst: &mut [IoSlice<'a>]) -> usize {
        let all = self.segments.iter().map(|segment| &segment[..]).chain([&self.tail[..]]);
        let mut count = 0;
        for (slot, chunk) in dst.iter_mut().zip(all.filter(|chunk| !chunk.is_empty())) {
            *slot = IoSlice::new(chunk);
            count += 1;
        }
        count
    }

    fn advance(&mut self, mut count: usize) {
        self.taken += count;
        while let Some(front) = self.segments.front_mut() {
            let here = count.min(front.len());
            front.advance(here);
            self.in_segments -= here;
            count -= here;
            if !front.is_empty() {
                return;
            }
            self.segments.pop_front();
        }
        self.tail.advance(count);
        if self.tail.is_empty() {
            self.expected = std::mem::take(&mut self.taken) - std::mem::take(&mut self.shared);
            // The memory of an idle connection is given back; a busy one keeps what it used.
            if self.tail.capacity() > KEPT_CAPACITY {
                self.tail = BytesMut::new();
            } else {
                self.tail.clear();
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use bytes::BufMut;
    use moorfall_wire::PublishProperties;

    use super::*;

    fn publish(payload: Vec<u8>) -> EncodedPublish {
        EncodedPublish::new(
            &"a/b".parse().unwrap(),
            &PublishProperties::default(),
            payload.into(),
            ProtocolVersion::V311,
            false,
        )
        .unwrap()
    }

    #[test]
    fn the_order_of_bytes_is_that_of_the_calls_however_they_are_taken() {
        let (small, large) = (publish(vec![1; 10]), publish(vec![2; 5_000]));
        for step in [1, 7, 4_096, 20_000] {
            let mut outgoing = Outgoing::default();
            let mut expected = BytesMut::new();
            for encoded in [&small, &large, &small, &large, &large, &small] {
                outgoing.put_publish(encoded, false, QoS::AtMostOnce, false, None);
                encoded.put_head(&mut expected, false, QoS::AtMostOnce, false, None);
                expected.put_slice(encoded.payload());
            }
            outgoing.put_packet(&Packet::PingResp, ProtocolVersion::V311).unwrap();
            expected.put_slice(&[0xd0, 0]);
            let mut seen = Vec::new();
            assert_eq!(outgoing.remaining(), expected.len());
            while outgoing.has_remaining() {
                let mut slices = [IoSlice::new(&[]); 8];
                let count = outgoing.chunks_vectored(&mut slices);
                let joined = slices[..count].iter().map(|slice| &**slice).collect::<Vec<_>>().concat();
                let taken = step.min(joined.len());
                seen.extend_from_slice(&joined[..taken]);
                outgoing.advance(taken);
            }
            assert_eq!(seen, expected, "in steps of {step}");
        }
    }

    #[test]
    fn a_large_payload_is_not_copied() {
        let large = publish(vec![2; 5_000]);
        let mut outgoing = Outgoing::default();
        outgoing.put_publish(&large, false, QoS::AtMostOnce, false, None);
        let mut slices = [IoSlice::new(&[]); 4];
        assert_eq!(outgoing.chunks_vectored(&mut slices), 2);
        assert_eq!(slices[1].as_ptr(), large.payload().as_ptr());
    }
}
