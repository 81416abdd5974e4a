//! PUBLISH packets that are encoded once for many receivers.

use std::ops::Range;

use bytes::{BufMut, Bytes, BytesMut};

use crate::{EncodeError, PacketId, ProtocolVersion, PublishHead, PublishProperties, QoS, TopicName, publish::flags};

/// A PUBLISH encoded once for many receivers.
///
/// Only the first byte's flags and the packet identifier differ between receivers of one version, so they
/// are put in while the head is copied out; a large payload is shared by reference count.
#[derive(Clone, Debug)]
pub struct EncodedPublish {
    head: Bytes,
    packet_id_at: Option<usize>,
    payload: Bytes,
}

impl EncodedPublish {
    /// Encodes for `version`, with room for a packet identifier when `acknowledged` (QoS 1 or 2).
    pub fn new(
        topic: &TopicName,
        properties: &PublishProperties,
        payload: Bytes,
        version: ProtocolVersion,
        acknowledged: bool,
    ) -> Result<Self, EncodeError> {
        let placeholder = acknowledged.then_some(PacketId::MIN);
        let head = PublishHead { topic, properties, payload: payload.len(), version, packet_id: placeholder };
        let inline = payload.len() <= Self::INLINE;
        let behind = if inline { 0 } else { payload.len() };
        let mut bytes = BytesMut::with_capacity(head.size()? - behind);
        let id_at = head.put(&mut bytes, 0)?;
        let mut payload = payload;
        if inline {
            bytes.put_slice(&payload);
            payload = Bytes::new();
        }
        Ok(Self { head: bytes.freeze(), packet_id_at: acknowledged.then_some(id_at), payload })
    }

    /// Size of the whole packet, bytes.
    pub fn size(&self) -> usize {
        self.head.len() + self.payload.len()
    }

    /// Payloads up to this size are part of the head, so that one copy serves for both, bytes.
    pub const INLINE: usize = 2 * 1024;

    /// What belongs right behind the head: the payload, or nothing when that is part of the head.
    pub fn payload(&self) -> &Bytes {
        &self.payload
    }

    /// Appends everything before a large payload, or all of a small message. `packet_id` is used when the encoding has room for one.
    pub fn put_head(&self, out: &mut BytesMut, duplicate: bool, qos: QoS, retain: bool, packet_id: Option<PacketId>) {
        let start = out.len();
        out.put_slice(&self.head);
        out[start] |= flags(duplicate, qos, retain);
        if let (Some(at), Some(id)) = (self.packet_id_at, packet_id) {
            out[start + at..start + at + 2].copy_from_slice(&id.get().to_be_bytes());
        }
    }
}

/// PUBLISH packets that follow each other, encoded once for all their receivers of one version.
///
/// Only the flags and the packet identifiers differ between receivers. At QoS 0 there is no identifier, and everyone is
/// sent the same bytes.
#[derive(Clone, Debug)]
pub struct EncodedRun {
    bytes: Bytes,
    /// Where each packet ends.
    ends: Vec<u32>,
    /// Where each packet identifier stands; empty at QoS 0.
    packet_ids_at: Vec<u32>,
    largest: usize,
}

impl EncodedRun {
    /// Encodes packets of one QoS that are not retained; identifiers are left open at QoS 1 and 2.
    pub fn new<'a>(
        messages: impl ExactSizeIterator<Item = (&'a TopicName, &'a PublishProperties, &'a Bytes)>,
        version: ProtocolVersion,
        qos: QoS,
    ) -> Result<Self, EncodeError> {
        let packet_id = (qos > QoS::AtMostOnce).then_some(PacketId::MIN);
        let flags = flags(false, qos, false);
        let mut bytes = BytesMut::new();
        let mut ends = Vec::with_capacity(messages.len());
        let mut packet_ids_at = Vec::with_capacity(if packet_id.is_some() { messages.len() } else { 0 });
        let mut largest = 0;
        let too_long = |length| EncodeError::PacketTooLong { length };
        for (topic, properties, payload) in messages {
            let head = PublishHead { topic, properties, payload: payload.len(), version, packet_id };
            let size = head.size()?;
            if bytes.is_empty() {
                // Those that follow each other tend to be alike.
                bytes.reserve(size * ends.capacity());
            }
            let start = bytes.len();
            let id_at = start + head.put(&mut bytes, flags)?;
            bytes.put_slice(payload);
            let place = |at: usize| u32::try_from(at).map_err(|_| too_long(at));
            ends.push(place(bytes.len())?);
            if packet_id.is_some() {
                packet_ids_at.push(place(id_at)?);
            }
            largest = largest.max(size);
        }
        Ok(Self { bytes: bytes.freeze(), ends, packet_ids_at, largest })
    }

    /// Packets of QoS 0 as they came: where each ends, and the size of the largest.
    pub(crate) fn of_frames(bytes: Bytes, ends: Vec<u32>, largest: usize) -> Self {
        Self { bytes, ends, packet_ids_at: Vec::new(), largest }
    }

    pub(crate) fn detached(&self) -> Self {
        Self { bytes: Bytes::copy_from_slice(&self.bytes), ..self.clone() }
    }

    pub(crate) fn bytes(&self) -> &Bytes {
        &self.bytes
    }

    pub(crate) fn len(&self) -> usize {
        self.ends.len()
    }

    /// Where one packet stands.
    pub(crate) fn range(&self, index: usize) -> Range<usize> {
        self.start(index)..self.start(index + 1)
    }

    /// The size of its largest packet, bytes.
    pub fn largest(&self) -> usize {
        self.largest
    }

    fn start(&self, index: usize) -> usize {
        index.checked_sub(1).map_or(0, |before| self.ends[before] as usize)
    }

    /// How many packets from the one at `first`, of at most `most`, have room in so many bytes; at least one.
    pub fn fitting(&self, first: usize, most: usize, room: usize) -> usize {
        let start = self.start(first);
        let ends = &self.ends[first..(first + most).min(self.ends.len())];
        ends.partition_point(|end| *end as usize - start <= room).max(1)
    }

    /// The packets of `range` as they are sent at QoS 0, shared.
    pub fn shared(&self, range: Range<usize>) -> Bytes {
        if range == (0..self.ends.len()) {
            return self.bytes.clone();
        }
        self.bytes.slice(self.start(range.start)..self.start(range.end))
    }

    /// Appends the packets of `range` with the identifiers that `next_id` gives, one for each.
    pub fn put_with_ids(&self, range: Range<usize>, out: &mut BytesMut, mut next_id: impl FnMut() -> PacketId) {
        let (start, to) = (self.start(range.start), out.len());
        out.put_slice(&self.bytes[start..self.start(range.end)]);
        for at in &self.packet_ids_at[range] {
            let at = to + *at as usize - start;
            out[at..at + 2].copy_from_slice(&next_id().get().to_be_bytes());
        }
    }
}
