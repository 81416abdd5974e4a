//! Bridges: one task for each, which keeps its link up and carries packets while it is.

mod fault;
mod here;
mod link;
mod pace;
mod seen;

use std::{collections::BTreeMap, num::NonZeroU16, path::PathBuf, sync::Arc, time::Duration};

use moorfall_broker::{broker::Broker, clock::sleep, listeners::seats::Seats, notes, random::random_text};
use moorfall_client::{AskedBy, Options, Remote, Trust, dial, reaches};
use moorfall_core::{
    Time,
    blueprint::Bridge,
    bridge::{
        Direction, RemoteTerms,
        relay::{Names, NextId},
    },
};
use moorfall_live::{facts::Fact, links::LinkSums};
use moorfall_store::{Author, BridgeRecord, Deed, StoreError};
use moorfall_wire::{Connect, ProtocolVersion, QoS, Will, WillProperties};
use parking_lot::Mutex;
use serde_json::json;
use tokio::{
    sync::{oneshot, watch},
    task::JoinHandle,
    time::{Instant, MissedTickBehavior, interval},
};

use self::{
    here::{Here, introduction, wanted},
    link::{DOWN, Ended, Link, Start, UP, note_limits, refused_here},
    pace::Pace,
};

pub use self::{
    fault::LinkFault,
    seen::{Flow, Phase, Seen, Standing},
};

/// How long making a link may take.
const CONNECT: Duration = Duration::from_secs(10);

/// Over which time rates are taken.
const RATE: Duration = Duration::from_secs(10);

/// Between two looks for messages that have waited too long, and two times that drops are told.
const LOOK: Duration = Duration::from_secs(10);

/// What a bridge is to do.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Mode {
    /// Keep the link up.
    Run,
    /// Rest.
    Pause,
    /// Send what waits, then rest.
    Drain,
    /// End: the design has changed.
    Stop,
}

/// The same, and how often it was told to connect anew.
#[derive(Clone, Copy, Debug)]
struct Wish {
    mode: Mode,
    retry: u64,
}

/// The reason of what rules keep back, which is no loss.
const NOT_ALLOWED: &str = "not-allowed";

/// The reason of what found no room.
const QUEUE_FULL: &str = "queue-full";

/// What waits here for a bridge.
#[derive(Clone, Debug, Default)]
pub struct Waiting {
    /// Messages that wait to be sent.
    pub messages: usize,
    /// Their bytes.
    pub bytes: usize,
    /// When the first one was accepted.
    pub oldest: Option<Time>,
    /// Messages that were sent and are not acknowledged.
    pub in_flight: usize,
    /// What waited and was dropped, by reason.
    pub dropped: Vec<(&'static str, u64)>,
}

/// What somebody can tell a bridge.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Order {
    /// To rest. Messages wait meanwhile.
    Pause,
    /// To go on.
    Resume,
    /// To take nothing new, send what waits, and then rest.
    Drain,
    /// To connect anew at once, beginning with its first address.
    Retry,
}

impl Order {
    fn done(self) -> &'static str {
        match self {
            Self::Pause => "paused",
            Self::Resume => "resumed",
            Self::Drain => "begun to drain",
            Self::Retry => "reconnected",
        }
    }

    fn verb(self) -> &'static str {
        match self {
            Self::Pause => "pause",
            Self::Resume => "resume",
            Self::Drain => "drain",
            Self::Retry => "retry",
        }
    }
}

#[derive(Debug)]
struct Running {
    seen: Arc<Seen>,
    wishes: watch::Sender<Wish>,
    /// Absent while another one takes its place.
    task: Option<JoinHandle<()>>,
}

/// All bridges of one broker.
#[derive(Debug)]
pub struct Bridges {
    here: Arc<Here>,
    /// Where files of bridges lie.
    files: PathBuf,
    running: Mutex<BTreeMap<String, Running>>,
}

impl Bridges {
    /// None runs yet. Files that the blueprint names lie in this folder.
    pub fn new(broker: Arc<Broker>, seats: Arc<Seats>, files: PathBuf) -> Self {
        Self { here: Arc::new(Here { broker, seats }), files, running: Mutex::default() }
    }

