//! What belongs to the process, whatever brokers it holds: its clock, its end, its tasks, its database.

use std::sync::Arc;

use moorfall_store::Database;
use tokio_util::{sync::CancellationToken, task::TaskTracker};

use crate::clock::Clock;

/// What all of the process share.
#[derive(Debug)]
pub struct Common {
    /// The one clock.
    pub clock: Clock,
    /// Cancelled when the process is to stop.
    pub stopping: CancellationToken,
    /// Connections and everything that goes on beside them.
    pub tasks: TaskTracker,
    /// The records and how they are.
    pub database: Arc<Database>,
}

impl Common {
    /// Shared by what is started next.
    pub fn new(clock: Clock, database: Arc<Database>) -> Self {
        Self { clock, stopping: CancellationToken::new(), tasks: TaskTracker::new(), database }
    }
}
