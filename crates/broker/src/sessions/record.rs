//! What the rest of the service can see of, and do to, one session, connected or not.

use std::{
    collections::VecDeque,
    net::SocketAddr,
    sync::{
        Arc, OnceLock,
        atomic::{AtomicBool, AtomicU16, AtomicU64, AtomicUsize, Ordering},
    },
    time::Duration,
};

use arc_swap::ArcSwapOption;
use moorfall_core::{
    Condition, Delivery, Filed, Holding, Judged, Judging, Left, Limits, Message, Outbox, Page, Pushed, QueuePolicy,
    Queued, Run, SessionKey, Shelved, Time, When,
    access::Access,
    certificate::ClientCertificate,
    measure::{Label, Rates, Totals},
    router::{Load, Recipient, RetainedWalk, judge_all},
    session::{Ended, Granted, ReasonKind, Refusal, SessionState, Withheld},
};
use moorfall_live::{counters::Counters, facts::Client, journeys::Named};
use moorfall_wire::{ProtocolVersion, QoS, TopicFilter, TopicName};
use strum::VariantNames;
use time::OffsetDateTime;
use tokio_util::sync::CancellationToken;
use tracing_mutex::parkinglot::Mutex;

use crate::{
    listeners::tls_version::TlsVersion,
    sessions::{bell::Bell, resting::RestingPlace},
};

/// Why the service ends a connection.
#[derive(Debug)]
pub struct Ending {
    /// For DISCONNECT and the log.
    pub why: Ended,
    /// Whether the session ends too.
    pub discard: bool,
}

/// How a client signed in.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum SignedInBy {
    /// It has no identity.
    #[default]
    Nothing,
    /// By the administrator's secret.
    Secret,
    /// By a password or a secret that the broker made.
    Password,
    /// By a token of this identifier.
    Token(String),
    /// By a client certificate.
    Certificate,
    /// By nothing of its own: this person acts as it, at the console.
    Person(Arc<str>),
    /// By nothing: it is a bridge's.
    Bridge,
    /// By nothing: derived topics hear with it.
    Derived,
}

/// Where a connection comes from.
pub struct LinkOrigin {
    /// The client's address.
    pub address: SocketAddr,
    /// The name of the listener.
    pub listener: Arc<str>,
    /// The certificate that its client has shown, if it has.
    pub certificate: Option<Arc<ClientCertificate>>,
    /// Whether its listener trusts the authorities that were given to the service.
    pub trusts_given: bool,
    /// The version of TLS that it is secured by, if it is.
    pub tls: Option<TlsVersion>,
}

/// One connection of a session.
#[derive(Debug)]
pub struct Link {
    /// The client's address.
    pub address: SocketAddr,
    /// The listener that it came by.
    pub listener: Arc<str>,
    /// Of MQTT.
    pub version: ProtocolVersion,
    /// When it was accepted.
    pub connected_at: OffsetDateTime,
    /// How its client signed in.
    pub by: SignedInBy,
    /// The certificate that its client has shown, if it has.
    pub certificate: Option<Arc<ClientCertificate>>,
    /// Whether its listener trusts the authorities that were given to the service.
    pub trusts_given: bool,
    /// The version of TLS that it is secured by, if it is.
    pub tls: Option<TlsVersion>,
    /// Its Keep Alive, seconds; 0 if it has none.
    pub keep_alive: AtomicU16,
    /// When its client was heard last, microseconds since 1970.
    pub heard: AtomicU64,
    ending: OnceLock<Ending>,
    /// Cancelled when the connection is gone and the session is parked or over.
    pub gone: CancellationToken,
}

impl Link {
    /// One that has just been accepted.
    pub fn new(origin: LinkOrigin, version: ProtocolVersion, by: SignedInBy) -> Self {
        let LinkOrigin { address, listener, certificate, trusts_given, tls } = origin;
        Self {
            address,
            listener,
            version,
            connected_at: OffsetDateTime::now_utc(),
            by,
            certificate,
            trusts_given,
            tls,
            keep_alive: AtomicU16::new(0),
            heard: AtomicU64::new(0),
            ending: OnceLock::new(),
            gone: CancellationToken::new(),
        }
    }

    /// Why the connection is to end, if it is.
    pub fn ending(&self) -> Option<&Ending> {
        self.ending.get()
    }
}

