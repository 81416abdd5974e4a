//! What goes to the client: its subscriptions, their retained messages, and what is queued for it.

use std::{collections::VecDeque, sync::Arc, time::Duration};

use bytes::{Buf, BytesMut};
use moorfall_core::{
    Judged, Judging, Queued, Time,
    measure::Measure,
    router::{RetainedWalk, Subscriber},
    session::{Granted, Handed, Undelivered, Withheld},
};
use moorfall_live::{facts::Fact, journeys::Unsent};
use moorfall_store::SubscriptionRow;
use moorfall_wire::{Packet, PacketType, ProtocolVersion, QoS, TopicFilter};

use super::{Connection, Subscribing, WRITE_AHEAD, Walking};
use crate::{notes, sessions::record::SessionRecord};

/// How long one look at the retained messages serves a walk.
const WALK: Duration = Duration::from_secs(5);

/// Deliveries taken from the queue at a time.
const DELIVERIES: usize = 1_024;

/// Retained messages that are looked up at a time: each takes a look at several levels.
const RETAINED: usize = 128;

/// Pages of retained messages of which none is wanted, in one turn.
const PAGES: usize = 4;

/// What became of a walk over retained messages.
enum Walked {
    /// There are some.
    On,
    /// There may be more, but others have their turn first.
    InVain,
    /// There are no more.
    ToTheEnd,
}

impl Connection {
    /// Moves deliveries from the queue to the client, as many as it takes.
    pub(super) async fn deliver(&mut self) {
        self.send_queued(None);
        self.act().await;
        self.hand_over();
    }

    /// Sends what is queued, as much as the client takes; what the session wants done then is left. The time is asked for if
    /// it is not given and there is something.
    pub(super) fn send_queued(&mut self, mut now: Option<Time>) {
        let Some(record) = self.record.clone() else { return };
        while self.session.is_open() && self.ahead() < WRITE_AHEAD {
            if self.pending.is_empty() && !self.refill(&record) {
                break;
            }
            let now = *now.get_or_insert_with(|| self.broker.now());
            let mut front = self.pending.pop_front();
            if self.walking.is_some()
                && let Some(Queued::One(delivery)) = &mut front
                && delivery.qos > QoS::AtMostOnce
                && record.is_persistent()
                && self.session.room_for(delivery.qos) > 0
            {
                delivery.sequence = record.next_sequence();
                self.broker.sessions.journal.open().file(record.key, delivery);
            }
            let journey = front.as_ref().map_or(0, Queued::journey);
            let (qos, arrived) = front.as_ref().map_or_else(Default::default, |front| (front.qos(), front.received()));
            let handed = self.handover.as_ref().map_or(0, |handover| handover.ahead());
            let handled = self.session.handle_queued(now, &mut front, WRITE_AHEAD.saturating_sub(handed));
            if journey != 0 && handled.sent > 0 {
                self.broker.live.recorder.sent(journey, record.key, self.broker.now());
            }
            self.held -= handled.sent as usize + handled.withheld.len();
            if handled.sent > 0 {
                self.counts.messages_out += handled.sent;
                self.broker.live.counters.count_by(Measure::MessagesOut, qos, handled.sent);
                // What waited while the client was away, or was retained, says nothing of how fast messages are.
                if arrived >= self.origin.at && self.walking.is_none() {
                    self.broker.live.counters.time(Measure::PublishToDeliver, now - arrived, handled.sent);
                }
            }
            for Undelivered { why, message } in handled.withheld {
                self.broker.live.recorder.withheld(message.journey(), record.key, || Unsent::Session(why));
                self.counts.withheld += 1;
                self.broker.live.counters.count_by(Measure::Withheld, why, 1);
                record.note_withheld(why, 1);
                if notes::wants_frequent() {
                    notes::write(&Fact::Withheld { client: record.named(), topic: message.topic.clone(), why });
                }
            }
            if let Some(front) = front {
                // The client takes no more now.
                self.pending.push_front(front);
                break;
            }
        }
    }

    /// Bytes that were made for the client and not taken yet.
    pub(super) fn ahead(&mut self) -> usize {
        self.session.outgoing().remaining() + self.handover.as_ref().map_or(0, |handover| handover.ahead())
    }

    /// Hands on what is not written.
    pub(super) fn hand_over(&mut self) {
        let Some(handover) = &self.handover else { return };
        let weight = self.session.take_handed(&mut self.handed);
        if self.handed.is_empty() {
            return;
        }
        self.counts.bytes_out += weight as u64;
        self.broker.live.counters.count_by(
            Measure::PacketsOut,
            PacketType::Publish,
            self.handed.iter().map(Handed::len).sum::<usize>() as u64,
        );
        if self.tap.is_open() {
            let mut bytes = BytesMut::new();
            for handed in self.handed.iter().cloned().flat_map(Handed::into_messages) {
                // What was decoded once always encodes.
                let _ = Packet::Publish(handed.packet()).encode(ProtocolVersion::V5, &mut bytes);
            }
            self.tap.written(&bytes, ProtocolVersion::V5, self.broker.now());
        }
        handover.give(&mut self.handed, weight);
    }

