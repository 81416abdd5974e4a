//! The packets of a session, an identity or an address, both ways, for a bounded time.
//!
//! It is switched on for somebody, and holds what passed in memory, the newest packets. As long as nobody is looked at a
//! connection pays a look at a number. Passwords are never kept, payloads only if that was asked for.

use std::{
    collections::VecDeque,
    net::SocketAddr,
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
    time::Duration,
};

use bytes::Bytes;
use moorfall_core::Time;
use moorfall_wire::{PacketType, ProtocolVersion};
use parking_lot::{Mutex, RwLock};

/// Ladders that are held, running and ended.
pub const MOST: usize = 8;

/// Packets of one ladder that are held, and their bytes.
const HELD: (usize, usize) = (5_000, 8 * 1024 * 1024);

/// Packets of one ladder in a second; more are only counted.
const PER_SECOND: u32 = 2_000;

/// Bytes of one packet that are kept.
pub const BYTES: usize = 64 * 1024;

/// The longest time.
pub const LONGEST: Duration = Duration::from_secs(3_600);

/// Whose packets.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Whom {
    /// The session of this client identifier.
    Session(String),
    /// All sessions of this identity.
    Identity(String),
    /// All connections from this address.
    Address(std::net::IpAddr),
}

/// Who is on a connection, as far as it is known.
#[derive(Clone, Debug)]
pub struct Party {
    /// The connection, by a number of its own.
    pub connection: u64,
    /// From where.
    pub address: SocketAddr,
    /// The client identifier; empty if it was never accepted.
    pub client_id: Arc<str>,
    /// The identity; empty if it was never accepted.
    pub identity: Arc<str>,
}

impl Whom {
    /// Whether somebody is meant.
    pub fn is(&self, party: &Party) -> bool {
        match self {
            Self::Session(client_id) => **client_id == *party.client_id,
            Self::Identity(name) => **name == *party.identity,
            Self::Address(address) => *address == party.address.ip().to_canonical(),
        }
    }
}

/// A packet that passed.
#[derive(Clone, Debug)]
pub struct Passed {
    /// When.
    pub at: Time,
    /// Whether the broker sent it.
    pub sent: bool,
    /// The version that the connection speaks.
    pub version: ProtocolVersion,
    /// Its type.
    pub packet: PacketType,
    /// Its bytes, without what is not to be kept.
    pub bytes: Bytes,
    /// How many bytes it had.
    pub size: usize,
}

/// A packet of a ladder.
#[derive(Clone, Debug)]
pub struct Rung {
    /// From 1.
    pub number: u64,
    /// Whose it is.
    pub party: Arc<Party>,
    /// What passed.
    pub passed: Passed,
}

/// The packets of somebody.
#[derive(Debug)]
pub struct Ladder {
    /// From 1.
    pub number: u64,
    /// Whose.
    pub whom: Whom,
    /// Whether payloads are kept.
    pub payloads: bool,
    /// Who wants it.
    pub by: Arc<str>,
    /// When it was begun.
    pub began: Time,
    /// When it ends at the latest.
    ends: AtomicU64,
    rungs: Mutex<Rungs>,
}

#[derive(Debug, Default)]
struct Rungs {
    held: VecDeque<Rung>,
    bytes: usize,
    last: u64,
    left_out: u64,
    second: (u64, u32),
}

impl Ladder {
    /// When it ends, or has ended.
    pub fn ends(&self) -> Time {
        Time::from_micros(self.ends.load(Ordering::Relaxed))
    }

    /// Whether it goes on.
    pub fn is_running(&self, now: Time) -> bool {
        now < self.ends()
    }

    /// Adds a packet.
    pub fn add(&self, party: &Arc<Party>, passed: Passed) {
        let mut rungs = self.rungs.lock();
        let second = passed.at.as_micros() / 1_000_000;
        if rungs.second.0 != second {
            rungs.second = (second, 0);
        }
        rungs.second.1 += 1;
        if rungs.second.1 > PER_SECOND {
            rungs.left_out += 1;
            return;
        }
        rungs.last += 1;
        rungs.bytes += passed.bytes.len();
        let rung = Rung { number: rungs.last, party: Arc::clone(party), passed };
        rungs.held.push_back(rung);
        while rungs.held.len() > HELD.0 || rungs.bytes > HELD.1 && rungs.held.len() > 1 {
            if let Some(gone) = rungs.held.pop_front() {
                rungs.bytes -= gone.passed.bytes.len();
                rungs.left_out += 1;
            }
        }
    }

    /// The first so many packets behind the one of this number.
    pub fn after(&self, number: u64, most: usize) -> Vec<Rung> {
        let rungs = self.rungs.lock();
        rungs.held.iter().filter(|rung| rung.number > number).take(most).cloned().collect()
    }

    /// How many packets there were, and how many of them are not held.
    pub fn counts(&self) -> (u64, u64) {
        let rungs = self.rungs.lock();
        (rungs.held.len() as u64 + rungs.left_out, rungs.left_out)
    }
}

/// All ladders.
#[derive(Debug, Default)]
pub struct Ladders {
    /// Another one for each change; 0 as long as none runs.
    epoch: AtomicU64,
    changes: AtomicU64,
    connections: AtomicU64,
    all: RwLock<Vec<Arc<Ladder>>>,
}

/// As many ladders run as are held.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct TooManyLadders;

