//! One alert of the blueprint: what it is about, and how each of its subjects stands.

use std::{collections::BTreeMap, sync::Arc, time::Duration};

use moorfall_core::{
    Time,
    alert::{Band, Phase, Standing, Terms},
    blueprint::{Alert, Watched},
    number::number_in,
    plan::Plan,
};
use moorfall_live::heard::Speaker;

/// Topics of one alert that are watched at most: whoever may publish makes topics.
pub(super) const SUBJECTS: usize = 1_000;

/// What nothing was heard of for so long, and is in its band, is forgotten.
const FORGOTTEN_AFTER: Duration = Duration::from_secs(7 * 86_400);

/// One subject of an alert.
#[derive(Clone, Debug)]
pub(super) struct Subject {
    pub(super) standing: Standing,
    /// When the last message came; of what was never heard when it was begun to be watched.
    pub(super) heard: Time,
    /// Of silence: how long it may be.
    longest: Option<Duration>,
}

/// An alert, and how its subjects stand.
#[derive(Clone, Debug)]
pub(super) struct Watching {
    pub(super) alert: Arc<Alert>,
    pub(super) subjects: BTreeMap<Arc<str>, Subject>,
    /// Messages on topics for which there was no room.
    pub(super) unwatched: u64,
    /// Messages without a number where it should stand.
    pub(super) without_number: u64,
}

/// Subjects whose standings have changed, with where they were before.
pub(super) type Changed = Vec<(Arc<str>, Phase)>;

impl Watching {
    pub(super) fn new(alert: Alert) -> Self {
        Self { alert: Arc::new(alert), subjects: BTreeMap::new(), unwatched: 0, without_number: 0 }
    }

    /// Whether it is about time and not about values.
    pub(super) fn is_silence(&self) -> bool {
        self.alert.watched.is_silence()
    }

    /// Whoever must not be silent.
    pub(super) fn speaker(&self) -> Option<Speaker> {
        match &self.alert.watched {
            Watched::SilentIdentity(name) => Some(Speaker::Identity(name.clone())),
            Watched::SilentSession(client_id) => Some(Speaker::Session(client_id.clone())),
            _ => None,
        }
    }

    /// Whether a subject is one of this alert.
    fn is_about(&self, subject: &str) -> bool {
        match &self.alert.watched {
            Watched::Measure(series) => series.to_string() == subject,
            Watched::Number { topics, .. } | Watched::SilentTopics { topics, .. } => topics.set.holds(subject),
            Watched::Bridge { name, .. } | Watched::SilentIdentity(name) | Watched::SilentSession(name) => {
                name == subject
            }
        }
    }

    /// How long a topic may be silent, if that is said of it.
    fn longest(&self, topic: &str, plan: &Plan) -> Option<Duration> {
        match &self.alert.watched {
            Watched::SilentTopics { longest: None, .. } => plan.topics()[plan.find(topic)?].cadence,
            _ => self.alert.terms.band.high.map(Duration::from_secs_f64),
        }
    }

    /// Takes over how subjects stood before; gives back those that it is not about.
    pub(super) fn restore(
        &mut self,
        known: BTreeMap<Arc<str>, Standing>,
        plan: &Plan,
        now: Time,
    ) -> BTreeMap<Arc<str>, Standing> {
        let mut others = BTreeMap::new();
        for (name, standing) in known {
            if !self.is_about(&name) {
                others.insert(name, standing);
                continue;
            }
            let longest = if self.is_silence() { self.longest(&name, plan) } else { None };
            // What was silent when the service ended was heard last before that.
            let before =
                |out: Time| Time::from_micros(out.as_micros().saturating_sub(micros(longest.unwrap_or_default())));
            let heard = standing.out_since.filter(|_| standing.phase != Default::default()).map_or(now, before);
            self.subjects.insert(name, Subject { standing, heard, longest });
        }
        others
    }

    /// Begins to watch what is named in full, whether anything comes of it or not.
    pub(super) fn begin(&mut self, plan: &Plan, now: Time) {
        let name = match &self.alert.watched {
            Watched::Measure(_) | Watched::Bridge { .. } | Watched::Number { .. } => return,
            Watched::SilentTopics { topics, .. } => topics.one().map(|topic| topic.to_string()),
            Watched::SilentIdentity(name) | Watched::SilentSession(name) => Some(name.clone()),
        };
        if let Some(name) = name {
            self.subject(&name, plan, now);
        }
    }

