//! Who runs the broker, and what was changed.

use serde::{Deserialize, Serialize};
use serde_json::Value;
use time::OffsetDateTime;
use utoipa::ToSchema;

/// What a person may do; each may do what those before may.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Role {
    /// Look at everything.
    Watch,
    /// End sessions, make and change identities.
    Operate,
    /// Change the design.
    Design,
    /// Say who may run the broker.
    Own,
}

impl Role {
    /// As it is stored.
    pub fn parse(text: &str) -> Option<Self> {
        serde_json::from_value(Value::String(text.to_owned())).ok()
    }

    /// As it is stored and typed.
    pub fn name(self) -> &'static str {
        match self {
            Self::Watch => "watch",
            Self::Operate => "operate",
            Self::Design => "design",
            Self::Own => "own",
        }
    }
}

/// Who is signed in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Me {
    /// The name.
    pub name: String,
    /// What they may do.
    pub role: Role,
}

/// A person who may run the broker.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct PersonView {
    /// The name.
    pub name: String,
    /// What they may do.
    pub role: Role,
    /// When they were made.
    #[serde(with = "time::serde::rfc3339")]
    pub created_at: OffsetDateTime,
    /// When they were last changed.
    #[serde(with = "time::serde::rfc3339")]
    pub changed_at: OffsetDateTime,
}

/// A change that was made.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct AuditView {
    /// Its place in the order of changes.
    pub id: i64,
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// Who.
    pub person: String,
    /// From which address.
    pub address: String,
    /// What was done.
    pub act: String,
    /// To what kind of thing.
    pub kind: String,
    /// To which.
    pub name: String,
    /// How it was; null if it was not there.
    pub before: Option<Value>,
    /// How it is; null if it is gone.
    pub after: Option<Value>,
}

/// A sign-in by a program.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct Token {
    /// To be sent as a bearer token.
    pub token: String,
    /// Seconds that it is good for.
    pub seconds: i64,
}
