//! One owned topic: its owner, and who else publishes to it.

use std::{sync::Arc, time::Duration};

use super::claim::{Claim, Claimant, Publishing, Why};
use crate::{Time, blueprint::Owned};

/// Those that publish to one topic and are remembered, its owner among them.
const CLAIMANTS: usize = 8;

/// How long an owner may take to come back after the service was started, if it may be silent for ever.
const RETURN: Duration = Duration::from_secs(60);

/// Another one is the owner.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Passed {
    pub(super) before: Claim,
    pub(super) now: Option<Claim>,
    pub(super) why: Why,
}

/// One owned topic.
#[derive(Debug)]
pub(super) struct Topic {
    /// How it is owned.
    pub(super) by: Arc<Owned>,
    /// The first is the owner, the others stand in the order in which they came. It is empty when nobody publishes to the
    /// topic any more.
    pub(super) claimants: Vec<Claimant>,
    /// Since when the owner is.
    pub(super) since: Time,
    /// Whether it was the owner before the service was started, and was not heard since then.
    pub(super) returns: bool,
    /// Messages that were withheld.
    pub(super) withheld: u64,
    /// When it is looked at again.
    pub(super) check: Option<Time>,
}

impl Topic {
    pub(super) fn new(by: &Arc<Owned>, owner: Claimant, since: Time, returns: bool) -> Self {
        Self { by: Arc::clone(by), claimants: vec![owner], since, returns, withheld: 0, check: None }
    }

    /// The owner.
    pub(super) fn owner(&self) -> Option<&Claimant> {
        self.claimants.first()
    }

    /// When the owner is one no more if it says nothing.
    pub(super) fn silent_at(&self) -> Option<Time> {
        let patience = self.by.silent_after.or_else(|| self.returns.then_some(RETURN))?;
        self.owner().map(|owner| owner.heard + patience)
    }

    /// Somebody publishes who is known, and nothing changes by it, as is so most often; gives whether it is the owner.
    pub(super) fn hear(&mut self, publishing: Publishing<'_>, now: Time) -> Option<bool> {
        let place = self.claimants.iter().position(|one| publishing.is(&one.claim))?;
        let is_late = self.is_silent(&self.claimants[place], now) || self.silent_at().is_some_and(|at| at <= now);
        if place > 0 && is_late {
            return None;
        }
        self.claimants[place].heard = now;
        if place == 0 && std::mem::take(&mut self.returns) && self.by.silent_after.is_none() {
            // It need not be looked at any more.
            return None;
        }
        Some(place == 0)
    }

    /// Somebody publishes, and perhaps another one is the owner by it.
    pub(super) fn judge(&mut self, claim: Claim, now: Time) -> Option<Passed> {
        let client_id = Arc::clone(&claim.client_id);
        if let Some(place) = self.claimants.iter().position(|one| one.claim.client_id == client_id)
            && place > 0
            && self.is_silent(&self.claimants[place], now)
        {
            // It comes anew.
            self.claimants.remove(place);
        }
        match self.claimants.iter_mut().find(|one| one.claim.client_id == client_id) {
            Some(one) => (one.claim, one.heard) = (claim, now),
            None => self.add(Claimant { claim, since: now, heard: now }),
        }
        let is_owner = |topic: &Self| topic.owner().is_some_and(|owner| owner.claim.client_id == client_id);
        self.returns &= !is_owner(self);
        if let Some(before) = self.forget_silent(now) {
            return Some(self.pass_on(before, Why::Silent, now));
        }
        let best = self.best()?;
        if best == 0 {
            return None;
        }
        let why = if is_owner(self) { Why::Weaker } else { Why::Stronger };
        let before = self.claimants[0].claim.clone();
        Some(self.pass_on(before, why, now))
    }

    /// When there are too many, the newest that is no stronger than the others makes room.
    fn add(&mut self, newcomer: Claimant) {
        self.claimants.push(newcomer);
        if self.claimants.len() > CLAIMANTS {
            let others = self.claimants.iter().enumerate().skip(1);
            let weakest = others.map(|(place, _)| place).reduce(|weakest, place| {
                let is_weaker = self.claimants[place].claim.compare(&self.claimants[weakest].claim).is_le();
                if is_weaker { place } else { weakest }
            });
            if let Some(weakest) = weakest {
                self.claimants.remove(weakest);
            }
        }
    }

    /// The session of a client has ended.
    pub(super) fn end(&mut self, client_id: &str, now: Time) -> Option<Passed> {
        let place = self.claimants.iter().position(|one| *one.claim.client_id == *client_id)?;
        let gone = self.claimants.remove(place);
        if place > 0 {
            return None;
        }
        self.forget_silent_others(now);
        Some(self.pass_on(gone.claim, Why::SessionEnded, now))
    }

    /// Looks whether the owner was silent for too long.
    pub(super) fn look(&mut self, now: Time) -> Option<Passed> {
        let before = self.forget_silent(now)?;
        Some(self.pass_on(before, Why::Silent, now))
    }

    /// Forgets those that were silent for too long; gives the owner, if it is one of them.
    fn forget_silent(&mut self, now: Time) -> Option<Claim> {
        let gone = self.silent_at().is_some_and(|at| at <= now).then(|| self.claimants.remove(0).claim);
        let owner = gone.is_none().then(|| self.claimants.remove(0));
        self.forget_silent_others(now);
        self.claimants.splice(0..0, owner);
        gone
    }

    /// None of them is the owner.
    fn forget_silent_others(&mut self, now: Time) {
        let mut all = std::mem::take(&mut self.claimants);
        all.retain(|one| !self.is_silent(one, now));
        self.claimants = all;
    }

    fn is_silent(&self, one: &Claimant, now: Time) -> bool {
        self.by.silent_after.is_some_and(|patience| one.heard + patience <= now)
    }

    /// The strongest; of equal ones the first.
    fn best(&self) -> Option<usize> {
        let stronger = |best: usize, place: usize| {
            let is_stronger = self.claimants[place].claim.compare(&self.claimants[best].claim).is_gt();
            if is_stronger { place } else { best }
        };
        (0..self.claimants.len()).reduce(stronger)
    }

    /// The strongest is the owner.
    fn pass_on(&mut self, before: Claim, why: Why, now: Time) -> Passed {
        if let Some(best) = self.best() {
            let owner = self.claimants.remove(best);
            // Whoever was the owner has its place among the others again.
            self.claimants.sort_by_key(|one| one.since);
            self.claimants.insert(0, owner);
            (self.since, self.returns) = (now, false);
        }
        Passed { before, now: self.owner().map(|owner| owner.claim.clone()), why }
    }
}
