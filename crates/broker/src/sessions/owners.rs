//! Owned topics: whose messages are heard, and what must survive of that.

use std::{
    collections::BTreeMap,
    sync::{Arc, atomic::Ordering},
    time::Duration,
};

use moorfall_core::{
    AttributeValue, Message, Time,
    blueprint::{Blueprint, Owned},
    measure::Measure,
    owned::{Change, Kept, NotOwner, OwnedPaths, Publishing},
};
use moorfall_live::facts::Fact;
use moorfall_store::{Store, StoreError};
use tokio::time::{MissedTickBehavior, interval};
use tokio_util::sync::CancellationToken;

use crate::{notes, sessions::Sessions};

/// Topics that are looked at or forgotten at a time.
const SLICE: usize = 256;

/// Between two looks at what is to be written.
const KEEP_EVERY: Duration = Duration::from_secs(1);

/// What is known of whoever publishes.
#[derive(Clone, Copy)]
pub struct Publisher<'a> {
    /// Its client; its identity where no client publishes.
    pub client_id: &'a str,
    /// Its identity.
    pub identity: &'a Arc<str>,
    /// What is known of the identity.
    pub attributes: Option<&'a BTreeMap<String, AttributeValue>>,
    /// Whether the message is its will.
    pub is_will: bool,
}

impl Sessions {
    /// Why a message to a topic that is owned reaches nobody, if so; whoever it makes the owner is.
    pub fn judge_owner(&self, message: &Message, by: &Arc<Owned>, publisher: Publisher<'_>) -> Option<NotOwner> {
        let Publisher { client_id, identity, attributes, is_will } = publisher;
        let withheld = if is_will {
            self.owned.owners.lock().judge_will(&message.topic, client_id)
        } else {
            let strength = by.strength.of(|| attributes, &message.properties.user_properties);
            let publishing = Publishing { client_id, identity, strength };
            let now = self.clock.now();
            let said = self.owned.owners.lock().publish(&message.topic, by, publishing, now);
            self.note_owners(said.change, now);
            said.withheld
        };
        if let Some(why) = &withheld {
            self.live.counters.count(Measure::NotOwner, 1);
            self.live.recorder.keep_back(message.journey(), why);
        }
        withheld
    }

    /// The session of a client has ended: others own what it owned.
    pub(super) fn end_ownership(&self, client_id: &str) {
        if self.owned.stops.load(Ordering::Relaxed) {
            return;
        }
        let now = self.clock.now();
        loop {
            // Others have their turn between.
            let (changes, more) = self.owned.owners.lock().end(client_id, now, SLICE);
            self.note_owners(changes, now);
            if !more {
                break;
            }
        }
    }

    fn note_owners(&self, changes: impl IntoIterator<Item = Change>, now: Time) {
        for change in changes {
            notes::note(&self.live, now, &Fact::OwnerChanged(change));
        }
    }

    /// The topics of this design have owners from now on, and no others.
    pub fn set_owned(&self, blueprint: &Blueprint) {
        let paths = Arc::new(OwnedPaths::new(&blueprint.owned));
        if paths.is_empty() && self.router.owned().is_empty() {
            return;
        }
        self.router.set_owned(Arc::clone(&paths));
        let topics = self.owned.topics();
        let mut left = topics.iter().peekable();
        while left.peek().is_some() {
            self.owned.owners.lock().forget_unowned(left.by_ref().take(SLICE), &paths);
        }
    }

    /// Owners as they were when the service last ran.
    pub(super) async fn restore_owners(&self, store: &Store) -> Result<(), StoreError> {
        let kept = store.owners().await?;
        let (paths, now) = (self.router.owned(), self.clock.now());
        let mut owners = self.owned.owners.lock();
        kept.into_iter().for_each(|kept: Kept| owners.restore(kept, &paths, now));
        Ok(())
    }
}

/// Looks whether owners are silent for too long, and writes who owns what, until the service stops.
pub async fn keep_owners(sessions: Arc<Sessions>, store: Store, stopping: CancellationToken) {
    let mut ticks = interval(KEEP_EVERY);
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    loop {
        // None is due sooner than a tick from now that was not due before.
        let due = sessions.owned.owners.lock().due().map(|due| sessions.clock.instant(due));
        tokio::select! {
            () = crate::clock::sleep(due) => {
                let now = sessions.clock.now();
                let changes = sessions.owned.owners.lock().look(now, SLICE);
                sessions.note_owners(changes, now);
                tokio::task::yield_now().await;
            }
            _ = ticks.tick() => while sessions.owned.keep(&store).await {},
            () = stopping.cancelled() => break,
        }
    }
    while sessions.owned.keep(&store).await {}
}
