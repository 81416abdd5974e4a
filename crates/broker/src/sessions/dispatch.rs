//! How messages reach the sessions that are to have them, and what of that must survive.

use std::sync::Arc;

use moorfall_core::{
    Message, Passing, Run, Time,
    access::Act,
    measure::Measure,
    router::{Recipient, Route, is_filed},
    session::{Ended, Reason, Routed, Withheld},
};
use moorfall_live::{
    ears::Wanted,
    journeys::{self, Unsent},
    topics::hierarchy::Noted,
};
use moorfall_wire::{PacketId, QoS};

use crate::{
    clock::Clock,
    sessions::{
        Sessions,
        journal::{self, Promise},
        owners::Publisher,
        record::{Queueing, SessionRecord},
    },
};

/// Messages that are dropped at a time: others want the queue and the journal, too.
const DROPPED: usize = 1_024;

/// By whom a message comes.
#[derive(Clone, Copy)]
pub struct By<'a> {
    /// Whose message it is.
    pub identity: &'a Arc<str>,
    /// Present if an answer is due.
    pub waiting: Option<AnswerDue<'a>>,
}

/// A publisher that waits for an answer.
#[derive(Clone, Copy)]
pub struct AnswerDue<'a> {
    /// The publisher's session.
    pub record: &'a Arc<SessionRecord>,
    /// The message's packet identifier.
    pub packet_id: PacketId,
}

/// What became of messages that follow each other.
#[derive(Clone, Copy, Debug, Default)]
pub struct Handed {
    /// To how many sessions they went, without the publisher if it wants none of its own.
    pub count: usize,
    /// So many, from the first, had room in a queue.
    pub taken: usize,
}

impl Handed {
    fn of_one(self) -> Routed {
        if self.count > 0 && self.taken == 0 { Routed::QueuesFull } else { Routed::To(self.count) }
    }
}

/// Connections that one publisher carries messages out to at a time, at most, counted as below.
const CARRIED: usize = 256;

/// Bytes that count as one connection more.
const CARRIED_BYTES: usize = 8 * 1024;

/// Connections between two looks at the clock.
const CLOCK: usize = 8;

/// Carries out what was queued, as long as that does not hold a thread for long; beyond that the tasks of the recipients are
/// woken, which share the work.
struct Hands {
    clock: Clock,
    now: Time,
    carried: usize,
    left: usize,
}

impl Hands {
    fn new(clock: Clock) -> Self {
        Self { clock, now: clock.now(), carried: 0, left: CARRIED }
    }

    /// Something of this weight, bytes, was queued for a session that had nothing.
    fn see_to(&mut self, record: &SessionRecord, weight: usize) {
        if self.left > 0 {
            if self.carried.is_multiple_of(CLOCK) && self.carried > 0 {
                self.now = self.clock.now();
            }
            self.carried += 1;
            self.left = self.left.saturating_sub(1 + weight / CARRIED_BYTES);
            if record.resting.carry_out(self.now) {
                return;
            }
        }
        record.bell.ring();
    }
}

/// What decides whether a message is filed for a recipient.
fn terms(recipient: &Recipient<Arc<SessionRecord>>) -> (QoS, bool) {
    (recipient.qos, recipient.handle.is_persistent())
}

impl Sessions {
    /// Routes a message that no connection has brought: a will, or the service's own.
    pub fn publish(&self, message: &Arc<Message>, identity: &Arc<str>) {
        self.publish_from(message, Publisher { client_id: identity, identity, attributes: None, is_will: false });
    }

    /// Routes the will of a client that has gone.
    pub(super) fn publish_will_of(&self, message: &Arc<Message>, identity: &Arc<str>, client_id: &str) {
        self.publish_from(message, Publisher { client_id, identity, attributes: None, is_will: true });
    }

