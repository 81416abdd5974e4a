//! All connected sessions, by client identifier.

use std::{collections::HashMap, sync::Arc};

use foldhash::fast::RandomState;
use moorfall_wire::ReasonCode;
use parking_lot::Mutex;

use crate::session_record::SessionRecord;

/// The client identifier is in use by another identity.
#[derive(Debug)]
pub(crate) struct InUse;

/// Connected sessions. At most one has a given client identifier ([MQTT-3.1.4-3]).
#[derive(Debug, Default)]
pub(crate) struct Registry {
    sessions: Mutex<HashMap<String, Arc<SessionRecord>, RandomState>>,
}

impl Registry {
    /// Enters a session after an earlier one with its client identifier has gone. An earlier one of another identity
    /// stays, and the newcomer is refused: nobody can push another identity's client out.
    pub(crate) async fn admit(&self, record: &Arc<SessionRecord>) -> Result<(), InUse> {
        loop {
            let earlier = {
                let mut sessions = self.sessions.lock();
                match sessions.get(&record.client_id) {
                    None => {
                        sessions.insert(record.client_id.clone(), Arc::clone(record));
                        return Ok(());
                    }
                    Some(earlier) => Arc::clone(earlier),
                }
            };
            if earlier.identity != record.identity {
                return Err(InUse);
            }
            earlier.end(ReasonCode::SessionTakenOver, "another connection with this client identifier took over");
            earlier.gone.cancelled().await;
        }
    }

    /// Takes a session out; whoever waits for it goes on.
    pub(crate) fn remove(&self, record: &SessionRecord) {
        let mut sessions = self.sessions.lock();
        if sessions.get(&record.client_id).is_some_and(|known| known.key == record.key) {
            sessions.remove(&record.client_id);
        }
        drop(sessions);
        record.gone.cancel();
    }

    /// How many are connected.
    pub(crate) fn count(&self) -> usize {
        self.sessions.lock().len()
    }

    /// Everyone who is connected, in no order.
    pub(crate) fn all(&self) -> Vec<Arc<SessionRecord>> {
        self.sessions.lock().values().cloned().collect()
    }

    /// The session with this client identifier.
    pub(crate) fn get(&self, client_id: &str) -> Option<Arc<SessionRecord>> {
        self.sessions.lock().get(client_id).cloned()
    }

    /// Ends every session of an identity; gives how many.
    pub(crate) fn end_identity(&self, identity: &str, words: &str) -> usize {
        let theirs: Vec<_> = self.all().into_iter().filter(|record| *record.identity == *identity).collect();
        for record in &theirs {
            record.end(ReasonCode::AdministrativeAction, words);
        }
        theirs.len()
    }
}
