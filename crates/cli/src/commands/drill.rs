//! `moorfall drill`: a deliberate fault in a running system, with a check that nothing acknowledged was lost.

use std::{
    collections::HashMap,
    net::SocketAddr,
    path::Path,
    process::Stdio,
    sync::{
        Arc,
        atomic::{AtomicBool, AtomicU64, Ordering},
    },
    time::Duration,
};

use clap::{Args, Subcommand};
use moorfall_client::{Arrival, Client, ClientState, Options, Remote};
use moorfall_wire::{Publish, QoS, Subscription, SubscriptionOptions};
use nix::{
    sys::signal::{Signal, kill},
    unistd::Pid,
};
use rand::{RngExt, SeedableRng};
use tokio::{
    io::{AsyncBufReadExt, BufReader},
    process::{Child, Command},
    sync::Mutex,
    task::{JoinHandle, JoinSet},
    time::{Instant, sleep, timeout},
};

use crate::output::{self, Done, Failure, count, plural};

/// What the command takes.
#[derive(Debug, Args)]
pub struct Arguments {
    #[command(subcommand)]
    what: What,
}

#[derive(Debug, Subcommand)]
enum What {
    /// Kill a test service repeatedly under traffic, and check that no acknowledged message is lost
    ///
    /// Publishers and subscribers use QoS 1 and 2 and persistent sessions; in every other round PostgreSQL is killed
    /// too. No running service is needed, and nothing is left behind.
    Crash {
        /// Number of rounds
        #[arg(long, value_name = "N", default_value_t = 10, value_parser = clap::value_parser!(u32).range(1..=100_000))]
        rounds: u32,
        /// Seed of the random moments; the same seed gives the same moments
        #[arg(long, value_name = "NUMBER", default_value_t = 7)]
        seed: u64,
    },
}

/// How long the service may take to start, and what was acknowledged to arrive at the end.
const LONGEST: Duration = Duration::from_secs(60);

/// Between two tries of a client to come back.
const RETRY: Duration = Duration::from_millis(20);

/// Publishers of each quality of service.
const PUBLISHERS: usize = 2;

/// Requests of one publisher that wait for their answers.
const AT_A_TIME: usize = 32;

/// Carries out the command.
pub async fn run(arguments: Arguments) -> Done {
    let What::Crash { rounds, seed } = arguments.what;
    let folder = std::env::temp_dir().join(format!("moorfall-drill-{}", std::process::id()));
    let wrong = |error: std::io::Error| Failure(format!("{} can't be used: {error}.", folder.display()));
    // PostgreSQL may run as another user, who must be able to pass through.
    std::fs::create_dir(&folder).map_err(wrong)?;
    let kept =
        |words: &str| Failure(format!("{words} The folder and the log of the service are in {}.", folder.display()));
    let tally = crash(&folder, rounds, seed).await.map_err(|Failure(words)| kept(&words))?;
    output::finish(tally.print())?;
    if !tally.is_good() {
        return Err(kept("An acknowledged message was lost or delivered twice, see above."));
    }
    let _ = std::fs::remove_dir_all(&folder);
    Ok(())
}

/// What came of it all.
#[derive(Debug, Default)]
struct Tally {
    rounds: u32,
    acknowledged: [u64; 2],
    lost: [u64; 2],
    /// Copies beyond the first.
    again: [u64; 2],
}

impl Tally {
    fn is_good(&self) -> bool {
        self.lost == [0, 0] && self.again[1] == 0
    }

    fn print(&self) -> std::io::Result<()> {
        output::line(format_args!("the service was killed {}", plural(self.rounds.into(), "time", "times")))?;
        for (place, qos) in ["QoS 1", "QoS 2"].iter().enumerate() {
            let copies = if place == 0 { "extra copies (allowed at QoS 1)" } else { "delivered twice" };
            output::line(format_args!(
                "{qos}: {} acknowledged, {} lost, {} {copies}",
                count(self.acknowledged[place]),
                count(self.lost[place]),
                count(self.again[place])
            ))?;
        }
        Ok(())
    }
}

/// A service of the drill's own.
struct Victim {
    child: Child,
    mqtt: SocketAddr,
}

impl Victim {
    async fn start(folder: &Path, mqtt: SocketAddr) -> Result<Self, Failure> {
        let program = std::env::current_exe().map_err(|error| Failure(error.to_string()))?;
        let log = std::fs::OpenOptions::new().create(true).append(true).open(folder.join("log"));
        let log = log.map_err(|error| Failure(error.to_string()))?;
        let mut child = Command::new(program)
            .args(["serve", "--open", "--http", "127.0.0.1:0", "--mqtt", &mqtt.to_string(), "--data"])
            .arg(folder.join("data"))
            .env("XDG_STATE_HOME", folder)
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(log)
            .kill_on_drop(true)
            .spawn()
            .map_err(|error| Failure(format!("The service could not be started: {error}.")))?;
        let output = child.stdout.take().expect("it is piped");
        let mut line = String::new();
        let _ = timeout(LONGEST, BufReader::new(output).read_line(&mut line)).await;
        let address = line.split_whitespace().find_map(|field| field.strip_prefix("mqtt=mqtt://"));
        match address.and_then(|address| address.parse().ok()) {
            Some(mqtt) => Ok(Self { child, mqtt }),
            None => {
                let log = std::fs::read_to_string(folder.join("log")).unwrap_or_default();
                let last: Vec<&str> = log.lines().rev().take(5).collect();
                let last: Vec<&str> = last.into_iter().rev().collect();
                Err(Failure(format!("The service did not start. Its output:\n{}", last.join("\n"))))
            }
        }
    }