    fn publish_from(&self, message: &Arc<Message>, from: Publisher<'_>) {
        let identity = from.identity;
        let followed = self.live.recorder.is_on().then(|| {
            let publisher = || journeys::Publisher { identity: identity.to_string(), ..journeys::Publisher::default() };
            self.live.recorder.follow(Arc::clone(message), publisher)
        });
        let message = followed.as_ref().unwrap_or(message);
        let route = self.router.route(&message.topic);
        if route.owned.as_ref().is_some_and(|by| self.judge_owner(message, by, from).is_some()) {
            return;
        }
        let (messages, bytes) = (Passing::Messages(std::slice::from_ref(message)), message.weight() as u64);
        self.live.topics.note(&message.topic, Noted { messages, bytes, publisher: identity }, self.clock.now());
        self.live.ears.hear(&message.topic, messages, &mut Wanted::default());
        self.live.counters.count_by(Measure::MessagesIn, message.qos, 1);
        let by = By { identity, waiting: None };
        self.distribute(message, &route, by);
    }

    /// Publishes a message of the service itself at QoS 0. As the retained one of its topic it is kept in memory alone,
    /// for it is published again and again.
    pub fn announce(&self, message: &Arc<Message>) {
        self.router.retain_own(message);
        let route = self.router.route(&message.topic);
        let (judged, chosen) = self.judge(message, &route);
        for recipient in route.recipients.iter().chain(&judged).chain(chosen) {
            let Some(delivery) = recipient.delivery(message) else { continue };
            let outcome = recipient.handle.push(delivery, |_| {});
            let displaced = outcome.displaced.iter().filter(|left| left.sequence > 0);
            displaced.for_each(|left| self.journal.open().forget(recipient.session, left));
            self.account(message.journey(), recipient, &outcome);
        }
    }

    /// Keeps a message if it is to be retained, and hands it to everyone on the route. What must survive is filed; the
    /// promise is kept when it is safe.
    pub fn distribute(
        &self,
        message: &Arc<Message>,
        route: &Route<Arc<SessionRecord>>,
        By { identity, waiting }: By<'_>,
    ) -> (Routed, Option<Arc<Promise>>) {
        let (judged, chosen) = self.judge(message, route);
        let all = || route.recipients.iter().chain(&judged).chain(chosen.iter().copied());
        let exactly_once = message.qos == QoS::ExactlyOnce;
        let is_persistent = waiting.as_ref().is_some_and(|waiting| waiting.record.is_persistent());
        let received = waiting.as_ref().filter(|_| exactly_once && is_persistent);
        let recipients = all().map(terms);
        if !is_filed(message.qos, message.retain, is_persistent, recipients) {
            let run = Arc::new(Run::new([Arc::clone(message)]));
            let handed = self.distribute_run(&run, all());
            return (handed.of_one(), None);
        }
        // What may stay for long must not borrow a receive buffer.
        let message = &Arc::new(message.detached());
        let mut journal = self.journal.open();
        if message.retain {
            match self.router.retain(message, &self.holding(identity), &self.limits) {
                Err(full) => {
                    self.live.recorder.turn_away(message.journey(), || {
                        Reason::Retained(full).refusal(identity, Act::Publish, &message.topic, None)
                    });
                    return (Routed::RetainedFull(full), None);
                }
                Ok(before) => {
                    let kept = (!message.payload.is_empty()).then_some((message, identity));
                    journal.retain(kept, before.as_ref());
                }
            }
        }
        let mut handed = Handed::default();
        for recipient in all() {
            if let Some(is_taken) = self.push(message, recipient, &mut journal) {
                handed.count += 1;
                handed.taken |= usize::from(is_taken);
            }
        }
        if let Some(waiting) = received {
            journal.received(waiting.record.key, waiting.packet_id);
        }
        // Only a message of which nothing else is promised may be done with before it is written.
        let early = !message.retain && received.is_none();
        let promise = waiting.map(|waiting| match early {
            true => journal.promise_message(waiting.record, message),
            false => journal.promise(waiting.record),
        });
        (handed.of_one(), promise)
    }

