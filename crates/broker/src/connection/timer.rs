//! The one timer of a connection.

use std::{
    future::Future,
    pin::Pin,
    task::{Context, Poll},
};

use tokio::time::{Instant, Sleep, sleep_until};

/// Waits until a moment that moves on with all that is heard from a client. It is set again only when it has run out, or when
/// the moment is earlier than the one that it was set for: setting it takes the lock of the runtime's timers.
#[derive(Default)]
pub(super) struct Timer(Option<Pin<Box<Sleep>>>);

impl Timer {
    /// Ready at that time; never without one.
    pub(super) fn poll_until(&mut self, due: Option<Instant>, context: &mut Context<'_>) -> Poll<()> {
        let Some(due) = due else { return Poll::Pending };
        let sleep = self.0.get_or_insert_with(|| Box::pin(sleep_until(due)));
        if sleep.deadline() > due {
            sleep.as_mut().reset(due);
        }
        while sleep.as_mut().poll(context).is_ready() {
            if sleep.deadline() >= due {
                return Poll::Ready(());
            }
            sleep.as_mut().reset(due);
        }
        Poll::Pending
    }
}
