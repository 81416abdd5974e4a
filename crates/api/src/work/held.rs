//! The desk: clients that people hold at the console, to try things. Each is a client like any other, with the rights
//! of the identity that it was opened as, but without a network between it and the broker.

use std::{
    collections::{HashMap, VecDeque},
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
    time::Duration,
};

use moorfall_broker::{
    attach::{Entrance, attach},
    broker::Broker,
    clock::Clock,
    common::Common,
    listeners::origin::Acting,
    random::random_text,
};
use moorfall_client::{Arrival, Arrivals, Client, ConnectError, Options};
use moorfall_core::Time;
use moorfall_store::{Author, Deed};
use moorfall_wire::Publish;
use parking_lot::Mutex;
use serde_json::json;
use tokio::{sync::Notify, time::timeout};

/// Clients on the desk, everyone's together.
pub const CLIENTS: usize = 64;

/// What happened to a client that nobody has asked for yet, the newest.
const HELD: usize = 500;

/// Bytes of payload that are held for one client.
const HELD_BYTES: usize = 4 * 1024 * 1024;

/// How long nobody has to ask before a client is closed, microseconds.
const LEFT_AFTER: u64 = 60 * 1_000_000;

/// Between two looks for clients that nobody asks for.
const LOOK: Duration = Duration::from_secs(1);

/// Something that happened to a client.
#[derive(Clone, Debug)]
pub struct Happening {
    /// From 1.
    pub number: u64,
    /// When it happened.
    pub at: Time,
    /// What happened.
    pub what: What,
}

/// What happened.
#[derive(Clone, Debug)]
pub enum What {
    /// A message came.
    Message(Box<Publish>),
    /// The connection is over.
    Closed(String),
}

/// A client on the desk.
#[derive(Debug)]
pub struct DeskClient {
    /// By which the API knows it.
    pub id: String,
    /// Whoever opened it; nobody else may use it.
    pub owner: Arc<str>,
    /// The client itself.
    pub client: Client,
    /// Its client identifier.
    pub client_id: String,
    happened: Mutex<Happened>,
    /// When somebody asked last, microseconds since 1970.
    asked: AtomicU64,
}

#[derive(Debug, Default)]
struct Happened {
    held: VecDeque<Happening>,
    bytes: usize,
    last_number: u64,
    dropped: u64,
}

impl DeskClient {
    fn push(&self, what: What, now: Time) {
        let mut happened = self.happened.lock();
        happened.last_number += 1;
        let number = happened.last_number;
        happened.bytes += weight(&what);
        happened.held.push_back(Happening { number, at: now, what });
        while happened.held.len() > HELD || happened.bytes > HELD_BYTES && happened.held.len() > 1 {
            if let Some(gone) = happened.held.pop_front() {
                happened.bytes -= weight(&gone.what);
                happened.dropped += 1;
            }
        }
    }

    /// What happened after the happening of this number, and how much was dropped in all because nobody asked for it.
    pub fn after(&self, number: u64) -> (Vec<Happening>, u64) {
        let happened = self.happened.lock();
        let new = happened.held.iter().filter(|happening| happening.number > number).cloned().collect();
        (new, happened.dropped)
    }

    fn is_left(&self, now: Time) -> bool {
        now.as_micros().saturating_sub(self.asked.load(Ordering::Relaxed)) > LEFT_AFTER
    }
}

fn weight(what: &What) -> usize {
    match what {
        What::Message(publish) => publish.payload.len() + publish.topic.len(),
        What::Closed(words) => words.len(),
    }
}

/// Why no client was opened.
#[derive(Debug)]
pub enum NotOpened {
    /// There are as many as may be.
    TooMany,
    /// The broker did not let it in.
    Refused(ConnectError),
}

/// All clients on the desk.
#[derive(Debug, Default)]
pub struct Desk {
    clients: Mutex<HashMap<String, Arc<DeskClient>>>,
    /// Something has happened to one of them.
    more: Notify,
}

