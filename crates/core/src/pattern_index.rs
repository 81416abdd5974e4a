//! Which patterns can be about a topic at all: a trie over the levels that are fixed texts. All else counts as any
//! value, so what it finds is looked at again.

use std::collections::HashMap;

use foldhash::fast::RandomState;
use smallvec::SmallVec;

/// Places of patterns by their levels.
#[derive(Debug, Default)]
pub(crate) struct PatternIndex {
    root: Node,
}

#[derive(Debug, Default)]
struct Node {
    fixed: HashMap<Box<str>, Node, RandomState>,
    any: Option<Box<Node>>,
    /// Patterns that end here.
    ends: Vec<usize>,
    /// Patterns that are about all that is here or below.
    open: Vec<usize>,
}

impl PatternIndex {
    /// Adds a pattern: its levels, `None` for any value, and whether it is open below.
    pub(crate) fn insert<'a>(&mut self, levels: impl IntoIterator<Item = Option<&'a str>>, open: bool, place: usize) {
        let mut node = &mut self.root;
        for level in levels {
            node = match level {
                Some(text) => node.fixed.entry(text.into()).or_default(),
                None => node.any.get_or_insert_default(),
            };
        }
        if open { &mut node.open } else { &mut node.ends }.push(place);
    }

    /// Patterns that may hold the topic, in order, each once.
    pub(crate) fn candidates(&self, topic: &str) -> SmallVec<[usize; 8]> {
        let mut found = SmallVec::new();
        self.root.collect(Some(topic), &mut found);
        found.sort_unstable();
        found.dedup();
        found
    }
}

impl Node {
    fn collect(&self, rest: Option<&str>, found: &mut SmallVec<[usize; 8]>) {
        found.extend_from_slice(&self.open);
        let Some(rest) = rest else { return found.extend_from_slice(&self.ends) };
        let (level, below) = match rest.split_once('/') {
            Some((level, below)) => (level, Some(below)),
            None => (rest, None),
        };
        if let Some(node) = self.fixed.get(level) {
            node.collect(below, found);
        }
        if let Some(node) = &self.any {
            node.collect(below, found);
        }
    }
}
