//! How sessions begin, wait for their clients, go on and end.

use std::{
    collections::VecDeque,
    sync::{Arc, atomic::Ordering},
};

use moorfall_core::{
    Delivery, Granted, Holding, Left, Message, Outbox, Queued, SessionKey,
    access::Request,
    measure::{BusyOf, Measure},
    names,
    session::{Ended, NotAccepted, Parting, Reason, Refusal, Withheld},
};
use moorfall_live::{facts::Fact, journeys::Unsent};
use moorfall_store::SessionRow;
use moorfall_wire::{QoS, TopicFilter};

use crate::{
    judge::Rights,
    notes,
    sessions::judged::{judging, load},
    sessions::{
        Sessions,
        record::{NewSession, Parked, Place, RetainedDue, SessionRecord, Walk},
        registry::Newcomer,
    },
};

/// Messages that are forgotten at a time: others want the journal, too.
const FORGOTTEN: usize = 1_024;

impl Sessions {
    /// Lets a client in, after an earlier connection with its client identifier has gone: begins a session, or goes on
    /// with the one that is there. A session of another identity stays, and the newcomer is refused: nobody can push
    /// another identity's client out, or read its messages.
    pub async fn admit(&self, newcomer: &Newcomer) -> Result<(Arc<SessionRecord>, Option<Box<Parked>>), NotAccepted> {
        let is_tied = self.judge.is_tied(&newcomer.client_id, &newcomer.identity);
        if is_tied == Some(false) {
            return Err(NotAccepted::ClientIdReserved(newcomer.client_id.clone()));
        }
        let holding = self.holding(&newcomer.identity);
        loop {
            let known = {
                let mut sessions = self.registry.sessions.lock();
                match sessions.get(&newcomer.client_id) {
                    Some(known) => Arc::clone(known),
                    None => {
                        if let Some(why) = names::fault(&newcomer.client_id) {
                            return Err(NotAccepted::ClientIdInvalid(newcomer.client_id.clone(), why));
                        }
                        // An identity's first session is accepted: others can't keep it out.
                        let is_first = holding.sessions.held() == 0;
                        if sessions.len() >= self.limits.sessions && !is_first {
                            return Err(NotAccepted::Sessions(self.limits.sessions));
                        }
                        if is_first {
                            holding.sessions.force(1);
                        } else if !holding.sessions.take(1) {
                            return Err(NotAccepted::SessionsOfIdentity(holding.sessions.most()));
                        }
                        let record = self.new_session(newcomer, Arc::clone(&holding));
                        sessions.insert(newcomer.client_id.clone(), Arc::clone(&record));
                        self.registry.connected.fetch_add(1, Ordering::Relaxed);
                        return Ok((record, None));
                    }
                }
            };
            if known.identity != newcomer.identity {
                if is_tied != Some(true) {
                    return Err(NotAccepted::ClientIdInUse(newcomer.client_id.clone()));
                }
                // Whoever the identifier was given to takes it from whoever had it before.
                if let Some(link) = known.link() {
                    known.end(Ended::GivenToAnother, true);
                    link.gone.cancelled().await;
                }
                self.end_away(&known, &Ended::GivenToAnother);
                continue;
            }
            if let Some(link) = known.link() {
                known.end(Ended::TakenOver, false);
                link.gone.cancelled().await;
            } else if newcomer.clean_start {
                self.finish(&known);
            } else if let Some(parked) = self.go_on(&known, newcomer) {
                return Ok((known, Some(parked)));
            }
        }
    }

    fn new_session(&self, newcomer: &Newcomer, holding: Arc<Holding>) -> Arc<SessionRecord> {
        let new = NewSession {
            key: self.next_key(),
            client_id: newcomer.client_id.clone(),
            identity: Arc::clone(&newcomer.identity),
            began_at: self.clock.now(),
            kept: newcomer.expiry > 0,
        };
        Arc::new(SessionRecord::new(new, Place::Connected(Arc::clone(&newcomer.link)), holding, &newcomer.limits))
    }