impl Desk {
    /// The client of this identifier, if this person holds it.
    pub fn get(&self, id: &str, owner: &str) -> Option<Arc<DeskClient>> {
        self.clients.lock().get(id).filter(|client| *client.owner == *owner).cloned()
    }

    /// Waits so long until something has happened to one of these clients after the happening of that number.
    pub async fn wait(&self, clients: &[(Arc<DeskClient>, u64)], longest: Duration, now: Time) {
        clients.iter().for_each(|(client, _)| client.asked.store(now.as_micros(), Ordering::Relaxed));
        let waited = timeout(longest, async {
            loop {
                let mut notified = std::pin::pin!(self.more.notified());
                // From here on nothing that happens is missed.
                notified.as_mut().enable();
                if clients.iter().any(|(client, number)| client.happened.lock().last_number > *number) {
                    return;
                }
                notified.await;
            }
        });
        // Nothing is an answer too.
        let _ = waited.await;
    }

    /// Takes a client off the desk.
    pub fn take(&self, id: &str, owner: &str) -> Option<Arc<DeskClient>> {
        let client = self.get(id, owner)?;
        self.clients.lock().remove(id);
        Some(client)
    }

    /// Takes off clients that nobody has asked for lately: the page is closed.
    pub fn take_left(&self, now: Time) -> Vec<Arc<DeskClient>> {
        let mut clients = self.clients.lock();
        let left: Vec<String> =
            clients.iter().filter(|(_, client)| client.is_left(now)).map(|(id, _)| id.clone()).collect();
        left.iter().filter_map(|id| clients.remove(id)).collect()
    }
}

/// Opens a client as an identity, for which a person answers.
pub async fn open(
    desk: &Arc<Desk>,
    broker: &Arc<Broker>,
    entrance: Entrance<'_>,
    options: &Options,
    identity: &str,
    by: &Author,
) -> Result<Arc<DeskClient>, NotOpened> {
    if desk.clients.lock().len() >= CLIENTS {
        return Err(NotOpened::TooMany);
    }
    let acting = Acting::Person { identity: identity.to_owned(), person: Arc::clone(&by.person) };
    let attached = attach(broker, entrance, acting);
    let near = attached.map_err(|_| NotOpened::TooMany)?;
    let (client, arrivals) = Client::connect_over(near, options).await.map_err(NotOpened::Refused)?;
    let desk_client = Arc::new(DeskClient {
        id: random_text(16),
        owner: Arc::clone(&by.person),
        client_id: client
            .connack()
            .properties
            .assigned_client_identifier
            .as_deref()
            .unwrap_or(&options.client_id)
            .into(),
        client,
        happened: Mutex::default(),
        asked: AtomicU64::new(broker.now().as_micros()),
    });
    let after = Some(json!({ "client_id": desk_client.client_id }));
    broker.sessions.note(by, Deed { after, ..Deed::new("act as", "identity", identity) });
    desk.clients.lock().insert(desk_client.id.clone(), Arc::clone(&desk_client));
    broker.common.tasks.spawn(gather(Arc::clone(desk), broker.common.clock, Arc::clone(&desk_client), arrivals));
    Ok(desk_client)
}

/// Gathers what happens to a client until its connection is over.
async fn gather(desk: Arc<Desk>, clock: Clock, client: Arc<DeskClient>, mut arrivals: Arrivals) {
    while let Some(arrival) = arrivals.next().await {
        let what = match arrival {
            Arrival::Message(publish) => What::Message(publish),
            Arrival::Closed { words, .. } => What::Closed(words),
        };
        client.push(what, clock.now());
        desk.more.notify_waiters();
    }
}

/// Closes clients that nobody asks for any more, until the service stops.
pub async fn close_left(desk: Arc<Desk>, common: Arc<Common>) {
    loop {
        tokio::select! {
            () = tokio::time::sleep(LOOK) => {}
            () = common.stopping.cancelled() => return,
        }
        for left in desk.take_left(common.clock.now()) {
            common.tasks.spawn(async move { left.client.disconnect().await });
        }
    }
}
