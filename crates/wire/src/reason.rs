//! Reason codes (§2.4), and the fewer answers that MQTT 3.1.1 has.

use std::fmt;

use crate::PacketType;

macro_rules! reason_codes {
    ($( $name:ident = $value:literal, $words:literal, [$($packet:ident),*]; )*) => {
        /// Reason codes of MQTT 5.0 (§2.4). `Success` also stands for "normal disconnection" and "granted QoS 0".
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
        #[repr(u8)]
        #[allow(missing_docs, reason = "the names are the standard's own")]
        pub enum ReasonCode {
            $( $name = $value, )*
        }

        impl ReasonCode {
            /// Every code.
            pub const ALL: &[Self] = &[$( Self::$name, )*];

            /// The code's name in the standard (§2.4).
            pub fn words(self) -> &'static str {
                match self { $( Self::$name => $words, )* }
            }

            /// The name and the number, for parentheses: `Not authorized, 0x87`.
            pub fn coded(self) -> String {
                format!("{}, 0x{:02X}", self.words(), self as u8)
            }

            /// Whether this packet may carry the code.
            pub fn allowed_in(self, packet: PacketType) -> bool {
                match self { $( Self::$name => [$( PacketType::$packet ),*].contains(&packet), )* }
            }
        }

        impl TryFrom<u8> for ReasonCode {
            type Error = u8;

            fn try_from(byte: u8) -> Result<Self, u8> {
                match byte { $( $value => Ok(Self::$name), )* other => Err(other) }
            }
        }
    };
}

reason_codes! {
    Success = 0x00, "Success", [ConnAck, PubAck, PubRec, PubRel, PubComp, SubAck, UnsubAck, Disconnect, Auth];
    GrantedQoS1 = 0x01, "Granted QoS 1", [SubAck];
    GrantedQoS2 = 0x02, "Granted QoS 2", [SubAck];
    DisconnectWithWill = 0x04, "Disconnect with Will Message", [Disconnect];
    NoMatchingSubscribers = 0x10, "No matching subscribers", [PubAck, PubRec];
    NoSubscriptionExisted = 0x11, "No subscription existed", [UnsubAck];
    ContinueAuthentication = 0x18, "Continue authentication", [Auth];
    ReAuthenticate = 0x19, "Re-authenticate", [Auth];
    Unspecified = 0x80, "Unspecified error", [ConnAck, PubAck, PubRec, SubAck, UnsubAck, Disconnect];
    MalformedPacket = 0x81, "Malformed Packet", [ConnAck, Disconnect];
    ProtocolError = 0x82, "Protocol Error", [ConnAck, Disconnect];
    ImplementationSpecific = 0x83, "Implementation specific error", [ConnAck, PubAck, PubRec, SubAck, UnsubAck, Disconnect];
    UnsupportedProtocolVersion = 0x84, "Unsupported Protocol Version", [ConnAck];
    ClientIdentifierNotValid = 0x85, "Client Identifier not valid", [ConnAck];
    BadUserNameOrPassword = 0x86, "Bad User Name or Password", [ConnAck];
    NotAuthorized = 0x87, "Not authorized", [ConnAck, PubAck, PubRec, SubAck, UnsubAck, Disconnect];
    ServerUnavailable = 0x88, "Server unavailable", [ConnAck];
    ServerBusy = 0x89, "Server busy", [ConnAck, Disconnect];
    Banned = 0x8a, "Banned", [ConnAck];
    ServerShuttingDown = 0x8b, "Server shutting down", [Disconnect];
    BadAuthenticationMethod = 0x8c, "Bad authentication method", [ConnAck, Disconnect];
    KeepAliveTimeout = 0x8d, "Keep Alive timeout", [Disconnect];
    SessionTakenOver = 0x8e, "Session taken over", [Disconnect];
    TopicFilterInvalid = 0x8f, "Topic Filter invalid", [SubAck, UnsubAck, Disconnect];
    TopicNameInvalid = 0x90, "Topic Name invalid", [ConnAck, PubAck, PubRec, Disconnect];
    PacketIdentifierInUse = 0x91, "Packet Identifier in use", [PubAck, PubRec, SubAck, UnsubAck];
    PacketIdentifierNotFound = 0x92, "Packet Identifier not found", [PubRel, PubComp];
    ReceiveMaximumExceeded = 0x93, "Receive Maximum exceeded", [Disconnect];
    TopicAliasInvalid = 0x94, "Topic Alias invalid", [Disconnect];
    PacketTooLarge = 0x95, "Packet too large", [ConnAck, Disconnect];
    MessageRateTooHigh = 0x96, "Message rate too high", [Disconnect];
    QuotaExceeded = 0x97, "Quota exceeded", [ConnAck, PubAck, PubRec, SubAck, Disconnect];
    AdministrativeAction = 0x98, "Administrative action", [Disconnect];
    PayloadFormatInvalid = 0x99, "Payload format invalid", [ConnAck, PubAck, PubRec, Disconnect];
    RetainNotSupported = 0x9a, "Retain not supported", [ConnAck, Disconnect];
    QoSNotSupported = 0x9b, "QoS not supported", [ConnAck, Disconnect];
    UseAnotherServer = 0x9c, "Use another server", [ConnAck, Disconnect];
    ServerMoved = 0x9d, "Server moved", [ConnAck, Disconnect];
    SharedSubscriptionsNotSupported = 0x9e, "Shared Subscriptions not supported", [SubAck, Disconnect];
    ConnectionRateExceeded = 0x9f, "Connection rate exceeded", [ConnAck, Disconnect];
    MaximumConnectTime = 0xa0, "Maximum connect time", [Disconnect];
    SubscriptionIdentifiersNotSupported = 0xa1, "Subscription Identifiers not supported", [SubAck, Disconnect];
    WildcardSubscriptionsNotSupported = 0xa2, "Wildcard Subscriptions not supported", [SubAck, Disconnect];
}

