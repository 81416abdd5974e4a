//! What outlives the process: records in PostgreSQL, and the private PostgreSQL cluster that keeps them.

mod cluster;
mod console_sessions;
mod database;
mod identities;
mod samples;

pub use cluster::{ClusterError, PrivateCluster};
pub use database::{Store, StoreError};
pub use identities::IdentityRecord;
pub use samples::{Resolution, Sample};
