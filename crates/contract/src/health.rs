//! Whether the service is well, for whatever watches over it.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Whether the service can do its work.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Readiness {
    /// Whether clients can be sent here.
    pub ready: bool,
    /// Why not, or what is wrong that does not keep clients out.
    pub reasons: Vec<Reason>,
}

/// Something that is wrong.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Reason {
    /// What.
    pub kind: ReasonKind,
    /// What that means and what to do, in sentences.
    pub explanation: String,
}

/// What can be wrong.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum ReasonKind {
    /// The service stops.
    Stopping,
    /// The database is away: what must survive waits, and so do acknowledgements.
    DatabaseAway,
    /// No connection can be accepted: as many as may be are there.
    ConnectionsFull,
}
