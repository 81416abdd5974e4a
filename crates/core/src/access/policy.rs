//! A blueprint made ready for decisions.

use std::{collections::BTreeSet, sync::Arc};

use crate::{
    CohortQuota, Condition, Identity, Quota, TopicSet, When,
    blueprint::{Act, Blueprint, ClientId, PatternLevel, RuleLimits, TopicPattern, Verdict, Who},
    expression::Expression,
    pattern_index::PatternIndex,
    plan::Plan,
};

/// Whom the rules see: an identity by its client.
#[derive(Clone, Debug)]
pub struct Subject {
    /// The identity.
    pub identity: Identity,
    /// The client identifier of the session; `None` for any that the identity may have.
    pub(super) client_id: Option<Box<str>>,
    /// Places of its cohorts, among all of the blueprint by name.
    pub(super) cohorts: BTreeSet<usize>,
    /// Whether a rule that denies subscribing concerns it.
    pub(super) is_denied_some: bool,
    /// Whether it may subscribe to a filter of which it may have only a part, and gets that part: a session of a bridge,
    /// whose mapping may say more exactly than a filter can what it takes.
    pub(super) takes_parts: bool,
}

impl Subject {
    /// An identity of which only the name is known.
    pub(crate) fn named(name: &str) -> Self {
        let identity = Identity { name: name.into(), attributes: Default::default() };
        Self { identity, client_id: None, cohorts: BTreeSet::new(), is_denied_some: false, takes_parts: false }
    }

    /// The client identifier, unless it may be any.
    pub(crate) fn tied(&self) -> Option<&str> {
        self.client_id.as_deref()
    }

    fn client_id(&self) -> &str {
        self.client_id.as_deref().unwrap_or_default()
    }

    /// Whether it is one of these.
    pub(super) fn is(&self, who: &CompiledWho) -> bool {
        match who {
            CompiledWho::Everyone => true,
            CompiledWho::Identity(name) => **name == *self.identity.name,
            CompiledWho::Cohort(place) => self.cohorts.contains(place),
        }
    }
}

/// Whom a rule concerns.
#[derive(Clone, Debug)]
pub(super) enum CompiledWho {
    Identity(Box<str>),
    Cohort(usize),
    Everyone,
}

/// A rule made ready.
#[derive(Debug)]
pub(crate) struct Compiled {
    pub(super) name: Arc<str>,
    pub(super) verdict: Verdict,
    pub(super) who: CompiledWho,
    pub(super) acts: BTreeSet<Act>,
    pub(super) limits: RuleLimits,
    pub(super) patterns: Vec<TopicPattern>,
}

impl Compiled {
    /// Whether it is about the topic; `None` if the identity lacks what its topics are made of.
    pub(super) fn is_about(&self, subject: &Subject, topic: &str) -> Option<bool> {
        let mut bound = false;
        for pattern in &self.patterns {
            match pattern.holds(topic, &subject.identity, subject.client_id()) {
                Some(true) => return Some(true),
                Some(false) => bound = true,
                None => {}
            }
        }
        bound.then_some(false)
    }

    /// Its topics for this session. Of one with any client identifier, all that they may be if `widely`, else what they
    /// are for each.
    pub(super) fn sets(&self, subject: &Subject, widely: bool) -> Vec<TopicSet> {
        let client_id = match &subject.client_id {
            Some(given) => ClientId::Given(given),
            None if widely => ClientId::Any,
            None => ClientId::Each,
        };
        let bound = |pattern: &TopicPattern| pattern.bind(&self.name, &subject.identity, client_id);
        self.patterns.iter().filter_map(|pattern| bound(pattern).ok().flatten()).collect()
    }
}

/// A condition made ready.
#[derive(Debug)]
struct CompiledCondition {
    name: Arc<str>,
    who: CompiledWho,
    patterns: Vec<TopicPattern>,
    condition: Arc<Condition>,
}

/// A blueprint made ready for decisions.
#[derive(Debug, Default)]
pub struct Policy {
    pub(super) blueprint: Arc<Blueprint>,
    pub(super) rules: Vec<Compiled>,
    pub(super) cohorts: Vec<(String, Expression)>,
    /// As the cohorts stand.
    pub(super) quotas: Vec<CohortQuota>,
    pub(super) index: PatternIndex,
    pub(super) plan: Plan,
    conditions: Vec<CompiledCondition>,
}

