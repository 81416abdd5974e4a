//! Why the service did not start.

use std::path::PathBuf;

use moorfall_broker::listeners::{bind::ListenError, doors::DoorError};
use moorfall_store::{ClusterError, StoreError};

use crate::{data_folder::DataFolderError, rights::RightsError, settings::ReadingsError};

/// Why the service did not start. Nothing is left running.
#[derive(Debug, thiserror::Error)]
pub enum StartError {
    /// The rights of root can't be given up.
    #[error(transparent)]
    Rights(#[from] RightsError),
    /// The data folder.
    #[error(transparent)]
    DataFolder(#[from] DataFolderError),
    /// There is no place to listen.
    #[error(transparent)]
    Listen(#[from] ListenError),
    /// The private database cluster.
    #[error(transparent)]
    Cluster(#[from] ClusterError),
    /// The database.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// Who may read what is measured.
    #[error(transparent)]
    Readings(#[from] ReadingsError),
    /// How notices of alerts are sent.
    #[error(transparent)]
    Notices(#[from] moorfall_links::SettingsError),
    /// A name of the service that can't be one.
    #[error("Setting `hosts`: {0}.")]
    Hosts(#[from] DoorError),
    /// The blueprint file can't be read.
    #[error("The blueprint {path} can't be read: {error}. Check the path and its permissions.")]
    BlueprintFile {
        /// The file.
        path: PathBuf,
        /// Why.
        #[source]
        error: std::io::Error,
    },
    /// The blueprint is wrong.
    #[error("The blueprint has errors:{findings}")]
    Blueprint {
        /// Where and why, each on lines of its own.
        findings: String,
    },
}
