//! A broker in process, open to all, that is reached by pipes, with a database of the test's own.

#![allow(dead_code, unreachable_pub, reason = "each test uses some of it")]

use std::{os::unix::fs::PermissionsExt, sync::Arc, time::Duration};

use moorfall_broker::{
    broker::Broker,
    clock::Clock,
    common::Common,
    connection,
    identity::{Identities, authenticator::Authenticator, authorities::Authorities},
    listeners::{
        listener::Listener,
        origin::{Arrived, Origin},
        seats::Seats,
        settings::ListenerSettings,
        stream::Stream,
    },
    sessions::{journal_writer, page_reader, restore},
};
use moorfall_client::{Arrivals, Client, Options, Remote};
use moorfall_core::Limits;
use moorfall_store::{Database, PrivateDatabase};
use moorfall_wire::Will;
use tempfile::TempDir;
use tokio::{
    io::{DuplexStream, duplex},
    task::JoinHandle,
    time::timeout,
};

pub const LEVEL: &str = "harrowmere/gorge/kettle-weir/stage/level";

/// So much longer than anything here takes that it is never waited for in vain.
pub const LONG: Duration = Duration::from_secs(30);

/// An open broker that is reached by pipes.
pub struct House {
    pub broker: Arc<Broker>,
    seats: Arc<Seats>,
    listener: Arc<Listener>,
    journal: JoinHandle<()>,
    database: Arc<PrivateDatabase>,
}

pub fn place() -> TempDir {
    // PostgreSQL may run as another user, who must be able to pass through.
    tempfile::Builder::new().permissions(PermissionsExt::from_mode(0o755)).tempdir().unwrap()
}

impl House {
    pub async fn open(place: &TempDir, limits: Limits) -> Self {
        let database = Arc::new(PrivateDatabase::start(place.path()).await.unwrap());
        let store = database.open().await.unwrap();
        let clock = Clock::start();
        let records = Arc::new(Database::new(store.clone(), Some(Arc::clone(&database))));
        let common = Arc::new(Common::new(clock, records));
        let limits = Arc::new(limits);
        let authorities = Arc::new(Authorities::load(store.clone()).await.unwrap());
        let authenticator = Authenticator::new("a secret that nobody guesses", true);
        let identities = Identities::load(&store, clock, authorities, authenticator).await.unwrap();
        let last = store.last_used(false).await.unwrap();
        let broker = Arc::new(Broker::load(Arc::clone(&common), Arc::clone(&limits), identities, last).await.unwrap());
        restore::restore(&broker.sessions, &store, false).await.unwrap();
        let journal = tokio::spawn(journal_writer::run(
            Arc::clone(&broker.sessions.journal),
            Arc::clone(&common.database),
            Arc::clone(&broker.live),
        ));
        common.tasks.spawn(page_reader::run(
            Arc::clone(&broker.sessions),
            Arc::clone(&common.database),
            common.stopping.clone(),
        ));
        let address = ([127, 0, 0, 1], 1_883).into();
        let settings = ListenerSettings::tcp("pipe", address);
        let listener = Arc::new(Listener::new(&settings, address, None, (*limits).clone()));
        Self { broker, seats: Arc::new(Seats::new(limits)), listener, journal, database }
    }

    /// Connects a client of this identifier.
    pub async fn connect(&self, client_id: &str, expiry: u32, will: Option<Will>) -> (Client, Arrivals) {
        let near = self.pipe(64 * 1024);
        let remote = Remote::tcp("the pipe", 0, None);
        let options = Options {
            client_id: client_id.into(),
            clean_start: false,
            session_expiry: expiry,
            will,
            ..Options::new(remote)
        };
        Client::connect_over(near, &options).await.unwrap()
    }

    /// The near end of a pipe to a new connection, which takes so many bytes before somebody has to read.
    pub fn pipe(&self, size: usize) -> DuplexStream {
        let (near, far) = duplex(size);
        let origin = Origin {
            address: ([127, 0, 0, 1], 50_000).into(),
            listener: Arc::clone(&self.listener),
            certificate: None,
            tls: None,
            removals: 0,
            at: self.broker.now(),
            acting: None,
        };
        let seat = self.seats.sit(&self.listener).unwrap();
        let arrived = Arrived { stream: Stream::layered(Box::new(far)), origin, seat };
        self.broker.common.tasks.spawn(connection::serve(Arc::clone(&self.broker), arrived));
        near
    }

    /// Connections that hold a seat.
    pub fn taken(&self) -> usize {
        self.seats.taken()
    }

    /// Lets time go on, and stops.
    pub async fn leave(self) {
        tokio::time::resume();
        self.close().await;
    }

    /// Stops in order; everything is written then.
    pub async fn close(self) {
        self.broker.stop();
        self.broker.common.tasks.close();
        timeout(LONG, self.broker.common.tasks.wait()).await.expect("all connections end");
        assert_eq!((self.broker.sessions.registry.connected(), self.seats.taken()), (0, 0));
        self.broker.sessions.journal.close();
        self.journal.await.unwrap();
        assert_eq!(self.broker.sessions.journal.backlog(), 0);
        self.broker.store().close().await;
        self.database.stop().await;
    }
}
