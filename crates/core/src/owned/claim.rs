//! Who publishes to an owned topic, and what becomes of its owner.

use std::{cmp::Ordering, fmt, sync::Arc};

use moorfall_wire::TopicName;

use crate::{Time, shown::shown};

/// Who publishes to an owned topic.
#[derive(Clone, Debug, PartialEq)]
pub struct Claim {
    /// Its client; its identity where no client publishes.
    pub client_id: Arc<str>,
    /// Its identity.
    pub identity: Arc<str>,
    /// How strong it is; weaker than all others if absent.
    pub strength: Option<f64>,
}

impl Claim {
    /// Whether it is stronger than another, as strong, or weaker.
    pub(super) fn compare(&self, other: &Self) -> Ordering {
        let number = |claim: &Self| claim.strength.unwrap_or(f64::NEG_INFINITY);
        number(self).total_cmp(&number(other))
    }
}

impl fmt::Display for Claim {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.strength {
            Some(strength) => write!(f, "{} (strength {strength})", self.client_id),
            None => write!(f, "{} (no strength)", self.client_id),
        }
    }
}

/// Who publishes a message to an owned topic.
#[derive(Clone, Copy, Debug)]
pub struct Publishing<'a> {
    /// Its client; its identity where no client publishes.
    pub client_id: &'a str,
    /// Its identity.
    pub identity: &'a Arc<str>,
    /// How strong it is; weaker than all others if absent.
    pub strength: Option<f64>,
}

impl Publishing<'_> {
    /// Whether it is as strong as it was known to be.
    pub(super) fn is(&self, claim: &Claim) -> bool {
        *claim.client_id == *self.client_id && claim.strength == self.strength && claim.identity == *self.identity
    }

    pub(super) fn claim(&self) -> Claim {
        Claim { client_id: self.client_id.into(), identity: Arc::clone(self.identity), strength: self.strength }
    }
}

/// One that publishes to an owned topic, as it is remembered.
#[derive(Clone, Debug, PartialEq)]
pub struct Claimant {
    /// Who.
    pub claim: Claim,
    /// When it was first heard.
    pub since: Time,
    /// When it was heard last.
    pub heard: Time,
}

/// Why a topic has another owner.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Why {
    /// A stronger one publishes.
    Stronger,
    /// The owner says of itself that it is weaker now than another.
    Weaker,
    /// The session of the owner has ended.
    SessionEnded,
    /// The owner was silent for too long.
    Silent,
}

/// A topic has another owner.
#[derive(Clone, Debug, PartialEq)]
pub struct Change {
    /// Which topic.
    pub topic: TopicName,
    /// Who owned it.
    pub before: Claim,
    /// Who owns it now; nobody if nobody else publishes to it.
    pub now: Option<Claim>,
    /// Why.
    pub why: Why,
}

impl fmt::Display for Change {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { topic, before, now, why } = self;
        let topic = shown(topic);
        match now {
            Some(now) => write!(f, "{now} owns {topic} now: ")?,
            None => write!(f, "Nobody owns {topic} now: ")?,
        }
        match why {
            Why::Stronger => write!(f, "it is stronger than {before}."),
            Why::Weaker => write!(f, "{} says that it is weaker now.", before.client_id),
            Why::SessionEnded => write!(f, "the session of {before} has ended."),
            Why::Silent => write!(f, "{before} was silent for too long."),
        }
    }
}

/// Why a message is withheld from everyone: another owns its topic, or there is no room to remember who does.
#[derive(Clone, Debug, PartialEq)]
pub enum NotOwner {
    /// This one owns it.
    OwnedBy(Claim),
    /// As many topics have owners as may, or its client publishes to as many of them as it may.
    Full,
}

impl fmt::Display for NotOwner {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::OwnedBy(owner) => write!(f, "the topic is owned by {owner}"),
            Self::Full => f.write_str("as many topics are owned as may be, and this one has no owner"),
        }
    }
}