/// A new subscription whose retained messages are to be sent.
pub type RetainedDue = (TopicFilter, Granted);

/// Retained messages of a new subscription that are not all sent yet.
#[derive(Debug)]
pub struct Walk {
    /// Whose retained messages they are.
    pub of: RetainedDue,
    /// How far they were looked up.
    pub place: RetainedWalk,
    /// What was looked up and is still to be sent.
    pub left: VecDeque<Queued>,
}

/// What a session keeps while its client is away.
#[derive(Debug)]
pub struct Parked {
    /// Its subscriptions, and what is in flight.
    pub state: SessionState,
    /// Retained messages of new subscriptions that were not looked up yet.
    pub retained_due: VecDeque<RetainedDue>,
    /// Retained messages that were looked up and not all sent.
    pub walk: Option<Walk>,
    /// Seconds that it outlives its connection.
    pub expiry: u32,
    /// When the connection ended.
    pub since: Time,
    /// When it ends; `None` if never.
    pub ends: Option<Time>,
    /// Why it ends before its time, if it does.
    pub over: Option<Box<Ended>>,
    /// A will that waits, and until when.
    pub will: Option<(Time, Arc<Message>)>,
}

/// Where a session is.
#[derive(Debug)]
pub enum Place {
    /// Its client is connected.
    Connected(Arc<Link>),
    /// Its client is away.
    Parked(Box<Parked>),
    /// It is over; nothing is queued any more.
    Over,
}

/// What became of a push.
#[derive(Debug, Default)]
#[must_use]
pub struct Queueing {
    /// Messages that will not be sent, the displaced ones too.
    pub withheld: u64,
    /// How many of the messages themselves had no room in the queue; they are the last ones.
    pub dropped: usize,
    /// Why the newest of the messages themselves is among them, if it is.
    pub why: Option<Withheld>,
    /// What was dropped to make room.
    pub displaced: Vec<Left>,
    /// Whether the limits say that this ends the session, which is then to be done for one that is away.
    pub end: bool,
    /// Whether nothing was queued before: nobody is at it yet.
    pub first: bool,
}

impl Queueing {
    fn gone(count: usize) -> Self {
        Self { withheld: count as u64, why: Some(Withheld::Gone), ..Self::default() }
    }
}

/// What was withheld and refused of one session, by reason.
#[derive(Debug, Default)]
struct Reasons {
    withheld: [AtomicU64; Withheld::VARIANTS.len()],
    refused: [AtomicU64; ReasonKind::VARIANTS.len()],
    /// Messages of which a condition is not true.
    left_out: AtomicU64,
    /// Messages of its own that nobody got, because another client owns their topics.
    not_owner: AtomicU64,
}

