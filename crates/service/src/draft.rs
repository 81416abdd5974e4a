//! A design that is to be applied, and what was found out about it.

use std::sync::Arc;

use moorfall_core::{
    access::Policy,
    blueprint::{Finding, ProofResult, SourceFile},
};
use moorfall_store::{Author, StoreError};

/// What a check came to.
#[derive(Debug)]
pub(crate) struct Checked {
    /// Absent when the text is not a blueprint.
    pub(crate) policy: Option<Arc<Policy>>,
    /// Errors, or warnings alone.
    pub(crate) findings: Vec<Finding>,
    pub(crate) proofs: Vec<ProofResult>,
}

impl Checked {
    /// Whether it may be applied.
    pub(crate) fn is_sound(&self) -> bool {
        self.policy.is_some() && self.proofs.iter().all(|proof| proof.holds)
    }
}

/// Why a design was not applied.
#[derive(Debug)]
pub(crate) enum NotApplied {
    /// It is wrong, or a proof fails.
    Unsound(Box<Checked>),
    /// Another revision is in force than the one that it was made upon.
    Overtaken(i64),
    /// There is no such revision.
    Unknown(i64),
    Store(StoreError),
}

impl From<StoreError> for NotApplied {
    fn from(error: StoreError) -> Self {
        Self::Store(error)
    }
}

/// What is to be applied.
pub(crate) struct Draft {
    pub(crate) files: Vec<SourceFile>,
    /// The revision that it was made upon.
    pub(crate) base: i64,
    /// What it is called in the record of changes.
    pub(crate) act: &'static str,
    pub(crate) by: Author,
    pub(crate) message: String,
}
