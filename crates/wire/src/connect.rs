//! CONNECT (§3.1, 3.1.1 §3.1): a client asks for a session.

use std::{
    fmt,
    num::{NonZeroU16, NonZeroU32},
};

use bytes::{BufMut, Bytes, BytesMut};
use bytestring::ByteString;

use crate::{
    DecodeError, EncodeError, ProtocolVersion, QoS, TopicName, UserProperty,
    property::properties,
    reader::{Reader, put_binary, put_string},
};

const USER_NAME: u8 = 0b1000_0000;
const PASSWORD: u8 = 0b0100_0000;
const WILL_RETAIN: u8 = 0b0010_0000;
const WILL: u8 = 0b0000_0100;
const CLEAN_START: u8 = 0b0000_0010;
const RESERVED: u8 = 0b0000_0001;

properties! {
    /// Properties of CONNECT (§3.1.2.11).
    ConnectProperties in "CONNECT" {
        /// Seconds that the session outlives the connection; absent is 0, `u32::MAX` is for ever.
        session_expiry_interval: Option<u32> = 0x11,
        /// QoS 1 and 2 messages that the client takes at a time without acknowledging; absent is 65,535.
        receive_maximum: Option<NonZeroU16> = 0x21,
        /// The largest packet that the client takes, bytes.
        maximum_packet_size: Option<NonZeroU32> = 0x27,
        /// The highest topic alias that the client takes; absent is 0.
        topic_alias_maximum: Option<u16> = 0x22,
        /// Whether the server may send response information; absent is false.
        request_response_information: Option<bool> = 0x19,
        /// Whether the server may send reason strings and user properties with failures; absent is true.
        request_problem_information: Option<bool> = 0x17,
        /// Free name-value pairs.
        user_properties: Vec<UserProperty> = 0x26,
        /// Name of the method of extended authentication.
        authentication_method: Option<ByteString> = 0x15,
        /// Data of that method.
        authentication_data: Option<Bytes> = 0x16,
    }
}

properties! {
    /// Properties of the will (§3.1.3.2).
    WillProperties in "the will" {
        /// Seconds between the end of the connection and the publication of the will.
        will_delay_interval: Option<u32> = 0x18,
        /// Whether the payload is UTF-8 text.
        payload_format_indicator: Option<bool> = 0x01,
        /// Life of the message, seconds.
        message_expiry_interval: Option<u32> = 0x02,
        /// What the payload is.
        content_type: Option<ByteString> = 0x03,
        /// Where an answer is expected.
        response_topic: Option<ByteString> = 0x08,
        /// What an answer carries back.
        correlation_data: Option<Bytes> = 0x09,
        /// Free name-value pairs.
        user_properties: Vec<UserProperty> = 0x26,
    }
}

/// The message that the server publishes when the connection ends without a normal DISCONNECT (§3.1.2.5).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Will {
    /// Where it is published.
    pub topic: TopicName,
    /// What is published.
    pub payload: Bytes,
    /// With which QoS.
    pub qos: QoS,
    /// Whether it is retained.
    pub retain: bool,
    /// Its properties; empty in 3.1.1.
    pub properties: WillProperties,
}

/// CONNECT, the first packet of a connection.
#[derive(Clone, PartialEq, Eq)]
pub struct Connect {
    /// The version that the client speaks.
    pub version: ProtocolVersion,
    /// Clean start, called clean session in 3.1.1: earlier state is discarded.
    pub clean_start: bool,
    /// Longest silence of the client, seconds; 0 switches the check off.
    pub keep_alive: u16,
    /// Properties; empty in 3.1.1.
    pub properties: ConnectProperties,
    /// Client identifier; empty asks the server to assign one.
    pub client_id: ByteString,
    /// The will, if there is one.
    pub will: Option<Will>,
    /// User name, if given.
    pub user_name: Option<ByteString>,
    /// Password, if given.
    pub password: Option<Bytes>,
}

