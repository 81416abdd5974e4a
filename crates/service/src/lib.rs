//! The running broker: listeners, connections, the HTTP interface and the console, the sampler.
//!
//! [`Service::start`] brings everything up and says where it listens; [`Service::stop`] takes it down in order: no
//! new connections, 5.0 clients are told, samples are written, the private database is stopped.

mod api;
mod authenticator;
mod broker;
mod clock;
mod connection;
mod counters;
mod data_folder;
mod directory;
mod journal;
mod listener;
mod private_database;
mod registry;
mod restore;
mod running;
mod sample_writer;
mod sampler;
mod session_record;
mod settings;
mod stream;

use std::{net::SocketAddr, path::PathBuf, sync::Arc, time::Duration};

use moorfall_core::{Limits, blueprint::Blueprint};
use moorfall_store::{ClusterError, Store, StoreError};
use tokio::{net::TcpListener, sync::mpsc, task::JoinHandle, time::timeout};
use tokio_util::{sync::CancellationToken, task::TaskTracker};

pub use api::{LiveReading, openapi, types as api_types};
pub use authenticator::ADMINISTRATOR;
pub use data_folder::{DataFolder, DataFolderError, random_text};
pub use directory::{DirectoryError, IdentityDraft};
pub use running::{RunningService, find_running};
pub use settings::{BlueprintSource, Settings};

use crate::{
    authenticator::Authenticator,
    broker::{Addresses, Broker, LastUsed},
    clock::Clock,
    directory::Directory,
    private_database::PrivateDatabase,
};

/// How long connections may take to say goodbye at the end.
const GOODBYE: Duration = Duration::from_millis(1_500);

