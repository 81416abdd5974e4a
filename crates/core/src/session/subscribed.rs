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
    filters: Filters,
    bytes: usize,
    /// Whose share they count in.
    holding: Option<Arc<Holding>>,
}

/// Most sessions have few, and a map takes as much for one as for three.
#[derive(Clone, Debug)]
enum Filters {
    /// In no order.
    Few(Vec<(TopicFilter, Granted)>),
    Many(HashMap<TopicFilter, Granted, RandomState>),
}

/// Filters that are gone through one by one.
const FEW: usize = 8;

impl Default for Filters {
    fn default() -> Self {
        Self::Few(Vec::new())
    }
}

impl Filters {
    fn insert(&mut self, filter: TopicFilter, granted: Granted) -> Option<Granted> {
        match self {
            Self::Few(few) => {
                if let Some((_, known)) = few.iter_mut().find(|(known, _)| *known == filter) {
                    return Some(std::mem::replace(known, granted));
                }
                if few.len() < FEW {
                    few.reserve_exact(1);
                    few.push((filter, granted));
                } else {
                    let all = few.drain(..).chain([(filter, granted)]).collect();
                    *self = Self::Many(all);
                }
                None
            }
            Self::Many(many) => many.insert(filter, granted),
        }
    }

    fn remove(&mut self, filter: &TopicFilter) -> Option<Granted> {
        match self {
            Self::Few(few) => {
                let at = few.iter().position(|(known, _)| known == filter)?;
                Some(few.swap_remove(at).1)
            }
            Self::Many(many) => many.remove(filter),
        }
    }

    fn retain(&mut self, mut stays: impl FnMut(&TopicFilter, &mut Granted) -> bool) {
        match self {
            Self::Few(few) => few.retain_mut(|(filter, granted)| stays(filter, granted)),
            Self::Many(many) => many.retain(stays),
        }
    }

    fn contains(&self, filter: &TopicFilter) -> bool {
        match self {
            Self::Few(few) => few.iter().any(|(known, _)| known == filter),
            Self::Many(many) => many.contains_key(filter),
        }
    }

    fn len(&self) -> usize {
        match self {
            Self::Few(few) => few.len(),
            Self::Many(many) => many.len(),
        }
    }

    fn iter(&self) -> impl Iterator<Item = (&TopicFilter, &Granted)> {
        let (few, many) = match self {
            Self::Few(few) => (Some(few), None),
            Self::Many(many) => (None, Some(many)),
        };
        few.into_iter().flatten().map(|(filter, granted)| (filter, granted)).chain(many.into_iter().flatten())
    }

    fn iter_mut(&mut self) -> impl Iterator<Item = (&TopicFilter, &mut Granted)> {
        let (few, many) = match self {
            Self::Few(few) => (Some(few), None),
            Self::Many(many) => (None, Some(many)),
        };
        few.into_iter().flatten().map(|(filter, granted)| (&*filter, granted)).chain(many.into_iter().flatten())
    }
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
        self.count(self.filters.iter().map(|(filter, _)| weight(filter)).sum());
    }

    pub(super) fn contains(&self, filter: &TopicFilter) -> bool {
        self.filters.contains(filter)
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
