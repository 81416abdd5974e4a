//! Retained messages that were cleared and can be brought back.

use std::{collections::VecDeque, sync::Arc};

use moorfall_core::Message;

use crate::random::random_text;

/// What was cleared and can be brought back: so many acts, and so many bytes together.
const UNDO: (usize, usize) = (32, 64 * 1024 * 1024);

/// What was cleared lately, newest last.
#[derive(Debug, Default)]
pub struct Cleared(VecDeque<(String, Vec<Arc<Message>>)>);

impl Cleared {
    /// Keeps what was cleared; gives the name by which it can be brought back.
    pub fn put(&mut self, messages: Vec<Arc<Message>>) -> String {
        let name = random_text(16);
        self.0.push_back((name.clone(), messages));
        let weight =
            |(_, messages): &(String, Vec<Arc<Message>>)| -> usize { messages.iter().map(|m| m.weight()).sum() };
        // What is too large by itself goes too: it can't be brought back.
        while self.0.len() > UNDO.0 || self.0.iter().map(weight).sum::<usize>() > UNDO.1 {
            self.0.pop_front();
        }
        name
    }

    /// Takes what goes by this name, if it is still held.
    pub fn take(&mut self, name: &str) -> Option<Vec<Arc<Message>>> {
        let place = self.0.iter().position(|(known, _)| known == name)?;
        self.0.remove(place).map(|(_, messages)| messages)
    }
}