/// Why the service did not start. Nothing is left running.
#[derive(Debug, thiserror::Error)]
pub enum StartError {
    /// `--open` together with an address that others can reach.
    #[error(
        "--open lets anybody publish and subscribe everything, so it is for loopback addresses alone, and {address} \
         is not one; leave --open out, or listen on 127.0.0.1"
    )]
    OpenToOthers {
        /// The address.
        address: SocketAddr,
    },
    /// The data folder.
    #[error(transparent)]
    DataFolder(#[from] DataFolderError),
    /// An address can't be listened on.
    #[error("{what} can't listen on {address}: {words}")]
    Listen {
        /// Which listener.
        what: &'static str,
        /// Where.
        address: SocketAddr,
        /// Why, and the remedy.
        words: String,
    },
    /// The private database cluster.
    #[error(transparent)]
    Cluster(#[from] ClusterError),
    /// The database.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The blueprint file can't be read.
    #[error("the blueprint {path} can't be read: {error}")]
    BlueprintFile {
        /// The file.
        path: PathBuf,
        /// Why.
        #[source]
        error: std::io::Error,
    },
    /// The blueprint is wrong.
    #[error("the blueprint {path} has a fault in {error}")]
    Blueprint {
        /// The file.
        path: PathBuf,
        /// Where and why.
        error: moorfall_core::blueprint::BlueprintError,
    },
}

/// A running service.
#[derive(Debug)]
pub struct Service {
    broker: Arc<Broker>,
    /// Held as long as the service runs, so that no second one uses the folder.
    folder: DataFolder,
    /// Ends the HTTP server, after the connections.
    http_stop: CancellationToken,
    tasks: TaskTracker,
    journal: JoinHandle<()>,
}

impl Service {
    /// Starts everything, in an order in which the cheap checks come first. `tell` hears of steps that take long.
    pub async fn start(settings: &Settings, mut tell: impl FnMut(&str)) -> Result<Self, StartError> {
        let address = settings.mqtt;
        if settings.open && !address.ip().is_loopback() {
            return Err(StartError::OpenToOthers { address });
        }
        let blueprint = read_blueprint(settings)?;
        let folder = DataFolder::open(&settings.data)?;
        let mqtt = bind("MQTT", settings.mqtt, "--mqtt").await?;
        let http = bind("the console", settings.http, "--http").await?;
        let database = match &settings.database {
            Some(_) => None,
            None => {
                tell("starting PostgreSQL");
                Some(Arc::new(PrivateDatabase::start(folder.path()).await?))
            }
        };
        let served = Self::serve(settings, blueprint, folder, mqtt, http, database.clone(), tell).await;
        if let (Err(_), Some(database)) = (&served, database) {
            database.stop().await;
        }
        served
    }

    async fn serve(
        settings: &Settings,
        blueprint: Blueprint,
        folder: DataFolder,
        mqtt: TcpListener,
        http: TcpListener,
        database: Option<Arc<PrivateDatabase>>,
        mut tell: impl FnMut(&str),
    ) -> Result<Self, StartError> {
        let store = match (&settings.database, &database) {
            (Some(url), _) => Store::open_url(url).await?,
            (None, Some(database)) => database.open().await?,
            (None, None) => unreachable!("without a URL a private database was started"),
        };
        let addresses = Addresses {
            mqtt: local_address(&mqtt, settings.mqtt),
            http: local_address(&http, settings.http),
            data: folder.path().to_owned(),
        };
        let directory = Directory::load(store.clone()).await?;
        let authenticator = Authenticator::new(folder.secret(), settings.open);
        let limits = Limits::default();
        let clock = Clock::start();
        tell("reading what was kept");
        let crashed = store.note_start(clock.now()).await?;
        let stored = store.load(crashed).await?;
        let last = LastUsed { key: stored.last_key, number: stored.last_number };
        let broker = Broker::new(clock, limits, blueprint, directory, store, database, authenticator, addresses, last);
        let broker = Arc::new(broker);
        restore::restore(&broker, stored, crashed);
        for warning in api::exposed(&broker) {
            tracing::warn!("{warning}");
        }
        let tasks = TaskTracker::new();
        let http_stop = CancellationToken::new();
        // Apart from the other tasks: it ends last, when all that they wanted kept is written.
        let journal = tokio::spawn(journal::run(Arc::clone(&broker)));
        tasks.spawn(registry::keep_time(Arc::clone(&broker)));
        tasks.spawn(listener::accept(Arc::clone(&broker), mqtt, tasks.clone()));
        let (samples, to_write) = mpsc::channel(sample_writer::KEPT);
        tasks.spawn(sampler::run(Arc::clone(&broker), samples));
        tasks.spawn(sample_writer::run(Arc::clone(&broker), to_write));
        tasks.spawn(api::serve(Arc::clone(&broker), http, http_stop.clone()));
        tasks.close();
        running::announce(&broker.addresses);
        Ok(Self { broker, folder, http_stop, tasks, journal })
    }

    /// Where MQTT clients connect.
    pub fn mqtt_address(&self) -> SocketAddr {
        self.broker.addresses.mqtt
    }

    /// Where the console and the API are.
    pub fn http_address(&self) -> SocketAddr {
        self.broker.addresses.http
    }

    /// The folder with everything that this service keeps.
    pub fn data_folder(&self) -> &DataFolder {
        &self.folder
    }

    /// Makes or replaces an identity, as the API does.
    pub async fn put_identity(&self, name: &str, draft: IdentityDraft) -> Result<(), DirectoryError> {
        self.broker.put_identity(name, draft).await.map(drop)
    }

    /// Ends everything in order.
    pub async fn stop(self) {
        tracing::info!("stopping");
        running::withdraw(self.folder.path());
        self.broker.stopping.cancel();
        let goodbye = async {
            while self.broker.registry.connected() > 0 || self.broker.connections() > 0 {
                tokio::time::sleep(Duration::from_millis(10)).await;
            }
        };
        if timeout(GOODBYE, goodbye).await.is_err() {
            tracing::warn!("some connections did not end in time and are dropped");
        }
        self.http_stop.cancel();
        if timeout(Duration::from_millis(700), self.tasks.wait()).await.is_err() {
            tracing::debug!("some requests did not end in time and are dropped");
        }
        self.broker.journal.close();
        if self.journal.await.is_ok() && self.broker.journal.backlog() == 0 {
            let _ = timeout(Duration::from_millis(500), self.broker.store.note_stop()).await;
        }
        let _ = timeout(Duration::from_millis(500), self.broker.store.close()).await;
        if let Some(database) = &self.broker.private_database {
            database.stop().await;
        }
        tracing::info!("stopped");
    }
}

fn read_blueprint(settings: &Settings) -> Result<Blueprint, StartError> {
    let (path, source) = match &settings.blueprint {
        None => return Ok(Blueprint::default()),
        Some(BlueprintSource::BuiltIn { name, text }) => (PathBuf::from(name), (*text).to_owned()),
        Some(BlueprintSource::File(path)) => {
            let wrong = |error| StartError::BlueprintFile { path: path.clone(), error };
            (path.clone(), std::fs::read_to_string(path).map_err(wrong)?)
        }
    };
    Blueprint::parse(&source).map_err(|error| StartError::Blueprint { path, error })
}

async fn bind(what: &'static str, address: SocketAddr, option: &str) -> Result<TcpListener, StartError> {
    TcpListener::bind(address).await.map_err(|error| {
        let words = match error.kind() {
            std::io::ErrorKind::AddrInUse => format!(
                "another program listens there; stop it, or choose another port with {option} {}:PORT (0 takes any)",
                address.ip()
            ),
            std::io::ErrorKind::PermissionDenied => {
                format!("ports below 1024 need special rights; choose another with {option} ADDRESS")
            }
            std::io::ErrorKind::AddrNotAvailable => {
                format!("this machine has no such address; choose one of its own with {option} ADDRESS")
            }
            _ => error.to_string(),
        };
        StartError::Listen { what, address, words }
    })
}

fn local_address(listener: &TcpListener, asked: SocketAddr) -> SocketAddr {
    listener.local_addr().unwrap_or(asked)
}
