//! The live hierarchy, filters, drift and refusals.

use moorfall_core::plan::Breach;
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::{
    kinds::{Act, Quality, Retention, Verdict},
    owners::TopicOwnership,
};

/// One level of the live hierarchy. Its counts are those of the topic that ends here, if one does, and of all below.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TopicView {
    /// The level's text.
    pub level: String,
    /// The whole path to it.
    pub path: String,
    /// Topics that end here or below.
    pub topics: u64,
    /// Whether there are levels below.
    pub has_children: bool,
    /// Whether a topic ends here.
    pub is_topic: bool,
    /// Messages since the service started.
    pub messages: u64,
    /// Their bytes of payload, topic and properties.
    pub bytes: u64,
    /// Messages per second, averaged over ten seconds.
    pub rate: f64,
    /// When the last message came.
    #[serde(with = "time::serde::rfc3339")]
    pub last: OffsetDateTime,
    /// Who published to this very topic last; empty if nobody did.
    pub publisher: String,
    /// The beginning of what was published to this very topic last; null if that is no text, or if nothing was.
    pub value: Option<String>,
    /// Bytes of its payload.
    pub value_bytes: u64,
    /// The number that payloads of this very topic are, or the first that stands in them as a field: one every five
    /// seconds at most, the last 24, oldest first.
    pub numbers: Vec<f32>,
    /// Whether this very topic has a retained message.
    pub retained: bool,
    /// The planned path of this very topic; empty if it is not planned.
    pub planned: String,
    /// Sessions that receive what is published to this very topic, of each shared subscription one.
    pub subscribers: u64,
}

/// Levels of the live hierarchy.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TopicList {
    /// The whole below the prefix.
    pub total: TopicView,
    /// Levels right below, or topics.
    pub levels: Vec<TopicView>,
    /// How many there are, listed or not.
    pub count: u64,
    /// Whether the blueprint plans topics.
    pub has_plan: bool,
    /// Messages on topics that are not in the hierarchy, because it has as many levels as it may.
    pub unfollowed: u64,
    /// Memory that the hierarchy takes, about, bytes.
    pub memory_bytes: u64,
    /// How much it may take; topics beyond it are not followed, and only counted.
    pub memory_most: u64,
}

/// A message of the topic.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TopicMessage {
    /// Its number among those that were gathered, from 1.
    pub number: u64,
    /// When the broker took it.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// Whose it is.
    pub publisher: String,
    /// The publisher's quality of service.
    pub qos: u8,
    /// Whether it was to be retained.
    pub retain: bool,
    /// Bytes of its payload.
    pub bytes: u64,
    /// The first 4,096 bytes of its payload; null if they are no text.
    pub payload: Option<String>,
}

/// What is planned of the topic.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PlanEntry {
    /// The planned path.
    pub path: String,
    /// What it is for.
    pub purpose: String,
    /// What messages hold, in explanation.
    pub payload: String,
    /// The quality of service; null if any.
    pub qos: Option<u8>,
    /// Whether messages are retained.
    pub retained: Retention,
    /// The longest time between two messages, seconds; null if none is said.
    pub cadence: Option<u64>,
}

/// A rule that is about the topic, for some identities at least.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RuleOnTopic {
    /// Its name.
    pub rule: String,
    /// What it does.
    pub verdict: Verdict,
    /// Whom it concerns.
    pub who: String,
    /// Whether it is about publishing.
    pub publish: bool,
    /// Whether it is about subscribing.
    pub subscribe: bool,
    /// Those of its topics that hold this one.
    pub topics: Vec<String>,
}

/// A session that receives what is published to the topic.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SubscriberView {
    /// Its client identifier.
    pub client_id: String,
    /// Whose it is.
    pub identity: String,
    /// The highest quality of service that its subscriptions were granted.
    pub qos: u8,
    /// The shared subscription by which it takes turns with others; empty if it is not by one.
    pub shared: String,
    /// Whether its client is connected.
    pub connected: bool,
    /// Messages that wait for it.
    pub queue: u64,
    /// Which messages it receives, as expressions: those of one subscription must all be true, of several subscriptions it
    /// is enough if those of one are. None if it receives all.
    pub conditions: Vec<String>,
}

/// A subscription that may receive what is published to a topic or filter.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SubscriptionView {
    /// The client identifier of its session.
    pub client_id: String,
    /// Whose session it is.
    pub identity: String,
    /// Its filter, without the group of a shared subscription.
    pub filter: String,
    /// The highest quality of service that was granted.
    pub qos: u8,
    /// The group of a shared subscription, of which one member gets each message; empty if it is not shared.
    pub group: String,
    /// Whether its client is connected.
    pub connected: bool,
    /// Messages that wait for its session.
    pub queue: u64,
    /// Which messages its client asked for, as an expression; null if all.
    pub condition: Option<String>,
}

