//! A connection at rest: it has nothing to do but to wait for its client, or for a message, and whoever has a message for
//! it carries it out at once.

use std::{
    future::{Future, poll_fn},
    io,
    pin::pin,
    sync::Arc,
    task::{Context, Poll, Waker},
};

use bytes::Buf;
use moorfall_core::Time;
use tokio::task::unconstrained;

use super::{Connection, Event, WRITE_AHEAD, timer::Timer};
use crate::{
    listeners::inbox::Inbox,
    sessions::{record::SessionRecord, resting::Rests},
};

/// Waits until the connection's task has something to do.
pub(super) async fn rest(
    connection: Box<Connection>,
    record: &SessionRecord,
    inbox: &mut Inbox,
    timer: &mut Timer,
) -> (Box<Connection>, Event) {
    let due = connection.due();
    let wants_more = connection.session.wants_packets();
    let rest = record.resting.rest(connection);
    let event = poll_fn(|context| {
        if record.bell.poll(context).is_ready() {
            return Poll::Ready(Event::Woken);
        }
        if timer.poll_until(due, context).is_ready() {
            return Poll::Ready(Event::Due);
        }
        if wants_more { rest.poll_read(context, inbox).map(Event::Read) } else { Poll::Pending }
    })
    .await;
    (rest.end(), event)
}

impl Connection {
    /// Its session, if it may rest: everything is written, and what is to come comes by the queue alone.
    pub(super) fn resting_record(&mut self) -> Option<Arc<SessionRecord>> {
        let may_rest = self.session.is_open()
            && !self.session.has_actions()
            && !self.session.outgoing().has_remaining()
            && !self.stream.holds_back()
            && self.checking.is_none()
            && self.walking.is_none()
            && self.retained_due.is_empty()
            && !self.tap.is_open();
        if may_rest {
            self.session.rest();
            self.retained_due.shrink_to_fit();
        }
        if may_rest { self.record.clone() } else { None }
    }

    /// Writes what the client takes without a wait, unless somebody looks at what is written.
    pub(super) fn write_at_once(&mut self) {
        let waiting = self.session.outgoing().remaining();
        // Where so much waits more may have been held back, and is to follow.
        if self.session.is_open() && (1..WRITE_AHEAD).contains(&waiting) && !self.tap.is_open() {
            self.write_all();
        }
    }

    /// Writes all that waits; gives whether that was done.
    fn write_all(&mut self) -> bool {
        // Its task waits for the client when it is woken. Of how much one task writes there is a bound elsewhere; the
        // runtime's would leave the later ones of many to their own tasks.
        let mut context = Context::from_waker(Waker::noop());
        let all = pin!(unconstrained(poll_fn(|context| Poll::Ready(self.poll_write_all(context)))));
        all.poll(&mut context) == Poll::Ready(true)
    }

    fn poll_write_all(&mut self, context: &mut Context<'_>) -> bool {
        let outgoing = self.session.outgoing();
        while outgoing.has_remaining() {
            match self.stream.poll_write(context, outgoing) {
                Poll::Ready(Ok(count)) if count > 0 => self.counts.bytes_out += count as u64,
                // Whatever is wrong, the task finds it, too.
                _ => return false,
            }
        }
        matches!(self.stream.poll_flush(context), Poll::Ready(Ok(())))
    }
}

impl Rests for Connection {
    fn carry_out(&mut self, now: Time) -> bool {
        let has_to_look = self.record.as_ref().is_none_or(|record| record.is_called())
            || self.link.as_ref().is_none_or(|link| link.ending().is_some())
            || self.tap.is_stale(&self.broker.live.ladders);
        if has_to_look {
            return true;
        }
        self.send_queued(Some(now));
        self.hand_over();
        let is_more_held_back = self.ahead() >= WRITE_AHEAD;
        let is_written = self.write_all();
        self.pass_on_counts();
        !is_written || is_more_held_back || self.session.has_actions()
    }

    fn poll_read(&mut self, context: &mut Context<'_>, inbox: &mut Inbox) -> Poll<io::Result<usize>> {
        inbox.poll_fill(&mut self.stream, context, true)
    }
}
