//! The private database of the service, kept running.

use std::path::{Path, PathBuf};

use tokio::sync::Mutex;

use crate::{ClusterError, PrivateCluster, Store, StoreError};

/// How often its server is started at most until its database is open.
const STARTS: usize = 3;

/// The private cluster and where it is.
#[derive(Debug)]
pub struct PrivateDatabase {
    data: PathBuf,
    /// `None` once it was stopped for good.
    cluster: Mutex<Option<PrivateCluster>>,
}

impl PrivateDatabase {
    /// Starts the cluster in a data folder.
    pub async fn start(data: &Path) -> Result<Self, ClusterError> {
        let cluster = PrivateCluster::start(data).await?;
        Ok(Self { data: data.to_owned(), cluster: Mutex::new(Some(cluster)) })
    }

    /// Opens the database in it. A server that was taken over may be ending at that moment, because it was killed with
    /// the service that started it; then it is started again.
    pub async fn open(&self) -> Result<Store, StoreError> {
        for _ in 1..STARTS {
            let cluster = self.cluster.lock().await;
            let server = cluster.as_ref().ok_or(StoreError::Silent)?;
            tokio::select! {
                opened = Store::open_private(server) => return opened,
                () = server.ended() => {}
            }
            drop(cluster);
            self.revive().await;
        }
        let cluster = self.cluster.lock().await;
        Store::open_private(cluster.as_ref().ok_or(StoreError::Silent)?).await
    }

    /// Starts the server again if it has ended. To be called when it does not answer.
    pub async fn revive(&self) {
        let mut cluster = self.cluster.lock().await;
        if cluster.as_ref().is_none_or(PrivateCluster::is_running) {
            return;
        }
        match PrivateCluster::start(&self.data).await {
            Ok(again) => {
                tracing::warn!("the private database had stopped and was started again");
                *cluster = Some(again);
            }
            Err(error) => tracing::error!(%error, "the private database has stopped and can't be started again"),
        }
    }

    /// Stops the server for good.
    pub async fn stop(&self) {
        if let Some(cluster) = self.cluster.lock().await.take() {
            cluster.stop().await;
        }
    }
}
