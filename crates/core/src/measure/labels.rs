//! What measures are told apart by.

use moorfall_wire::{PacketType, QoS};
use strum::{IntoStaticStr, VariantNames};

use crate::{
    bridge::{CameBack, Direction, NotCarried},
    session::{EndedKind, NotAcceptedKind, ReasonKind, Withheld},
};

/// What a measure is told apart by; each with a closed list of labels.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum By {
    /// It is one number.
    Nothing,
    /// The QoS: of what arrives the publisher's, of what is sent the receiver's.
    Qos,
    /// The type of a packet.
    Packet,
    /// Why a message was not sent.
    Withheld,
    /// Why an attempt was refused.
    Refused,
    /// Why a connection was refused.
    NotAccepted,
    /// Why a connection ended.
    Ended,
    /// Which way a bridge carries.
    Direction,
    /// Why a bridge did not carry a message on.
    NotCarried,
    /// Why a message that came by a bridge was not passed on.
    CameBack,
    /// How much of what was timed took no longer.
    Quantile,
}

impl By {
    /// Its labels, in the order of their places.
    pub const fn labels(self) -> &'static [&'static str] {
        match self {
            Self::Nothing => &[],
            Self::Qos => &["0", "1", "2"],
            Self::Packet => &PACKETS,
            Self::Withheld => Withheld::VARIANTS,
            Self::Refused => ReasonKind::VARIANTS,
            Self::NotAccepted => NotAcceptedKind::VARIANTS,
            Self::Ended => EndedKind::VARIANTS,
            Self::Direction => Direction::VARIANTS,
            Self::NotCarried => NotCarried::VARIANTS,
            Self::CameBack => CameBack::VARIANTS,
            Self::Quantile => Quantile::VARIANTS,
        }
    }

    /// What its labels are: a key for machines.
    pub const fn key(self) -> &'static str {
        match self {
            Self::Nothing => "",
            Self::Qos => "qos",
            Self::Packet => "packet",
            Self::Withheld | Self::Refused | Self::NotAccepted | Self::Ended | Self::NotCarried | Self::CameBack => {
                "reason"
            }
            Self::Direction => "direction",
            Self::Quantile => "quantile",
        }
    }
}

/// Names of packet types as the standard writes them, in the order of their numbers (§2.1.2).
const PACKETS: [&str; 15] = [
    "CONNECT",
    "CONNACK",
    "PUBLISH",
    "PUBACK",
    "PUBREC",
    "PUBREL",
    "PUBCOMP",
    "SUBSCRIBE",
    "SUBACK",
    "UNSUBSCRIBE",
    "UNSUBACK",
    "PINGREQ",
    "PINGRESP",
    "DISCONNECT",
    "AUTH",
];

/// What of the times that were taken is told.
#[derive(Clone, Copy, Debug, PartialEq, Eq, IntoStaticStr, VariantNames)]
#[strum(serialize_all = "kebab-case")]
pub enum Quantile {
    /// Half of them were no longer.
    Median,
    /// 99 of 100 were no longer.
    P99,
    /// The longest.
    Longest,
}

/// Something that a measure is told apart by.
pub trait Label: Copy {
    /// Which.
    const BY: By;

    /// Its place among the labels.
    fn place(self) -> usize;
}

macro_rules! labels {
    ($($type:ty: $by:ident, $first:literal;)+) => {
        $(impl Label for $type {
            const BY: By = By::$by;

            fn place(self) -> usize {
                self as usize - $first
            }
        })+
    };
}

labels! {
    QoS: Qos, 0;
    PacketType: Packet, 1;
    Withheld: Withheld, 0;
    ReasonKind: Refused, 0;
    NotAcceptedKind: NotAccepted, 0;
    EndedKind: Ended, 0;
    Direction: Direction, 0;
    NotCarried: NotCarried, 0;
    CameBack: CameBack, 0;
    Quantile: Quantile, 0;
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn labels_stand_in_the_order_of_their_places() {
        for packet in PacketType::ALL {
            assert_eq!(PACKETS[packet.place()], packet.to_string());
        }
        assert_eq!(By::Qos.labels()[QoS::ExactlyOnce.place()], "2");
        assert_eq!(By::Withheld.labels()[Withheld::Gone.place()], "gone");
        assert_eq!(By::Ended.labels()[EndedKind::TakenOver.place()], "taken-over");
        assert_eq!(By::Refused.labels()[ReasonKind::Filter.place()], "filter");
        assert_eq!(By::NotAccepted.labels()[NotAcceptedKind::Anonymous.place()], "anonymous");
        assert_eq!(By::Quantile.labels()[Quantile::P99.place()], "p99");
    }
}