/// Counts that are not 0, by name.
fn named(counts: &[AtomicU64], names: &[&'static str]) -> Vec<(&'static str, u64)> {
    let counts = counts.iter().map(|count| count.load(Ordering::Relaxed));
    names.iter().copied().zip(counts).filter(|(_, count)| *count > 0).collect()
}

/// Over which time the rates of a session are taken.
const LOOKED_OVER: Duration = Duration::from_secs(60);

/// What was counted when a session was looked at.
#[derive(Debug, Default)]
struct Looked {
    /// When the minute began that is being measured, and the counts then.
    since: Time,
    at_first: Totals,
    /// The counts at the last look.
    at_last: Totals,
    /// The rates of the minute before.
    rates: Option<Rates>,
}

/// One session. Locks are taken in this order: that of its resting connection, the journal's, `place`, the queue's.
#[derive(Debug)]
pub struct SessionRecord {
    /// Unique among all sessions ever.
    pub key: SessionKey,
    /// Its client identifier.
    pub client_id: String,
    /// Whose it is.
    pub identity: Arc<str>,
    /// When it began.
    pub began_at: Time,
    /// What it has sent and received.
    pub counters: Counters,
    /// How many it has.
    pub subscriptions: AtomicUsize,
    /// Messages that were sent and are not acknowledged.
    pub in_flight: AtomicUsize,
    /// Taken from the outbox by the task and not sent yet.
    pub held: AtomicUsize,
    /// What was withheld and refused, by reason; absent until something is.
    reasons: OnceLock<Box<Reasons>>,
    /// How its last connection ended, and when.
    last_end: Mutex<Option<Box<(Time, Ended)>>>,
    /// The last thing that was refused, if anything was.
    pub last_refusal: Mutex<Option<Box<(OffsetDateTime, Refusal)>>>,
    /// What was found when it was looked at.
    looked: Mutex<Looked>,
    /// Wakes its task.
    pub bell: Bell,
    /// Its connection, while it has nothing to do.
    pub resting: RestingPlace,
    /// Where it is.
    pub place: Mutex<Place>,
    /// Whether its client is connected: what `place` says, readable without its lock.
    connected: AtomicBool,
    /// Whether what it may do has changed since its task looked.
    stale: AtomicBool,
    /// Whether it outlives its connection.
    kept: AtomicBool,
    /// Whether it ever did, so that the database may know it.
    stored: AtomicBool,
    /// `None` once the session is over.
    outbox: Mutex<Option<Outbox>>,
    /// What its identity holds; its queue counts in it.
    pub holding: Arc<Holding>,
    /// Its rights, if rules deny it a part of what it may subscribe to.
    denied: ArcSwapOption<Access>,
    /// What the design says of which messages it gets, if anything.
    when: ArcSwapOption<Vec<When>>,
}

/// A session to be.
pub struct NewSession {
    /// Unique among all sessions ever.
    pub key: SessionKey,
    /// Its client identifier.
    pub client_id: String,
    /// Whose it is.
    pub identity: Arc<str>,
    /// When it began.
    pub began_at: Time,
    /// Whether it outlives its connection.
    pub kept: bool,
}

impl Named for SessionRecord {
    fn key(&self) -> SessionKey {
        self.key
    }

    fn client_id(&self) -> &str {
        &self.client_id
    }

    fn identity(&self) -> &Arc<str> {
        &self.identity
    }
}

impl SessionRecord {
    /// Nothing is queued for it yet.
    pub fn new(new: NewSession, place: Place, holding: Arc<Holding>, limits: &Limits) -> Self {
        let NewSession { key, client_id, identity, began_at, kept } = new;
        Self {
            key,
            client_id,
            identity,
            began_at,
            counters: Counters::default(),
            subscriptions: AtomicUsize::new(0),
            in_flight: AtomicUsize::new(0),
            held: AtomicUsize::new(0),
            reasons: OnceLock::new(),
            last_end: Mutex::new(None),
            last_refusal: Mutex::new(None),
            looked: Mutex::new(Looked { since: began_at, ..Looked::default() }),
            bell: Bell::default(),
            resting: RestingPlace::default(),
            connected: AtomicBool::new(matches!(place, Place::Connected(_))),
            place: Mutex::new(place),
            kept: AtomicBool::new(kept),
            stale: AtomicBool::new(false),
            stored: AtomicBool::new(kept),
            outbox: Mutex::new(Some(Outbox::new(limits))),
            holding,
            denied: ArcSwapOption::empty(),
            when: ArcSwapOption::empty(),
        }
    }

    /// What it may do from now on. Gives whether the design says otherwise of which messages it gets.
    pub fn set_access(&self, access: &Access) -> bool {
        self.denied.store(access.is_denied_some().then(|| Arc::new(access.clone())));
        let when = access.conditions();
        let before = self.when.swap(when.clone());
        before.as_deref() != when.as_deref()
    }

    /// What the design says of which messages it gets, if anything.
    pub fn when(&self) -> Option<Arc<Vec<When>>> {
        self.when.load_full()
    }

    /// Whether it gets a message of a subscription with this condition, as far as conditions say.
    pub fn judge(&self, condition: Option<&Arc<Condition>>, judging: &mut Judging<'_>, topic: &str) -> Judged {
        let when = self.when.load();
        let design = when.iter().flat_map(|all| all.iter()).filter(|when| when.is_about(topic));
        judge_all(condition.into_iter().chain(design.map(|when| &when.condition)), judging)
    }

    /// Whether a rule denies it this topic of a filter that it was granted.
    pub fn is_denied(&self, topic: &TopicName) -> bool {
        self.denied.load().as_ref().is_some_and(|access| access.withholds(topic))
    }

    /// Whether it outlives its connection. Its messages at QoS 1 and 2 are then filed in the journal.
    pub fn is_persistent(&self) -> bool {
        self.kept.load(Ordering::Acquire)
    }

    /// Whether the database may know it.
    pub fn is_stored(&self) -> bool {
        self.stored.load(Ordering::Acquire)
    }

    /// What it may do has changed.
    pub fn set_stale(&self) {
        self.stale.store(true, Ordering::Release);
        self.bell.ring();
    }

    /// Whether its task has something to look at before anything more is sent.
    pub fn is_called(&self) -> bool {
        self.stale.load(Ordering::Acquire)
    }

    /// Whether what it may do has changed since the last call.
    pub fn take_stale(&self) -> bool {
        self.stale.load(Ordering::Acquire) && self.stale.swap(false, Ordering::AcqRel)
    }

    /// Whether its client is connected.
    pub fn is_connected(&self) -> bool {
        self.connected.load(Ordering::Acquire)
    }

    /// Changes where the session is.
    pub fn set_place(&self, place: &mut Place, new: Place) -> Place {
        self.connected.store(matches!(new, Place::Connected(_)), Ordering::Release);
        std::mem::replace(place, new)
    }

    /// A client resumes the session and wants it kept, or not any more.
    pub fn set_kept(&self, kept: bool) {
        self.stored.fetch_or(kept, Ordering::AcqRel);
        self.kept.store(kept, Ordering::Release);
    }

    /// Does something to the queue, and counts what that means for the identity's share. `None` if the session is over.
    fn with_queue<R>(&self, act: impl FnOnce(&mut Outbox) -> R) -> Option<R> {
        let mut outbox = self.outbox.lock();
        let queue = outbox.as_mut()?;
        let before = queue.bytes();
        let done = act(queue);
        let after = queue.bytes();
        if after != before {
            self.holding.queues.change(before, after);
        }
        Some(done)
    }

    /// The same, for something that makes it grow; `None` if nothing is to be queued any more.
    fn grow_queue(&self, act: impl FnOnce(&mut Outbox) -> Option<Pushed>) -> Option<Pushed> {
        let share = &self.holding.queues;
        self.with_queue(|queue| {
            queue.set_ceiling(share.room(queue.bytes()));
            let pushed = act(queue)?;
            if pushed.over_ceiling {
                share.note_refused();
            }
            Some(pushed)
        })?
    }

    /// Queues a delivery. `filed` is called with it, under the queue's lock, when it has to be filed. Whoever files holds the
    /// journal's lock until the message is filed for all who get it.
    pub fn push(&self, mut delivery: Delivery, filed: impl FnOnce(&Delivery)) -> Queueing {
        let pushed = self.grow_queue(|queue| {
            if delivery.qos == QoS::AtMostOnce {
                // A client that is away is kept no message that nobody would acknowledge.
                if !self.is_connected() {
                    return None;
                }
            } else if self.is_persistent() {
                delivery.sequence = queue.next_sequence();
            }
            Some(queue.push(delivery, filed))
        });
        let queueing = pushed.map_or_else(|| Queueing::gone(1), |pushed| self.pushed(pushed));
        if queueing.first {
            self.bell.ring();
        }
        queueing
    }

    /// Queues messages that follow each other; none of them is to be filed. If they are the first, the caller has them
    /// carried out or rings the bell.
    pub fn push_run(&self, recipient: &Recipient<Arc<Self>>, run: &Arc<Run>) -> Queueing {
        let Some(part) = recipient.part(run) else { return Queueing::default() };
        let count = part.len();
        let is_away = || part.qos == QoS::AtMostOnce && !self.is_connected();
        let pushed = if is_away() { None } else { self.grow_queue(|queue| Some(queue.push_part(part))) };
        pushed.map_or_else(|| Queueing::gone(count), |pushed| self.pushed(pushed))
    }

    fn pushed(&self, pushed: Pushed) -> Queueing {
        if pushed.end {
            self.end(Ended::QueueFull, true);
        }
        let withheld = (pushed.dropped + pushed.displaced.len()) as u64;
        let why = (pushed.dropped > 0).then_some(Withheld::QueueFull);
        let Pushed { dropped, displaced, end, first, .. } = pushed;
        Queueing { withheld, dropped, why, displaced, end, first: first && !end }
    }

    /// Puts these in front of all others, whatever the bound: they had been queued before.
    pub fn put_back(&self, entries: impl DoubleEndedIterator<Item = Queued>) {
        self.with_queue(|queue| queue.put_back(entries));
    }

    /// When the message was accepted that has waited longest, if one waits that its task has not taken.
    pub fn oldest(&self) -> Option<Time> {
        self.outbox.lock().as_ref()?.oldest()
    }

    /// Places in the queue are higher than this one from now on.
    pub fn go_on_after(&self, sequence: u64) {
        self.with_queue(|queue| queue.go_on_after(sequence));
    }

    /// A place in the queue for a message that does not go through it.
    pub fn next_sequence(&self) -> u64 {
        self.outbox.lock().as_mut().map_or(0, Outbox::next_sequence)
    }

    /// Puts what the database has behind all others, whatever the bound.
    pub fn put_stored(&self, stored: impl Iterator<Item = (Shelved, Option<Arc<Filed>>)>) {
        self.with_queue(|queue| {
            // A session that was restored is away.
            queue.leave();
            stored.for_each(|(stored, filed)| queue.put_stored(stored, filed));
        });
    }

    /// Moves up to `most` messages to the end of `into`; gives what is to be read from the database to go on, once.
    pub fn take(&self, most: usize, into: &mut VecDeque<Queued>) -> Option<Page> {
        self.with_queue(|queue| {
            queue.take(most, into);
            queue.page()
        })?
    }

    /// A page was read, or could not be. Gives what the database did not have.
    pub fn read(&self, page: Page, rows: Option<Vec<Delivery>>) -> Vec<Left> {
        let lost = self.with_queue(|queue| queue.read(page, rows)).unwrap_or_default();
        self.bell.ring();
        lost
    }

    /// Its client is connected: what waits is read from the database as it is due.
    pub fn attend(&self, limits: &Limits) {
        self.with_queue(|queue| {
            queue.set_limits(limits);
            queue.attend();
        });
    }

    /// Its client is away: most of what waits is no longer held in memory. The journal's lock is held.
    pub fn leave(&self) {
        self.with_queue(Outbox::leave);
    }

    /// Whether something waits that is in the database alone.
    pub fn has_shelved(&self) -> bool {
        self.outbox.lock().as_ref().is_some_and(|outbox| outbox.shelved() > 0)
    }

    /// Takes out what was accepted before a time, so many at most.
    pub fn take_older(&self, before: Time, most: usize) -> Vec<Left> {
        self.with_queue(|queue| queue.take_older(before, most)).unwrap_or_default()
    }

    /// Takes out what is in memory and `wanted` names.
    pub fn take_if(&self, wanted: impl FnMut(&Queued) -> bool) -> Vec<Queued> {
        self.with_queue(|queue| queue.take_if(wanted)).unwrap_or_default()
    }

    /// Nothing is queued from now on; the queue is given back, unless somebody has it already.
    pub fn close(&self) -> Option<Outbox> {
        let queue = self.outbox.lock().take()?;
        self.holding.queues.give(queue.bytes());
        Some(queue)
    }

    /// How much it has to do, for shared subscriptions.
    pub fn load(&self) -> Load {
        let waiting = match self.outbox.lock().as_ref() {
            None => return Load::Over,
            Some(outbox) => outbox.len(),
        };
        if !self.is_connected() {
            return Load::Away;
        }
        Load::Waiting(waiting + self.held.load(Ordering::Relaxed) + self.in_flight.load(Ordering::Relaxed))
    }

    /// Messages that wait to be sent, and messages dropped because there were too many.
    pub fn queue(&self) -> (usize, u64) {
        let outbox = self.outbox.lock();
        let (waiting, dropped) = outbox.as_ref().map_or((0, 0), |outbox| (outbox.len(), outbox.dropped()));
        (waiting + self.held.load(Ordering::Relaxed), dropped)
    }

    /// Messages that wait to be sent, and the bytes of those that its task has not taken.
    pub fn waiting(&self) -> (usize, usize) {
        let outbox = self.outbox.lock();
        let (messages, bytes) = outbox.as_ref().map_or((0, 0), |outbox| (outbox.len(), outbox.bytes()));
        (messages + self.held.load(Ordering::Relaxed), bytes)
    }

    /// What its queue's policy would do for a message of this weight; `None` if there is room for it.
    pub fn full(&self, weight: usize) -> Option<QueuePolicy> {
        self.outbox.lock().as_ref()?.full(weight)
    }

    /// Asks the task of a connected session to end its connection; the first reason stands.
    pub fn end(&self, why: Ended, discard: bool) {
        if let Place::Connected(link) = &*self.place.lock() {
            let _first_stands = link.ending.set(Ending { why, discard });
        }
        self.bell.ring();
    }

    /// Its connection, if it has one.
    pub fn link(&self) -> Option<Arc<Link>> {
        match &*self.place.lock() {
            Place::Connected(link) => Some(Arc::clone(link)),
            _ => None,
        }
    }

    /// Counts messages that were not sent for another reason than a full queue.
    pub fn note_withheld(&self, why: Withheld, count: u64) {
        if count > 0 {
            self.reasons.get_or_init(Box::default).withheld[why.place()].fetch_add(count, Ordering::Relaxed);
        }
    }

    /// Counts a message of which a condition is not true: nobody missed it.
    pub fn note_left_out(&self) {
        self.reasons.get_or_init(Box::default).left_out.fetch_add(1, Ordering::Relaxed);
    }

    /// Messages of which a condition was not true.
    pub fn left_out(&self) -> u64 {
        self.reasons.get().map_or(0, |reasons| reasons.left_out.load(Ordering::Relaxed))
    }

    /// A message of its client reached nobody, because another one owns its topic.
    pub fn note_not_owner(&self) {
        self.reasons.get_or_init(Box::default).not_owner.fetch_add(1, Ordering::Relaxed);
    }

    /// How many did.
    pub fn not_owner(&self) -> u64 {
        self.reasons.get().map_or(0, |reasons| reasons.not_owner.load(Ordering::Relaxed))
    }

    /// What was withheld, by reason.
    pub fn withheld(&self) -> Vec<(&'static str, u64)> {
        self.reasons.get().map_or_else(Vec::new, |reasons| named(&reasons.withheld, Withheld::VARIANTS))
    }

    /// What was refused, by reason.
    pub fn refused(&self) -> Vec<(&'static str, u64)> {
        self.reasons.get().map_or_else(Vec::new, |reasons| named(&reasons.refused, ReasonKind::VARIANTS))
    }

    /// Its connection has ended.
    pub fn note_end(&self, now: Time, why: Ended) {
        *self.last_end.lock() = Some(Box::new((now, why)));
    }

    /// How its last connection ended, and when, if one has since the service started.
    pub fn last_end(&self) -> Option<(Time, Ended)> {
        self.last_end.lock().as_deref().cloned()
    }

    /// Counts what was refused, and remembers it.
    pub fn note_refusal(&self, refusal: &Refusal) {
        let place = ReasonKind::from(&refusal.reason).place();
        self.reasons.get_or_init(Box::default).refused[place].fetch_add(refusal.count, Ordering::Relaxed);
        *self.last_refusal.lock() = Some(Box::new((OffsetDateTime::now_utc(), refusal.remembered())));
    }

    /// Looks at what it has sent and received: gives what was counted since the last look.
    pub fn look(&self, now: Time) -> Totals {
        let totals = self.counters.read();
        let mut looked = self.looked.lock();
        let more = totals.since(&looked.at_last);
        looked.at_last = totals;
        if now - looked.since >= LOOKED_OVER {
            looked.rates = Some(totals.since(&looked.at_first).over(now - looked.since));
            (looked.since, looked.at_first) = (now, totals);
        }
        more
    }

    /// It is known from now on; it may have begun long ago.
    pub fn look_from(&self, now: Time) {
        self.looked.lock().since = now;
    }

    /// Its rates over the last whole minute; over what there is if it is younger.
    pub fn rates(&self, now: Time) -> Rates {
        let looked = self.looked.lock();
        looked.rates.unwrap_or_else(|| self.counters.read().since(&looked.at_first).over(now - looked.since))
    }

    /// Its client, as facts name it.
    pub fn named(&self) -> Client {
        Client { id: self.client_id.clone(), identity: Arc::clone(&self.identity) }
    }
}