    /// What is seen of each, by name.
    pub fn all(&self) -> Vec<Arc<Seen>> {
        self.running.lock().values().map(|running| Arc::clone(&running.seen)).collect()
    }

    /// What is seen of one.
    pub fn get(&self, name: &str) -> Option<Arc<Seen>> {
        self.running.lock().get(name).map(|running| Arc::clone(&running.seen))
    }

    /// Tells a bridge what to do; gives whether there is one of this name.
    ///
    /// # Errors
    ///
    /// The database can't keep it.
    pub async fn order(&self, name: &str, order: Order, by: &Author) -> Result<bool, StoreError> {
        if !self.running.lock().contains_key(name) {
            return Ok(false);
        }
        let broker = &self.here.broker;
        let deed = Deed::new(order.verb(), "bridge", name);
        match order {
            Order::Pause | Order::Resume | Order::Drain => {
                broker.store().pause_bridge(name, order != Order::Resume, by, &deed).await?;
            }
            Order::Retry => broker.sessions.note(by, deed),
        }
        if let Some(running) = self.running.lock().get(name) {
            running.wishes.send_modify(|wish| match order {
                Order::Pause => wish.mode = Mode::Pause,
                Order::Resume => wish.mode = Mode::Run,
                Order::Drain => wish.mode = Mode::Drain,
                Order::Retry => wish.retry += 1,
            });
        }
        let told = Fact::BridgeTold { bridge: name.to_owned(), what: order.done(), by: Arc::clone(&by.person) };
        notes::note(&broker.live, broker.now(), &told);
        Ok(true)
    }

    /// Keeps the password that a bridge shows, or forgets it; gives whether there is such a bridge.
    ///
    /// # Errors
    ///
    /// The database can't keep it.
    pub async fn put_secret(&self, name: &str, secret: Option<&str>, by: &Author) -> Result<bool, StoreError> {
        if !self.running.lock().contains_key(name) {
            return Ok(false);
        }
        let after = Some(json!({ "secret": secret.is_some() }));
        let deed = Deed { after, ..Deed::new("set secret", "bridge", name) };
        self.here.broker.store().put_bridge_secret(name, secret.map(str::as_bytes), by, &deed).await?;
        // With the new one at once.
        if let Some(running) = self.running.lock().get(name) {
            running.wishes.send_modify(|wish| wish.retry += 1);
        }
        Ok(true)
    }

    /// Whether a password is kept for a bridge.
    ///
    /// # Errors
    ///
    /// The database does not say.
    pub async fn secrets(&self) -> Result<Vec<String>, StoreError> {
        let known = self.here.broker.store().bridges().await?;
        Ok(known.into_iter().filter(|record| record.secret.is_some()).map(|record| record.name).collect())
    }

    /// Runs the bridges of the design in force, until the service stops. One whose design changes begins anew; the
    /// others don't notice. `ready` is told when what is to be pushed waits for all that there are at first.
    pub async fn run(self: Arc<Self>, ready: oneshot::Sender<()>) {
        let mut ticks = interval(Duration::from_secs(1));
        ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
        let mut revision = None;
        let mut ready = Some(ready);
        let mut looked = Instant::now();
        let mut dropped = BTreeMap::new();
        let stopping = self.here.broker.common.stopping.clone();
        loop {
            let in_force = self.here.broker.design.in_force();
            if revision != Some(in_force.revision) {
                let bridges = in_force.policy.blueprint().bridges.clone();
                self.take_over(bridges, ready.is_some()).await;
                revision = Some(in_force.revision);
            }
            if let Some(ready) = ready.take() {
                // The service may have stopped.
                let _ = ready.send(());
            }
            tokio::select! {
                _ = ticks.tick() => {}
                () = stopping.cancelled() => break,
            }
            let now = self.here.broker.now();
            self.sum_up(now);
            for seen in self.all() {
                for direction in [Direction::Push, Direction::Pull] {
                    seen.flows(direction).iter().for_each(|flow| flow.look(now, RATE));
                }
            }
            if looked.elapsed() >= LOOK {
                looked = Instant::now();
                self.look_at_waiting(&mut dropped, now);
            }
        }
        let running = std::mem::take(&mut *self.running.lock());
        for task in running.into_values().filter_map(|running| running.task) {
            let _ = task.await;
        }
    }

