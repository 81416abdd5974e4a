//! Proofs: statements about the rules that must hold before a blueprint is applied.
//!
//! A statement is about sets of topics, not about examples: `cannot` means that no topic of the set is allowed, `can`
//! that each one is. A failing proof names an identity and a topic that break it.

use std::{borrow::Cow, collections::BTreeMap, sync::Arc};

use super::{Act, BindError, Bridge, ClientId, Proof, Severity, Who};
use crate::{
    Identity, TopicSet,
    access::{Access, Policy, Sets},
};

/// What a proof came to.
#[derive(Clone, Debug, PartialEq, Eq)]
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
    pub fault: Option<ProofFault>,
    /// Its file.
    pub file: String,
    /// Its line.
    pub line: usize,
}

/// Why a proof does not hold, or holds of nobody.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ProofFault {
    /// There was no time to decide it.
    #[error("It takes too long to decide. Use fewer identities or fewer topics.")]
    TooLong,
    /// It holds, because it is about nobody.
    #[error("It is about nobody: no such identity exists yet.")]
    Nobody,
    /// It is about an identity that does not exist.
    #[error(
        "There is no identity {0}. Create it, or give its attributes in the proof: who = {{ identity = \"{0}\", attributes \
         = {{ … }} }}"
    )]
    NoIdentity(String),
    /// An identity that should be allowed something can't connect.
    #[error("{0} can't connect. {1}")]
    NoEntry(Arc<str>, BindError),
    /// A topic of the proof can't be applied to an identity.
    #[error(transparent)]
    Unfit(#[from] BindError),
    /// An identity has no value for a topic.
    #[error("{0} does not have an attribute that `{1}` needs.")]
    NoAttribute(Arc<str>, String),
    /// No rule allows it.
    #[error("{identity} cannot {act} to {topic}: no rule allows it.")]
    NotAllowed {
        /// Who.
        identity: String,
        /// What.
        act: Act,
        /// A topic that shows it.
        topic: String,
    },
    /// A rule denies it.
    #[error("{identity} cannot {act} to {topic}: rule `{rule}` denies it.")]
    Denied {
        /// Who.
        identity: String,
        /// What.
        act: Act,
        /// A topic that shows it.
        topic: String,
        /// The rule.
        rule: Arc<str>,
    },
    /// A rule allows it.
    #[error("{identity} can {act} to {topic}: rule `{rule}` allows it.")]
    Allowed {
        /// Who.
        identity: String,
        /// What.
        act: Act,
        /// A topic that shows it.
        topic: String,
        /// The rule.
        rule: Arc<str>,
    },
}

impl Proof {
    /// What it says.
    pub fn statement(&self) -> String {
        let topics: Vec<String> = self.topics.iter().map(|topic| format!("{topic}")).collect();
        let verb = if self.can { "can" } else { "cannot" };
        let retained = if self.retained { " retained" } else { "" };
        let qos = if self.qos.level() > 0 { format!(" at QoS {}", self.qos) } else { String::new() };
        format!("{} {verb} {}{retained}{qos} to {}", self.who, self.act, topics.join(", "))
    }
}

/// Someone of whom a proof is: what they may do, or why they can't connect.
type Subject = (Arc<str>, Result<Access, BindError>);

/// The name of an identity that nobody has made: none can have it, so that no expression is about it by its name.
const NOT_YET: &str = "/an identity that does not exist yet/";

/// Identities that are looked at between two looks at the time.
const SLICE: usize = 128;

/// Of whom proofs are.
#[derive(Clone, Copy)]
pub struct Population<'a> {
    /// Identities by name.
    pub identities: &'a BTreeMap<Arc<str>, Identity>,
    /// The only client identifiers that some of them may use, by name.
    pub tied: &'a BTreeMap<Arc<str>, String>,
    /// Whether it has taken long enough; what is not decided by then does not hold.
    pub is_over: &'a dyn Fn() -> bool,
}

/// Checks all proofs against the identities that there are, by name.
pub fn prove(policy: &Arc<Policy>, population: &BTreeMap<Arc<str>, Identity>) -> Vec<ProofResult> {
    let tied = BTreeMap::new();
    prove_within(policy, Population { identities: population, tied: &tied, is_over: &|| false })
}

