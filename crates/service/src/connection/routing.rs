//! What comes from the client: runs of messages and their routes.

use std::sync::Arc;

use moorfall_core::{Message, Run, router::Recipient, session::Routed};
use moorfall_wire::{PacketId, TopicName};

use super::{Answer, Connection};
use crate::broker::{Broker, Waiting};

/// Messages of one run at most.
const RUN: usize = 1_024;

impl Connection {
    pub(super) fn route(&mut self, message: Arc<Message>, packet_id: Option<PacketId>) {
        self.batch.messages_in += 1;
        let route = self.routes.route(&self.broker.router, &message.topic);
        let qos = message.qos;
        // Each topic has a route of its own.
        let same = self.run_route.as_ref().is_some_and(|running| Arc::ptr_eq(running, route))
            && self.run.last().is_some_and(|last| last.qos == qos);
        // What was found for one message of the run holds for the next.
        let plain = self.answers.is_empty()
            && (same && !message.retain || Broker::is_plain(&message, route, self.session.is_kept()));
        let (routed, promise) = if plain {
            let own = |recipient: &&Recipient<_>| recipient.is_own(message.publisher);
            // Nobody asks for the number at QoS 0.
            let count = packet_id.map_or(0, |_| route.recipients.len() - route.recipients.iter().filter(own).count());
            if !same || self.run.len() >= RUN {
                let route = Arc::clone(route);
                self.hand_on_run();
                self.run_route = Some(route);
            }
            self.run.push(message);
            (Routed::To(count), None)
        } else {
            let route = Arc::clone(route);
            self.hand_on_run();
            self.note_topic(&message.topic, 1, message.weight() as u64);
            let waiting = match (&self.record, packet_id) {
                (Some(record), Some(packet_id)) => Some(Waiting { record, packet_id }),
                _ => None,
            };
            self.broker.distribute(&message, &route, waiting, &mut self.batch)
        };
        let Some(id) = packet_id else { return };
        // Acknowledgements leave in the order of the messages ([MQTT-4.6.0-2], [MQTT-4.6.0-3]).
        if promise.is_none() && self.answers.is_empty() {
            self.session.handle_routed(qos, id, routed);
        } else {
            self.answers.push_back((promise, Answer::Routed(qos, id, routed)));
        }
    }

    /// Counts messages of one topic in the live hierarchy.
    pub(super) fn note_topic(&mut self, topic: &TopicName, messages: u64, bytes: u64) {
        let Some(record) = &self.record else { return };
        let now = self.broker.clock.now();
        if let Some((noted, path)) = &self.noted
            && noted == topic
            && path.note(messages, bytes, &record.identity, now)
        {
            return;
        }
        let path = self.broker.topics.note(topic, messages, bytes, &record.identity, now);
        self.noted = path.map(|path| (topic.detached(), path));
    }

    /// Hands the messages of the run to their recipients.
    pub(super) fn hand_on_run(&mut self) {
        if let Some(route) = self.run_route.take() {
            let run = Arc::new(Run::new(self.run.drain(..)));
            self.note_topic(run.topic(), run.messages().len() as u64, run.weight() as u64);
            self.broker.distribute_run(&run, route.recipients.iter(), &mut self.batch);
        }
    }
}