/// The subscriptions of a topic or filter.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SubscriptionList {
    /// By client identifier and filter; as many as were asked for.
    pub subscriptions: Vec<SubscriptionView>,
    /// How many there are.
    pub total: u64,
}

/// A derived topic of the design by which a topic is made.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MadeBy {
    /// The name of the derived topic in the blueprint.
    pub derived: String,
    /// The newest topic of each source.
    pub sources: Vec<String>,
    /// Whether its value is as new as it is meant to be; null if none was published yet.
    pub quality: Option<Quality>,
}

/// What a derived topic of the design makes of a topic.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Makes {
    /// The name of the derived topic in the blueprint.
    pub derived: String,
    /// The topic that it makes.
    pub topic: String,
}

/// What is known of a topic.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TopicDetails {
    /// Its place in the live hierarchy; null if nothing was published to it since the service started.
    pub about: Option<TopicView>,
    /// What is planned of it; null if it is not planned.
    pub plan: Option<PlanEntry>,
    /// Whether the blueprint plans anything.
    pub has_plan: bool,
    /// How it is owned; null if it has no owners.
    pub owned: Option<TopicOwnership>,
    /// The derived topics of the design that make it.
    pub made_by: Vec<MadeBy>,
    /// What derived topics make of it.
    pub makes: Vec<Makes>,
    /// The rules that are about it.
    pub rules: Vec<RuleOnTopic>,
    /// Sessions that receive what is published to it.
    pub subscribers: Vec<SubscriberView>,
    /// How many there are, named or not.
    pub subscribers_total: u64,
    /// The messages that were gathered, oldest first: the newest 200, and at most 20 of each second.
    pub messages: Vec<TopicMessage>,
    /// Since when they are gathered: since somebody looks at the topic.
    #[serde(with = "time::serde::rfc3339")]
    pub gathered_since: OffsetDateTime,
    /// Messages that were left out, because they were too many in their second.
    pub left_out: u64,
}

/// A topic or planned path that a filter nearly matches.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NearMiss {
    /// The topic or path.
    pub topic: String,
    /// The level at which it falls out, from 1.
    pub level: u64,
    /// Why, in a sentence.
    pub explanation: String,
}

/// What a filter matches.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Match {
    /// Planned paths of which it matches some or all topics.
    pub planned: Vec<String>,
    /// Topics that were published to.
    pub live: Vec<String>,
    /// How many there are, listed or not.
    pub live_total: u64,
    /// Planned paths that it does not catch, with the reason; those that go furthest first.
    pub planned_misses: Vec<NearMiss>,
    /// Topics that were published to, in the same way.
    pub live_misses: Vec<NearMiss>,
}

/// How traffic and plan differ.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum DriftKind {
    /// The topic is not planned.
    Unplanned,
    /// Messages have another QoS.
    QoS,
    /// Messages are retained and should not be, or the other way round.
    Retention,
    /// Payloads are of another form.
    Payload,
    /// Nothing comes as often as planned.
    Silent,
}

impl std::fmt::Display for DriftKind {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Self::Unplanned => "unplanned",
            Self::QoS => "qos",
            Self::Retention => "retention",
            Self::Payload => "payload",
            Self::Silent => "silent",
        })
    }
}

impl From<Breach> for DriftKind {
    fn from(breach: Breach) -> Self {
        match breach {
            Breach::Unplanned => Self::Unplanned,
            Breach::QoS => Self::QoS,
            Breach::Retention => Self::Retention,
            Breach::Payload => Self::Payload,
        }
    }
}

/// Traffic that the plan does not say.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DriftView {
    /// The topic; for `silent`, the planned path or the topic that fell silent.
    pub topic: String,
    /// What it is.
    pub kind: DriftKind,
    /// In a sentence.
    pub explanation: String,
    /// Messages.
    pub count: u64,
    /// How many of them were refused.
    pub refused: u64,
    /// When it was seen first.
    #[serde(with = "time::serde::rfc3339")]
    pub first: OffsetDateTime,
    /// When it was seen last.
    #[serde(with = "time::serde::rfc3339")]
    pub last: OffsetDateTime,
    /// Who did it last.
    pub identity: String,
    /// The beginning of a payload.
    pub sample: String,
}

/// Attempts that were refused.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RefusalView {
    /// Who.
    pub identity: String,
    /// By which client, the last time.
    pub client_id: String,
    /// Publishing or subscribing.
    pub act: Act,
    /// The topic or filter of the last one, or its beginning.
    pub topic: String,
    /// Why, in a few explanation that are the same for one cause.
    pub cause: String,
    /// The last one in a sentence.
    pub explanation: String,
    /// How often.
    pub count: u64,
    /// When it was seen first.
    #[serde(with = "time::serde::rfc3339")]
    pub first: OffsetDateTime,
    /// When it was seen last.
    #[serde(with = "time::serde::rfc3339")]
    pub last: OffsetDateTime,
}

/// Lines for a blueprint.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DraftLines {
    /// To be added to a file of the blueprint.
    pub text: String,
}