impl fmt::Debug for Connect {
    /// Leaves the password out.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Connect")
            .field("version", &self.version)
            .field("clean_start", &self.clean_start)
            .field("keep_alive", &self.keep_alive)
            .field("properties", &self.properties)
            .field("client_id", &self.client_id)
            .field("will", &self.will)
            .field("user_name", &self.user_name)
            .field("password", &self.password.as_ref().map(|_| "(not shown)"))
            .finish()
    }
}

impl Connect {
    /// A clean start without keep alive, will, credentials or properties.
    pub fn new(version: ProtocolVersion, client_id: impl Into<ByteString>) -> Self {
        Self {
            version,
            clean_start: true,
            keep_alive: 0,
            properties: ConnectProperties::default(),
            client_id: client_id.into(),
            will: None,
            user_name: None,
            password: None,
        }
    }

    /// The version that a CONNECT of which these are the first bytes names, if they reach so far.
    pub fn peek_version(bytes: &[u8]) -> Option<ProtocolVersion> {
        let length = bytes.iter().skip(1).take(4).position(|byte| byte & 0x80 == 0)? + 1;
        match bytes.get(1 + length..)?.strip_prefix(b"\0\x04MQTT")?.first()? {
            4 => Some(ProtocolVersion::V311),
            5 => Some(ProtocolVersion::V5),
            _ => None,
        }
    }

    pub(crate) fn decode(reader: &mut Reader) -> Result<Self, DecodeError> {
        if reader.binary("the protocol name")? != "MQTT" {
            return Err(DecodeError::ProtocolName);
        }
        let version = match reader.u8("the protocol version")? {
            4 => ProtocolVersion::V311,
            5 => ProtocolVersion::V5,
            level => return Err(DecodeError::ProtocolVersion { level }),
        };
        Self::decode_rest(reader, version).map_err(|error| DecodeError::Connect { version, error: Box::new(error) })
    }

    /// What stands behind the version.
    fn decode_rest(reader: &mut Reader, version: ProtocolVersion) -> Result<Self, DecodeError> {
        let flags = reader.u8("the connect flags")?;
        check_flags(flags, version)?;
        let keep_alive = reader.u16("the keep alive")?;
        let properties = match version {
            ProtocolVersion::V311 => ConnectProperties::default(),
            ProtocolVersion::V5 => ConnectProperties::decode(reader)?,
        };
        // [MQTT-3.1.2.11.10]: data without a method is a protocol error.
        if properties.authentication_data.is_some() && properties.authentication_method.is_none() {
            return Err(DecodeError::AuthenticationDataAlone);
        }
        let client_id = reader.string("the client identifier")?;
        let will = if flags & WILL == 0 { None } else { Some(Will::decode(reader, flags, version)?) };
        let user_name = if flags & USER_NAME == 0 { None } else { Some(reader.string("the user name")?) };
        let password = if flags & PASSWORD == 0 { None } else { Some(reader.binary("the password")?) };
        Ok(Self {
            version,
            clean_start: flags & CLEAN_START != 0,
            keep_alive,
            properties,
            client_id,
            will,
            user_name,
            password,
        })
    }

    pub(crate) fn encode(&self, out: &mut BytesMut) -> Result<(), EncodeError> {
        let version = self.version;
        if version == ProtocolVersion::V311 {
            if !self.properties.is_empty() || self.will.as_ref().is_some_and(|will| !will.properties.is_empty()) {
                return Err(EncodeError::NotInVersion { version, what: "properties" });
            }
            if self.password.is_some() && self.user_name.is_none() {
                return Err(EncodeError::PasswordAlone);
            }
        }
        if self.properties.authentication_data.is_some() && self.properties.authentication_method.is_none() {
            return Err(EncodeError::AuthenticationDataAlone);
        }
        put_string(out, "MQTT")?;
        out.put_u8(version.level());
        out.put_u8(self.flags());
        out.put_u16(self.keep_alive);
        if version == ProtocolVersion::V5 {
            self.properties.encode(out)?;
        }
        put_string(out, &self.client_id)?;
        if let Some(will) = &self.will {
            if let Some(response) = &will.properties.response_topic {
                TopicName::new(response.clone())?;
            }
            if version == ProtocolVersion::V5 {
                will.properties.encode(out)?;
            }
            put_string(out, &will.topic)?;
            put_binary(out, &will.payload)?;
        }
        if let Some(user_name) = &self.user_name {
            put_string(out, user_name)?;
        }
        if let Some(password) = &self.password {
            put_binary(out, password)?;
        }
        Ok(())
    }

