//! What waits in a queue.

use moorfall_wire::{QoS, TopicFilter};

use crate::{Delivery, Message, Part, Time};

/// What a message takes in memory beside payload, topic and properties, about, bytes.
pub(crate) const OVERHEAD: usize = 400;

/// What waits in a queue.
#[derive(Clone, Debug)]
pub enum Queued {
    /// One message.
    One(Delivery),
    /// Messages that follow each other. At least one is left.
    Part(Part),
}

impl Queued {
    /// How many messages.
    pub fn len(&self) -> usize {
        match self {
            Self::One(_) => 1,
            Self::Part(part) => part.len(),
        }
    }

    /// Whether there is no message.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// At which QoS they are sent.
    pub fn qos(&self) -> QoS {
        match self {
            Self::One(delivery) => delivery.qos,
            Self::Part(part) => part.qos,
        }
    }

    /// The shared subscription that they came by.
    pub fn shared(&self) -> Option<&TopicFilter> {
        match self {
            Self::One(delivery) => delivery.shared(),
            Self::Part(part) => part.shared(),
        }
    }

    /// The number under which the journey of what waits here is recorded; 0 if it is not.
    pub fn journey(&self) -> u64 {
        match self {
            Self::One(delivery) => delivery.message.journey(),
            Self::Part(part) => part.run().journey(),
        }
    }

    /// The first of them.
    pub fn message(&self) -> Option<&Message> {
        match self {
            Self::One(delivery) => Some(&delivery.message),
            Self::Part(part) => part.first().map(|first| &**first),
        }
    }

    /// When the first of them arrived.
    pub fn received(&self) -> Time {
        match self {
            Self::One(delivery) => delivery.message.received,
            Self::Part(part) => part.run().received(),
        }
    }

    pub(crate) fn weight(&self) -> usize {
        match self {
            Self::One(delivery) => delivery.message.weight(),
            Self::Part(part) => part.weight(),
        }
    }

    /// What it takes in memory, about, bytes.
    pub(crate) fn cost(&self) -> usize {
        self.weight() + self.len() * OVERHEAD
    }
}

impl IntoIterator for Queued {
    type Item = Delivery;
    type IntoIter = std::iter::Chain<std::option::IntoIter<Delivery>, std::iter::Flatten<std::option::IntoIter<Part>>>;

    fn into_iter(self) -> Self::IntoIter {
        let (one, part) = match self {
            Self::One(delivery) => (Some(delivery), None),
            Self::Part(part) => (None, Some(part)),
        };
        one.into_iter().chain(part.into_iter().flatten())
    }
}
