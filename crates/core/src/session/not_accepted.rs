//! Why a connection is refused, as a value.

use std::{fmt, sync::Arc, time::Duration};

use moorfall_wire::{DecodeError, ReasonCode};
use strum::{EnumDiscriminants, EnumString, IntoStaticStr, VariantNames};

use super::{no_entry::NoEntry, refusal::Refusal};
use crate::{
    names::NameFault,
    shown::{count, listed, span},
};

/// Why a connection is refused (§3.2.2.2). Of somebody who has not shown who it is, the sentence says nothing that helps
/// a stranger.
#[derive(Clone, Debug, EnumDiscriminants)]
#[strum_discriminants(
    name(NotAcceptedKind),
    doc = "Why a connection is refused, without what belongs to it.",
    derive(VariantNames, IntoStaticStr, EnumString),
    strum(serialize_all = "kebab-case")
)]
pub enum NotAccepted {
    /// What arrived is no CONNECT of this version, or too large.
    Malformed(DecodeError),
    /// Extended authentication by this method ([MQTT-4.12.0-1]).
    AuthenticationMethod(String),
    /// No client identifier, and no clean session (3.1.1 [MQTT-3.1.3-8]).
    NoClientId,
    /// The client identifier has this many bytes; the most that are taken.
    ClientIdTooLong(usize, usize),
    /// The client identifier has control characters.
    ClientIdControl,
    /// No new session can have this client identifier, and why.
    ClientIdInvalid(String, NameFault),
    /// The client identifier is in use by another identity.
    ClientIdInUse(String),
    /// The client identifier is reserved for another identity.
    ClientIdReserved(String),
    /// The identity can only use the client identifier that it is tied to.
    ClientIdOther {
        /// The identity.
        identity: String,
        /// What it is tied to.
        tied: String,
    },
    /// The Will Message could not be published.
    Will(Box<Refusal>),
    /// A password without a user name.
    NoUserName,
    /// User name or password are wrong.
    WrongCredentials,
    /// As many sign-ins from its address as this wait for their turn.
    SignInsWaiting(usize),
    /// Anonymous clients are not accepted here.
    Anonymous,
    /// No identity accepts the client certificate; its names.
    UnknownCertificate(Arc<[String]>),
    /// Two identities accept the client certificate.
    AmbiguousCertificate(String, String),
    /// The identity can't connect.
    NoEntry {
        /// Its name.
        identity: String,
        /// Why.
        why: NoEntry,
    },
    /// The identity or the address is banned for so long.
    Banned(Duration),
    /// The limit of sessions.
    Sessions(usize),
    /// The limit of sessions of one identity.
    SessionsOfIdentity(usize),
    /// The limit of connections.
    Connections(usize),
    /// The limit of connections that one address begins a second.
    ConnectRate(u32),
    /// The limit of connections of one address that have not sent CONNECT.
    Connecting(usize),
    /// The limit of memory for connections that are not accepted yet.
    ConnectingBytes,
}

impl NotAccepted {
    /// What CONNACK says; 3.1.1 says what is nearest to it.
    pub fn code(&self) -> ReasonCode {
        match self {
            Self::Malformed(error) => error.reason_code(),
            Self::AuthenticationMethod(_) => ReasonCode::BadAuthenticationMethod,
            Self::NoClientId
            | Self::ClientIdTooLong(..)
            | Self::ClientIdControl
            | Self::ClientIdInvalid(..)
            | Self::ClientIdReserved(_)
            | Self::ClientIdOther { .. } => ReasonCode::ClientIdentifierNotValid,
            Self::Will(refusal) => refusal.reason.code(refusal.act),
            Self::NoUserName | Self::WrongCredentials => ReasonCode::BadUserNameOrPassword,
            Self::NoEntry { why: NoEntry::Unknown, .. } => ReasonCode::BadUserNameOrPassword,
            Self::ClientIdInUse(_)
            | Self::Anonymous
            | Self::UnknownCertificate(_)
            | Self::AmbiguousCertificate(..)
            | Self::NoEntry { .. } => ReasonCode::NotAuthorized,
            Self::Banned(_) => ReasonCode::Banned,
            Self::SignInsWaiting(_) | Self::ConnectRate(_) => ReasonCode::ConnectionRateExceeded,
            Self::Sessions(_)
            | Self::SessionsOfIdentity(_)
            | Self::Connections(_)
            | Self::Connecting(_)
            | Self::ConnectingBytes => ReasonCode::QuotaExceeded,
        }
    }
}