    fn flags(&self) -> u8 {
        let bit = |set: bool, flag: u8| if set { flag } else { 0 };
        let will = self.will.as_ref().map_or(0, |will| WILL | will.qos.level() << 3 | bit(will.retain, WILL_RETAIN));
        bit(self.clean_start, CLEAN_START)
            | will
            | bit(self.user_name.is_some(), USER_NAME)
            | bit(self.password.is_some(), PASSWORD)
    }
}

fn check_flags(flags: u8, version: ProtocolVersion) -> Result<(), DecodeError> {
    // [MQTT-3.1.2-3].
    if flags & RESERVED != 0 {
        return Err(DecodeError::Reserved { what: "the reserved connect flag" });
    }
    // [MQTT-3.1.2-11], [MQTT-3.1.2-13]: no will, no will QoS and no will retain.
    if flags & WILL == 0 && flags & (WILL_RETAIN | 0b0001_1000) != 0 {
        return Err(DecodeError::Reserved { what: "the will flags without a will" });
    }
    // 3.1.1 [MQTT-3.1.2-22]; version 5.0 allows a password alone.
    if version == ProtocolVersion::V311 && flags & PASSWORD != 0 && flags & USER_NAME == 0 {
        return Err(DecodeError::Reserved { what: "the password flag without a user name" });
    }
    Ok(())
}

impl Will {
    /// A will without properties.
    pub fn new(topic: TopicName, payload: impl Into<Bytes>, qos: QoS, retain: bool) -> Self {
        Self { topic, payload: payload.into(), qos, retain, properties: WillProperties::default() }
    }

    fn decode(reader: &mut Reader, flags: u8, version: ProtocolVersion) -> Result<Self, DecodeError> {
        let qos = QoS::from_bits(flags >> 3 & 0b11)?;
        let properties = match version {
            ProtocolVersion::V311 => WillProperties::default(),
            ProtocolVersion::V5 => WillProperties::decode(reader)?,
        };
        if let Some(topic) = &properties.response_topic {
            TopicName::new(topic.clone())?;
        }
        let topic = TopicName::new(reader.string("the will topic")?)?;
        let payload = reader.binary("the will payload")?;
        Ok(Self { topic, payload, qos, retain: flags & WILL_RETAIN != 0, properties })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_password_is_not_shown_by_debug() {
        let connect = Connect {
            user_name: Some("cold-tor".into()),
            password: Some(Bytes::from_static(b"moor-water")),
            ..Connect::new(ProtocolVersion::V311, "cold-tor")
        };
        let shown = format!("{connect:?}");
        assert!(shown.contains("cold-tor") && !shown.contains("moor-water"), "{shown}");
    }

    #[test]
    fn the_bytes_are_those_of_the_standard() {
        // 3.1.1 §3.1: clean session, user name and password, keep alive of 10 s.
        let bytes: &[u8] = b"\0\x04MQTT\x04\xc2\0\x0a\0\x01k\0\x01u\0\x01p";
        let connect = Connect::decode(&mut Reader::new(Bytes::from_static(bytes))).unwrap();
        assert_eq!((connect.keep_alive, &*connect.client_id, connect.clean_start), (10, "k", true));
        let mut out = BytesMut::new();
        connect.encode(&mut out).unwrap();
        assert_eq!(out, bytes);
    }

    #[test]
    fn flags_that_the_standard_reserves_are_refused() {
        for flags in [0b0000_0001, 0b0010_0000, 0b0000_1000, 0b0100_0000, 0b0001_1100] {
            let bytes = [b"\0\x04MQTT\x04".as_slice(), &[flags], b"\0\0\0\x01k\0\x01t\0\x01m\0\x01u\0\x01p"].concat();
            assert!(Connect::decode(&mut Reader::new(bytes.into())).is_err(), "{flags:#010b}");
        }
    }
}
