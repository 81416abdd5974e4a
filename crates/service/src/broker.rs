//! What all tasks of the service share.

use std::{
    collections::{HashSet, VecDeque},
    net::SocketAddr,
    path::PathBuf,
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
};

use moorfall_core::{
    Holding, Identity, Limits, Message, Quota, Run, SessionKey,
    measure::History,
    router::{Load, Recipient, Route, Router, is_filed},
    session::Routed,
};
use moorfall_store::{Author, Resolution, Sample, Store};
use moorfall_wire::{PacketId, QoS};
use parking_lot::Mutex;
use smallvec::SmallVec;
use time::OffsetDateTime;
use tokio::sync::broadcast;
use tokio_util::{sync::CancellationToken, task::TaskTracker};

use crate::{
    api::{LiveReading, types::DriftView},
    authenticator::Authenticator,
    authorities::Authorities,
    bench::Bench,
    cleared::Cleared,
    clock::Clock,
    counters::{Batch, PerCore},
    database_health::DatabaseHealth,
    design::Design,
    directory::{Directory, DirectoryError, IdentityDraft, IdentityImport, IdentityView, Impact, ManyPut},
    doors::Doors,
    drift::{Drifts, Refusals},
    gatekeeper::{PerAddress, Tickets},
    journal::{self, Journal, Promise},
    listener::Listener,
    private_database::PrivateDatabase,
    recorder::{Origin, Recorder},
    registry::Registry,
    sampler::HISTORY,
    seats::Seats,
    session_record::{Outcome, SessionRecord},
    sign_ins::SignIns,
    tokens::Tokens,
    topics::{Noted, Topics},
};

/// Where the service is.
#[derive(Clone, Debug)]
pub(crate) struct Addresses {
    /// The first listener of plain TCP, if there is one: what commands on this machine use.
    pub(crate) mqtt: Option<SocketAddr>,
    pub(crate) http: SocketAddr,
    pub(crate) data: PathBuf,
}

/// The highest numbers that the database knows.
#[derive(Clone, Copy, Debug)]
pub(crate) struct LastUsed {
    pub(crate) key: u64,
    pub(crate) number: u64,
}

/// By whom a message comes.
#[derive(Clone, Copy)]
pub(crate) struct By<'a> {
    pub(crate) identity: &'a Arc<str>,
    pub(crate) waiting: Option<Waiting<'a>>,
}

/// A publisher that waits for an answer.
#[derive(Clone, Copy)]
pub(crate) struct Waiting<'a> {
    pub(crate) record: &'a Arc<SessionRecord>,
    pub(crate) packet_id: PacketId,
}

/// What became of messages that follow each other.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Handed {
    /// To how many sessions they went, without the publisher if it wants none of its own.
    pub(crate) count: usize,
    /// So many, from the first, had room in a queue.
    pub(crate) taken: usize,
}

impl Handed {
    fn of_one(self) -> Routed {
        if self.count > 0 && self.taken == 0 { Routed::QueuesFull } else { Routed::To(self.count) }
    }
}

/// What decides whether a message is filed for a recipient.
fn terms(recipient: &Recipient<Arc<SessionRecord>>) -> (QoS, bool) {
    (recipient.qos, recipient.handle.is_kept())
}

