//! What happened now and then.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::kinds::EventKind;

/// Something that happened.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct EventView {
    /// Its place in the order of events.
    pub id: i64,
    /// When it happened.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// What.
    pub kind: EventKind,
    /// Whom it is about; empty if nobody who is known.
    pub identity: String,
    /// The client identifier; empty if it is about none.
    pub client_id: String,
    /// From which address; empty if from none.
    pub address: String,
    /// A topic, filter, listener or name that it is about; empty if none.
    pub subject: String,
    /// How and why, in a sentence.
    pub explanation: String,
    /// How often: more than once for those that were too many to list each.
    pub count: u64,
}
