//! What is forgotten, summed up and ended as time goes by.

use std::{sync::Arc, time::Duration};

use tokio::time::{MissedTickBehavior, interval};

use crate::broker::Broker;

/// Sums up the live hierarchy and ends recordings, once a second until the service stops.
pub async fn each_second(broker: Arc<Broker>) {
    let mut ticks = interval(Duration::from_secs(1));
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    loop {
        tokio::select! {
            _ = ticks.tick() => {}
            () = broker.common.stopping.cancelled() => return,
        }
        broker.live.topics.sum_up(broker.now());
        broker.live.recorder.keep_time(broker.now());
        broker.live.ladders.keep_time(broker.now());
    }
}

/// Between two looks for retained messages whose life is over.
const FORGET_EVERY: Duration = Duration::from_secs(30);

/// Between two looks for topics that nobody publishes to any more.
const TIDY_EVERY: Duration = Duration::from_secs(3_600);

/// Forgets live topics that nobody publishes to, until the service stops.
pub async fn forget_topics(broker: Arc<Broker>) {
    loop {
        tokio::select! {
            () = tokio::time::sleep(TIDY_EVERY) => {}
            () = broker.common.stopping.cancelled() => return,
        }
        broker.sessions.registry.forget_holdings();
        let walked = Arc::clone(&broker);
        // A long walk, away from the connection tasks.
        if tokio::task::spawn_blocking(move || walked.live.topics.forget(walked.now())).await.is_err() {
            return;
        }
    }
}

/// Forgets entries of the audit that are older than they are kept, until the service stops.
pub async fn forget_audits(broker: Arc<Broker>) {
    loop {
        tokio::select! {
            () = tokio::time::sleep(TIDY_EVERY) => {}
            () = broker.common.stopping.cancelled() => return,
        }
        if let Err(error) = broker.store().forget_audits(broker.limits.audit_days).await {
            tracing::warn!(%error, "old audit entries can't be removed");
        }
    }
}

/// Forgets retained messages whose life is over, until the service stops; nobody is sent them anyway.
pub async fn forget_expired(broker: Arc<Broker>) {
    loop {
        tokio::select! {
            () = tokio::time::sleep(FORGET_EVERY) => {}
            () = broker.common.stopping.cancelled() => return,
        }
        broker.end_by_credential();
        for message in broker.sessions.router.expired(broker.now()) {
            let mut batch = broker.sessions.journal.open();
            if broker.sessions.router.forget(&message) {
                batch.retain(None, Some(&message));
            }
        }
    }
}
