//! PUBLISH (§3.3, 3.1.1 §3.3): an application message on its way.

use std::num::NonZeroU16;

use bytes::{BufMut, Bytes, BytesMut};
use bytestring::ByteString;

use crate::{
    DecodeError, EncodeError, PacketId, PacketType, ProtocolVersion, QoS, TopicName, UserProperty, VariableInt,
    property::properties,
    reader::{Reader, VARIABLE_INT_MAX, put_string, put_variable_int, variable_int_size},
};

const DUPLICATE: u8 = 0b1000;
const RETAIN: u8 = 0b0001;

properties! {
    /// Properties of PUBLISH (§3.3.2.3).
    PublishProperties in "PUBLISH" {
        /// Whether the payload is UTF-8 text.
        payload_format_indicator: Option<bool> = 0x01,
        /// Life of the message, seconds; the server takes off the time that it kept it.
        message_expiry_interval: Option<u32> = 0x02,
        /// A number that stands for the topic name on this connection.
        topic_alias: Option<NonZeroU16> = 0x23,
        /// Where an answer is expected.
        response_topic: Option<ByteString> = 0x08,
        /// What an answer carries back.
        correlation_data: Option<Bytes> = 0x09,
        /// Free name-value pairs.
        user_properties: Vec<UserProperty> = 0x26,
        /// Which of the client's subscriptions matched.
        subscription_identifiers: Vec<VariableInt> = 0x0b,
        /// What the payload is.
        content_type: Option<ByteString> = 0x03,
    }
}

/// PUBLISH, in either direction.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Publish {
    /// Whether the sender may have sent it before.
    pub duplicate: bool,
    /// Quality of service of this transfer.
    pub qos: QoS,
    /// To the server: keep it as the topic's retained message. To a client: it was retained.
    pub retain: bool,
    /// Where; empty only when a topic alias stands in.
    pub topic: TopicName,
    /// Present at QoS 1 and 2.
    pub packet_id: Option<PacketId>,
    /// Properties; empty in 3.1.1.
    pub properties: PublishProperties,
    /// What; it borrows the receive buffer.
    pub payload: Bytes,
}

impl PublishProperties {
    /// Appends the properties as they stand in a PUBLISH, length included.
    pub fn write(&self, out: &mut BytesMut) -> Result<(), EncodeError> {
        self.encode(out)
    }

    /// Reads what [`PublishProperties::write`] has written.
    pub fn read(bytes: Bytes) -> Result<Self, DecodeError> {
        Self::decode(&mut Reader::new(bytes))
    }

    /// The same properties in memory of their own, so that they don't keep a whole receive buffer alive.
    pub fn detached(&self) -> Self {
        let text = |text: &Option<ByteString>| text.as_deref().map(ByteString::from);
        let pair = |pair: &UserProperty| UserProperty {
            name: ByteString::from(&*pair.name),
            value: ByteString::from(&*pair.value),
        };
        Self {
            response_topic: text(&self.response_topic),
            correlation_data: self.correlation_data.as_deref().map(Bytes::copy_from_slice),
            user_properties: self.user_properties.iter().map(pair).collect(),
            content_type: text(&self.content_type),
            subscription_identifiers: self.subscription_identifiers.clone(),
            ..*self
        }
    }
}

impl Publish {
    /// A message without properties, not retained. At QoS 1 and 2 it still needs a packet identifier.
    pub fn new(topic: TopicName, payload: impl Into<Bytes>, qos: QoS) -> Self {
        Self {
            duplicate: false,
            qos,
            retain: false,
            topic,
            packet_id: None,
            properties: PublishProperties::default(),
            payload: payload.into(),
        }
    }

    pub(crate) fn decode(flags: u8, mut reader: Reader, version: ProtocolVersion) -> Result<Self, DecodeError> {
        let qos = QoS::from_bits(flags >> 1 & 0b11)?;
        let duplicate = flags & DUPLICATE != 0;
        if duplicate && qos == QoS::AtMostOnce {
            return Err(DecodeError::DuplicateAtQoS0);
        }
        let topic = reader.string("the topic name")?;
        let packet_id = if qos == QoS::AtMostOnce { None } else { Some(reader.packet_id()?) };
        let properties = match version {
            ProtocolVersion::V311 => PublishProperties::default(),
            ProtocolVersion::V5 => PublishProperties::decode(&mut reader)?,
        };
        let topic = match topic.is_empty() {
            true if properties.topic_alias.is_some() => TopicName::default(),
            true if version == ProtocolVersion::V5 => return Err(DecodeError::NoTopic),
            _ => TopicName::new(topic)?,
        };
        // [MQTT-3.3.2-14].
        if let Some(response) = &properties.response_topic {
            TopicName::new(response.clone())?;
        }
        Ok(Self { duplicate, qos, retain: flags & RETAIN != 0, topic, packet_id, properties, payload: reader.rest() })
    }

    /// Everything behind the first byte's flags is checked here; gives the flags.
    pub(crate) fn encode(&self, version: ProtocolVersion, out: &mut BytesMut) -> Result<u8, EncodeError> {
        let acknowledged = self.qos != QoS::AtMostOnce;
        if acknowledged != self.packet_id.is_some() || (self.duplicate && !acknowledged) {
            return Err(EncodeError::PacketId { qos: self.qos });
        }
        encode_variable_header(&self.topic, self.packet_id, &self.properties, version, out)?;
        out.put_slice(&self.payload);
        Ok(flags(self.duplicate, self.qos, self.retain))
    }
}