    /// The subject of this name, made if there is room for it.
    fn subject(&mut self, name: &str, plan: &Plan, now: Time) -> Option<&mut Subject> {
        if !self.subjects.contains_key(name) {
            if self.subjects.len() >= SUBJECTS {
                return None;
            }
            let longest = if self.is_silence() { self.longest(name, plan) } else { None };
            if self.is_silence() && longest.is_none() {
                // Nobody has said how often anything should come.
                return None;
            }
            let subject = Subject { standing: Standing::new(now), heard: now, longest };
            self.subjects.insert(name.into(), subject);
        }
        self.subjects.get_mut(name)
    }

    /// Takes the value of a measure.
    pub(super) fn measured(&mut self, name: &str, value: f64, plan: &Plan, now: Time, changed: &mut Changed) {
        let terms = self.alert.terms;
        if let Some(subject) = self.subject(name, plan, now)
            && let Some(before) = subject.standing.observe(&terms, value, now)
        {
            changed.push((name.into(), before));
        }
    }

    /// Takes a message. One that was retained before says that there is such a topic, and not when it was heard.
    pub(super) fn arrived(
        &mut self,
        (topic, payload, is_new): (&str, &[u8], bool),
        plan: &Plan,
        now: Time,
        changed: &mut Changed,
    ) {
        let terms = self.alert.terms;
        let number = match &self.alert.watched {
            Watched::Number { topics, field } if topics.set.holds(topic) => match number_in(payload, field) {
                Some(number) => Some(number),
                // A retained message is cleared so.
                None if payload.is_empty() => return,
                None => {
                    self.without_number += 1;
                    return;
                }
            },
            Watched::SilentTopics { topics, .. } if topics.set.holds(topic) => None,
            _ => return,
        };
        let is_full = self.subjects.len() >= SUBJECTS;
        let Some(subject) = self.subject(topic, plan, now) else {
            self.unwatched += u64::from(is_full);
            return;
        };
        if is_new {
            subject.heard = now;
        }
        let before = match number {
            Some(number) => subject.standing.observe(&terms, number, now),
            None => subject.keep_quiet_time(now),
        };
        changed.extend(before.map(|before| (topic.into(), before)));
    }

    /// Whoever is waited for was heard then.
    pub(super) fn heard(&mut self, at: Time) {
        self.subjects.values_mut().for_each(|subject| subject.heard = subject.heard.max(at));
    }

    /// Time passes.
    pub(super) fn keep_time(&mut self, now: Time, changed: &mut Changed) {
        let is_silence = self.is_silence();
        let terms = self.alert.terms;
        for (name, subject) in &mut self.subjects {
            let before = if is_silence {
                subject.keep_quiet_time(now)
            } else {
                // What nothing is known of since the service was started stands as it stood.
                subject.standing.value.and_then(|value| subject.standing.observe(&terms, value, now))
            };
            changed.extend(before.map(|before| (Arc::clone(name), before)));
        }
        if self.alert.watched.topics().is_some_and(|topics| topics.one().is_none()) {
            self.subjects.retain(|_, subject| {
                subject.standing.is_raised() || subject.standing.told || now - subject.heard < FORGOTTEN_AFTER
            });
        }
    }
}

impl Subject {
    /// Of silence: how long it lasts now.
    fn keep_quiet_time(&mut self, now: Time) -> Option<Phase> {
        let longest = self.longest?;
        let band = Band { low: None, high: Some(longest.as_secs_f64()) };
        let terms = Terms { band, ..Terms::default() };
        self.standing.observe(&terms, (now - self.heard).as_secs_f64(), now)
    }
}

