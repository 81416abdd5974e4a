//! What one identity holds of what all share, and how much of it it may: no identity takes the room of all.

use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};

use serde::Deserialize;

use crate::Limits;

/// How much one identity may hold, each as the limit of this name; see [`Limits`].
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs, reason = "they are those of the limits")]
pub struct Quota {
    pub sessions: usize,
    pub subscription_bytes: usize,
    pub conditions: usize,
    pub queue_bytes: usize,
    pub retained_bytes: usize,
}

impl From<&Limits> for Quota {
    fn from(limits: &Limits) -> Self {
        Self {
            sessions: limits.sessions_per_identity,
            subscription_bytes: limits.subscription_bytes_per_identity,
            conditions: limits.conditions_per_identity,
            queue_bytes: limits.queue_bytes_per_identity,
            retained_bytes: limits.retained_bytes_per_identity,
        }
    }
}

/// How much each identity of a cohort may hold, where that differs from the limits.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(default, rename_all = "kebab-case", deny_unknown_fields)]
#[allow(missing_docs, reason = "they are those of the limits")]
pub struct CohortQuota {
    pub sessions_per_identity: Option<usize>,
    pub subscription_bytes_per_identity: Option<usize>,
    pub conditions_per_identity: Option<usize>,
    pub queue_bytes_per_identity: Option<usize>,
    pub retained_bytes_per_identity: Option<usize>,
}

impl CohortQuota {
    /// Its values by their names in a blueprint.
    pub fn named(&self) -> impl Iterator<Item = (&'static str, usize)> {
        [
            ("sessions-per-identity", self.sessions_per_identity),
            ("subscription-bytes-per-identity", self.subscription_bytes_per_identity),
            ("conditions-per-identity", self.conditions_per_identity),
            ("queue-bytes-per-identity", self.queue_bytes_per_identity),
            ("retained-bytes-per-identity", self.retained_bytes_per_identity),
        ]
        .into_iter()
        .filter_map(|(name, value)| Some((name, value?)))
    }

    /// What holds for an identity of both cohorts: of two values the larger.
    #[must_use]
    pub fn with(self, other: Self) -> Self {
        Self {
            sessions_per_identity: self.sessions_per_identity.max(other.sessions_per_identity),
            subscription_bytes_per_identity: self
                .subscription_bytes_per_identity
                .max(other.subscription_bytes_per_identity),
            conditions_per_identity: self.conditions_per_identity.max(other.conditions_per_identity),
            queue_bytes_per_identity: self.queue_bytes_per_identity.max(other.queue_bytes_per_identity),
            retained_bytes_per_identity: self.retained_bytes_per_identity.max(other.retained_bytes_per_identity),
        }
    }

    /// With what the limits say for the rest.
    pub fn over(self, usual: Quota) -> Quota {
        Quota {
            sessions: self.sessions_per_identity.unwrap_or(usual.sessions),
            subscription_bytes: self.subscription_bytes_per_identity.unwrap_or(usual.subscription_bytes),
            conditions: self.conditions_per_identity.unwrap_or(usual.conditions),
            queue_bytes: self.queue_bytes_per_identity.unwrap_or(usual.queue_bytes),
            retained_bytes: self.retained_bytes_per_identity.unwrap_or(usual.retained_bytes),
        }
    }
}

/// How much of one thing is held, and may be.
#[derive(Debug)]
pub struct Share {
    held: AtomicUsize,
    most: AtomicUsize,
    refused: AtomicU64,
}

impl Default for Share {
    fn default() -> Self {
        Self { held: AtomicUsize::new(0), most: AtomicUsize::new(usize::MAX), refused: AtomicU64::new(0) }
    }
}

impl Share {
    /// How much is held.
    pub fn held(&self) -> usize {
        self.held.load(Ordering::Relaxed)
    }

    /// How much may be.
    pub fn most(&self) -> usize {
        self.most.load(Ordering::Relaxed)
    }

    /// How often there was not room for more.
    pub fn refused(&self) -> u64 {
        self.refused.load(Ordering::Relaxed)
    }

    /// Takes so much more, if there is room.
    pub fn take(&self, amount: usize) -> bool {
        let most = self.most();
        let more = |held: usize| held.checked_add(amount).filter(|held| *held <= most);
        let taken = self.held.fetch_update(Ordering::Relaxed, Ordering::Relaxed, more).is_ok();
        if !taken {
            self.note_refused();
        }
        taken
    }

    /// Takes so much more, whatever the bound: it was held before.
    pub fn force(&self, amount: usize) {
        self.held.fetch_add(amount, Ordering::Relaxed);
    }

    /// Gives back what was taken.
    pub fn give(&self, amount: usize) {
        self.held.fetch_sub(amount, Ordering::Relaxed);
    }

    /// Changes what one holder has of it.
    pub fn change(&self, before: usize, after: usize) {
        if after >= before { self.force(after - before) } else { self.give(before - after) }
    }

    /// How much a holder that has `own` may have in all.
    pub fn room(&self, own: usize) -> usize {
        self.most().saturating_sub(self.held().saturating_sub(own))
    }

    /// Somebody found no room.
    pub fn note_refused(&self) {
        self.refused.fetch_add(1, Ordering::Relaxed);
    }
}

/// What one identity holds.
#[derive(Debug, Default)]
pub struct Holding {
    /// Sessions, connected or not.
    pub sessions: Share,
    /// Bytes of the filters of all its sessions.
    pub subscriptions: Share,
    /// Subscriptions of all its sessions that have a condition.
    pub conditions: Share,
    /// Bytes that wait for all its sessions.
    pub queues: Share,
    /// Bytes of retained messages that it published.
    pub retained: Share,
}

impl Holding {
    /// An identity that holds nothing and may hold so much.
    pub fn new(quota: Quota) -> Self {
        let holding = Self::default();
        holding.set_quota(quota);
        holding
    }

    /// What it may hold has changed; what it has stays.
    pub fn set_quota(&self, quota: Quota) {
        for (share, most) in [
            (&self.sessions, quota.sessions),
            (&self.subscriptions, quota.subscription_bytes),
            (&self.conditions, quota.conditions),
            (&self.queues, quota.queue_bytes),
            (&self.retained, quota.retained_bytes),
        ] {
            share.most.store(most, Ordering::Relaxed);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_share_is_taken_up_to_its_bound_and_given_back() {
        let holding = Holding::new(Quota { sessions: 2, ..(&Limits::default()).into() });
        let share = &holding.sessions;
        assert!(share.take(1) && share.take(1) && !share.take(1));
        share.force(1);
        assert_eq!((share.held(), share.refused(), share.room(1)), (3, 1, 0));
        share.give(2);
        assert_eq!(share.room(1), 2);
        assert!(!share.take(usize::MAX));
    }

    #[test]
    fn cohorts_change_what_an_identity_may_hold_and_the_larger_counts() {
        let usual = Quota { sessions: 5, ..(&Limits::default()).into() };
        let one = CohortQuota { sessions_per_identity: Some(1), ..CohortQuota::default() };
        let other = CohortQuota { sessions_per_identity: Some(3), queue_bytes_per_identity: Some(9), ..one };
        let both = one.with(other).over(usual);
        assert_eq!((both.sessions, both.queue_bytes, both.retained_bytes), (3, 9, usual.retained_bytes));
        assert_eq!(CohortQuota::default().over(usual), usual);
    }
}
