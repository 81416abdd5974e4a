//! Who and what is busiest of late: sessions, identities, topics and branches.

use std::{sync::Arc, time::Duration};

use moorfall_core::{
    Time,
    measure::{BusyIn as In, BusyOf as Of, Counted, SpaceSaving},
};
use strum::VariantNames;
use tracing_mutex::parkinglot::Mutex;

/// Names that are counted of each kind at a time.
const COUNTERS: usize = 512;

/// How long one sketch is filled. What is told is of the one that is being filled and the one before it.
const SPAN: Duration = Duration::from_secs(60);

/// Bytes of a name at most: topics may be long.
const NAME: usize = 1_024;

/// One of the busiest.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Busy {
    /// Its name.
    pub name: Arc<str>,
    /// At most so much.
    pub count: u64,
    /// By so much it may be too high.
    pub too_many: u64,
}

/// Who and what is busiest of late.
#[derive(Debug)]
pub struct Busiest([Mutex<Lately>; Of::VARIANTS.len()]);

impl Default for Busiest {
    fn default() -> Self {
        Self(std::array::from_fn(|_| Mutex::default()))
    }
}

type Sketches = [SpaceSaving<Arc<str>>; In::VARIANTS.len()];

fn sketches() -> Sketches {
    std::array::from_fn(|_| SpaceSaving::new(COUNTERS))
}

/// Two sketches, one filled after the other.
#[derive(Debug)]
struct Lately {
    before: Sketches,
    now: Sketches,
    /// When the one before was begun, and the one of now.
    begun: [Time; 2],
}

impl Default for Lately {
    fn default() -> Self {
        Self { before: sketches(), now: sketches(), begun: [Time::default(); 2] }
    }
}

impl Lately {
    fn keep_time(&mut self, now: Time) {
        let age = now - self.begun[1];
        if age < SPAN {
            return;
        }
        let full = std::mem::replace(&mut self.now, sketches());
        // What is older than a span says nothing of late.
        let is_recent = age < 2 * SPAN;
        self.before = if is_recent { full } else { sketches() };
        self.begun = [if is_recent { self.begun[1] } else { now }, now];
    }
}

impl Busiest {
    /// So many messages of so many bytes more.
    pub fn add(&self, of: Of, name: &Arc<str>, (messages, bytes): (u64, u64), now: Time) {
        let name = if name.len() > NAME { &Arc::<str>::from(&name[..name.floor_char_boundary(NAME)]) } else { name };
        let mut lately = self.0[of as usize].lock();
        lately.keep_time(now);
        let [by_messages, by_bytes] = &mut lately.now;
        by_messages.add(name, messages);
        by_bytes.add(name, bytes);
    }

    /// The same of a topic, and of the branch that it stands in.
    pub fn add_topic(&self, topic: &Arc<str>, counts: (u64, u64), now: Time) {
        self.add(Of::Topics, topic, counts, now);
        if let Some((branch, _)) = topic.rsplit_once('/') {
            self.add(Of::Branches, &branch.into(), counts, now);
        }
    }

    /// The first so many of what is busiest, and the time in which they were: one minute to two, less after the start.
    pub fn read(&self, of: Of, unit: In, most: usize, now: Time) -> (Vec<Busy>, Duration) {
        let (before, lately, begun) = {
            let mut lately = self.0[of as usize].lock();
            lately.keep_time(now);
            (lately.before[unit as usize].clone(), lately.now[unit as usize].clone(), lately.begun[0])
        };
        let sum = before.with(&lately);
        let busy =
            |Counted { name, count, too_many }: Counted<&Arc<str>>| Busy { name: Arc::clone(name), count, too_many };
        let mut all: Vec<Busy> = sum.counted().map(busy).collect();
        all.sort_by(|one, other| other.count.cmp(&one.count).then_with(|| one.name.cmp(&other.name)));
        all.truncate(most);
        (all, now - begun)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(second: u64) -> Time {
        Time::from_micros(second * 1_000_000)
    }

    fn names(busiest: &Busiest, unit: In, now: u64) -> Vec<(String, u64)> {
        let (busy, _) = busiest.read(Of::Topics, unit, 3, at(now));
        busy.into_iter().map(|busy| (busy.name.to_string(), busy.count)).collect()
    }

    #[test]
    fn what_is_told_is_of_late_in_messages_and_bytes() {
        let busiest = Busiest::default();
        let add = |name: &str, messages, bytes, now| {
            busiest.add(Of::Topics, &name.into(), (messages, bytes), at(now));
        };
        add("harrowmere/weir/level", 10, 100, 1_000);
        add("harrowmere/weir/picture", 1, 90_000, 1_010);
        assert_eq!(names(&busiest, In::Messages, 1_020)[0], ("harrowmere/weir/level".into(), 10));
        assert_eq!(names(&busiest, In::Bytes, 1_020)[0], ("harrowmere/weir/picture".into(), 90_000));
        assert!(busiest.read(Of::Branches, In::Bytes, 3, at(1_020)).0.is_empty());
        add("harrowmere/weir/level", 5, 50, 1_070);
        assert_eq!(names(&busiest, In::Messages, 1_070)[0], ("harrowmere/weir/level".into(), 15), "both spans count");
        assert_eq!(names(&busiest, In::Messages, 1_140), [("harrowmere/weir/level".into(), 5)]);
        assert_eq!(names(&busiest, In::Messages, 1_300), []);
    }

    #[test]
    fn long_names_are_cut_and_many_take_no_more_room() {
        let busiest = Busiest::default();
        busiest.add(Of::Topics, &"ü".repeat(NAME).into(), (1, 1), at(1));
        assert!(busiest.read(Of::Topics, In::Bytes, 1, at(1)).0[0].name.len() <= NAME);
        for place in 0..5 * COUNTERS {
            busiest.add(Of::Topics, &place.to_string().into(), (1, 1), at(1));
        }
        busiest.add(Of::Topics, &"weir".into(), (100, 1), at(1));
        let (busy, _) = busiest.read(Of::Topics, In::Messages, usize::MAX, at(1));
        assert_eq!((busy.len(), &*busy[0].name, busy[0].count - busy[0].too_many), (COUNTERS, "weir", 100));
    }
}
