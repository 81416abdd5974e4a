//! A design that is to be applied, and what was found out about it.

use std::{fmt, sync::Arc};

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
    pub fn is_ready(&self) -> bool {
        self.policy.is_some() && self.proofs.iter().all(|proof| proof.holds)
    }
}

impl fmt::Display for Checked {
    /// What keeps it from being applied, a line each.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let faults = self.findings.iter().filter(|_| self.policy.is_none()).map(ToString::to_string);
        let proofs = self.proofs.iter().filter(|proof| !proof.holds).map(|proof| {
            let why = proof.fault.as_ref().map_or_else(String::new, |fault| format!(": {fault}"));
            format!("the proof {} fails{why}", proof.name)
        });
        f.write_str(&faults.chain(proofs).collect::<Vec<_>>().join("\n"))
    }
}

/// Why a design was not applied.
#[derive(Debug, thiserror::Error)]
pub enum NotApplied {
    /// It is wrong, or a proof fails.
    #[error("{0}")]
    NotReady(Box<Checked>),
    /// Another revision is in force than the one that it was made upon.
    #[error("Revision {0} is in force now.")]
    Overtaken(i64),
    /// There is no such revision.
    #[error("There is no revision {0}.")]
    Unknown(i64),
    /// The database refused it, or is away.
    #[error(transparent)]
    Store(#[from] StoreError),
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
