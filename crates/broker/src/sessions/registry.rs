//! All sessions by client identifier, and what their identities hold.
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
use moorfall_core::{Holding, Limits, Quota, SessionKey, Time, session::Ended};
use tokio::sync::Notify;
use tracing_mutex::parkinglot::Mutex;

use crate::sessions::record::{Link, Parked, Place, SessionRecord};

/// Sessions that are taken at a time when all are gone through.
const PAGE: usize = 512;

/// Who wants to come in.
pub struct Newcomer {
    /// Its client identifier.
    pub client_id: String,
    /// Who it is.
    pub identity: Arc<str>,
    /// Whether an earlier session is discarded.
    pub clean_start: bool,
    /// Seconds that the session outlives the connection.
    pub expiry: u32,
    /// Those of its listener; they hold for its queue.
    pub limits: Arc<Limits>,
    /// Its connection.
    pub link: Arc<Link>,
}

/// All sessions.
#[derive(Debug, Default)]
pub struct Registry {
    pub(super) sessions: Mutex<BTreeMap<String, Arc<SessionRecord>>>,
    pub(super) connected: AtomicUsize,
    /// Parked sessions by the time at which something is due. An entry may be out of date; `place` decides.
    pub(super) due: Mutex<BTreeMap<(Time, SessionKey), Arc<SessionRecord>>>,
    pub(super) earlier: Notify,
    /// By identity; those that hold nothing are forgotten now and then.
    holdings: Mutex<HashMap<Arc<str>, Arc<Holding>, RandomState>>,
    /// What found no room in the shares of identities that are forgotten since.
    forgotten: Mutex<NoRoom>,
}

/// How often something found no room in the share of its identity.
#[derive(Clone, Copy, Debug, Default)]
pub struct NoRoom {
    /// Sessions.
    pub sessions: u64,
    /// Subscriptions.
    pub subscriptions: u64,
    /// Conditions of subscriptions.
    pub conditions: u64,
    /// Queued messages.
    pub queues: u64,
    /// Retained messages.
    pub retained: u64,
}

impl NoRoom {
    fn add(&mut self, holding: &Holding) {
        self.sessions += holding.sessions.refused();
        self.subscriptions += holding.subscriptions.refused();
        self.conditions += holding.conditions.refused();
        self.queues += holding.queues.refused();
        self.retained += holding.retained.refused();
    }
}

impl Registry {
    /// What an identity holds; `quota` says how much it may when it held nothing before.
    pub fn holding(&self, identity: &Arc<str>, quota: impl FnOnce() -> Quota) -> Arc<Holding> {
        if let Some(known) = self.holdings.lock().get(identity) {
            return Arc::clone(known);
        }
        // Cohorts are looked at outside of the lock.
        let new = Arc::new(Holding::new(quota()));
        Arc::clone(self.holdings.lock().entry(Arc::clone(identity)).or_insert(new))
    }

    /// All that hold something, by identity.
    pub fn holdings(&self) -> Vec<(Arc<str>, Arc<Holding>)> {
        self.holdings.lock().iter().map(|(name, holding)| (Arc::clone(name), Arc::clone(holding))).collect()
    }

    /// Forgets those that hold nothing.
    pub fn forget_holdings(&self) {
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
    pub fn no_room(&self) -> NoRoom {
        let mut sum = *self.forgotten.lock();
        self.holdings.lock().values().for_each(|holding| sum.add(holding));
        sum
    }

    /// How many clients are connected.
    pub fn connected(&self) -> usize {
        self.connected.load(Ordering::Relaxed)
    }

    /// How many sessions there are, connected or not.
    pub fn count(&self) -> usize {
        self.sessions.lock().len()
    }

    /// The first so many sessions behind this client identifier, by client identifier.
    pub fn page(&self, after: Option<&str>, most: usize) -> Vec<Arc<SessionRecord>> {
        let from = after.map_or(Bound::Unbounded, Bound::Excluded);
        self.sessions
            .lock()
            .range::<str, _>((from, Bound::Unbounded))
            .take(most)
            .map(|(_, one)| Arc::clone(one))
            .collect()
    }

    /// All sessions, by client identifier. Nobody who comes or goes waits for all of them.
    pub fn all(&self) -> impl Iterator<Item = Arc<SessionRecord>> {
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
    pub fn get(&self, client_id: &str) -> Option<Arc<SessionRecord>> {
        self.sessions.lock().get(client_id).cloned()
    }

    /// Puts a stored session back.
    pub fn restore(&self, record: Arc<SessionRecord>) {
        if let Place::Parked(parked) = &*record.place.lock() {
            self.set_due(&record, parked);
        }
        self.sessions.lock().insert(record.client_id.clone(), record);
    }

    /// Has a session that is away ended, by the task that keeps the time.
    pub fn end_soon(&self, record: &Arc<SessionRecord>, why: Ended) {
        if let Place::Parked(parked) = &mut *record.place.lock() {
            parked.ends = Some(parked.since);
            parked.over.get_or_insert(Box::new(why));
            self.set_due(record, parked);
        }
    }

    pub(super) fn remove(&self, record: &SessionRecord) {
        let mut sessions = self.sessions.lock();
        if sessions.get(&record.client_id).is_some_and(|known| known.key == record.key) {
            sessions.remove(&record.client_id);
            record.holding.sessions.give(1);
        }
    }

    pub(super) fn set_due(&self, record: &Arc<SessionRecord>, parked: &Parked) {
        let will = parked.will.as_ref().map(|(due, _)| *due);
        if let Some(due) = [will, parked.ends].into_iter().flatten().min() {
            self.due.lock().insert((due, record.key), Arc::clone(record));
            self.earlier.notify_one();
        }
    }
}
