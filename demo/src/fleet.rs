//! The catchment's stations and people over real MQTT connections.

use std::{collections::BTreeMap, net::SocketAddr, sync::Arc, time::Duration};

use bytes::Bytes;
use moorfall_client::{Arrival, Arrivals, Client, ClientError, ConnectError, Options, Remote};
use moorfall_wire::{ProtocolVersion, Publish, QoS, Subscription, SubscriptionOptions, Will};
use serde_json::{Value, json};
use tokio::{
    sync::Mutex,
    task::JoinSet,
    time::{Instant, MissedTickBehavior, interval, sleep, sleep_until},
};
use tokio_util::sync::CancellationToken;

use crate::river::{Instrument, REACHES, River, STATIONS, Station};

/// Between readings in dry weather.
const CALM: Duration = Duration::from_millis(1_500);

/// Between readings at the height of the storm.
const WILD: Duration = Duration::from_millis(350);

/// Percent that a gate moves in a second.
const GATE_SPEED: f64 = 8.0;

/// How often the contractor tries what it may not.
const CONTRACTOR: Duration = Duration::from_secs(20);

/// How often the forecast is written.
const FORECAST: Duration = Duration::from_secs(5);

/// The link of this station flaps.
const FLAPPING: &str = "long-acre";

/// This gauge falls silent, though its link stays up.
const SILENT: &str = "sallow-head";

/// Between two values of a sensor.
const SENSOR: Duration = Duration::from_secs(2);

/// One of several level sensors that report for a station.
#[derive(Debug)]
struct Sensor {
    /// Its name, which is its identity and its client identifier.
    name: &'static str,
    /// What it measures.
    topic: &'static str,
    /// How much it measures beside the level, metres.
    beside: f64,
    /// How long it works before its link breaks for a while.
    lasts: Duration,
}

const SENSORS: [Sensor; 2] = [
    Sensor {
        name: "kettle-weir-stage",
        topic: "harrowmere/gorge/kettle-weir/level",
        beside: 0.0,
        lasts: Duration::from_secs(60),
    },
    Sensor {
        name: "kettle-weir-stage-2",
        topic: "harrowmere/gorge/kettle-weir/level",
        beside: 0.02,
        lasts: Duration::MAX,
    },
];

/// For how long the link of a sensor is broken.
const BROKEN: Duration = Duration::from_secs(20);

