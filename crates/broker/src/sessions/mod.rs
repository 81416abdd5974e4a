//! Sessions and what waits for them: how messages reach them, what they keep, and how they begin and end. Who may do
//! what is asked of a judge.

pub mod bell;
pub mod cleared;
pub mod deeds;
pub mod dispatch;
pub mod due;
pub mod journal;
pub mod journal_writer;
pub mod judged;
pub mod lifecycle;
pub mod owned_topics;
pub mod owners;
pub mod page_reader;
pub mod pager;
pub mod record;
pub mod registry;
pub mod resting;
pub mod restore;

use std::sync::{
    Arc,
    atomic::{AtomicU64, Ordering},
};

use moorfall_core::{Holding, Limits, SessionKey, router::Router};
use moorfall_live::Live;
use moorfall_store::LastUsed;
use tracing_mutex::parkinglot::Mutex;

use crate::{
    clock::Clock,
    judge::Judges,
    sessions::{
        cleared::Cleared, journal::Journal, owned_topics::OwnedTopics, pager::Pager, record::SessionRecord,
        registry::Registry,
    },
};

/// All sessions of one broker.
#[derive(Debug)]
pub struct Sessions {
    /// Who subscribes to what, and the retained messages.
    pub router: Router<Arc<SessionRecord>>,
    /// All sessions by client identifier.
    pub registry: Registry,
    /// What must survive, on its way to the database.
    pub journal: Arc<Journal>,
    /// What is not in memory, on its way from it.
    pub pager: Pager,
    /// What goes on.
    pub live: Arc<Live>,
    /// Who says what identities may do.
    pub judge: Judges,
    /// Retained messages that were cleared and can be brought back.
    pub cleared: Mutex<Cleared>,
    /// Who owns topics that have one owner at a time.
    pub owned: OwnedTopics,
    /// Limits of the service.
    pub limits: Arc<Limits>,
    /// The clock of the process.
    pub clock: Clock,
    next_key: AtomicU64,
}

impl Sessions {
    /// None yet; keys and numbers go on after the last ones.
    pub fn new(limits: Arc<Limits>, clock: Clock, live: Arc<Live>, judge: Judges, last: LastUsed) -> Self {
        Self {
            router: Router::default(),
            registry: Registry::default(),
            journal: Arc::new(Journal::new(last.number)),
            pager: Pager::default(),
            live,
            judge,
            cleared: Mutex::default(),
            owned: OwnedTopics::default(),
            limits,
            clock,
            next_key: AtomicU64::new(last.key + 1),
        }
    }

    /// What an identity holds, and how much it may.
    pub fn holding(&self, identity: &Arc<str>) -> Arc<Holding> {
        self.registry.holding(identity, || self.judge.quota(identity))
    }

    /// A key that no session has had.
    pub fn next_key(&self) -> SessionKey {
        SessionKey(self.next_key.fetch_add(1, Ordering::Relaxed))
    }
}
