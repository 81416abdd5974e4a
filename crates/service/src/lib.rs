//! The running broker: listeners, connections, the HTTP interface and the console, the sampler.
//!
//! [`Service::start`] brings everything up and says where it listens; [`Service::stop`] takes it down in order: no
//! new connections, 5.0 clients are told, samples are written, the private database is stopped.

mod api;
mod authenticator;
mod authorities;
mod bench;
mod broker;
mod certificate;
mod cleared;
mod clock;
mod connection;
mod counters;
mod data_folder;
mod database_health;
mod deeds;
mod descriptors;
mod design;
mod directory;
mod doors;
mod drift;
mod effects;
mod gatekeeper;
mod generated_secret;
mod http_server;
mod http_stream;
mod journal;
mod last_value;
mod listener;
mod listening;
mod names;
mod passwords;
mod private_database;
mod recorder;
mod registry;
mod restore;
mod rights;
mod running;
mod sample_writer;
mod sampler;
mod seats;
mod session_record;
mod settings;
mod sign_in_queue;
mod sign_ins;
mod stream;
mod tls;
mod tokens;
mod topic_search;
mod topic_watch;
mod topics;
mod websocket;

use std::{
    net::SocketAddr,
    path::{Path, PathBuf},
    sync::Arc,
    time::Duration,
};

use moorfall_core::blueprint::{Blueprint, Source, SourceFile};
use moorfall_store::{ClusterError, Store, StoreError};
use tokio::{sync::mpsc, task::JoinHandle, time::timeout};
use tokio_util::sync::CancellationToken;

pub use api::{LiveReading, openapi, types as api_types};
pub use authenticator::ADMINISTRATOR;
pub use certificate::ClientCertificate;
pub use data_folder::{DataFolder, DataFolderError, random_text};
pub use directory::{DirectoryError, IdentityDraft};
pub use running::{RunningService, find_running};
pub use settings::{LimitsError, ListenerSettings, Settings, Transport, limit_fault};
pub use tls::{ClientCertificates, TlsError, TlsSettings};

use crate::{
    authenticator::{Authenticator, own},
    authorities::Authorities,
    broker::{Broker, LastUsed, Parts},
    clock::Clock,
    design::Design,
    directory::Directory,
    doors::Doors,
    private_database::PrivateDatabase,
    sign_ins::SignIns,
    tokens::Tokens,
};