/// What can go wrong for someone in the fleet.
#[derive(Debug, thiserror::Error)]
pub enum FleetError {
    /// No connection.
    #[error(transparent)]
    Connect(#[from] ConnectError),
    /// A request came to nothing.
    #[error(transparent)]
    Client(#[from] ClientError),
    /// The password of an identity is not known.
    #[error("no password is known for {0}")]
    Password(String),
}

/// The running fleet.
#[derive(Debug)]
pub struct Fleet {
    stop: CancellationToken,
    tasks: JoinSet<()>,
}

/// What everyone in the fleet shares.
struct Scene {
    broker: SocketAddr,
    passwords: BTreeMap<String, String>,
    river: Mutex<River>,
    stop: CancellationToken,
}

impl Fleet {
    /// How many connections the fleet holds.
    pub const SIZE: usize = STATIONS.len() + SENSORS.len() + 3;

    /// Starts everyone; each connects by itself and goes on connecting when the link breaks.
    pub fn start(broker: SocketAddr, passwords: BTreeMap<String, String>, seed: u64) -> Self {
        let stop = CancellationToken::new();
        let river = Mutex::new(River::new(seed));
        let scene = Arc::new(Scene { broker, passwords, river, stop: stop.clone() });
        let mut tasks = JoinSet::new();
        tasks.spawn(weather(Arc::clone(&scene)));
        let people = [Role::Desk, Role::Forecast, Role::Contractor];
        let roles = STATIONS.iter().map(Role::Station).chain(people).chain(SENSORS.iter().map(Role::Sensor));
        for (index, role) in roles.enumerate() {
            let scene = Arc::clone(&scene);
            tasks.spawn(async move {
                // Not all at once: signing in costs the broker a password hash each, and readings are spread over time.
                sleep(CALM / 14 * u32::try_from(index).unwrap_or(0)).await;
                keep_at_it(&scene, role).await;
            });
        }
        Self { stop, tasks }
    }

    /// Everyone says goodbye.
    pub async fn stop(mut self) {
        self.stop.cancel();
        while self.tasks.join_next().await.is_some() {}
    }
}

/// Who plays.
#[derive(Clone, Copy, Debug)]
enum Role {
    Station(&'static Station),
    Sensor(&'static Sensor),
    Desk,
    Forecast,
    Contractor,
}

/// Plays a role again and again until the fleet is stopped.
async fn keep_at_it(scene: &Scene, role: Role) {
    while !scene.stop.is_cancelled() {
        let played = match role {
            Role::Station(station) => play_station(scene, station).await,
            Role::Sensor(sensor) => play_sensor(scene, sensor).await,
            Role::Desk => play_desk(scene).await,
            Role::Forecast => play_forecast(scene).await,
            Role::Contractor => play_contractor(scene).await,
        };
        if let Err(error) = played {
            tracing::debug!(?role, "{error}");
            tokio::select! {
                () = sleep(Duration::from_secs(1)) => {}
                () = scene.stop.cancelled() => {}
            }
        }
    }
}

async fn weather(scene: Arc<Scene>) {
    let mut minutes = interval(Duration::from_secs(1));
    minutes.set_missed_tick_behavior(MissedTickBehavior::Delay);
    loop {
        tokio::select! {
            _ = minutes.tick() => scene.river.lock().await.step(),
            () = scene.stop.cancelled() => return,
        }
    }
}

async fn connect(scene: &Scene, name: &str, will: Option<Will>) -> Result<(Client, Arrivals), FleetError> {
    let password = scene.passwords.get(name).ok_or_else(|| FleetError::Password(name.into()))?;
    let (host, port) = (scene.broker.ip().to_string(), scene.broker.port());
    let remote = Remote::tcp(host, port, Some(name.into()));
    // Both versions of the protocol are in use along the river.
    let older = name.len().is_multiple_of(3);
    let options = Options {
        password: Some(Bytes::from(password.clone())),
        client_id: name.into(),
        version: if older { ProtocolVersion::V311 } else { ProtocolVersion::V5 },
        will,
        ..Options::new(remote)
    };
    Ok(Client::connect(&options).await?)
}

fn message(topic: &str, payload: impl Into<Bytes>, qos: QoS, retain: bool) -> Publish {
    let topic = topic.parse().expect("the catchment's topics are written in this file");
    Publish { retain, ..Publish::new(topic, payload, qos) }
}

async fn subscribe(client: &Client, filters: &[&str], qos: QoS) -> Result<(), ClientError> {
    let options = SubscriptionOptions { qos, ..SubscriptionOptions::default() };
    let subscriptions = filters
        .iter()
        .map(|filter| Subscription {
            filter: filter.parse().expect("the catchment's filters are written here"),
            options,
        })
        .collect();
    client.subscribe(subscriptions).await.map(drop)
}

/// The next message; the end of the connection is an error, after which one connects again.
async fn heard(arrivals: &mut Arrivals) -> Result<Box<Publish>, ClientError> {
    match arrivals.next().await {
        Some(Arrival::Message(message)) => Ok(message),
        Some(Arrival::Closed { words, .. }) => Err(ClientError::Closed { words }),
        None => Err(ClientError::Closed { words: "the connection is over".into() }),
    }
}

/// One life of a station, from its connection to the end of the fleet or of the link.
async fn play_station(scene: &Scene, station: &Station) -> Result<(), FleetError> {
    let below = format!("harrowmere/{}/{}", station.reach, station.name);
    let status = format!("{below}/status");
    let will_topic = status.parse().expect("the catchment's topics are written in this file");
    let will = Will::new(will_topic, "offline", QoS::AtLeastOnce, true);
    let (client, mut arrivals) = connect(scene, station.name, Some(will)).await?;
    client.publish(message(&status, "online", QoS::AtLeastOnce, true)).await?;
    let mut gate = None;
    if station.instruments.contains(&Instrument::Gate) {
        // A command that comes twice would move a gate twice.
        subscribe(&client, &[&format!("{below}/gate/target")], QoS::ExactlyOnce).await?;
        let closed = Gate { position: 20.0, target: 20.0 };
        client.publish(closed.told(scene, &below).await).await?;
        gate = Some(closed);
    }
    let began = Instant::now();
    let link_lasts = if station.name == FLAPPING { Duration::from_secs(45) } else { Duration::MAX };
    let talks = if station.name == SILENT { Duration::from_secs(90) } else { Duration::MAX };
    let mut next = Instant::now();
    let mut gate_ticks = interval(Duration::from_secs(1));
    gate_ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    loop {
        tokio::select! {
            () = sleep_until(next) => {
                let wildness = scene.river.lock().await.wildness();
                next += CALM.mul_f64(1.0 - wildness) + WILD.mul_f64(wildness);
                if began.elapsed() > link_lasts {
                    client.abandon().await;
                    sleep(Duration::from_secs(4)).await;
                    return Ok(());
                }
                if began.elapsed() < talks {
                    publish_readings(scene, &client, station, &below).await?;
                }
            }
            _ = gate_ticks.tick(), if gate.is_some() => {
                if let Some(gate) = &mut gate
                    && gate.moves()
                {
                    client.publish(gate.told(scene, &below).await).await?;
                }
            }
            arrived = heard(&mut arrivals) => {
                let command = arrived?;
                let Some(gate) = &mut gate else { continue };
                let wanted = wanted_percent(&command.payload);
                gate.target = wanted.unwrap_or(gate.target);
                if let Some(answer) = answer(&command, wanted) {
                    client.publish(answer).await?;
                }
            }
            () = scene.stop.cancelled() => {
                client.publish(message(&status, "offline", QoS::AtLeastOnce, true)).await?;
                client.disconnect().await;
                return Ok(());
            }
        }
    }
}

/// One life of a sensor, from its connection to the end of the fleet or of the link.
async fn play_sensor(scene: &Scene, sensor: &Sensor) -> Result<(), FleetError> {
    let weir = STATIONS.iter().find(|station| sensor.name.starts_with(station.name));
    let (client, mut arrivals) = connect(scene, sensor.name, None).await?;
    let began = Instant::now();
    let mut ticks = interval(SENSOR);
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    loop {
        tokio::select! {
            _ = ticks.tick() => {
                if began.elapsed() > sensor.lasts {
                    client.abandon().await;
                    tokio::select! {
                        () = sleep(BROKEN) => {}
                        () = scene.stop.cancelled() => {}
                    }
                    return Ok(());
                }
                let river = scene.river.lock().await;
                let level = weir.map_or(0.0, |weir| river.level(weir)) + sensor.beside;
                let level = (level * 100.0).round() / 100.0;
                let payload = json!({ "m": level, "at": river.timestamp(), "sensor": sensor.name }).to_string();
                drop(river);
                // The answer tells whether another one is heard, which is no trouble.
                client.publish(message(sensor.topic, payload, QoS::AtLeastOnce, true)).await?;
            }
            arrived = heard(&mut arrivals) => drop(arrived?),
            () = scene.stop.cancelled() => {
                client.disconnect().await;
                return Ok(());
            }
        }
    }
}

async fn publish_readings(scene: &Scene, client: &Client, station: &Station, below: &str) -> Result<(), ClientError> {
    let readings = scene.river.lock().await.readings(station);
    for reading in readings {
        let topic = format!("{below}/{}", reading.place);
        let qos = if reading.place.ends_with("level") { QoS::AtLeastOnce } else { QoS::AtMostOnce };
        client.publish(message(&topic, reading.payload.to_string(), qos, false)).await?;
    }
    Ok(())
}

/// A gate on its way, in percent open.
struct Gate {
    position: f64,
    target: f64,
}

impl Gate {
    /// Moves for a second; gives whether it moved.
    fn moves(&mut self) -> bool {
        let way = (self.target - self.position).clamp(-GATE_SPEED, GATE_SPEED);
        self.position += way;
        way != 0.0
    }

    async fn told(&self, scene: &Scene, below: &str) -> Publish {
        let at = scene.river.lock().await.timestamp();
        let payload = json!({ "percent": self.position, "target": self.target, "at": at });
        message(&format!("{below}/gate/position"), payload.to_string(), QoS::AtLeastOnce, true)
    }
}

/// What a gate says to whoever sent a command and wants an answer (§4.10).
fn answer(command: &Publish, wanted: Option<f64>) -> Option<Publish> {
    let place = command.properties.response_topic.as_ref()?.parse().ok()?;
    let payload = match wanted {
        Some(percent) => json!({ "percent": percent }),
        None => json!({ "refused": "a gate opens from 0 to 100 percent" }),
    };
    let mut answer = Publish::new(place, payload.to_string(), QoS::AtLeastOnce);
    answer.properties.correlation_data.clone_from(&command.properties.correlation_data);
    Some(answer)
}

/// `{"percent": 40}` or a bare number, from 0 to 100.
fn wanted_percent(payload: &[u8]) -> Option<f64> {
    let value: Value = serde_json::from_slice(payload).ok()?;
    let percent = value.get("percent").unwrap_or(&value).as_f64()?;
    (0.0..=100.0).contains(&percent).then_some(percent)
}

/// The people on duty have everything on their screen.
async fn play_desk(scene: &Scene) -> Result<(), FleetError> {
    let (client, mut arrivals) = connect(scene, "duty-desk", None).await?;
    subscribe(&client, &["harrowmere/#"], QoS::AtLeastOnce).await?;
    loop {
        tokio::select! {
            arrived = heard(&mut arrivals) => drop(arrived?),
            () = scene.stop.cancelled() => {
                client.disconnect().await;
                return Ok(());
            }
        }
    }
}

/// The model hears all levels and writes what it expects for each reach.
async fn play_forecast(scene: &Scene) -> Result<(), FleetError> {
    let (client, mut arrivals) = connect(scene, "forecast", None).await?;
    subscribe(&client, &["harrowmere/+/+/stage/level", "harrowmere/+/+/rain/depth"], QoS::AtLeastOnce).await?;
    let mut highest: BTreeMap<String, f64> = BTreeMap::new();
    let mut ticks = interval(FORECAST);
    loop {
        tokio::select! {
            arrived = heard(&mut arrivals) => {
                let reading = arrived?;
                let reach = reading.topic.levels().nth(1).unwrap_or_default().to_owned();
                let value: Option<Value> = serde_json::from_slice(&reading.payload).ok();
                if let Some(level) = value.as_ref().and_then(|value| value.get("m")?.as_f64()) {
                    let known = highest.entry(reach).or_insert(level);
                    *known = known.max(level);
                }
            }
            _ = ticks.tick() => {
                for reach in REACHES {
                    let Some(level) = highest.remove(reach) else { continue };
                    let payload = json!({ "highest_m": level, "hours": 6 }).to_string();
                    let forecast = message(&format!("harrowmere/forecast/{reach}"), payload, QoS::AtLeastOnce, true);
                    client.publish(forecast).await?;
                }
            }
            () = scene.stop.cancelled() => {
                client.disconnect().await;
                return Ok(());
            }
        }
    }
}

/// The contractor runs a pump, and now and then tries a gate that it may not move.
async fn play_contractor(scene: &Scene) -> Result<(), FleetError> {
    let (client, mut arrivals) = connect(scene, "contractor-pumps", None).await?;
    subscribe(&client, &["harrowmere/meadows/+/pump-1/power"], QoS::AtLeastOnce).await?;
    let mut ticks = interval(CONTRACTOR);
    loop {
        tokio::select! {
            arrived = heard(&mut arrivals) => drop(arrived?),
            _ = ticks.tick() => {
                let pump = message("harrowmere/meadows/withy-drain/pump-1/target", "30", QoS::AtLeastOnce, false);
                client.publish(pump).await?;
                let gate = message("harrowmere/gorge/kettle-weir/gate/target", "100", QoS::AtLeastOnce, false);
                client.publish(gate).await?;
            }
            () = scene.stop.cancelled() => {
                client.disconnect().await;
                return Ok(());
            }
        }
    }
}
