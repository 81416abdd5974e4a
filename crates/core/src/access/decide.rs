//! Decisions, and their traces.

use std::sync::Arc;

use moorfall_wire::{QoS, TopicFilter, TopicName};

use super::policy::{Compiled, Policy, Subject};
use crate::{
    TopicSet, When,
    blueprint::{Act, Rate, Verdict},
};

/// What a session wants to do.
#[derive(Clone, Copy, Debug)]
pub enum Request<'a> {
    /// Publish a message.
    Publish {
        /// Where.
        topic: &'a TopicName,
        /// At which QoS.
        qos: QoS,
        /// Whether it is to be retained.
        retain: bool,
    },
    /// Receive what matches; of a shared subscription, the filter behind the group.
    Subscribe {
        /// Which topics.
        filter: &'a TopicFilter,
    },
}

impl Request<'_> {
    /// What kind of request it is.
    pub fn act(self) -> Act {
        match self {
            Self::Publish { .. } => Act::Publish,
            Self::Subscribe { .. } => Act::Subscribe,
        }
    }
}

/// What became of one rule in a decision.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Considered {
    /// It concerns others.
    OtherWho,
    /// It is about publishing, or about subscribing, and the request is not.
    OtherAct,
    /// The identity has not got an attribute that its topics are made of.
    NoValue,
    /// It is about other topics.
    OtherTopics,
    /// It allows only lower QoS.
    AboveQoS(QoS),
    /// It is about messages that are retained, or that are not, and this one is not so.
    OtherRetention,
    /// It applies. Of a subscription: it has to do with some of the topics.
    Applies,
}

/// The outcome.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Decision {
    /// Allowed, by this rule or these rules together; none for a session without limits.
    Allowed {
        /// Their places in the blueprint.
        rules: Vec<usize>,
        /// The highest QoS that a subscription is granted.
        highest_qos: QoS,
        /// How often, by the first rule alone.
        rate: Option<Rate>,
    },
    /// A rule denies it; its place in the blueprint.
    Denied(usize),
    /// No rule allows it. Of a subscription: not all of it, and this is a topic that is left out.
    NotAllowed(Option<String>),
}

impl Decision {
    /// Whether it may go on.
    pub fn is_allowed(&self) -> bool {
        matches!(self, Self::Allowed { .. })
    }
}

/// Topics that rules allow and deny, each with the rule's name.
#[derive(Debug, Default)]
pub(crate) struct Sets {
    pub(crate) allowing: Vec<(Arc<str>, TopicSet)>,
    pub(crate) denying: Vec<(Arc<str>, TopicSet)>,
}

/// What one session may do. Cheap to clone.
#[derive(Clone, Debug)]
pub struct Access {
    /// `None` for the operator's own tools and brokers without rules.
    rules: Option<Arc<Policy>>,
    subject: Arc<Subject>,
}

impl Access {
    /// Access without limits.
    pub fn unrestricted(name: &str) -> Self {
        Self { rules: None, subject: Arc::new(Subject::named(name)) }
    }

    pub(crate) fn bound(policy: Arc<Policy>, subject: Subject) -> Self {
        Self { rules: Some(policy), subject: Arc::new(subject) }
    }

    /// Whose access it is.
    pub fn name(&self) -> &Arc<str> {
        &self.subject.identity.name
    }

    /// Whom the rules see; its cohorts as well.
    pub fn subject(&self) -> &Subject {
        &self.subject
    }

    /// The rules, unless nothing is limited.
    pub fn policy(&self) -> Option<&Arc<Policy>> {
        self.rules.as_ref()
    }

    /// Which messages of some topics it gets, as the design says; `None` if it gets all.
    pub fn conditions(&self) -> Option<Arc<Vec<When>>> {
        self.rules.as_ref().and_then(|policy| policy.conditions_of(&self.subject))
    }

    /// Decides, looking only at rules that may be about the topic.
    pub fn decide(&self, request: Request<'_>) -> Decision {
        let Some(policy) = &self.rules else { return everything() };
        match request {
            Request::Publish { topic, .. } => {
                let candidates = policy.index().candidates(topic);
                let rules = candidates.iter().map(|place| (*place, policy.rule(*place)));
                self.decide_publish(request, rules, |_, _| {})
            }
            Request::Subscribe { filter } => self.decide_subscribe(filter, policy, |_, _| {}),
        }
    }

