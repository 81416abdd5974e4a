//! Whether the database is there, as those who need it find out.

use std::{sync::Arc, time::Duration};

use parking_lot::Mutex;
use tokio::time::{sleep, timeout};

use crate::broker::Broker;

/// Between two looks.
const EVERY: Duration = Duration::from_secs(2);

/// How long the database may take to answer a look before it counts as away.
const PATIENCE: Duration = Duration::from_secs(2);

/// Who has asked something of the database.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Asked {
    /// To write what must survive.
    Journal,
    /// To write samples of throughput.
    Samples,
    /// Only whether it is there.
    Look,
}

/// Why the database did not do what it was asked, by who asked last in vain.
#[derive(Debug, Default)]
pub(crate) struct DatabaseHealth([Mutex<Option<String>>; 3]);

impl DatabaseHealth {
    /// Notes how a statement went; `None` once one was carried out. It is said once that the database is away, and once
    /// that it is back: when all who asked in vain have asked again.
    pub(crate) fn note(&self, asked: Asked, trouble: Option<String>) {
        let before = self.trouble();
        *self.0[asked as usize].lock() = trouble;
        match (before, self.trouble()) {
            (None, Some(words)) => tracing::error!("the database is away, what must survive waits: {words}"),
            (Some(_), None) => tracing::info!("the database is back"),
            _ => {}
        }
    }

    /// Why it is away, if it is.
    pub(crate) fn trouble(&self) -> Option<String> {
        self.0.iter().find_map(|trouble| trouble.lock().clone())
    }
}

/// Looks now and then, until the service stops.
pub(crate) async fn watch(broker: Arc<Broker>) {
    loop {
        let trouble = match timeout(PATIENCE, broker.store.ping()).await {
            Ok(Ok(())) => None,
            Ok(Err(error)) => Some(error.to_string()),
            Err(_) => Some("it does not answer".into()),
        };
        broker.database.note(Asked::Look, trouble);
        tokio::select! {
            () = sleep(EVERY) => {}
            () = broker.stopping.cancelled() => return,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_is_back_when_all_who_asked_in_vain_have_asked_again() {
        let health = DatabaseHealth::default();
        health.note(Asked::Journal, Some("no room".into()));
        health.note(Asked::Look, None);
        assert_eq!(health.trouble().as_deref(), Some("no room"), "a look that went well is not what was wanted");
        health.note(Asked::Journal, None);
        assert_eq!(health.trouble(), None);
    }
}