fn micros(time: Duration) -> u64 {
    u64::try_from(time.as_micros()).unwrap_or(u64::MAX)
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test may panic")]

    use moorfall_core::{access::Policy, blueprint::Blueprint};

    use super::*;

    const TEXT: &str = r#"
        name = "harrowmere"
        [levels.station]
        [[topics]]
        path = "harrowmere/{station}/level"
        cadence = "2m"
        [[alerts]]
        name = "high"
        topics = "harrowmere/{station}/level"
        field = "m"
        high = 2.4
        out-for = "30s"
        [[alerts]]
        name = "silent"
        topics = "harrowmere/+/level"
        silent = "cadence"
        [[alerts]]
        name = "forecast"
        identity = "forecast"
        silent = "1h"
    "#;

    fn at(second: u64) -> Time {
        Time::from_micros(second * 1_000_000)
    }

    fn watching(place: usize) -> (Watching, Arc<Policy>) {
        let blueprint = Arc::new(Blueprint::parse(TEXT).unwrap());
        (Watching::new(blueprint.alerts[place].clone()), Arc::new(Policy::new(blueprint)))
    }

    fn phase(watching: &Watching, subject: &str) -> Phase {
        watching.subjects[subject].standing.phase
    }

    #[test]
    fn each_topic_stands_for_itself_and_time_goes_on_without_messages() {
        let (mut high, policy) = watching(0);
        let mut changed = Vec::new();
        let mut level = |high: &mut Watching, station: &str, payload: &str, second| {
            let topic = format!("harrowmere/{station}/level");
            high.arrived((&topic, payload.as_bytes(), true), policy.plan(), at(second), &mut changed);
        };
        level(&mut high, "weir", r#"{"m": 2.5}"#, 10);
        level(&mut high, "mill", r#"{"m": 1.5}"#, 10);
        level(&mut high, "mill", "no number", 11);
        assert_eq!((phase(&high, "harrowmere/weir/level"), high.without_number), (Phase::Pending, 1));
        let mut changed = Vec::new();
        high.keep_time(at(39), &mut changed);
        assert!(changed.is_empty());
        high.keep_time(at(40), &mut changed);
        assert_eq!(changed, [(Arc::from("harrowmere/weir/level"), Phase::Pending)]);
        assert_eq!(phase(&high, "harrowmere/mill/level"), Phase::Ok);
        // What was raised stays so after a restart, until a value says otherwise.
        let (mut again, policy) = watching(0);
        let known = high
            .subjects
            .iter()
            .map(|(name, subject)| (Arc::clone(name), Standing { value: None, ..subject.standing.clone() }));
        let elsewhere = (Arc::from("elsewhere"), Standing::new(at(0)));
        let others = again.restore(known.chain([elsewhere]).collect(), policy.plan(), at(100));
        assert_eq!(others.len(), 1);
        again.keep_time(at(200), &mut changed);
        assert_eq!(phase(&again, "harrowmere/weir/level"), Phase::Raised);
    }

    #[test]
    fn silence_is_longer_than_the_cadence_and_goes_on_over_a_restart() {
        let (mut silent, policy) = watching(1);
        let mut changed = Vec::new();
        silent.arrived(("harrowmere/weir/level", b"1", true), policy.plan(), at(0), &mut changed);
        // What was retained before says nothing of when it came.
        silent.arrived(("harrowmere/weir/level", b"1", false), policy.plan(), at(60), &mut changed);
        silent.arrived(("harrowmere/mill/level", b"1", false), policy.plan(), at(60), &mut changed);
        silent.keep_time(at(120), &mut changed);
        assert_eq!((changed.len(), silent.subjects.len()), (0, 2));
        silent.keep_time(at(121), &mut changed);
        assert_eq!(phase(&silent, "harrowmere/weir/level"), Phase::Raised);
        let known = BTreeMap::from([(Arc::from("harrowmere/weir/level"), {
            silent.subjects["harrowmere/weir/level"].standing.clone()
        })]);
        let (mut again, policy) = watching(1);
        again.restore(known, policy.plan(), at(500));
        again.keep_time(at(501), &mut changed);
        assert_eq!(phase(&again, "harrowmere/weir/level"), Phase::Raised);
        again.arrived(("harrowmere/weir/level", b"1", true), policy.plan(), at(502), &mut changed);
        assert_eq!(phase(&again, "harrowmere/weir/level"), Phase::Ok);
    }

    #[test]
    fn whoever_is_named_is_waited_for_from_the_beginning() {
        let (mut forecast, policy) = watching(2);
        let mut changed = Vec::new();
        forecast.begin(policy.plan(), at(0));
        forecast.heard(at(600));
        forecast.keep_time(at(4_200), &mut changed);
        assert_eq!(phase(&forecast, "forecast"), Phase::Ok);
        forecast.keep_time(at(4_201), &mut changed);
        assert_eq!((phase(&forecast, "forecast"), changed.len()), (Phase::Raised, 1));
    }

    #[test]
    fn no_more_topics_are_watched_than_there_is_room_for() {
        let (mut high, policy) = watching(0);
        for station in 0..SUBJECTS + 5 {
            let topic = format!("harrowmere/{station}/level");
            high.arrived((&topic, br#"{"m": 1}"#, true), policy.plan(), at(1), &mut Vec::new());
        }
        assert_eq!((high.subjects.len(), high.unwatched), (SUBJECTS, 5));
    }
}
