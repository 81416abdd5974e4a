//! What the other broker said when it let the bridge in, and what that means for the mappings.

use std::fmt;

use moorfall_wire::{ConnAck, ProtocolVersion, QoS};

/// What the remote takes (§3.2.2.3).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct RemoteTerms {
    /// The version that is spoken with it.
    pub version: ProtocolVersion,
    /// Whether it goes on with a session.
    pub session_present: bool,
    /// The highest QoS that it takes.
    pub highest_qos: QoS,
    /// Whether it has retained messages.
    pub retained: bool,
    /// The largest packet that it takes, bytes; any if absent.
    pub packet_size: Option<usize>,
    /// QoS 1 and 2 messages at a time.
    pub receive_maximum: u16,
    /// The highest topic alias that it takes.
    pub topic_aliases: u16,
    /// Whether it has subscriptions with wildcards.
    pub wildcards: bool,
    /// The keep alive that it sets, seconds.
    pub keep_alive: Option<u16>,
}

impl RemoteTerms {
    /// What a CONNACK says.
    pub fn new(version: ProtocolVersion, connack: &ConnAck) -> Self {
        let said = &connack.properties;
        Self {
            version,
            session_present: connack.session_present,
            highest_qos: match said.maximum_qos {
                None => QoS::ExactlyOnce,
                Some(true) => QoS::AtLeastOnce,
                Some(false) => QoS::AtMostOnce,
            },
            retained: said.retain_available.unwrap_or(true),
            packet_size: said.maximum_packet_size.map(|size| size.get() as usize),
            receive_maximum: said.receive_maximum.map_or(u16::MAX, Into::into),
            topic_aliases: said.topic_alias_maximum.unwrap_or(0),
            wildcards: said.wildcard_subscription_available.unwrap_or(true),
            keep_alive: said.server_keep_alive,
        }
    }
}

/// Why a message that a bridge had was not carried on.
#[derive(
    Clone,
    Copy,
    Debug,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    strum::VariantNames,
    strum::VariantArray,
    strum::IntoStaticStr,
)]
#[strum(serialize_all = "kebab-case")]
pub enum NotCarried {
    /// No mapping takes its topic.
    NotCovered,
    /// Nothing is left of its name.
    Nameless,
    /// The mapping's condition is not true of it.
    Condition,
    /// The mapping's rate is used up.
    Rate,
    /// It clears a retained message, and the mapping does not carry that.
    Clearing,
    /// It is larger than the remote takes.
    TooLarge,
    /// It has come by this bridge, or has passed the other side already.
    CameFromThere,
    /// It is what was sent and came back.
    Echo,
    /// The retained message is there already, the same.
    Unchanged,
    /// The other side refused it.
    Refused,
}

/// Why a message that came by a bridge is not passed on here.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, strum::VariantNames, strum::IntoStaticStr)]
#[strum(serialize_all = "kebab-case")]
pub enum CameBack {
    /// It says that it has passed this broker.
    PassedHere,
    /// It has come before, by another way.
    CameBefore,
    /// It may have passed a link that does not tell ways, and is the same as one that was sent from here.
    SentFromHere,
}

impl NotCarried {
    /// Its place among all.
    pub fn place(self) -> usize {
        self as usize
    }
}

impl fmt::Display for NotCarried {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::NotCovered => "no mapping takes its topic",
            Self::Nameless => "nothing is left of its name",
            Self::Condition => "the condition is not true of it",
            Self::Rate => "the rate of the mapping was used up",
            Self::Clearing => "it clears a retained message, which the mapping does not carry",
            Self::TooLarge => "it is larger than the remote takes",
            Self::CameFromThere => "it had come from there",
            Self::Echo => "it was sent there and came back",
            Self::Unchanged => "the same retained message is there already",
            Self::Refused => "the other side refused it",
        })
    }
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    use moorfall_wire::ReasonCode;
    use strum::VariantArray;

    use super::*;

    fn connack(change: impl FnOnce(&mut moorfall_wire::ConnAckProperties)) -> ConnAck {
        let mut properties = Default::default();
        change(&mut properties);
        ConnAck { session_present: true, reason: ReasonCode::Success, properties }
    }

    #[test]
    fn what_is_not_said_is_what_the_standard_says() {
        let terms = RemoteTerms::new(ProtocolVersion::V5, &connack(|_| {}));
        let usual = RemoteTerms {
            version: ProtocolVersion::V5,
            session_present: true,
            highest_qos: QoS::ExactlyOnce,
            retained: true,
            packet_size: None,
            receive_maximum: 65_535,
            topic_aliases: 0,
            wildcards: true,
            keep_alive: None,
        };
        assert_eq!(terms, usual);
        for (said, highest_qos) in [(false, QoS::AtMostOnce), (true, QoS::AtLeastOnce)] {
            let terms = RemoteTerms::new(ProtocolVersion::V5, &connack(|said_of| said_of.maximum_qos = Some(said)));
            assert_eq!(terms, RemoteTerms { highest_qos, ..usual });
        }
    }

    #[test]
    fn each_reason_has_words_and_a_name_of_its_own() {
        let words: HashSet<String> = NotCarried::VARIANTS.iter().map(NotCarried::to_string).collect();
        let names: HashSet<&str> = NotCarried::VARIANTS.iter().map(<&str>::from).collect();
        assert_eq!((words.len(), names.len()), (NotCarried::VARIANTS.len(), NotCarried::VARIANTS.len()));
        let places: Vec<usize> = NotCarried::VARIANTS.iter().map(|why| why.place()).collect();
        assert_eq!(places, (0..NotCarried::VARIANTS.len()).collect::<Vec<_>>());
    }
}
