//! What went wrong with a call.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What went wrong with a call.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// The HTTP status.
    pub status: u16,
    /// What is wrong, in a few explanation that never change for one cause.
    pub title: String,
    /// What happened, to which thing, and what to do next.
    pub detail: String,
}
