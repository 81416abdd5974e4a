//! What comes from the client: runs of messages and their routes.

use std::sync::Arc;

use moorfall_core::{
    Message, Passing, Run, access::Request, bridge::CameBack, measure::Measure, owned::NotOwner, router::Route,
    session::Routed,
};
use moorfall_live::{ears::Wanted, facts::Fact, journeys::Publisher, topics::hierarchy::Noted};
use moorfall_wire::{PacketId, PacketType, QoS, TopicName};

use super::{Awaited, Connection, Published};
use crate::{
    notes,
    sessions::{
        Sessions,
        dispatch::{AnswerDue, By, Handed},
        owners,
        record::SessionRecord,
    },
};

/// Messages of one run at most.
const RUN: usize = 1_024;

impl Connection {
    pub(super) fn route(&mut self, message: Arc<Message>, packet_id: Option<PacketId>) {
        self.counts.messages_in += 1;
        if self.session.is_closed()
            && let Some(record) = &self.record
        {
            let sent = Fact::WillSent { client: record.named(), topic: message.topic.clone() };
            notes::note(&self.broker.live, self.broker.now(), &sent);
        }
        let client_id = self.record.as_ref().map_or("", |record| &record.client_id);
        if let Some(why) = self.broker.live.ways.check(&message, client_id, message.received) {
            return self.came_back(&message, packet_id, why);
        }
        let message = if self.broker.live.recorder.is_on() { self.follow(message) } else { message };
        let route = self.routes.route(&self.broker.sessions.router, &message.topic);
        let qos = message.qos;
        // Each topic has a route of its own.
        let same = self.run_route.as_ref().is_some_and(|running| Arc::ptr_eq(running, route))
            && self.run.last().is_some_and(|last| last.qos == qos);
        // What was found for one message of the run holds for the next.
        let plain = self.answers.is_empty()
            && message.journey() == 0
            && (same && !message.retain || Sessions::is_plain((qos, message.retain), route, self.session.is_kept()));
        if plain {
            if !same || self.run.len() >= RUN {
                let route = Arc::clone(route);
                self.hand_on_run();
                self.run_route = Some(route);
            }
            if let Some(id) = packet_id {
                self.run_answers.push((self.run.len(), id));
            }
            return self.run.push(message);
        }
        let route = Arc::clone(route);
        self.hand_on_run();
        if let Some(why) = self.not_owner(&message, &route) {
            return self.keep_back(qos, packet_id, why);
        }
        self.broker.live.counters.count_by(Measure::MessagesIn, qos, 1);
        let passing = Passing::Messages(std::slice::from_ref(&message));
        self.note_topic(&message.topic, passing, message.weight() as u64);
        let waiting = match (&self.record, packet_id) {
            (Some(record), Some(packet_id)) => Some(AnswerDue { record, packet_id }),
            _ => None,
        };
        let nobody = Arc::default();
        let identity = self.record.as_ref().map_or(&nobody, |record| &record.identity);
        let by = By { identity, waiting };
        let (routed, promise) = self.broker.sessions.distribute(&message, &route, by);
        let Some(id) = packet_id else { return };
        // Acknowledgements leave in the order of the messages ([MQTT-4.6.0-2], [MQTT-4.6.0-3]).
        if promise.is_none() && self.answers.is_empty() {
            let took = self.broker.now() - message.received;
            self.broker.live.counters.time(Measure::PublishToAcknowledge, took, 1);
            self.session.handle_routed(qos, id, routed);
        } else {
            self.answers.push_back((promise, Awaited::Routed(qos, id, routed, message.received)));
        }
    }

    /// Why nobody gets a message, if another client owns its topic.
    fn not_owner(&self, message: &Message, route: &Route<Arc<SessionRecord>>) -> Option<NotOwner> {
        let (by, record) = (route.owned.as_ref()?, self.record.as_ref()?);
        let publisher = owners::Publisher {
            client_id: &record.client_id,
            identity: &record.identity,
            attributes: self.session.access().map(|access| &access.subject().identity.attributes),
            is_will: self.session.is_closed(),
        };
        let why = self.broker.sessions.judge_owner(message, by, publisher)?;
        record.note_not_owner();
        Some(why)
    }

    /// Tells the publisher that nobody gets its message, after the answers to those before it.
    fn keep_back(&mut self, qos: QoS, packet_id: Option<PacketId>, why: NotOwner) {
        let Some(id) = packet_id else { return };
        let routed = Routed::NotOwner(why);
        if self.answers.is_empty() {
            self.session.handle_routed(qos, id, routed);
        } else {
            self.answers.push_back((None, Awaited::Routed(qos, id, routed, self.broker.now())));
        }
    }

