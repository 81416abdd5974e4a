//! What applying a design does to what is live.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A subscription that a session loses.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LostSubscription {
    /// Whose.
    pub client_id: String,
    /// The identity.
    pub identity: String,
    /// The filter.
    pub filter: String,
    /// Why.
    pub explanation: String,
}

/// A topic that an identity published to and may not any more.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LostTopic {
    /// The identity.
    pub identity: String,
    /// The topic.
    pub topic: String,
    /// Why.
    pub explanation: String,
}

/// An identity that enters or leaves a cohort.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CohortMove {
    /// The identity.
    pub identity: String,
    /// The cohort.
    pub cohort: String,
    /// Whether it enters.
    pub enters: bool,
}

/// A session for which conditions say otherwise which messages it gets.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ConditionMove {
    /// Its client identifier.
    pub client_id: String,
    /// The identity.
    pub identity: String,
    /// Conditions that concern it from then on, and did not, or not with these words.
    pub new: Vec<String>,
    /// Conditions that concern it no more, or not with these words.
    pub old: Vec<String>,
}

/// A live topic that has one owner from then on.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct NewlyOwned {
    /// The topic.
    pub topic: String,
    /// Who published to it last.
    pub identity: String,
    /// How strong that identity is by its attributes; null if it has no strength, or if messages tell it.
    pub strength: Option<f64>,
}

/// What applying a design does to what is live now. Lists are cut; totals count all.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Effects {
    /// Subscriptions that are lost. Clients that are connected are disconnected, and told why.
    pub lost_subscriptions: Vec<LostSubscription>,
    /// How many.
    pub lost_subscriptions_total: u64,
    /// Topics of the last day that whoever published there may not publish to any more.
    pub lost_topics: Vec<LostTopic>,
    /// How many.
    pub lost_topics_total: u64,
    /// Topics of retained messages that are not planned any more.
    pub unplanned_retained: Vec<String>,
    /// How many.
    pub unplanned_retained_total: u64,
    /// Topics of retained messages that a derived topic made, and none makes any more.
    pub unmade_retained: Vec<String>,
    /// How many.
    pub unmade_retained_total: u64,
    /// Identities that enter or leave a cohort.
    pub cohort_moves: Vec<CohortMove>,
    /// How many.
    pub cohort_moves_total: u64,
    /// Sessions for which conditions say otherwise which messages they get.
    pub condition_moves: Vec<ConditionMove>,
    /// How many.
    pub condition_moves_total: u64,
    /// Topics of the last day that have one owner from then on, and had not.
    pub newly_owned: Vec<NewlyOwned>,
    /// How many.
    pub newly_owned_total: u64,
    /// Topics that have an owner now, and none from then on: everyone that may publish to them is heard.
    pub disowned: Vec<String>,
    /// How many.
    pub disowned_total: u64,
}
