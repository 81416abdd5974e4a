//! CONNACK (§3.2, 3.1.1 §3.2): the server's answer to CONNECT.

use std::num::{NonZeroU16, NonZeroU32};

use bytes::{BufMut, Bytes, BytesMut};
use bytestring::ByteString;

use crate::{
    DecodeError, EncodeError, PacketType, ProtocolVersion, ReasonCode, UserProperty, property::properties,
    reader::Reader,
};

properties! {
    /// Properties of CONNACK (§3.2.2.3).
    ConnAckProperties in "CONNACK" {
        /// Session expiry that the server uses instead of the one asked for, seconds.
        session_expiry_interval: Option<u32> = 0x11,
        /// QoS 1 and 2 messages that the server takes at a time; absent is 65,535.
        receive_maximum: Option<NonZeroU16> = 0x21,
        /// False: the server takes QoS 0 only; true: QoS 0 and 1; absent: all three.
        maximum_qos: Option<bool> = 0x24,
        /// Whether retained messages are supported; absent is true.
        retain_available: Option<bool> = 0x25,
        /// The largest packet that the server takes, bytes.
        maximum_packet_size: Option<NonZeroU32> = 0x27,
        /// The client identifier that the server chose.
        assigned_client_identifier: Option<ByteString> = 0x12,
        /// The highest topic alias that the server takes; absent is 0.
        topic_alias_maximum: Option<u16> = 0x22,
        /// Why, for a person.
        reason_string: Option<ByteString> = 0x1f,
        /// Free name-value pairs.
        user_properties: Vec<UserProperty> = 0x26,
        /// Whether wildcard subscriptions are supported; absent is true.
        wildcard_subscription_available: Option<bool> = 0x28,
        /// Whether subscription identifiers are supported; absent is true.
        subscription_identifiers_available: Option<bool> = 0x29,
        /// Whether shared subscriptions are supported; absent is true.
        shared_subscription_available: Option<bool> = 0x2a,
        /// Keep alive that the client must use instead of its own, seconds.
        server_keep_alive: Option<u16> = 0x13,
        /// Basis for response topics.
        response_information: Option<ByteString> = 0x1a,
        /// Another server to use.
        server_reference: Option<ByteString> = 0x1c,
        /// Name of the method of extended authentication.
        authentication_method: Option<ByteString> = 0x15,
        /// Data of that method.
        authentication_data: Option<Bytes> = 0x16,
    }
}

/// CONNACK, the first packet from the server.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ConnAck {
    /// Whether the server goes on with a session that it had stored.
    pub session_present: bool,
    /// Accepted, or why not.
    pub reason: ReasonCode,
    /// Properties; empty in 3.1.1.
    pub properties: ConnAckProperties,
}

impl ConnAck {
    pub(crate) fn decode(reader: &mut Reader, version: ProtocolVersion) -> Result<Self, DecodeError> {
        let flags = reader.u8("the acknowledge flags")?;
        // [MQTT-3.2.2-1].
        if flags > 1 {
            return Err(DecodeError::Reserved { what: "the acknowledge flags" });
        }
        let session_present = flags == 1;
        // A server that speaks 3.1.1 only refuses a 5.0 client in its own form, without properties.
        if version == ProtocolVersion::V311 || reader.remaining() == 1 {
            let code = reader.u8("the return code")?;
            let reason = ReasonCode::from_connect_return(code)
                .filter(|reason| version == ProtocolVersion::V311 || reason.is_error())
                .ok_or(DecodeError::ReasonCode { packet: PacketType::ConnAck, code })?;
            return Ok(Self { session_present, reason, properties: ConnAckProperties::default() });
        }
        let reason = ReasonCode::decode(reader, PacketType::ConnAck)?;
        Ok(Self { session_present, reason, properties: ConnAckProperties::decode(reader)? })
    }

    pub(crate) fn encode(&self, version: ProtocolVersion, out: &mut BytesMut) -> Result<(), EncodeError> {
        let refused = EncodeError::ReasonCode { packet: PacketType::ConnAck, reason: self.reason };
        out.put_u8(u8::from(self.session_present));
        match version {
            ProtocolVersion::V311 => {
                if !self.properties.is_empty() {
                    return Err(EncodeError::NotInVersion { version, what: "properties" });
                }
                out.put_u8(self.reason.connect_return().ok_or(refused)?);
            }
            ProtocolVersion::V5 => {
                if !self.reason.allowed_in(PacketType::ConnAck) {
                    return Err(refused);
                }
                out.put_u8(self.reason as u8);
                self.properties.encode(out)?;
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_older_server_s_refusal_is_understood_by_a_newer_client() {
        let decode =
            |bytes: &'static [u8]| ConnAck::decode(&mut Reader::new(Bytes::from_static(bytes)), ProtocolVersion::V5);
        assert_eq!(decode(&[0, 1]).unwrap().reason, ReasonCode::UnsupportedProtocolVersion);
        assert!(decode(&[0, 0]).is_err(), "a success without properties is not version 5.0");
    }
}
