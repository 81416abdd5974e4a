//! What is measured, as retained messages on topics of the service: for whoever a rule lets subscribe.

use std::{sync::Arc, time::Duration};

use bytes::Bytes;
use moorfall_broker::broker::Broker;
use moorfall_core::{
    Message, SessionKey,
    measure::{Rates, Series, WINDOWS},
};
use moorfall_wire::{PublishProperties, QoS, TopicName};
use serde_json::{Map, Value};
use tokio::time::{MissedTickBehavior, interval};

use crate::sampler::Watch;

/// Above all of them. A wildcard at the first level does not match it ([MQTT-4.7.2-1]).
pub const ROOT: &str = "$SYS/moorfall";

/// Publishes until the service stops, changed or not, so that whoever subscribes has all of it at once.
pub async fn run(broker: Arc<Broker>, watch: Arc<Watch>, every: Duration) {
    let topics: Vec<(Series, TopicName)> =
        Series::all().filter_map(|series| Some((series, format!("{ROOT}/{series}").parse().ok()?))).collect();
    let mut ticks = interval(every);
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    // The first reading is taken a second after the start.
    ticks.reset_after(Duration::from_secs(2));
    loop {
        tokio::select! {
            _ = ticks.tick() => {}
            () = broker.common.stopping.cancelled() => return,
        }
        let values = watch.latest();
        for (series, topic) in &topics {
            announce(&broker, topic.clone(), number(values.value(*series)).to_string());
        }
        for (name, averages) in averages(&watch) {
            if let Ok(topic) = format!("{ROOT}/{name}/rate").parse() {
                announce(&broker, topic, averages.to_string());
            }
        }
    }
}

/// Whole numbers without a fraction; `null` of what is not known.
fn number(value: Option<f64>) -> Value {
    match value {
        Some(whole) if whole.fract() == 0.0 && whole.abs() < 2_f64.powi(53) => Value::from(whole as i64),
        Some(value) => Value::from(value),
        None => Value::Null,
    }
}

/// No more digits than anybody reads.
fn thousandths(rate: f64) -> f64 {
    (rate * 1e3).round() / 1e3
}

/// Of each main rate its moving averages, by the minutes of the window.
fn averages(watch: &Watch) -> Vec<(String, Value)> {
    let each = watch.averages().map(|(rates, _)| by_name(&rates));
    let names: Vec<String> = each[0].keys().cloned().collect();
    let minutes = WINDOWS.map(|window| format!("{}min", window.as_secs() / 60));
    let of = |name: &String| {
        let windows = minutes.iter().zip(&each);
        windows
            .map(|(window, rates)| (window.clone(), number(rates.get(name).and_then(Value::as_f64).map(thousandths))))
            .collect()
    };
    names.iter().map(|name| (name.clone(), Value::Object(of(name)))).collect()
}

fn by_name(rates: &Rates) -> Map<String, Value> {
    match serde_json::to_value(rates) {
        Ok(Value::Object(fields)) => fields,
        _ => Map::default(),
    }
}

fn announce(broker: &Broker, topic: TopicName, payload: String) {
    let properties = PublishProperties::default();
    let payload = Bytes::from(payload);
    let now = broker.now();
    let message = Message::new(topic, payload, QoS::AtMostOnce, true, properties, SessionKey(0), now);
    broker.sessions.announce(&Arc::new(message));
}