/// The same with all that is known of them, in a time that the caller bounds.
pub fn prove_within(policy: &Arc<Policy>, population: Population<'_>) -> Vec<ProofResult> {
    let blueprint = policy.blueprint();
    let bridges: Vec<Identity> = blueprint.bridges.iter().map(Bridge::identity).collect();
    let mut is_over = false;
    // Of many identities each is bound once, for all proofs.
    let mut all: Vec<Subject> = Vec::new();
    if blueprint.proofs.iter().any(|proof| !matches!(proof.who, Who::Identity(_))) {
        for (number, identity) in population.identities.values().chain(&bridges).enumerate() {
            is_over |= number % SLICE == 0 && (population.is_over)();
            if is_over {
                break;
            }
            all.push(bind(policy, identity, population));
        }
    }
    let prove = |proof: &Proof| {
        let mut refuted = |subjects: &[Cow<'_, Subject>]| {
            subjects.iter().enumerate().find_map(|(number, subject)| {
                is_over |= number % SLICE == 0 && (population.is_over)();
                if is_over {
                    return Some(ProofFault::TooLong);
                }
                refute(proof, subject).err()
            })
        };
        let (holds, identities, fault) = match subjects(policy, proof, population, &all) {
            Err(fault) => (false, 0, Some(fault)),
            Ok(subjects) => match refuted(&subjects) {
                Some(fault) => (false, subjects.len(), Some(fault)),
                None if subjects.is_empty() => (true, 0, Some(ProofFault::Nobody)),
                None => (true, subjects.len(), None),
            },
        };
        let place = blueprint.source.finding(Severity::Error, &proof.at, "", "");
        let (name, statement) = (proof.name.clone(), proof.statement());
        ProofResult { name, statement, holds, identities, fault, file: place.file, line: place.line }
    };
    blueprint.proofs.iter().map(prove).collect()
}

fn bind(policy: &Arc<Policy>, identity: &Identity, population: Population<'_>) -> Subject {
    let tied = population.tied.get(&identity.name).map(String::as_str);
    (Arc::clone(&identity.name), policy.bind_any(identity, tied))
}

/// Of whom the proof is; or why that can't be told.
fn subjects<'a>(
    policy: &Arc<Policy>,
    proof: &Proof,
    population: Population<'_>,
    all: &'a [Subject],
) -> Result<Vec<Cow<'a, Subject>>, ProofFault> {
    let one = |identity: &Identity| Ok(vec![Cow::Owned(bind(policy, identity, population))]);
    match (&proof.who, &proof.attributes) {
        (Who::Identity(name), Some(attributes)) => {
            one(&Identity { name: name.as_str().into(), attributes: attributes.clone() })
        }
        (Who::Identity(name), None) => {
            let bridge = || policy.blueprint().bridges.iter().map(Bridge::identity).find(|one| *one.name == **name);
            match population.identities.get(name.as_str()).cloned().or_else(bridge) {
                Some(identity) => one(&identity),
                None => Err(ProofFault::NoIdentity(name.clone())),
            }
        }
        (Who::Cohort(cohort), _) => {
            // Whoever is not accepted is in no cohort that matters.
            let member =
                |subject: &&Subject| subject.1.as_ref().is_ok_and(|access| policy.is_in(access.subject(), cohort));
            Ok(all.iter().filter(member).map(Cow::Borrowed).collect())
        }
        // Also someone who is not known yet.
        (Who::Everyone, _) => {
            let not_yet = policy.bind_unknown(NOT_YET);
            let not_yet = (Arc::from(NOT_YET.trim_matches('/')), Ok(not_yet));
            Ok(all.iter().map(Cow::Borrowed).chain([Cow::Owned(not_yet)]).collect())
        }
    }
}

/// Finds what breaks the proof for one identity.
fn refute(proof: &Proof, (name, access): &Subject) -> Result<(), ProofFault> {
    let access = match access {
        Ok(access) => access,
        Err(error) if proof.can => return Err(ProofFault::NoEntry(Arc::clone(name), error.clone())),
        Err(_) => return Ok(()),
    };
    let sets = access.sets(proof.act, proof.qos, proof.retained, !proof.can);
    for pattern in &proof.topics {
        let client_id = access.subject().tied().map_or(ClientId::Any, ClientId::Given);
        let bound = pattern.bind(&proof.name, &access.subject().identity, client_id);
        let Some(topics) = bound? else {
            if proof.can {
                return Err(ProofFault::NoAttribute(Arc::clone(name), pattern.to_string()));
            }
            continue;
        };
        if proof.can {
            all_allowed(proof.act, access, &sets, &topics)?;
        } else {
            none_allowed(proof.act, access, &sets, &topics)?;
        }
    }
    Ok(())
}

/// Whose access it is, as it is told.
fn shown(access: &Access) -> &str {
    access.name().trim_matches('/')
}

fn all_allowed(act: Act, access: &Access, sets: &Sets, topics: &TopicSet) -> Result<(), ProofFault> {
    let identity = || shown(access).to_owned();
    if let Some(topic) = topics.outside(sets.allowing.iter().map(|(_, set)| set)) {
        return Err(ProofFault::NotAllowed { identity: identity(), act, topic });
    }
    for (rule, set) in &sets.denying {
        if let Some(both) = set.intersect(topics) {
            let (topic, rule) = (both.example(), Arc::clone(rule));
            return Err(ProofFault::Denied { identity: identity(), act, topic, rule });
        }
    }
    Ok(())
}

fn none_allowed(act: Act, access: &Access, sets: &Sets, topics: &TopicSet) -> Result<(), ProofFault> {
    for (rule, set) in &sets.allowing {
        if let Some(both) = set.intersect(topics)
            && let Some(topic) = both.outside(sets.denying.iter().map(|(_, set)| set))
        {
            let (identity, rule) = (shown(access).to_owned(), Arc::clone(rule));
            return Err(ProofFault::Allowed { identity, act, topic, rule });
        }
    }
    Ok(())
}
