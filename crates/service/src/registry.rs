//! All sessions by client identifier: how they begin, wait for their clients, go on and end.
//!
//! At most one session has a given client identifier, and at most one connection ([MQTT-3.1.4-3]).

use std::{
    collections::{BTreeMap, HashMap, VecDeque},
    ops::Bound,
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    },
};

use foldhash::fast::RandomState;
use moorfall_core::{
    Delivery, Holding, Identity, Limits, Message, Queued, Quota, SessionKey, Time,
    access::{Access, Request},
    measure::Totals,
    router::Load,
    session::{Cause, Parting, Refusal},
};
use moorfall_store::SessionRow;
use moorfall_wire::{QoS, ReasonCode, TopicFilter};
use parking_lot::Mutex;
use time::OffsetDateTime;
use tokio::sync::Notify;

use crate::{
    authenticator::{ADMINISTRATOR, ANONYMOUS},
    broker::Broker,
    names,
    session_record::{Link, NewSession, Parked, Place, RetainedDue, SessionRecord, SignedInBy, Walk},
};

/// Sessions that are taken at a time when all are gone through.
const PAGE: usize = 512;

/// Why a client is not let in.
#[derive(Debug)]
pub(crate) enum NotAdmitted {
    /// The client identifier is in use by another identity.
    InUse,
    /// Another identity is tied to the client identifier.
    Tied,
    /// No new session can have this client identifier.
    Name(&'static str),
    /// There are as many sessions as may be.
    Full,
    /// The identity has as many sessions as it may.
    FullForIdentity(usize),
}

/// What an identity may do.
pub(crate) enum Rights {
    /// Everything.
    Unlimited,
    /// What the rules say.
    Bound(Access),
    /// It can't connect, and why.
    None(String),
}

/// Who wants to come in.
pub(crate) struct Newcomer {
    pub(crate) client_id: String,
    pub(crate) identity: Arc<str>,
    pub(crate) clean_start: bool,
    pub(crate) expiry: u32,
    /// Those of its listener; they hold for its queue.
    pub(crate) limits: Arc<Limits>,
    pub(crate) link: Arc<Link>,
}

/// All sessions.
#[derive(Debug, Default)]
pub(crate) struct Registry {
    sessions: Mutex<BTreeMap<String, Arc<SessionRecord>>>,
    connected: AtomicUsize,
    /// Parked sessions by the time at which something is due. An entry may be out of date; `place` decides.
    due: Mutex<BTreeMap<(Time, SessionKey), Arc<SessionRecord>>>,
    earlier: Notify,
    /// By identity; those that hold nothing are forgotten now and then.
    holdings: Mutex<HashMap<Arc<str>, Arc<Holding>, RandomState>>,
    /// What found no room in the shares of identities that are forgotten since.
    forgotten: Mutex<NoRoom>,
}

/// How often something found no room in the share of its identity.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct NoRoom {
    pub(crate) sessions: u64,
    pub(crate) subscriptions: u64,
    pub(crate) queues: u64,
    pub(crate) retained: u64,
}

impl NoRoom {
    fn add(&mut self, holding: &Holding) {
        self.sessions += holding.sessions.refused();
        self.subscriptions += holding.subscriptions.refused();
        self.queues += holding.queues.refused();
        self.retained += holding.retained.refused();
    }
}

impl Registry {
    /// What an identity holds; `quota` says how much it may when it held nothing before.
    pub(crate) fn holding(&self, identity: &Arc<str>, quota: impl FnOnce() -> Quota) -> Arc<Holding> {
        if let Some(known) = self.holdings.lock().get(identity) {
            return Arc::clone(known);
        }
        // Cohorts are looked at outside of the lock.
        let new = Arc::new(Holding::new(quota()));
        Arc::clone(self.holdings.lock().entry(Arc::clone(identity)).or_insert(new))
    }

    /// All that hold something, by identity.
    pub(crate) fn holdings(&self) -> Vec<(Arc<str>, Arc<Holding>)> {
        self.holdings.lock().iter().map(|(name, holding)| (Arc::clone(name), Arc::clone(holding))).collect()
    }

