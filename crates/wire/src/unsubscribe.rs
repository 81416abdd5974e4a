//! UNSUBSCRIBE (§3.10, 3.1.1 §3.10): a client no longer wants messages.

use bytes::{BufMut, BytesMut};

use crate::{
    DecodeError, EncodeError, PacketId, PacketType, ProtocolVersion, TopicFilter, UserProperty,
    property::properties,
    reader::{Reader, put_string},
};

properties! {
    /// Properties of UNSUBSCRIBE (§3.10.2.1).
    UnsubscribeProperties in "UNSUBSCRIBE" {
        /// Free name-value pairs.
        user_properties: Vec<UserProperty> = 0x26,
    }
}

/// UNSUBSCRIBE, from a client.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unsubscribe {
    /// Comes back in UNSUBACK.
    pub packet_id: PacketId,
    /// Properties; empty in 3.1.1.
    pub properties: UnsubscribeProperties,
    /// At least one; compared character by character with the subscriptions ([MQTT-3.10.4-1]).
    pub filters: Vec<TopicFilter>,
}

impl Unsubscribe {
    pub(crate) fn decode(reader: &mut Reader, version: ProtocolVersion) -> Result<Self, DecodeError> {
        let packet_id = reader.packet_id()?;
        let properties = match version {
            ProtocolVersion::V311 => UnsubscribeProperties::default(),
            ProtocolVersion::V5 => UnsubscribeProperties::decode(reader)?,
        };
        let mut filters = Vec::new();
        while !reader.is_empty() {
            filters.push(TopicFilter::new(reader.string("a topic filter")?)?);
        }
        // [MQTT-3.10.3-2].
        if filters.is_empty() {
            return Err(DecodeError::Empty { packet: PacketType::Unsubscribe });
        }
        Ok(Self { packet_id, properties, filters })
    }

    pub(crate) fn encode(&self, version: ProtocolVersion, out: &mut BytesMut) -> Result<(), EncodeError> {
        if self.filters.is_empty() {
            return Err(EncodeError::Empty { packet: PacketType::Unsubscribe, what: "topic filter" });
        }
        out.put_u16(self.packet_id.get());
        match version {
            ProtocolVersion::V5 => self.properties.encode(out)?,
            ProtocolVersion::V311 if self.properties.is_empty() => {}
            ProtocolVersion::V311 => return Err(EncodeError::NotInVersion { version, what: "properties" }),
        }
        self.filters.iter().try_for_each(|filter| put_string(out, filter))
    }
}
