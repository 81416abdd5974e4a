//! What a client tried and was refused, and what becomes of one that is refused too often.
use std::{fmt, sync::Arc, time::Duration};

use moorfall_wire::ReasonCode;

use crate::{
    Message, Time,
    access::{Access, Act, Decision, Request},
    plan::Breach,
    shown::shown,
};

/// The longest that a client which is refused too often is not read from at a time.
const LONGEST_HOLD: Duration = Duration::from_secs(5);

/// After so many holds, with no time between them in which it was not refused too often, the connection ends.
const HOLDS: u32 = 10;

/// Why something is refused.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Cause {
    /// A rule of this name denies it.
    Rule(Arc<str>),
    /// No rule allows it.
    NoRule,
    /// A rule of this name allows it less often.
    Rate(Arc<str>),
    /// A limit of this name.
    Limit(&'static str),
    /// The payload is not what the publisher says that it is.
    Payload,
    /// The plan, which is kept.
    Plan(Breach),
    /// The filter is none.
    Filter,
}

impl fmt::Display for Cause {
    /// What it is called where refusals are counted by cause.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Rule(name) => write!(f, "denied by rule {name}"),
            Self::NoRule => f.write_str("no rule allows it"),
            Self::Rate(name) => write!(f, "more often than rule {name} allows"),
            Self::Limit(name) => write!(f, "limit {name}"),
            Self::Payload => f.write_str("payload is not the text that it is said to be"),
            Self::Plan(breach) => write!(f, "breaks the plan: {breach}"),
            Self::Filter => f.write_str("not a topic filter"),
        }
    }
}

/// Attempts that were refused, for one reason.
#[derive(Clone, Debug)]
pub struct Refusal {
    /// Publishing or subscribing.
    pub act: Act,
    /// Why.
    pub cause: Cause,
    /// The topic or filter, or its beginning; of several attempts the first one's.
    pub topic: Box<str>,
    /// In a sentence for the record; of several attempts the first one's.
    pub words: String,
    /// How many attempts.
    pub count: u64,
    /// The message, if it was one.
    pub message: Option<Arc<Message>>,
}

impl Refusal {
    /// A will that is not published.
    pub fn of_will(cause: Cause, words: &str, message: Arc<Message>) -> Self {
        let topic = shown(&message.topic).into();
        let words = format!("the will: {words}");
        Self { act: Act::Publish, cause, topic, words, count: 1, message: Some(message) }
    }
}

/// What the client is told, and what is noted.
#[derive(Clone, Debug)]
pub(super) struct Denied {
    pub(super) reason: ReasonCode,
    pub(super) cause: Cause,
    pub(super) words: String,
}

impl Denied {
    pub(super) fn new(reason: ReasonCode, cause: Cause, words: impl Into<String>) -> Self {
        Self { reason, cause, words: words.into() }
    }

    /// By the rules.
    pub(super) fn by_rules(access: &Access, request: Request<'_>, decision: &Decision) -> Self {
        Self::new(ReasonCode::NotAuthorized, Cause::of(access, decision), access.explain(request))
    }

    pub(super) fn refusal(self, act: Act, topic: &str, message: Option<Arc<Message>>) -> Refusal {
        Refusal { act, cause: self.cause, topic: shown(topic).into(), words: self.words, count: 1, message }
    }
}

impl Cause {
    /// Of a decision that does not allow something.
    pub fn of(access: &Access, decision: &Decision) -> Self {
        match (decision, access.policy()) {
            (Decision::Denied(place), Some(policy)) => Self::Rule(Arc::clone(policy.rule_name(*place))),
            _ => Self::NoRule,
        }
    }
}

/// How often a client was refused lately.
#[derive(Debug)]
pub(super) struct Patience {
    /// Refusals that are still nothing unusual; below 0 when there were more.
    left: f64,
    at: Time,
    /// Holds since the last time that it was full.
    holds: u32,
    /// Nothing is read until then.
    pub(super) held_until: Option<Time>,
}

impl Patience {
    pub(super) fn new(now: Time) -> Self {
        Self { left: f64::INFINITY, at: now, holds: 0, held_until: None }
    }

    /// Counts refusals; gives whether there have been too many for too long.
    pub(super) fn spend(&mut self, count: u64, now: Time, per_second: u32) -> bool {
        if per_second == 0 {
            return false;
        }
        let rate = f64::from(per_second);
        let most = 2.0 * rate;
        self.left = (self.left + (now - self.at).as_secs_f64() * rate).min(most);
        self.at = now;
        if self.left >= most {
            self.holds = 0;
        }
        self.left -= count as f64;
        if self.left < 0.0 && self.held_until.is_none() {
            self.holds += 1;
            // Whole seconds: a hold is also a rest.
            let wait = Duration::from_secs_f64((-self.left / rate).max(1.0)).min(LONGEST_HOLD);
            self.held_until = Some(now + wait);
        }
        self.holds > HOLDS
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(millis: u64) -> Time {
        Time::from_micros(millis * 1_000)
    }

    #[test]
    fn a_few_refusals_are_nothing_and_many_slow_down_and_end() {
        let mut patience = Patience::new(at(0));
        for second in 0..60 {
            assert!(!patience.spend(40, at(second * 1_000), 50));
        }
        assert_eq!(patience.held_until, None);
        let mut now = at(60_000);
        let mut holds = 0;
        while !patience.spend(1_000, now, 50) {
            let until = patience.held_until.take().unwrap();
            assert!(until > now && until - now <= LONGEST_HOLD);
            (now, holds) = (until, holds + 1);
        }
        assert_eq!(holds, HOLDS);
        let mut patience = Patience::new(at(0));
        assert!(!patience.spend(1_000_000, at(0), 0) && patience.held_until.is_none());
    }
}