/// The broker as its tasks see it.
#[derive(Debug)]
pub(crate) struct Broker {
    pub(crate) limits: Arc<Limits>,
    pub(crate) clock: Clock,
    /// By which names browsers may come in.
    pub(crate) doors: Doors,
    pub(crate) started_at: OffsetDateTime,
    pub(crate) router: Router<Arc<SessionRecord>>,
    pub(crate) registry: Registry,
    pub(crate) journal: Journal,
    pub(crate) design: Design,
    pub(crate) topics: Topics,
    pub(crate) drifts: Drifts,
    pub(crate) refusals_seen: Refusals,
    pub(crate) recorder: Recorder,
    pub(crate) bench: Bench,
    /// Topics that were silent too long: until when that is good, under which revision, and what was found.
    pub(crate) silent: tokio::sync::Mutex<Option<(tokio::time::Instant, i64, Vec<DriftView>)>>,
    pub(crate) authenticator: Authenticator,
    pub(crate) seats: Arc<Seats>,
    pub(crate) http_connections: Arc<PerAddress>,
    /// Checks of designs that are under way, by person.
    pub(crate) checks: Arc<Tickets<Arc<str>>>,
    pub(crate) directory: Directory,
    pub(crate) tokens: Tokens,
    pub(crate) sign_ins: SignIns,
    pub(crate) authorities: Authorities,
    /// Retained messages that were cleared and can be brought back.
    pub(crate) cleared: Mutex<Cleared>,
    pub(crate) store: Store,
    /// Absent when another server keeps the records.
    pub(crate) private_database: Option<Arc<PrivateDatabase>>,
    pub(crate) counters: PerCore,
    pub(crate) history: Mutex<History>,
    /// Samples of the last while, written to the database or not.
    pub(crate) recent: Mutex<VecDeque<(Resolution, Sample)>>,
    pub(crate) live: broadcast::Sender<LiveReading>,
    pub(crate) database: DatabaseHealth,
    pub(crate) stopping: CancellationToken,
    pub(crate) open: bool,
    /// Connections and everything that goes on beside them.
    pub(crate) tasks: TaskTracker,
    pub(crate) addresses: Addresses,
    pub(crate) listeners: Vec<Arc<Listener>>,
    /// The path of the HTTP interface at which MQTT is spoken.
    pub(crate) http_listener: Arc<Listener>,
    next_key: AtomicU64,
}

/// What a broker is put together from.
pub(crate) struct Parts {
    pub(crate) clock: Clock,
    pub(crate) doors: Doors,
    pub(crate) limits: Limits,
    pub(crate) design: Design,
    pub(crate) directory: Directory,
    pub(crate) tokens: Tokens,
    pub(crate) sign_ins: SignIns,
    pub(crate) authorities: Authorities,
    pub(crate) store: Store,
    pub(crate) private_database: Option<Arc<PrivateDatabase>>,
    pub(crate) authenticator: Authenticator,
    pub(crate) addresses: Addresses,
    pub(crate) listeners: Vec<Arc<Listener>>,
    pub(crate) http_listener: Arc<Listener>,
    pub(crate) last: LastUsed,
}

impl Broker {
    pub(crate) fn new(parts: Parts) -> Self {
        let limits = Arc::new(parts.limits);
        Self {
            limits: Arc::clone(&limits),
            clock: parts.clock,
            doors: parts.doors,
            started_at: OffsetDateTime::now_utc(),
            router: Router::default(),
            registry: Registry::default(),
            journal: Journal::new(parts.last.number),
            design: parts.design,
            topics: Topics::new(limits.hierarchy_bytes),
            drifts: Drifts::default(),
            refusals_seen: Refusals::default(),
            recorder: Recorder::default(),
            bench: Bench::default(),
            silent: tokio::sync::Mutex::default(),
            open: parts.authenticator.is_open(),
            authenticator: parts.authenticator,
            http_connections: Arc::default(),
            checks: Arc::default(),
            seats: Arc::new(Seats::new(Arc::clone(&limits))),
            directory: parts.directory,
            tokens: parts.tokens,
            sign_ins: parts.sign_ins,
            authorities: parts.authorities,
            cleared: Mutex::default(),
            store: parts.store,
            private_database: parts.private_database,
            counters: PerCore::default(),
            history: Mutex::new(History::new(HISTORY)),
            recent: Mutex::default(),
            live: broadcast::channel(16).0,
            database: DatabaseHealth::default(),
            stopping: CancellationToken::new(),
            tasks: TaskTracker::new(),
            addresses: parts.addresses,
            listeners: parts.listeners,
            http_listener: parts.http_listener,
            next_key: AtomicU64::new(parts.last.key + 1),
        }
    }

    /// What an identity holds, and how much it may.
    pub(crate) fn holding(&self, identity: &Arc<str>) -> Arc<Holding> {
        self.registry.holding(identity, || self.quota(identity))
    }

    /// How much an identity may hold: as the limits say, and as its cohorts do.
    pub(crate) fn quota(&self, identity: &str) -> Quota {
        let usual = Quota::from(&*self.limits);
        let known = self.directory.identity(identity);
        let nobody = || Identity { name: identity.into(), attributes: Default::default() };
        self.design.policy().quota(&known.unwrap_or_else(nobody), usual)
    }

    pub(crate) fn next_key(&self) -> SessionKey {
        SessionKey(self.next_key.fetch_add(1, Ordering::Relaxed))
    }

