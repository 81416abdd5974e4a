//! Topic aliases (§3.3.2.3.4): a number that stands for a topic name on one connection, in one direction.

use std::{collections::HashMap, num::NonZeroU16};

use foldhash::fast::RandomState;
use moorfall_wire::TopicName;

/// Why an alias can't be used.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum AliasError {
    /// Higher than the broker said it takes ([MQTT-3.3.2-9]).
    TooHigh { maximum: u16 },
    /// No topic was ever given for it.
    Unknown,
}

/// The client's aliases.
#[derive(Debug, Default)]
pub(crate) struct InboundAliases {
    topics: Vec<Option<TopicName>>,
    maximum: u16,
}

impl InboundAliases {
    pub(crate) fn new(maximum: u16) -> Self {
        Self { topics: Vec::new(), maximum }
    }

    /// The topic of a message: its own, which the alias stands for from now on, or else the one that it stands for
    /// ([MQTT-3.3.2-12]).
    pub(crate) fn resolve(&mut self, topic: TopicName, alias: Option<NonZeroU16>) -> Result<TopicName, AliasError> {
        let Some(alias) = alias else { return Ok(topic) };
        if alias.get() > self.maximum {
            return Err(AliasError::TooHigh { maximum: self.maximum });
        }
        let place = usize::from(alias.get()) - 1;
        if topic.is_empty() {
            return self.topics.get(place).cloned().flatten().ok_or(AliasError::Unknown);
        }
        if self.topics.len() <= place {
            self.topics.resize(place + 1, None);
        }
        // Kept longer than the receive buffer should be.
        self.topics[place] = Some(topic.detached());
        Ok(topic)
    }
}

/// How a topic is written in a PUBLISH to the client.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Written {
    /// In full, and the alias stands for it from now on.
    Introduced(NonZeroU16),
    /// By its alias alone.
    ByAlias(NonZeroU16),
    /// In full: there is no alias left.
    InFull,
}

/// The aliases that the broker gives. The first topics get one, as long as there are some: what a client receives
/// most it tends to receive early, and an alias that changes hands saves nothing.
#[derive(Debug, Default)]
pub(crate) struct OutboundAliases {
    given: HashMap<TopicName, NonZeroU16, RandomState>,
    maximum: u16,
}

/// Topics shorter than this are not worth an alias: it takes three bytes itself.
const WORTH_IT: usize = 8;

impl OutboundAliases {
    pub(crate) fn new(maximum: u16) -> Self {
        Self { given: HashMap::default(), maximum }
    }

    /// Whether the client takes any.
    pub(crate) fn is_on(&self) -> bool {
        self.maximum > 0
    }

    /// How `topic` is to be written now.
    pub(crate) fn write(&self, topic: &TopicName) -> Written {
        if let Some(alias) = self.given.get(topic) {
            return Written::ByAlias(*alias);
        }
        let next = u16::try_from(self.given.len() + 1).ok().and_then(NonZeroU16::new);
        match next.filter(|alias| alias.get() <= self.maximum && topic.len() >= WORTH_IT) {
            None => Written::InFull,
            Some(alias) => Written::Introduced(alias),
        }
    }

    /// A message was sent that introduced the alias.
    pub(crate) fn introduced(&mut self, topic: &TopicName, alias: NonZeroU16) {
        self.given.insert(topic.detached(), alias);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn alias(number: u16) -> Option<NonZeroU16> {
        NonZeroU16::new(number)
    }

    #[test]
    fn an_alias_stands_for_the_last_topic_it_was_given() {
        let mut aliases = InboundAliases::new(2);
        let (first, second): (TopicName, TopicName) = ("a".parse().unwrap(), "b".parse().unwrap());
        let none = TopicName::default();
        assert_eq!(aliases.resolve(none.clone(), alias(1)), Err(AliasError::Unknown));
        assert_eq!(aliases.resolve(first.clone(), alias(1)), Ok(first.clone()));
        assert_eq!(aliases.resolve(none.clone(), alias(1)), Ok(first));
        assert_eq!(aliases.resolve(second.clone(), alias(1)), Ok(second.clone()));
        assert_eq!(aliases.resolve(none.clone(), alias(1)), Ok(second.clone()));
        assert_eq!(aliases.resolve(none, alias(2)), Err(AliasError::Unknown));
        assert_eq!(aliases.resolve(second, alias(3)), Err(AliasError::TooHigh { maximum: 2 }));
    }

    #[test]
    fn aliases_are_given_until_there_are_none_left() {
        let mut aliases = OutboundAliases::new(1);
        let topic: TopicName = "harrowmere/gorge".parse().unwrap();
        assert_eq!(aliases.write(&"short".parse().unwrap()), Written::InFull);
        assert_eq!(aliases.write(&topic), Written::Introduced(NonZeroU16::MIN));
        assert_eq!(aliases.write(&topic), Written::Introduced(NonZeroU16::MIN), "it was not sent");
        aliases.introduced(&topic, NonZeroU16::MIN);
        assert_eq!(aliases.write(&topic), Written::ByAlias(NonZeroU16::MIN));
        assert_eq!(aliases.write(&"harrowmere/tidal".parse().unwrap()), Written::InFull);
    }
}
