//! Fixed header (§2.1): where one packet ends in a stream of bytes.
use bytes::{Buf, Bytes, BytesMut};

use crate::{DecodeError, PacketId, PacketType, reader::variable_int_size};

/// The largest packet that the format can describe, bytes: five bytes of header and 268,435,455 behind.
pub const MAX_PACKET_SIZE: usize = 5 + 268_435_455;

/// One whole packet, cut from the stream and not looked into yet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Frame {
    /// The packet's type.
    pub packet_type: PacketType,
    /// The low four bits of the first byte.
    pub flags: u8,
    /// Whether the length was written with more bytes than it needs, which 5.0 forbids ([MQTT-1.5.5-1]).
    pub padded: bool,
    /// Variable header and payload.
    pub body: Bytes,
}

impl Frame {
    /// Size of a plain acknowledgement, bytes.
    pub const PLAIN_ACKNOWLEDGEMENT: usize = 4;

    /// Size of the first packet in `bytes`, its header included; `None` while that is not known yet.
    ///
    /// # Errors
    ///
    /// The length is malformed.
    pub fn size(bytes: &[u8]) -> Result<Option<usize>, DecodeError> {
        Ok(remaining_length(bytes)?.map(|(length, header)| header + length))
    }

    /// Which acknowledgement without a reason `bytes` begin with, and of which message, if they do: the packets that a busy
    /// client sends most, read without making a frame of them.
    pub fn plain_acknowledgement(bytes: &[u8]) -> Option<(PacketType, PacketId)> {
        let [first, 2, high, low, ..] = *bytes else { return None };
        let packet = match first {
            0x40 => PacketType::PubAck,
            0x50 => PacketType::PubRec,
            0x62 => PacketType::PubRel,
            0x70 => PacketType::PubComp,
            _ => return None,
        };
        Some((packet, PacketId::new(u16::from_be_bytes([high, low]))?))
    }

    /// Takes the first packet off `buffer`, or gives `None` while it has not arrived whole.
    ///
    /// `limit` is the largest whole packet in bytes that the receiver takes; the error comes as soon as the
    /// header shows more, before the body arrives. Nothing is copied: the body shares the buffer's memory.
    pub fn split(buffer: &mut BytesMut, limit: usize) -> Result<Option<Self>, DecodeError> {
        let Some(&first) = buffer.first() else { return Ok(None) };
        let packet_type = PacketType::ALL
            .into_iter()
            .find(|kind| *kind as u8 == first >> 4)
            .ok_or(DecodeError::PacketType { value: first >> 4 })?;
        let flags = first & 0x0f;
        if packet_type.required_flags().is_some_and(|required| required != flags) {
            return Err(DecodeError::Flags { packet: packet_type, flags });
        }
        let Some((length, header)) = remaining_length(buffer)? else { return Ok(None) };
        let size = header + length;
        if size > limit {
            return Err(DecodeError::TooLarge { size, limit });
        }
        if buffer.len() < size {
            return Ok(None);
        }
        let mut whole = buffer.split_to(size).freeze();
        whole.advance(header);
        Ok(Some(Self { packet_type, flags, padded: header > 1 + variable_int_size(length), body: whole }))
    }
}

/// Remaining length and header size, both in bytes; `None` while the header is incomplete.
pub(crate) fn remaining_length(buffer: &[u8]) -> Result<Option<(usize, usize)>, DecodeError> {
    let mut length = 0;
    for (index, byte) in buffer.iter().skip(1).take(4).enumerate() {
        length |= usize::from(byte & 0x7f) << (7 * index);
        if byte & 0x80 == 0 {
            return Ok(Some((length, index + 2)));
        }
    }
    if buffer.len() >= 5 { Err(DecodeError::VariableInt) } else { Ok(None) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_packet_is_cut_only_when_it_is_whole_and_shares_the_buffer() {
        let bytes = [0x30, 0x05, 0x00, 0x01, b'a', b'h', b'i', 0xc0, 0x00];
        let mut buffer = BytesMut::new();
        for byte in &bytes[..6] {
            buffer.extend_from_slice(&[*byte]);
            assert_eq!(Frame::split(&mut buffer, 100), Ok(None));
        }
        buffer.extend_from_slice(&bytes[6..]);
        let start = buffer.as_ptr() as usize;
        let frame = Frame::split(&mut buffer, 100).unwrap().unwrap();
        assert_eq!((frame.packet_type, &frame.body[..]), (PacketType::Publish, &bytes[2..7]));
        assert_eq!(frame.body.as_ptr() as usize, start + 2);
        assert_eq!(Frame::split(&mut buffer, 100).unwrap().unwrap().packet_type, PacketType::PingReq);
        assert!(buffer.is_empty());
    }

    #[test]
    fn a_plain_acknowledgement_is_seen_and_nothing_else_is() {
        let bytes = [0x40, 2, 1, 2, 0x40, 2, 0];
        let seen = |bytes: &[u8]| Frame::plain_acknowledgement(bytes).map(|(packet, id)| (packet, id.get()));
        assert_eq!(seen(&bytes), Some((PacketType::PubAck, 0x0102)));
        assert_eq!(seen(&bytes[Frame::PLAIN_ACKNOWLEDGEMENT..]), None, "not whole");
        for (first, packet) in [(0x50, PacketType::PubRec), (0x62, PacketType::PubRel), (0x70, PacketType::PubComp)] {
            assert_eq!(seen(&[first, 2, 0, 7]), Some((packet, 7)));
        }
        for other in [&[0x40, 2, 0, 0][..], &[0x40, 3, 0, 1, 0], &[0x60, 2, 0, 1], &[0x41, 2, 0, 1], &[0x30, 2, 0, 0]] {
            assert_eq!(seen(other), None);
        }
    }

    #[test]
    fn a_packet_over_the_limit_is_refused_by_its_header_alone() {
        let mut buffer = BytesMut::from(&[0x30, 0x80, 0x80, 0x01][..]);
        assert_eq!(Frame::split(&mut buffer, 16_384), Err(DecodeError::TooLarge { size: 16_388, limit: 16_384 }));
    }

    #[test]
    fn wrong_headers_are_named() {
        let split = |bytes: &[u8]| Frame::split(&mut BytesMut::from(bytes), 100);
        assert_eq!(split(&[0x00, 0x00]), Err(DecodeError::PacketType { value: 0 }));
        assert_eq!(split(&[0x80, 0x00]), Err(DecodeError::Flags { packet: PacketType::Subscribe, flags: 0 }));
        assert_eq!(split(&[0x30, 0xff, 0xff, 0xff, 0xff]), Err(DecodeError::VariableInt));
    }

    #[test]
    fn types_are_written_as_the_standard_does() {
        assert_eq!(PacketType::UnsubAck.to_string(), "UNSUBACK");
    }
}
