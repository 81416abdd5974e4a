//! What must survive, on its way to the database: group commit.
//!
//! 1. Changes are made under one lock, in the order in which they take effect; a batch is what came together while
//!    the one before it was being written, or a large part of that: whoever waits for it can go on while the rest is written.
//! 2. A promise is kept when the batch that was open when it was made is committed, or earlier when nobody needs the
//!    message any more.
//! 3. A message is filed under the lock under which it is put into the queue of a kept session, so that its
//!    acknowledgement can't be journalled before it.
//! 4. While the database is away batches are not lost: the one that failed is written again until it succeeds, and
//!    what comes meanwhile waits behind it, bounded by the queues of the sessions.

use std::{
    collections::{HashMap, VecDeque},
    sync::{
        Arc,
        atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering},
    },
    time::Duration,
};

use foldhash::fast::RandomState;
use moorfall_core::{Delivery, Left, Message, SessionKey, session::Keep};
use moorfall_store::{Author, Changes, Deed, SessionRow, SubscriptionRow};
use moorfall_wire::{PacketId, TopicFilter};
use time::OffsetDateTime;
use tokio::{
    sync::{Notify, watch},
    time::Instant,
};
use tokio_util::sync::CancellationToken;
use tracing_mutex::parkinglot::{Mutex, MutexGuard};

use crate::sessions::record::SessionRecord;

/// Something that a client is told once it is safe.
#[derive(Debug)]
pub struct Promise {
    kept: AtomicBool,
    /// The one message that it is about.
    pub(super) message: Option<u64>,
    /// Whose task waits for it.
    waiter: Arc<SessionRecord>,
}

impl Promise {
    /// Whether it is safe by now.
    pub fn is_kept(&self) -> bool {
        self.kept.load(Ordering::Acquire)
    }

    pub(super) fn keep(&self) {
        self.kept.store(true, Ordering::Release);
        self.waiter.bell.ring();
    }
}

/// Changes that are not committed.
#[derive(Debug)]
pub struct Journal {
    pub(super) open: Mutex<Open>,
    pub(super) work: Notify,
    releases: AtomicU64,
    /// Rows of the batch that is being written.
    pub(super) writing: AtomicUsize,
    /// Since when.
    pub(super) writing_since: Mutex<Option<Instant>>,
    /// Batches that are committed.
    pub(super) committed: watch::Sender<u64>,
    /// Cancelled when nothing more will come.
    pub(super) closing: CancellationToken,
}

#[derive(Debug, Default)]
pub(super) struct Open {
    pub(super) changes: Changes,
    pub(super) promises: Vec<Arc<Promise>>,
    /// Promises of uncommitted messages that are kept early when every session has acknowledged, by number.
    pub(super) early: HashMap<u64, Arc<Promise>, RandomState>,
    last_number: u64,
    /// Batches that are large enough and wait to be written, the oldest first.
    sealed: VecDeque<Batch>,
    /// Batches that were sealed, or taken to be written.
    batch: u64,
}

/// What is written in one transaction.
#[derive(Debug, Default)]
pub(super) struct Batch {
    pub(super) changes: Changes,
    /// What is safe then.
    pub(super) promises: Vec<Arc<Promise>>,
    /// Its number; that of the one before if there are no changes.
    pub(super) number: u64,
}

/// Rows of a batch that is written by itself: its promises are kept, and those who wait for them go on, while the next one is
/// written.
const SEALED: usize = 8_000;

/// Batches that are sealed at a time. Beyond it one grows, so that what comes and goes while the database is away leaves
/// nothing.
const WAITING: usize = 4;

impl Open {
    /// Ends the batch, if there is enough in it.
    fn seal(&mut self) {
        if self.changes.len() >= SEALED && self.sealed.len() < WAITING {
            let batch = self.end();
            self.sealed.push_back(batch);
        }
    }

    fn end(&mut self) -> Batch {
        self.batch += u64::from(!self.changes.is_empty());
        let (changes, promises) = (std::mem::take(&mut self.changes), std::mem::take(&mut self.promises));
        Batch { changes, promises, number: self.batch }
    }

    /// The batch that is to be written next.
    pub(super) fn next_batch(&mut self) -> Batch {
        match self.sealed.pop_front() {
            Some(sealed) => sealed,
            None => self.end(),
        }
    }
}

