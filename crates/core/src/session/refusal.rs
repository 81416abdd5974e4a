//! What a client tried and was refused, and what becomes of one that is refused too often.
use std::{fmt, sync::Arc, time::Duration};

use moorfall_wire::{FilterError, ReasonCode};
use strum::{EnumDiscriminants, EnumString, IntoStaticStr, VariantNames};

use super::no_entry::NoEntry;
use crate::{
    ExpressionError, Message, ONLY_WHERE, Time,
    access::{Access, Act, Explanation, Request, Ruling},
    blueprint::Rate,
    plan::{Breach, Broken},
    retained::RetainedFull,
    shown::{count, plural, shown},
};

/// The longest that a client which is refused too often is not read from at a time.
const LONGEST_HOLD: Duration = Duration::from_secs(5);

/// After so many holds, with no time between them in which it was not refused too often, the connection ends.
const HOLDS: u32 = 10;

/// Attempts that were refused, for one reason.
#[derive(Clone, Debug)]
pub struct Refusal {
    /// Who tried.
    pub identity: Arc<str>,
    /// Publishing or subscribing.
    pub act: Act,
    /// The topic or filter, or its beginning; of several attempts the first one's.
    pub topic: Box<str>,
    /// Why; of several attempts the first one's.
    pub reason: Reason,
    /// Whether it was the Will Message of the client.
    pub is_will: bool,
    /// How many attempts.
    pub count: u64,
    /// The message, if it was one.
    pub message: Option<Arc<Message>>,
}

/// Why something is refused.
#[derive(Clone, Debug, EnumDiscriminants)]
#[strum_discriminants(
    name(ReasonKind),
    doc = "Why something is refused, without what belongs to it.",
    derive(VariantNames, IntoStaticStr, EnumString),
    strum(serialize_all = "kebab-case")
)]
pub enum Reason {
    /// The rules do not allow it.
    Rules(Box<Explanation>),
    /// A rule allows it less often.
    Rate {
        /// Its name.
        rule: Arc<str>,
        /// How often it does.
        rate: Rate,
    },
    /// Its identity can't connect any more.
    NoEntry(NoEntry),
    /// More topic levels than are taken.
    TopicLevels {
        /// How many there are.
        levels: usize,
        /// How many there can be.
        most: usize,
    },
    /// More bytes of a topic than are taken.
    TopicBytes {
        /// How many there are.
        bytes: usize,
        /// How many there can be.
        most: usize,
    },
    /// The session has as many subscriptions as it can, or asks for more at once.
    Subscriptions {
        /// How many it can have.
        most: usize,
        /// How many it asked for at once, if that alone is too many.
        asked: Option<usize>,
    },
    /// The identity's share of bytes for subscriptions is used up.
    SubscriptionBytes,
    /// The identity has as many subscriptions with conditions as it may.
    Conditions,
    /// No room for another retained message.
    Retained(RetainedFull),
    /// The payload is said to be text, and is not from this byte on.
    NotText {
        /// The place of the first byte at fault.
        at: usize,
    },
    /// It breaks the plan, which is enforced.
    Plan(Broken),
    /// It is not a topic filter.
    Filter(FilterError),
    /// What it asks for as a condition can't be used.
    Condition(ConditionFault),
}

/// Why what a client asks for can't be a condition.
#[derive(Clone, Debug)]
pub enum ConditionFault {
    /// There are several.
    Several,
    /// The expression can't be used.
    Wrong(ExpressionError),
    /// The expression could take more than a client may ask for.
    TooDear {
        /// Steps that it could take.
        steps: u64,
        /// Steps that it may.
        most: u64,
    },
}

