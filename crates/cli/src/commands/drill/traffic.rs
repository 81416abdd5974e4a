//! Messages that go on whatever happens, and what became of each.

use std::{
    collections::HashMap,
    net::SocketAddr,
    sync::{
        Arc,
        atomic::{AtomicBool, AtomicU64, Ordering},
    },
    time::Duration,
};

use moorfall_client::{Arrival, Client, ClientState, Options, Remote};
use moorfall_wire::{Publish, QoS, Subscription, SubscriptionOptions, TopicName};
use tokio::{
    sync::Mutex,
    task::{JoinHandle, JoinSet},
    time::{Instant, sleep},
};

use super::LONGEST;
use crate::output::{self, Failure, count};

/// Between two tries of a client to come back.
const RETRY: Duration = Duration::from_millis(20);

/// Publishers of each quality of service.
const PUBLISHERS: usize = 2;

/// Requests of one publisher that wait for their answers.
const AT_A_TIME: usize = 32;

/// What came of it all.
#[derive(Debug, Default)]
pub(super) struct Tally {
    acknowledged: [u64; 2],
    lost: [u64; 2],
    /// Copies beyond the first.
    again: [u64; 2],
}

impl Tally {
    pub(super) fn is_good(&self) -> bool {
        self.lost == [0, 0] && self.again[1] == 0
    }

    pub(super) fn print(&self, before: &str) -> std::io::Result<()> {
        for (place, qos) in ["QoS 1", "QoS 2"].iter().enumerate() {
            let copies = if place == 0 { "extra copies (allowed at QoS 1)" } else { "delivered twice" };
            output::line(format_args!(
                "{before}{qos}: {} acknowledged, {} lost, {} {copies}",
                count(self.acknowledged[place]),
                count(self.lost[place]),
                count(self.again[place])
            ))?;
        }
        Ok(())
    }
}

/// What was acknowledged, and what has arrived: (publisher, number) → copies.
#[derive(Default)]
struct Ledger {
    acknowledged: Mutex<Vec<(usize, u64)>>,
    arrived: [Mutex<HashMap<(usize, u64), u64>>; 2],
    count: AtomicU64,
    stop: AtomicBool,
}

