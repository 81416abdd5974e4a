//! Control packet types (§2.1.2).

use std::fmt;

/// Control packet types (§2.1.2).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[allow(missing_docs, reason = "the names are the standard's own")]
pub enum PacketType {
    Connect = 1,
    ConnAck = 2,
    Publish = 3,
    PubAck = 4,
    PubRec = 5,
    PubRel = 6,
    PubComp = 7,
    Subscribe = 8,
    SubAck = 9,
    Unsubscribe = 10,
    UnsubAck = 11,
    PingReq = 12,
    PingResp = 13,
    Disconnect = 14,
    Auth = 15,
}

impl PacketType {
    /// All of them, by their numbers.
    pub const ALL: [Self; 15] = [
        Self::Connect,
        Self::ConnAck,
        Self::Publish,
        Self::PubAck,
        Self::PubRec,
        Self::PubRel,
        Self::PubComp,
        Self::Subscribe,
        Self::SubAck,
        Self::Unsubscribe,
        Self::UnsubAck,
        Self::PingReq,
        Self::PingResp,
        Self::Disconnect,
        Self::Auth,
    ];

    /// The flags that the fixed header must carry; `None` for PUBLISH, whose flags have meaning (§2.1.3).
    pub(crate) fn required_flags(self) -> Option<u8> {
        match self {
            Self::Publish => None,
            Self::PubRel | Self::Subscribe | Self::Unsubscribe => Some(0b0010),
            _ => Some(0),
        }
    }
}

impl fmt::Display for PacketType {
    /// The name as the standard writes it, such as `PUBLISH`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&format!("{self:?}").to_uppercase())
    }
}
