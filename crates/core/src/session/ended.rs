//! Why a connection ends, as a value.

use std::{fmt, time::Duration};

use moorfall_wire::{DecodeError, PacketId, PacketType, ReasonCode};
use strum::{EnumDiscriminants, EnumString, IntoStaticStr, VariantNames};

use super::{no_entry::NoEntry, not_accepted::NotAccepted, refusal::Refusal};
use crate::shown::count;

/// Why a connection ends.
#[derive(Clone, Debug, EnumDiscriminants)]
#[strum_discriminants(
    name(EndedKind),
    doc = "Why a connection ends, without what belongs to it.",
    derive(VariantNames, IntoStaticStr, EnumString),
    strum(serialize_all = "kebab-case")
)]
pub enum Ended {
    /// The client sent DISCONNECT.
    ByClient(ReasonCode),
    /// The client closed the connection without DISCONNECT.
    Closed,
    /// The connection broke: the fault, as the operating system says it.
    Broken(String),
    /// No CONNECT arrived in time.
    NoConnect,
    /// Nothing arrived for one and a half times the Keep Alive ([MQTT-3.1.2-22]).
    KeepAlive(Duration),
    /// The client broke the protocol.
    Violation(Violation),
    /// The connection was refused.
    NotAccepted(NotAccepted),
    /// Another connection has come with the client identifier ([MQTT-3.1.4-3]).
    TakenOver,
    /// The client identifier was given to another identity, whose client has connected.
    GivenToAnother,
    /// Somebody who runs the broker ended the connection, and says so with this reason code.
    ByOperator(ReasonCode),
    /// Somebody who runs the broker has banned the identity or its address.
    Banned,
    /// The service stops.
    Stopping,
    /// The identity was changed in a way that asks for new credentials.
    IdentityChanged,
    /// The identity was removed.
    IdentityRemoved,
    /// The identity can't connect any more.
    NoEntry(NoEntry),
    /// The token has expired or was revoked.
    TokenOver,
    /// The client certificate has expired.
    CertificateExpired,
    /// An authority that may have signed the client certificate was removed.
    AuthorityRemoved,
    /// The token or certificate lost its force while the client connected.
    CredentialsOver,
    /// Its queue is full, and the policy is to end the session.
    QueueFull,
    /// The rules have changed, and a subscription is not allowed any more.
    SubscriptionLost(Box<Refusal>),
    /// More attempts than this a second were refused, for long; the last of them.
    RefusedTooOften(u32, Box<Refusal>),
}

/// How a client broke the protocol.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Violation {
    /// The first packet was not CONNECT ([MQTT-3.1.0-1]).
    FirstPacket(PacketType),
    /// A packet that a client does not send, or not now.
    Packet(PacketType),
    /// An acknowledgement of a message that does not wait for it (§4.3).
    Acknowledgement(PacketType, PacketId),
    /// A PUBLISH with a Subscription Identifier ([MQTT-3.3.4-6]).
    SubscriptionIdentifier,
    /// A topic alias above the maximum ([MQTT-3.3.2-9]).
    TopicAliasTooHigh(u16),
    /// A topic alias that stands for nothing (§3.3.2.3.4).
    TopicAliasUnknown,
    /// More unacknowledged messages than the Receive Maximum (§4.9).
    ReceiveMaximum(usize),
    /// A session that was to end with its connection is to be kept after all (§3.14.2.2.2).
    SessionExpiry,
    /// A DISCONNECT with a Server Reference, which only the server sends.
    ServerReference,
    /// Bytes that are not a packet.
    Decode(DecodeError),
}

impl Ended {
    /// What DISCONNECT or CONNACK says.
    pub fn code(&self) -> ReasonCode {
        match self {
            Self::ByClient(reason) => *reason,
            Self::Closed | Self::Broken(_) | Self::NoConnect => ReasonCode::Unspecified,
            Self::KeepAlive(_) => ReasonCode::KeepAliveTimeout,
            Self::Violation(violation) => violation.code(),
            Self::NotAccepted(why) => why.code(),
            Self::TakenOver | Self::GivenToAnother => ReasonCode::SessionTakenOver,
            Self::ByOperator(reason) => *reason,
            Self::Banned | Self::IdentityChanged | Self::IdentityRemoved => ReasonCode::AdministrativeAction,
            Self::Stopping => ReasonCode::ServerShuttingDown,
            Self::NoEntry(_)
            | Self::TokenOver
            | Self::CertificateExpired
            | Self::AuthorityRemoved
            | Self::CredentialsOver
            | Self::SubscriptionLost(_) => ReasonCode::NotAuthorized,
            Self::QueueFull | Self::RefusedTooOften(..) => ReasonCode::QuotaExceeded,
        }
    }

    /// Whether something went wrong.
    pub fn is_failure(&self) -> bool {
        !matches!(self, Self::ByClient(reason) if !reason.is_error())
    }

