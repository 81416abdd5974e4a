//! How the links of bridges are, told by who looks after them.

use std::{collections::BTreeMap, time::Duration};

use parking_lot::Mutex;

/// How one link is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum LinkPhase {
    /// It is up.
    Up,
    /// It is down, though the bridge was not told to rest.
    Down,
    /// The bridge was told to rest.
    #[default]
    Rests,
}

/// What is known of one bridge.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct LinkFigures {
    /// How its link is.
    pub state: LinkPhase,
    /// Messages that wait for it.
    pub waiting: u64,
    /// Their bytes.
    pub bytes: u64,
    /// How long the one has waited that waits longest.
    pub oldest: Duration,
}

/// Sums over all bridges.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct LinkSums {
    /// Bridges whose link is up.
    pub up: u64,
    /// Bridges whose link is down though they were not told to rest.
    pub down: u64,
    /// Messages that wait for them.
    pub waiting: u64,
    /// Their bytes.
    pub bytes: u64,
    /// How long the one has waited that waits longest.
    pub oldest: Duration,
}

/// The newest figures of each bridge, by name.
#[derive(Debug, Default)]
pub struct Links(Mutex<BTreeMap<String, LinkFigures>>);

impl Links {
    /// These are the newest.
    pub fn set(&self, all: BTreeMap<String, LinkFigures>) {
        *self.0.lock() = all;
    }

    /// Of one bridge, if there is one of this name.
    pub fn of(&self, name: &str) -> Option<LinkFigures> {
        self.0.lock().get(name).copied()
    }

    /// Of all together.
    pub fn sums(&self) -> LinkSums {
        self.0.lock().values().fold(LinkSums::default(), |sums, link| LinkSums {
            up: sums.up + u64::from(link.state == LinkPhase::Up),
            down: sums.down + u64::from(link.state == LinkPhase::Down),
            waiting: sums.waiting + link.waiting,
            bytes: sums.bytes + link.bytes,
            oldest: sums.oldest.max(link.oldest),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn links_are_known_by_name_and_summed_up() {
        let links = Links::default();
        assert_eq!(links.sums(), LinkSums::default());
        let of = |state, waiting, oldest| LinkFigures {
            state,
            waiting,
            bytes: waiting * 100,
            oldest: Duration::from_secs(oldest),
        };
        let all = [
            ("tideway", of(LinkPhase::Down, 3, 70)),
            ("works", of(LinkPhase::Up, 1, 2)),
            ("mill", of(LinkPhase::Rests, 5, 40)),
        ];
        links.set(all.into_iter().map(|(name, link)| (name.to_owned(), link)).collect());
        assert_eq!(
            links.sums(),
            // One that rests is neither up nor down.
            LinkSums { up: 1, down: 1, waiting: 9, bytes: 900, oldest: Duration::from_secs(70) }
        );
        assert_eq!(links.of("works").map(|link| (link.state, link.waiting)), Some((LinkPhase::Up, 1)));
        assert_eq!(links.of("barrier"), None);
        links.set(BTreeMap::new());
        assert_eq!((links.sums(), links.of("works")), (LinkSums::default(), None), "what is gone is gone");
    }
}