/// A JSON Schema of the blueprint's files, for editors.
pub const BLUEPRINT_SCHEMA: &str = include_str!("../blueprint.schema.json");

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
    /// The rights of root can't be given up.
    #[error(transparent)]
    Rights(#[from] rights::RightsError),
    /// The data folder.
    #[error(transparent)]
    DataFolder(#[from] DataFolderError),
    /// An address can't be listened on.
    #[error("{what} can't listen on {address}: {words}")]
    Listen {
        /// Which listener.
        what: String,
        /// Where.
        address: SocketAddr,
        /// Why, and the remedy.
        words: String,
    },
    /// Two listeners of one name, or a name that can't be one.
    #[error("a listener can't be called {name:?}: {words}")]
    ListenerName {
        /// The name.
        name: String,
        /// Why.
        words: &'static str,
    },
    /// Certificates are named for a listener without TLS, or none for one with TLS.
    #[error("the listener {name} {words}")]
    ListenerTls {
        /// Its name.
        name: String,
        /// What does not fit.
        words: &'static str,
    },
    /// A listener's certificates can't be used.
    #[error("the listener {name}: {error}")]
    Tls {
        /// Its name.
        name: String,
        /// Why.
        error: TlsError,
    },
    /// Limits that can't be.
    #[error(transparent)]
    Limits(#[from] LimitsError),
    /// The private database cluster.
    #[error(transparent)]
    Cluster(#[from] ClusterError),
    /// The database.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// A name of the service that can't be one.
    #[error("the settings' hosts: {0}")]
    Hosts(String),
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
    #[error("the blueprint has faults:{findings}")]
    Blueprint {
        /// Where and why, each on lines of its own.
        findings: String,
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
    journal: JoinHandle<()>,
}

impl Service {
    /// Starts everything, in an order in which the cheap checks come first. `tell` hears of steps that take long.
    pub async fn start(settings: &Settings, mut tell: impl FnMut(&str)) -> Result<Self, StartError> {
        let blueprint = settings.blueprint.as_deref().map(read_blueprint).transpose()?;
        let doors = Doors::read(&settings.hosts).map_err(StartError::Hosts)?;
        let plan = listening::Plan::new(settings)?;
        descriptors::raise();
        // Low ports are root's to open; nothing else is.
        let (folder, sockets) = match &settings.user {
            Some(user) => {
                let sockets = plan.bind().await?;
                let last = |data: &Path| running::announce_to_commands(&sockets.addresses(data));
                rights::give_up(user, &settings.data, last).await?;
                (DataFolder::open(&settings.data)?, sockets)
            }
            None => (DataFolder::open(&settings.data)?, plan.bind().await?),
        };
        let database = match &settings.database {
            Some(_) => None,
            None => {
                tell("starting PostgreSQL");
                Some(Arc::new(PrivateDatabase::start(folder.path()).await?))
            }
        };
        let served = Self::serve(settings, doors, blueprint, folder, sockets, database.clone(), tell).await;
        if let (Err(_), Some(database)) = (&served, database) {
            database.stop().await;
        }
        served
    }

    async fn serve(
        settings: &Settings,
        doors: Doors,
        blueprint: Option<Vec<SourceFile>>,
        folder: DataFolder,
        sockets: listening::Sockets,
        database: Option<Arc<PrivateDatabase>>,
        mut tell: impl FnMut(&str),
    ) -> Result<Self, StartError> {
        let store = match (&settings.database, &database) {
            (Some(url), _) => Store::open_url(url).await?,
            (None, Some(database)) => database.open().await?,
            (None, None) => unreachable!("without a URL a private database was started"),
        };
        let clock = Clock::start();
        tell("reading what was kept");
        let crashed = store.note_start(clock.now()).await?;
        let stored = store.load(crashed).await?;
        let broker = Arc::new(Broker::new(Parts {
            clock,
            doors,
            limits: settings.service_limits()?,
            design: Design::load(store.clone()).await?,
            directory: Directory::load(store.clone(), clock).await?,
            tokens: Tokens::load(store.clone()).await?,
            sign_ins: SignIns::load(store.clone()).await?,
            authorities: Authorities::load(store.clone()).await?,
            store,
            private_database: database,
            authenticator: Authenticator::new(folder.secret(), settings.open),
            addresses: sockets.addresses(folder.path()),
            listeners: sockets.listeners.iter().map(|(listener, _)| Arc::clone(listener)).collect(),
            http_listener: Arc::clone(&sockets.http.0),
            last: LastUsed { key: stored.last_key, number: stored.last_number },
        }));
        restore::restore(&broker, stored, crashed);
        // What is wrong is in the log; the files were good a moment ago.
        let _failed = broker.trust_authorities();
        if let Some(files) = blueprint {
            broker.start_design(files).await?;
        }
        for warning in
            api::exposed(&broker).into_iter().chain(descriptors::warning(&broker.limits)).chain(rights::warning())
        {
            tracing::warn!("{warning}");
        }
        let http_stop = CancellationToken::new();
        // Apart from the other tasks: it ends last, when all that they wanted kept is written.
        let journal = tokio::spawn(journal::run(Arc::clone(&broker)));
        let tasks = &broker.tasks;
        tasks.spawn(registry::keep_time(Arc::clone(&broker)));
        tasks.spawn(restore::forget_expired(Arc::clone(&broker)));
        tasks.spawn(restore::forget_topics(Arc::clone(&broker)));
        let (samples, to_write) = mpsc::channel(sample_writer::KEPT);
        tasks.spawn(database_health::watch(Arc::clone(&broker)));
        tasks.spawn(sampler::run(Arc::clone(&broker), samples));
        tasks.spawn(sample_writer::run(Arc::clone(&broker), to_write));
        for (listener, socket) in sockets.listeners {
            if let Some(tls) = &listener.tls {
                tasks.spawn(tls::follow(Arc::clone(&broker), Arc::clone(&listener.name), Arc::clone(tls)));
            }
            tasks.spawn(listener::accept(Arc::clone(&broker), listener, socket));
        }
        tasks.spawn(api::serve(Arc::clone(&broker), sockets.http.1, http_stop.clone()));
        tasks.close();
        running::announce(&broker.addresses);
        if settings.user.is_none() {
            running::announce_to_commands(&broker.addresses);
        }
        Ok(Self { broker, folder, http_stop, journal })
    }

    /// Where MQTT clients connect by plain TCP, if there is such a listener.
    pub fn mqtt_address(&self) -> Option<SocketAddr> {
        self.broker.addresses.mqtt
    }

    /// Name and address of each listener, the address with its scheme.
    pub fn listeners(&self) -> Vec<(String, String)> {
        self.broker.listeners.iter().map(|listener| (listener.name.to_string(), listener.url())).collect()
    }

    /// Where the console and the API are.
    pub fn http_address(&self) -> SocketAddr {
        self.broker.addresses.http
    }

    /// A link to the console that signs its administrator in once, within an hour.
    pub fn sign_in_link(&self) -> String {
        format!("http://{}/#/sign-in/{}", self.http_address(), self.broker.sign_ins.offer_link())
    }

    /// The folder with everything that this service keeps.
    pub fn data_folder(&self) -> &DataFolder {
        &self.folder
    }

    /// Keeps a set-up of the bench, unless there is one of this name. An error is a sentence.
    pub async fn offer_bench_setup(&self, name: &str, panes: &serde_json::Value) -> Result<(), String> {
        let wrong = |error: moorfall_store::StoreError| error.to_string();
        let known = self.broker.store.bench_setups().await.map_err(wrong)?;
        if known.iter().all(|setup| setup.name != name) {
            self.broker.store.put_bench_setup(name, panes, i64::MAX, &own(ADMINISTRATOR)).await.map_err(wrong)?;
        }
        Ok(())
    }

    /// Makes or replaces an identity, as the API does; nothing happens when it is so already. Gives the secret that was made
    /// for it, if one was to be.
    pub async fn put_identity(&self, name: &str, draft: IdentityDraft) -> Result<Option<String>, DirectoryError> {
        let asks_for_secret = draft.password.is_some() || draft.generate || draft.certificates.is_some();
        let is_so = |known: directory::IdentityView| {
            let directory::IdentityView { attributes, enabled, note, client_id, .. } = known;
            (attributes, enabled, note, client_id)
                == (draft.attributes.clone(), draft.enabled, draft.note.clone(), draft.client_id.clone())
        };
        if !asks_for_secret && self.broker.directory.get(name).is_some_and(is_so) {
            return Ok(None);
        }
        self.broker.put_identity(name, draft, &own(ADMINISTRATOR)).await.map(|(_, secret)| secret)
    }

    /// Whether an identity of this name has something to sign in with by a password.
    pub fn has_password(&self, name: &str) -> bool {
        self.broker.directory.get(name).is_some_and(|identity| identity.has_password)
    }

    /// Puts a blueprint in force, as the API does; nothing happens when it is already. A refusal is told in words.
    pub async fn apply_blueprint(&self, files: Vec<SourceFile>, author: &str, message: &str) -> Result<(), String> {
        self.broker.apply_if_other(files, author, message).await
    }

    /// Ends everything in order.
    pub async fn stop(self) {
        tracing::info!("stopping");
        running::withdraw(self.folder.path());
        self.broker.stopping.cancel();
        let goodbye = async {
            while self.broker.registry.connected() > 0 || self.broker.seats.taken() > 0 {
                tokio::time::sleep(Duration::from_millis(10)).await;
            }
        };
        if timeout(GOODBYE, goodbye).await.is_err() {
            tracing::warn!("some connections did not end in time and are dropped");
        }
        self.http_stop.cancel();
        if timeout(Duration::from_millis(700), self.broker.tasks.wait()).await.is_err() {
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

/// The files of a blueprint, which has no faults: a file, or all that end in `.toml` of a folder.
fn read_blueprint(path: &Path) -> Result<Vec<SourceFile>, StartError> {
    let files = blueprint_files(path).map_err(|error| StartError::BlueprintFile { path: path.to_owned(), error })?;
    match Blueprint::read(Source::new(files.clone())) {
        Ok(_) => Ok(files),
        Err(findings) => Err(StartError::Blueprint { findings: findings.iter().map(|f| format!("\n{f}")).collect() }),
    }
}

/// Reads the files of a blueprint: one file, or all that end in `.toml` of a folder.
pub fn blueprint_files(path: &Path) -> std::io::Result<Vec<SourceFile>> {
    let read = |path: &Path, name| std::fs::read_to_string(path).map(|text| SourceFile { name, text });
    if !path.is_dir() {
        let name = path.file_name().unwrap_or(path.as_os_str()).to_string_lossy().into_owned();
        return Ok(vec![read(path, name)?]);
    }
    let mut files = Vec::new();
    for entry in std::fs::read_dir(path)? {
        let entry = entry?;
        let name = entry.file_name().to_string_lossy().into_owned();
        if name.ends_with(".toml") {
            files.push(read(&entry.path(), name)?);
        }
    }
    if files.is_empty() {
        return Err(std::io::Error::other("the folder holds no file that ends in .toml"));
    }
    files.sort_by(|one, other| one.name.cmp(&other.name));
    Ok(files)
}