    /// Whether it is a failure that nobody wanted: neither the client, nor who runs the broker.
    pub fn is_lost(&self) -> bool {
        match self {
            Self::ByClient(reason) => reason.is_error(),
            Self::Closed
            | Self::Broken(_)
            | Self::NoConnect
            | Self::KeepAlive(_)
            | Self::Violation(_)
            | Self::QueueFull
            | Self::RefusedTooOften(..) => true,
            Self::NotAccepted(_)
            | Self::TakenOver
            | Self::GivenToAnother
            | Self::ByOperator(_)
            | Self::Banned
            | Self::Stopping
            | Self::IdentityChanged
            | Self::IdentityRemoved
            | Self::NoEntry(_)
            | Self::TokenOver
            | Self::CertificateExpired
            | Self::AuthorityRemoved
            | Self::CredentialsOver
            | Self::SubscriptionLost(_) => false,
        }
    }
}

impl Violation {
    /// What DISCONNECT says.
    pub fn code(&self) -> ReasonCode {
        match self {
            Self::TopicAliasTooHigh(_) => ReasonCode::TopicAliasInvalid,
            Self::ReceiveMaximum(_) => ReasonCode::ReceiveMaximumExceeded,
            Self::Decode(error) => error.reason_code(),
            _ => ReasonCode::ProtocolError,
        }
    }
}

impl fmt::Display for Violation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::FirstPacket(packet) => write!(f, "The first packet was {packet}, not CONNECT."),
            Self::Packet(packet) => write!(f, "The client sent {packet}, which is not allowed here."),
            Self::Acknowledgement(packet, id) => {
                write!(f, "The client sent an unexpected {packet} for packet identifier {id}.")
            }
            Self::SubscriptionIdentifier => {
                f.write_str("The client sent a message with a Subscription Identifier, which only the broker sends.")
            }
            Self::TopicAliasTooHigh(maximum) => {
                write!(f, "The topic alias is above the Topic Alias Maximum of this connection, {maximum}.")
            }
            Self::TopicAliasUnknown => f.write_str("The topic alias has not been given a topic on this connection."),
            Self::ReceiveMaximum(most) => write!(
                f,
                "Receive Maximum exceeded: the client has more than {} unacknowledged QoS 1 and 2 messages.",
                count(*most as u64)
            ),
            Self::SessionExpiry => f.write_str(
                "The client asked in DISCONNECT for a Session Expiry Interval, and its CONNECT had asked for none.",
            ),
            Self::ServerReference => {
                f.write_str("The client sent a Server Reference in DISCONNECT, which only the broker sends.")
            }
            Self::Decode(error) => write!(f, "The client sent an invalid packet: {error}."),
        }
    }
}

impl fmt::Display for Ended {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::ByClient(ReasonCode::Success) => f.write_str("The client disconnected normally."),
            Self::ByClient(reason) => write!(f, "The client disconnected: {reason}."),
            Self::Closed => f.write_str("The client closed the connection without DISCONNECT."),
            Self::Broken(error) => write!(f, "The connection broke: {error}."),
            Self::NoConnect => f.write_str("No CONNECT arrived in time."),
            Self::KeepAlive(silence) => {
                write!(f, "Keep Alive timeout: no packet for {} s (1.5 times the Keep Alive).", silence.as_secs_f32())
            }
            Self::Violation(violation) => violation.fmt(f),
            Self::NotAccepted(why) => why.fmt(f),
            Self::TakenOver => f.write_str("Another client connected with this client identifier."),
            Self::GivenToAnother => {
                f.write_str("The client identifier is reserved for another identity, whose client has connected.")
            }
            Self::ByOperator(ReasonCode::AdministrativeAction) => {
                f.write_str("The session was ended by an administrator.")
            }
            Self::ByOperator(reason) => write!(f, "The session was ended by an administrator: {reason}."),
            Self::Banned => f.write_str("The identity or its address was banned by an administrator."),
            Self::Stopping => f.write_str("The service is stopping."),
            Self::IdentityChanged => f.write_str("The identity has been changed. Connect again."),
            Self::IdentityRemoved => f.write_str("The identity has been removed."),
            Self::NoEntry(why) => why.fmt(f),
            Self::TokenOver => f.write_str("The token has expired or has been revoked. Connect with a valid one."),
            Self::CertificateExpired => {
                f.write_str("The client certificate has expired. Connect again with a valid one.")
            }
            Self::AuthorityRemoved => {
                f.write_str("A certificate authority is no longer trusted. Connect again with a valid certificate.")
            }
            Self::CredentialsOver => {
                f.write_str("The client's token or certificate is no longer valid. Connect again with a valid one.")
            }
            Self::QueueFull => f.write_str("The queue of the session is full, and its policy is to end the session."),
            Self::SubscriptionLost(refusal) => write!(f, "The rules have changed. {refusal}"),
            Self::RefusedTooOften(limit, last) => {
                write!(f, "More than {limit} attempts per second have been refused for some time. The last one: {last}")
            }
        }
    }
}
