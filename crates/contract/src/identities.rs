//! Identities and what they sign in with.

use std::collections::BTreeMap;

use moorfall_core::AttributeValue;
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

/// An identity as it is to be.
#[derive(Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct IdentityDraft {
    /// What the access rules know of it: text, number or truth by name.
    #[serde(default)]
    #[schema(value_type = BTreeMap<String, serde_json::Value>)]
    pub attributes: BTreeMap<String, AttributeValue>,
    /// A new password; omit it to keep the earlier one.
    #[serde(default)]
    pub password: Option<String>,
    /// Whether the broker makes a new secret, which takes the password's place and is shown once, in the answer. It has
    /// 160 bits and is verified in microseconds.
    #[serde(default)]
    pub generate: bool,
    /// Whether it may connect.
    #[serde(default = "yes")]
    #[schema(default = true)]
    pub enabled: bool,
    /// A note for people.
    #[serde(default)]
    pub note: String,
    /// The only client identifier that it may use; any if omitted.
    #[serde(default)]
    pub client_id: Option<String>,
    /// What its client certificates are known by: `subject:…` (RFC 4514), `dns:…`, `email:…`, `uri:…`, `ip:…` or
    /// `sha256:…`. Left out, earlier ones stay.
    #[serde(default)]
    pub certificates: Option<Vec<String>>,
}

fn yes() -> bool {
    true
}

impl std::fmt::Debug for IdentityDraft {
    /// Leaves the password out.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("IdentityDraft")
            .field("attributes", &self.attributes)
            .field("enabled", &self.enabled)
            .finish_non_exhaustive()
    }
}

/// One identity of an import.
#[derive(Clone, Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct IdentityImport {
    /// The name.
    pub name: String,
    /// What the access rules know of it: text, number or truth by name.
    #[serde(default)]
    #[schema(value_type = BTreeMap<String, serde_json::Value>)]
    pub attributes: BTreeMap<String, AttributeValue>,
    /// Whether it may connect.
    #[serde(default = "yes")]
    #[schema(default = true)]
    pub enabled: bool,
    /// A note for people.
    #[serde(default)]
    pub note: String,
    /// The only client identifier that it may use; any if omitted.
    #[serde(default)]
    pub client_id: Option<String>,
    /// What its client certificates are known by; omit it to keep the earlier ones.
    #[serde(default)]
    pub certificates: Option<Vec<String>>,
    /// An Argon2id hash in PHC form; omit it to keep the earlier password.
    #[serde(default)]
    pub password_hash: Option<String>,
    /// Whether the broker makes a new secret in place of the password; the answer holds it, this once.
    #[serde(default)]
    pub generate: bool,
}

/// What an import does to one identity.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ImportEffect {
    /// There was none of this name.
    Made,
    /// It differs.
    Changed,
    /// It is so already.
    Unchanged,
}

/// An identity as it may be shown: no credential, only whether there is one.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct IdentityView {
    /// The name.
    pub name: String,
    /// What the access rules know of it.
    #[schema(value_type = BTreeMap<String, serde_json::Value>)]
    pub attributes: BTreeMap<String, AttributeValue>,
    /// Whether it has a password.
    pub has_password: bool,
    /// Whether it may connect.
    pub enabled: bool,
    /// A note for people.
    pub note: String,
    /// The only client identifier that it may use; any if null.
    #[serde(default)]
    pub client_id: Option<String>,
    /// What its client certificates are known by.
    #[serde(default)]
    pub certificates: Vec<String>,
    /// When it was made.
    #[serde(with = "time::serde::rfc3339")]
    pub created_at: OffsetDateTime,
    /// When it was last changed.
    #[serde(with = "time::serde::rfc3339")]
    pub changed_at: OffsetDateTime,
}

/// An identity as it is now.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct IdentityPut {
    /// It.
    #[serde(flatten)]
    pub identity: IdentityView,
    /// The secret that was made for it, if one was to be. It is shown this once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(nullable = false)]
    pub secret: Option<String>,
}

/// A secret that was made.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct MadeSecret {
    /// Whose it is.
    pub name: String,
    /// What it signs in with. It is shown this once.
    pub secret: String,
}

/// What is wrong with one identity of an import.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ImportFault {
    /// Its place, from 0.
    pub place: u64,
    /// What is wrong.
    pub explanation: String,
}

/// What an import did, or would do. With faults nothing is done.
#[derive(Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct ImportResult {
    /// Identities that are new.
    pub made: u64,
    /// Those that differ from before.
    pub changed: u64,
    /// Those that are as before.
    pub unchanged: u64,
    /// What is wrong.
    pub faults: Vec<ImportFault>,
    /// Secrets that were made.
    #[serde(default)]
    pub secrets: Vec<MadeSecret>,
}

/// A token as it may be shown.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TokenView {
    /// What it is called.
    pub name: String,
    /// When it was made.
    #[serde(with = "time::serde::rfc3339")]
    pub created_at: OffsetDateTime,
    /// When it ends.
    #[serde(with = "time::serde::rfc3339")]
    pub expires_at: OffsetDateTime,
}

/// A token that was made. It is shown this once.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct NewToken {
    /// What the identity signs in with, in place of a password.
    pub token: String,
    /// When it ends.
    #[serde(with = "time::serde::rfc3339")]
    pub expires_at: OffsetDateTime,
}

/// An authority that signs client certificates.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AuthorityView {
    /// What it is called.
    pub name: String,
    /// The subject of its first certificate (RFC 4514).
    pub subject: String,
    /// The SHA-256 fingerprint of its first certificate, in hexadecimal digits.
    pub fingerprint: String,
    /// How many certificates it has.
    pub certificates: u64,
    /// When the first of them to end ends.
    #[serde(with = "time::serde::rfc3339")]
    pub ends: OffsetDateTime,
    /// When it was added.
    #[serde(with = "time::serde::rfc3339")]
    pub added_at: OffsetDateTime,
}
