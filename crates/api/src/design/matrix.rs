//! Which identities or cohorts may do what, on which planned paths.

use std::{collections::BTreeMap, sync::Arc};

use axum::{Json, extract::State};
use moorfall_broker::broker::Broker;
use moorfall_contract::design::{Matrix, MatrixRow, Right, Rights as Cell};
use moorfall_core::{
    Identity, TopicSet,
    access::{Access, Act, Policy},
};
use serde::Deserialize;
use utoipa::IntoParams;

use crate::http::reading::{Limit, Query};

/// Which rows are asked for.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Wanted {
    /// `cohorts` or `identities`.
    #[serde(default = "by_cohorts")]
    by: String,
    /// Only rows whose name holds this text.
    #[serde(default)]
    search: String,
    /// The largest number returned.
    #[serde(default)]
    #[param(value_type = u64, default = 200, minimum = 1, maximum = 5_000)]
    limit: Limit<200, 5_000>,
}

fn by_cohorts() -> String {
    "cohorts".into()
}

/// Get the access matrix
///
/// Who can publish and subscribe to which planned topics. Identities that rules name are listed next to the cohorts.
#[utoipa::path(get, operation_id = "access_matrix", path = "/access/matrix", tag = "design", params(Wanted), responses(
    (status = 200, body = Matrix),
))]
pub async fn matrix(State(broker): State<Arc<Broker>>, Query(wanted): Query<Wanted>) -> Json<Matrix> {
    let made = tokio::task::spawn_blocking(move || matrix_of(&broker, &wanted)).await;
    Json(made.expect("making a matrix does not panic, and is not cancelled"))
}

fn matrix_of(broker: &Broker, wanted: &Wanted) -> Matrix {
    let policy = broker.design.policy();
    let blueprint = policy.blueprint();
    let population = broker.population();
    let mut groups: Vec<(String, Vec<&Identity>)> = Vec::new();
    if wanted.by == "identities" {
        groups.extend(population.values().map(|identity| (identity.name.to_string(), vec![identity])));
    } else {
        let mut members: BTreeMap<&str, Vec<&Identity>> = BTreeMap::new();
        let mut alone = Vec::new();
        for identity in population.values() {
            let mut cohorts = policy.cohorts_of(identity).peekable();
            if cohorts.peek().is_none() {
                alone.push((identity.name.to_string(), vec![identity]));
            }
            cohorts.for_each(|cohort| members.entry(cohort).or_default().push(identity));
        }
        let of = |name: &String| (name.clone(), members.remove(name.as_str()).unwrap_or_default());
        groups.extend(blueprint.cohorts.keys().map(of));
        groups.extend(alone);
    }
    groups.retain(|(name, _)| name.contains(&wanted.search));
    let total = groups.len() as u64;
    groups.truncate(wanted.limit.0);
    let tied = broker.identities.directory.tied();
    let rows = groups.into_iter().map(|(name, members)| row(&policy, name, &members, &tied)).collect();
    let topics = blueprint.topics.iter().map(|topic| topic.path.clone()).collect();
    Matrix { topics, rows, total }
}

/// Members that are looked at for one cohort: enough to see whether they differ.
const LOOKED_AT: usize = 50;

fn row(policy: &Arc<Policy>, name: String, members: &[&Identity], tied: &BTreeMap<Arc<str>, String>) -> MatrixRow {
    let topics = &policy.blueprint().topics;
    let mut rights = vec![Cell { publish: Right::None, subscribe: Right::None }; topics.len()];
    let mut first = true;
    for identity in members.iter().take(LOOKED_AT) {
        let client_id = tied.get(&identity.name).map(String::as_str);
        let Ok(access) = policy.bind_any(identity, client_id) else { continue };
        for (rights, topic) in rights.iter_mut().zip(topics) {
            let publish = right(&access, Act::Publish, &topic.set);
            let subscribe = right(&access, Act::Subscribe, &topic.set);
            *rights = if first {
                Cell { publish, subscribe }
            } else {
                Cell { publish: both(rights.publish, publish), subscribe: both(rights.subscribe, subscribe) }
            };
        }
        first = false;
    }
    MatrixRow { name, identities: members.len() as u64, rights }
}

fn both(one: Right, other: Right) -> Right {
    if one == other { one } else { Right::Some }
}

fn right(access: &Access, act: Act, topics: &TopicSet) -> Right {
    match access.reach(act, topics) {
        (true, _) => Right::All,
        (false, true) => Right::Some,
        (false, false) => Right::None,
    }
}
