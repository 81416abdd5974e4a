//! Who owns which topic.

use std::{
    collections::{BTreeSet, HashMap, HashSet},
    sync::Arc,
};

use foldhash::fast::RandomState;
use imbl::OrdSet;
use moorfall_wire::TopicName;

use super::{
    claim::{Change, Claim, Claimant, NotOwner, Publishing},
    paths::OwnedPaths,
    topic::{Passed, Topic},
};
use crate::{Time, blueprint::Owned};

/// Topics that have owners, and those that one client publishes to, at most.
#[derive(Clone, Copy, Debug)]
pub struct Most {
    /// In all.
    pub topics: usize,
    /// Of one client.
    pub of_client: usize,
}

impl Default for Most {
    fn default() -> Self {
        Self { topics: 100_000, of_client: 10_000 }
    }
}

/// What becomes of a message.
#[derive(Clone, Debug, PartialEq)]
pub struct Said {
    /// Why it is withheld, if it is.
    pub withheld: Option<NotOwner>,
    /// The owner has changed by it.
    pub change: Option<Change>,
}

/// A topic with its owner.
#[derive(Clone, Debug)]
pub struct Seen {
    /// Its topic.
    pub topic: TopicName,
    /// The path by which it is owned.
    pub by: Arc<Owned>,
    /// Its owner.
    pub owner: Claimant,
    /// Since when it is the owner.
    pub since: Time,
    /// Whether it has been the owner since before the service was started, and was not heard since then.
    pub returns: bool,
    /// When it is one no more if it says nothing.
    pub silent_at: Option<Time>,
    /// The others that publish to it, in the order in which they came.
    pub others: Vec<Claimant>,
    /// Messages that were withheld since the service was started, or since there is an owner.
    pub withheld: u64,
}

/// What outlives the service of one topic.
#[derive(Clone, Debug, PartialEq)]
pub struct Kept {
    /// The topic.
    pub topic: TopicName,
    /// Its owner and since when it is; nobody any more if absent.
    pub owner: Option<(Claim, Time)>,
}

/// Who owns which topic.
#[derive(Debug, Default)]
pub struct Owners {
    most: Most,
    topics: HashMap<TopicName, Topic, RandomState>,
    /// The same topics in order: whoever walks through them need not keep others waiting.
    names: OrdSet<TopicName>,
    /// To which of them a client publishes.
    by_client: HashMap<Arc<str>, HashSet<TopicName, RandomState>, RandomState>,
    /// When each is looked at again, if ever.
    checks: BTreeSet<(Time, TopicName)>,
    /// Whose owner is another than the one that is kept.
    unkept: HashSet<TopicName, RandomState>,
    /// Of which an owner may be kept: of others nothing is to be taken back when nobody owns them any more.
    kept: HashSet<TopicName, RandomState>,
}

impl Owners {
    /// Nobody owns anything yet.
    pub fn new(most: Most) -> Self {
        Self { most, ..Self::default() }
    }

    /// Somebody publishes to a topic that is owned in this way.
    pub fn publish(&mut self, topic: &TopicName, by: &Arc<Owned>, publishing: Publishing<'_>, now: Time) -> Said {
        let known = self.topics.get_mut(topic).filter(|known| Arc::ptr_eq(&known.by, by));
        if let Some(known) = known
            && let Some(is_owner) = known.hear(publishing, now)
        {
            let owner = known.owner().filter(|_| !is_owner).map(|owner| owner.claim.clone());
            known.withheld += u64::from(!is_owner);
            return Said { withheld: owner.map(NotOwner::OwnedBy), change: None };
        }
        let theirs = self.by_client.get(publishing.client_id);
        let is_known = theirs.is_some_and(|topics| topics.contains(topic));
        let is_full = self.topics.len() >= self.most.topics && !self.topics.contains_key(topic)
            || theirs.is_some_and(|topics| topics.len() >= self.most.of_client);
        if is_full && !is_known {
            if let Some(known) = self.topics.get_mut(topic) {
                known.withheld += 1;
            }
            return Said { withheld: Some(NotOwner::Full), change: None };
        }
        let claim = publishing.claim();
        let change = self.change(topic, |known| match known {
            Some(known) => {
                if !Arc::ptr_eq(&known.by, by) {
                    known.by = Arc::clone(by);
                }
                known.judge(claim, now)
            }
            None => {
                *known = Some(Topic::new(by, Claimant { claim, since: now, heard: now }, now, false));
                None
            }
        });
        let known = self.topics.get_mut(topic);
        let withheld = known.and_then(|known| {
            let owner = &known.owner()?.claim;
            let is_owner = *owner.client_id == *publishing.client_id;
            let owner = (!is_owner).then(|| owner.clone());
            known.withheld += u64::from(!is_owner);
            owner
        });
        Said { withheld: withheld.map(NotOwner::OwnedBy), change }
    }

