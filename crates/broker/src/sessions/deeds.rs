//! What people do to what is live. Each deed takes who does it, and leaves its entry in the audit: by the journal, so
//! that it is written with what it changes, and waits with it while the database is away.

use std::{sync::Arc, time::Duration};

use moorfall_core::{Message, SessionKey, session::Ended};
use moorfall_live::journeys::{Recording, TooMany};
use moorfall_store::{Author, Deed};
use moorfall_wire::{ReasonCode, TopicFilter, TopicName};
use serde_json::json;

use crate::{
    clock::date,
    sessions::{Sessions, record::SessionRecord},
};

/// Topics that an entry names.
const NAMED: usize = 100;

/// What became of retained messages that were to be brought back.
#[derive(Clone, Copy, Debug)]
pub struct Restored {
    /// Topics that have their message again.
    pub restored: u64,
    /// Topics that have got another one meanwhile, which stays.
    pub replaced: u64,
}

impl Sessions {
    /// Leaves an entry in the audit.
    pub fn note(&self, by: &Author, deed: Deed) {
        let noted = self.journal.open().note(by.clone(), deed, date(self.clock.now()));
        if let Err(deed) = noted {
            let Deed { act, kind, name, .. } = *deed;
            let person = &*by.person;
            tracing::error!(
                person,
                act,
                kind,
                name,
                "too many audit entries wait for the database; this one is not recorded"
            );
        }
    }

    /// Ends the connections of sessions with this reason code, and the sessions too if they are not to be `kept`; those of
    /// clients that are away are forgotten then.
    pub async fn end_sessions(&self, records: &[Arc<SessionRecord>], reason: ReasonCode, kept: bool, by: &Author) {
        let names: Vec<&str> = records.iter().take(NAMED).map(|record| &*record.client_id).collect();
        let act = if kept { "disconnect" } else { "end" };
        let deed = match &names[..] {
            [one] => Deed::new(act, "session", *one),
            _ => {
                let after = json!({ "sessions": records.len(), "client_ids": names });
                Deed { after: Some(after), ..Deed::new(act, "sessions", format!("{} sessions", records.len())) }
            }
        };
        self.note(by, deed);
        let links: Vec<_> = records.iter().map(|record| record.link()).collect();
        for record in records {
            record.end(Ended::ByOperator(reason), !kept);
        }
        for (record, link) in records.iter().zip(links) {
            if let Some(link) = link {
                link.gone.cancelled().await;
            }
            if !kept {
                self.end_away(record, &Ended::ByOperator(reason));
            }
        }
    }

    /// Clears the retained messages of these topics; gives those that there were, and what brings them back.
    pub fn clear_retained(&self, topics: Vec<TopicName>, by: &Author) -> (Vec<Arc<Message>>, String) {
        let gone: Vec<_> = topics.iter().filter_map(|topic| self.router.retained_of(topic)).collect();
        let named: Vec<_> = gone.iter().take(NAMED).map(|message| &*message.topic).collect();
        let bytes: usize = gone.iter().map(|message| message.weight()).sum();
        let before = Some(json!({ "messages": gone.len(), "bytes": bytes, "topics": named }));
        let name = match &named[..] {
            [topic] => (*topic).to_owned(),
            _ => format!("{} topics", gone.len()),
        };
        self.note(by, Deed { before, ..Deed::new("clear", "retained", name) });
        for Message { topic, qos, .. } in gone.iter().map(|message| &**message) {
            let (payload, properties, now) = (Default::default(), Default::default(), self.clock.now());
            let empty = Message::new(topic.clone(), payload, *qos, true, properties, SessionKey(0), now);
            self.publish(&Arc::new(empty), &by.person);
        }
        let undo = self.cleared.lock().put(gone.clone());
        (gone, undo)
    }

    /// Brings back what was cleared, where nothing has come since; `None` if it is not at hand any more.
    pub fn restore_retained(&self, undo: &str, by: &Author) -> Option<Restored> {
        let messages = self.cleared.lock().take(undo)?;
        let (replaced, absent): (Vec<_>, Vec<_>) =
            messages.into_iter().partition(|message| self.router.retained_of(&message.topic).is_some());
        let name = format!("{} {}", absent.len(), if absent.len() == 1 { "topic" } else { "topics" });
        let after = Some(json!({ "messages": absent.len() }));
        self.note(by, Deed { after, ..Deed::new("restore", "retained", name) });
        for message in &absent {
            // Its age and what is left of its life stay as they were.
            self.publish(&Arc::new(message.renewed(message.received)), &by.person);
        }
        Some(Restored { restored: absent.len() as u64, replaced: replaced.len() as u64 })
    }

    /// Begins to record journeys of the messages that a filter matches.
    pub fn begin_recording(&self, filter: TopicFilter, span: Duration, by: &Author) -> Result<Recording, TooMany> {
        let recording = self.live.recorder.begin(filter, &by.person, span, self.clock.now())?;
        let after = Some(json!({ "number": recording.number, "seconds": span.as_secs() }));
        self.note(by, Deed { after, ..Deed::new("begin", "recording", &*recording.filter) });
        Ok(recording)
    }

    /// Ends a recording; `None` if there is none of this number.
    pub fn end_recording(&self, number: u64, by: &Author) -> Option<Recording> {
        let recording = self.live.recorder.end(number, self.clock.now())?;
        self.note(by, Deed::new("end", "recording", &*recording.filter));
        Some(recording)
    }
}
