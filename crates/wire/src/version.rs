//! Protocol version, quality of service and packet identifier.

use std::{fmt, num::NonZeroU16};

/// Packet identifier, 1 to 65,535 (§2.2.1: zero is never used).
pub type PacketId = NonZeroU16;

/// The versions of the protocol that this crate speaks (§3.1.2.2).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum ProtocolVersion {
    /// MQTT 3.1.1, protocol level 4.
    V311,
    /// MQTT 5.0, protocol version 5.
    V5,
}

impl ProtocolVersion {
    /// The byte that stands for this version in CONNECT.
    pub fn level(self) -> u8 {
        match self {
            Self::V311 => 4,
            Self::V5 => 5,
        }
    }
}

impl fmt::Display for ProtocolVersion {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::V311 => "3.1.1",
            Self::V5 => "5.0",
        })
    }
}

/// Quality of service of a delivery (§4.3).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum QoS {
    /// QoS 0: at most once; no acknowledgement.
    #[default]
    AtMostOnce = 0,
    /// QoS 1: at least once; acknowledged by PUBACK.
    AtLeastOnce = 1,
    /// QoS 2: exactly once; PUBREC, PUBREL, PUBCOMP.
    ExactlyOnce = 2,
}

impl QoS {
    /// The level as a number, 0 to 2.
    pub fn level(self) -> u8 {
        self as u8
    }
}

impl TryFrom<u8> for QoS {
    type Error = u8;

    fn try_from(level: u8) -> Result<Self, u8> {
        match level {
            0 => Ok(Self::AtMostOnce),
            1 => Ok(Self::AtLeastOnce),
            2 => Ok(Self::ExactlyOnce),
            other => Err(other),
        }
    }
}

impl fmt::Display for QoS {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.level())
    }
}