impl Policy {
    /// Makes a blueprint ready.
    pub fn new(blueprint: Arc<Blueprint>) -> Self {
        let cohorts: Vec<_> =
            blueprint.cohorts.iter().map(|(name, cohort)| (name.clone(), cohort.expression.clone())).collect();
        let who = |who: &Who| match who {
            Who::Everyone => CompiledWho::Everyone,
            Who::Identity(name) => CompiledWho::Identity(name.as_str().into()),
            // A reader has found it; a cohort that is not there is nobody's.
            Who::Cohort(name) => {
                CompiledWho::Cohort(cohorts.binary_search_by(|(known, _)| known.cmp(name)).unwrap_or(usize::MAX))
            }
        };
        let compile = |rule: &crate::blueprint::Rule| Compiled {
            name: rule.name.as_str().into(),
            verdict: rule.verdict,
            who: who(&rule.who),
            acts: rule.acts.clone(),
            limits: rule.limits,
            patterns: rule.topics.clone(),
        };
        let rules: Vec<_> = blueprint.rules.iter().map(compile).collect();
        let mut index = PatternIndex::default();
        for (place, rule) in rules.iter().enumerate() {
            for pattern in &rule.patterns {
                index.insert(pattern.levels().iter().map(PatternLevel::fixed), pattern.is_open(), place);
            }
        }
        let plan = Plan::new(&blueprint.topics);
        let quotas = blueprint.cohorts.values().map(|cohort| cohort.quota).collect();
        let conditions = blueprint.conditions.iter().map(|one| CompiledCondition {
            name: one.name.as_str().into(),
            who: who(&one.who),
            patterns: one.topics.clone(),
            condition: Arc::clone(&one.condition),
        });
        let conditions = conditions.collect();
        Self { blueprint, rules, cohorts, quotas, index, plan, conditions }
    }

    /// What it was made of.
    pub fn blueprint(&self) -> &Arc<Blueprint> {
        &self.blueprint
    }

    /// The planned topics.
    pub fn plan(&self) -> &Plan {
        &self.plan
    }

    pub(super) fn index(&self) -> &PatternIndex {
        &self.index
    }

    pub(super) fn rule(&self, place: usize) -> &Compiled {
        &self.rules[place]
    }

    pub(super) fn rules(&self) -> impl Iterator<Item = &Compiled> {
        self.rules.iter()
    }

    /// Whether someone is in the cohort of this name.
    pub fn is_in(&self, subject: &Subject, cohort: &str) -> bool {
        let place = self.cohorts.binary_search_by(|(known, _)| known.as_str().cmp(cohort));
        place.is_ok_and(|place| subject.cohorts.contains(&place))
    }

    /// The cohorts that an identity is in, by name.
    pub fn cohorts_of<'a>(&'a self, identity: &'a Identity) -> impl Iterator<Item = &'a str> {
        self.cohorts.iter().filter(|(_, expression)| expression.holds(identity)).map(|(name, _)| name.as_str())
    }

    /// How much an identity may hold: as its cohorts say, and for the rest as usual.
    pub fn quota(&self, identity: &Identity, usual: Quota) -> Quota {
        let cohorts = self.cohorts.iter().zip(&self.quotas);
        let own =
            cohorts.filter(|((_, expression), quota)| **quota != CohortQuota::default() && expression.holds(identity));
        own.fold(CohortQuota::default(), |all, (_, quota)| all.with(*quota)).over(usual)
    }

    /// Which messages of some topics somebody gets; `None` if nothing is said of that.
    pub(super) fn conditions_of(&self, subject: &Subject) -> Option<Arc<Vec<When>>> {
        let client_id = subject.tied().map_or(ClientId::Any, ClientId::Given);
        let concerned = self.conditions.iter().filter(|one| subject.is(&one.who));
        let all = concerned.filter_map(|CompiledCondition { name, patterns, condition, .. }| {
            let bound = |pattern: &TopicPattern| pattern.bind(name, &subject.identity, client_id).ok().flatten();
            let topics: Vec<TopicSet> = patterns.iter().filter_map(bound).collect();
            let condition = Arc::clone(condition);
            (!topics.is_empty()).then(|| When { name: Arc::clone(name), topics, condition })
        });
        let all: Vec<When> = all.collect();
        (!all.is_empty()).then(|| Arc::new(all))
    }

    /// The name of the rule at this place.
    pub fn rule_name(&self, place: usize) -> &Arc<str> {
        &self.rules[place].name
    }
}