    /// What waits here for a bridge: messages, bytes, and since when the first one.
    pub fn waiting(&self, bridge: &Bridge) -> Waiting {
        let record = self.here.broker.sessions.registry.get(&bridge.client_id(Direction::Push));
        let Some(record) = record else { return Waiting::default() };
        let (messages, bytes) = record.waiting();
        let mut dropped: Vec<_> = record.withheld().into_iter().filter(|(reason, _)| *reason != NOT_ALLOWED).collect();
        match record.queue().1 {
            0 => {}
            count => dropped.push((QUEUE_FULL, count)),
        }
        Waiting {
            messages,
            bytes,
            oldest: record.oldest(),
            in_flight: record.in_flight.load(std::sync::atomic::Ordering::Relaxed),
            dropped,
        }
    }

    fn sum_up(&self, now: Time) {
        let mut sums = LinkSums::default();
        for seen in self.all() {
            match seen.standing().phase {
                Phase::Up | Phase::Draining => sums.up += 1,
                Phase::Connecting | Phase::Down => sums.down += 1,
                Phase::Paused => {}
            }
            let waiting = self.waiting(&seen.bridge);
            sums.waiting += waiting.messages as u64;
            sums.bytes += waiting.bytes as u64;
            let waited = waiting.oldest.map_or(0, |oldest| (now - oldest).as_micros() as u64);
            sums.oldest = sums.oldest.max(waited);
        }
        self.here.broker.live.links.set(sums);
    }

    /// Drops what has waited too long, and tells what was dropped.
    fn look_at_waiting(&self, told: &mut BTreeMap<String, u64>, now: Time) {
        let Broker { sessions, live, .. } = &*self.here.broker;
        for seen in self.all() {
            let Some(record) = sessions.registry.get(&seen.bridge.client_id(Direction::Push)) else { continue };
            if let Some(age) = seen.bridge.waiting.age {
                let before = Time::from_micros(now.as_micros().saturating_sub(age.as_micros() as u64));
                sessions.drop_older(&record, before);
            }
            let lost = self.waiting(&seen.bridge).dropped;
            let count: u64 = lost.iter().map(|(_, count)| count).sum();
            let last = told.insert(seen.bridge.name.clone(), count).unwrap_or(0);
            if count > last {
                let why: Vec<&str> = lost.iter().map(|(reason, _)| *reason).collect();
                let why = format!(
                    "messages that waited were dropped ({}). Raise `messages`, `bytes` or `age` in its [bridges.waiting].",
                    why.join(", ")
                );
                let bridge = seen.bridge.name.clone();
                notes::note(live, now, &Fact::BridgeDrops { bridge, count: count - last, why });
            }
        }
    }

    /// Ends bridges that are otherwise, and begins those that are new.
    async fn take_over(self: &Arc<Self>, bridges: Vec<Bridge>, at_start: bool) {
        let stays = |running: &Running| bridges.iter().any(|bridge| bridge.says_the_same(&running.seen.bridge));
        let ending: Vec<Arc<Seen>> = {
            let running = self.running.lock();
            running.values().filter(|one| !stays(one)).map(|one| Arc::clone(&one.seen)).collect()
        };
        for seen in ending {
            let name = &seen.bridge.name;
            // It is seen as long as nothing is in its place.
            let task = self.running.lock().get_mut(name).and_then(|running| {
                running.wishes.send_modify(|wish| wish.mode = Mode::Stop);
                running.task.take()
            });
            if let Some(task) = task {
                let _ = task.await;
            }
            if !bridges.iter().any(|bridge| bridge.name == *name) {
                self.running.lock().remove(name);
                self.end_sessions(&seen.bridge).await;
            }
        }
        if !at_start {
            let names: Vec<String> = bridges.iter().map(|bridge| bridge.name.clone()).collect();
            if let Err(error) = self.here.broker.store().keep_bridges(&names).await {
                tracing::warn!(%error, "bridges that are in the design no more can't be forgotten");
            }
        }
        self.here.broker.live.ways.set_sending(bridges.iter().any(|bridge| !bridge.push.is_empty()));
        for bridge in bridges {
            let runs = self.running.lock().get(&bridge.name).is_some_and(|running| running.task.is_some());
            if !runs {
                self.begin(Arc::new(bridge)).await;
            }
        }
    }

