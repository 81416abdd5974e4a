//! What a stand-in for mail servers and web hooks has received, for the demo and tests: only the newest, in memory.

use std::collections::VecDeque;

use moorfall_contract::{
    inbox::{Faults, InboxView, Received},
    kinds::NoticeWay,
};
use parking_lot::Mutex;
use time::OffsetDateTime;

/// Messages that are kept.
const KEPT: usize = 200;

/// Bytes of a text that are kept.
const TEXT: usize = 16 * 1024;

/// What was received, and how the stand-in behaves.
#[derive(Debug, Default)]
pub struct Inbox(Mutex<State>);

#[derive(Debug, Default)]
struct State {
    count: u64,
    received: VecDeque<Received>,
    faults: Faults,
}

impl Inbox {
    /// Something has come.
    pub fn receive(
        &self,
        way: NoticeWay,
        (from, to): (&str, &str),
        (title, text): (&str, &str),
        is_signed: Option<bool>,
    ) {
        let cut = |text: &str| text[..text.floor_char_boundary(TEXT)].to_owned();
        let mut state = self.0.lock();
        state.count += 1;
        let received = Received {
            number: state.count,
            at: OffsetDateTime::now_utc(),
            way,
            from: cut(from),
            to: cut(to),
            title: cut(title),
            text: cut(text),
            is_signed,
        };
        state.received.push_back(received);
        if state.received.len() > KEPT {
            state.received.pop_front();
        }
    }

    /// How the stand-in behaves.
    pub fn faults(&self) -> Faults {
        self.0.lock().faults
    }

    /// How it is to behave from now on.
    pub fn set_faults(&self, faults: Faults) {
        self.0.lock().faults = faults;
    }

    /// Everything, the newest first.
    pub fn view(&self) -> InboxView {
        let state = self.0.lock();
        InboxView { received: state.received.iter().rev().cloned().collect(), faults: state.faults }
    }
}