    /// Forgets those that hold nothing.
    pub(crate) fn forget_holdings(&self) {
        let mut forgotten = self.forgotten.lock();
        self.holdings.lock().retain(|_, holding| {
            let stays = Arc::strong_count(holding) > 1;
            if !stays {
                forgotten.add(holding);
            }
            stays
        });
    }

    /// What found no room in the shares of identities since the start.
    pub(crate) fn no_room(&self) -> NoRoom {
        let mut sum = *self.forgotten.lock();
        self.holdings.lock().values().for_each(|holding| sum.add(holding));
        sum
    }

    /// How many clients are connected.
    pub(crate) fn connected(&self) -> usize {
        self.connected.load(Ordering::Relaxed)
    }

    /// How many sessions there are, connected or not.
    pub(crate) fn count(&self) -> usize {
        self.sessions.lock().len()
    }

    /// The first so many sessions behind this client identifier, by client identifier.
    pub(crate) fn page(&self, after: Option<&str>, most: usize) -> Vec<Arc<SessionRecord>> {
        let from = after.map_or(Bound::Unbounded, Bound::Excluded);
        self.sessions
            .lock()
            .range::<str, _>((from, Bound::Unbounded))
            .take(most)
            .map(|(_, one)| Arc::clone(one))
            .collect()
    }

    /// All sessions, by client identifier. Nobody who comes or goes waits for all of them.
    pub(crate) fn all(&self) -> impl Iterator<Item = Arc<SessionRecord>> {
        let mut page = VecDeque::new();
        let mut after: Option<String> = None;
        std::iter::from_fn(move || {
            if page.is_empty() {
                page.extend(self.page(after.as_deref(), PAGE));
                after = page.back().map(|last: &Arc<SessionRecord>| last.client_id.clone());
            }
            page.pop_front()
        })
    }

    /// The session with this client identifier.
    pub(crate) fn get(&self, client_id: &str) -> Option<Arc<SessionRecord>> {
        self.sessions.lock().get(client_id).cloned()
    }

    /// Puts a stored session back.
    pub(crate) fn restore(&self, record: Arc<SessionRecord>) {
        if let Place::Parked(parked) = &*record.place.lock() {
            self.set_due(&record, parked);
        }
        self.sessions.lock().insert(record.client_id.clone(), record);
    }

    /// Has a session that is away ended, by the task that keeps the time.
    pub(crate) fn end_soon(&self, record: &Arc<SessionRecord>) {
        if let Place::Parked(parked) = &mut *record.place.lock() {
            parked.ends = Some(parked.since);
            self.set_due(record, parked);
        }
    }

    fn remove(&self, record: &SessionRecord) {
        let mut sessions = self.sessions.lock();
        if sessions.get(&record.client_id).is_some_and(|known| known.key == record.key) {
            sessions.remove(&record.client_id);
            record.holding.sessions.give(1);
        }
    }

    fn set_due(&self, record: &Arc<SessionRecord>, parked: &Parked) {
        let will = parked.will.as_ref().map(|(due, _)| *due);
        if let Some(due) = [will, parked.ends].into_iter().flatten().min() {
            self.due.lock().insert((due, record.key), Arc::clone(record));
            self.earlier.notify_one();
        }
    }
}

