//! The design in force: which revision it is, and what it was made into.

use std::sync::{Arc, atomic::AtomicBool};

use arc_swap::ArcSwap;
use moorfall_core::{
    access::Policy,
    blueprint::{Blueprint, Source},
};
use moorfall_store::{RevisionRecord, Store, StoreError};
use tokio::sync::Mutex;

/// The design in force.
#[derive(Debug)]
pub struct InForce {
    /// Its number; 0 when there never was one.
    pub revision: i64,
    /// What it was made into.
    pub policy: Arc<Policy>,
}

/// The designs of the broker.
#[derive(Debug)]
pub struct Design {
    /// Where revisions are kept.
    pub store: Store,
    /// The one in force.
    pub in_force: ArcSwap<InForce>,
    /// One at a time.
    pub applying: Mutex<()>,
    /// Whether the service was started with another blueprint than the one in force.
    pub start_differs: AtomicBool,
}

impl Design {
    /// The newest revision. One that can't be read any more, after a change of the program, is told and left out:
    /// nothing is allowed then.
    pub async fn load(store: Store) -> Result<Self, StoreError> {
        let in_force = match store.current_revision().await? {
            None => InForce { revision: 0, policy: Arc::default() },
            Some(record) => InForce { revision: record.number, policy: read_stored(record) },
        };
        Ok(Self {
            store,
            in_force: ArcSwap::from_pointee(in_force),
            applying: Mutex::new(()),
            start_differs: AtomicBool::new(false),
        })
    }

    /// The design in force and its number.
    pub fn in_force(&self) -> Arc<InForce> {
        self.in_force.load_full()
    }

    /// The rules and the plan in force.
    pub fn policy(&self) -> Arc<Policy> {
        Arc::clone(&self.in_force.load().policy)
    }
}

fn read_stored(record: RevisionRecord) -> Arc<Policy> {
    match Blueprint::read(Source::new(record.files.0)) {
        Ok(blueprint) => Arc::new(Policy::new(Arc::new(blueprint))),
        Err(findings) => {
            let first = findings.first().map(ToString::to_string).unwrap_or_default();
            tracing::error!(
                revision = record.number,
                "the stored blueprint can't be read, so nothing is allowed: {first}"
            );
            Arc::default()
        }
    }
}
