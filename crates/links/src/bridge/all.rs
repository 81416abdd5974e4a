//! All bridges of one broker: begun and ended with the design in force, and told what to do.

use std::{collections::BTreeMap, path::PathBuf, sync::Arc, time::Duration};

use moorfall_broker::{broker::Broker, listeners::seats::Seats, notes};
use moorfall_core::{Time, blueprint::Bridge, bridge::Direction};
use moorfall_live::{
    facts::Fact,
    links::{LinkFigures, LinkPhase},
};
use moorfall_store::{Author, Deed, StoreError};
use parking_lot::Mutex;
use serde_json::json;
use tokio::{
    sync::{oneshot, watch},
    task::JoinHandle,
    time::{Instant, MissedTickBehavior, interval},
};

use super::{
    here::Here,
    runner::Runner,
    seen::{Phase, Seen},
    wish::{Mode, Order, Wish},
};

/// Over which time rates are taken.
const RATE: Duration = Duration::from_secs(10);

/// Between two looks for messages that have waited too long, and two times that drops are told.
const LOOK: Duration = Duration::from_secs(10);
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
    running: Mutex<BTreeMap<String, Running>>,
}

impl Bridges {
    /// None runs yet. Files that the blueprint names lie in this folder.
    pub fn new(broker: Arc<Broker>, seats: Arc<Seats>, files: PathBuf) -> Self {
        Self { here: Arc::new(Here { broker, seats, files }), running: Mutex::default() }
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

    /// Tells how each link is.
    fn sum_up(&self, now: Time) {
        let figures = self.all().into_iter().map(|seen| {
            let state = match seen.standing().phase {
                Phase::Up | Phase::Draining => LinkPhase::Up,
                Phase::Connecting | Phase::Down => LinkPhase::Down,
                Phase::Paused => LinkPhase::Rests,
            };
            let waiting = self.waiting(&seen.bridge);
            let oldest = waiting.oldest.map_or(Duration::ZERO, |oldest| now - oldest);
            let (messages, bytes) = (waiting.messages as u64, waiting.bytes as u64);
            (seen.bridge.name.clone(), LinkFigures { state, waiting: messages, bytes, oldest })
        });
        self.here.broker.live.links.set(figures.collect());
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
        let mut runner = Runner::new(Arc::clone(&self.here), Arc::clone(&seen), wished);
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
