//! What a subscription was granted.

use std::sync::Arc;

use moorfall_wire::{SubscriptionOptions, VariableInt};

use crate::{Delivery, Message, Via};

/// One subscription as it was granted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Granted {
    /// How messages are delivered; the QoS is the granted one.
    pub options: SubscriptionOptions,
    /// Comes back with each message that matches (§3.8.2.1.2).
    pub identifier: Option<VariableInt>,
}

impl Granted {
    /// A retained message as this subscription brings it (§3.3.1.3).
    pub fn retained_delivery(&self, message: Arc<Message>) -> Delivery {
        let qos = message.qos.min(self.options.qos);
        let via = self.identifier.map(|identifier| Arc::new(Via { identifiers: vec![identifier], shared: None }));
        Delivery { via, ..Delivery::new(message, qos, true) }
    }
}
