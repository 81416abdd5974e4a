//! Sessions and what waits for them: how messages reach them, what they keep, and how they begin and end. Who may do
//! what is asked of a judge.

use std::sync::{
    Arc,
    atomic::{AtomicU64, Ordering},
};

use moorfall_core::{Holding, Limits, SessionKey, router::Router};
use parking_lot::Mutex;

use crate::{
    cleared::Cleared, clock::Clock, journal::Journal, judge::Judges, live::Live, registry::Registry,
    session_record::SessionRecord,
};

/// All sessions of one broker.
#[derive(Debug)]
pub(crate) struct Sessions {
    pub(crate) router: Router<Arc<SessionRecord>>,
    pub(crate) registry: Registry,
    pub(crate) journal: Arc<Journal>,
    pub(crate) live: Arc<Live>,
    pub(crate) judge: Judges,
    /// Retained messages that were cleared and can be brought back.
    pub(crate) cleared: Mutex<Cleared>,
    pub(crate) limits: Arc<Limits>,
    pub(crate) clock: Clock,
    next_key: AtomicU64,
}

/// The highest numbers that the database knows.
#[derive(Clone, Copy, Debug)]
pub(crate) struct LastUsed {
    pub(crate) key: u64,
    pub(crate) number: u64,
}

impl Sessions {
    pub(crate) fn new(limits: Arc<Limits>, clock: Clock, live: Arc<Live>, judge: Judges, last: LastUsed) -> Self {
        Self {
            router: Router::default(),
            registry: Registry::default(),
            journal: Arc::new(Journal::new(last.number)),
            live,
            judge,
            cleared: Mutex::default(),
            limits,
            clock,
            next_key: AtomicU64::new(last.key + 1),
        }
    }

    /// What an identity holds, and how much it may.
    pub(crate) fn holding(&self, identity: &Arc<str>) -> Arc<Holding> {
        self.registry.holding(identity, || self.judge.quota(identity))
    }

    pub(crate) fn next_key(&self) -> SessionKey {
        SessionKey(self.next_key.fetch_add(1, Ordering::Relaxed))
    }
}
