//! What a subscription was granted.

use std::sync::Arc;

use moorfall_wire::{SubscriptionOptions, VariableInt};

use crate::{Condition, Delivery, Message, TopicSet, Via};

/// The user property of a SUBSCRIBE by which a client asks for those messages alone of which an expression is true, of all
/// filters of that packet (§3.8.2.1.3).
pub const ONLY_WHERE: &str = "only-where";

/// The value of the same property in the SUBACK: the broker judges the expression (§3.9.2.1.3).
pub const JUDGED: &str = "judged";

/// One subscription as it was granted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Granted {
    /// How messages are delivered; the QoS is the granted one.
    pub options: SubscriptionOptions,
    /// Comes back with each message that matches (§3.8.2.1.2).
    pub identifier: Option<VariableInt>,
    /// Which messages the subscriber asked for; all if absent.
    pub condition: Option<Arc<Condition>>,
}

/// Of messages of some topics, which an identity gets, as the design says.
#[derive(Clone, Debug)]
pub struct When {
    /// The name of the condition in the design.
    pub name: Arc<str>,
    /// Which topics.
    pub topics: Vec<TopicSet>,
    /// Which messages.
    pub condition: Arc<Condition>,
}

impl PartialEq for When {
    fn eq(&self, other: &Self) -> bool {
        let topics = |when: &Self| when.topics.iter().map(ToString::to_string).collect::<Vec<_>>();
        self.name == other.name && self.condition == other.condition && topics(self) == topics(other)
    }
}

impl When {
    /// Whether it is about messages of this topic.
    pub fn is_about(&self, topic: &str) -> bool {
        self.topics.iter().any(|topics| topics.holds(topic))
    }
}

impl Granted {
    /// A retained message as this subscription brings it (§3.3.1.3).
    pub fn retained_delivery(&self, message: Arc<Message>) -> Delivery {
        let qos = message.qos.min(self.options.qos);
        let via = self.identifier.map(|identifier| Arc::new(Via { identifiers: vec![identifier], shared: None }));
        Delivery { via, ..Delivery::new(message, qos, true) }
    }
}
