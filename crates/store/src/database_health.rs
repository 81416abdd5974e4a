//! The database as those see it who need it all the time: whether it is there, and what is done when it is not.

use std::{sync::Arc, time::Duration};

use parking_lot::Mutex;
use tokio::time::{sleep, timeout};
use tokio_util::sync::CancellationToken;

use crate::{PrivateDatabase, Store, StoreError};

/// Between two looks.
const EVERY: Duration = Duration::from_secs(2);

/// How long the database may take to answer a look before it counts as away.
const ANSWER_TIME: Duration = Duration::from_secs(2);

/// Who has asked something of the database.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Asked {
    /// To write what must survive.
    Journal,
    /// To write history.
    History,
    /// To write events.
    Events,
    /// To read what is to be sent.
    Queues,
    /// Only whether it is there.
    Look,
}

/// Why the database did not do what it was asked, by who asked last in vain.
#[derive(Debug, Default)]
struct Troubles([Mutex<Option<String>>; 5]);

impl Troubles {
    /// It is said once that the database is away, and once that it is back: when all who asked in vain have asked again.
    fn note(&self, asked: Asked, trouble: Option<String>) {
        let before = self.first();
        *self.0[asked as usize].lock() = trouble;
        match (before, self.first()) {
            (None, Some(words)) => tracing::error!("database unavailable, changes wait in memory: {words}"),
            (Some(_), None) => tracing::info!("database available again"),
            _ => {}
        }
    }

    fn first(&self) -> Option<String> {
        self.0.iter().find_map(|trouble| trouble.lock().clone())
    }
}

/// The records, the server that keeps them if it is the service's own, and whether it does what it is asked.
#[derive(Debug)]
pub struct Database {
    /// The records.
    pub store: Store,
    /// Absent when another server keeps them.
    private: Option<Arc<PrivateDatabase>>,
    troubles: Troubles,
}

impl Database {
    /// One that is there.
    pub fn new(store: Store, private: Option<Arc<PrivateDatabase>>) -> Self {
        Self { store, private, troubles: Troubles::default() }
    }

    /// Notes that a statement was carried out.
    pub fn carried_out(&self, asked: Asked) {
        self.troubles.note(asked, None);
    }

    /// Notes that a statement failed, and starts a private server again that has ended.
    pub async fn failed(&self, asked: Asked, why: &StoreError) {
        self.troubles.note(asked, Some(why.to_string()));
        if let Some(private) = &self.private {
            private.revive().await;
        }
    }

    /// Why it is away, if it is.
    pub fn trouble(&self) -> Option<String> {
        self.troubles.first()
    }

    /// Looks now and then whether it is there, until `stop`.
    pub async fn watch(&self, stop: CancellationToken) {
        loop {
            let looked = timeout(ANSWER_TIME, self.store.ping()).await.unwrap_or(Err(StoreError::Silent));
            self.troubles.note(Asked::Look, looked.err().map(|why| why.to_string()));
            tokio::select! {
                () = sleep(EVERY) => {}
                () = stop.cancelled() => return,
            }
        }
    }

    /// Stops a private server for good.
    pub async fn stop(&self) {
        if let Some(private) = &self.private {
            private.stop().await;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_is_back_when_all_who_asked_in_vain_have_asked_again() {
        let troubles = Troubles::default();
        troubles.note(Asked::Journal, Some("no room".into()));
        troubles.note(Asked::Look, None);
        assert_eq!(troubles.first().as_deref(), Some("no room"), "a look that went well is not what was wanted");
        troubles.note(Asked::Journal, None);
        assert_eq!(troubles.first(), None);
    }
}
