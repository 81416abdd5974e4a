//! Sign-ins that wait for their turn, fair between addresses and between the names that one address gives, and what
//! wrong ones cost.
//!
//! A guess is paid for before it is looked at: an address, and a name, have a number of wrong sign-ins a minute; one is
//! set aside when a sign-in is taken up and given back when it was right. So many connections side by side guess no
//! faster than one. Who has none left waits, and is not refused. An address from which a name has signed in before does
//! not wait for what others do to that name.

use std::{
    collections::{BTreeMap, HashMap, VecDeque},
    net::IpAddr,
    num::NonZeroUsize,
    sync::Arc,
    time::Duration,
};

use foldhash::fast::RandomState;
use lru::LruCache;
use moorfall_core::Time;

/// Addresses, names, and pairs of them, that are remembered; about 100 bytes each. Beyond it those that were seen
/// longest ago are forgotten.
const REMEMBERED: NonZeroUsize = NonZeroUsize::new(50_000).expect("it is not 0");

/// When to look again while what blocks is only set aside.
const SOON: Duration = Duration::from_millis(20);

/// Who signs in, as what, and from where.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Ask {
    /// The neighbourhood of the address.
    pub address: IpAddr,
    /// Whose password it is.
    pub name: Arc<str>,
    /// Wrong sign-ins that an address, and a name, have in a minute; 0 for as many as they like.
    pub failures_per_minute: u32,
    /// Whether it costs nothing any more: it is known to be wrong, or is no sign-in.
    pub paid: bool,
}

/// Something that waits, and may not be wanted any more.
pub trait Abandonable {
    /// Whether whoever waited has gone.
    fn is_abandoned(&self) -> bool;
}

/// Wrong sign-ins of one address or name; they fade over a minute.
#[derive(Debug)]
struct Tally {
    failures: f64,
    /// Set aside for those that are being looked at.
    reserved: u32,
    at: Time,
    /// Whether it was told that there is none left, since there last were plenty.
    is_told: bool,
}

impl Tally {
    /// When there is room for one more; `None` if now.
    fn wait(&mut self, now: Time, per_minute: u32) -> Option<Duration> {
        let most = f64::from(per_minute);
        self.failures = (self.failures - (now - self.at).as_secs_f64() * most / 60.0).max(0.0);
        self.at = now;
        self.is_told &= self.failures > most / 2.0;
        let over = self.failures + f64::from(self.reserved) + 1.0 - most;
        match (over > 0.0, self.reserved) {
            (false, _) => None,
            (true, 0) => Some(Duration::from_secs_f64(over * 60.0 / most) + Duration::from_millis(1)),
            (true, _) => Some(SOON),
        }
    }
}

/// What wrong sign-ins have cost.
#[derive(Debug)]
struct Budgets {
    addresses: LruCache<IpAddr, Tally>,
    names: LruCache<Arc<str>, Tally>,
    /// Where names have signed in before.
    good: LruCache<(Arc<str>, IpAddr), ()>,
}

/// What has none left.
enum Spent {
    Address(Duration),
    Name(Duration),
}

impl Budgets {
    /// Sets one wrong sign-in aside.
    fn reserve(&mut self, ask: &Ask, now: Time) -> Result<(), Spent> {
        let most = ask.failures_per_minute;
        if most == 0 || ask.paid {
            return Ok(());
        }
        let fresh = || Tally { failures: 0.0, reserved: 0, at: now, is_told: false };
        let address = self.addresses.get_or_insert_mut(ask.address, fresh);
        if let Some(wait) = address.wait(now, most) {
            return Err(Spent::Address(wait));
        }
        let is_known = self.good.contains(&(Arc::clone(&ask.name), ask.address));
        let name = self.names.get_or_insert_mut(Arc::clone(&ask.name), fresh);
        if let Some(wait) = name.wait(now, most)
            && !is_known
        {
            return Err(Spent::Name(wait));
        }
        address.reserved += 1;
        name.reserved += 1;
        Ok(())
    }