pub(crate) fn flags(duplicate: bool, qos: QoS, retain: bool) -> u8 {
    (if duplicate { DUPLICATE } else { 0 }) | qos.level() << 1 | u8::from(retain)
}

/// Writes topic, packet identifier and properties; gives the place of the identifier.
fn encode_variable_header(
    topic: &TopicName,
    packet_id: Option<PacketId>,
    properties: &PublishProperties,
    version: ProtocolVersion,
    out: &mut BytesMut,
) -> Result<usize, EncodeError> {
    if topic.is_empty() && properties.topic_alias.is_none() {
        return Err(EncodeError::Empty { packet: PacketType::Publish, what: "topic name" });
    }
    if let Some(response) = &properties.response_topic {
        TopicName::new(response.clone())?;
    }
    put_string(out, topic)?;
    let packet_id_at = out.len();
    if let Some(id) = packet_id {
        out.put_u16(id.get());
    }
    match version {
        ProtocolVersion::V5 => properties.encode(out)?,
        ProtocolVersion::V311 if properties.is_empty() => {}
        ProtocolVersion::V311 => return Err(EncodeError::NotInVersion { version, what: "properties" }),
    }
    Ok(packet_id_at)
}

/// What PUBLISH packets at QoS 0 have between the fixed header and the payload that follow each other and differ in their
/// payloads, and in no more than some bytes of this.
#[derive(Debug)]
pub struct CommonHead {
    bytes: BytesMut,
}

impl CommonHead {
    /// The head with this topic, which is empty only when a topic alias stands in, and these properties.
    pub fn new(
        topic: &TopicName,
        properties: &PublishProperties,
        version: ProtocolVersion,
    ) -> Result<Self, EncodeError> {
        let mut bytes = BytesMut::new();
        encode_variable_header(topic, None, properties, version, &mut bytes)?;
        Ok(Self { bytes })
    }

    /// Its last `length` bytes, to be overwritten.
    pub fn end_mut(&mut self, length: usize) -> &mut [u8] {
        let at = self.bytes.len() - length;
        &mut self.bytes[at..]
    }

    /// Size of a whole packet with such a payload, bytes.
    pub fn size(&self, payload: usize) -> usize {
        let length = self.bytes.len() + payload;
        1 + variable_int_size(length) + length
    }

    /// Appends a whole packet with this payload, neither DUP nor RETAIN.
    pub fn write(&self, payload: &[u8], out: &mut BytesMut) -> Result<(), EncodeError> {
        let length = self.bytes.len() + payload.len();
        let fits = u32::try_from(length).ok().filter(|length| *length <= VARIABLE_INT_MAX);
        out.put_u8((PacketType::Publish as u8) << 4);
        put_variable_int(out, fits.ok_or(EncodeError::PacketTooLong { length })?)?;
        out.put_slice(&self.bytes);
        out.put_slice(payload);
        Ok(())
    }
}

/// Everything of a PUBLISH before its payload, for one receiver.
#[derive(Clone, Copy, Debug)]
pub struct PublishHead<'a> {
    /// Where; empty only when a topic alias stands in.
    pub topic: &'a TopicName,
    /// Properties; left out in 3.1.1.
    pub properties: &'a PublishProperties,
    /// Bytes of the payload.
    pub payload: usize,
    /// The receiver's version.
    pub version: ProtocolVersion,
    /// Present at QoS 1 and 2.
    pub packet_id: Option<PacketId>,
}

impl PublishHead<'_> {
    /// Bytes behind the fixed header.
    fn length(&self) -> Result<u32, EncodeError> {
        let properties = if self.version == ProtocolVersion::V5 { self.properties.size() } else { 0 };
        let id = if self.packet_id.is_some() { 2 } else { 0 };
        let length = 2 + self.topic.len() + id + properties + self.payload;
        let fits = u32::try_from(length).ok().filter(|length| *length <= VARIABLE_INT_MAX);
        fits.ok_or(EncodeError::PacketTooLong { length })
    }

    /// Size of the whole packet, bytes.
    pub fn size(&self) -> Result<usize, EncodeError> {
        let length = self.length()? as usize;
        Ok(1 + variable_int_size(length) + length)
    }

    /// Appends it with these flags; the payload belongs right behind.
    pub fn write(&self, out: &mut BytesMut, duplicate: bool, qos: QoS, retain: bool) -> Result<(), EncodeError> {
        self.put(out, flags(duplicate, qos, retain)).map(drop)
    }

    /// Gives the place of the packet identifier, from the start of the packet.
    pub(crate) fn put(&self, out: &mut BytesMut, flags: u8) -> Result<usize, EncodeError> {
        let start = out.len();
        out.put_u8((PacketType::Publish as u8) << 4 | flags);
        put_variable_int(out, self.length()?)?;
        let none = PublishProperties::default();
        let properties = if self.version == ProtocolVersion::V5 { self.properties } else { &none };
        encode_variable_header(self.topic, self.packet_id, properties, self.version, out).map(|at| at - start)
    }
}
