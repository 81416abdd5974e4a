//! What a design that is not in force yet would do to what is live.
use std::{collections::HashMap, sync::Arc};

use moorfall_contract::effects::{CohortMove, ConditionMove, Effects, LostSubscription, LostTopic, NewlyOwned};
use moorfall_core::{
    Identity, SessionKey, When,
    access::{Access, BindError, Policy, Request},
    owned::OwnedPaths,
};
use moorfall_wire::{QoS, TopicFilter, TopicName};

use crate::broker::Broker;

/// Entries of one list at most; the totals count all.
const LISTED: usize = 100;

/// What one may do, and would; or why it could not connect.
type BothRights = (Access, Result<Access, BindError>);

fn list<T>(into: &mut Vec<T>, total: &mut u64, entry: impl FnOnce() -> T) {
    *total += 1;
    if into.len() < LISTED {
        into.push(entry());
    }
}

impl Broker {
    /// What another policy would do to what is live. Looks at every subscription, retained message and live topic.
    pub fn effects(&self, old: &Arc<Policy>, new: &Arc<Policy>) -> Effects {
        let mut effects = Effects::default();
        self.effects_on_subscriptions(old, new, &mut effects);
        self.effects_on_retained(old, new, &mut effects);
        self.effects_on_topics(old, new, &mut effects);
        self.effects_of_conditions(old, new, &mut effects);
        self.effects_on_owners(old, new, &mut effects);
        for identity in self.identities.directory.identities() {
            effects_on_identity(&identity, old, new, &mut effects);
        }
        effects
    }

    fn effects_on_subscriptions(&self, old: &Arc<Policy>, new: &Arc<Policy>, effects: &mut Effects) {
        let mut known: HashMap<SessionKey, Option<BothRights>> = HashMap::new();
        self.sessions.router.each_subscription(|text, key, subscriber| {
            let record = &subscriber.handle;
            let rights = || self.both_rights(old, new, &record.identity, &record.client_id);
            let Some((before, after)) = known.entry(key).or_insert_with(rights) else { return };
            let Ok(filter) = TopicFilter::new(text) else { return };
            let inner = inner(&filter);
            let request = Request::Subscribe { filter: &inner };
            if !before.decide(request).is_allowed() {
                return;
            }
            let explanation = match after {
                Ok(after) if after.decide(request).is_allowed() => return,
                Ok(after) => after.explain(request).to_string(),
                Err(why) => why.to_string(),
            };
            list(&mut effects.lost_subscriptions, &mut effects.lost_subscriptions_total, || LostSubscription {
                client_id: record.client_id.clone(),
                identity: record.identity.to_string(),
                filter: text.to_owned(),
                explanation,
            });
        });
    }

    fn effects_of_conditions(&self, old: &Arc<Policy>, new: &Arc<Policy>, effects: &mut Effects) {
        if old.blueprint().conditions.is_empty() && new.blueprint().conditions.is_empty() {
            return;
        }
        for record in self.sessions.registry.all() {
            let Some((before, Ok(after))) = self.both_rights(old, new, &record.identity, &record.client_id) else {
                continue;
            };
            let (before, after) = (before.conditions(), after.conditions());
            let (before, after) =
                (before.as_ref().map_or(&[][..], |all| all), after.as_ref().map_or(&[][..], |all| all));
            let names = |all: &[When], others: &[When]| -> Vec<String> {
                all.iter().filter(|when| !others.contains(when)).map(|when| when.name.to_string()).collect()
            };
            let (new, old) = (names(after, before), names(before, after));
            if new.is_empty() && old.is_empty() {
                continue;
            }
            list(&mut effects.condition_moves, &mut effects.condition_moves_total, || ConditionMove {
                client_id: record.client_id.clone(),
                identity: record.identity.to_string(),
                new,
                old,
            });
        }
    }

    /// What an identity is allowed and would be, by a client of this identifier; `None` if it is not limited by rules.
    fn both_rights(&self, old: &Arc<Policy>, new: &Arc<Policy>, identity: &str, client_id: &str) -> Option<BothRights> {
        let identity = match Identity::bridge_named(identity) {
            Some(bridge) => Identity::of_bridge(bridge),
            None => self.identities.directory.identity(identity)?,
        };
        let before = old.bind(&identity, client_id).ok()?;
        let after = new.bind(&identity, client_id);
        Some((before, after))
    }

