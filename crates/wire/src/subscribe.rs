//! SUBSCRIBE (§3.8, 3.1.1 §3.8): a client asks for messages.

use bytes::{BufMut, BytesMut};

use crate::{
    DecodeError, EncodeError, PacketId, PacketType, ProtocolVersion, QoS, TopicFilter, UserProperty, VariableInt,
    property::properties,
    reader::{Reader, put_string},
};

properties! {
    /// Properties of SUBSCRIBE (§3.8.2.1).
    SubscribeProperties in "SUBSCRIBE" {
        /// A number that comes back with each message that matches.
        subscription_identifier: Option<VariableInt> = 0x0b,
        /// Free name-value pairs.
        user_properties: Vec<UserProperty> = 0x26,
    }
}

/// When retained messages are sent for a new subscription (§3.8.3.1).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub enum RetainHandling {
    /// At every SUBSCRIBE.
    #[default]
    Always = 0,
    /// Only when the subscription did not exist before.
    IfNew = 1,
    /// Never.
    Never = 2,
}

/// How messages of one subscription are delivered (§3.8.3.1). In 3.1.1 only the QoS is said.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct SubscriptionOptions {
    /// The highest QoS of delivery.
    pub qos: QoS,
    /// Whether the client's own messages are left out.
    pub no_local: bool,
    /// Whether the retain flag is passed on as published.
    pub retain_as_published: bool,
    /// When retained messages are sent.
    pub retain_handling: RetainHandling,
}

impl SubscriptionOptions {
    /// Reads the byte of a 5.0 SUBSCRIBE.
    pub fn from_bits(bits: u8) -> Result<Self, DecodeError> {
        Self::decode(bits, ProtocolVersion::V5)
    }

    fn decode(bits: u8, version: ProtocolVersion) -> Result<Self, DecodeError> {
        let reserved = if version == ProtocolVersion::V5 { 0b1100_0000 } else { 0b1111_1100 };
        // [MQTT-3.8.3-5].
        if bits & reserved != 0 {
            return Err(DecodeError::Reserved { what: "the subscription options" });
        }
        Ok(Self {
            qos: QoS::from_bits(bits & 0b11)?,
            no_local: bits & 0b100 != 0,
            retain_as_published: bits & 0b1000 != 0,
            retain_handling: match bits >> 4 {
                0 => RetainHandling::Always,
                1 => RetainHandling::IfNew,
                2 => RetainHandling::Never,
                value => return Err(DecodeError::RetainHandling { value }),
            },
        })
    }

    /// The byte of a 5.0 SUBSCRIBE.
    pub fn bits(self) -> u8 {
        self.qos.level()
            | u8::from(self.no_local) << 2
            | u8::from(self.retain_as_published) << 3
            | (self.retain_handling as u8) << 4
    }
}

/// One filter of a SUBSCRIBE and its options.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Subscription {
    /// Which topics.
    pub filter: TopicFilter,
    /// How they are delivered.
    pub options: SubscriptionOptions,
}

/// SUBSCRIBE, from a client.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Subscribe {
    /// Comes back in SUBACK.
    pub packet_id: PacketId,
    /// Properties; empty in 3.1.1.
    pub properties: SubscribeProperties,
    /// At least one.
    pub subscriptions: Vec<Subscription>,
}

impl Subscribe {
    pub(crate) fn decode(reader: &mut Reader, version: ProtocolVersion) -> Result<Self, DecodeError> {
        let packet_id = reader.packet_id()?;
        let properties = match version {
            ProtocolVersion::V311 => SubscribeProperties::default(),
            ProtocolVersion::V5 => SubscribeProperties::decode(reader)?,
        };
        let mut subscriptions = Vec::new();
        while !reader.is_empty() {
            let filter = TopicFilter::new(reader.string("a topic filter")?)?;
            let options = SubscriptionOptions::decode(reader.u8("the subscription options")?, version)?;
            // [MQTT-3.8.3-4]: one's own messages can't be left out of a shared subscription.
            if options.no_local && filter.starts_with("$share/") {
                return Err(DecodeError::NoLocalShared);
            }
            subscriptions.push(Subscription { filter, options });
        }
        // [MQTT-3.8.3-2].
        if subscriptions.is_empty() {
            return Err(DecodeError::Empty { packet: PacketType::Subscribe });
        }
        Ok(Self { packet_id, properties, subscriptions })
    }

    pub(crate) fn encode(&self, version: ProtocolVersion, out: &mut BytesMut) -> Result<(), EncodeError> {
        if self.subscriptions.is_empty() {
            return Err(EncodeError::Empty { packet: PacketType::Subscribe, what: "topic filter" });
        }
        out.put_u16(self.packet_id.get());
        match version {
            ProtocolVersion::V5 => self.properties.encode(out)?,
            ProtocolVersion::V311 if self.properties.is_empty() => {}
            ProtocolVersion::V311 => return Err(EncodeError::NotInVersion { version, what: "properties" }),
        }
        for Subscription { filter, options } in &self.subscriptions {
            let bits = options.bits();
            if version == ProtocolVersion::V311 && bits > 2 {
                return Err(EncodeError::NotInVersion { version, what: "subscription options other than QoS" });
            }
            if options.no_local && filter.starts_with("$share/") {
                return Err(EncodeError::NotInVersion { version, what: "No Local on a shared subscription" });
            }
            put_string(out, filter)?;
            out.put_u8(bits);
        }
        Ok(())
    }
}