    /// Routes a message that no connection has brought: a will, or the service's own.
    pub(crate) fn publish(&self, message: &Arc<Message>, identity: &Arc<str>) {
        let (messages, bytes) = (std::slice::from_ref(message), message.weight() as u64);
        self.topics.note(&message.topic, Noted { messages, bytes, publisher: identity }, self.clock.now());
        let mut batch = Batch { messages_in: 1, ..Batch::default() };
        let by = By { identity, waiting: None };
        let route = self.router.route(&message.topic);
        if self.recorder.is_on() {
            let access = "it is a will, or the service's own".to_owned();
            let origin = || Origin { identity: identity.to_string(), access, ..Origin::default() };
            self.distribute(&self.recorder.follow(Arc::clone(message), origin), &route, by, &mut batch);
        } else {
            self.distribute(message, &route, by, &mut batch);
        }
        self.counters.add(&batch);
    }

    /// Keeps a message if it is to be retained, and hands it to everyone on the route. What must survive is filed; the
    /// promise is kept when it is safe.
    pub(crate) fn distribute(
        &self,
        message: &Arc<Message>,
        route: &Route<Arc<SessionRecord>>,
        By { identity, waiting }: By<'_>,
        batch: &mut Batch,
    ) -> (Routed, Option<Arc<Promise>>) {
        // A member that may not have this message is not there for it.
        let load = |record: &Arc<SessionRecord>| match record.is_denied(&message.topic) {
            true => Load::Over,
            false => record.load(),
        };
        let chosen = route.groups.iter().filter_map(|group| group.choose(load));
        let all = || route.recipients.iter();
        let chosen: SmallVec<[&Recipient<Arc<SessionRecord>>; 4]> = chosen.collect();
        let exactly_once = message.qos == QoS::ExactlyOnce;
        let is_kept = waiting.as_ref().is_some_and(|waiting| waiting.record.is_kept());
        let received = waiting.as_ref().filter(|_| exactly_once && is_kept);
        let recipients = all().chain(chosen.iter().copied()).map(terms);
        if !is_filed(message.qos, message.retain, is_kept, recipients) {
            let run = Arc::new(Run::new([Arc::clone(message)]));
            let handed = self.distribute_run(&run, all().chain(chosen.iter().copied()), batch);
            return (handed.of_one(), None);
        }
        // What may stay for long must not borrow a receive buffer.
        let message = &Arc::new(message.detached());
        let mut journal = self.journal.open();
        if message.retain {
            match self.router.retain(message, &self.holding(identity), &self.limits) {
                Err(full) => {
                    self.recorder.turn_away(message.journey(), &full.to_string());
                    return (Routed::RetainedFull(full), None);
                }
                Ok(before) => {
                    let kept = (!message.payload.is_empty()).then_some((message, identity));
                    journal.retain(kept, before.as_ref());
                }
            }
        }
        let mut handed = Handed::default();
        for recipient in all().chain(chosen.iter().copied()) {
            if let Some(is_taken) = self.push(message, recipient, &mut journal, batch) {
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

    /// Whether messages like this one take the short way: nothing is kept, filed or chosen among members. At QoS 2 the
    /// identifier is filed if the publisher's session is kept.
    pub(crate) fn is_plain(message: &Message, route: &Route<Arc<SessionRecord>>, publisher_is_kept: bool) -> bool {
        let recipients = route.recipients.iter().map(terms);
        route.groups.is_empty() && !is_filed(message.qos, message.retain, publisher_is_kept, recipients)
    }

    /// Hands messages that follow each other, and of which nothing is filed, to these recipients.
    pub(crate) fn distribute_run<'a>(
        &self,
        run: &Arc<Run>,
        recipients: impl Iterator<Item = &'a Recipient<Arc<SessionRecord>>>,
        batch: &mut Batch,
    ) -> Handed {
        let mut handed = Handed::default();
        for recipient in recipients {
            let is_own = recipient.is_own(run.publisher());
            self.recorder.lead(run.journey(), recipient, run.qos(), is_own);
            let outcome = recipient.handle.push_run(recipient, run);
            if !is_own {
                handed.count += 1;
                // What does not fit is at the end.
                handed.taken = handed.taken.max(run.messages().len() - outcome.dropped);
            }
            if !outcome.displaced.is_empty() {
                let mut journal = self.journal.open();
                let filed = outcome.displaced.iter().filter(|delivery| delivery.sequence > 0);
                filed.for_each(|delivery| journal.done(recipient.session, delivery));
            }
            self.account(run.journey(), recipient, &outcome, batch);
        }
        handed
    }

    /// Puts a message into one session's queue; gives whether there was room for it, or `None` if it is the session's own
    /// and it wants none of these.
    fn push(
        &self,
        message: &Arc<Message>,
        recipient: &Recipient<Arc<SessionRecord>>,
        journal: &mut journal::Batch<'_>,
        batch: &mut Batch,
    ) -> Option<bool> {
        let delivery = recipient.delivery(message);
        self.recorder.lead(message.journey(), recipient, message.qos, delivery.is_none());
        let delivery = delivery?;
        let session = recipient.session;
        let outcome = recipient.handle.push(delivery, |filed| journal.file(session, filed));
        outcome.displaced.iter().for_each(|delivery| journal.done(session, delivery));
        self.account(message.journey(), recipient, &outcome, batch);
        Some(outcome.dropped == 0)
    }

    fn account(&self, journey: u64, recipient: &Recipient<Arc<SessionRecord>>, outcome: &Outcome, batch: &mut Batch) {
        batch.withheld += outcome.withheld;
        self.note_outcome(journey, &recipient.handle, outcome);
        if outcome.end {
            self.registry.end_soon(&recipient.handle);
        }
    }

    /// Notes for the recorder what a push did.
    pub(crate) fn note_outcome(&self, journey: u64, record: &SessionRecord, outcome: &Outcome) {
        if let Some(why) = outcome.why {
            self.recorder.withheld(journey, record, || why.to_string());
        }
        for delivery in &outcome.displaced {
            let words = || "the session's queue is full, and newer messages took its place".into();
            self.recorder.withheld(delivery.message.journey(), record, words);
        }
    }

    /// Makes or replaces an identity. Its sessions end when it may no longer connect or has another password; other
    /// attributes take effect on them at once.
    pub(crate) async fn put_identity(
        &self,
        name: &str,
        draft: IdentityDraft,
        by: &Author,
    ) -> Result<(IdentityView, Option<String>), DirectoryError> {
        let (view, secret, impact) = self.directory.put(name, draft, by).await?;
        match impact {
            Impact::None => {}
            Impact::OtherRights => self.rebind(|record| *record.identity == *name),
            Impact::SignInAgain => self.end_identity(name, "the identity was changed; sign in again", false),
        }
        Ok((view, secret))
    }

    /// Makes or replaces many identities; live sessions are treated as by [`Broker::put_identity`]. Gives the secrets that
    /// were made, with the names of their identities.
    pub(crate) async fn put_identities(
        &self,
        records: &[IdentityImport],
        by: &Author,
    ) -> Result<Vec<(String, String)>, DirectoryError> {
        let ManyPut { secrets, impacts } = self.directory.put_many(records, by).await?;
        let of = |wanted: Impact| -> HashSet<&str> {
            impacts.iter().filter(|(_, impact)| *impact == wanted).map(|(name, _)| name.as_str()).collect()
        };
        let (rebind, end) = (of(Impact::OtherRights), of(Impact::SignInAgain));
        if !rebind.is_empty() {
            self.rebind(|record| rebind.contains(&*record.identity));
        }
        for name in end {
            self.end_identity(name, "the identity was changed; sign in again", false);
        }
        Ok(secrets)
    }

    /// Has the listeners trust the authorities that there are now; gives the names of those that can't, because their own
    /// files are wrong at the moment, and go on with what they trusted before.
    pub(crate) fn trust_authorities(&self) -> Vec<&str> {
        let certificates = self.authorities.certificates();
        let mut failed = Vec::new();
        for listener in &self.listeners {
            if let Some(tls) = &listener.tls
                && let Err(error) = tls.trust(certificates.clone())
            {
                tracing::error!(listener = %listener.name, %error, "what was trusted before stays");
                failed.push(&*listener.name);
            }
        }
        failed
    }

    /// Removes an identity and ends its sessions; gives whether there was one.
    pub(crate) async fn remove_identity(&self, name: &str, by: &Author) -> Result<bool, DirectoryError> {
        let removed = self.directory.remove(name, by).await?;
        self.tokens.forget_identity(name);
        self.end_identity(name, "the identity was removed", true);
        Ok(removed)
    }
}
