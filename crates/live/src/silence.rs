//! Planned topics of which nothing comes as often as it should.

use std::{sync::Arc, time::Duration};

use moorfall_core::{Time, plan::Plan};

use crate::topics::hierarchy::Topics;

/// Silent topics that are found at most.
const MOST: usize = 10_000;

/// A topic that is silent for longer than its cadence.
#[derive(Clone, Debug)]
pub struct Silent {
    /// The topic; the planned path if nothing has come to any topic of it.
    pub topic: String,
    /// The longest time between two messages that is planned.
    pub cadence: Duration,
    /// When the last message came, and whose; `None` if none has since the service started.
    pub last: Option<(Time, Arc<str>)>,
}

/// Topics that are silent for longer than their cadence, and planned ones that were never heard. A walk over all topics.
pub fn find(topics: &Topics, plan: &Plan, now: Time) -> Vec<Silent> {
    let mut silent = Vec::new();
    if plan.topics().is_empty() {
        return silent;
    }
    let mut heard = vec![false; plan.topics().len()];
    topics.each(now, |topic| {
        let Some(place) = plan.find(topic.path) else { return };
        heard[place] = true;
        let Some(cadence) = plan.topics()[place].cadence else { return };
        if now - topic.last > cadence && silent.len() < MOST {
            let last = Some((topic.last, topic.publisher));
            silent.push(Silent { topic: topic.path.to_owned(), cadence, last });
        }
    });
    for (topic, _) in plan.topics().iter().zip(heard).filter(|(_, heard)| !heard) {
        if let Some(cadence) = topic.cadence {
            silent.push(Silent { topic: topic.path.clone(), cadence, last: None });
        }
    }
    silent
}