    async fn end_sessions(&self, bridge: &Bridge) {
        let sessions = &self.here.broker.sessions;
        let both = [Direction::Push, Direction::Pull];
        let records = both.into_iter().filter_map(|direction| sessions.registry.get(&bridge.client_id(direction)));
        let records: Vec<_> = records.collect();
        let by = moorfall_broker::identity::authenticator::own("moorfall");
        let reason = moorfall_wire::ReasonCode::AdministrativeAction;
        sessions.end_sessions(&records, reason, false, &by).await;
    }

    async fn begin(self: &Arc<Self>, bridge: Arc<Bridge>) {
        let name = bridge.name.clone();
        let seen = Arc::new(Seen::new(bridge, self.here.broker.now()));
        let known = self.here.broker.store().bridge(&name).await;
        let paused = known.as_ref().is_ok_and(|record| record.paused);
        let mode = if paused { Mode::Pause } else { Mode::Run };
        let (wishes, wished) = watch::channel(Wish { mode, retry: 0 });
        let mut runner = Runner {
            bridges: Arc::clone(self),
            seen: Arc::clone(&seen),
            wished,
            pace: Pace::default(),
            is_down: false,
            record: None,
        };
        // From the first moment on, what is to be pushed waits; but not of one that was drained.
        if let Ok(record) = known
            && !(record.paused && record.here.is_empty())
        {
            runner.subscribe(&record).await;
        }
        let task = tokio::spawn(runner.run());
        self.running.lock().insert(name, Running { seen, wishes, task: Some(task) });
    }
}

/// Names of messages that came from a remote that gave them none.
#[derive(Debug)]
struct Random {
    beginning: String,
    count: u64,
}

impl NextId for Random {
    fn next_id(&mut self) -> Box<str> {
        self.count += 1;
        format!("{}{:x}", self.beginning, self.count).into()
    }
}

/// Looks after one bridge.
struct Runner {
    bridges: Arc<Bridges>,
    seen: Arc<Seen>,
    wished: watch::Receiver<Wish>,
    pace: Pace,
    /// Whether it was told that the link is down.
    is_down: bool,
    /// What was known of it when the database answered last.
    record: Option<BridgeRecord>,
}

impl Runner {
    fn broker(&self) -> &Arc<Broker> {
        &self.bridges.here.broker
    }

    async fn run(mut self) {
        let stopping = self.broker().common.stopping.clone();
        let mut retried = 0;
        while !stopping.is_cancelled() {
            let wish = *self.wished.borrow_and_update();
            if std::mem::replace(&mut retried, wish.retry) != wish.retry {
                self.pace.reset();
            }
            match wish.mode {
                Mode::Stop => return,
                Mode::Pause => {
                    self.seen.enter(Phase::Paused, self.broker().now());
                    self.announce();
                    tokio::select! {
                        changed = self.wished.changed() => if changed.is_err() { return },
                        () = stopping.cancelled() => return,
                    }
                    continue;
                }
                Mode::Run | Mode::Drain => {}
            }
            let began = Instant::now();
            let ended = self.link(wish.mode == Mode::Drain).await;
            let up = self.seen.standing().terms.map(|_| began.elapsed());
            match ended {
                Ended::Told => {}
                Ended::Drained => {
                    // As if somebody had told it to rest, but for this run of the service only.
                    self.seen.enter(Phase::Paused, self.broker().now());
                    self.announce();
                    let changed = tokio::select! {
                        changed = self.wished.changed() => changed.is_ok(),
                        () = stopping.cancelled() => false,
                    };
                    if !changed {
                        return;
                    }
                    self.pace.reset();
                }
                Ended::FailBack => self.pace.reset(),
                Ended::Fault(fault) => self.rest(fault, up).await,
            }
        }
        self.announce();
    }

