//! A design that is to be applied, and what was found out about it.

use std::sync::Arc;

use moorfall_core::{
    access::Policy,
    blueprint::{Finding, ProofResult, SourceFile},
};
use moorfall_store::{Author, StoreError};

/// What a check came to.
#[derive(Debug)]
pub struct Checked {
    /// Absent when the text is not a blueprint.
    pub policy: Option<Arc<Policy>>,
    /// Errors, or warnings alone.
    pub findings: Vec<Finding>,
    /// What became of each proof.
    pub proofs: Vec<ProofResult>,
}

impl Checked {
    /// Whether it may be applied.
    pub fn is_sound(&self) -> bool {
        self.policy.is_some() && self.proofs.iter().all(|proof| proof.holds)
    }
}

/// Why a design was not applied.
#[derive(Debug)]
pub enum NotApplied {
    /// It is wrong, or a proof fails.
    Unsound(Box<Checked>),
    /// Another revision is in force than the one that it was made upon.
    Overtaken(i64),
    /// There is no such revision.
    Unknown(i64),
    /// The database refused it, or is away.
    Store(StoreError),
}

impl From<StoreError> for NotApplied {
    fn from(error: StoreError) -> Self {
        Self::Store(error)
    }
}

/// What is to be applied.
pub struct Draft {
    /// Its texts.
    pub files: Vec<SourceFile>,
    /// The revision that it was made upon.
    pub base: i64,
    /// What it is called in the record of changes.
    pub act: &'static str,
    /// Who applies it.
    pub by: Author,
    /// What is said of it in the list of revisions.
    pub message: String,
}