/// Where messages are published and where they arrive, under which names.
#[derive(Clone, Debug)]
pub(super) struct Way {
    /// Tells its clients from those of another one.
    pub(super) name: &'static str,
    /// Where, and below which topic, they are published.
    pub(super) from: (SocketAddr, &'static str),
    /// Where, and below which topic, they arrive.
    pub(super) to: (SocketAddr, &'static str),
}

pub(super) struct Traffic {
    ledger: Arc<Ledger>,
    publishers: JoinSet<()>,
    subscribers: Vec<JoinHandle<()>>,
}

const LEVELS: [QoS; 2] = [QoS::AtLeastOnce, QoS::ExactlyOnce];

fn topic(root: &str, qos: QoS) -> String {
    format!("{root}/qos-{qos}")
}

fn options(mqtt: SocketAddr, client_id: String) -> Options {
    let remote = Remote::tcp(mqtt.ip().to_string(), mqtt.port(), None);
    Options {
        client_id,
        clean_start: false,
        session_expiry: u32::MAX,
        connect_within: Duration::from_secs(2),
        ..Options::new(remote)
    }
}

impl Traffic {
    /// Subscribes, and then publishes on and on.
    pub(super) async fn begin(way: &Way) -> Self {
        let ledger = Arc::new(Ledger::default());
        let mut subscribers = Vec::new();
        for (place, qos) in LEVELS.into_iter().enumerate() {
            let (ready, subscribed) = tokio::sync::oneshot::channel();
            subscribers.push(tokio::spawn(subscriber(Arc::clone(&ledger), way.clone(), (place, qos), Some(ready))));
            // Nothing is published before somebody keeps it.
            let _ = subscribed.await;
        }
        let mut publishers = JoinSet::new();
        for (place, qos) in LEVELS.into_iter().enumerate() {
            for number in 0..PUBLISHERS {
                publishers.spawn(publisher(Arc::clone(&ledger), way.clone(), place * PUBLISHERS + number, qos));
            }
        }
        Self { ledger, publishers, subscribers }
    }

    /// Messages so far.
    pub(super) fn acknowledged(&self) -> u64 {
        self.ledger.count.load(Ordering::Relaxed)
    }

    /// Stops publishing, waits until what was acknowledged has arrived, and counts.
    pub(super) async fn end(mut self) -> Result<Tally, Failure> {
        self.ledger.stop.store(true, Ordering::Relaxed);
        while self.publishers.join_next().await.is_some() {}
        let deadline = Instant::now() + LONGEST;
        let mut tally = self.count().await;
        while tally.lost != [0, 0] && Instant::now() < deadline {
            sleep(Duration::from_millis(100)).await;
            tally = self.count().await;
        }
        // A second copy may come late.
        sleep(Duration::from_millis(500)).await;
        tally = self.count().await;
        self.subscribers.iter().for_each(JoinHandle::abort);
        if tally.acknowledged.contains(&0) {
            return Err(Failure("No message was acknowledged, so nothing was tested.".into()));
        }
        Ok(tally)
    }

    async fn count(&self) -> Tally {
        let mut tally = Tally::default();
        let acknowledged = self.ledger.acknowledged.lock().await;
        for (place, arrived) in self.ledger.arrived.iter().enumerate() {
            let arrived = arrived.lock().await;
            for key in acknowledged.iter().filter(|(publisher, _)| publisher / PUBLISHERS == place) {
                tally.acknowledged[place] += 1;
                tally.lost[place] += u64::from(!arrived.contains_key(key));
            }
            tally.again[place] = arrived.values().map(|copies| copies - 1).sum();
        }
        tally
    }
}

/// Connects again and again until it succeeds or the drill is over.
async fn come_back(options: &Options, state: &ClientState) -> (Client, moorfall_client::Arrivals) {
    loop {
        match Client::resume(options, state.clone()).await {
            Ok(connected) => return connected,
            Err(_) => sleep(RETRY).await,
        }
    }
}

/// Publishes numbers; what is not acknowledged when the connection breaks is sent again by the session.
async fn publisher(ledger: Arc<Ledger>, way: Way, publisher: usize, qos: QoS) {
    let options = options(way.from.0, format!("drill-{}-publisher-{publisher}", way.name));
    let topic: TopicName = topic(way.from.1, qos).parse().expect("a topic");
    let mut state = ClientState::default();
    let mut number = 0;
    while !ledger.stop.load(Ordering::Relaxed) {
        let (client, arrivals) = come_back(&options, &state).await;
        let mut waiting: JoinSet<Option<u64>> = JoinSet::new();
        let mut broken = false;
        while !(broken || ledger.stop.load(Ordering::Relaxed) && waiting.is_empty()) {
            while waiting.len() < AT_A_TIME && !ledger.stop.load(Ordering::Relaxed) {
                let publish = Publish::new(topic.clone(), format!("{publisher} {number}"), qos);
                let (client, this) = (client.clone(), number);
                waiting.spawn(async move {
                    let answer = client.publish(publish).await.ok()??;
                    answer.reasons.iter().all(|reason| !reason.is_error()).then_some(this)
                });
                number += 1;
            }
            match waiting.join_next().await {
                Some(Ok(Some(done))) => {
                    ledger.acknowledged.lock().await.push((publisher, done));
                    ledger.count.fetch_add(1, Ordering::Relaxed);
                }
                Some(_) => broken = true,
                None => {}
            }
        }
        while let Some(done) = waiting.join_next().await {
            if let Ok(Some(done)) = done {
                ledger.acknowledged.lock().await.push((publisher, done));
            }
        }
        drop(client);
        state = arrivals.into_state().await;
    }
}

async fn subscriber(
    ledger: Arc<Ledger>,
    way: Way,
    (place, qos): (usize, QoS),
    mut ready: Option<tokio::sync::oneshot::Sender<()>>,
) {
    let options = options(way.to.0, format!("drill-{}-subscriber-{qos}", way.name));
    let mut state = ClientState::default();
    loop {
        let (client, mut arrivals) = come_back(&options, &state).await;
        if let Some(ready) = ready.take() {
            let wanted = SubscriptionOptions { qos, ..SubscriptionOptions::default() };
            let filter = topic(way.to.1, qos).parse().expect("a filter");
            let _ = client.subscribe(vec![Subscription { filter, options: wanted }]).await;
            let _ = ready.send(());
        }
        while let Some(arrival) = arrivals.next().await {
            let Arrival::Message(message) = arrival else { break };
            let text = String::from_utf8_lossy(&message.payload).into_owned();
            let key = text.split_once(' ').and_then(|(by, number)| Some((by.parse().ok()?, number.parse().ok()?)));
            if let Some(key) = key {
                *ledger.arrived[place].lock().await.entry(key).or_default() += 1;
            }
        }
        drop(client);
        state = arrivals.into_state().await;
    }
}