    fn settle(&mut self, ask: &Ask, is_right: bool) {
        if ask.failures_per_minute == 0 || ask.paid {
            return;
        }
        let tallies = [self.addresses.get_mut(&ask.address), self.names.get_mut(&ask.name)];
        for tally in tallies.into_iter().flatten() {
            tally.reserved = tally.reserved.saturating_sub(1);
            if !is_right {
                tally.failures += 1.0;
            }
        }
        if is_right {
            self.good.put((Arc::clone(&ask.name), ask.address), ());
        }
    }
}

/// What waits of one address.
#[derive(Debug)]
struct Lane<J> {
    /// Names whose turn comes, each once.
    turns: VecDeque<Arc<str>>,
    names: HashMap<Arc<str>, VecDeque<(Ask, J)>, RandomState>,
    waiting: usize,
    /// Whether it stands among those whose turn comes, or waits for a time.
    is_listed: bool,
}

impl<J> Default for Lane<J> {
    fn default() -> Self {
        Self { turns: VecDeque::new(), names: HashMap::default(), waiting: 0, is_listed: false }
    }
}

/// What waits for a time.
#[derive(Debug)]
enum Parked {
    Lane(IpAddr),
    Name(IpAddr, Arc<str>),
}

/// What is to be done next.
#[derive(Debug, PartialEq)]
pub enum Pick<J> {
    /// This; [`Queue::settle`] afterwards.
    Job(Ask, J),
    /// Nothing before this time.
    At(Time),
    /// Nobody waits.
    Nothing,
}

/// Sign-ins that wait.
#[derive(Debug)]
pub struct Queue<J> {
    lanes: HashMap<IpAddr, Lane<J>, RandomState>,
    /// Addresses whose turn comes, each once.
    turns: VecDeque<IpAddr>,
    /// By the time at which they are looked at again, and a number that tells them apart.
    parked: BTreeMap<(Time, u64), Parked>,
    last_number: u64,
    budgets: Budgets,
    /// Addresses whose sign-ins wait since the last time that somebody asked.
    waits: Vec<IpAddr>,
}

impl<J> Default for Queue<J> {
    fn default() -> Self {
        let budgets = Budgets {
            addresses: LruCache::new(REMEMBERED),
            names: LruCache::new(REMEMBERED),
            good: LruCache::new(REMEMBERED),
        };
        Self {
            lanes: HashMap::default(),
            turns: VecDeque::new(),
            parked: BTreeMap::new(),
            last_number: 0,
            budgets,
            waits: Vec::new(),
        }
    }
}

impl<J: Abandonable> Queue<J> {
    /// Whether this may be looked at now; then one wrong sign-in is set aside until [`Queue::settle`].
    pub fn reserve(&mut self, ask: &Ask, now: Time) -> bool {
        self.budgets.reserve(ask, now).is_ok()
    }

    /// What became of one that was looked at.
    pub fn settle(&mut self, ask: &Ask, is_right: bool) {
        self.budgets.settle(ask, is_right);
    }

    /// Lets one wait; gives it back when `most` of its address do already.
    pub fn push(&mut self, ask: Ask, job: J, most: usize) -> Result<(), J> {
        let lane = self.lanes.entry(ask.address).or_default();
        if lane.waiting >= most {
            lane.sweep();
            if lane.waiting >= most {
                return Err(job);
            }
        }
        lane.waiting += 1;
        let address = ask.address;
        let queue = lane.names.entry(Arc::clone(&ask.name)).or_insert_with(|| {
            lane.turns.push_back(Arc::clone(&ask.name));
            VecDeque::new()
        });
        queue.push_back((ask, job));
        if !lane.is_listed {
            lane.is_listed = true;
            self.turns.push_back(address);
        }
        Ok(())
    }

    /// Addresses whose sign-ins have begun to wait because too many have failed, each once.
    pub fn take_waits(&mut self) -> Vec<IpAddr> {
        std::mem::take(&mut self.waits)
    }

