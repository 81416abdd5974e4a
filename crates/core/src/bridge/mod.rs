//! Bridges: what becomes of names, whether they can go round, and what passes on a link.

mod loops;
mod mapping;
mod memory;
mod passed;
pub mod relay;
mod terms;

use std::fmt;

use serde::{Deserialize, Serialize};

pub use self::{
    loops::{Cycle, Passage, Undecided, find_cycle},
    mapping::{Mapped, Mapping, MappingError},
    memory::Memory,
    passed::{PASSED, Passed, broker_named},
    terms::{CameBack, NotCarried, RemoteTerms},
};

/// Which way messages go, seen from this broker.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, strum::VariantNames)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum Direction {
    /// From here to the remote.
    Push,
    /// From the remote to here.
    Pull,
}

impl Direction {
    /// As in "is pushed".
    pub fn done(self) -> &'static str {
        match self {
            Self::Push => "pushed",
            Self::Pull => "pulled",
        }
    }
}

impl fmt::Display for Direction {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Push => "push",
            Self::Pull => "pull",
        })
    }
}
