//! Topics that have one owner at a time.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

/// What tells how strong a publisher is: an attribute of its identity, or a user property of its messages.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct StrengthView {
    /// The attribute; null if it is a user property.
    pub attribute: Option<String>,
    /// The user property; null if it is an attribute.
    pub property: Option<String>,
    /// The least that counts; null of an attribute.
    pub least: Option<f64>,
    /// The greatest that counts; null of an attribute.
    pub greatest: Option<f64>,
}

/// One that publishes to an owned topic.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ClaimantView {
    /// Its client identifier; of the service's own messages the name by which they are published.
    pub client_id: String,
    /// Whose it is.
    pub identity: String,
    /// How strong it is; null if it has no strength, which is weaker than every other.
    pub strength: Option<f64>,
    /// When it was first heard.
    #[serde(with = "time::serde::rfc3339")]
    pub since: OffsetDateTime,
    /// When it was heard last.
    #[serde(with = "time::serde::rfc3339")]
    pub heard_at: OffsetDateTime,
}

/// A topic with its owner.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OwnedTopicView {
    /// The topic.
    pub topic: String,
    /// The owned path of the blueprint.
    pub path: String,
    /// Its owner.
    pub owner: ClaimantView,
    /// Since when it is the owner.
    #[serde(with = "time::serde::rfc3339")]
    pub since: OffsetDateTime,
    /// Whether it was the owner when the service was started, and was not heard since then.
    pub unheard: bool,
    /// When it is the owner no more, unless it publishes; null if it may be silent for as long as its session lasts.
    #[serde(with = "time::serde::rfc3339::option")]
    pub silent_at: Option<OffsetDateTime>,
    /// Others that publish to it, in the order in which they came; at most 7.
    pub others: Vec<ClaimantView>,
    /// Messages that were withheld since the service was started, or since the topic has an owner.
    pub withheld: u64,
}

/// Topics that have owners.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OwnedTopicList {
    /// As many as were asked for, by topic.
    pub topics: Vec<OwnedTopicView>,
    /// How many there are.
    pub total: u64,
    /// Whether the blueprint has owned paths.
    pub has_owned: bool,
}

/// How a topic is owned.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TopicOwnership {
    /// The owned path of the blueprint.
    pub path: String,
    /// What it is for.
    pub purpose: String,
    /// What tells how strong a publisher is.
    pub strength: StrengthView,
    /// How long an owner may be silent, seconds; null if for as long as its session lasts.
    pub silent_after_seconds: Option<u64>,
    /// Its owner and the others; null if nobody publishes to it.
    pub now: Option<OwnedTopicView>,
}

/// Why nobody gets a message: another client owns its topic.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NotOwnerView {
    /// The client identifier of the owner; null if the topic has none, because as many topics are owned as may be.
    pub client_id: Option<String>,
    /// Whose it is.
    pub identity: Option<String>,
    /// How strong it is; null if it has no strength.
    pub strength: Option<f64>,
}

/// Whether a message would be its topic's owner's.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OwnerTrial {
    /// How strong its publisher is; null if it has no strength.
    pub strength: Option<f64>,
    /// Why nobody would get it; null if its publisher is the owner, or would be by it.
    pub not_owner: Option<NotOwnerView>,
    /// Who is the owner now; null if nobody is.
    pub owner: Option<ClaimantView>,
}