    fn effects_on_retained(&self, old: &Policy, new: &Policy, effects: &mut Effects) {
        let planned = |policy: &Policy, topic: &str| policy.plan().find(topic).is_some();
        let made = |policy: &Policy, topic: &str| policy.blueprint().derived.iter().any(|one| one.makes(topic));
        let is_planned = !new.plan().topics().is_empty();
        if !is_planned && old.blueprint().derived.is_empty() {
            return;
        }
        for message in self.sessions.router.all_retained() {
            let topic = &message.topic;
            if made(old, topic) && !made(new, topic) {
                list(&mut effects.unmade_retained, &mut effects.unmade_retained_total, || topic.to_string());
            }
            if is_planned && (old.plan().topics().is_empty() || planned(old, topic)) && !planned(new, topic) {
                let (unplanned, total) = (&mut effects.unplanned_retained, &mut effects.unplanned_retained_total);
                list(unplanned, total, || topic.to_string());
            }
        }
    }

    fn effects_on_topics(&self, old: &Arc<Policy>, new: &Arc<Policy>, effects: &mut Effects) {
        let mut known: HashMap<Arc<str>, Option<BothRights>> = HashMap::new();
        for (topic, identity) in self.live.topics.publishers(self.now()) {
            let rights = || self.both_rights(old, new, &identity, &identity);
            let Some((before, after)) = known.entry(Arc::clone(&identity)).or_insert_with(rights) else { continue };
            let Ok(name) = TopicName::new(topic.clone()) else { continue };
            let request = |retain| Request::Publish { topic: &name, qos: QoS::AtMostOnce, retain };
            let allowed = |access: &Access| [false, true].map(|retain| access.decide(request(retain)).is_allowed());
            let had = allowed(before);
            let explanation = match after {
                Ok(after) if allowed(after).iter().zip(had).all(|(has, had)| *has || !had) => continue,
                Ok(after) => after.explain(request(!had[0])).to_string(),
                Err(why) => why.to_string(),
            };
            list(&mut effects.lost_topics, &mut effects.lost_topics_total, || LostTopic {
                identity: identity.to_string(),
                topic,
                explanation,
            });
        }
    }

    fn effects_on_owners(&self, old: &Policy, new: &Policy, effects: &mut Effects) {
        let paths = |policy: &Policy| OwnedPaths::new(&policy.blueprint().owned);
        let (before, after) = (paths(old), paths(new));
        for topic in self.sessions.owned.topics() {
            if after.find(&topic).is_none() {
                list(&mut effects.disowned, &mut effects.disowned_total, || topic.to_string());
            }
        }
        if after.is_empty() {
            return;
        }
        for (topic, identity) in self.live.topics.publishers(self.now()) {
            let Some(by) = after.find(&topic).filter(|_| before.find(&topic).is_none()) else { continue };
            list(&mut effects.newly_owned, &mut effects.newly_owned_total, || {
                let known = self.identities.directory.identity(&identity);
                let strength = by.strength.of(|| known.as_ref().map(|known| &known.attributes), &[]);
                NewlyOwned { topic, identity: identity.to_string(), strength }
            });
        }
    }
}

/// Of a shared subscription, the filter behind the group.
pub fn inner(filter: &TopicFilter) -> TopicFilter {
    match filter.shared() {
        Some(Ok((_, inner))) => inner,
        _ => filter.clone(),
    }
}

fn effects_on_identity(identity: &Identity, old: &Policy, new: &Policy, effects: &mut Effects) {
    let before: Vec<&str> = old.cohorts_of(identity).collect();
    let after: Vec<&str> = new.cohorts_of(identity).collect();
    let left = before.iter().filter(|cohort| !after.contains(cohort)).map(|cohort| (cohort, false));
    let entered = after.iter().filter(|cohort| !before.contains(cohort)).map(|cohort| (cohort, true));
    for (cohort, enters) in left.chain(entered) {
        list(&mut effects.cohort_moves, &mut effects.cohort_moves_total, || CohortMove {
            identity: identity.name.to_string(),
            cohort: (*cohort).to_owned(),
            enters,
        });
    }
}
