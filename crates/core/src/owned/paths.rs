//! Which topics of a design are owned.

use std::sync::Arc;

use crate::{
    blueprint::{Owned, PathLevel},
    pattern_index::PatternIndex,
};

/// The owned paths of a design made ready.
#[derive(Debug, Default)]
pub struct OwnedPaths {
    paths: Vec<Arc<Owned>>,
    index: PatternIndex,
}

impl OwnedPaths {
    /// Of these, of which no two have a topic in common.
    pub fn new(owned: &[Owned]) -> Self {
        let mut index = PatternIndex::default();
        for (place, one) in owned.iter().enumerate() {
            index.insert(one.levels.iter().map(PathLevel::fixed), false, place);
        }
        Self { paths: owned.iter().cloned().map(Arc::new).collect(), index }
    }

    /// How a topic is owned, if it is.
    pub fn find(&self, topic: &str) -> Option<&Arc<Owned>> {
        if self.paths.is_empty() {
            return None;
        }
        let candidates = self.index.candidates(topic);
        candidates.into_iter().map(|place| &self.paths[place]).find(|path| path.set.holds(topic))
    }

    /// Whether no topic is owned.
    pub fn is_empty(&self) -> bool {
        self.paths.is_empty()
    }
}
