//! The running broker: listeners, connections, the HTTP interface and the console, the sampler.
//!
//! [`Service::start`] brings everything up and says where it listens; [`Service::stop`] takes it down in order: no
//! new connections, 5.0 clients are told, samples are written, the private database is stopped.
mod certificates;
mod data_folder;
mod rights;
mod settings;
mod start_error;
pub use data_folder::{DataFolder, DataFolderError};
use std::{net::SocketAddr, path::Path, sync::Arc, time::Duration};

use moorfall_api::{
    http::sign_ins::SignIns,
    state::{App, People, Process, Scrapers},
    watch::warnings,
    work::held,
};
use moorfall_broker::{
    broker::Broker,
    clock::Clock,
    common::Common,
    connection,
    design::draft::NotApplied,
    housekeeping,
    identity::{
        Identities,
        authenticator::{Authenticator, own},
        authorities::Authorities,
        checks::DirectoryError,
    },
    listeners::{
        accept,
        bind::{self, ListenError},
        descriptors,
        doors::Doors,
        origin::Reception,
        seats::Seats,
        settings::{Transport, service_limits},
        tls, trust,
    },
    sessions::{due, journal_writer, owners, page_reader, restore},
};
use moorfall_contract::{
    blueprint_files::blueprint_files,
    history::RemarkKind,
    identities::{IdentityDraft, IdentityView},
    running::{self, RunningService},
};
use moorfall_core::{
    ADMINISTRATOR, Limits,
    blueprint::{Blueprint, Source, SourceFile},
};
use moorfall_links::{Courier, bridge::Bridges, derived::DerivedTopics};
use moorfall_store::{Database, PrivateDatabase, Remark, Resolution, Span, Store, StoreError};
use moorfall_watch::{
    alerts, event_log,
    history::{self, Measured},
    sampler, topics,
};
use time::OffsetDateTime;
use tokio::{
    sync::{
        mpsc::{self, Sender},
        oneshot,
    },
    task::JoinHandle,
    time::timeout,
};
use tokio_util::sync::CancellationToken;

pub use settings::{HistorySettings, MailServer, NoticeSettings, ReadingsSettings, Security, Settings};
pub use start_error::StartError;

/// How long connections may take to say goodbye at the end.
const GOODBYE: Duration = Duration::from_millis(1_500);

/// How long the start waits for bridges and derived topics to subscribe here.
const BRIDGES: Duration = Duration::from_secs(5);

/// Spans that are written at a time when history is made up.
const MADE_UP: usize = 1_440;

/// A running service.
#[derive(Debug)]
pub struct Service {
    app: App,
    /// Held as long as the service runs, so that no second one uses the folder.
    folder: DataFolder,
    /// Ends the HTTP server, after the connections.
    http_stop: CancellationToken,
    journal: JoinHandle<()>,
}

/// What files and texts of the settings say, read before anything is begun.
struct Read {
    doors: Doors,
    scrapers: Scrapers,
    courier: Courier,
    blueprint: Option<Vec<SourceFile>>,
}

impl Read {
    fn from(settings: &Settings) -> Result<Self, StartError> {
        Ok(Self {
            blueprint: settings.blueprint.as_deref().map(read_blueprint).transpose()?,
            doors: Doors::read(&settings.hosts)?,
            scrapers: settings.readings.scrapers()?,
            courier: settings.notices.courier()?,
        })
    }
}

