//! The subscriptions of one session. What they take of their identity's share is given back with them.

use std::{collections::HashMap, sync::Arc};

use foldhash::fast::RandomState;
use moorfall_wire::TopicFilter;

use crate::{Granted, Holding};

/// What a subscription takes beside its filter, bytes, about.
const EACH: usize = 200;

/// Subscriptions by filter.
#[derive(Debug, Default)]
pub(super) struct Subscribed {
    filters: HashMap<TopicFilter, Granted, RandomState>,
    bytes: usize,
    /// Whose share they count in.
    holding: Option<Arc<Holding>>,
}

impl Clone for Subscribed {
    /// A copy counts in nobody's share.
    fn clone(&self) -> Self {
        Self { filters: self.filters.clone(), bytes: self.bytes, holding: None }
    }
}

impl Drop for Subscribed {
    fn drop(&mut self) {
        self.count(0);
    }
}

fn weight(filter: &TopicFilter) -> usize {
    filter.len() + EACH
}

impl Subscribed {
    fn count(&mut self, bytes: usize) {
        if let Some(holding) = &self.holding {
            holding.subscriptions.change(self.bytes, bytes);
        }
        self.bytes = bytes;
    }

    /// From now on they count in this share; what there is stays, even if it is more than may be.
    pub(super) fn hold_for(&mut self, holding: Arc<Holding>) {
        let bytes = self.bytes;
        self.count(0);
        self.holding = Some(holding);
        self.count(bytes);
    }

    /// Whether there is room for one more in the share.
    pub(super) fn has_room(&self, filter: &TopicFilter) -> bool {
        let Some(holding) = &self.holding else { return true };
        let has_room = holding.subscriptions.room(0) >= weight(filter);
        if !has_room {
            holding.subscriptions.note_refused();
        }
        has_room
    }

    /// Puts one in; gives the one of the same filter before.
    pub(super) fn insert(&mut self, filter: TopicFilter, granted: Granted) -> Option<Granted> {
        let weight = weight(&filter);
        let before = self.filters.insert(filter, granted);
        if before.is_none() {
            self.count(self.bytes + weight);
        }
        before
    }

    pub(super) fn remove(&mut self, filter: &TopicFilter) -> Option<Granted> {
        let removed = self.filters.remove(filter)?;
        self.count(self.bytes - weight(filter));
        Some(removed)
    }

    /// Leaves those of which `stays` says so.
    pub(super) fn retain(&mut self, stays: impl FnMut(&TopicFilter, &mut Granted) -> bool) {
        self.filters.retain(stays);
        self.count(self.filters.keys().map(weight).sum());
    }

    pub(super) fn contains(&self, filter: &TopicFilter) -> bool {
        self.filters.contains_key(filter)
    }

    pub(super) fn len(&self) -> usize {
        self.filters.len()
    }

    pub(super) fn iter(&self) -> impl Iterator<Item = (&TopicFilter, &Granted)> {
        self.filters.iter()
    }

    pub(super) fn iter_mut(&mut self) -> impl Iterator<Item = (&TopicFilter, &mut Granted)> {
        self.filters.iter_mut()
    }
}

#[cfg(test)]
mod tests {
    use moorfall_wire::SubscriptionOptions;

    use super::*;
    use crate::{Limits, Quota};

    #[test]
    fn what_is_taken_of_a_share_is_given_back() {
        let quota = Quota { subscription_bytes: 2 * (EACH + 1), ..(&Limits::default()).into() };
        let holding = Arc::new(Holding::new(quota));
        let granted = Granted { options: SubscriptionOptions::default(), identifier: None };
        let filter = |text: &str| text.parse::<TopicFilter>().unwrap();
        let mut one = Subscribed::default();
        one.insert(filter("a"), granted);
        one.hold_for(Arc::clone(&holding));
        one.insert(filter("a"), granted);
        assert_eq!(holding.subscriptions.held(), EACH + 1);
        let mut other = Subscribed::default();
        other.hold_for(Arc::clone(&holding));
        assert!(other.has_room(&filter("b")) && !other.has_room(&filter("b/c")));
        other.insert(filter("b"), granted);
        assert!(!one.has_room(&filter("c")));
        let copy = other.clone();
        drop(other);
        drop(copy);
        assert_eq!(holding.subscriptions.held(), EACH + 1);
        one.remove(&filter("a"));
        one.insert(filter("d"), granted);
        one.retain(|_, _| false);
        assert_eq!((holding.subscriptions.held(), one.len()), (0, 0));
    }
}