    /// Decides the same, and hands every rule to `observe` with what became of it.
    pub fn trace(&self, request: Request<'_>, observe: impl FnMut(usize, Considered)) -> Decision {
        let Some(policy) = &self.rules else { return everything() };
        match request {
            Request::Publish { .. } => self.decide_publish(request, policy.rules().enumerate(), observe),
            Request::Subscribe { filter } => self.decide_subscribe(filter, policy, observe),
        }
    }

    fn decide_publish<'a>(
        &self,
        request: Request<'_>,
        rules: impl Iterator<Item = (usize, &'a Compiled)>,
        mut observe: impl FnMut(usize, Considered),
    ) -> Decision {
        let mut denied = None;
        let mut allowed: Option<(usize, Option<Rate>)> = None;
        for (place, rule) in rules {
            let considered = self.consider(rule, request);
            if considered == Considered::Applies {
                match rule.verdict {
                    Verdict::Deny => denied = denied.or(Some(place)),
                    // Of several, the one that takes the most messages.
                    Verdict::Allow if allowed.is_none_or(|(_, known)| is_slower(known, rule.limits.rate)) => {
                        allowed = Some((place, rule.limits.rate));
                    }
                    Verdict::Allow => {}
                }
            }
            observe(place, considered);
        }
        match (denied, allowed) {
            (Some(rule), _) => Decision::Denied(rule),
            (None, Some((rule, rate))) => Decision::Allowed { rules: vec![rule], highest_qos: QoS::ExactlyOnce, rate },
            (None, None) => Decision::NotAllowed(None),
        }
    }

    /// What one rule has to do with a request.
    fn consider(&self, rule: &Compiled, request: Request<'_>) -> Considered {
        if !self.subject.is(&rule.who) {
            return Considered::OtherWho;
        }
        if !rule.acts.contains(&request.act()) {
            return Considered::OtherAct;
        }
        let about = match request {
            Request::Publish { topic, .. } => rule.is_about(&self.subject, topic),
            Request::Subscribe { filter } => {
                let (wanted, sets) = (TopicSet::of_filter(filter), rule.sets(&self.subject, true));
                (!sets.is_empty()).then(|| sets.iter().any(|set| set.intersect(&wanted).is_some()))
            }
        };
        match about {
            None => return Considered::NoValue,
            Some(false) => return Considered::OtherTopics,
            Some(true) => {}
        }
        if let Request::Publish { qos, retain, .. } = request {
            if let Some(highest) = rule.limits.highest_qos.filter(|highest| qos > *highest) {
                return Considered::AboveQoS(highest);
            }
            if rule.limits.retained.is_some_and(|retained| retained != retain) {
                return Considered::OtherRetention;
            }
        }
        Considered::Applies
    }

    /// A subscription is granted when no topic outside of what is allowed could match, and something inside is not
    /// denied.
    fn decide_subscribe(
        &self,
        filter: &TopicFilter,
        policy: &Policy,
        mut observe: impl FnMut(usize, Considered),
    ) -> Decision {
        let wanted = TopicSet::of_filter(filter);
        let (mut allowing, mut denying) = (Vec::new(), Vec::new());
        for (place, rule) in policy.rules().enumerate() {
            let considered = self.consider(rule, Request::Subscribe { filter });
            if considered == Considered::Applies {
                let list = if rule.verdict == Verdict::Deny { &mut denying } else { &mut allowing };
                let highest = rule.limits.highest_qos.unwrap_or(QoS::ExactlyOnce);
                list.extend(rule.sets(&self.subject, true).into_iter().map(|set| (place, highest, set)));
            }
            observe(place, considered);
        }
        if !denying.is_empty() && wanted.outside(denying.iter().map(|(_, _, set)| set)).is_none() {
            return Decision::Denied(denying[0].0);
        }
        let mut outside = None;
        for qos in [QoS::ExactlyOnce, QoS::AtLeastOnce, QoS::AtMostOnce] {
            let enough = || allowing.iter().filter(|(_, highest, _)| *highest >= qos);
            outside = wanted.outside(enough().map(|(_, _, set)| set));
            if outside.is_none() {
                // One that is enough alone is a better answer than several.
                let alone = enough().find(|(_, _, set)| wanted.outside([set]).is_none());
                let mut rules: Vec<usize> = match alone {
                    Some((place, _, _)) => vec![*place],
                    None => enough().map(|(place, _, _)| *place).collect(),
                };
                rules.dedup();
                return Decision::Allowed { rules, highest_qos: qos, rate: None };
            }
        }
        if self.subject.takes_parts && !allowing.is_empty() {
            let highest_qos = allowing.iter().map(|(_, highest, _)| *highest).max().unwrap_or_default();
            let mut rules: Vec<usize> = allowing.iter().map(|(place, _, _)| *place).collect();
            rules.dedup();
            return Decision::Allowed { rules, highest_qos, rate: None };
        }
        Decision::NotAllowed(outside.filter(|_| !allowing.is_empty()))
    }

