//! The barrier's own broker: a gauge in the sea, and a desk that looks at the river.

use std::{collections::BTreeMap, f64::consts::TAU, net::SocketAddr, time::Duration};

use bytes::Bytes;
use moorfall_client::{Client, ClientError, Options, Remote};
use moorfall_core::blueprint::SourceFile;
use moorfall_wire::{Publish, QoS, Subscription, SubscriptionOptions};
use serde_json::json;
use time::{OffsetDateTime, format_description::well_known::Rfc3339};
use tokio::{
    task::JoinSet,
    time::{MissedTickBehavior, interval, sleep},
};
use tokio_util::sync::CancellationToken;

use crate::{DemoIdentity, fleet::FleetError};

/// Between two readings of the tide.
const READING: Duration = Duration::from_secs(2);

/// From one high water to the next, in the demo's quick days.
const TIDE: Duration = Duration::from_secs(600);

/// Metres that it rises and falls around its mean.
const RANGE: f64 = 2.4;

/// As whom Harrowmere's bridge signs in there.
pub const BRIDGE: &str = "harrowmere";

const GAUGE: &str = "tide-gauge";
const DESK: &str = "barrier-desk";

/// The barrier's blueprint.
pub fn blueprint() -> Vec<SourceFile> {
    vec![SourceFile { name: "tideway.toml".into(), text: include_str!("../tideway.toml").into() }]
}

/// Everyone who connects there.
pub fn identities() -> Vec<DemoIdentity> {
    let one =
        |name: &str, note: &str| DemoIdentity { name: name.into(), note: note.into(), attributes: BTreeMap::new() };
    vec![
        one(BRIDGE, "The bridge of Harrowmere's broker"),
        one(GAUGE, "Level, wind and gate at the barrier"),
        one(DESK, "Whoever is on duty at the barrier"),
    ]
}

/// The gauge and the desk.
#[derive(Debug)]
pub struct Tideway {
    stop: CancellationToken,
    tasks: JoinSet<()>,
}

impl Tideway {
    /// Starts both; each connects again when its link breaks.
    pub fn start(broker: SocketAddr, passwords: &BTreeMap<String, String>) -> Self {
        let stop = CancellationToken::new();
        let mut tasks = JoinSet::new();
        for name in [GAUGE, DESK] {
            let password = passwords.get(name).cloned().unwrap_or_default();
            let stopped = stop.clone();
            tasks.spawn(async move {
                loop {
                    let played = async {
                        if name == GAUGE { gauge(broker, &password).await } else { desk(broker, &password).await }
                    };
                    tokio::select! {
                        played = played => if let Err(error) = played { tracing::debug!(name, "{error}") },
                        () = stopped.cancelled() => return,
                    }
                    sleep(Duration::from_secs(1)).await;
                }
            });
        }
        Self { stop, tasks }
    }

    /// Both go.
    pub async fn stop(mut self) {
        self.stop.cancel();
        while self.tasks.join_next().await.is_some() {}
    }
}

fn options(broker: SocketAddr, name: &str, password: &str) -> Options {
    let remote = Remote::tcp(broker.ip().to_string(), broker.port(), Some(name.into()));
    Options { password: Some(Bytes::from(password.to_owned())), client_id: name.into(), ..Options::new(remote) }
}

fn message(topic: &str, payload: serde_json::Value, qos: QoS, retain: bool) -> Publish {
    let topic = topic.parse().expect("the barrier's topics are written in this file");
    Publish { retain, ..Publish::new(topic, payload.to_string(), qos) }
}

async fn gauge(broker: SocketAddr, password: &str) -> Result<(), FleetError> {
    let (client, _arrivals) = Client::connect(&options(broker, GAUGE, password)).await?;
    let mut ticks = interval(READING);
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    let mut gate = None;
    for number in 0_u32.. {
        ticks.tick().await;
        let at = OffsetDateTime::now_utc();
        let phase = (at.unix_timestamp() as f64 / TIDE.as_secs_f64()).fract() * TAU;
        let level = (RANGE * phase.sin() * 100.0).round() / 100.0;
        let said = at.format(&Rfc3339).unwrap_or_default();
        client.publish(message("tide/level", json!({ "m": level, "at": said }), QoS::AtLeastOnce, false)).await?;
        if number.is_multiple_of(5) {
            let wind = ((9.0 + 4.0 * (phase * 3.0).cos()) * 10.0).round() / 10.0;
            client.publish(message("tide/wind", json!({ "mps": wind, "at": said }), QoS::AtMostOnce, false)).await?;
        }
        // The gate is shut against high water; whoever comes later wants to know.
        let percent = if level > 1.8 { 0 } else { 100 };
        if gate != Some(percent) {
            gate = Some(percent);
            client.publish(message("tide/flood-gate", json!({ "percent": percent }), QoS::ExactlyOnce, true)).await?;
        }
    }
    Ok(())
}

async fn desk(broker: SocketAddr, password: &str) -> Result<(), FleetError> {
    let (client, mut arrivals) = Client::connect(&options(broker, DESK, password)).await?;
    let options = SubscriptionOptions { qos: QoS::AtLeastOnce, ..SubscriptionOptions::default() };
    let filter = "river/#".parse().expect("the filter is written here");
    client.subscribe(vec![Subscription { filter, options }]).await?;
    while let Some(arrival) = arrivals.next().await {
        if let moorfall_client::Arrival::Closed { words, .. } = arrival {
            return Err(ClientError::Closed { words }.into());
        }
    }
    Ok(())
}
