//! What all tasks of the service share.

use std::{
    collections::VecDeque,
    net::SocketAddr,
    path::PathBuf,
    sync::{
        Arc,
        atomic::{AtomicU64, AtomicUsize, Ordering},
    },
};

use moorfall_core::{
    Delivery, Limits, Message, SessionKey,
    access::Policy,
    blueprint::Blueprint,
    measure::History,
    router::{Route, Router},
};
use moorfall_store::{Resolution, Sample, Store};
use parking_lot::Mutex;
use time::OffsetDateTime;
use tokio::sync::broadcast;
use tokio_util::sync::CancellationToken;

use crate::{
    api::LiveReading,
    authenticator::Authenticator,
    clock::Clock,
    counters::{Batch, Counters},
    directory::{Directory, DirectoryError, IdentityDraft, IdentityView},
    private_database::PrivateDatabase,
    registry::Registry,
    sampler::HISTORY,
    session_record::SessionRecord,
};

/// Where the service is.
#[derive(Clone, Debug)]
pub(crate) struct Addresses {
    pub(crate) mqtt: SocketAddr,
    pub(crate) http: SocketAddr,
    pub(crate) data: PathBuf,
}

/// The broker as its tasks see it.
#[derive(Debug)]
pub(crate) struct Broker {
    pub(crate) limits: Arc<Limits>,
    pub(crate) clock: Clock,
    pub(crate) started_at: OffsetDateTime,
    pub(crate) router: Router<Arc<SessionRecord>>,
    pub(crate) registry: Registry,
    pub(crate) blueprint: Arc<Blueprint>,
    pub(crate) policy: Policy,
    pub(crate) authenticator: Authenticator,
    pub(crate) directory: Directory,
    pub(crate) store: Store,
    /// Absent when another server keeps the records.
    pub(crate) private_database: Option<Arc<PrivateDatabase>>,
    pub(crate) counters: Counters,
    pub(crate) history: Mutex<History>,
    /// Samples of the last while, written to the database or not.
    pub(crate) recent: Mutex<VecDeque<(Resolution, Sample)>>,
    pub(crate) live: broadcast::Sender<LiveReading>,
    /// Why the database did not answer the last time, if it did not.
    pub(crate) database_trouble: Mutex<Option<String>>,
    pub(crate) stopping: CancellationToken,
    pub(crate) open: bool,
    pub(crate) addresses: Addresses,
    connections: AtomicUsize,
    next_key: AtomicU64,
}

/// Holds a place among the connections; it is given back on drop.
#[derive(Debug)]
pub(crate) struct Place(Arc<Broker>);

impl Drop for Place {
    fn drop(&mut self) {
        self.0.connections.fetch_sub(1, Ordering::Relaxed);
    }
}

impl Broker {
    pub(crate) fn new(
        limits: Limits,
        blueprint: Blueprint,
        directory: Directory,
        store: Store,
        private_database: Option<Arc<PrivateDatabase>>,
        authenticator: Authenticator,
        addresses: Addresses,
    ) -> Self {
        let blueprint = Arc::new(blueprint);
        Self {
            limits: Arc::new(limits),
            clock: Clock::start(),
            started_at: OffsetDateTime::now_utc(),
            router: Router::default(),
            registry: Registry::default(),
            policy: Policy::new(Arc::clone(&blueprint)),
            blueprint,
            open: authenticator.is_open(),
            authenticator,
            directory,
            store,
            private_database,
            counters: Counters::default(),
            history: Mutex::new(History::new(HISTORY)),
            recent: Mutex::default(),
            live: broadcast::channel(16).0,
            database_trouble: Mutex::new(None),
            stopping: CancellationToken::new(),
            addresses,
            connections: AtomicUsize::new(0),
            next_key: AtomicU64::new(1),
        }
    }

    pub(crate) fn next_key(&self) -> SessionKey {
        SessionKey(self.next_key.fetch_add(1, Ordering::Relaxed))
    }

    /// Connections at present, accepted by the protocol or not.
    pub(crate) fn connections(&self) -> usize {
        self.connections.load(Ordering::Relaxed)
    }

    /// A place for one more connection, if there is one.
    pub(crate) fn place(self: &Arc<Self>) -> Option<Place> {
        let room = self.connections.fetch_update(Ordering::Relaxed, Ordering::Relaxed, |count| {
            (count < self.limits.connections).then_some(count + 1)
        });
        room.is_ok().then(|| Place(Arc::clone(self)))
    }

    /// Hands a message to everyone on the route; gives how many it reached or tried to reach.
    pub(crate) fn distribute(
        &self,
        message: &Arc<Message>,
        route: &Route<Arc<SessionRecord>>,
        batch: &mut Batch,
    ) -> usize {
        let mut count = 0;
        for recipient in route.iter() {
            if recipient.no_local && recipient.session == message.publisher {
                continue;
            }
            count += 1;
            let delivery = Delivery {
                message: Arc::clone(message),
                qos: message.qos.min(recipient.qos),
                retain: message.retain && recipient.retain_as_published,
            };
            if !recipient.handle.push(delivery) {
                batch.withheld += 1;
            }
        }
        count
    }

    /// Makes or replaces an identity. Its sessions end when it may no longer connect, or sign in anew when what the
    /// rules see of it has changed.
    pub(crate) async fn put_identity(&self, name: &str, draft: IdentityDraft) -> Result<IdentityView, DirectoryError> {
        let (view, changed) = self.directory.put(name, draft).await?;
        if changed {
            self.registry.end_identity(name, "the identity was changed; sign in again");
        }
        Ok(view)
    }

    /// Removes an identity and ends its sessions; gives whether there was one.
    pub(crate) async fn remove_identity(&self, name: &str) -> Result<bool, DirectoryError> {
        let removed = self.directory.remove(name).await?;
        self.registry.end_identity(name, "the identity was removed");
        Ok(removed)
    }
}
