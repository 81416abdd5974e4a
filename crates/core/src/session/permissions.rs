//! What a client was found to be permitted, remembered, and how often.

use std::{collections::HashMap, sync::Arc};

use bytes::Bytes;
use foldhash::fast::RandomState;
use moorfall_wire::{Publish, QoS, TopicName};

use super::refusal::Reason;
use crate::{
    Time,
    access::{Access, Decision, Request},
    bucket::Bucket,
    plan::{Breach, Broken, Fault},
};

/// Topics that a session remembers decisions for.
const REMEMBERED: usize = 128;

/// Bytes of a payload that are kept as a sample.
const SAMPLE: usize = 256;

/// What was decided for a topic.
#[derive(Clone, Copy, Debug, Default)]
struct Known {
    /// A bit for each QoS, without and with the retain flag, that is allowed without a rate.
    allowed: u8,
    /// Which planned topic it is.
    planned: Option<usize>,
}

/// Messages that broke the plan in one way.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Drift {
    /// Where.
    pub topic: TopicName,
    /// How; of several messages the first one's.
    pub fault: Fault,
    /// How many messages.
    pub count: u64,
    /// How many of them were refused.
    pub refused: u64,
    /// The beginning of one payload.
    pub sample: Bytes,
}

/// What is remembered of a client's publishing. Most clients only listen, or publish to a few topics: what they need
/// not takes no room.
#[derive(Debug, Default)]
pub(super) struct Permissions(pub(super) Option<Box<Remembered>>);

#[derive(Debug, Default)]
pub(super) struct Remembered {
    known: HashMap<TopicName, Known, RandomState>,
    buckets: HashMap<usize, Bucket, RandomState>,
    pub(super) drift: HashMap<(TopicName, Breach), Drift, RandomState>,
}

fn bit(qos: QoS, retain: bool) -> u8 {
    1 << (qos.level() * 2 + u8::from(retain))
}

impl Permissions {
    /// Everything is to be decided anew.
    pub(super) fn forget(&mut self) {
        if let Some(remembered) = &mut self.0 {
            remembered.known.clear();
            remembered.buckets.clear();
        }
    }

    pub(super) fn knows(&self, topic: &str) -> bool {
        self.0.as_ref().is_some_and(|remembered| remembered.known.contains_key(topic))
    }

    pub(super) fn drifts(&self) -> usize {
        self.0.as_ref().map_or(0, |remembered| remembered.drift.len())
    }
}

impl Remembered {
    /// Whether the message may be published; a refusal with its reason.
    pub(super) fn check(&mut self, access: &Access, publish: &Publish, now: Time) -> Result<(), Reason> {
        let Publish { topic, qos, retain, .. } = publish;
        let (qos, retain) = (*qos, *retain);
        let bit = bit(qos, retain);
        let known = self.known.get(&**topic).copied();
        let planned = if known.is_some_and(|known| known.allowed & bit != 0) {
            known.and_then(|known| known.planned)
        } else {
            let request = Request::Publish { topic, qos, retain };
            let decision = access.decide(request);
            let Decision::Allowed { rules, rate, .. } = decision else {
                return Err(Reason::rules(access, request));
            };
            let planned = match known {
                Some(known) => known.planned,
                None => access.policy().and_then(|policy| policy.plan().find(topic)),
            };
            if let (Some(rate), Some(rule)) = (rate, rules.first()) {
                let full = Bucket::full(rate, now);
                if !self.buckets.entry(*rule).or_insert(full).take(rate, now) {
                    let rule = access.policy().map(|policy| Arc::clone(policy.rule_name(*rule))).unwrap_or_default();
                    return Err(Reason::Rate { rule, rate });
                }
            } else {
                if self.known.len() >= REMEMBERED && known.is_none() {
                    self.known.clear();
                }
                let allowed = bit | known.map_or(0, |known| known.allowed);
                self.known.insert(topic.detached(), Known { allowed, planned });
            }
            planned
        };
        let Some(policy) = access.policy().filter(|policy| !policy.plan().topics().is_empty()) else { return Ok(()) };
        let Some(place) = planned else {
            self.note(publish, Broken { fault: Fault::Unplanned, refused: false });
            return Ok(());
        };
        let Some(broken) = policy.plan().check(place, qos, retain, &publish.payload) else { return Ok(()) };
        let refusal = broken.refused.then(|| Reason::Plan(broken.clone()));
        self.note(publish, broken);
        refusal.map_or(Ok(()), Err)
    }

    /// The topic, if messages at QoS 0 that are not retained may be published to it, none of them is counted by a rate, and
    /// none differs from the plan but by its payload; and the topic's place in the plan.
    pub(super) fn plain(&self, access: &Access, topic: &str) -> Option<(&TopicName, Option<usize>)> {
        let (topic, known) = self.known.get_key_value(topic)?;
        if known.allowed & bit(QoS::AtMostOnce, false) == 0 {
            return None;
        }
        let is_planned = access.policy().is_some_and(|policy| !policy.plan().topics().is_empty());
        (!is_planned || known.planned.is_some()).then_some((topic, known.planned.filter(|_| is_planned)))
    }

    fn note(&mut self, publish: &Publish, broken: Broken) {
        let key = (publish.topic.clone(), broken.fault.breach());
        if let Some(drift) = self.drift.get_mut(&key) {
            drift.count += 1;
            drift.refused += u64::from(broken.refused);
            return;
        }
        // What is gathered must not borrow the receive buffer for long.
        let topic = publish.topic.detached();
        let sample = Bytes::copy_from_slice(&publish.payload[..publish.payload.len().min(SAMPLE)]);
        let Broken { fault, refused } = broken;
        let breach = fault.breach();
        let drift = Drift { topic: topic.clone(), fault, count: 1, refused: refused.into(), sample };
        self.drift.insert((topic, breach), drift);
    }
}