    /// Takes what is to be sent next: retained messages of new subscriptions first, then what was routed meanwhile.
    /// Gives whether there may be more.
    pub(super) fn refill(&mut self, record: &Arc<SessionRecord>) -> bool {
        match self.walk_on(record) {
            Walked::On => return true,
            Walked::InVain => {
                // What was routed meanwhile is newer than what is retained, and goes behind it.
                record.bell.ring();
                return false;
            }
            Walked::ToTheEnd => {}
        }
        if let Some(page) = record.take(DELIVERIES, &mut self.pending) {
            self.broker.sessions.pager.ask(record, page);
        }
        self.held = self.pending.iter().map(Queued::len).sum();
        if self.pending.is_empty() && self.pending.capacity() > 64 {
            // The memory of a burst or of a long walk is given back.
            self.pending = VecDeque::new();
        }
        !self.pending.is_empty()
    }

    /// Takes the next retained messages of new subscriptions.
    fn walk_on(&mut self, record: &SessionRecord) -> Walked {
        let mut in_vain = 0;
        loop {
            if let Some(walking) = &mut self.walking {
                let Walking { of: (_, granted), place, retained } = &mut **walking;
                let now = self.broker.now();
                // Nobody who reads slowly has the broker hold much of what is no longer retained.
                retained.take_if(|(at, _)| now - *at >= WALK);
                let (_, retained) =
                    retained.get_or_insert_with(|| (now, self.broker.sessions.router.look_at_retained()));
                let page = place.next(retained, RETAINED, now);
                let is_over = page.is_empty();
                for message in page {
                    let judged = {
                        let flags = (message.qos.level(), true);
                        let mut judging = Judging::new(&message.topic, &message.payload, flags, None);
                        record.judge(granted.condition.as_ref(), &mut judging, &message.topic)
                    };
                    let why = match judged {
                        Judged::True => {
                            self.pending.push_back(Queued::One(granted.retained_delivery(message)));
                            continue;
                        }
                        Judged::NotTrue => Withheld::NotTrue,
                        Judged::Failed => Withheld::NoVerdict,
                    };
                    self.broker.sessions.withhold(0, record, why);
                }
                self.held = self.pending.len();
                if self.held > 0 {
                    return Walked::On;
                }
                if !is_over {
                    in_vain += 1;
                    if in_vain == PAGES {
                        return Walked::InVain;
                    }
                    continue;
                }
            }
            if let Some(walking) = self.walking.take() {
                let (filter, granted) = walking.of;
                self.keep_subscription(record, filter, granted);
            }
            match self.retained_due.pop_front_if(|_| self.subscribing == Subscribing::No) {
                Some(of) => {
                    let place = RetainedWalk::new(&of.0);
                    self.walking = Some(Box::new(Walking { of, place, retained: None }));
                }
                None => return Walked::ToTheEnd,
            }
        }
    }

    pub(super) fn subscribe(&mut self, filter: TopicFilter, granted: Granted, send_retained: bool) {
        let record = self.record.clone().expect("only an accepted client subscribes");
        let subscriber = Subscriber { granted: granted.clone(), when: record.when(), handle: Arc::clone(&record) };
        self.broker.sessions.router.subscribe(record.key, &filter, subscriber);
        self.count_subscriptions();
        let qos = granted.options.qos;
        let subscribed = Fact::Subscribed { client: record.named(), filter: filter.clone(), qos };
        notes::note(&self.broker.live, self.broker.now(), &subscribed);
        if let Some(walking) = &mut self.walking
            && walking.of.0 == filter
        {
            walking.of.1 = granted.clone();
        }
        if send_retained {
            self.retained_due.retain(|(known, _)| *known != filter);
            self.retained_due.push_back((filter.clone(), granted.clone()));
        }
        if record.is_persistent() {
            self.subscribing = Subscribing::Asking;
        }
        self.keep_subscription(&record, filter, granted);
    }

    /// Keeps a subscription on disk, with what it is still to be sent.
    pub(super) fn keep_subscription(&self, record: &SessionRecord, filter: TopicFilter, granted: Granted) {
        if record.is_persistent() {
            let due = self.retained_due.iter().chain(self.walking.iter().map(|walking| &walking.of));
            let retained_due = due.into_iter().any(|(known, _)| *known == filter);
            self.broker
                .sessions
                .journal
                .open()
                .subscribe(record.key, SubscriptionRow { filter, granted, retained_due });
        }
    }

    pub(super) fn unsubscribe(&mut self, filter: &TopicFilter) {
        let record = self.record.clone().expect("only an accepted client unsubscribes");
        if record.is_persistent() {
            self.broker.sessions.journal.open().unsubscribe(record.key, filter);
        }
        self.broker.sessions.router.unsubscribe(record.key, [filter]);
        self.retained_due.retain(|(known, _)| known != filter);
        self.walking.take_if(|walking| walking.of.0 == *filter);
        self.count_subscriptions();
        let unsubscribed = Fact::Unsubscribed { client: record.named(), filter: filter.clone() };
        notes::note(&self.broker.live, self.broker.now(), &unsubscribed);
    }
}