    /// A client comes back; `None` if it is not parked any more.
    fn go_on(&self, record: &SessionRecord, newcomer: &Newcomer) -> Option<Box<Parked>> {
        let mut place = record.place.lock();
        if !matches!(*place, Place::Parked(_)) {
            return None;
        }
        // What waits in the database alone is sent in its order, so what comes meanwhile has to be there, too.
        record.set_kept(newcomer.expiry > 0 || record.has_shelved());
        let Place::Parked(parked) = record.set_place(&mut place, Place::Connected(Arc::clone(&newcomer.link))) else {
            return None;
        };
        record.attend(&newcomer.limits);
        self.registry.connected.fetch_add(1, Ordering::Relaxed);
        Some(parked)
    }

    /// The connection of a session is over: the session waits for its client, or ends too.
    pub fn part(
        &self,
        record: &Arc<SessionRecord>,
        parting: Parting,
        retained_due: VecDeque<RetainedDue>,
        walk: Option<Walk>,
    ) {
        let Parting { expiry, state, will } = parting;
        let now = self.clock.now();
        self.look_at(record);
        let after = |seconds: u32| now + std::time::Duration::from_secs(seconds.into());
        record.in_flight.store(state.in_flight(), Ordering::Relaxed);
        record.held.store(0, Ordering::Relaxed);
        record.subscriptions.store(state.subscriptions().count(), Ordering::Relaxed);
        let parked = Box::new(Parked {
            state,
            retained_due,
            walk,
            expiry,
            since: now,
            ends: (expiry != moorfall_core::session::NEVER).then(|| after(expiry)),
            over: None,
            will: will.map(|will| (now + will.delay, will.message)),
        });
        let gone = {
            let mut batch = self.journal.open();
            let mut place = record.place.lock();
            if expiry > 0 {
                batch.put_session(record.key, row(record, &parked));
                self.registry.set_due(record, &parked);
            }
            let Place::Connected(link) = record.set_place(&mut place, Place::Parked(parked)) else { return };
            link
        };
        self.registry.connected.fetch_sub(1, Ordering::Relaxed);
        let unsendable = record.take_if(|entry| entry.qos() == QoS::AtMostOnce);
        for entry in &unsendable {
            self.live.recorder.withheld(entry.journey(), record.key, || Unsent::Away);
        }
        let unsendable = unsendable.iter().map(Queued::len).sum::<usize>() as u64;
        record.note_withheld(Withheld::Gone, unsendable);
        self.live.counters.count_by(Measure::Withheld, Withheld::Gone, unsendable);
        if expiry == 0 {
            self.finish(record);
        } else {
            // What was this member's turn and is not sent yet goes to one that is there.
            let movable =
                record.take_if(|entry| entry.shared().is_some_and(|filter| self.has_other_member(filter, record.key)));
            self.hand_on(record, movable.into_iter().flatten());
            let _all_are_filed = self.journal.open();
            record.leave();
        }
        gone.gone.cancel();
    }

    /// What a session has sent and received since the last look makes it, and its identity, busy.
    pub fn look_at(&self, record: &SessionRecord) {
        let now = self.clock.now();
        let more = record.look(now);
        if more.messages_in > 0 {
            self.live.heard.note(&record.identity, &record.client_id, now);
        }
        let counts = (more.messages_in + more.messages_out, more.bytes_in + more.bytes_out);
        if counts != (0, 0) {
            self.live.busiest.add(BusyOf::Sessions, &record.client_id.as_str().into(), counts, now);
            self.live.busiest.add(BusyOf::Identities, &record.identity, counts, now);
        }
    }

    /// Ends a session whose client is away, and says why. That of a connected client is not touched.
    pub fn end_away(&self, record: &Arc<SessionRecord>, why: &Ended) {
        if self.finish(record) {
            let fact = Fact::EndedAway { client: record.named(), why: why.clone() };
            notes::note(&self.live, self.clock.now(), &fact);
        }
    }

