//! Proofs: statements about the rules that must hold before a blueprint is applied.
//!
//! A statement is about sets of topics, not about examples: `cannot` means that no topic of the set is allowed, `can`
//! that each one is. A failing proof names an identity and a topic that break it.

use std::{collections::BTreeMap, sync::Arc};

use serde::{Deserialize, Serialize};

use super::{Act, Proof, Severity, Who};
use crate::{
    Identity, TopicSet,
    access::{Access, Policy, Sets},
};

/// What a proof came to.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ProofResult {
    /// The proof's name.
    pub name: String,
    /// What it says, in a sentence.
    pub statement: String,
    /// Whether it holds.
    pub holds: bool,
    /// Identities that it was checked for.
    pub identities: usize,
    /// Why it does not hold, or what a person should know.
    pub words: String,
    /// Its file.
    pub file: String,
    /// Its line.
    pub line: usize,
}

impl Proof {
    /// What it says.
    pub fn statement(&self) -> String {
        let topics: Vec<String> = self.topics.iter().map(|topic| format!("{topic}")).collect();
        let verb = if self.can { "can" } else { "cannot" };
        let retained = if self.retained { " retained" } else { "" };
        let qos = if self.qos.level() > 0 { format!(" at QoS {}", self.qos) } else { String::new() };
        format!("{} {verb} {}{retained}{qos} {}", self.who, self.act, topics.join(", "))
    }
}

/// Checks all proofs against the identities that there are, by name.
pub fn prove(policy: &Arc<Policy>, population: &BTreeMap<Arc<str>, Identity>) -> Vec<ProofResult> {
    let blueprint = policy.blueprint();
    let prove = |proof: &Proof| {
        let (subjects, mut words) = subjects(policy, proof, population);
        let mut holds = words.is_empty();
        let identities = subjects.len();
        if holds {
            match subjects.iter().find_map(|subject| refute(policy, proof, subject).err()) {
                Some(why) => {
                    holds = false;
                    words = why;
                }
                None if subjects.is_empty() => words = "it is said of nobody: there is no such identity yet".into(),
                None => {}
            }
        }
        let place = blueprint.source.finding(Severity::Error, &proof.at, "", "");
        let (name, statement) = (proof.name.clone(), proof.statement());
        ProofResult { name, statement, holds, identities, words, file: place.file, line: place.line }
    };
    blueprint.proofs.iter().map(prove).collect()
}

/// Of whom the proof is; or why that can't be told.
fn subjects(policy: &Policy, proof: &Proof, population: &BTreeMap<Arc<str>, Identity>) -> (Vec<Identity>, String) {
    let everyone = population.values().cloned();
    match (&proof.who, &proof.attributes) {
        (Who::Identity(name), Some(attributes)) => {
            (vec![Identity { name: name.as_str().into(), attributes: attributes.clone() }], String::new())
        }
        (Who::Identity(name), None) => match population.get(name.as_str()) {
            Some(identity) => (vec![identity.clone()], String::new()),
            None => (
                Vec::new(),
                format!(
                    "there is no identity {name}; make it, or give its attributes in the proof: who = {{ identity = \"{name}\", attributes = {{ … }} }}"
                ),
            ),
        },
        (Who::Cohort(cohort), _) => (
            everyone.filter(|identity| policy.cohorts_of(identity).any(|known| known == cohort)).collect(),
            String::new(),
        ),
        // Also someone who is not known yet.
        (Who::Everyone, _) => {
            let anyone = Identity { name: "anyone".into(), attributes: BTreeMap::new() };
            (everyone.chain([anyone]).collect(), String::new())
        }
    }
}

/// Finds what breaks the proof for one identity.
fn refute(policy: &Arc<Policy>, proof: &Proof, identity: &Identity) -> Result<(), String> {
    let name = &identity.name;
    let access = match policy.bind(identity, name) {
        Ok(access) => access,
        Err(error) if proof.can => return Err(format!("{name} is not let in: {error}")),
        Err(_) => return Ok(()),
    };
    let sets = access.sets(proof.act, proof.qos, proof.retained);
    for pattern in &proof.topics {
        let Some(topics) = pattern.bind(&proof.name, identity, name).map_err(|error| error.to_string())? else {
            if proof.can {
                return Err(format!("{name} lacks an attribute in `{pattern}`"));
            }
            continue;
        };
        if proof.can {
            all_allowed(proof.act, &access, &sets, &topics)?;
        } else {
            none_allowed(proof.act, &access, &sets, &topics)?;
        }
    }
    Ok(())
}

fn all_allowed(act: Act, access: &Access, sets: &Sets, topics: &TopicSet) -> Result<(), String> {
    let name = access.name();
    if let Some(topic) = topics.outside(sets.allowing.iter().map(|(_, set)| set)) {
        return Err(format!("{name} cannot {act} {topic}: no rule allows it"));
    }
    for (rule, set) in &sets.denying {
        if let Some(both) = set.intersect(topics) {
            return Err(format!("{name} cannot {act} {}: rule `{rule}` denies it", both.example()));
        }
    }
    Ok(())
}

fn none_allowed(act: Act, access: &Access, sets: &Sets, topics: &TopicSet) -> Result<(), String> {
    for (rule, set) in &sets.allowing {
        if let Some(both) = set.intersect(topics)
            && let Some(topic) = both.outside(sets.denying.iter().map(|(_, set)| set))
        {
            return Err(format!("{} can {act} {topic}: rule `{rule}` allows it", access.name()));
        }
    }
    Ok(())
}
