//! Messages to the client.

use std::{fmt, sync::Arc};

use moorfall_wire::{PublishProperties, QoS};

use super::{Phase, Session};
use crate::{Delivery, Time};

/// Why a message that was routed to a session was not sent to it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Withheld {
    /// The session's queue was at its bound.
    QueueFull,
    /// It is larger than the client takes ([MQTT-3.1.2-25]).
    TooLarge,
    /// Its life ended while it waited ([MQTT-3.3.2-5]).
    Expired,
    /// A rule denies this topic within an allowed filter.
    NotAllowed,
    /// The session is over.
    Gone,
}

impl fmt::Display for Withheld {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::QueueFull => "the session's queue is full",
            Self::TooLarge => "larger than the client takes",
            Self::Expired => "expired while it waited",
            Self::NotAllowed => "a rule denies the topic",
            Self::Gone => "the session is over",
        })
    }
}

impl Session {
    /// Whether a delivery at `qos` can be sent now; false while the client has as many unacknowledged as it takes
    /// ([MQTT-3.3.4-9]).
    pub fn can_deliver(&self, qos: QoS) -> bool {
        match &self.phase {
            Phase::Open(open) => qos == QoS::AtMostOnce || open.in_flight.has_room(),
            _ => false,
        }
    }

    /// Sends a message to the client. To be called only while [`Session::can_deliver`] holds for its QoS.
    pub fn handle_delivery(&mut self, now: Time, delivery: &Delivery) -> Result<(), Withheld> {
        let Phase::Open(open) = &mut self.phase else { return Err(Withheld::Gone) };
        let Delivery { message, qos, retain } = delivery;
        if open.access.withholds(&message.topic) {
            return Err(Withheld::NotAllowed);
        }
        let acknowledged = *qos != QoS::AtMostOnce;
        // [MQTT-3.3.2-6]: the time that the message waited is taken off, so its encoding is this receiver's own.
        let own = match message.expiry_left(now) {
            None => None,
            Some(0) => return Err(Withheld::Expired),
            left => {
                let properties = PublishProperties { message_expiry_interval: left, ..message.properties.clone() };
                message.encode(self.version, acknowledged, &properties)
            }
        };
        let encoded = own.as_ref().or_else(|| message.encoded(self.version, acknowledged)).ok_or(Withheld::TooLarge)?;
        if encoded.size() > self.client_packet_size {
            return Err(Withheld::TooLarge);
        }
        let packet_id = if acknowledged {
            Some(open.in_flight.insert(Arc::clone(message)).ok_or(Withheld::QueueFull)?)
        } else {
            None
        };
        self.outgoing.put_publish(encoded, *qos, *retain, packet_id);
        Ok(())
    }
}
