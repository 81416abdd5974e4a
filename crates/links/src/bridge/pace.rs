//! When the next attempt is made.

use std::time::Duration;

use rand::RngExt;

/// The shortest and the longest pause between two attempts.
const PAUSE: (Duration, Duration) = (Duration::from_secs(1), Duration::from_secs(30));

/// A link that was up for so long was a good one: pauses begin anew.
const GOOD: Duration = Duration::from_secs(5);

/// Attempts that failed one after the other, and what comes of that.
#[derive(Debug, Default)]
pub(super) struct Pace {
    rounds: u32,
    /// Attempts since the link was up last.
    pub(super) failed: u64,
    /// Which address is tried next.
    pub(super) address: usize,
}

impl Pace {
    /// An attempt has failed, or a link has ended after it was up for so long. Gives how long to wait before the next
    /// attempt: another address is tried at once, and after the last one there is a pause, longer each time.
    pub(super) fn failed(&mut self, up: Option<Duration>, addresses: usize) -> Duration {
        match up {
            Some(up) if up >= GOOD => {
                self.rounds = 0;
                self.failed = 0;
                // The same address is the best guess; it is tried after the shortest pause.
                return self.pause();
            }
            _ => self.failed += 1,
        }
        self.address += 1;
        if self.address < addresses {
            return Duration::ZERO;
        }
        self.address = 0;
        self.rounds += 1;
        self.pause()
    }

    /// Everything begins anew, with the first address.
    pub(super) fn reset(&mut self) {
        *self = Self::default();
    }

    fn pause(&self) -> Duration {
        let full = PAUSE.0.saturating_mul(1 << self.rounds.saturating_sub(1).min(10)).min(PAUSE.1);
        // Many bridges that lost one remote don't come back all at once.
        full.mul_f64(rand::rng().random_range(0.75..1.25))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pauses_grow_and_addresses_take_turns() {
        let mut pace = Pace::default();
        let around = |pause: Duration, seconds: f64| {
            let pause = pause.as_secs_f64();
            assert!((seconds * 0.75..=seconds * 1.25).contains(&pause), "{pause} is not about {seconds}");
        };
        assert_eq!(pace.failed(None, 2), Duration::ZERO);
        assert_eq!(pace.address, 1);
        around(pace.failed(None, 2), 1.0);
        assert_eq!(pace.address, 0);
        pace.failed(None, 2);
        around(pace.failed(None, 2), 2.0);
        for _ in 0..20 {
            pace.failed(Some(Duration::from_millis(5)), 1);
        }
        around(pace.failed(None, 1), 30.0);
        assert_eq!(pace.failed, 25);
        around(pace.failed(Some(Duration::from_secs(3_600)), 1), 1.0);
        assert_eq!(pace.failed, 0);
    }
}