    /// Notes why the link is down, and waits for the next attempt.
    async fn rest(&mut self, fault: LinkFault, up: Option<Duration>) {
        let broker = Arc::clone(self.broker());
        let now = broker.now();
        let words = fault.to_string();
        let pause = self.pace.failed(up, self.seen.bridge.remotes.len());
        let next = now + pause;
        self.seen.enter(Phase::Down, now);
        self.seen.change(|standing| {
            standing.trouble = Some((now, words.clone()));
            standing.failed = self.pace.failed;
            standing.next_attempt = Some(next);
            standing.round_trip = None;
        });
        if !std::mem::replace(&mut self.is_down, true) {
            let down = Fact::BridgeDown { bridge: self.seen.bridge.name.clone(), why: words };
            notes::note(&broker.live, now, &down);
        } else {
            tracing::debug!(bridge = %self.seen.bridge.name, "still down: {words}");
        }
        self.announce();
        let stopping = broker.common.stopping.clone();
        tokio::select! {
            () = sleep(Some(broker.common.clock.instant(next))) => {}
            _ = self.wished.changed() => {}
            () = stopping.cancelled() => {}
        }
    }

    /// Makes a link and carries until it ends.
    async fn link(&mut self, drains: bool) -> Ended {
        let mut wished = self.wished.clone();
        match self.connect(drains).await {
            Ok(link) => link.run(&mut wished, self.fail_back(self.pace.address == 0)).await,
            Err(fault) => Ended::Fault(fault),
        }
    }

    /// Ready when the first address can be reached again, on a link to another one.
    async fn fail_back(&self, is_first: bool) {
        let bridge = Arc::clone(&self.seen.bridge);
        if is_first {
            std::future::pending::<()>().await;
        }
        loop {
            tokio::time::sleep(bridge.fail_back).await;
            let first = self.options(&bridge.remotes[0], None);
            if reaches(&first).await.is_ok() {
                return;
            }
        }
    }

    fn options(&self, remote: &Remote, password: Option<Vec<u8>>) -> Options {
        let bridge = &self.seen.bridge;
        let path = |name: &Option<String>| name.as_ref().map(|name| self.bridges.files.join(name));
        let files = &bridge.files;
        let trust =
            Trust { authority: path(&files.authority), certificate: path(&files.certificate), key: path(&files.key) };
        Options {
            trust,
            password: password.map(Into::into),
            version: bridge.version,
            client_id: bridge.client_id.clone(),
            keep_alive: bridge.keep_alive,
            clean_start: bridge.clean_start,
            session_expiry: bridge.session_expiry,
            connect_within: CONNECT,
            asked_by: AskedBy::Bridge,
            ..Options::new(remote.clone())
        }
    }

    fn password(&self, record: &BridgeRecord) -> Result<Option<Vec<u8>>, LinkFault> {
        let Some(name) = &self.seen.bridge.files.secret else { return Ok(record.secret.clone()) };
        let path = self.bridges.files.join(name);
        let read = std::fs::read(&path).map_err(|error| LinkFault::Secret { path, error })?;
        Ok(Some(read.trim_ascii().to_vec()))
    }

    fn connect_packet(&self, options: &Options) -> Connect {
        let bridge = &self.seen.bridge;
        let is_v5 = bridge.version == ProtocolVersion::V5;
        let mut connect = Connect {
            clean_start: bridge.clean_start,
            keep_alive: bridge.keep_alive,
            user_name: options.remote.identity.as_deref().map(Into::into),
            password: options.password.clone(),
            will: bridge.status_there.clone().map(|topic| Will {
                topic,
                payload: DOWN.into(),
                qos: QoS::AtLeastOnce,
                retain: true,
                properties: WillProperties::default(),
            }),
            ..Connect::new(bridge.version, bridge.client_id.as_str())
        };
        if is_v5 {
            let properties = &mut connect.properties;
            properties.session_expiry_interval = (!bridge.clean_start).then_some(bridge.session_expiry);
            properties.receive_maximum = NonZeroU16::new(self.broker().limits.receive_maximum);
            properties.topic_alias_maximum = Some(link::aliases());
            properties.user_properties = vec![introduction(&self.broker().name.public)];
        }
        connect
    }

