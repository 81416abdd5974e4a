//! How often one address may try: connections, and sign-ins that fail.

use std::{
    collections::HashMap,
    net::{IpAddr, Ipv6Addr},
    time::Duration,
};

use foldhash::fast::RandomState;
use moorfall_core::{Limits, Time};
use parking_lot::Mutex;

/// Addresses that are remembered; about 100 bytes each. Beyond it those that have been quiet are forgotten.
const REMEMBERED: usize = 50_000;

/// The average is over so many seconds: a burst of as many seconds' worth is let through.
const BURST_SECONDS: f64 = 10.0;

/// The longest that a sign-in is made to wait.
const LONGEST: Duration = Duration::from_secs(5);

/// The first wait.
const FIRST: Duration = Duration::from_millis(100);

#[derive(Debug)]
struct Visits {
    /// Connections that may begin at once.
    tokens: f64,
    /// Sign-ins that failed; they fade over a minute.
    failures: f64,
    at: Time,
}

impl Visits {
    /// What has come back, and faded, until `now`.
    fn pass(&mut self, now: Time, limits: &Limits) {
        let seconds = (now - self.at).as_secs_f64();
        let rate = f64::from(limits.connects_per_second);
        self.tokens = (self.tokens + seconds * rate).min(rate * BURST_SECONDS);
        self.failures = (self.failures - seconds * f64::from(limits.failed_sign_ins_per_minute) / 60.0).max(0.0);
        self.at = now;
    }

    fn is_quiet(&self, limits: &Limits) -> bool {
        self.failures == 0.0 && self.tokens >= f64::from(limits.connects_per_second) * BURST_SECONDS
    }
}

/// What is remembered of addresses.
#[derive(Debug, Default)]
pub(crate) struct Gatekeeper {
    visits: Mutex<HashMap<IpAddr, Visits, RandomState>>,
}

impl Gatekeeper {
    /// Whether one more connection may begin.
    pub(crate) fn may_connect(&self, address: IpAddr, now: Time, limits: &Limits) -> bool {
        if limits.connects_per_second == 0 {
            return true;
        }
        self.with(address, now, limits, |visits| {
            let may = visits.tokens >= 1.0;
            if may {
                visits.tokens -= 1.0;
            }
            may
        })
    }

    /// How long a sign-in is to wait before it is looked at.
    pub(crate) fn wait(&self, address: IpAddr, now: Time, limits: &Limits) -> Duration {
        if limits.failed_sign_ins_per_minute == 0 {
            return Duration::ZERO;
        }
        let most = f64::from(limits.failed_sign_ins_per_minute);
        let failures = self.with(address, now, limits, |visits| visits.failures);
        if failures < most {
            return Duration::ZERO;
        }
        FIRST.mul_f64((failures - most).min(16.0).exp2()).min(LONGEST)
    }

    /// A sign-in failed.
    pub(crate) fn note_failure(&self, address: IpAddr, now: Time, limits: &Limits) {
        self.with(address, now, limits, |visits| visits.failures += 1.0);
    }

    fn with<R>(&self, address: IpAddr, now: Time, limits: &Limits, look: impl FnOnce(&mut Visits) -> R) -> R {
        let mut all = self.visits.lock();
        if all.len() >= REMEMBERED {
            all.retain(|_, visits| {
                visits.pass(now, limits);
                !visits.is_quiet(limits)
            });
            if all.len() >= REMEMBERED {
                // More attackers than fit: those who come next are treated as strangers.
                all.clear();
            }
        }
        let fresh = || Visits { tokens: f64::from(limits.connects_per_second) * BURST_SECONDS, failures: 0.0, at: now };
        let visits = all.entry(neighbourhood(address)).or_insert_with(fresh);
        visits.pass(now, limits);
        look(visits)
    }
}

/// An IPv6 host has a whole /64 to choose its address from.
fn neighbourhood(address: IpAddr) -> IpAddr {
    match address.to_canonical() {
        IpAddr::V6(address) => {
            let [a, b, c, d, ..] = address.segments();
            Ipv6Addr::new(a, b, c, d, 0, 0, 0, 0).into()
        }
        v4 => v4,
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test may panic")]

    use super::*;

    fn at(seconds: u64) -> Time {
        Time::from_micros(seconds * 1_000_000)
    }

    #[test]
    fn connections_come_at_the_rate_that_is_allowed() {
        let limits = Limits { connects_per_second: 2, ..Limits::default() };
        let gate = Gatekeeper::default();
        let (one, other): (IpAddr, IpAddr) = ("192.0.2.1".parse().unwrap(), "192.0.2.2".parse().unwrap());
        let passed = |address, now| (0..100).filter(|_| gate.may_connect(address, now, &limits)).count();
        assert_eq!(passed(one, at(0)), 20, "a burst of ten seconds' worth");
        assert_eq!(passed(one, at(3)), 6);
        assert_eq!(passed(other, at(3)), 20, "each address for itself");
    }

    #[test]
    fn failed_sign_ins_make_the_next_ones_wait_until_they_fade() {
        let limits = Limits { failed_sign_ins_per_minute: 3, ..Limits::default() };
        let gate = Gatekeeper::default();
        let address: IpAddr = "2001:db8::1".parse().unwrap();
        let neighbour: IpAddr = "2001:db8::2".parse().unwrap();
        let mut waits = Vec::new();
        for _ in 0..12 {
            waits.push(gate.wait(neighbour, at(0), &limits).as_millis());
            gate.note_failure(address, at(0), &limits);
        }
        assert_eq!(waits, [0, 0, 0, 100, 200, 400, 800, 1_600, 3_200, 5_000, 5_000, 5_000]);
        assert_eq!(gate.wait(address, at(200), &limits), Duration::ZERO, "ten have faded");
    }
}