    /// The next one whose turn it is and that can be paid for.
    pub fn pick(&mut self, now: Time) -> Pick<J> {
        self.unpark(now);
        while let Some(address) = self.turns.pop_front() {
            let picked = self.pick_of(address, now);
            if let Some(lane) = self.lanes.get(&address)
                && lane.waiting == 0
            {
                self.lanes.remove(&address);
            }
            if let Some((ask, job)) = picked {
                return Pick::Job(ask, job);
            }
        }
        self.parked.keys().next().map_or(Pick::Nothing, |(time, _)| Pick::At(*time))
    }

    fn pick_of(&mut self, address: IpAddr, now: Time) -> Option<(Ask, J)> {
        let lane = self.lanes.get_mut(&address)?;
        lane.is_listed = false;
        while let Some(name) = lane.turns.pop_front() {
            let Some(queue) = lane.names.get_mut(&name) else { continue };
            while queue.pop_front_if(|(_, job)| job.is_abandoned()).is_some() {
                lane.waiting -= 1;
            }
            let Some((ask, _)) = queue.front() else {
                lane.names.remove(&name);
                continue;
            };
            let number = self.last_number;
            match self.budgets.reserve(ask, now) {
                Ok(()) => {}
                Err(Spent::Address(wait)) => {
                    lane.turns.push_front(name);
                    lane.is_listed = true;
                    let tally = self.budgets.addresses.peek_mut(&address);
                    if tally.is_some_and(|tally| tally.reserved == 0 && !std::mem::replace(&mut tally.is_told, true)) {
                        self.waits.push(address);
                    }
                    self.last_number += 1;
                    self.parked.insert((now + wait, number), Parked::Lane(address));
                    return None;
                }
                Err(Spent::Name(wait)) => {
                    self.last_number += 1;
                    self.parked.insert((now + wait, number), Parked::Name(address, name));
                    continue;
                }
            }
            let picked = queue.pop_front()?;
            lane.waiting -= 1;
            if queue.is_empty() {
                lane.names.remove(&name);
            } else {
                lane.turns.push_back(name);
            }
            if !lane.turns.is_empty() {
                lane.is_listed = true;
                self.turns.push_back(address);
            }
            return Some(picked);
        }
        None
    }

    fn unpark(&mut self, now: Time) {
        while let Some(first) = self.parked.first_entry()
            && first.key().0 <= now
        {
            match first.remove() {
                Parked::Lane(address) => self.turns.push_back(address),
                Parked::Name(address, name) => {
                    let Some(lane) = self.lanes.get_mut(&address) else { continue };
                    if lane.names.contains_key(&name) {
                        lane.turns.push_back(name);
                    }
                    if !lane.is_listed {
                        lane.is_listed = true;
                        self.turns.push_back(address);
                    }
                }
            }
        }
    }
}