    /// A message that bridges have brought once more is acknowledged as the first one is, and goes no further.
    fn came_back(&mut self, message: &Arc<Message>, packet_id: Option<PacketId>, why: CameBack) {
        self.hand_on_run();
        self.broker.live.counters.count_by(Measure::CameBack, why, 1);
        let Some(id) = packet_id else { return };
        // What was promised of the first one may still be written.
        let promise = self.record.as_ref().map(|record| self.broker.sessions.journal.promise(record));
        self.answers.push_back((promise, Awaited::Routed(message.qos, id, Routed::To(1), message.received)));
    }

    /// Records the journey of a message, if that is wanted.
    fn follow(&self, message: Arc<Message>) -> Arc<Message> {
        let (topic, qos, retain) = (message.topic.clone(), message.qos, message.retain);
        let payload = message.payload.clone();
        self.broker.live.recorder.follow(message, || self.origin_of(&topic, qos, retain, &payload))
    }

    /// What the recorder notes of where a message comes from.
    pub(super) fn origin_of(&self, topic: &TopicName, qos: QoS, retain: bool, payload: &[u8]) -> Publisher {
        let access = self.session.access().map(|access| access.explain(Request::Publish { topic, qos, retain }));
        Publisher {
            client_id: self.record.as_ref().map(|record| record.client_id.clone()).unwrap_or_default(),
            identity: self.record.as_ref().map(|record| record.identity.to_string()).unwrap_or_default(),
            access,
            plan: Some(self.broker.design.policy().plan().judge(topic, qos, retain, payload)),
        }
    }

    /// Whether messages may be taken as runs: nothing is to be known of each.
    pub(super) fn takes_runs(&self) -> bool {
        let live = &self.broker.live;
        self.answers.is_empty() && !live.recorder.is_on() && !live.ways.checks_all_of(self.session.version())
    }

    /// Routes messages that came together.
    pub(super) fn route_run(&mut self, run: Run) {
        self.count_packets(PacketType::Publish, run.len() as u64);
        let route = self.routes.route(&self.broker.sessions.router, run.topic());
        if !Sessions::is_plain((run.qos(), false), route, self.session.is_kept()) {
            return run.messages().iter().for_each(|message| self.route(Arc::clone(message), None));
        }
        let route = Arc::clone(route);
        self.hand_on_run();
        self.counts.messages_in += run.len() as u64;
        self.hand_on(run, &route);
    }

    /// Counts messages of one topic in the live hierarchy.
    fn note_topic(&mut self, topic: &TopicName, messages: Passing<'_>, bytes: u64) {
        let Some(record) = &self.record else { return };
        let (live, now) = (&self.broker.live, self.turn);
        let published = match &mut self.published {
            Some(published) if published.topic == *topic => published,
            other => {
                let topic = topic.detached();
                other.insert(Box::new(Published { topic, wanted: Wanted::default(), path: None }))
            }
        };
        live.ears.hear(&published.topic, messages, &mut published.wanted);
        let noted = || Noted { messages, bytes, publisher: &record.identity };
        if !published.path.as_ref().is_some_and(|path| path.note(&live.topics, noted(), now)) {
            published.path = live.topics.note(&published.topic, noted(), now);
        }
    }

    /// Hands messages to their recipients, and notes them.
    fn hand_on(&mut self, mut run: Run, route: &Route<Arc<SessionRecord>>) -> Handed {
        run.set_for_one(route.recipients.len() == 1);
        let run = &Arc::new(run);
        self.broker.live.counters.count_by(Measure::MessagesIn, run.qos(), run.len() as u64);
        self.note_topic(run.topic(), Passing::Run(run), run.weight() as u64);
        self.broker.sessions.distribute_run(run, route.recipients.iter())
    }

    /// Hands the messages of the run to their recipients, and tells the session what became of them.
    pub(super) fn hand_on_run(&mut self) {
        let Some(route) = self.run_route.take() else { return };
        let run = Run::new(self.run.drain(..));
        let (qos, received) = (run.qos(), run.received());
        let handed = self.hand_on(run, &route);
        if self.run_answers.is_empty() {
            return;
        }
        let took = self.broker.now() - received;
        self.broker.live.counters.time(Measure::PublishToAcknowledge, took, self.run_answers.len() as u64);
        for (place, id) in std::mem::take(&mut self.run_answers) {
            let routed =
                if handed.count > 0 && place >= handed.taken { Routed::QueuesFull } else { Routed::To(handed.count) };
            self.session.handle_routed(qos, id, routed);
        }
    }
}
