//! What the rest of the service can see of, and do to, one connected session.

use std::{
    collections::VecDeque,
    net::SocketAddr,
    sync::{
        Arc, OnceLock,
        atomic::{AtomicU64, AtomicUsize, Ordering},
    },
};

use moorfall_core::{Delivery, Limits, Outbox, Pushed, SessionKey};
use moorfall_wire::{ProtocolVersion, ReasonCode};
use parking_lot::Mutex;
use time::OffsetDateTime;
use tokio::sync::Notify;
use tokio_util::sync::CancellationToken;

use crate::counters::Counters;

/// Why the service ends a session.
#[derive(Debug)]
pub(crate) struct Ending {
    pub(crate) reason: ReasonCode,
    pub(crate) words: String,
}

/// Something that was refused.
#[derive(Clone, Debug)]
pub(crate) struct Refusal {
    pub(crate) at: OffsetDateTime,
    pub(crate) words: String,
}

/// One connected session.
///
/// 1. Publishers push into `outbox` and wake the session's task only when the queue was empty; the task drains it.
/// 2. `ending` is set once, then the task is woken; `gone` is cancelled when the task has left the router and the
///    registry, after the will was published.
#[derive(Debug)]
pub(crate) struct SessionRecord {
    pub(crate) key: SessionKey,
    pub(crate) client_id: String,
    pub(crate) identity: Arc<str>,
    pub(crate) address: SocketAddr,
    pub(crate) version: ProtocolVersion,
    pub(crate) connected_at: OffsetDateTime,
    pub(crate) counters: Counters,
    pub(crate) subscriptions: AtomicUsize,
    pub(crate) in_flight: AtomicUsize,
    /// Taken from the outbox by the task and not sent yet.
    pub(crate) held: AtomicUsize,
    /// Not sent for another reason than a full queue.
    pub(crate) withheld: AtomicU64,
    pub(crate) last_refusal: Mutex<Option<Refusal>>,
    /// `None` once the session is over: nothing is queued any more.
    outbox: Mutex<Option<Outbox>>,
    pub(crate) wake: Notify,
    ending: OnceLock<Ending>,
    pub(crate) gone: CancellationToken,
}

impl SessionRecord {
    pub(crate) fn new(
        key: SessionKey,
        client_id: String,
        identity: Arc<str>,
        address: SocketAddr,
        version: ProtocolVersion,
        limits: &Limits,
    ) -> Self {
        Self {
            key,
            client_id,
            identity,
            address,
            version,
            connected_at: OffsetDateTime::now_utc(),
            counters: Counters::default(),
            subscriptions: AtomicUsize::new(0),
            in_flight: AtomicUsize::new(0),
            held: AtomicUsize::new(0),
            withheld: AtomicU64::new(0),
            last_refusal: Mutex::new(None),
            outbox: Mutex::new(Some(Outbox::new(limits))),
            wake: Notify::new(),
            ending: OnceLock::new(),
            gone: CancellationToken::new(),
        }
    }

    /// Queues a delivery; gives whether it was taken.
    pub(crate) fn push(&self, delivery: Delivery) -> bool {
        let mut outbox = self.outbox.lock();
        let Some(queue) = outbox.as_mut() else { return false };
        let pushed = queue.push(delivery);
        drop(outbox);
        if pushed == Pushed::First {
            self.wake.notify_one();
        }
        pushed != Pushed::Dropped
    }

    /// Moves up to `most` deliveries to the end of `into`.
    pub(crate) fn take(&self, most: usize, into: &mut VecDeque<Delivery>) {
        if let Some(outbox) = self.outbox.lock().as_mut() {
            outbox.take(most, into);
        }
    }

    /// Nothing is queued from now on, and what waits is let go.
    pub(crate) fn close(&self) {
        self.outbox.lock().take();
    }

    /// Messages that wait to be sent, and messages dropped because there were too many.
    pub(crate) fn queue(&self) -> (usize, u64) {
        let outbox = self.outbox.lock();
        let (waiting, dropped) = outbox.as_ref().map_or((0, 0), |outbox| (outbox.len(), outbox.dropped()));
        (waiting + self.held.load(Ordering::Relaxed), dropped)
    }

    /// Asks the session's task to end; the first reason stands.
    pub(crate) fn end(&self, reason: ReasonCode, words: impl Into<String>) {
        let _first_stands = self.ending.set(Ending { reason, words: words.into() });
        self.wake.notify_one();
    }

    /// Why the session is to end, if it is.
    pub(crate) fn ending(&self) -> Option<&Ending> {
        self.ending.get()
    }

    /// Remembers the last thing that was refused.
    pub(crate) fn note_refusal(&self, words: String) {
        *self.last_refusal.lock() = Some(Refusal { at: OffsetDateTime::now_utc(), words });
    }
}