    /// Who keeps the Will Message of a client from everyone, if somebody does: a will makes nobody the owner.
    pub fn judge_will(&mut self, topic: &TopicName, client_id: &str) -> Option<NotOwner> {
        let known = self.topics.get_mut(topic)?;
        let owner = known.owner().filter(|owner| *owner.claim.client_id != *client_id)?.claim.clone();
        known.withheld += 1;
        Some(NotOwner::OwnedBy(owner))
    }

    /// Who owns a topic and would keep a message from everyone, if somebody does; nothing is changed.
    pub fn would_keep_back(&self, topic: &TopicName, publishing: Publishing<'_>) -> Option<Claim> {
        let known = self.topics.get(topic)?;
        let claim = publishing.claim();
        let rivals = known.claimants.iter().filter(|one| one.claim.client_id != claim.client_id);
        let is_owner = known.owner().is_some_and(|owner| owner.claim.client_id == claim.client_id);
        let wins = |rival: &Claimant| {
            let order = rival.claim.compare(&claim);
            if is_owner { order.is_gt() } else { order.is_ge() }
        };
        let strongest = rivals.reduce(|best, one| if one.claim.compare(&best.claim).is_gt() { one } else { best });
        strongest.filter(|rival| wins(rival)).map(|rival| rival.claim.clone())
    }

    /// The topics that a client publishes to, so many at most.
    fn topics_of(&self, client_id: &str, most: usize) -> Vec<TopicName> {
        self.by_client.get(client_id).into_iter().flatten().take(most).cloned().collect()
    }

    /// The session of a client has ended: looks at so many of its topics, at most, and gives whether there are more.
    pub fn end(&mut self, client_id: &str, now: Time, most: usize) -> (Vec<Change>, bool) {
        let topics = self.topics_of(client_id, most);
        let end =
            |topic: &TopicName| self.change(topic, |known| known.as_mut().and_then(|known| known.end(client_id, now)));
        let changes = topics.iter().filter_map(end).collect();
        (changes, self.by_client.contains_key(client_id))
    }

    /// When somebody is looked at next, if ever.
    pub fn due(&self) -> Option<Time> {
        self.checks.first().map(|(due, _)| *due)
    }

    /// Looks at so many topics, at most, of which the owner may have been silent for too long.
    pub fn look(&mut self, now: Time, most: usize) -> Vec<Change> {
        let mut changes = Vec::new();
        for _ in 0..most {
            let Some((_, topic)) = self.checks.first().filter(|(due, _)| *due <= now).cloned() else { break };
            changes.extend(self.change(&topic, |known| known.as_mut().and_then(|known| known.look(now))));
        }
        changes
    }

