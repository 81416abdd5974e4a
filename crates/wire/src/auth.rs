//! AUTH (§3.15): a step of extended authentication. MQTT 5.0 only.

use bytes::{BufMut, Bytes, BytesMut};
use bytestring::ByteString;

use crate::{
    DecodeError, EncodeError, PacketType, ProtocolVersion, ReasonCode, UserProperty, property::properties,
    reader::Reader,
};

properties! {
    /// Properties of AUTH (§3.15.2.2).
    AuthProperties in "AUTH" {
        /// Name of the method.
        authentication_method: Option<ByteString> = 0x15,
        /// Data of that method.
        authentication_data: Option<Bytes> = 0x16,
        /// Why, for a person.
        reason_string: Option<ByteString> = 0x1f,
        /// Free name-value pairs.
        user_properties: Vec<UserProperty> = 0x26,
    }
}

/// AUTH.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Auth {
    /// Success, continue or re-authenticate.
    pub reason: ReasonCode,
    /// Properties.
    pub properties: AuthProperties,
}

impl Auth {
    pub(crate) fn decode(reader: &mut Reader) -> Result<Self, DecodeError> {
        if reader.is_empty() {
            return Ok(Self { reason: ReasonCode::Success, properties: AuthProperties::default() });
        }
        let reason = ReasonCode::decode(reader, PacketType::Auth)?;
        let properties = if reader.is_empty() { AuthProperties::default() } else { AuthProperties::decode(reader)? };
        Ok(Self { reason, properties })
    }

    pub(crate) fn encode(&self, version: ProtocolVersion, out: &mut BytesMut) -> Result<(), EncodeError> {
        if version == ProtocolVersion::V311 {
            return Err(EncodeError::NotInVersion { version, what: "AUTH" });
        }
        if !self.reason.allowed_in(PacketType::Auth) {
            return Err(EncodeError::ReasonCode { packet: PacketType::Auth, reason: self.reason });
        }
        if self.reason == ReasonCode::Success && self.properties.is_empty() {
            return Ok(());
        }
        out.put_u8(self.reason as u8);
        self.properties.encode(out)
    }
}
