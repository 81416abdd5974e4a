//! DISCONNECT (§3.14, 3.1.1 §3.14): the last packet of a connection, from either side.

use bytes::{BufMut, BytesMut};
use bytestring::ByteString;

use crate::{
    DecodeError, EncodeError, PacketType, ProtocolVersion, ReasonCode, UserProperty, property::properties,
    reader::Reader,
};

properties! {
    /// Properties of DISCONNECT (§3.14.2.2).
    DisconnectProperties in "DISCONNECT" {
        /// A new session expiry, seconds; from the client only.
        session_expiry_interval: Option<u32> = 0x11,
        /// Why, for a person.
        reason_string: Option<ByteString> = 0x1f,
        /// Free name-value pairs.
        user_properties: Vec<UserProperty> = 0x26,
        /// Another server to use; from the server only.
        server_reference: Option<ByteString> = 0x1c,
    }
}

/// DISCONNECT.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Disconnect {
    /// Why; always `Success` (normal) in 3.1.1.
    pub reason: ReasonCode,
    /// Properties; empty in 3.1.1.
    pub properties: DisconnectProperties,
}

impl Disconnect {
    /// The normal end of a connection.
    pub fn normal() -> Self {
        Self { reason: ReasonCode::Success, properties: DisconnectProperties::default() }
    }

    pub(crate) fn decode(reader: &mut Reader, version: ProtocolVersion) -> Result<Self, DecodeError> {
        let mut disconnect = Self::normal();
        // §3.14.2.1: both parts may be left out.
        if version == ProtocolVersion::V5 && !reader.is_empty() {
            disconnect.reason = ReasonCode::decode(reader, PacketType::Disconnect)?;
            if !reader.is_empty() {
                disconnect.properties = DisconnectProperties::decode(reader)?;
            }
        }
        Ok(disconnect)
    }

    pub(crate) fn encode(&self, version: ProtocolVersion, out: &mut BytesMut) -> Result<(), EncodeError> {
        if !self.reason.allowed_in(PacketType::Disconnect) {
            return Err(EncodeError::ReasonCode { packet: PacketType::Disconnect, reason: self.reason });
        }
        if self.reason == ReasonCode::Success && self.properties.is_empty() {
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
