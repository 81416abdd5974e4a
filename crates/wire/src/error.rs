//! What can be wrong with bytes, and with packets that were asked to become bytes.

use crate::{FilterError, PacketType, ProtocolVersion, QoS, ReasonCode, TopicError};

/// Why bytes are not a control packet. The peer is to blame; the connection can't go on.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum DecodeError {
    /// A field reaches past the end of its packet.
    #[error("the packet ends in the middle of {what}")]
    Truncated {
        /// The field that was being read.
        what: &'static str,
    },
    /// Bytes are left behind the last field.
    #[error("{count} bytes are left after the end of {packet}")]
    TrailingBytes {
        /// The packet's type.
        packet: PacketType,
        /// How many bytes.
        count: usize,
    },
    /// A variable byte integer of more than four bytes (§1.5.5).
    #[error("a variable byte integer is longer than four bytes")]
    VariableInt,
    /// The packet is larger than the receiver takes (§3.1.2.11.4).
    #[error("the packet has {size} bytes, more than the limit of {limit}")]
    TooLarge {
        /// Size of the whole packet, bytes.
        size: usize,
        /// The receiver's bound, bytes.
        limit: usize,
    },
    /// Packet type 0, or AUTH in 3.1.1.
    #[error("packet type {value} does not exist in this protocol version")]
    PacketType {
        /// The four bits.
        value: u8,
    },
    /// Reserved flags of the fixed header are not as required (§2.1.3).
    #[error("{packet} has invalid flags in its fixed header, {flags:#06b}")]
    Flags {
        /// The packet's type.
        packet: PacketType,
        /// The low four bits of the first byte.
        flags: u8,
    },
    /// A string is not UTF-8, or holds U+0000 (§1.5.4).
    #[error("{what} is not a valid UTF-8 string")]
    Utf8 {
        /// The field.
        what: &'static str,
    },
    /// CONNECT names another protocol (§3.1.2.1).
    #[error("the protocol name is not MQTT")]
    ProtocolName,
    /// CONNECT asks for a version that is not spoken here (§3.1.2.2).
    #[error("protocol version {level} is not supported")]
    ProtocolVersion {
        /// The version byte.
        level: u8,
    },
    /// QoS bits are 3.
    #[error("QoS {value} does not exist")]
    QoS {
        /// The two bits.
        value: u8,
    },
    /// The DUP flag is set on a QoS 0 PUBLISH ([MQTT-3.3.1-2]).
    #[error("DUP is not allowed at QoS 0")]
    DuplicateAtQoS0,
    /// Packet identifier zero ([MQTT-2.2.1-3]).
    #[error("the packet identifier is zero")]
    PacketIdZero,
    /// A topic name that breaks §4.7.
    #[error("topic name: {0}")]
    Topic(#[from] TopicError),
    /// A topic name of no length without an alias that stands in for it (§3.3.2.1).
    #[error("the topic name is empty, and there is no topic alias")]
    NoTopic,
    /// Retain Handling 3 (§3.8.3.1).
    #[error("Retain Handling {value} does not exist")]
    RetainHandling {
        /// The two bits.
        value: u8,
    },
    /// A topic filter that breaks §4.7.
    #[error("topic filter: {0}")]
    Filter(#[from] FilterError),
    /// A property that this packet doesn't have (§2.2.2.2).
    #[error("property {id:#04x} is not allowed in {packet}")]
    PropertyNotAllowed {
        /// The packet or section.
        packet: &'static str,
        /// The property's identifier.
        id: u32,
    },
    /// A property stands twice where it may stand once.
    #[error("property {id:#04x} appears twice in {packet}")]
    PropertyTwice {
        /// The packet or section.
        packet: &'static str,
        /// The property's identifier.
        id: u32,
    },
    /// A property's value is outside its range.
    #[error("property {id:#04x} has an invalid value")]
    PropertyValue {
        /// The property's identifier.
        id: u32,
    },
    /// Topic alias zero ([MQTT-3.3.2-8]).
    #[error("topic alias 0 does not exist")]
    TopicAliasZero,
    /// A reason code that this packet doesn't have.
    #[error("reason code {code:#04x} is not allowed in {packet}")]
    ReasonCode {
        /// The packet's type.
        packet: PacketType,
        /// The byte.
        code: u8,
    },
    /// Reserved bits or values that must be otherwise.
    #[error("{what} has a reserved value")]
    Reserved {
        /// The field.
        what: &'static str,
    },
    /// A CONNECT that names its version and is wrong behind it.
    #[error("{error}")]
    Connect {
        /// The version that it names.
        version: ProtocolVersion,
        /// What is wrong.
        error: Box<Self>,
    },
    /// SUBSCRIBE or UNSUBSCRIBE without a filter, an answer without a code.
    #[error("{packet} is empty")]
    Empty {
        /// The packet's type.
        packet: PacketType,
    },
    /// A shared subscription that leaves the client's own messages out ([MQTT-3.8.3-4]).
    #[error("No Local is not allowed on a shared subscription")]
    NoLocalShared,
    /// An authentication property stands without a method ([MQTT-3.15.2.2.2]).
    #[error("authentication data without an authentication method")]
    AuthenticationDataAlone,
}

impl DecodeError {
    /// The reason code with which a server of version 5.0 ends the connection (§4.13).
    pub fn reason_code(&self) -> ReasonCode {
        match self {
            Self::Connect { error, .. } => error.reason_code(),
            Self::TooLarge { .. } => ReasonCode::PacketTooLarge,
            Self::ProtocolName | Self::ProtocolVersion { .. } => ReasonCode::UnsupportedProtocolVersion,
            Self::Topic(_) => ReasonCode::TopicNameInvalid,
            Self::Filter(_) => ReasonCode::TopicFilterInvalid,
            Self::TopicAliasZero => ReasonCode::TopicAliasInvalid,
            Self::PropertyTwice { .. }
            | Self::PropertyValue { .. }
            | Self::NoTopic
            | Self::RetainHandling { .. }
            | Self::Empty { .. }
            | Self::NoLocalShared
            | Self::AuthenticationDataAlone => ReasonCode::ProtocolError,
            _ => ReasonCode::MalformedPacket,
        }
    }
}

/// Why a packet has no bytes. The caller is to blame.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum EncodeError {
    /// A string or binary field longer than 65,535 bytes.
    #[error("a string or binary field has {length} bytes; at most 65,535 fit")]
    FieldTooLong {
        /// Its length, bytes.
        length: usize,
    },
    /// The packet is larger than the format can say.
    #[error("the packet has {length} bytes after its header; at most 268,435,455 fit")]
    PacketTooLong {
        /// Its remaining length, bytes.
        length: usize,
    },
    /// A variable byte integer above 268,435,455.
    #[error("{value} is more than a variable byte integer can hold")]
    VariableInt {
        /// The value.
        value: u32,
    },
    /// Packet identifier missing at QoS 1 or 2, or present at QoS 0; or DUP at QoS 0.
    #[error("a packet identifier and DUP are allowed only at QoS 1 and 2; this is QoS {qos}")]
    PacketId {
        /// The packet's QoS.
        qos: QoS,
    },
    /// The version has no place for a field that is set.
    #[error("MQTT {version} does not have {what}")]
    NotInVersion {
        /// The version.
        version: ProtocolVersion,
        /// The field.
        what: &'static str,
    },
    /// A reason code that the packet doesn't have.
    #[error("the reason code {reason:?} is not allowed in {packet}")]
    ReasonCode {
        /// The packet's type.
        packet: PacketType,
        /// The code.
        reason: ReasonCode,
    },
    /// A list that must not be empty is empty, or the topic name is and no alias stands in.
    #[error("{packet} needs at least one {what}")]
    Empty {
        /// The packet's type.
        packet: PacketType,
        /// What is missing.
        what: &'static str,
    },
    /// A password without a user name in 3.1.1 ([MQTT-3.1.2-22] of 3.1.1).
    #[error("MQTT 3.1.1 does not allow a password without a user name")]
    PasswordAlone,
    /// A string field holds U+0000.
    #[error("a string can't contain the character U+0000")]
    Nul,
    /// A response topic that is no topic name ([MQTT-3.3.2-14]).
    #[error("response topic: {0}")]
    ResponseTopic(#[from] TopicError),
    /// Authentication data without a method.
    #[error("authentication data needs an authentication method")]
    AuthenticationDataAlone,
}
