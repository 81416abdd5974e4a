//! What is seen of a bridge: how its link is, and what passed.

use std::{
    collections::BTreeMap,
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
    time::Duration,
};

use moorfall_core::{
    Time,
    blueprint::Bridge,
    bridge::{Direction, NotCarried, RemoteTerms},
};
use parking_lot::Mutex;
use strum::VariantNames;

/// How a link is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Phase {
    /// It is up.
    Up,
    /// It is being made.
    #[default]
    Connecting,
    /// It is down until the next attempt.
    Down,
    /// It was told to rest.
    Paused,
    /// It sends what waits, and then rests.
    Draining,
}

/// What changes now and then.
#[derive(Clone, Debug, Default)]
pub struct Standing {
    /// How the link is.
    pub phase: Phase,
    /// Since when.
    pub since: Time,
    /// Where it is, or tries to be.
    pub remote: Option<String>,
    /// What the remote said; absent while the link is down.
    pub terms: Option<RemoteTerms>,
    /// How long it took to answer a ping.
    pub round_trip: Option<Duration>,
    /// Attempts that failed since the link was up last.
    pub failed: u64,
    /// When the next one is made.
    pub next_attempt: Option<Time>,
    /// What went wrong last.
    pub trouble: Option<(Time, String)>,
    /// What keeps mappings from carrying, by direction and place.
    pub troubles: BTreeMap<(Direction, usize), Vec<String>>,
}

/// What passed by one mapping.
#[derive(Debug, Default)]
pub struct Flow {
    /// Messages.
    pub messages: AtomicU64,
    /// Bytes of their payloads.
    pub bytes: AtomicU64,
    /// Messages that the other side has acknowledged.
    pub acknowledged: AtomicU64,
    /// When one passed last, microseconds since 1970; 0 if none has.
    pub last_at: AtomicU64,
    not_carried: [AtomicU64; NotCarried::VARIANTS.len()],
    /// Messages at the last look, and their rate then.
    looked: Mutex<(Time, u64, f64)>,
}

impl Flow {
    pub(super) fn carried(&self, messages: u64, bytes: u64, now: Time) {
        self.messages.fetch_add(messages, Ordering::Relaxed);
        self.bytes.fetch_add(bytes, Ordering::Relaxed);
        self.last_at.store(now.as_micros(), Ordering::Relaxed);
    }

    pub(super) fn not_carried(&self, why: NotCarried) {
        self.not_carried[why as usize].fetch_add(1, Ordering::Relaxed);
    }

    /// What was not carried on, by reason.
    pub fn reasons(&self) -> BTreeMap<&'static str, u64> {
        let counts = self.not_carried.iter().map(|count| count.load(Ordering::Relaxed));
        NotCarried::VARIANTS.iter().copied().zip(counts).filter(|(_, count)| *count > 0).collect()
    }

    /// Messages a second at the last look.
    pub fn rate(&self) -> f64 {
        self.looked.lock().2
    }

    /// Takes the rate over the time since the last look, if that was long enough ago.
    pub(super) fn look(&self, now: Time, over: Duration) {
        let mut looked = self.looked.lock();
        let (at, before, _) = *looked;
        let passed = now - at;
        if passed >= over {
            let count = self.messages.load(Ordering::Relaxed);
            let rate = if at == Time::default() { 0.0 } else { (count - before) as f64 / passed.as_secs_f64() };
            *looked = (now, count, rate);
        }
    }
}

/// What is seen of one bridge.
#[derive(Debug)]
pub struct Seen {
    /// Its design.
    pub bridge: Arc<Bridge>,
    standing: Mutex<Standing>,
    push: Vec<Flow>,
    pull: Vec<Flow>,
    /// Of messages that no mapping took.
    pub unmapped: [Flow; 2],
}

impl Seen {
    pub(super) fn new(bridge: Arc<Bridge>, now: Time) -> Self {
        let flows = |count: usize| (0..count).map(|_| Flow::default()).collect();
        Self {
            push: flows(bridge.push.len()),
            pull: flows(bridge.pull.len()),
            standing: Mutex::new(Standing { since: now, ..Standing::default() }),
            unmapped: Default::default(),
            bridge,
        }
    }

    /// How it stands.
    pub fn standing(&self) -> Standing {
        self.standing.lock().clone()
    }

    pub(super) fn change(&self, change: impl FnOnce(&mut Standing)) {
        change(&mut self.standing.lock());
    }

    /// How its link is from now on; gives whether it was otherwise before.
    pub(super) fn enter(&self, phase: Phase, now: Time) -> bool {
        let mut standing = self.standing.lock();
        let is_new = standing.phase != phase;
        if is_new {
            (standing.phase, standing.since) = (phase, now);
        }
        if phase != Phase::Up && phase != Phase::Draining {
            standing.terms = None;
        }
        is_new
    }

    /// What passed by the mappings of one direction.
    pub fn flows(&self, direction: Direction) -> &[Flow] {
        match direction {
            Direction::Push => &self.push,
            Direction::Pull => &self.pull,
        }
    }

    pub(super) fn flow(&self, direction: Direction, mapping: Option<usize>) -> &Flow {
        let of_none = &self.unmapped[usize::from(direction == Direction::Pull)];
        mapping.and_then(|place| self.flows(direction).get(place)).unwrap_or(of_none)
    }
}