    /// The session is over, whether its client is away or was never accepted. A connected client is not touched. Gives
    /// whether it was not over before.
    pub fn finish(&self, record: &Arc<SessionRecord>) -> bool {
        let parked = {
            let mut place = record.place.lock();
            match &*place {
                Place::Parked(_) => {}
                Place::Connected(_) | Place::Over => return false,
            }
            let Place::Parked(parked) = record.set_place(&mut place, Place::Over) else { return false };
            parked
        };
        let Parked { mut state, will, .. } = *parked;
        if let Some((_, message)) = will {
            self.publish_will(&message, record);
        }
        self.end_ownership(&record.client_id);
        self.router.unsubscribe(record.key, state.subscriptions().map(|(filter, _)| filter));
        let mut shared = state.take_shared();
        let mut queue = record.close();
        let at_hand = queue.as_mut().map(Outbox::take_at_hand).unwrap_or_default();
        let (waiting, rest): (Vec<_>, Vec<_>) = at_hand.into_iter().partition(|entry| entry.shared().is_some());
        shared.extend(waiting.into_iter().flatten());
        {
            let mut batch = self.journal.open();
            if record.is_stored() {
                batch.remove_session(record.key);
            }
            let over = || Unsent::EndedUnanswered;
            for (_, sent) in state.into_sent() {
                self.live.recorder.withheld(sent.delivery.message.journey(), record.key, over);
                batch.done(record.key, &sent.delivery);
            }
            for entry in rest {
                self.live.recorder.withheld(entry.journey(), record.key, || Unsent::Ended);
                if let Queued::One(delivery) = entry {
                    batch.done(record.key, &delivery);
                }
            }
        }
        if let Some(queue) = &mut queue {
            while self.forget(record, &queue.take_shelved(FORGOTTEN), || Unsent::Ended) > 0 {}
        }
        self.registry.remove(record);
        self.hand_on(record, shared.into_iter());
        true
    }

    /// These deliveries of a session are over, and were not sent; gives how many there are.
    pub(super) fn forget(&self, record: &SessionRecord, left: &[Left], why: impl Fn() -> Unsent) -> usize {
        let mut journal = self.journal.open();
        for left in left {
            journal.forget(record.key, left);
            self.live.recorder.withheld(left.journey, record.key, &why);
        }
        left.len()
    }

    fn has_other_member(&self, filter: &TopicFilter, session: SessionKey) -> bool {
        self.router.has_member(filter, |member, record| member != session && record.is_connected())
    }

    /// Gives messages that were one member's turn to others. What nobody takes is over.
    fn hand_on(&self, from: &SessionRecord, deliveries: impl Iterator<Item = Delivery>) {
        for delivery in deliveries {
            let message = &delivery.message;
            let group = delivery.shared().and_then(|filter| self.router.group(filter, &message.topic));
            let mut judging = judging(message, None);
            let member = group.as_ref().and_then(|group| group.choose(|way| load(way, &mut judging, &message.topic)));
            let journey = delivery.message.journey();
            self.live.recorder.withheld(journey, from.key, || match member {
                Some(member) => Unsent::TurnOf(member.handle.client_id.clone()),
                None => Unsent::NoMember,
            });
            let mut batch = self.journal.open();
            if let Some(member) = member
                && let Some(again) = member.delivery(&at_rest(&delivery.message))
            {
                self.live.recorder.lead(journey, member, delivery.message.qos, false);
                let outcome = member.handle.push(again, |filed| batch.file(member.session, filed));
                self.note_outcome(journey, &member.handle, &outcome);
                if outcome.end {
                    self.registry.end_soon(&member.handle, Ended::QueueFull);
                }
                outcome.displaced.iter().for_each(|displaced| batch.forget(member.session, displaced));
            }
            batch.done(from.key, &delivery);
        }
    }

