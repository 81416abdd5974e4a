//! The verdict on a request and what it rests on, as a value; its sentence is made where it is shown.

use std::{fmt, sync::Arc};

use moorfall_wire::QoS;

use super::decide::{Access, Considered, Decision, Request};
use crate::{
    blueprint::{Act, Verdict},
    shown::{listed, shown},
};

/// What the rules allow somebody elsewhere, named beside a refusal: so many of it.
const NAMED: usize = 6;

/// A verdict and what it rests on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Explanation {
    /// Whose request it is.
    pub identity: Arc<str>,
    /// What was asked for.
    pub act: Act,
    /// The topic or filter, or its beginning.
    pub topic: Box<str>,
    /// The QoS and the retain flag of a message.
    pub message: Option<(QoS, bool)>,
    /// What the rules say.
    pub ruling: Ruling,
}

/// What the rules say of a request.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Ruling {
    /// No rules limit this one.
    Unlimited,
    /// These rules allow it, together if there are several.
    Allowed(Vec<Arc<str>>),
    /// This rule denies it.
    Denied(Arc<str>),
    /// Rules allow the topic, but not such a message.
    Limited(Vec<Limited>),
    /// No rule allows it, or not all of it.
    NotAllowed {
        /// A topic of the filter that is not allowed, if others are.
        outside: Option<Box<str>>,
        /// What the same one is allowed: topics, and the rule.
        elsewhere: Vec<(Box<str>, Arc<str>)>,
        /// More of the same, not named.
        more: usize,
    },
}

/// How a rule that allows a topic limits its messages.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Limited {
    /// No higher QoS.
    QoS(Arc<str>, QoS),
    /// Only with the retain flag, or only without.
    Retained(Arc<str>, bool),
}

impl Explanation {
    /// Whether it is allowed.
    pub fn is_allowed(&self) -> bool {
        matches!(self.ruling, Ruling::Unlimited | Ruling::Allowed(_))
    }
}

impl Access {
    /// The verdict on a request, and what it rests on.
    pub fn explain(&self, request: Request<'_>) -> Explanation {
        let (topic, message) = match request {
            Request::Publish { topic, qos, retain } => (shown(topic), Some((qos, retain))),
            Request::Subscribe { filter } => (shown(filter), None),
        };
        let identity = Arc::clone(self.name());
        Explanation { identity, act: request.act(), topic: topic.into(), message, ruling: self.ruling(request) }
    }

    fn ruling(&self, request: Request<'_>) -> Ruling {
        let Some(policy) = self.policy() else { return Ruling::Unlimited };
        let (mut elsewhere, mut limits) = (Vec::new(), Vec::new());
        let decision = self.trace(request, |place, considered| {
            let rule = policy.rule(place);
            if rule.verdict == Verdict::Deny {
                return;
            }
            let name = || Arc::clone(&rule.name);
            match considered {
                // Of a filter, all of which no rule allows, a part may be allowed.
                Considered::OtherTopics | Considered::Applies => elsewhere.extend(
                    rule.sets(self.subject(), true).into_iter().map(|set| (shown(&set.to_string()).into(), name())),
                ),
                // All that keeps a rule from allowing the message is told at once.
                Considered::AboveQoS(_) | Considered::OtherRetention => {
                    let Request::Publish { qos, retain, .. } = request else { return };
                    let highest = rule.limits.highest_qos.filter(|highest| qos > *highest);
                    limits.extend(highest.map(|highest| Limited::QoS(name(), highest)));
                    let retained = rule.limits.retained.filter(|retained| *retained != retain);
                    limits.extend(retained.map(|retained| Limited::Retained(name(), retained)));
                }
                _ => {}
            }
        });
        match decision {
            Decision::Allowed { rules, .. } => {
                Ruling::Allowed(rules.into_iter().map(|place| Arc::clone(policy.rule_name(place))).collect())
            }
            Decision::Denied(place) => Ruling::Denied(Arc::clone(policy.rule_name(place))),
            Decision::NotAllowed(_) if !limits.is_empty() => Ruling::Limited(limits),
            Decision::NotAllowed(outside) => {
                let more = elsewhere.len().saturating_sub(NAMED);
                elsewhere.truncate(NAMED);
                Ruling::NotAllowed { outside: outside.map(|topic| shown(&topic).into()), elsewhere, more }
            }
        }
    }
}

impl fmt::Display for Limited {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::QoS(rule, highest) => write!(f, "Rule `{rule}` allows QoS {highest} at most."),
            Self::Retained(rule, true) => write!(f, "Rule `{rule}` allows only retained messages."),
            Self::Retained(rule, false) => write!(f, "Rule `{rule}` does not allow retained messages."),
        }
    }
}

impl fmt::Display for Explanation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { identity, act, topic, .. } = self;
        let to = |f: &mut fmt::Formatter<'_>, verb: &str| write!(f, "{identity} {verb} {act} to {topic}");
        match &self.ruling {
            Ruling::Unlimited => {
                to(f, "can")?;
                write!(f, ": no rules apply to {identity}.")
            }
            Ruling::Allowed(rules) => {
                to(f, "can")?;
                match &rules[..] {
                    [one] => write!(f, ": rule `{one}` allows it."),
                    several => {
                        let names: Vec<String> = several.iter().map(|name| format!("`{name}`")).collect();
                        write!(f, ": the rules {} allow it together.", listed(&names))
                    }
                }
            }
            Ruling::Denied(rule) => {
                to(f, "is not allowed to")?;
                write!(f, ": rule `{rule}` denies it.")
            }
            Ruling::Limited(limits) => {
                to(f, "is not allowed to")?;
                self.too_much(f, limits)?;
                f.write_str(".")?;
                limits.iter().try_for_each(|limit| write!(f, " {limit}"))
            }
            Ruling::NotAllowed { outside, elsewhere, more } => {
                to(f, "is not allowed to")?;
                match outside {
                    None => f.write_str(": no rule allows it. ")?,
                    Some(outside) => write!(f, ": no rule allows all of it, for example {outside}. ")?,
                }
                if elsewhere.is_empty() {
                    let anywhere = if *act == Act::Publish { "anywhere" } else { "to anything" };
                    return write!(f, "No rule allows {identity} to {act} {anywhere}.");
                }
                let mut places: Vec<String> =
                    elsewhere.iter().map(|(topics, rule)| format!("{topics} (rule `{rule}`)")).collect();
                if *more > 0 {
                    places.push(format!("{more} more"));
                }
                write!(f, "{identity} can {act} to {}.", listed(&places))
            }
        }
    }
}

impl Explanation {
    /// What of the message the rules do not allow.
    fn too_much(&self, f: &mut fmt::Formatter<'_>, limits: &[Limited]) -> fmt::Result {
        let Some((qos, retain)) = self.message else { return Ok(()) };
        let by_qos = limits.iter().any(|limit| matches!(limit, Limited::QoS(..)));
        let by_retention = limits.iter().any(|limit| matches!(limit, Limited::Retained(..)));
        if by_qos {
            write!(f, " at QoS {qos}")?;
        }
        match (by_retention, retain) {
            (false, _) => Ok(()),
            (true, true) => f.write_str(" with the retain flag"),
            (true, false) => f.write_str(" without the retain flag"),
        }
    }
}
