//! Who owns topics, whatever sessions there are.

use std::sync::atomic::{AtomicBool, Ordering};

use imbl::OrdSet;
use moorfall_core::owned::{Claim, Owners, Publishing, Seen};
use moorfall_store::Store;
use moorfall_wire::TopicName;
use tracing_mutex::parkinglot::Mutex;

/// Topics that are written at a time.
const WRITTEN: usize = 1_000;

/// Who owns topics.
#[derive(Debug, Default)]
pub struct OwnedTopics {
    pub(super) owners: Mutex<Owners>,
    /// Whether the service stops: sessions that end by that leave their owners as they are.
    pub(super) stops: AtomicBool,
}

impl OwnedTopics {
    /// A topic with its owner, if it has one.
    pub fn see(&self, topic: &TopicName) -> Option<Seen> {
        self.owners.lock().see(topic)
    }

    /// Who would keep a message from everyone, if somebody would; nothing is changed.
    pub fn would_keep_back(&self, topic: &TopicName, publishing: Publishing<'_>) -> Option<Claim> {
        self.owners.lock().would_keep_back(topic, publishing)
    }

    /// The topics that have owners, as they are now.
    pub fn topics(&self) -> OrdSet<TopicName> {
        self.owners.lock().topics()
    }

    /// From now on sessions end because the service stops.
    pub fn stop(&self) {
        self.stops.store(true, Ordering::Relaxed);
    }

    /// Writes what is new; gives whether there is more.
    pub(super) async fn keep(&self, store: &Store) -> bool {
        let kept = self.owners.lock().take_new(WRITTEN);
        if kept.is_empty() {
            return false;
        }
        if let Err(error) = store.put_owners(&kept).await {
            tracing::debug!("owners of topics are not kept yet: {error}");
            self.owners.lock().put_back(kept);
            return false;
        }
        true
    }
}