    /// Whether all of these topics are allowed, and whether some are, whatever the retain flag and at the lowest QoS.
    pub fn reach(&self, act: Act, topics: &TopicSet) -> (bool, bool) {
        if self.rules.is_none() {
            return (true, true);
        }
        let each = [false, true].map(|retain| {
            // By any client: all is allowed that is for each of them, and some that is for one of them.
            let [narrow, sets] = [false, true].map(|widely| self.sets(act, QoS::AtMostOnce, retain, widely));
            let denied = || sets.denying.iter().map(|(_, set)| set);
            let all = topics.outside(narrow.allowing.iter().map(|(_, set)| set)).is_none()
                && narrow.denying.iter().all(|(_, set)| set.intersect(topics).is_none());
            let some = all
                || sets
                    .allowing
                    .iter()
                    .any(|(_, set)| set.intersect(topics).is_some_and(|both| both.outside(denied()).is_some()));
            (all, some)
        });
        (each[0].0 || each[1].0, each[0].1 || each[1].1)
    }

    /// The topics that rules allow and deny it, each with the rule's name. By any client, those that are allowed are,
    /// if `widely`, what one of them is allowed, and those that are denied what each of them is; else the other way
    /// round.
    pub(crate) fn sets(&self, act: Act, qos: QoS, retain: bool, widely: bool) -> Sets {
        let mut sets = Sets::default();
        let Some(policy) = &self.rules else { return sets };
        let concerned = policy.rules().filter(|rule| self.subject.is(&rule.who) && rule.acts.contains(&act));
        for rule in concerned {
            let limited = act == Act::Publish
                && (rule.limits.highest_qos.is_some_and(|highest| qos > highest)
                    || rule.limits.retained.is_some_and(|retained| retained != retain));
            if !limited {
                let denies = rule.verdict == Verdict::Deny;
                let list = if denies { &mut sets.denying } else { &mut sets.allowing };
                let own = rule.sets(&self.subject, widely != denies);
                list.extend(own.into_iter().map(|set| (Arc::clone(&rule.name), set)));
            }
        }
        sets
    }

    /// Whether it may receive what is published to a topic: the right that a granted filter stands for, looked at anew
    /// where it may have been lost since.
    pub fn may_receive(&self, topic: &TopicName) -> bool {
        let Some(policy) = &self.rules else { return true };
        let mut allowed = false;
        for place in policy.index().candidates(topic) {
            let rule = policy.rule(place);
            let applies = rule.acts.contains(&Act::Subscribe)
                && self.subject.is(&rule.who)
                && rule.is_about(&self.subject, topic) == Some(true);
            match rule.verdict {
                Verdict::Deny if applies => return false,
                Verdict::Allow => allowed |= applies,
                Verdict::Deny => {}
            }
        }
        allowed
    }

    /// Whether a rule that denies subscribing concerns it: then [`Access::withholds`] is to be asked.
    pub fn is_denied_some(&self) -> bool {
        self.rules.is_some() && (self.subject.is_denied_some || self.subject.takes_parts)
    }

    /// Whether a message that a granted filter matches is kept back, because a rule denies that topic, or none allows it.
    pub fn withholds(&self, topic: &TopicName) -> bool {
        let Some(policy) = &self.rules else { return false };
        if self.subject.takes_parts {
            return !self.may_receive(topic);
        }
        if !self.subject.is_denied_some {
            return false;
        }
        policy.index().candidates(topic).iter().any(|place| {
            let rule = policy.rule(*place);
            rule.verdict == Verdict::Deny
                && rule.acts.contains(&Act::Subscribe)
                && self.subject.is(&rule.who)
                && rule.is_about(&self.subject, topic) == Some(true)
        })
    }
}

/// Whether a rule with the rate `known` takes fewer messages than one with `other`.
fn is_slower(known: Option<Rate>, other: Option<Rate>) -> bool {
    let per_hour = |rate: Rate| u64::from(rate.messages) * 3_600 / rate.every.as_secs().max(1);
    match (known, other) {
        (None, _) => false,
        (Some(_), None) => true,
        (Some(known), Some(other)) => per_hour(known) < per_hour(other),
    }
}

fn everything() -> Decision {
    Decision::Allowed { rules: Vec::new(), highest_qos: QoS::ExactlyOnce, rate: None }
}