impl Ladders {
    /// Begins one; an ended one makes room if it has to.
    pub fn begin(
        &self,
        whom: Whom,
        (now, time): (Time, Duration),
        payloads: bool,
        by: Arc<str>,
    ) -> Result<Arc<Ladder>, TooManyLadders> {
        let mut all = self.all.write();
        if all.len() >= MOST {
            let ended = all.iter().position(|ladder| !ladder.is_running(now)).ok_or(TooManyLadders)?;
            all.remove(ended);
        }
        let number = self.changes.fetch_add(1, Ordering::Relaxed) + 1;
        let ends = AtomicU64::new((now + time.min(LONGEST)).as_micros());
        let ladder = Arc::new(Ladder { number, whom, payloads, by, began: now, ends, rungs: Mutex::default() });
        all.push(Arc::clone(&ladder));
        self.epoch.store(number, Ordering::Release);
        Ok(ladder)
    }

    /// Ends one now; `None` if there is none of this number.
    pub fn end(&self, number: u64, now: Time) -> Option<Arc<Ladder>> {
        let ladder = self.get(number)?;
        ladder.ends.fetch_min(now.as_micros(), Ordering::Relaxed);
        self.keep_time(now);
        Some(ladder)
    }

    /// Nobody pays for ladders that have ended: to be called once a second.
    pub fn keep_time(&self, now: Time) {
        let all = self.all.read();
        if self.epoch.load(Ordering::Relaxed) != 0 && all.iter().all(|ladder| !ladder.is_running(now)) {
            self.epoch.store(0, Ordering::Release);
        }
    }

    /// The ladder of this number.
    pub fn get(&self, number: u64) -> Option<Arc<Ladder>> {
        self.all.read().iter().find(|ladder| ladder.number == number).cloned()
    }

    /// All, the newest first.
    pub fn list(&self) -> Vec<Arc<Ladder>> {
        self.all.read().iter().rev().cloned().collect()
    }

    /// Changes when another one begins; 0 while none runs.
    pub fn epoch(&self) -> u64 {
        self.epoch.load(Ordering::Acquire)
    }

    /// A number for a connection.
    pub fn connection(&self) -> u64 {
        self.connections.fetch_add(1, Ordering::Relaxed) + 1
    }

    /// Those that run now and are about somebody.
    pub fn of(&self, party: &Party, now: Time) -> Vec<Arc<Ladder>> {
        let all = self.all.read();
        all.iter().filter(|ladder| ladder.is_running(now) && ladder.whom.is(party)).cloned().collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn party(identity: &str) -> Arc<Party> {
        let address = ([192, 0, 2, 7], 5_000).into();
        Arc::new(Party { connection: 1, address, client_id: "weir-1".into(), identity: identity.into() })
    }

    fn ping(second: u64) -> Passed {
        Passed {
            at: Time::from_micros(second * 1_000_000),
            sent: false,
            version: ProtocolVersion::V5,
            packet: PacketType::PingReq,
            bytes: Bytes::from_static(&[0xc0, 0]),
            size: 2,
        }
    }

    #[test]
    fn a_ladder_is_about_somebody_and_ends_by_itself() {
        let ladders = Ladders::default();
        let at = |second: u64| Time::from_micros(second * 1_000_000);
        assert_eq!(ladders.epoch(), 0);
        let whom = Whom::Identity("weir".into());
        let ladder = ladders.begin(whom, (at(10), Duration::from_secs(30)), false, "duty".into()).expect("room");
        assert_ne!(ladders.epoch(), 0);
        assert_eq!(ladders.of(&party("weir"), at(11)).len(), 1);
        assert!(ladders.of(&party("mill"), at(11)).is_empty() && ladders.of(&party("weir"), at(40)).is_empty());
        ladders.keep_time(at(41));
        assert_eq!(ladders.epoch(), 0);
        assert!(Whom::Address("192.0.2.7".parse().expect("an address")).is(&party("")));
        for _ in 1..MOST {
            ladders.begin(ladder.whom.clone(), (at(50), LONGEST), false, "duty".into()).expect("room");
        }
        // The ended one makes room, the running ones do not.
        assert!(ladders.begin(ladder.whom.clone(), (at(50), LONGEST), false, "duty".into()).is_ok());
        assert!(ladders.begin(ladder.whom.clone(), (at(50), LONGEST), false, "duty".into()).is_err());
        assert!(ladders.get(ladder.number).is_none());
    }

    #[test]
    fn no_more_is_held_than_there_is_room_for() {
        let ladders = Ladders::default();
        let whom = Whom::Session("weir-1".into());
        let ladder = ladders.begin(whom, (Time::default(), LONGEST), false, "duty".into()).expect("room");
        (0..3_000).for_each(|_| ladder.add(&party("weir"), ping(1)));
        assert_eq!(ladder.counts(), (3_000, 1_000), "so many in a second");
        (0..4_000).for_each(|number| ladder.add(&party("weir"), ping(2 + number / 1_000)));
        let (all, left_out) = ladder.counts();
        assert_eq!((all, left_out, ladder.after(0, usize::MAX).len()), (7_000, 2_000, 5_000));
        assert_eq!(ladder.after(5_990, 3).iter().map(|rung| rung.number).collect::<Vec<_>>(), [5_991, 5_992, 5_993]);
    }
}
