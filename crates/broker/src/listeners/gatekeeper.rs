//! How often one address may begin connections, and how many things of a kind it may hold at a time.

use std::{
    collections::HashMap,
    hash::Hash,
    net::{IpAddr, Ipv6Addr},
    num::NonZeroUsize,
    sync::{
        Arc,
        atomic::{AtomicU64, AtomicUsize, Ordering},
    },
};

use foldhash::fast::RandomState;
use lru::LruCache;
use moorfall_core::{Limits, Time};
use parking_lot::Mutex;

/// Addresses that are remembered; about 100 bytes each. Beyond it those that were seen longest ago are forgotten.
const REMEMBERED: NonZeroUsize = NonZeroUsize::new(50_000).expect("it is not 0");

/// The average is over so many seconds: a burst of as many seconds' worth is let through.
const BURST_SECONDS: f64 = 10.0;

#[derive(Debug)]
struct Visits {
    /// Connections that may begin at once.
    tokens: f64,
    at: Time,
}

/// How often addresses begin connections.
#[derive(Debug)]
pub struct Gatekeeper {
    visits: Mutex<LruCache<IpAddr, Visits>>,
    turned_away: AtomicU64,
}

impl Default for Gatekeeper {
    fn default() -> Self {
        Self { visits: Mutex::new(LruCache::new(REMEMBERED)), turned_away: AtomicU64::new(0) }
    }
}

impl Gatekeeper {
    /// Whether one more connection may begin.
    pub fn may_connect(&self, address: IpAddr, now: Time, limits: &Limits) -> bool {
        if limits.connects_per_second == 0 {
            return true;
        }
        let rate = f64::from(limits.connects_per_second);
        let most = rate * BURST_SECONDS;
        let mut all = self.visits.lock();
        let visits = all.get_or_insert_mut(neighbourhood(address), || Visits { tokens: most, at: now });
        visits.tokens = (visits.tokens + (now - visits.at).as_secs_f64() * rate).min(most);
        visits.at = now;
        let may = visits.tokens >= 1.0;
        if may {
            visits.tokens -= 1.0;
        } else {
            self.turned_away.fetch_add(1, Ordering::Relaxed);
        }
        may
    }

    /// Connections that were turned away because their address began too many.
    pub fn turned_away(&self) -> u64 {
        self.turned_away.load(Ordering::Relaxed)
    }
}

/// An IPv6 host has a whole /64 to choose its address from.
pub fn neighbourhood(address: IpAddr) -> IpAddr {
    match address.to_canonical() {
        IpAddr::V6(address) => {
            let [a, b, c, d, ..] = address.segments();
            Ipv6Addr::new(a, b, c, d, 0, 0, 0, 0).into()
        }
        v4 => v4,
    }
}

/// How many of something each holds, and how many were turned away. Only those that hold something are remembered.
#[derive(Debug)]
pub struct Tickets<K> {
    held: Mutex<HashMap<K, usize, RandomState>>,
    all: AtomicUsize,
    turned_away: AtomicU64,
}

/// By the neighbourhood of an address.
pub type PerAddress = Tickets<IpAddr>;

/// One of them; it is given back on drop.
#[derive(Debug)]
pub struct Held<K: Hash + Eq = IpAddr> {
    of: Arc<Tickets<K>>,
    by: K,
}

impl<K> Default for Tickets<K> {
    fn default() -> Self {
        Self { held: Mutex::default(), all: AtomicUsize::new(0), turned_away: AtomicU64::new(0) }
    }
}

impl<K: Hash + Eq + Clone> Tickets<K> {
    /// One more, unless its holder has `most` or all together have `most_in_all`.
    pub fn take(self: &Arc<Self>, by: K, most: usize, most_in_all: usize) -> Option<Held<K>> {
        let mut held = self.held.lock();
        let count = held.get(&by).copied().unwrap_or(0);
        if count >= most || self.all.load(Ordering::Relaxed) >= most_in_all {
            self.turned_away.fetch_add(1, Ordering::Relaxed);
            return None;
        }
        held.insert(by.clone(), count + 1);
        self.all.fetch_add(1, Ordering::Relaxed);
        Some(Held { of: Arc::clone(self), by })
    }

    /// How many were turned away.
    pub fn turned_away(&self) -> u64 {
        self.turned_away.load(Ordering::Relaxed)
    }
}

impl<K: Hash + Eq> Drop for Held<K> {
    fn drop(&mut self) {
        let mut held = self.of.held.lock();
        if let Some(count) = held.get_mut(&self.by) {
            *count -= 1;
            if *count == 0 {
                held.remove(&self.by);
            }
        }
        self.of.all.fetch_sub(1, Ordering::Relaxed);
    }
}

#[cfg(test)]
mod tests {
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
        assert_eq!(gate.turned_away(), 80 + 94 + 80);
    }

    #[test]
    fn an_address_holds_so_many_and_gives_them_back() {
        let all: Arc<PerAddress> = Arc::default();
        let (one, near): (IpAddr, IpAddr) = ("2001:db8::1".parse().unwrap(), "2001:db8::2".parse().unwrap());
        let far: IpAddr = "192.0.2.1".parse().unwrap();
        let take = |address| all.take(neighbourhood(address), 2, 3);
        let first = take(one).unwrap();
        let _second = take(near).unwrap();
        assert!(take(one).is_none(), "a /64 counts as one");
        let _third = take(far).unwrap();
        assert!(take(far).is_none(), "three in all");
        drop(first);
        assert!(take(near).is_some());
        assert_eq!((all.all.load(Ordering::Relaxed), all.turned_away()), (2, 2));
    }
}