    /// Ends every session of an identity, and those that wait for it.
    pub fn end_identity(&self, identity: &str, why: &Ended, discard: bool) {
        for record in self.registry.all().filter(|record| *record.identity == *identity) {
            record.end(why.clone(), discard);
            if discard {
                self.end_away(&record, why);
            }
        }
    }

    /// Publishes a will whose time has come, if its identity may still publish it.
    pub(super) fn publish_will(&self, message: &Arc<Message>, record: &SessionRecord) {
        let (identity, client_id) = (&record.identity, &record.client_id);
        let Message { topic, qos, retain, .. } = &**message;
        let request = Request::Publish { topic, qos: *qos, retain: *retain };
        let denied = match (self.judge.no_entry(identity), self.judge.rights(identity, client_id)) {
            (Some(why), _) | (None, Rights::None(why)) => Some(Reason::NoEntry(why)),
            (None, Rights::Unlimited) => None,
            (None, Rights::Bound(access)) => {
                (!access.decide(request).is_allowed()).then(|| Reason::rules(&access, request))
            }
        };
        if let Some(reason) = denied {
            return self.note_refused_will(record, reason.refusal_of_will(identity, Arc::clone(message)));
        }
        let message = Arc::new(message.renewed(self.clock.now()));
        let sent = Fact::WillSent { client: record.named(), topic: message.topic.clone() };
        notes::note(&self.live, self.clock.now(), &sent);
        self.publish_will_of(&message, identity, client_id);
    }

    fn note_refused_will(&self, record: &SessionRecord, refusal: Refusal) {
        self.live.refusals.note_refusal(&record.identity, &record.client_id, &refusal, self.clock.now());
        record.note_refusal(&refusal);
        notes::note(&self.live, self.clock.now(), &Fact::Refused { client: record.named(), refusal });
    }

    /// The design says otherwise of which messages a session gets.
    pub fn change_conditions<'a>(
        &self,
        record: &Arc<SessionRecord>,
        subscriptions: impl Iterator<Item = (&'a TopicFilter, &'a Granted)>,
    ) {
        self.router.change_conditions(record.key, subscriptions, record.when().as_ref(), record);
    }

    /// What these sessions may do has changed. Connected ones look at it before they read on; those that are away lose
    /// what they may not have any more.
    pub fn rebind(&self, concerns: impl Fn(&SessionRecord) -> bool) {
        for (identity, holding) in self.registry.holdings() {
            holding.set_quota(self.judge.quota(&identity));
        }
        for record in self.registry.all().filter(|record| concerns(record)) {
            record.set_stale();
            let mut journal = self.journal.open();
            if let Place::Parked(parked) = &mut *record.place.lock()
                && let Rights::Bound(access) = self.judge.rights(&record.identity, &record.client_id)
            {
                let is_changed = record.set_access(&access);
                for filter in parked.state.withdraw(&access) {
                    self.router.unsubscribe(record.key, [&filter]);
                    journal.unsubscribe(record.key, &filter);
                }
                if is_changed {
                    self.change_conditions(&record, parked.state.subscriptions());
                }
            }
        }
    }
}

/// What may stay for long must not borrow a receive buffer; what is filed does not.
fn at_rest(message: &Arc<Message>) -> Arc<Message> {
    if message.number().is_some() { Arc::clone(message) } else { Arc::new(message.detached()) }
}

/// What is stored of a parked session.
pub(super) fn row(record: &SessionRecord, parked: &Parked) -> SessionRow {
    let will = parked.will.as_ref().map(|(due, message)| moorfall_core::session::DelayedWill {
        message: Arc::clone(message),
        delay: *due - parked.since,
    });
    SessionRow {
        client_id: record.client_id.clone(),
        identity: Arc::clone(&record.identity),
        expiry: parked.expiry,
        away_since: Some(parked.since.as_micros()),
        began_at: record.began_at.as_micros(),
        will,
    }
}
