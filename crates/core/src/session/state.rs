//! What a session keeps when its connection ends (§4.1).
use std::{collections::HashSet, sync::Arc, time::Duration};

use foldhash::fast::RandomState;
use moorfall_wire::{PacketId, QoS, TopicFilter};

use super::{subscribed::Subscribed, subscribing::may_subscribe};
use crate::{Delivery, Granted, Holding, Message, access::Access, in_flight::InFlight};

/// Seconds that a session outlives its connection when it never ends (§3.1.2.11.2).
pub const NEVER: u32 = u32::MAX;

/// What an identifier is in use for.
#[derive(Clone, Debug)]
pub(super) enum InUse {
    /// A QoS 1 message that nobody will be sent again: the session ends with its connection.
    Passing,
    /// A message that is kept until the client has it.
    Sent(Box<Sent>),
}

/// A message that was sent to the client and is not done with.
#[derive(Clone, Debug)]
pub struct Sent {
    /// The message.
    pub delivery: Delivery,
    /// At QoS 2: PUBREC has come, so PUBREL is what is sent again.
    pub released: bool,
}

/// What a session keeps when its connection ends: its subscriptions, what it was sent and has not acknowledged, and
/// the QoS 2 messages that it has sent and not released. What waits to be sent is in its [`crate::Outbox`].
#[derive(Clone, Debug, Default)]
pub struct SessionState {
    pub(super) subscriptions: Subscribed,
    pub(super) in_flight: InFlight<InUse>,
    pub(super) received: HashSet<PacketId, RandomState>,
}

impl SessionState {
    /// The client has acknowledged a message that nobody will be sent again; gives whether that is what the identifier was
    /// in use for.
    pub(super) fn finish_passing(&mut self, id: PacketId) -> bool {
        self.in_flight.remove_if(id, |used| matches!(used, InUse::Passing)).is_some()
    }

    /// Puts a stored subscription back.
    pub fn restore_subscription(&mut self, filter: TopicFilter, granted: Granted) {
        self.subscriptions.insert(filter, granted);
    }

    /// From now on what it holds counts in its identity's share.
    pub fn hold_for(&mut self, holding: Arc<Holding>) {
        self.subscriptions.hold_for(holding);
    }

    /// Puts a stored message back that had been sent; in the order in which they were sent.
    pub fn restore_sent(&mut self, packet_id: PacketId, sent: Sent) {
        self.in_flight.insert_at(packet_id, InUse::Sent(Box::new(sent)));
    }

    /// Puts the identifier of a QoS 2 message back that was received and not released.
    pub fn restore_received(&mut self, packet_id: PacketId) {
        self.received.insert(packet_id);
    }

    /// The subscriptions, in no order.
    pub fn subscriptions(&self) -> impl Iterator<Item = (&TopicFilter, &Granted)> {
        self.subscriptions.iter()
    }

    /// Takes out subscriptions that are not allowed any more, of a session whose client is away.
    pub fn withdraw(&mut self, access: &Access) -> Vec<TopicFilter> {
        let lost = |filter: &&TopicFilter| may_subscribe(access, filter).is_err();
        let lost: Vec<TopicFilter> =
            self.subscriptions.iter().map(|(filter, _)| filter).filter(lost).cloned().collect();
        for filter in &lost {
            self.subscriptions.remove(filter);
        }
        lost
    }

    /// What is kept under this identifier.
    pub(super) fn sent(&self, id: PacketId) -> Option<&Sent> {
        if let InUse::Sent(sent) = self.in_flight.get(id)? { Some(sent) } else { None }
    }

    /// The highest place in the queue that a message in flight had; 0 if none had one.
    pub fn last_sequence(&self) -> u64 {
        let sent = self.in_flight.ids().into_iter().filter_map(|id| self.sent(id));
        sent.map(|sent| sent.delivery.sequence).max().unwrap_or(0)
    }

    /// Messages that were sent and are not done with.
    pub fn in_flight(&self) -> usize {
        self.in_flight.len()
    }

    /// What was sent and is not done with, in the order in which it was sent.
    pub fn into_sent(self) -> Vec<(PacketId, Sent)> {
        let all = self.in_flight.into_ordered().into_iter();
        all.filter_map(|(id, used)| if let InUse::Sent(sent) = used { Some((id, *sent)) } else { None }).collect()
    }

    /// Takes out what came by a shared subscription, is not acknowledged and may be handed to another member: QoS 1
    /// only, since a QoS 2 message that was sent must not go to anybody else ([MQTT-4.8.2-5]).
    pub fn take_shared(&mut self) -> Vec<Delivery> {
        let ids = self.in_flight.ids().into_iter();
        let movable = |id: &PacketId| {
            let sent = self.sent(*id);
            sent.is_some_and(|sent| sent.delivery.qos == QoS::AtLeastOnce && sent.delivery.shared().is_some())
        };
        let ids: Vec<_> = ids.filter(movable).collect();
        let taken = ids.into_iter().filter_map(|id| self.in_flight.remove(id));
        taken.filter_map(|used| if let InUse::Sent(sent) = used { Some(sent.delivery) } else { None }).collect()
    }
}

/// A will that waits for the end of its delay (§3.1.3.2.2).
#[derive(Clone, Debug)]
pub struct DelayedWill {
    /// What is published.
    pub message: Arc<Message>,
    /// How long after the end of the connection.
    pub delay: Duration,
}

/// What is left of a session after its connection.
#[derive(Debug)]
pub struct Parting {
    /// Seconds until the session ends; 0 is now, [`NEVER`] is never.
    pub expiry: u32,
    /// What it keeps.
    pub state: SessionState,
    /// To be published unless the client comes back in time. Only when the session goes on.
    pub will: Option<DelayedWill>,
}
