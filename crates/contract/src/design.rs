//! What the interface says about the design.

use moorfall_core::blueprint::{self, Finding, ProofResult, SourceFile};
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::kinds::{ChangeKind, Severity, Verdict};

pub use crate::effects::{CohortMove, Effects, LostSubscription, LostTopic};

/// One file of a blueprint.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct BlueprintFile {
    /// Its name, as findings mention it.
    pub name: String,
    /// Its text.
    pub text: String,
}

impl From<BlueprintFile> for SourceFile {
    fn from(file: BlueprintFile) -> Self {
        Self { name: file.name, text: file.text }
    }
}

impl From<&SourceFile> for BlueprintFile {
    fn from(file: &SourceFile) -> Self {
        Self { name: file.name.clone(), text: file.text.clone() }
    }
}

/// Something that is wrong with a blueprint, with its place.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FindingView {
    /// How much it matters.
    pub severity: Severity,
    /// The file's name.
    pub file: String,
    /// Line, from 1.
    pub line: u64,
    /// Column in characters, from 1.
    pub column: u64,
    /// What is wrong.
    pub message: String,
    /// What to do about it; empty if the message says it.
    pub remedy: String,
    /// The line, with a mark below the place.
    pub excerpt: String,
}

impl From<&Finding> for FindingView {
    fn from(finding: &Finding) -> Self {
        let Finding { severity, file, line, column, message, remedy, excerpt } = finding.clone();
        Self { severity: severity.into(), file, line: line as u64, column: column as u64, message, remedy, excerpt }
    }
}

/// What a proof came to.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ProofView {
    /// Its name.
    pub name: String,
    /// What it says.
    pub statement: String,
    /// Whether it holds.
    pub holds: bool,
    /// Identities that it was checked for.
    pub identities: u64,
    /// Why it does not hold, or what a person should know.
    pub explanation: String,
    /// Its file.
    pub file: String,
    /// Its line.
    pub line: u64,
}

impl From<&ProofResult> for ProofView {
    fn from(result: &ProofResult) -> Self {
        let ProofResult { name, statement, holds, identities, fault, file, line } = result.clone();
        let explanation = fault.map_or_else(String::new, |fault| fault.to_string());
        Self { name, statement, holds, identities: identities as u64, explanation, file, line: line as u64 }
    }
}

/// A change of one field.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FieldChangeView {
    /// Which field.
    pub field: String,
    /// What it said; empty if it was not there.
    pub before: String,
    /// What it says; empty if it is not there any more.
    pub after: String,
    /// Of a list that was there before and after: what is in it now, and was not.
    pub added: Vec<String>,
    /// Of a list that was there before and after: what was in it, and is not now.
    pub removed: Vec<String>,
}

/// A change of one part of the design.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ChangeView {
    /// What becomes of it.
    pub kind: ChangeKind,
    /// What it is: blueprint, level, topic, cohort, rule or proof.
    pub part: String,
    /// Its name.
    pub name: String,
    /// The fields that differ.
    pub fields: Vec<FieldChangeView>,
}

impl From<&blueprint::Change> for ChangeView {
    fn from(change: &blueprint::Change) -> Self {
        let fields = change.fields.iter().cloned();
        let fields = fields.map(|field| {
            let blueprint::FieldChange { field, before, after, added, removed } = field;
            FieldChangeView { field, before, after, added, removed }
        });
        Self {
            kind: change.kind.into(),
            part: change.part.clone(),
            name: change.name.clone(),
            fields: fields.collect(),
        }
    }
}

/// A blueprint that is not in force.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct BlueprintDraft {
    /// Its files.
    pub files: Vec<BlueprintFile>,
}

/// What a check came to.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Check {
    /// Whether it may be applied.
    pub ready: bool,
    /// Errors, or warnings alone.
    pub findings: Vec<FindingView>,
    /// All proofs.
    pub proofs: Vec<ProofView>,
}

/// What a blueprint changes, and what that does to what is live.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Comparison {
    /// The revision in force, which it is compared with.
    pub base: i64,
    /// The check of it.
    pub check: Check,
    /// What it changes; empty when it is not a blueprint.
    pub changes: Vec<ChangeView>,
    /// What applying it does.
    pub effects: Effects,
}

/// A blueprint to be applied.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Application {
    /// Its files.
    pub files: Vec<BlueprintFile>,
    /// The revision that it was made upon, which must be the one in force.
    pub base: i64,
    /// Why, in a sentence.
    #[serde(default)]
    pub message: String,
}

/// Which earlier revision is to be in force again.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Reversion {
    /// The revision in force.
    pub base: i64,
    /// Why, in a sentence.
    #[serde(default)]
    pub message: String,
}

/// One revision.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RevisionView {
    /// Its number.
    pub number: i64,
    /// Whether it is in force.
    pub in_force: bool,
    /// When it was applied.
    #[serde(with = "time::serde::rfc3339")]
    pub applied_at: OffsetDateTime,
    /// Who applied it.
    pub author: String,
    /// Why.
    pub message: String,
    /// Its files; omitted in lists.
    pub files: Vec<BlueprintFile>,
}

/// What became of one rule.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RuleVerdict {
    /// Its name.
    pub rule: String,
    /// What it does.
    pub verdict: Verdict,
    /// Whether it applies.
    pub applies: bool,
    /// Whether it decides.
    pub decides: bool,
    /// Why it does not apply; empty if it does.
    pub explanation: String,
}

/// The answer to a question about access.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AccessAnswer {
    /// Whether it may.
    pub allowed: bool,
    /// The verdict and its reason.
    pub explanation: String,
    /// The highest QoS that a subscription is granted.
    pub highest_qos: u8,
    /// The identity's cohorts.
    pub cohorts: Vec<String>,
    /// Every rule, in the order of the blueprint.
    pub rules: Vec<RuleVerdict>,
}

/// What someone may do with a planned topic.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Right {
    /// All of its topics.
    All,
    /// Some of them.
    Some,
    /// None.
    None,
}

/// What someone may do with one planned topic.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Rights {
    /// Publishing.
    pub publish: Right,
    /// Subscribing.
    pub subscribe: Right,
}

/// Rights of one identity, or of one cohort.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MatrixRow {
    /// The name.
    pub name: String,
    /// How many identities it stands for.
    pub identities: u64,
    /// For each planned topic: publishing, and subscribing. Of a cohort, what all of its identities may; `some` if they
    /// differ.
    pub rights: Vec<Rights>,
}

/// Who may publish and subscribe to which planned topics.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Matrix {
    /// The planned topics.
    pub topics: Vec<String>,
    /// Identities or cohorts.
    pub rows: Vec<MatrixRow>,
    /// How many there are, listed or not.
    pub total: u64,
}
