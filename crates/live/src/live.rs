//! What goes on, remembered in memory: nothing here waits, asks who may, or grows without a bound.

use std::sync::Arc;

use moorfall_core::{
    Time,
    measure::Measure,
    session::{Ended, EndedKind, NotAcceptedKind, ReasonKind},
};

use crate::{
    busiest::Busiest,
    counters::PerThread,
    drift::{Drifts, Refusals},
    ears::Ears,
    events::Events,
    facts::Fact,
    heard::Heard,
    journeys::Recorder,
    ladders::Ladders,
    links::Links,
    topics::hierarchy::Topics,
    ways::Ways,
};

/// What one broker remembers of what goes on.
#[derive(Debug)]
pub struct Live {
    /// What was carried.
    pub counters: PerThread,
    /// The live hierarchy.
    pub topics: Topics,
    /// Where traffic and plan differ.
    pub drifts: Drifts,
    /// What was refused.
    pub refusals: Refusals,
    /// Journeys of messages.
    pub recorder: Recorder,
    /// What happens now and then, until it is written.
    pub events: Events,
    /// Who and what is busiest of late.
    pub busiest: Arc<Busiest>,
    /// Packets of whoever is looked at.
    pub ladders: Ladders,
    /// Messages that somebody inside wants to hear.
    pub ears: Ears,
    /// When those were heard last that somebody waits for.
    pub heard: Heard,
    /// Messages that come by bridges.
    pub ways: Ways,
    /// Links of bridges.
    pub links: Links,
}

impl Live {
    /// The hierarchy takes so many bytes at most.
    pub fn new(hierarchy_bytes: usize) -> Self {
        let busiest = Arc::<Busiest>::default();
        Self {
            counters: PerThread::default(),
            topics: Topics::new(hierarchy_bytes, Arc::clone(&busiest)),
            drifts: Drifts::default(),
            refusals: Refusals::default(),
            recorder: Recorder::default(),
            events: Events::default(),
            busiest,
            ladders: Ladders::default(),
            ears: Ears::default(),
            heard: Heard::default(),
            ways: Ways::default(),
            links: Links::default(),
        }
    }

    /// Notes what has happened: counts it, and keeps it as an event if it is one.
    pub fn note(&self, fact: &Fact, now: Time) {
        self.count(fact);
        self.events.note(fact, now);
    }

    /// Counts what has happened. Messages that are withheld are not counted here: there are facts of them only if
    /// somebody wants them.
    fn count(&self, fact: &Fact) {
        let counters = &self.counters;
        match fact {
            Fact::Connected { resumed, .. } => {
                counters.count(Measure::ConnectionsAccepted, 1);
                let session = if *resumed { Measure::SessionsResumed } else { Measure::SessionsStarted };
                counters.count(session, 1);
            }
            Fact::Disconnected { why, .. } => {
                counters.count_by(Measure::ConnectionsEnded, EndedKind::from(why), 1);
            }
            Fact::NotAccepted { why: Ended::NotAccepted(why), .. } => {
                counters.count_by(Measure::ConnectionsRefused, NotAcceptedKind::from(why), 1);
            }
            Fact::NotAccepted { why, .. } => {
                counters.count_by(Measure::ConnectionsUnfinished, EndedKind::from(why), 1);
            }
            Fact::NotSecured { .. } => counters.count(Measure::ConnectionsUnsecured, 1),
            Fact::Expired { .. } => counters.count(Measure::SessionsExpired, 1),
            Fact::Refused { refusal, .. } => {
                counters.count_by(Measure::Refused, ReasonKind::from(&refusal.reason), refusal.count);
            }
            Fact::WillSent { .. } => counters.count(Measure::WillsSent, 1),
            _ => {}
        }
    }
}
