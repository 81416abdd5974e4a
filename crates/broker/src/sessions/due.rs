//! What is due for sessions that are away: wills, and their end.

use std::sync::Arc;

use moorfall_core::Time;
use moorfall_live::facts::Fact;
use tokio_util::sync::CancellationToken;

use crate::{
    notes,
    sessions::{
        Sessions,
        lifecycle::row,
        record::{Place, SessionRecord},
    },
};

/// Publishes wills and ends sessions when their time has come, until the service stops.
pub async fn keep_time(sessions: Arc<Sessions>, stopping: CancellationToken) {
    loop {
        let next = sessions.registry.due.lock().keys().next().map(|(due, _)| *due);
        let now = sessions.clock.now();
        match next {
            Some(due) if due <= now => {}
            due => {
                let at = due.map(|due| sessions.clock.instant(due));
                tokio::select! {
                    () = sessions.registry.earlier.notified() => {}
                    () = crate::clock::sleep(at) => {}
                    () = stopping.cancelled() => return,
                }
                continue;
            }
        }
        let Some(((_, _), record)) = sessions.registry.due.lock().pop_first() else { continue };
        sessions.come_due(&record, now);
    }
}

impl Sessions {
    fn come_due(&self, record: &Arc<SessionRecord>, now: Time) {
        let mut will = None;
        let (ended, over) = {
            let mut batch = self.journal.open();
            let mut place = record.place.lock();
            // The client may have come back, or the session be over.
            let Place::Parked(parked) = &mut *place else { return };
            let ended = parked.ends.is_some_and(|at| at <= now);
            if !ended {
                if parked.will.as_ref().is_some_and(|(due, _)| *due <= now) {
                    will = parked.will.take();
                    batch.put_session(record.key, row(record, parked));
                }
                self.registry.set_due(record, parked);
            }
            (ended, parked.over.take())
        };
        if let Some((_, message)) = will {
            self.publish_will(&message, record);
        }
        if ended {
            let client = record.named();
            let fact = match over {
                Some(why) => Fact::EndedAway { client, why: *why },
                None => Fact::Expired { client },
            };
            notes::note(&self.live, now, &fact);
            self.finish(record);
        }
    }
}