    /// SIGKILL, for the database too if asked.
    async fn kill(mut self, folder: &Path, database: bool) {
        let server = database.then(|| database_pid(folder)).flatten();
        let _ = self.child.kill().await;
        if let Some(pid) = server {
            let _ = kill(pid, Signal::SIGKILL);
        }
    }

    async fn stop(mut self) {
        if let Some(id) = self.child.id().and_then(|id| i32::try_from(id).ok()) {
            let _ = kill(Pid::from_raw(id), Signal::SIGTERM);
        }
        let _ = timeout(LONGEST, self.child.wait()).await;
    }
}

/// The database server of the drill's service.
fn database_pid(folder: &Path) -> Option<Pid> {
    let text = std::fs::read_to_string(folder.join("data/database/postmaster.pid")).ok()?;
    let pid: i32 = text.lines().next()?.trim().parse().ok()?;
    std::fs::read_link(format!("/proc/{pid}/cwd")).ok()?;
    Some(Pid::from_raw(pid))
}

async fn crash(folder: &Path, rounds: u32, seed: u64) -> Result<Tally, Failure> {
    let mut random = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
    let mut victim = Victim::start(folder, SocketAddr::from(([127, 0, 0, 1], 0))).await?;
    let mqtt = victim.mqtt;
    let traffic = Traffic::begin(mqtt).await;
    for round in 0..rounds {
        sleep(Duration::from_millis(random.random_range(200..1_000))).await;
        let database = round % 2 == 1;
        victim.kill(folder, database).await;
        output::remark(format_args!(
            "round {} of {rounds}: the service was killed{}; {} acknowledged",
            round + 1,
            if database { ", and PostgreSQL" } else { "" },
            count(traffic.acknowledged())
        ));
        victim = Victim::start(folder, mqtt).await?;
    }
    // After the last restart everybody comes back and goes on for a while.
    sleep(Duration::from_millis(500)).await;
    let mut tally = traffic.end().await?;
    tally.rounds = rounds;
    victim.stop().await;
    Ok(tally)
}

/// What was acknowledged, and what has arrived: (publisher, number) → copies.
#[derive(Default)]
struct Ledger {
    acknowledged: Mutex<Vec<(usize, u64)>>,
    arrived: [Mutex<HashMap<(usize, u64), u64>>; 2],
    count: AtomicU64,
    stop: AtomicBool,
}

struct Traffic {
    ledger: Arc<Ledger>,
    publishers: JoinSet<()>,
    subscribers: Vec<JoinHandle<()>>,
}

const LEVELS: [QoS; 2] = [QoS::AtLeastOnce, QoS::ExactlyOnce];

fn topic(qos: QoS) -> String {
    format!("harrowmere/drill/qos-{qos}")
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
    async fn begin(mqtt: SocketAddr) -> Self {
        let ledger = Arc::new(Ledger::default());
        let mut subscribers = Vec::new();
        for (place, qos) in LEVELS.into_iter().enumerate() {
            let (ready, subscribed) = tokio::sync::oneshot::channel();
            subscribers.push(tokio::spawn(subscriber(Arc::clone(&ledger), mqtt, place, qos, Some(ready))));
            // Nothing is published before somebody keeps it.
            let _ = subscribed.await;
        }
        let mut publishers = JoinSet::new();
        for (place, qos) in LEVELS.into_iter().enumerate() {
            for number in 0..PUBLISHERS {
                publishers.spawn(publisher(Arc::clone(&ledger), mqtt, place * PUBLISHERS + number, qos));
            }
        }
        Self { ledger, publishers, subscribers }
    }

    fn acknowledged(&self) -> u64 {
        self.ledger.count.load(Ordering::Relaxed)
    }

    /// Stops publishing, waits until what was acknowledged has arrived, and counts.
    async fn end(mut self) -> Result<Tally, Failure> {
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
async fn publisher(ledger: Arc<Ledger>, mqtt: SocketAddr, publisher: usize, qos: QoS) {
    let options = options(mqtt, format!("drill-publisher-{publisher}"));
    let mut state = ClientState::default();
    let mut number = 0;
    while !ledger.stop.load(Ordering::Relaxed) {
        let (client, arrivals) = come_back(&options, &state).await;
        let mut waiting: JoinSet<Option<u64>> = JoinSet::new();
        let mut broken = false;
        while !(broken || ledger.stop.load(Ordering::Relaxed) && waiting.is_empty()) {
            while waiting.len() < AT_A_TIME && !ledger.stop.load(Ordering::Relaxed) {
                let publish = Publish::new(topic(qos).parse().expect("a topic"), format!("{publisher} {number}"), qos);
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
    mqtt: SocketAddr,
    place: usize,
    qos: QoS,
    mut ready: Option<tokio::sync::oneshot::Sender<()>>,
) {
    let options = options(mqtt, format!("drill-subscriber-{qos}"));
    let mut state = ClientState::default();
    loop {
        let (client, mut arrivals) = come_back(&options, &state).await;
        if let Some(ready) = ready.take() {
            let wanted = SubscriptionOptions { qos, ..SubscriptionOptions::default() };
            let filter = topic(qos).parse().expect("a filter");
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