    async fn connect(&mut self, drains: bool) -> Result<Link, LinkFault> {
        let (broker, bridge) = (Arc::clone(self.broker()), Arc::clone(&self.seen.bridge));
        let remote = bridge.remotes[self.pace.address.min(bridge.remotes.len() - 1)].clone();
        let told = remote.to_string();
        // Attempts while it is down don't make it any less so.
        if !self.is_down {
            self.seen.enter(if drains { Phase::Draining } else { Phase::Connecting }, broker.now());
        }
        self.seen.change(|standing| {
            standing.remote = Some(told.clone());
            standing.next_attempt = None;
        });
        let record = match (broker.store().bridge(&bridge.name).await, &self.record) {
            (Ok(record), _) => record,
            // A link can be made without the database, if nothing has to be noted.
            (Err(_), Some(known)) => known.clone(),
            (Err(error), None) => return Err(error.into()),
        };
        self.record = Some(record.clone());
        if record.here.is_empty() && !drains {
            self.subscribe(&record).await;
        }
        let options = self.options(&remote, self.password(&record)?);
        let dialled = dial(&options, &self.connect_packet(&options)).await?;
        let terms = RemoteTerms::new(bridge.version, &dialled.connack);
        let address = remote.address();
        let in_line = record.remote == address && self.bridges.here.has_session(&bridge);
        if record.remote != address {
            broker.store().put_bridge_remote(&bridge.name, &address).await?;
        }
        let said = moorfall_core::bridge::broker_named(&dialled.connack.properties.user_properties);
        let names = Names {
            broker: broker.name.public.as_ref().into(),
            link: format!("{}:{}", broker.name.public, bridge.name).into(),
            remote: said.map(Into::into),
        };
        note_limits(&self.seen, &address, &terms);
        self.seen.change(|standing| standing.terms = Some(terms));
        let next_id = Box::new(Random { beginning: random_text(13), count: 0 });
        let before = (record.here, record.there);
        let start = Start {
            bridge: Arc::clone(&bridge),
            remote: address,
            dialled,
            names,
            in_line,
            before,
            next_id,
            terms,
            drains,
        };
        let mut link = Link::begin(Arc::clone(&self.bridges.here), Arc::clone(&self.seen), start).await?;
        link.say_status(UP);
        self.is_down = false;
        let now = broker.now();
        self.seen.enter(if drains { Phase::Draining } else { Phase::Up }, now);
        self.seen.change(|standing| standing.failed = 0);
        let up = Fact::BridgeUp { bridge: bridge.name.clone(), remote: told, session_present: terms.session_present };
        notes::note(&broker.live, now, &up);
        self.announce();
        Ok(link)
    }

    /// Subscribes here, with or without a link.
    async fn subscribe(&mut self, record: &BridgeRecord) {
        let bridge = Arc::clone(&self.seen.bridge);
        match self.bridges.here.subscribe(&bridge, &record.here).await {
            Ok(refused) => {
                for (filter, reason) in refused {
                    refused_here(&self.seen, &filter, reason);
                }
                let filters: Vec<String> =
                    wanted(&bridge, Direction::Push).iter().map(|one| one.filter.to_string()).collect();
                if filters != record.here
                    && let Err(error) = self.broker().store().put_bridge_here(&bridge.name, &filters).await
                {
                    tracing::warn!(bridge = %bridge.name, %error, "what a bridge subscribes to can't be noted");
                }
            }
            Err(fault) => {
                let now = self.broker().now();
                self.seen.change(|standing| standing.trouble = Some((now, fault.to_string())));
            }
        }
    }

    /// Says on a topic of this broker how the link is.
    fn announce(&self) {
        let broker = self.broker();
        let standing = self.seen.standing();
        let words = match standing.phase {
            Phase::Up => UP,
            Phase::Draining => "draining",
            Phase::Paused => "paused",
            Phase::Connecting | Phase::Down => DOWN,
        };
        let Ok(topic) = format!("$SYS/moorfall/bridges/{}", self.seen.bridge.name).parse() else { return };
        let properties = moorfall_wire::PublishProperties::default();
        let (key, now) = (moorfall_core::SessionKey(0), broker.now());
        let message = moorfall_core::Message::new(topic, words.into(), QoS::AtMostOnce, true, properties, key, now);
        broker.sessions.announce(&Arc::new(message));
    }
}