/// What refusals are counted by.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Cause {
    /// A rule of this name denies it.
    Rule(Arc<str>),
    /// No rule allows it.
    NoRule,
    /// The identity can't connect any more.
    NoEntry,
    /// A rule of this name allows it less often.
    Rate(Arc<str>),
    /// A limit of this name.
    Limit(&'static str),
    /// The payload is not what the publisher says that it is.
    Payload,
    /// The plan, which is enforced.
    Plan(Breach),
    /// The filter is none.
    Filter,
    /// The condition is none.
    Condition,
}

impl fmt::Display for Cause {
    /// What it is called where refusals are counted by cause.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Rule(name) => write!(f, "denied by rule {name}"),
            Self::NoRule => f.write_str("no rule allows it"),
            Self::NoEntry => f.write_str("identity can no longer connect"),
            Self::Rate(name) => write!(f, "rate of rule {name} exceeded"),
            Self::Limit(name) => write!(f, "limit {name}"),
            Self::Payload => f.write_str("payload is not UTF-8 text"),
            Self::Plan(breach) => write!(f, "does not match the plan: {breach}"),
            Self::Filter => f.write_str("invalid topic filter"),
            Self::Condition => f.write_str("invalid condition"),
        }
    }
}

impl Reason {
    /// By the rules.
    pub fn rules(access: &Access, request: Request<'_>) -> Self {
        Self::Rules(Box::new(access.explain(request)))
    }

    /// With the attempt that it is the reason for.
    pub fn refusal(self, identity: &Arc<str>, act: Act, topic: &str, message: Option<Arc<Message>>) -> Refusal {
        let identity = Arc::clone(identity);
        Refusal { identity, act, topic: shown(topic).into(), reason: self, is_will: false, count: 1, message }
    }

    /// The same for a Will Message that is not published.
    pub fn refusal_of_will(self, identity: &Arc<str>, message: Arc<Message>) -> Refusal {
        let topic = message.topic.clone();
        Refusal { is_will: true, ..self.refusal(identity, Act::Publish, &topic, Some(message)) }
    }

    /// What the client's program is told.
    pub fn code(&self, act: Act) -> ReasonCode {
        match self {
            Self::Rules(_) | Self::NoEntry(_) => ReasonCode::NotAuthorized,
            Self::Rate { .. }
            | Self::Subscriptions { .. }
            | Self::SubscriptionBytes
            | Self::Conditions
            | Self::Retained(_) => ReasonCode::QuotaExceeded,
            Self::TopicLevels { .. } | Self::TopicBytes { .. } if act == Act::Publish => ReasonCode::TopicNameInvalid,
            Self::TopicLevels { .. } | Self::TopicBytes { .. } | Self::Filter(_) => ReasonCode::TopicFilterInvalid,
            Self::NotText { .. } => ReasonCode::PayloadFormatInvalid,
            Self::Plan(broken) if broken.fault.breach() == Breach::Payload => ReasonCode::PayloadFormatInvalid,
            Self::Plan(_) | Self::Condition(_) => ReasonCode::ImplementationSpecific,
        }
    }

    /// What it is counted by.
    pub fn cause(&self) -> Cause {
        match self {
            Self::Rules(explanation) => match &explanation.ruling {
                Ruling::Denied(rule) => Cause::Rule(Arc::clone(rule)),
                _ => Cause::NoRule,
            },
            Self::Rate { rule, .. } => Cause::Rate(Arc::clone(rule)),
            Self::NoEntry(_) => Cause::NoEntry,
            Self::TopicLevels { .. } => Cause::Limit("topic-levels"),
            Self::TopicBytes { .. } => Cause::Limit("topic-bytes"),
            Self::Subscriptions { .. } => Cause::Limit("subscriptions"),
            Self::SubscriptionBytes => Cause::Limit("subscription-bytes-per-identity"),
            Self::Conditions => Cause::Limit("conditions-per-identity"),
            Self::Retained(RetainedFull::Broker) => Cause::Limit("retained-messages"),
            Self::Retained(RetainedFull::Identity) => Cause::Limit("retained-bytes-per-identity"),
            Self::NotText { .. } => Cause::Payload,
            Self::Plan(broken) => Cause::Plan(broken.fault.breach()),
            Self::Filter(_) => Cause::Filter,
            Self::Condition(_) => Cause::Condition,
        }
    }
}