impl Journal {
    /// Numbers go on after the ones in use.
    pub fn new(last_number: u64) -> Self {
        Self {
            open: Mutex::new(Open { last_number, ..Open::default() }),
            work: Notify::new(),
            releases: AtomicU64::new(0),
            writing: AtomicUsize::new(0),
            writing_since: Mutex::default(),
            committed: watch::Sender::new(0),
            closing: CancellationToken::new(),
        }
    }

    /// The open batch, for changes that belong together.
    pub fn open(&self) -> OpenBatch<'_> {
        OpenBatch { open: self.open.lock(), journal: self }
    }

    /// A promise about everything that was journalled so far.
    pub fn promise(&self, waiter: &Arc<SessionRecord>) -> Arc<Promise> {
        self.open().promise(waiter)
    }

    /// Waits until everything that was journalled so far is committed, however long that takes.
    pub async fn committed(&self) {
        let batches = {
            let open = self.open.lock();
            open.batch + u64::from(!open.changes.is_empty())
        };
        let mut committed = self.committed.subscribe();
        // The sender is this journal's own.
        let _never_gone = committed.wait_for(|committed| *committed >= batches).await;
    }

    /// Rows that are not committed.
    pub fn backlog(&self) -> usize {
        let open = self.open.lock();
        let sealed: usize = open.sealed.iter().map(|batch| batch.changes.len()).sum();
        open.changes.len() + sealed + self.writing.load(Ordering::Relaxed)
    }

    /// Acknowledgements that wait for a commit.
    pub fn promises(&self) -> usize {
        let open = self.open.lock();
        open.promises.len() + open.sealed.iter().map(|batch| batch.promises.len()).sum::<usize>()
    }

    /// How long the batch that is being written has been waiting to be committed.
    pub fn behind(&self) -> Duration {
        self.writing_since.lock().map_or(Duration::ZERO, |since| since.elapsed())
    }

    /// Nothing more will come; [`super::journal_writer::run`] ends when what there is has been written.
    pub fn close(&self) {
        self.closing.cancel();
    }
}

/// The open batch. Whoever holds it may take the locks of a session, never the other way round: debug builds watch the
/// order of these locks and panic where it is broken.
pub struct OpenBatch<'a> {
    open: MutexGuard<'a, Open>,
    journal: &'a Journal,
}

impl Drop for OpenBatch<'_> {
    fn drop(&mut self) {
        self.open.seal();
        self.journal.work.notify_one();
    }
}

