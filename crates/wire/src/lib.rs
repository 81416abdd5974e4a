//! MQTT 3.1.1 and 5.0 control packets, to and from bytes.
//!
//! This crate opens no socket and knows no clock. It offers
//!
//! - [`Frame::split`]: takes one whole packet off the front of a receive buffer without copying it;
//! - [`Packet::decode`] and [`Packet::encode`]: a typed packet for each control packet of both versions;
//! - [`TopicName`] and [`TopicFilter`]: checked topic strings, their levels, matching and covering.
//!
//! Clause numbers in comments are those of the OASIS standards "MQTT Version 3.1.1" (written `3.1.1 §…`)
//! and "MQTT Version 5.0" (written `§…`). Payloads and strings borrow the receive buffer by reference
//! count; nothing is copied on decode. Malformed input is a [`DecodeError`], which knows its 5.0 reason
//! code; no input makes a decoder panic.

mod acknowledgement;
mod auth;
mod connack;
mod connect;
mod disconnect;
mod encoded;
mod error;
mod frame;
mod packet;
mod packet_type;
mod plain;
mod property;
mod publish;
mod reader;
mod reason;
mod suback;
mod subscribe;
mod topic;
mod unsuback;
mod unsubscribe;
mod version;

pub use acknowledgement::{Acknowledgement, AcknowledgementProperties};
pub use auth::{Auth, AuthProperties};
pub use connack::{ConnAck, ConnAckProperties};
pub use connect::{Connect, ConnectProperties, Will, WillProperties};
pub use disconnect::{Disconnect, DisconnectProperties};
pub use encoded::{EncodedPublish, EncodedRun};
pub use error::{DecodeError, EncodeError};
pub use frame::{Frame, MAX_PACKET_SIZE};
pub use packet::Packet;
pub use packet_type::PacketType;
pub use plain::{Measured, PlainPublish, PlainRun};
pub use property::{UserProperty, VariableInt};
pub use publish::{CommonHead, Publish, PublishHead, PublishProperties};
pub use reason::ReasonCode;
pub use suback::{SubAck, SubAckProperties};
pub use subscribe::{RetainHandling, Subscribe, SubscribeProperties, Subscription, SubscriptionOptions};
pub use topic::{FilterError, TopicError, TopicFilter, TopicName};
pub use unsuback::{UnsubAck, UnsubAckProperties};
pub use unsubscribe::{Unsubscribe, UnsubscribeProperties};
pub use version::{PacketId, ProtocolVersion, QoS};
