//! Which of those whom a message is routed to get it, where that depends on what it says.

use std::sync::Arc;

use moorfall_core::{
    Judged, Judging, Message,
    measure::Measure,
    router::{Load, Recipient, Route, Way},
    session::Withheld,
};
use moorfall_live::journeys::Unsent;
use moorfall_wire::TopicName;
use smallvec::SmallVec;

use crate::sessions::{Sessions, record::SessionRecord};

/// Those who receive a message by conditions that are true of it, and members of shared subscriptions whose turn it is.
pub(super) type Chosen<'r> = (Vec<Recipient<Arc<SessionRecord>>>, SmallVec<[&'r Recipient<Arc<SessionRecord>>; 4]>);

/// How much a member of a shared subscription has to do; one that may not have the message is not there for it.
pub(super) fn load(way: &Way<Arc<SessionRecord>>, judging: &mut Judging<'_>, topic: &TopicName) -> Load {
    let record = &way.recipient.handle;
    if record.is_denied(topic) || way.judge(judging) != Judged::True { Load::Over } else { record.load() }
}

/// What conditions are asked about.
pub(super) fn judging<'m>(message: &'m Message, before: Option<&'m [u8]>) -> Judging<'m> {
    Judging::new(&message.topic, &message.payload, (message.qos.level(), message.retain), before)
}

impl Sessions {
    /// Who receives a message of those of whom that depends on it, and the members of shared subscriptions whose turn it is.
    /// A member that may not have it is not there for it.
    pub(super) fn judge<'r>(&self, message: &Arc<Message>, route: &'r Route<Arc<SessionRecord>>) -> Chosen<'r> {
        if route.is_plain() {
            return Default::default();
        }
        let before = if route.looks_back { self.router.look_back(message) } else { None };
        let mut judging = judging(message, before.as_deref());
        let mut judged = Vec::with_capacity(route.conditional.len());
        for one in &route.conditional {
            let why = match one.judge(&mut judging) {
                Ok(recipient) => {
                    judged.push(recipient);
                    continue;
                }
                Err(Judged::Failed) => Withheld::NoVerdict,
                Err(_) => Withheld::NotTrue,
            };
            let recipient = one.at_best();
            if recipient.is_own(message.publisher) {
                continue;
            }
            self.live.recorder.lead(message.journey(), &recipient, message.qos, false);
            self.withhold(message.journey(), &recipient.handle, why);
        }
        let chosen =
            route.groups.iter().filter_map(|group| group.choose(|way| load(way, &mut judging, &message.topic)));
        (judged, chosen.collect())
    }

    /// A session does not get a message that was routed to it.
    pub fn withhold(&self, journey: u64, record: &SessionRecord, why: Withheld) {
        if why == Withheld::NotTrue {
            record.note_left_out();
            self.live.counters.count(Measure::LeftOut, 1);
        } else {
            record.note_withheld(why, 1);
            self.live.counters.count_by(Measure::Withheld, why, 1);
        }
        self.live.recorder.withheld(journey, record.key, || Unsent::Session(why));
    }
}