impl fmt::Display for NotAccepted {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Malformed(error @ DecodeError::ProtocolVersion { .. }) => write!(f, "{error}."),
            Self::Malformed(error) => write!(f, "Malformed CONNECT: {error}."),
            Self::AuthenticationMethod(method) => write!(
                f,
                "The authentication method \"{method}\" is not supported. Connect with a user name and password."
            ),
            Self::NoClientId => {
                f.write_str("An empty client identifier needs Clean Session. Set it, or give a client identifier.")
            }
            Self::ClientIdTooLong(bytes, most) => write!(
                f,
                "The client identifier has {} B; the limit is {} B.",
                count(*bytes as u64),
                count(*most as u64)
            ),
            Self::ClientIdControl => f.write_str("The client identifier has control characters. Leave them out."),
            Self::ClientIdInvalid(id, why) => write!(f, "\"{id}\" is not a valid client identifier: {why}."),
            Self::ClientIdInUse(id) => {
                write!(f, "The client identifier {id} is in use by another identity. Choose another one.")
            }
            Self::ClientIdReserved(id) => {
                write!(f, "The client identifier {id} is reserved for another identity. Choose another one.")
            }
            Self::ClientIdOther { identity, tied } => {
                write!(f, "{identity} can only use the client identifier {tied}.")
            }
            Self::Will(refusal) => refusal.fmt(f),
            Self::NoUserName => f.write_str("A password was sent without a user name. Send both."),
            Self::WrongCredentials => f.write_str("The user name or the password is wrong."),
            Self::SignInsWaiting(most) => write!(
                f,
                "The limit of {} waiting sign-ins from one address is reached. Try again later.",
                count(*most as u64)
            ),
            Self::Anonymous => f.write_str(
                "This listener does not accept anonymous clients. Connect with a user name and a password or token, or \
                 with a client certificate.",
            ),
            Self::UnknownCertificate(names) => {
                let names: Vec<String> = names.iter().map(|name| format!("`{name}`")).collect();
                write!(
                    f,
                    "No identity accepts this client certificate. Add one of its names to an identity with `moorfall \
                     identities set NAME --certificate`: {}. Or connect with a user name and password.",
                    listed(&names)
                )
            }
            Self::AmbiguousCertificate(one, other) => write!(
                f,
                "The client certificate matches two identities, {one} and {other}. Remove the match from one of them."
            ),
            Self::NoEntry { identity, why: NoEntry::Unknown } => write!(f, "There is no identity {identity}."),
            Self::NoEntry { identity, why: NoEntry::Disabled } => write!(f, "The identity {identity} is disabled."),
            Self::NoEntry { why: NoEntry::Unfit(error), .. } => error.fmt(f),
            Self::Banned(time) => {
                write!(f, "The identity or its address is banned for another {}.", span(time.as_secs()))
            }
            Self::Sessions(most) => write!(
                f,
                "The limit of {} sessions is reached. End unused sessions, or raise `sessions` in `[limits]`.",
                count(*most as u64)
            ),
            Self::SessionsOfIdentity(most) => write!(
                f,
                "The limit of {} sessions for this identity is reached. End unused sessions, or raise \
                 `sessions-per-identity`.",
                count(*most as u64)
            ),
            Self::Connections(most) => write!(
                f,
                "The limit of {} connections is reached. Close unused connections, or raise `connections` in \
                 `[limits]`.",
                count(*most as u64)
            ),
            Self::ConnectRate(most) => write!(
                f,
                "The limit of {} new connections per second from one address is reached. Try again later.",
                count((*most).into())
            ),
            Self::Connecting(most) => write!(
                f,
                "The limit of {} connections from one address that have not sent CONNECT is reached. Try again later.",
                count(*most as u64)
            ),
            Self::ConnectingBytes => f.write_str(
                "The limit of memory for clients that are not connected yet is reached. Try again later, or with a \
                 smaller CONNECT.",
            ),
        }
    }
}
