//! Messages on their way from a session to a bridge in this process: handed over as they are, not written and read again.

use std::{
    collections::VecDeque,
    fmt,
    sync::{
        Arc, OnceLock,
        atomic::{AtomicUsize, Ordering},
    },
    task::{Context, Poll},
};

use futures_util::task::AtomicWaker;
use moorfall_core::session::Handed;
use parking_lot::Mutex;

use crate::sessions::record::SessionRecord;

/// Between the task of a session and that of a bridge. It holds about as much as a connection has to be written.
#[derive(Default)]
pub struct Handover {
    waiting: Mutex<VecDeque<Handed>>,
    /// Weight of what waits, bytes.
    bytes: AtomicUsize,
    /// Who takes.
    taker: AtomicWaker,
    /// Who gives, once it is known.
    giver: OnceLock<Arc<SessionRecord>>,
}

impl fmt::Debug for Handover {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Handover").field("bytes", &self.bytes).finish_non_exhaustive()
    }
}

impl Handover {
    /// From whose session the messages come.
    pub(super) fn begin(&self, giver: &Arc<SessionRecord>) {
        let _first = self.giver.set(Arc::clone(giver));
    }

    /// Weight of what waits, bytes.
    pub(super) fn ahead(&self) -> usize {
        self.bytes.load(Ordering::Acquire)
    }

    /// Adds messages of this weight, bytes.
    pub(super) fn give(&self, handed: &mut VecDeque<Handed>, weight: usize) {
        {
            let mut waiting = self.waiting.lock();
            self.bytes.fetch_add(weight, Ordering::Release);
            if waiting.is_empty() {
                std::mem::swap(&mut *waiting, handed);
            } else {
                waiting.append(handed);
            }
        }
        self.taker.wake();
    }

    /// Takes all that waits, if `into` is empty.
    pub fn take(&self, into: &mut VecDeque<Handed>) {
        if !into.is_empty() {
            return;
        }
        {
            let mut waiting = self.waiting.lock();
            if waiting.is_empty() {
                return;
            }
            std::mem::swap(&mut *waiting, into);
            self.bytes.store(0, Ordering::Release);
        }
        // It may be waiting for room.
        if let Some(giver) = self.giver.get() {
            giver.bell.ring();
        }
    }

    /// Ready when something waits.
    pub fn poll_ready(&self, context: &Context<'_>) -> Poll<()> {
        self.taker.register(context.waker());
        if self.waiting.lock().is_empty() { Poll::Pending } else { Poll::Ready(()) }
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test may panic")]

    use std::task::Waker;

    use moorfall_core::{Message, SessionKey, Time, session::HandedMessage};
    use moorfall_wire::{PublishProperties, QoS};

    use super::*;

    fn handed(payload: &'static str) -> Handed {
        let topic = "harrowmere/gorge".parse().unwrap();
        let (qos, properties) = (QoS::AtMostOnce, PublishProperties::default());
        let message = Message::new(topic, payload.into(), qos, false, properties, SessionKey(1), Time::default());
        let message = Arc::new(message);
        Handed::Message(HandedMessage { message, qos, retain: false, duplicate: false, packet_id: None, life: None })
    }

    #[test]
    fn what_is_given_is_taken_in_order_and_room_is_given_back() {
        let handover = Handover::default();
        let context = Context::from_waker(Waker::noop());
        assert!(handover.poll_ready(&context).is_pending());
        handover.give(&mut VecDeque::from([handed("1"), handed("2")]), 40);
        handover.give(&mut VecDeque::from([handed("3")]), 20);
        assert!(handover.poll_ready(&context).is_ready() && handover.ahead() == 60);
        let mut taken = VecDeque::new();
        handover.take(&mut taken);
        handover.give(&mut VecDeque::from([handed("4")]), 20);
        handover.take(&mut taken);
        let messages = taken.iter().cloned().flat_map(Handed::into_messages);
        let payloads: Vec<_> = messages.map(|one| one.message.payload.clone()).collect();
        assert_eq!(payloads, ["1", "2", "3"], "the rest when these are done with");
        assert_eq!(handover.ahead(), 20);
    }
}
