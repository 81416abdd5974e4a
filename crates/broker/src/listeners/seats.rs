//! Who may sit down: connections at a time, in all and of one listener, how often one address begins them, how many of
//! one address have not said who they are, and what all that are not accepted hold together.

use std::{
    net::IpAddr,
    sync::{
        Arc,
        atomic::{AtomicU64, AtomicUsize, Ordering},
    },
};

use moorfall_core::{Limits, Time, session::NotAccepted};

use crate::listeners::{
    gatekeeper::{Gatekeeper, Held, PerAddress, neighbourhood},
    listener::Listener,
};

/// Connections that may be told at a time that there is no room for them.
const TOLD: usize = 64;

/// What each connection may hold of its first packet without its being counted, bytes.
const FREE: usize = 4 * 1024;

/// Why somebody gets no seat. The numbers are the bounds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TurnedAway {
    /// All seats are taken.
    Full(usize),
    /// Its address begins too many connections.
    TooFast(u32),
    /// Too many connections of its address have not sent CONNECT.
    TooManyConnecting(usize),
}

impl From<TurnedAway> for NotAccepted {
    fn from(turned_away: TurnedAway) -> Self {
        match turned_away {
            TurnedAway::Full(most) => Self::Connections(most),
            TurnedAway::TooFast(most) => Self::ConnectRate(most),
            TurnedAway::TooManyConnecting(most) => Self::Connecting(most),
        }
    }
}

/// All seats.
#[derive(Debug)]
pub struct Seats {
    limits: Arc<Limits>,
    taken: AtomicUsize,
    told: AtomicUsize,
    gatekeeper: Gatekeeper,
    connecting: Arc<PerAddress>,
    /// What connections that are not accepted hold beyond what is free, bytes.
    held: AtomicUsize,
    full: AtomicU64,
    no_memory: AtomicU64,
}

/// What was turned away since the start, by what bounds it.
#[derive(Clone, Copy, Debug, Default)]
pub struct TurnedAwayCounts {
    /// More than all listeners take, or one.
    pub connections: u64,
    /// Too many a second of one address.
    pub connects_per_second: u64,
    /// Too many of one address that have not sent CONNECT.
    pub connecting_per_address: u64,
    /// Too much memory of those that have not sent CONNECT.
    pub connecting_bytes: u64,
}

/// One seat; it is given back on drop.
#[derive(Debug)]
pub struct Seat {
    seats: Arc<Seats>,
    listener: Arc<Listener>,
    /// Present for one who gets none: it is told so, and goes.
    pub refusal: Option<TurnedAway>,
    connecting: Option<Held>,
    held: usize,
}

impl Seats {
    /// None is taken; `limits` are those of the service.
    pub fn new(limits: Arc<Limits>) -> Self {
        Self {
            limits,
            taken: AtomicUsize::new(0),
            told: AtomicUsize::new(0),
            gatekeeper: Gatekeeper::default(),
            connecting: Arc::default(),
            held: AtomicUsize::new(0),
            full: AtomicU64::new(0),
            no_memory: AtomicU64::new(0),
        }
    }

    /// Seats that are taken.
    pub fn taken(&self) -> usize {
        self.taken.load(Ordering::Relaxed)
    }

    /// What was turned away since the start.
    pub fn turned_away(&self) -> TurnedAwayCounts {
        TurnedAwayCounts {
            connections: self.full.load(Ordering::Relaxed),
            connects_per_second: self.gatekeeper.turned_away(),
            connecting_per_address: self.connecting.turned_away(),
            connecting_bytes: self.no_memory.load(Ordering::Relaxed),
        }
    }

    /// A seat for a connection that was just accepted, or one for telling it that there is none; an error if not even
    /// that.
    pub fn take(self: &Arc<Self>, listener: &Arc<Listener>, address: IpAddr, now: Time) -> Result<Seat, TurnedAway> {
        let limits = &listener.limits;
        let refusal = if self.gatekeeper.may_connect(address, now, limits) {
            match self.connecting.take(neighbourhood(address), limits.connecting_per_address, usize::MAX) {
                None => TurnedAway::TooManyConnecting(limits.connecting_per_address),
                connecting => match self.sit(listener) {
                    Ok(mut seat) => {
                        seat.connecting = connecting;
                        return Ok(seat);
                    }
                    Err(full) => full,
                },
            }
        } else {
            TurnedAway::TooFast(limits.connects_per_second)
        };
        if !add_up_to(&self.told, TOLD) {
            return Err(refusal);
        }
        let (seats, listener) = (Arc::clone(self), Arc::clone(listener));
        Ok(Seat { seats, listener, refusal: Some(refusal), connecting: None, held: 0 })
    }

    /// A seat for a client inside: its address is nobody's to count.
    pub fn sit(self: &Arc<Self>, listener: &Arc<Listener>) -> Result<Seat, TurnedAway> {
        let most = listener.limits.connections;
        if add_up_to(&self.taken, self.limits.connections) {
            if add_up_to(&listener.connections, most) {
                let (seats, listener) = (Arc::clone(self), Arc::clone(listener));
                return Ok(Seat { seats, listener, refusal: None, connecting: None, held: 0 });
            }
            self.taken.fetch_sub(1, Ordering::Relaxed);
        }
        self.full.fetch_add(1, Ordering::Relaxed);
        Err(TurnedAway::Full(most.min(self.limits.connections)))
    }
}

fn add_up_to(count: &AtomicUsize, most: usize) -> bool {
    count.fetch_update(Ordering::Relaxed, Ordering::Relaxed, |count| (count < most).then_some(count + 1)).is_ok()
}

impl Seat {
    /// The client has sent CONNECT.
    pub fn has_said_connect(&mut self) {
        self.connecting = None;
    }

    /// Counts what a connection that is not accepted holds; gives whether it may hold so much.
    pub fn hold(&mut self, bytes: usize) -> bool {
        let wanted = bytes.saturating_sub(FREE);
        let most = self.seats.limits.connecting_bytes;
        if wanted <= self.held {
            self.seats.held.fetch_sub(self.held - wanted, Ordering::Relaxed);
            self.held = wanted;
            return true;
        }
        let more = wanted - self.held;
        let add = |held: usize| held.checked_add(more).filter(|held| *held <= most);
        let may = self.seats.held.fetch_update(Ordering::Relaxed, Ordering::Relaxed, add).is_ok();
        if may {
            self.held = wanted;
        } else {
            self.seats.no_memory.fetch_add(1, Ordering::Relaxed);
        }
        may
    }
}

impl Drop for Seat {
    fn drop(&mut self) {
        self.hold(0);
        if self.refusal.is_some() {
            self.seats.told.fetch_sub(1, Ordering::Relaxed);
        } else {
            self.seats.taken.fetch_sub(1, Ordering::Relaxed);
            self.listener.connections.fetch_sub(1, Ordering::Relaxed);
        }
    }
}
