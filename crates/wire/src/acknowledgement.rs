//! PUBACK, PUBREC, PUBREL and PUBCOMP (§3.4 to §3.7): four packets of one shape.

use bytes::{BufMut, BytesMut};
use bytestring::ByteString;

use crate::{
    DecodeError, EncodeError, PacketId, PacketType, ProtocolVersion, ReasonCode, UserProperty, property::properties,
    reader::Reader,
};

properties! {
    /// Properties of the four acknowledgements (§3.4.2.2).
    AcknowledgementProperties in "an acknowledgement" {
        /// Why, for a person.
        reason_string: Option<ByteString> = 0x1f,
        /// Free name-value pairs.
        user_properties: Vec<UserProperty> = 0x26,
    }
}

/// What PUBACK, PUBREC, PUBREL and PUBCOMP say.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Acknowledgement {
    /// Which message.
    pub packet_id: PacketId,
    /// What became of it; always `Success` in 3.1.1.
    pub reason: ReasonCode,
    /// Properties; empty in 3.1.1.
    pub properties: AcknowledgementProperties,
}

impl Acknowledgement {
    /// The plain acknowledgement of a message.
    pub fn success(packet_id: PacketId) -> Self {
        Self { packet_id, reason: ReasonCode::Success, properties: AcknowledgementProperties::default() }
    }

    pub(crate) fn decode(
        packet: PacketType,
        reader: &mut Reader,
        version: ProtocolVersion,
    ) -> Result<Self, DecodeError> {
        let mut acknowledgement = Self::success(reader.packet_id()?);
        // §3.4.2.1: reason code and properties may be left out when they say nothing new.
        if version == ProtocolVersion::V5 && !reader.is_empty() {
            acknowledgement.reason = ReasonCode::decode(reader, packet)?;
            if !reader.is_empty() {
                acknowledgement.properties = AcknowledgementProperties::decode(reader)?;
            }
        }
        Ok(acknowledgement)
    }

    pub(crate) fn encode(
        &self,
        packet: PacketType,
        version: ProtocolVersion,
        out: &mut BytesMut,
    ) -> Result<(), EncodeError> {
        out.put_u16(self.packet_id.get());
        if !self.reason.allowed_in(packet) {
            return Err(EncodeError::ReasonCode { packet, reason: self.reason });
        }
        let plain = self.reason == ReasonCode::Success && self.properties.is_empty();
        if plain {
            return Ok(());
        }
        if version == ProtocolVersion::V311 {
            return Err(EncodeError::NotInVersion { version, what: "a reason code or properties" });
        }
        out.put_u8(self.reason as u8);
        if !self.properties.is_empty() {
            self.properties.encode(out)?;
        }
        Ok(())
    }
}