impl fmt::Display for Refusal {
    /// What was refused, why, and the remedy, in sentences.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.is_will {
            f.write_str("The Will Message was refused. ")?;
        }
        self.sentence(f)
    }
}

impl Refusal {
    /// Without the message, for what is remembered.
    #[must_use]
    pub fn remembered(&self) -> Self {
        Self { message: None, ..self.clone() }
    }

    fn sentence(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { identity, act, topic, .. } = self;
        let what = if *act == Act::Publish { "topic" } else { "topic filter" };
        match &self.reason {
            Reason::Rules(explanation) => write!(f, "{explanation}"),
            Reason::Rate { rule, rate } => write!(
                f,
                "{identity} exceeded the rate of rule `{rule}` on {topic} ({rate}). Publish more slowly, or raise the \
                 rate in the rule."
            ),
            Reason::NoEntry(why) => write!(f, "{identity} is not allowed to {act} to {topic}. {why}"),
            Reason::TopicLevels { levels, most } => write!(
                f,
                "The {what} has {} levels; the limit is {}. Use fewer levels, or raise `topic-levels` in `[limits]`.",
                count(*levels as u64),
                count(*most as u64)
            ),
            Reason::TopicBytes { bytes, most } => write!(
                f,
                "The {what} has {} B; the limit is {} B. Use a shorter one, or raise `topic-bytes` in `[limits]`.",
                count(*bytes as u64),
                count(*most as u64)
            ),
            Reason::Subscriptions { most, asked: None } => write!(
                f,
                "The limit of {} in one session is reached. Unsubscribe from some, or raise `subscriptions` in `[limits]`.",
                plural(*most as u64, "subscription", "subscriptions")
            ),
            Reason::Subscriptions { most, asked: Some(asked) } => write!(
                f,
                "The client asked for {} subscriptions at once; the limit of one session is {}. Ask for fewer, or \
                 raise `subscriptions` in `[limits]`.",
                count(*asked as u64),
                count(*most as u64)
            ),
            Reason::SubscriptionBytes => write!(
                f,
                "The subscriptions of {identity} have reached their limit of bytes. Unsubscribe from some, or raise \
                 `subscription-bytes-per-identity`."
            ),
            Reason::Conditions => write!(
                f,
                "{identity} has as many subscriptions with conditions as it may. Unsubscribe from some, say them in \
                 [[conditions]] of the blueprint, or raise `conditions-per-identity`."
            ),
            Reason::Retained(full) => write!(f, "Message not accepted: {full}"),
            Reason::NotText { at } => write!(
                f,
                "The Payload Format Indicator says UTF-8 text, but the payload is not text from byte {} on. Send text, \
                 or leave the indicator out.",
                count(*at as u64)
            ),
            Reason::Plan(Broken { fault, .. }) => write!(
                f,
                "The message from {identity} does not match the plan for {topic}: {fault}. Correct the message, or \
                 change the planned topic."
            ),
            Reason::Filter(error) => write!(f, "{topic} is not a valid topic filter: {error}."),
            Reason::Condition(ConditionFault::Several) => write!(
                f,
                "The subscription has the user property `{ONLY_WHERE}` more than once. Put both conditions into one, with &&."
            ),
            Reason::Condition(ConditionFault::TooDear { steps, most }) => write!(
                f,
                "The condition of the subscription can take {} steps for each message; the limit is {}. Leave out loops and \
                 patterns, or say it in [[conditions]] of the blueprint.",
                count(*steps),
                count(*most)
            ),
            Reason::Condition(ConditionFault::Wrong(error)) => {
                write!(f, "The condition of the subscription can't be used, column {}: {error}.", error.at + 1)
            }
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
