//! Reads the topics that alerts are about, as a client inside.

use std::{net::SocketAddr, sync::Arc, time::Duration};

use moorfall_broker::{
    attach::{Entrance, attach},
    broker::Broker,
    listeners::{listener::Listener, origin::Acting, seats::Seats},
};
use moorfall_client::{Arrival, Client, Options, Remote};
use moorfall_core::ADMINISTRATOR;
use moorfall_wire::{Subscription, SubscriptionOptions, TopicFilter};
use tokio::{sync::watch, time::sleep};

use super::Alerts;

/// The client identifier.
const CLIENT: &str = "moorfall-alerts";

/// Between two attempts to connect.
const AGAIN: Duration = Duration::from_secs(1);

/// Where the client comes in.
#[derive(Clone, Debug)]
pub struct Entry {
    /// How many may come.
    pub seats: Arc<Seats>,
    /// By which listener.
    pub listener: Arc<Listener>,
    /// From which address.
    pub address: SocketAddr,
}

/// Reads until the service stops; as long as no alert is about a topic there is no client.
pub async fn read(broker: Arc<Broker>, entry: Entry, alerts: Arc<Alerts>) {
    let stopping = broker.common.stopping.clone();
    let mut filters = alerts.filters.subscribe();
    let all = async {
        loop {
            if filters.borrow_and_update().is_empty() {
                if filters.changed().await.is_err() {
                    return;
                }
                continue;
            }
            if let Err(error) = read_once(&broker, &entry, &alerts, &mut filters).await {
                tracing::debug!(%error, "the topics of alerts can't be read");
            }
            sleep(AGAIN).await;
        }
    };
    let _stopped = stopping.run_until_cancelled(all).await;
}

/// Why the topics are not read.
#[derive(Debug, thiserror::Error)]
enum NotRead {
    #[error("no room for another connection")]
    NoRoom,
    #[error(transparent)]
    NotConnected(#[from] moorfall_client::ConnectError),
    #[error(transparent)]
    NotAsked(#[from] moorfall_client::ClientError),
    #[error("{0}")]
    Closed(String),
}

async fn read_once(
    broker: &Arc<Broker>,
    entry: &Entry,
    alerts: &Alerts,
    filters: &mut watch::Receiver<Vec<TopicFilter>>,
) -> Result<(), NotRead> {
    let acting = Acting { identity: ADMINISTRATOR.into(), person: ADMINISTRATOR.into() };
    let entrance = Entrance { seats: &entry.seats, listener: &entry.listener, address: entry.address };
    let near = attach(broker, entrance, acting).map_err(|_| NotRead::NoRoom)?;
    let remote = Remote::tcp("the broker", 0, Some(ADMINISTRATOR.into()));
    let options = Options { client_id: CLIENT.into(), ..Options::new(remote) };
    let (client, mut arrivals) = Client::connect_over(near, &options).await?;
    let mut subscribed: Vec<TopicFilter> = Vec::new();
    loop {
        let wanted = filters.borrow_and_update().clone();
        let gone: Vec<TopicFilter> = subscribed.iter().filter(|known| !wanted.contains(known)).cloned().collect();
        let new = wanted.iter().filter(|filter| !subscribed.contains(filter));
        let new: Vec<Subscription> = new
            .map(|filter| Subscription { filter: filter.clone(), options: SubscriptionOptions::default() })
            .collect();
        // Asking and reading go on beside each other: what arrives must not wait for an answer behind it.
        let asking = async {
            if !gone.is_empty() {
                client.unsubscribe(gone).await?;
            }
            if !new.is_empty() {
                client.subscribe(new).await?;
            }
            Ok::<_, moorfall_client::ClientError>(())
        };
        let mut asking = std::pin::pin!(asking);
        let mut is_asked = false;
        loop {
            tokio::select! {
                asked = &mut asking, if !is_asked => {
                    asked?;
                    is_asked = true;
                }
                arrival = arrivals.next() => match arrival {
                    Some(Arrival::Message(message)) => {
                        alerts.arrived(broker, &message.topic, &message.payload, !message.retain);
                    }
                    Some(Arrival::Closed { words, .. }) => return Err(NotRead::Closed(words)),
                    None => return Ok(()),
                },
                changed = filters.changed(), if is_asked => {
                    if changed.is_err() || filters.borrow().is_empty() {
                        client.disconnect().await;
                        return Ok(());
                    }
                    break;
                }
            }
        }
        subscribed = wanted;
    }
}