impl Broker {
    /// Lets a client in, after an earlier connection with its client identifier has gone: begins a session, or goes on
    /// with the one that is there. A session of another identity stays, and the newcomer is refused: nobody can push
    /// another identity's client out, or read its messages.
    pub(crate) async fn admit(
        &self,
        newcomer: &Newcomer,
    ) -> Result<(Arc<SessionRecord>, Option<Box<Parked>>), NotAdmitted> {
        let is_tied = self.directory.is_tied(&newcomer.client_id, &newcomer.identity);
        if is_tied == Some(false) {
            return Err(NotAdmitted::Tied);
        }
        let holding = self.holding(&newcomer.identity);
        loop {
            let known = {
                let mut sessions = self.registry.sessions.lock();
                match sessions.get(&newcomer.client_id) {
                    Some(known) => Arc::clone(known),
                    None => {
                        if let Some(why) = names::fault(&newcomer.client_id) {
                            return Err(NotAdmitted::Name(why));
                        }
                        // An identity's first session is let in: others can't keep it out.
                        let is_first = holding.sessions.held() == 0;
                        if sessions.len() >= self.limits.sessions && !is_first {
                            return Err(NotAdmitted::Full);
                        }
                        if is_first {
                            holding.sessions.force(1);
                        } else if !holding.sessions.take(1) {
                            return Err(NotAdmitted::FullForIdentity(holding.sessions.most()));
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
                    return Err(NotAdmitted::InUse);
                }
                // Whoever the identifier was given to takes it from whoever had it before.
                if let Some(link) = known.link() {
                    known.end(ReasonCode::SessionTakenOver, TIED_TO_ANOTHER, true);
                    link.gone.cancelled().await;
                }
                self.finish(&known);
                continue;
            }
            if let Some(link) = known.link() {
                known.end(ReasonCode::SessionTakenOver, TAKEN_OVER, false);
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
        record.set_kept(newcomer.expiry > 0);
        let Place::Parked(parked) = record.set_place(&mut place, Place::Connected(Arc::clone(&newcomer.link))) else {
            return None;
        };
        self.registry.connected.fetch_add(1, Ordering::Relaxed);
        Some(parked)
    }

    /// The connection of a session is over: the session waits for its client, or ends too.
    pub(crate) fn part(
        &self,
        record: &Arc<SessionRecord>,
        parting: Parting,
        retained_due: VecDeque<RetainedDue>,
        walk: Option<Walk>,
    ) {
        let Parting { expiry, state, will } = parting;
        let now = self.clock.now();
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
            self.recorder.withheld(entry.journey(), record, || "the client went away, and QoS 0 is not kept".into());
        }
        let unsendable = unsendable.iter().map(Queued::len).sum::<usize>() as u64;
        record.withheld.fetch_add(unsendable, Ordering::Relaxed);
        self.counters.add(&Totals { withheld: unsendable, ..Totals::default() });
        if expiry == 0 {
            self.finish(record);
        } else {
            // What was this member's turn and is not sent yet goes to one that is there.
            let movable =
                record.take_if(|entry| entry.shared().is_some_and(|filter| self.has_other_member(filter, record.key)));
            self.hand_on(record, movable.into_iter().flatten());
        }
        gone.gone.cancel();
    }

    /// The session is over, whether its client is away or was never let in. A connected client is not touched.
    pub(crate) fn finish(&self, record: &Arc<SessionRecord>) {
        let parked = {
            let mut place = record.place.lock();
            match &*place {
                Place::Parked(_) => {}
                Place::Connected(_) | Place::Over => return,
            }
            let Place::Parked(parked) = record.set_place(&mut place, Place::Over) else { return };
            parked
        };
        let Parked { mut state, will, .. } = *parked;
        if let Some((_, message)) = will {
            self.publish_will(&message, record);
        }
        self.router.unsubscribe(record.key, state.subscriptions().map(|(filter, _)| filter));
        let mut shared = state.take_shared();
        let (waiting, rest): (Vec<_>, Vec<_>) = record.close().into_iter().partition(|entry| entry.shared().is_some());
        shared.extend(waiting.into_iter().flatten());
        {
            let mut batch = self.journal.open();
            if record.is_stored() {
                batch.remove_session(record.key);
            }
            let over = || "the session ended before the client had answered".into();
            for (_, sent) in state.into_sent() {
                self.recorder.withheld(sent.delivery.message.journey(), record, over);
                batch.done(record.key, &sent.delivery);
            }
            for entry in rest {
                self.recorder.withheld(entry.journey(), record, || "the session ended before it was sent".into());
                if let Queued::One(delivery) = entry {
                    batch.done(record.key, &delivery);
                }
            }
        }
        self.registry.remove(record);
        self.hand_on(record, shared.into_iter());
    }

    fn has_other_member(&self, filter: &TopicFilter, session: SessionKey) -> bool {
        self.router.group(filter).is_some_and(|group| {
            group.members().iter().any(|member| member.session != session && member.handle.is_connected())
        })
    }

    /// Gives messages that were one member's turn to others. What nobody takes is over.
    fn hand_on(&self, from: &SessionRecord, deliveries: impl Iterator<Item = Delivery>) {
        for delivery in deliveries {
            let group = delivery.shared().and_then(|filter| self.router.group(filter));
            let load = |record: &Arc<SessionRecord>| match record.is_denied(&delivery.message.topic) {
                true => Load::Over,
                false => record.load(),
            };
            let member = group.as_ref().and_then(|group| group.choose(load));
            let journey = delivery.message.journey();
            self.recorder.withheld(journey, from, || match member {
                Some(member) => format!("the client went away; it was {}'s turn then", member.handle.client_id),
                None => "the session ended, and no other member is there".into(),
            });
            let mut batch = self.journal.open();
            if let Some(member) = member
                && let Some(again) = member.delivery(&at_rest(&delivery.message))
            {
                self.recorder.lead(journey, member, delivery.message.qos, false);
                let outcome = member.handle.push(again, |filed| batch.file(member.session, filed));
                self.note_outcome(journey, &member.handle, &outcome);
                outcome.displaced.iter().for_each(|displaced| batch.done(member.session, displaced));
            }
            batch.done(from.key, &delivery);
        }
    }

    /// Ends every session of an identity, and those that wait for it.
    pub(crate) fn end_identity(&self, identity: &str, words: &str, discard: bool) {
        for record in self.registry.all().filter(|record| *record.identity == *identity) {
            record.end(ReasonCode::AdministrativeAction, words, discard);
            if discard {
                self.finish(&record);
            }
        }
    }

    /// Ends sessions whose clients have shown a token or a certificate that is not good any more.
    pub(crate) fn end_by_credential(&self) {
        let now = OffsetDateTime::now_utc();
        for record in self.registry.all() {
            let Some(link) = record.link() else { continue };
            if matches!(&link.by, SignedInBy::Token(id) if !self.tokens.is_good(id)) {
                record.end(ReasonCode::NotAuthorized, "the token has ended or was revoked", false);
            } else if link.certificate.as_ref().is_some_and(|certificate| certificate.ends < now) {
                record.end(ReasonCode::NotAuthorized, "the certificate has ended", false);
            }
        }
    }

    /// Ends sessions whose clients have shown a certificate to a listener that trusts the authorities given to the
    /// service: one of them was removed, and whoever has another's certificate is let in again.
    pub(crate) fn end_by_authority(&self) {
        self.authorities.note_removal();
        let trusting = |name: &str| {
            let listener = self.listeners.iter().find(|listener| *listener.name == *name);
            listener.and_then(|listener| listener.tls.as_ref()).is_some_and(|tls| tls.trusts_given())
        };
        for record in self.registry.all() {
            if record.link().is_some_and(|link| link.certificate.is_some() && trusting(&link.listener)) {
                record.end(ReasonCode::NotAuthorized, "an authority was removed; show a certificate again", false);
            }
        }
    }

    /// Publishes a will whose time has come, if its identity may still publish it.
    fn publish_will(&self, message: &Arc<Message>, record: &SessionRecord) {
        let (identity, client_id) = (&record.identity, &record.client_id);
        let Message { topic, qos, retain, .. } = &**message;
        let request = Request::Publish { topic, qos: *qos, retain: *retain };
        let denied = match self.rights(identity, client_id) {
            _ if !self.directory.may_connect(identity) => {
                Some((Cause::NoRule, format!("the identity {identity} may no longer connect")))
            }
            Rights::Unlimited => None,
            Rights::None(words) => Some((Cause::NoRule, words)),
            Rights::Bound(access) => {
                let decision = access.decide(request);
                (!decision.is_allowed()).then(|| (Cause::of(&access, &decision), access.explain(request)))
            }
        };
        if let Some((cause, words)) = denied {
            return self.note_refused_will(record, Refusal::of_will(cause, &words, Arc::clone(message)));
        }
        let message = Arc::new(message.renewed(self.clock.now()));
        self.publish(&message, identity);
    }

    fn note_refused_will(&self, record: &SessionRecord, refusal: Refusal) {
        tracing::info!(client = record.client_id, identity = %record.identity, "not published: {}", refusal.words);
        self.counters.add(&Totals { refused: 1, ..Totals::default() });
        self.refusals_seen.note_refusal(&record.identity, &record.client_id, &refusal);
        record.note_refusal(refusal.words);
    }

    /// What these sessions may do has changed. Connected ones look at it before they read on; those that are away lose
    /// what they may not have any more.
    pub(crate) fn rebind(&self, concerns: impl Fn(&SessionRecord) -> bool) {
        for (identity, holding) in self.registry.holdings() {
            holding.set_quota(self.quota(&identity));
        }
        for record in self.registry.all().filter(|record| concerns(record)) {
            record.set_stale();
            let mut journal = self.journal.open();
            if let Place::Parked(parked) = &mut *record.place.lock()
                && let Rights::Bound(access) = self.rights(&record.identity, &record.client_id)
            {
                record.set_access(&access);
                for filter in parked.state.withdraw(&access) {
                    self.router.unsubscribe(record.key, [&filter]);
                    journal.unsubscribe(record.key, &filter);
                }
            }
        }
    }

    /// What an identity may do now by a client of this identifier.
    pub(crate) fn rights(&self, identity: &str, client_id: &str) -> Rights {
        let nobody = || Identity { name: identity.into(), attributes: Default::default() };
        let identity = match identity {
            ADMINISTRATOR => return Rights::Unlimited,
            ANONYMOUS if self.open => return Rights::Unlimited,
            ANONYMOUS => Some(nobody()),
            name => self.directory.identity(name),
        };
        let Some(identity) = identity else { return Rights::None("there is no such identity any more".into()) };
        match self.design.policy().bind(&identity, client_id) {
            Ok(access) => Rights::Bound(access),
            Err(error) => Rights::None(error.to_string()),
        }
    }
}

/// What may stay for long must not borrow a receive buffer; what is filed does not.
fn at_rest(message: &Arc<Message>) -> Arc<Message> {
    if message.number().is_some() { Arc::clone(message) } else { Arc::new(message.detached()) }
}

/// What is stored of a parked session.
fn row(record: &SessionRecord, parked: &Parked) -> SessionRow {
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

const TIED_TO_ANOTHER: &str = "the client identifier belongs to another identity, whose client has come";

const TAKEN_OVER: &str = "another connection with this client identifier took over";

/// Publishes wills and ends sessions when their time has come, until the service stops.
pub(crate) async fn keep_time(broker: Arc<Broker>) {
    loop {
        let next = broker.registry.due.lock().keys().next().map(|(due, _)| *due);
        let now = broker.clock.now();
        match next {
            Some(due) if due <= now => {}
            due => {
                let at = due.map(|due| broker.clock.instant(due));
                tokio::select! {
                    () = broker.registry.earlier.notified() => {}
                    () = crate::connection::sleep(at) => {}
                    () = broker.stopping.cancelled() => return,
                }
                continue;
            }
        }
        let Some(((_, _), record)) = broker.registry.due.lock().pop_first() else { continue };
        broker.come_due(&record, now);
    }
}

impl Broker {
    fn come_due(&self, record: &Arc<SessionRecord>, now: Time) {
        let mut will = None;
        let ended = {
            let mut batch = self.journal.open();
            let mut place = record.place.lock();
            // The client may have come back, or the session be over.
            let Place::Parked(parked) = &mut *place else { return };
            let ended = parked.ends.is_some_and(|at| at <= now);
            if !ended {
                if parked.will.as_ref().is_some_and(|(due, _)| *due <= now) {
                    will = parked.will.take();
                    batch.put_session(record.key, row(record, parked));
                }
                self.registry.set_due(record, parked);
            }
            ended
        };
        if let Some((_, message)) = will {
            self.publish_will(&message, record);
        }
        if ended {
            tracing::info!(client = record.client_id, identity = %record.identity, "the session has ended: its time is over");
            self.finish(record);
        }
    }
}