impl ReasonCode {
    /// Whether the code reports a failure (0x80 and above).
    pub fn is_error(self) -> bool {
        self as u8 >= 0x80
    }

    /// The nearest of the answers that a 3.1.1 CONNACK can give (3.1.1 §3.2.2.3).
    pub fn nearest_connect_return(self) -> Self {
        match self {
            Self::Success
            | Self::UnsupportedProtocolVersion
            | Self::ClientIdentifierNotValid
            | Self::BadUserNameOrPassword
            | Self::NotAuthorized => self,
            Self::Banned | Self::BadAuthenticationMethod | Self::TopicNameInvalid => Self::NotAuthorized,
            _ => Self::ServerUnavailable,
        }
    }

    /// The 3.1.1 CONNACK return code of one of the six answers; `None` for the others.
    pub(crate) fn connect_return(self) -> Option<u8> {
        match self {
            Self::Success => Some(0),
            Self::UnsupportedProtocolVersion => Some(1),
            Self::ClientIdentifierNotValid => Some(2),
            Self::ServerUnavailable => Some(3),
            Self::BadUserNameOrPassword => Some(4),
            Self::NotAuthorized => Some(5),
            _ => None,
        }
    }

    pub(crate) fn from_connect_return(code: u8) -> Option<Self> {
        Some(match code {
            0 => Self::Success,
            1 => Self::UnsupportedProtocolVersion,
            2 => Self::ClientIdentifierNotValid,
            3 => Self::ServerUnavailable,
            4 => Self::BadUserNameOrPassword,
            5 => Self::NotAuthorized,
            _ => return None,
        })
    }
}

impl fmt::Display for ReasonCode {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} (0x{:02X})", self.words(), *self as u8)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_code_is_found_by_its_byte_and_belongs_to_a_packet() {
        for &reason in ReasonCode::ALL {
            assert_eq!(ReasonCode::try_from(reason as u8), Ok(reason));
            assert!((1..=15).any(|kind| {
                [PacketType::ConnAck, PacketType::PubAck, PacketType::PubRel, PacketType::SubAck]
                    .into_iter()
                    .chain([PacketType::UnsubAck, PacketType::Disconnect, PacketType::Auth])
                    .any(|packet| packet as u8 == kind && reason.allowed_in(packet))
            }));
        }
    }

    #[test]
    fn any_refusal_has_a_3_1_1_answer_that_is_a_refusal() {
        for &reason in ReasonCode::ALL {
            let code = reason.nearest_connect_return().connect_return();
            assert!(code.is_some_and(|code| (code == 0) == (reason == ReasonCode::Success)));
        }
    }

    #[test]
    fn a_code_is_shown_in_words_and_as_in_the_standard() {
        assert_eq!(ReasonCode::NotAuthorized.to_string(), "Not authorized (0x87)");
    }
}
