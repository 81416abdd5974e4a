//! What belongs to the process, whatever brokers it holds: its clock, its end, its tasks, its database.

use std::sync::Arc;

use moorfall_store::Database;
use tokio_util::{sync::CancellationToken, task::TaskTracker};

use crate::clock::Clock;

/// What all of the process share.
#[derive(Debug)]
pub(crate) struct Common {
    pub(crate) clock: Clock,
    /// Cancelled when the process is to stop.
    pub(crate) stopping: CancellationToken,
    /// Connections and everything that goes on beside them.
    pub(crate) tasks: TaskTracker,
    pub(crate) database: Arc<Database>,
}

impl Common {
    pub(crate) fn new(clock: Clock, database: Arc<Database>) -> Self {
        Self { clock, stopping: CancellationToken::new(), tasks: TaskTracker::new(), database }
    }
}