    /// Changes what is known of a topic, and then all else that depends on it.
    fn change(
        &mut self,
        topic: &TopicName,
        change: impl FnOnce(&mut Option<Topic>) -> Option<Passed>,
    ) -> Option<Change> {
        let (name, mut known) = match self.topics.remove_entry(topic) {
            Some((name, known)) => (name, Some(known)),
            // What stays must not keep the memory of what was received.
            None => (topic.detached(), None),
        };
        let clients = |known: &Option<Topic>| -> Vec<Arc<str>> {
            known.iter().flat_map(|known| &known.claimants).map(|one| Arc::clone(&one.claim.client_id)).collect()
        };
        let owner = |known: &Option<Topic>| known.as_ref()?.owner().map(|owner| owner.claim.clone());
        let before = (clients(&known), owner(&known));
        let passed = change(&mut known);
        let after = (clients(&known), owner(&known));
        for gone in before.0.iter().filter(|client| !after.0.contains(client)) {
            if let Some(topics) = self.by_client.get_mut(gone) {
                topics.remove(&name);
                if topics.is_empty() {
                    self.by_client.remove(gone);
                }
            }
        }
        for new in after.0.iter().filter(|client| !before.0.contains(client)) {
            self.by_client.entry(Arc::clone(new)).or_default().insert(name.clone());
        }
        if before.1 != after.1 {
            if after.1.is_some() || self.kept.contains(&name) {
                self.unkept.insert(name.clone());
            } else {
                self.unkept.remove(&name);
            }
        }
        match (before.1.is_some(), after.1.is_some()) {
            (false, true) => drop(self.names.insert(name.clone())),
            (true, false) => drop(self.names.remove(&name)),
            _ => {}
        }
        let old = known.as_mut().and_then(|known| known.check.take());
        if let Some(old) = old {
            self.checks.remove(&(old, name.clone()));
        }
        if let Some(mut known) = known.filter(|known| !known.claimants.is_empty()) {
            known.check = known.silent_at();
            self.checks.extend(known.check.map(|check| (check, name.clone())));
            self.topics.insert(name.clone(), known);
        }
        passed.map(|Passed { before, now, why }| Change { topic: name, before, now, why })
    }

    /// The topics that have owners, as they are now.
    pub fn topics(&self) -> OrdSet<TopicName> {
        self.names.clone()
    }

    /// Forgets who owns these topics, if they are owned no more.
    pub fn forget_unowned<'a>(&mut self, topics: impl IntoIterator<Item = &'a TopicName>, paths: &OwnedPaths) {
        for topic in topics {
            let by = paths.find(topic).cloned();
            self.change(topic, |known| {
                match (known, by) {
                    (Some(known), Some(by)) => known.by = by,
                    (Some(known), None) => known.claimants.clear(),
                    (None, _) => {}
                }
                None
            });
        }
    }

    /// Puts an owner back that was one before the service was started, and may still be.
    pub fn restore(&mut self, Kept { topic, owner }: Kept, paths: &OwnedPaths, now: Time) {
        let (Some(by), Some((claim, since))) = (paths.find(&topic), owner) else {
            self.kept.insert(topic.clone());
            self.unkept.insert(topic);
            return;
        };
        self.change(&topic, |known| {
            *known = Some(Topic::new(by, Claimant { claim, since, heard: now }, since, true));
            None
        });
        self.unkept.remove(&topic);
        self.kept.insert(topic);
    }

    /// What is to be kept, so many topics at most.
    pub fn take_new(&mut self, most: usize) -> Vec<Kept> {
        let topics: Vec<TopicName> = self.unkept.iter().take(most).cloned().collect();
        let kept = |topic: TopicName| {
            self.unkept.remove(&topic);
            let known = self.topics.get(&topic);
            let owner = known.and_then(|known| Some((known.owner()?.claim.clone(), known.since)));
            if owner.is_some() {
                self.kept.insert(topic.clone());
            } else {
                self.kept.remove(&topic);
            }
            Kept { topic, owner }
        };
        topics.into_iter().map(kept).collect()
    }

    /// What could not be kept is to be kept later.
    pub fn put_back(&mut self, kept: Vec<Kept>) {
        for Kept { topic, .. } in kept {
            self.kept.insert(topic.clone());
            self.unkept.insert(topic);
        }
    }

    /// A topic with its owner.
    pub fn see(&self, topic: &TopicName) -> Option<Seen> {
        let known = self.topics.get(topic)?;
        Some(Seen {
            topic: topic.clone(),
            by: Arc::clone(&known.by),
            owner: known.owner()?.clone(),
            since: known.since,
            returns: known.returns,
            silent_at: known.silent_at(),
            others: known.claimants[1..].to_vec(),
            withheld: known.withheld,
        })
    }

    /// How many topics have owners.
    pub fn count(&self) -> usize {
        self.topics.len()
    }
}
