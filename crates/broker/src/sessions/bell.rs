//! Wakes one task.

use std::{
    sync::atomic::{AtomicBool, Ordering},
    task::{Context, Poll},
};

use futures_util::task::AtomicWaker;

/// Rung by anybody, heard by one task. It may be rung before the task listens, and once is as good as often.
#[derive(Debug, Default)]
pub struct Bell {
    has_rung: AtomicBool,
    hears: AtomicWaker,
}

impl Bell {
    /// Wakes the task that listens, or that listens next.
    pub fn ring(&self) {
        // Whoever was first wakes it.
        if !self.has_rung.swap(true, Ordering::AcqRel) {
            self.hears.wake();
        }
    }

    /// Ready once it has rung since this was ready last.
    pub fn poll(&self, context: &Context<'_>) -> Poll<()> {
        if !self.take() {
            self.hears.register(context.waker());
            // It may have rung in between, when nobody was there to hear it.
            if !self.take() {
                return Poll::Pending;
            }
        }
        Poll::Ready(())
    }

    fn take(&self) -> bool {
        self.has_rung.load(Ordering::Acquire) && self.has_rung.swap(false, Ordering::AcqRel)
    }
}

#[cfg(test)]
mod tests {
    use std::{future::poll_fn, sync::Arc, task::Waker};

    use super::*;

    #[test]
    fn it_is_heard_once_whether_it_rang_before_or_after() {
        let bell = Bell::default();
        let context = Context::from_waker(Waker::noop());
        assert!(bell.poll(&context).is_pending());
        bell.ring();
        bell.ring();
        assert!(bell.poll(&context).is_ready());
        assert!(bell.poll(&context).is_pending());
        bell.ring();
        assert!(bell.poll(&context).is_ready());
    }

    #[tokio::test(flavor = "multi_thread", worker_threads = 2)]
    async fn no_ring_is_lost_between_two_threads() {
        let (there, back) = (Arc::new(Bell::default()), Arc::new(Bell::default()));
        let (heard, answered) = (Arc::clone(&there), Arc::clone(&back));
        let other = tokio::spawn(async move {
            for _ in 0..20_000 {
                poll_fn(|context| heard.poll(context)).await;
                answered.ring();
            }
        });
        for _ in 0..20_000 {
            there.ring();
            poll_fn(|context| back.poll(context)).await;
        }
        assert!(other.await.is_ok());
    }
}