impl OpenBatch<'_> {
    /// Files a message for one session, with its place in that session's queue.
    pub fn file(&mut self, session: SessionKey, delivery: &Delivery) {
        let message = &delivery.message;
        let number = self.number(message);
        // A retained message is written already; one that all others are done with is written anew.
        if message.hold() == 0 && !message.is_retained() {
            self.open.changes.put_message(number, message, None, false);
        }
        self.open.changes.put_delivery(session, delivery.clone());
    }

    fn number(&mut self, message: &Message) -> u64 {
        if let Some(number) = message.number() {
            return number;
        }
        self.open.last_number += 1;
        message.file(self.open.last_number)
    }

    /// Keeps a message of an identity as the retained one of its topic, and no longer the one before it.
    pub fn retain(&mut self, kept: Option<(&Arc<Message>, &Arc<str>)>, before: Option<&Arc<Message>>) {
        if let Some((message, owner)) = kept {
            let number = self.number(message);
            message.set_retained(true);
            self.open.changes.put_message(number, message, Some(owner), false);
        }
        if let Some(message) = before
            && let Some(number) = message.number()
        {
            message.set_retained(false);
            if message.holders() == 0 {
                self.open.changes.remove_message(number);
            } else {
                self.open.changes.put_message(number, message, None, true);
            }
        }
    }

    /// Something that a session keeps.
    pub fn keep(&mut self, session: SessionKey, keep: Keep) {
        match keep {
            Keep::Forget(id) => self.open.changes.remove_received(session, id),
            Keep::Assign(id, delivery) => self.open.changes.assign(session, id, delivery),
            Keep::Release(id, delivery) => {
                let order = self.journal.releases.fetch_add(1, Ordering::Relaxed);
                self.open.changes.release(session, id, delivery, order);
            }
            Keep::Done(delivery) => self.done(session, &delivery),
        }
    }

    /// A filed delivery is done with.
    pub fn done(&mut self, session: SessionKey, delivery: &Delivery) {
        self.forget(session, &delivery.into());
    }

    /// A delivery is over, whether it was filed or not.
    pub fn forget(&mut self, session: SessionKey, left: &Left) {
        if left.sequence == 0 {
            return;
        }
        self.open.changes.remove_delivery(session, left.sequence);
        let Some(number) = left.number else { return };
        if left.filed.as_ref().is_none_or(|filed| filed.let_go() == 0) {
            if !left.filed.as_ref().is_some_and(|filed| filed.is_retained()) {
                self.open.changes.remove_message(number);
            }
            if let Some(promise) = self.open.early.remove(&number) {
                promise.keep();
            }
        }
    }

    /// A QoS 2 message was received and not released yet.
    pub fn received(&mut self, session: SessionKey, id: PacketId) {
        self.open.changes.put_received(session, id);
    }

    /// An entry of the audit; it is given back if too many wait.
    pub fn note(&mut self, by: Author, deed: Deed, at: OffsetDateTime) -> Result<(), Box<Deed>> {
        self.open.changes.note(by, deed, at)
    }

    /// A session is as this says.
    pub fn put_session(&mut self, key: SessionKey, row: SessionRow) {
        self.open.changes.put_session(key, row);
    }

    /// A session is over.
    pub fn remove_session(&mut self, key: SessionKey) {
        self.open.changes.remove_session(key);
    }

    /// A subscription is as this says.
    pub fn subscribe(&mut self, session: SessionKey, row: SubscriptionRow) {
        self.open.changes.put_subscription(session, row);
    }

    /// A subscription is over.
    pub fn unsubscribe(&mut self, session: SessionKey, filter: &TopicFilter) {
        self.open.changes.remove_subscription(session, filter);
    }

    /// A promise about everything that was journalled so far.
    pub fn promise(&mut self, waiter: &Arc<SessionRecord>) -> Arc<Promise> {
        self.add_promise(waiter, None)
    }

    fn add_promise(&mut self, waiter: &Arc<SessionRecord>, message: Option<u64>) -> Arc<Promise> {
        let promise = Arc::new(Promise { kept: AtomicBool::new(false), message, waiter: Arc::clone(waiter) });
        self.open.promises.push(Arc::clone(&promise));
        promise
    }

    /// A promise about one message, kept early when every session that it is filed for has acknowledged it.
    pub fn promise_message(&mut self, waiter: &Arc<SessionRecord>, message: &Message) -> Arc<Promise> {
        let promise = self.add_promise(waiter, message.number());
        if let Some(number) = message.number() {
            self.open.early.insert(number, Arc::clone(&promise));
        }
        promise
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// So many changes of one session each, one after the other.
    fn file(journal: &Journal, range: std::ops::Range<usize>) {
        for key in range {
            journal.open().received(SessionKey(key as u64), PacketId::MIN);
        }
    }

    fn next(journal: &Journal) -> (usize, u64) {
        let batch = journal.open.lock().next_batch();
        (batch.changes.len(), batch.number)
    }

    #[test]
    fn a_large_batch_is_written_in_parts_and_in_order() {
        let journal = Journal::new(0);
        file(&journal, 0..2 * SEALED + 5);
        assert_eq!(journal.backlog(), 2 * SEALED + 5, "what is sealed is not written yet");
        assert_eq!([next(&journal), next(&journal), next(&journal)], [(SEALED, 1), (SEALED, 2), (5, 3)]);
        assert_eq!(next(&journal), (0, 3), "nothing waits, and what was last is still the last");
    }

    #[test]
    fn while_nothing_is_written_no_more_parts_are_made_and_the_rest_grows() {
        let journal = Journal::new(0);
        file(&journal, 0..(WAITING + 3) * SEALED);
        assert_eq!(journal.backlog(), (WAITING + 3) * SEALED);
        for number in 1..=WAITING {
            assert_eq!(next(&journal), (SEALED, number as u64));
        }
        assert_eq!(next(&journal), (3 * SEALED, WAITING as u64 + 1));
    }

    #[tokio::test]
    async fn what_waits_in_a_part_is_not_committed_before_it() {
        let journal = Journal::new(0);
        file(&journal, 0..SEALED);
        file(&journal, SEALED..SEALED + 1);
        let mut committed = std::pin::pin!(journal.committed());
        let mut is_committed = || {
            let mut context = std::task::Context::from_waker(std::task::Waker::noop());
            committed.as_mut().poll(&mut context).is_ready()
        };
        assert!(!is_committed());
        journal.committed.send_replace(next(&journal).1);
        assert!(!is_committed(), "one row more was journalled");
        journal.committed.send_replace(next(&journal).1);
        assert!(is_committed());
    }
}