    /// Whether messages of this QoS and retain flag take the short way: nothing is kept, filed or chosen among members. At QoS 2 the
    /// identifier is filed if the publisher's session is kept.
    pub fn is_plain(
        (qos, retain): (QoS, bool),
        route: &Route<Arc<SessionRecord>>,
        publisher_is_persistent: bool,
    ) -> bool {
        let recipients = route.recipients.iter().map(terms);
        route.is_plain() && !is_filed(qos, retain, publisher_is_persistent, recipients)
    }

    /// Hands messages that follow each other, and of which nothing is filed, to these recipients.
    pub fn distribute_run<'a>(
        &self,
        run: &Arc<Run>,
        recipients: impl Iterator<Item = &'a Recipient<Arc<SessionRecord>>>,
    ) -> Handed {
        let (mut handed, mut hands) = (Handed::default(), Hands::new(self.clock));
        for recipient in recipients {
            let is_own = recipient.is_own(run.publisher());
            self.live.recorder.lead(run.journey(), recipient, run.qos(), is_own);
            let outcome = recipient.handle.push_run(recipient, run);
            if outcome.first {
                hands.see_to(&recipient.handle, run.weight());
            }
            if !is_own {
                handed.count += 1;
                // What does not fit is at the end.
                handed.taken = handed.taken.max(run.len() - outcome.dropped);
            }
            if !outcome.displaced.is_empty() {
                let mut journal = self.journal.open();
                outcome.displaced.iter().for_each(|left| journal.forget(recipient.session, left));
            }
            self.account(run.journey(), recipient, &outcome);
        }
        handed
    }

    /// Puts a message into one session's queue; gives whether there was room for it, or `None` if it is the session's own
    /// and it wants none of these.
    fn push(
        &self,
        message: &Arc<Message>,
        recipient: &Recipient<Arc<SessionRecord>>,
        journal: &mut journal::OpenBatch<'_>,
    ) -> Option<bool> {
        let delivery = recipient.delivery(message);
        self.live.recorder.lead(message.journey(), recipient, message.qos, delivery.is_none());
        let delivery = delivery?;
        let session = recipient.session;
        let outcome = recipient.handle.push(delivery, |filed| journal.file(session, filed));
        outcome.displaced.iter().for_each(|left| journal.forget(session, left));
        self.account(message.journey(), recipient, &outcome);
        Some(outcome.dropped == 0)
    }

    fn account(&self, journey: u64, recipient: &Recipient<Arc<SessionRecord>>, outcome: &Queueing) {
        if outcome.withheld > 0 {
            let why = outcome.why.unwrap_or(Withheld::QueueFull);
            self.live.counters.count_by(Measure::Withheld, why, outcome.withheld);
        }
        self.note_outcome(journey, &recipient.handle, outcome);
        if outcome.end {
            self.registry.end_soon(&recipient.handle, Ended::QueueFull);
        }
    }

    /// Drops what waits for a session since before a time; gives how many messages.
    pub fn drop_older(&self, record: &SessionRecord, before: Time) -> u64 {
        let mut count = 0;
        loop {
            let older = record.take_older(before, DROPPED);
            count += self.forget(record, &older, || Unsent::Session(Withheld::Expired)) as u64;
            if older.len() < DROPPED {
                break;
            }
        }
        record.note_withheld(Withheld::Expired, count);
        if count > 0 {
            self.live.counters.count_by(Measure::Withheld, Withheld::Expired, count);
        }
        count
    }

    /// Notes for the recorder what a push did.
    pub fn note_outcome(&self, journey: u64, record: &SessionRecord, outcome: &Queueing) {
        if let Some(why) = outcome.why {
            self.live.recorder.withheld(journey, record.key, || Unsent::Session(why));
        }
        for left in &outcome.displaced {
            self.live.recorder.withheld(left.journey, record.key, || Unsent::Displaced);
        }
    }
}
