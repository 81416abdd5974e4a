//! Topics that have one owner at a time, and who it is.

use std::sync::Arc;

use axum::{Json, extract::State};
use moorfall_broker::{broker::Broker, clock::date};
use moorfall_contract::owners::{
    ClaimantView, NotOwnerView, OwnedTopicList, OwnedTopicView, StrengthView, TopicOwnership,
};
use moorfall_core::{
    blueprint::StrengthOf,
    owned::{Claim, Claimant, NotOwner, Seen},
};
use moorfall_wire::TopicName;
use serde::Deserialize;
use utoipa::IntoParams;

use crate::http::{apart::apart, fields::Filter, problem::Fault, reading::Query};

/// Topics that are told at most, and as many if nobody says how many.
const TOPICS: (usize, usize) = (10_000, 100);

/// Which topics are wanted.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Wanted {
    /// Those that this filter matches; all if absent.
    #[param(value_type = Option<String>)]
    filter: Option<Filter>,
    /// Topics at most, up to 10,000.
    #[serde(default = "usual")]
    #[param(default = 100)]
    limit: usize,
}

fn usual() -> usize {
    TOPICS.1
}

/// List topics with their owners
#[utoipa::path(get, operation_id = "list_owners", path = "/topics/owners", tag = "topics", params(Wanted), responses(
    (status = 200, body = OwnedTopicList),
))]
pub async fn list(
    State(broker): State<Arc<Broker>>,
    Query(Wanted { filter, limit }): Query<Wanted>,
) -> Result<Json<OwnedTopicList>, Fault> {
    apart(move || {
        let owned = &broker.sessions.owned;
        let is_wanted = |topic: &TopicName| filter.as_ref().is_none_or(|Filter(filter)| filter.matches(topic));
        let topics = owned.topics();
        let is_asked = |topic: &&TopicName| is_wanted(topic);
        let total = topics.iter().filter(is_asked).count() as u64;
        let seen = topics.iter().filter(is_asked).take(limit.min(TOPICS.0)).filter_map(|topic| owned.see(topic));
        let has_owned = !broker.sessions.router.owned().is_empty();
        Ok(Json(OwnedTopicList { topics: seen.map(view).collect(), total, has_owned }))
    })
    .await
}

fn view(seen: Seen) -> OwnedTopicView {
    let Seen { topic, by, owner, since, returns, silent_at, others, withheld } = seen;
    OwnedTopicView {
        topic: topic.to_string(),
        path: by.path.clone(),
        owner: claimant(&owner),
        since: date(since),
        unheard: returns,
        silent_at: silent_at.map(date),
        others: others.iter().map(claimant).collect(),
        withheld,
    }
}

pub(crate) fn claimant(Claimant { claim, since, heard }: &Claimant) -> ClaimantView {
    ClaimantView {
        client_id: claim.client_id.to_string(),
        identity: claim.identity.to_string(),
        strength: claim.strength,
        since: date(*since),
        heard_at: date(*heard),
    }
}

/// How a topic is owned, if it is.
pub(super) fn ownership(broker: &Broker, topic: &TopicName) -> Option<TopicOwnership> {
    let paths = broker.sessions.router.owned();
    let by = paths.find(topic)?;
    let strength = match &by.strength {
        StrengthOf::Attribute(name) => {
            StrengthView { attribute: Some(name.clone()), property: None, least: None, greatest: None }
        }
        StrengthOf::Property { name, least, greatest } => StrengthView {
            attribute: None,
            property: Some(name.clone()),
            least: Some(*least),
            greatest: Some(*greatest),
        },
    };
    Some(TopicOwnership {
        path: by.path.clone(),
        purpose: by.purpose.clone(),
        strength,
        silent_after_seconds: by.silent_after.map(|time| time.as_secs()),
        now: broker.sessions.owned.see(topic).map(view),
    })
}

/// Why nobody gets a message.
pub(crate) fn not_owner(why: &NotOwner) -> NotOwnerView {
    match why {
        NotOwner::OwnedBy(Claim { client_id, identity, strength }) => NotOwnerView {
            client_id: Some(client_id.to_string()),
            identity: Some(identity.to_string()),
            strength: *strength,
        },
        NotOwner::Full => NotOwnerView { client_id: None, identity: None, strength: None },
    }
}