impl<J: Abandonable> Lane<J> {
    /// Takes out what nobody waits for any more. Names stay where they stand; they go when their turn comes.
    fn sweep(&mut self) {
        for queue in self.names.values_mut() {
            queue.retain(|(_, job)| !job.is_abandoned());
        }
        self.waiting = self.names.values().map(VecDeque::len).sum();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[derive(Debug, PartialEq)]
    struct Job(u32);

    impl Abandonable for Job {
        fn is_abandoned(&self) -> bool {
            self.0 >= 1_000
        }
    }

    fn at(seconds: u64) -> Time {
        Time::from_micros(seconds * 1_000_000)
    }

    fn ask(address: &str, name: &str) -> Ask {
        Ask { address: address.parse().unwrap(), name: name.into(), failures_per_minute: 3, paid: false }
    }

    const ONE: &str = "192.0.2.1";
    const OTHER: &str = "192.0.2.2";

    /// Takes up what can be at this time, each with this outcome; gives their numbers.
    fn run(queue: &mut Queue<Job>, now: Time, is_right: bool) -> Vec<u32> {
        let mut done = Vec::new();
        while let Pick::Job(ask, job) = queue.pick(now) {
            queue.settle(&ask, is_right);
            done.push(job.0);
        }
        done
    }

    #[test]
    fn addresses_take_turns_and_so_do_the_names_of_one() {
        let mut queue = Queue::default();
        for (number, (address, name)) in
            [(ONE, "a"), (ONE, "a"), (ONE, "a"), (ONE, "b"), (OTHER, "c")].into_iter().enumerate()
        {
            queue.push(ask(address, name), Job(number as u32), 10).unwrap();
        }
        assert_eq!(run(&mut queue, at(0), true), [0, 4, 3, 1, 2]);
        assert_eq!(queue.pick(at(0)), Pick::Nothing);
        assert!(queue.lanes.is_empty());
    }

    #[test]
    fn wrong_ones_side_by_side_are_no_faster_than_one_after_the_other() {
        let mut queue = Queue::default();
        for number in 0..60 {
            // Each with a name of its own.
            queue.push(ask(ONE, &number.to_string()), Job(number), 100).unwrap();
        }
        let mut taken = Vec::new();
        while let Pick::Job(ask, _) = queue.pick(at(0)) {
            taken.push(ask);
        }
        assert_eq!(taken.len(), 3, "no more are looked at than may be wrong");
        taken.iter().for_each(|ask| queue.settle(ask, false));
        let Pick::At(next) = queue.pick(at(1)) else { panic!("the others wait") };
        assert_eq!(queue.take_waits(), [ONE.parse::<IpAddr>().unwrap()]);
        assert!((at(20)..at(21)).contains(&next), "{next:?}");
        assert_eq!(run(&mut queue, at(19), false).len(), 0);
        let in_a_minute: usize = (20..80).map(|second| run(&mut queue, at(second), false).len()).sum();
        assert_eq!(in_a_minute, 3);
        assert!(queue.take_waits().is_empty(), "it is told once");
    }

    #[test]
    fn right_ones_cost_nothing() {
        let mut queue = Queue::default();
        for number in 0..500 {
            queue.push(ask(ONE, &number.to_string()), Job(number), 1_000).unwrap();
        }
        assert_eq!(run(&mut queue, at(0), true).len(), 500);
    }

    #[test]
    fn a_name_that_many_guess_at_waits_but_not_where_it_is_known() {
        let mut queue = Queue::default();
        queue.push(ask(OTHER, "weir"), Job(0), 10).unwrap();
        assert_eq!(run(&mut queue, at(0), true), [0]);
        for number in 1..=10 {
            queue.push(ask(&format!("198.51.100.{number}"), "weir"), Job(number), 10).unwrap();
        }
        assert_eq!(run(&mut queue, at(0), false).len(), 3, "of all addresses together");
        queue.push(ask("203.0.113.1", "weir"), Job(20), 10).unwrap();
        queue.push(ask("203.0.113.1", "mill"), Job(21), 10).unwrap();
        queue.push(ask(OTHER, "weir"), Job(22), 10).unwrap();
        assert_eq!(run(&mut queue, at(1), true), [21, 22], "others, and where it has signed in before");
        assert_eq!(run(&mut queue, at(200), true).len(), 8);
    }

    #[test]
    fn what_waits_is_bounded_and_who_went_away_is_left_out() {
        let mut queue = Queue::default();
        for number in 0..5 {
            queue.push(ask(ONE, "a"), Job(1_000 + number), 5).unwrap();
        }
        queue.push(ask(ONE, "a"), Job(1), 5).unwrap();
        for number in 2..=5 {
            queue.push(ask(ONE, &number.to_string()), Job(number), 5).unwrap();
        }
        assert_eq!(queue.push(ask(ONE, "b"), Job(6), 5), Err(Job(6)));
        queue.push(ask(OTHER, "b"), Job(7), 5).unwrap();
        let mut done = run(&mut queue, at(0), true);
        done.sort_unstable();
        assert_eq!(done, [1, 2, 3, 4, 5, 7]);
        assert!(queue.lanes.is_empty() && queue.parked.is_empty());
    }
}
