//! How another design takes the place of the one in force, and what that does to what is live.

use std::{
    sync::{Arc, atomic::Ordering},
    time::{Duration, Instant},
};

use moorfall_contract::effects::Effects;
use moorfall_core::{
    ADMINISTRATOR,
    access::Policy,
    blueprint::{Blueprint, Change, Population, Source, SourceFile, bridge_rights, diff, prove_within},
};
use moorfall_live::facts::Fact;
use moorfall_store::{Author, Deed, RevisionRecord, StoreError};
use serde_json::json;

use crate::{
    broker::Broker,
    design::{
        draft::{Checked, Draft, NotApplied},
        in_force::InForce,
    },
    identity::authenticator::own,
    notes,
};

/// How long the proofs of one check may take; those that are not decided by then do not hold.
const LONGEST_CHECK: Duration = Duration::from_secs(20);

impl Broker {
    /// Checks a design against the identities that there are.
    pub fn check_design(&self, files: Vec<SourceFile>) -> Checked {
        match Blueprint::read(Source::new(files)) {
            Err(findings) => Checked { policy: None, findings, proofs: Vec::new() },
            Ok(blueprint) => {
                let mut findings = blueprint.lint();
                let policy = Arc::new(Policy::new(Arc::new(blueprint)));
                findings.extend(bridge_rights(&policy));
                let known = self.identities.directory.identities();
                // Bridges are those of the draft.
                let identities = known.into_iter().map(|one| (Arc::clone(&one.name), one)).collect();
                let tied = self.identities.directory.tied();
                let began = Instant::now();
                let is_over = || began.elapsed() > LONGEST_CHECK || self.common.stopping.is_cancelled();
                let proofs =
                    prove_within(&policy, Population { identities: &identities, tied: &tied, is_over: &is_over });
                Checked { policy: Some(policy), findings, proofs }
            }
        }
    }

    /// The same away from the connection tasks: with many identities it takes a while.
    pub async fn check_apart(self: &Arc<Self>, files: Vec<SourceFile>) -> Checked {
        let broker = Arc::clone(self);
        let checked = tokio::task::spawn_blocking(move || broker.check_design(files)).await;
        checked.expect("checking does not panic, and is not cancelled")
    }

    /// What a checked design changes of the one in force, and what that does to what is live.
    pub fn compare_design(&self, policy: &Arc<Policy>) -> (Vec<Change>, Effects) {
        let in_force = self.design.in_force();
        let changes = diff(in_force.policy.blueprint(), policy.blueprint());
        (changes, self.effects(&in_force.policy, policy))
    }

    /// Puts a design in force. With `despite_proofs` failing proofs are told in the log instead: at a start, before
    /// there are identities.
    pub async fn apply_design(
        self: &Arc<Self>,
        draft: Draft,
        despite_proofs: bool,
    ) -> Result<RevisionRecord, NotApplied> {
        let _one_at_a_time = self.design.applying.lock().await;
        let revision = self.design.in_force.load().revision;
        if draft.base != revision {
            return Err(NotApplied::Overtaken(revision));
        }
        let checked = self.check_apart(draft.files.clone()).await;
        let Some(policy) = checked.policy.clone().filter(|_| despite_proofs || checked.is_ready()) else {
            return Err(NotApplied::NotReady(Box::new(checked)));
        };
        for proof in checked.proofs.iter().filter(|proof| !proof.holds) {
            tracing::warn!(proof = proof.name, why = %proof.fault.as_ref().map_or_else(String::new, ToString::to_string), "proof does not hold");
        }
        let Draft { files, base, act, by, message } = draft;
        let deed = |record: &RevisionRecord| Deed {
            before: Some(json!({ "revision": base })),
            after: Some(json!({ "revision": record.number, "message": record.message })),
            ..Deed::new(act, "design", record.number.to_string())
        };
        let added = self.design.store.add_revision(base, &message, &files, &by, deed).await?;
        let Some(record) = added else {
            // Another service on the same database.
            let current = self.design.store.current_revision().await?.map_or(0, |record| record.number);
            return Err(NotApplied::Overtaken(current));
        };
        self.design.in_force.store(Arc::new(InForce { revision: record.number, policy }));
        self.design.start_differs.store(false, Ordering::Relaxed);
        self.live.drifts.clear();
        self.sessions.rebind(|_| true);
        self.sessions.set_owned(self.design.policy().blueprint());
        let applied = Fact::BlueprintApplied {
            revision: record.number,
            by: record.author.as_str().into(),
            message: record.message.clone(),
        };
        notes::note(&self.live, self.now(), &applied);
        Ok(record)
    }

    /// The blueprint that the service was started with becomes the first revision. When there is one already it stays:
    /// a difference is told as a warning.
    pub async fn start_design(self: &Arc<Self>, files: Vec<SourceFile>) -> Result<(), StoreError> {
        if self.design.in_force().revision > 0 {
            let differs = *self.design.policy().blueprint().source.files() != *Source::new(files).files();
            self.design.start_differs.store(differs, Ordering::Relaxed);
            return Ok(());
        }
        let message = "The blueprint that the service was started with".to_owned();
        let draft = Draft { files, base: 0, act: "apply", by: own(ADMINISTRATOR), message };
        match self.apply_design(draft, true).await {
            Ok(_) => Ok(()),
            Err(NotApplied::Store(error)) => Err(error),
            // Its faults were found before; another service was quicker.
            Err(_) => Ok(()),
        }
    }

    /// Applies a blueprint unless it is in force already.
    pub async fn apply_if_other(
        self: &Arc<Self>,
        files: Vec<SourceFile>,
        author: &str,
        message: &str,
    ) -> Result<(), NotApplied> {
        let in_force = self.design.in_force();
        if *in_force.policy.blueprint().source.files() == *Source::new(files.clone()).files() {
            return Ok(());
        }
        let (base, message) = (in_force.revision, message.to_owned());
        self.apply_design(Draft { files, base, act: "apply", by: own(author), message }, false).await.map(drop)
    }

    /// Puts an earlier revision in force again, as a new one.
    pub async fn revert_design(
        self: &Arc<Self>,
        number: i64,
        base: i64,
        by: Author,
        message: String,
    ) -> Result<RevisionRecord, NotApplied> {
        let Some(record) = self.design.store.revision(number).await? else { return Err(NotApplied::Unknown(number)) };
        let message = if message.is_empty() { format!("Revert to revision {number}") } else { message };
        self.apply_design(Draft { files: record.files.0, base, act: "revert", by, message }, false).await
    }
}
