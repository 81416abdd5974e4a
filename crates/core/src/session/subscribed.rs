//! The subscriptions of one session. What they take of their identity's share is given back with them.

use std::{collections::HashMap, sync::Arc};

use foldhash::fast::RandomState;
use moorfall_wire::TopicFilter;

use crate::{Condition, Granted, Holding};

/// What a subscription takes beside its filter, bytes, about.
const EACH: usize = 200;

/// Subscriptions by filter.
#[derive(Debug, Default)]
pub(super) struct Subscribed {
    filters: Filters,
    bytes: usize,
    /// How many have a condition.
    conditions: usize,
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

    fn get(&self, filter: &TopicFilter) -> Option<&Granted> {
        match self {
            Self::Few(few) => few.iter().find(|(known, _)| known == filter).map(|(_, granted)| granted),
            Self::Many(many) => many.get(filter),
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
        Self { filters: self.filters.clone(), bytes: self.bytes, conditions: self.conditions, holding: None }
    }
}

impl Drop for Subscribed {
    fn drop(&mut self) {
        self.count(0, 0);
    }
}

/// What is made of a condition takes about so many times as much as its text.
const CONDITION: usize = 4;

fn weight(filter: &TopicFilter, condition: Option<&Arc<Condition>>) -> usize {
    filter.len() + EACH + condition.map_or(0, |condition| condition.text().len() * CONDITION)
}

impl Subscribed {
    fn count(&mut self, bytes: usize, conditions: usize) {
        if let Some(holding) = &self.holding {
            holding.subscriptions.change(self.bytes, bytes);
            holding.conditions.change(self.conditions, conditions);
        }
        (self.bytes, self.conditions) = (bytes, conditions);
    }

    /// From now on they count in this share; what there is stays, even if it is more than may be.
    pub(super) fn hold_for(&mut self, holding: Arc<Holding>) {
        let (bytes, conditions) = (self.bytes, self.conditions);
        self.count(0, 0);
        self.holding = Some(holding);
        self.count(bytes, conditions);
    }

    /// Whether there is room in the share for one more, or for it in place of the one of the same filter.
    pub(super) fn has_room(&self, filter: &TopicFilter, condition: Option<&Arc<Condition>>) -> bool {
        let Some(holding) = &self.holding else { return true };
        let known = self.filters.get(filter).map_or(0, |known| weight(filter, known.condition.as_ref()));
        let more = weight(filter, condition).saturating_sub(known);
        let has_room = more == 0 || holding.subscriptions.room(0) >= more;
        if !has_room {
            holding.subscriptions.note_refused();
        }
        has_room
    }

    /// Whether there is room in the share for one more with a condition, or for it in place of the one of the same filter.
    pub(super) fn has_room_for_condition(&self, filter: &TopicFilter) -> bool {
        let Some(holding) = &self.holding else { return true };
        let has_one = self.filters.get(filter).is_some_and(|known| known.condition.is_some());
        let has_room = has_one || holding.conditions.room(0) > 0;
        if !has_room {
            holding.conditions.note_refused();
        }
        has_room
    }

    /// Puts one in; gives the one of the same filter before.
    pub(super) fn insert(&mut self, filter: TopicFilter, granted: Granted) -> Option<Granted> {
        let takes = weight(&filter, granted.condition.as_ref());
        let known = self.filters.get(&filter).map_or(0, |known| weight(&filter, known.condition.as_ref()));
        let has = usize::from(granted.condition.is_some());
        let before = self.filters.insert(filter, granted);
        let had = usize::from(before.as_ref().is_some_and(|before| before.condition.is_some()));
        self.count(self.bytes + takes - known, self.conditions + has - had);
        before
    }

    pub(super) fn remove(&mut self, filter: &TopicFilter) -> Option<Granted> {
        let removed = self.filters.remove(filter)?;
        let had = usize::from(removed.condition.is_some());
        self.count(self.bytes - weight(filter, removed.condition.as_ref()), self.conditions - had);
        Some(removed)
    }

    /// Leaves those of which `stays` says so.
    pub(super) fn retain(&mut self, stays: impl FnMut(&TopicFilter, &mut Granted) -> bool) {
        self.filters.retain(stays);
        let (mut bytes, mut conditions) = (0, 0);
        for (filter, granted) in self.filters.iter() {
            bytes += weight(filter, granted.condition.as_ref());
            conditions += usize::from(granted.condition.is_some());
        }
        self.count(bytes, conditions);
    }

    pub(super) fn contains(&self, filter: &TopicFilter) -> bool {
        self.filters.get(filter).is_some()
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
        let granted = Granted { options: SubscriptionOptions::default(), identifier: None, condition: None };
        let filter = |text: &str| text.parse::<TopicFilter>().unwrap();
        let mut one = Subscribed::default();
        one.insert(filter("a"), granted.clone());
        one.hold_for(Arc::clone(&holding));
        one.insert(filter("a"), granted.clone());
        assert_eq!(holding.subscriptions.held(), EACH + 1);
        let mut other = Subscribed::default();
        other.hold_for(Arc::clone(&holding));
        assert!(other.has_room(&filter("b"), None) && !other.has_room(&filter("b/c"), None));
        other.insert(filter("b"), granted.clone());
        assert!(!one.has_room(&filter("c"), None));
        let condition = Some(Condition::shared("payload > 1").unwrap());
        assert!(
            one.has_room(&filter("a"), None) && !one.has_room(&filter("a"), condition.as_ref()),
            "it takes room, too"
        );
        let copy = other.clone();
        drop(other);
        drop(copy);
        assert_eq!(holding.subscriptions.held(), EACH + 1);
        one.remove(&filter("a"));
        one.insert(filter("d"), granted);
        one.retain(|_, _| false);
        assert_eq!((holding.subscriptions.held(), one.len()), (0, 0));
    }

    #[test]
    fn conditions_have_a_share_of_their_own() {
        let holding = Arc::new(Holding::new(Quota { conditions: 2, ..(&Limits::default()).into() }));
        let condition = Some(Condition::shared("payload > 1").unwrap());
        let with = |condition: &Option<_>| Granted {
            options: SubscriptionOptions::default(),
            identifier: None,
            condition: condition.clone(),
        };
        let filter = |text: &str| text.parse::<TopicFilter>().unwrap();
        let (mut one, mut other) = (Subscribed::default(), Subscribed::default());
        one.insert(filter("a"), with(&condition));
        one.hold_for(Arc::clone(&holding));
        other.hold_for(Arc::clone(&holding));
        assert!(other.has_room_for_condition(&filter("b")));
        other.insert(filter("b"), with(&condition));
        assert!(!one.has_room_for_condition(&filter("c")) && one.has_room_for_condition(&filter("a")), "it has one");
        one.insert(filter("a"), with(&None));
        assert_eq!(holding.conditions.held(), 1);
        one.insert(filter("c"), with(&condition));
        one.remove(&filter("c"));
        other.retain(|_, _| true);
        assert_eq!(holding.conditions.held(), 1);
        drop(other);
        assert_eq!((holding.conditions.held(), holding.conditions.refused()), (0, 1));
    }
}