impl Service {
    /// Starts everything, in an order in which the cheap checks come first. `tell` hears of steps that take long.
    pub async fn start(settings: &Settings, mut tell: impl FnMut(&str)) -> Result<Self, StartError> {
        let read = Read::from(settings)?;
        let Settings { listeners, http, open, limits, .. } = settings;
        let plan = bind::Listening::new(&bind::Wanted { listeners, http: *http, open: *open, limits })?;
        descriptors::raise();
        // Low ports are root's to open; nothing else is.
        let (folder, sockets) = match &settings.user {
            Some(user) => {
                let sockets = plan.bind().await?;
                let last = |data: &Path| running::announce_to_commands(&addresses(&sockets, data));
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
        let served = Self::serve(settings, read, folder, sockets, database.clone(), tell).await;
        if let (Err(_), Some(database)) = (&served, database) {
            database.stop().await;
        }
        served
    }

    async fn serve(
        settings: &Settings,
        Read { doors, scrapers, courier, blueprint }: Read,
        folder: DataFolder,
        sockets: bind::Sockets,
        database: Option<Arc<PrivateDatabase>>,
        mut tell: impl FnMut(&str),
    ) -> Result<Self, StartError> {
        let store = match (&settings.database, &database) {
            (Some(url), _) => Store::open_url(url).await?,
            (None, Some(database)) => database.open().await?,
            (None, None) => unreachable!("without a URL a private database was started"),
        };
        let clock = Clock::start();
        tell("reading stored sessions and messages");
        let crashed = store.note_start(clock.now()).await?;
        let common = Arc::new(Common::new(clock, Arc::new(Database::new(store.clone(), database))));
        let limits = Arc::new(service_limits(&settings.limits).map_err(ListenError::from)?);
        let authorities = Arc::new(Authorities::load(store.clone()).await?);
        let authenticator = Authenticator::new(folder.secret(), settings.open);
        let identities = Identities::load(&store, clock, Arc::clone(&authorities), authenticator).await?;
        let last = store.last_used(crashed).await?;
        let broker = Arc::new(Broker::load(Arc::clone(&common), Arc::clone(&limits), identities, last).await?);
        let process = Process {
            started_at: OffsetDateTime::now_utc(),
            addresses: addresses(&sockets, folder.path()),
            listeners: sockets.listeners.iter().map(|(listener, _)| Arc::clone(listener)).collect(),
            http_listener: Arc::clone(&sockets.http.0),
            reception: Arc::new(reception(&broker, doors, limits)),
            scrapers,
            http_connections: Arc::default(),
            privileged: rights::warning(),
            inbox: settings.inbox.clone(),
            weak_link: settings.weak_link.clone(),
        };
        let people = People {
            sign_ins: SignIns::load(store.clone()).await?,
            checks: Arc::default(),
            silences: Default::default(),
        };
        let (process, people) = (Arc::new(process), Arc::new(people));
        let files = settings.bridge_files.clone().unwrap_or_else(|| folder.path().join("bridges"));
        let bridges = Arc::new(Bridges::new(Arc::clone(&broker), Arc::clone(&process.reception.seats), files));
        let derived = Arc::new(DerivedTopics::new(Arc::clone(&broker), Arc::clone(&process.reception.seats)));
        let (watch, alerts, desk) = (Arc::default(), Arc::default(), Arc::default());
        let app = App { broker, process, watch, alerts, desk, bridges, derived, people };
        restore::restore(&app.broker.sessions, &store, crashed).await?;
        // What is wrong is in the log; the files were good a moment ago.
        let _failed = trust::trust(&app.process.listeners, &authorities);
        if let Some(files) = blueprint {
            app.broker.start_design(files).await?;
        }
        if let every @ 1.. = settings.readings.topic_seconds {
            let every = Duration::from_secs(every.into());
            let announced = topics::run(Arc::clone(&app.broker), Arc::clone(&app.watch), every);
            app.broker.common.tasks.spawn(announced);
        }
        Self::watch_alerts(&app, courier);
        let (spans, to_write) = mpsc::channel(history::WAITING);
        let Common { database, stopping, tasks, .. } = &*app.broker.common;
        tasks.spawn(event_log::run(Arc::clone(&app.broker), settings.history.events()));
        let keep = settings.history.into();
        tasks.spawn(history::run(Arc::clone(database), stopping.clone(), keep, crashed, to_write));
        let announces = settings.user.is_none() && settings.is_announced;
        Ok(Self::run(app, folder, sockets, spans, announces).await)
    }

    /// Begins to watch what alerts are about, and to tell of it.
    fn watch_alerts(app: &App, courier: Courier) {
        let App { broker, watch, alerts: known, .. } = app;
        let tasks = &broker.common.tasks;
        tasks.spawn(alerts::run(Arc::clone(broker), Arc::clone(watch), Arc::clone(known)));
        tasks.spawn(alerts::deliver(Arc::clone(broker), Arc::clone(known), Arc::new(courier)));
    }

    /// Begins all tasks.
    async fn run(
        app: App,
        folder: DataFolder,
        sockets: bind::Sockets,
        spans: Sender<Measured>,
        announces: bool,
    ) -> Self {
        let App { broker, process, watch, desk, .. } = &app;
        let limits = &broker.limits;
        for warning in
            warnings::exposed(process).into_iter().chain(descriptors::warning(limits)).chain(process.privileged.clone())
        {
            tracing::warn!("{warning}");
        }
        let http_stop = CancellationToken::new();
        let Common { database, stopping, tasks, .. } = &*broker.common;
        // Apart from the other tasks: it ends last, when all that they wanted kept is written.
        let journal = tokio::spawn(journal_writer::run(
            Arc::clone(&broker.sessions.journal),
            Arc::clone(database),
            Arc::clone(&broker.live),
        ));
        tasks.spawn(page_reader::run(Arc::clone(&broker.sessions), Arc::clone(database), stopping.clone()));
        // What is to be pushed, or made of messages, is heard before anybody can publish.
        let (ready, are_ready) = oneshot::channel();
        tasks.spawn(Arc::clone(&app.bridges).run(ready));
        let (heard, are_heard) = oneshot::channel();
        tasks.spawn(Arc::clone(&app.derived).run(heard));
        let _ = timeout(BRIDGES, async { tokio::join!(are_ready, are_heard) }).await;
        tasks.spawn(due::keep_time(Arc::clone(&broker.sessions), stopping.clone()));
        let (sessions, store) = (Arc::clone(&broker.sessions), broker.store().clone());
        tasks.spawn(owners::keep_owners(sessions, store, stopping.clone()));
        tasks.spawn(housekeeping::each_second(Arc::clone(broker)));
        tasks.spawn(housekeeping::forget_expired(Arc::clone(broker)));
        tasks.spawn(housekeeping::forget_topics(Arc::clone(broker)));
        let (watched, stop) = (Arc::clone(database), stopping.clone());
        tasks.spawn(async move { watched.watch(stop).await });
        tasks.spawn(sampler::run(Arc::clone(broker), Arc::clone(watch), spans));
        tasks.spawn(housekeeping::forget_audits(Arc::clone(broker)));
        tasks.spawn(warnings::warn_of_open(Arc::clone(broker)));
        tasks.spawn(certificates::watch(Arc::clone(broker), Arc::clone(process)));
        tasks.spawn(held::close_left(Arc::clone(desk), Arc::clone(&broker.common)));
        for (listener, socket) in sockets.listeners {
            if let Some(tls) = &listener.tls {
                tasks.spawn(tls::follow(stopping.clone(), Arc::clone(&listener.name), Arc::clone(tls)));
            }
            tasks.spawn(accept::accept(Arc::clone(&process.reception), listener, socket));
        }
        tasks.spawn(moorfall_api::serve(app.clone(), sockets.http.1, http_stop.clone()));
        tasks.close();
        running::announce(&process.addresses);
        if announces {
            running::announce_to_commands(&process.addresses);
        }
        Self { app, folder, http_stop, journal }
    }

    /// Where MQTT clients connect by plain TCP, if there is such a listener.
    pub fn mqtt_address(&self) -> Option<SocketAddr> {
        self.app.process.addresses.mqtt
    }

    /// Name and address of each listener, the address with its scheme.
    pub fn listeners(&self) -> Vec<(String, String)> {
        self.app.process.listeners.iter().map(|listener| (listener.name.to_string(), listener.url())).collect()
    }

    /// Where the console and the API are.
    pub fn http_address(&self) -> SocketAddr {
        self.app.process.addresses.http
    }

    /// A link to the console that signs its administrator in once, within an hour.
    pub fn sign_in_link(&self) -> String {
        format!("http://{}/#/sign-in/{}", self.http_address(), self.app.people.sign_ins.offer_link())
    }

    /// The folder with everything that this service keeps.
    pub fn data_folder(&self) -> &DataFolder {
        &self.folder
    }

    /// Saves a setup of the desk, unless there is one of this name.
    pub async fn offer_desk_setup(&self, name: &str, setup: &serde_json::Value) -> Result<(), StoreError> {
        let store = self.app.broker.store();
        if store.desk_setups().await?.iter().all(|known| known.name != name) {
            store.put_desk_setup(name, setup, i64::MAX, &own(ADMINISTRATOR)).await?;
        }
        Ok(())
    }

    /// Puts minutes that were made up into a history that is empty, and says so there. Each has its end and the values of
    /// series by their names, of counters the rates per second; a name that is none of a series is left out.
    pub async fn make_up_history(
        &self,
        minutes: impl Iterator<Item = (OffsetDateTime, Vec<(&'static str, f32)>)>,
    ) -> Result<(), StoreError> {
        let store = self.app.broker.store();
        if store.newest_history(Resolution::Minute).await?.is_some() {
            return Ok(());
        }
        let numbers = history::numbers(store).await?;
        let number = |(name, value): (&str, f32)| Some((*numbers.get(name)?, value));
        let spans: Vec<Span> =
            minutes.map(|(at, values)| Span { at, values: values.into_iter().filter_map(number).collect() }).collect();
        let (Some(first), Some(last)) = (spans.first(), spans.last()) else { return Ok(()) };
        let (began_at, ended_at) = (first.at, last.at);
        for some in spans.chunks(MADE_UP) {
            store.add_history(Resolution::Minute, some).await?;
        }
        store.add_remark(&Remark { began_at, ended_at, kind: RemarkKind::MadeUp.name().into() }).await
    }

    /// Makes or replaces an identity, as the API does; nothing happens when it is so already. Gives the secret that was made
    /// for it, if one was to be.
    pub async fn put_identity(&self, name: &str, draft: IdentityDraft) -> Result<Option<String>, DirectoryError> {
        let asks_for_secret = draft.password.is_some() || draft.generate || draft.certificates.is_some();
        let is_so = |known: IdentityView| {
            let IdentityView { attributes, enabled, note, client_id, .. } = known;
            (attributes, enabled, note, client_id)
                == (draft.attributes.clone(), draft.enabled, draft.note.clone(), draft.client_id.clone())
        };
        if !asks_for_secret && self.app.broker.identities.directory.get(name).is_some_and(is_so) {
            return Ok(None);
        }
        self.app.broker.put_identity(name, draft, &own(ADMINISTRATOR)).await.map(|(_, secret)| secret)
    }

    /// Whether an identity of this name has something to sign in with by a password.
    pub fn has_password(&self, name: &str) -> bool {
        self.app.broker.identities.directory.get(name).is_some_and(|identity| identity.has_password)
    }

    /// Puts a blueprint in force, as the API does; nothing happens when it is already.
    pub async fn apply_blueprint(&self, files: Vec<SourceFile>, author: &str, message: &str) -> Result<(), NotApplied> {
        self.app.broker.apply_if_other(files, author, message).await
    }

    /// Ends everything in order.
    pub async fn stop(self) {
        tracing::info!("stopping");
        running::withdraw(self.folder.path());
        let App { broker, process, .. } = &self.app;
        let Common { database, tasks, .. } = &*broker.common;
        broker.stop();
        let goodbye = async {
            while broker.sessions.registry.connected() > 0 || process.reception.seats.taken() > 0 {
                tokio::time::sleep(Duration::from_millis(10)).await;
            }
        };
        if timeout(GOODBYE, goodbye).await.is_err() {
            tracing::warn!("some connections did not close in time and are dropped");
        }
        self.http_stop.cancel();
        if timeout(Duration::from_millis(700), tasks.wait()).await.is_err() {
            tracing::debug!("some requests did not finish in time and are dropped");
        }
        broker.sessions.journal.close();
        if self.journal.await.is_ok() && broker.sessions.journal.backlog() == 0 {
            let _ = timeout(Duration::from_millis(500), database.store.note_stop()).await;
        }
        let _ = timeout(Duration::from_millis(500), database.store.close()).await;
        database.stop().await;
        tracing::info!("stopped");
    }
}

/// Where these sockets are.
fn addresses(sockets: &bind::Sockets, data: &Path) -> RunningService {
    let plain = sockets.listeners.iter().find(|(listener, _)| listener.transport == Transport::Tcp);
    RunningService {
        mqtt: plain.map(|(listener, _)| listener.address),
        http: sockets.http.0.address,
        data: data.to_owned(),
    }
}

/// Whoever comes is served by the broker.
fn reception(broker: &Arc<Broker>, doors: Doors, limits: Arc<Limits>) -> Reception {
    let (served_by, authorities) = (Arc::clone(broker), Arc::clone(&broker.identities.authorities));
    let judge = Arc::clone(broker);
    Reception {
        live: Arc::clone(&broker.live),
        common: Arc::clone(&broker.common),
        seats: Arc::new(Seats::new(limits)),
        doors,
        removals: Box::new(move || authorities.removals()),
        banned: Box::new(move |address| judge.bans.address(address)),
        serve: Box::new(move |arrived| Box::pin(connection::serve(Arc::clone(&served_by), arrived))),
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
