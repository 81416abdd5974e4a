//! The design of a broker: blueprints, what is wrong with them, and what they allow.
#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod access;
mod blueprint;
mod bridges;
mod conditions;
mod derived;
mod explanations;
mod plan;
mod proofs;
mod universe;

use std::{collections::BTreeMap, sync::Arc};

use moorfall_core::{AttributeValue, Identity, access::Policy, blueprint::Blueprint};

/// The part of the catchment that these tests are about.
const CATCHMENT: &str = r##"
name = "harrowmere"
purpose = "One river, from the moor to the tide"

[levels.reach]
one-of = ["high-moor", "gorge", "meadows", "tidal"]
[levels.station]
pattern = "[a-z]+(-[a-z]+)*"
[levels.pump]
one-of = ["pump-1", "pump-2"]

[[topics]]
path = "harrowmere/{reach}/{station}/stage/level"
payload = "json"
schema = { type = "object", required = ["m"], properties = { m = { type = "number", minimum = -1 } } }
qos = 1
retained = "never"
cadence = "15m"
on-breach = "refuse"
[[topics]]
path = "harrowmere/{reach}/{station}/status"
payload = "text"
retained = "required"
[[topics]]
path = "harrowmere/{reach}/{station}/{pump}/power"
payload = "number"
[[topics]]
path = "harrowmere/{reach}/{station}/gate/target"

[cohorts.stations]
where = 'attr.kind == "station"'
[cohorts.gorge-stations]
where = 'attr.kind == "station" && attr.reach == "gorge"'

[[rules]]
name = "stations-report"
who = { cohort = "stations" }
may = ["publish"]
topics = ["harrowmere/{attr.reach}/{identity}/stage/level", "harrowmere/{attr.reach}/{identity}/status"]
[[rules]]
name = "stations-obey"
who = { cohort = "stations" }
may = ["subscribe"]
topics = ["harrowmere/{attr.reach}/{identity}/gate/target"]
[[rules]]
name = "desk-reads"
who = { identity = "duty-desk" }
may = ["subscribe"]
topics = ["harrowmere/#"]
[[rules]]
name = "desk-moves-gates"
who = { identity = "duty-desk" }
may = ["publish"]
topics = ["harrowmere/{reach}/{station}/gate/target"]
highest-qos = 1
retained = false
rate = "2/m"
[[rules]]
name = "pumps-are-the-contractor-s"
who = { identity = "contractor-pumps" }
may = ["publish", "subscribe"]
topics = ["harrowmere/meadows/{station}/{pump}/power"]
[[rules]]
name = "nobody-reads-the-contractor"
who = { identity = "duty-desk" }
never = ["subscribe"]
topics = ["harrowmere/+/+/pump-2/#"]

[contacts.duty-desk]
mail = ["duty@harrowmere.example"]
hook = "https://duty.harrowmere.example/alerts"
topic = "harrowmere/alerts"
[[alerts]]
name = "gorge-high"
severity = "critical"
topics = "harrowmere/gorge/{station}/stage/level"
field = "m"
high = 2.4
out-for = "30s"
tell = ["duty-desk"]
[[alerts]]
name = "queues"
measure = "queued"
high = 10_000
back-for = "5m"
tell = ["duty-desk"]
[[alerts]]
name = "gauges-silent"
topics = "harrowmere/{reach}/{station}/stage/level"
silent = "cadence"
tell = ["duty-desk"]
[[alerts]]
name = "forecast-silent"
identity = "forecast"
silent = "1h"
tell = ["duty-desk"]

[[proofs]]
name = "the-desk-reads-levels"
who = { identity = "duty-desk" }
can = "subscribe"
topics = ["harrowmere/{reach}/{station}/stage/level"]
[[proofs]]
name = "the-gorge-ends-somewhere"
who = { cohort = "gorge-stations" }
cannot = "publish"
topics = ["harrowmere/tidal/#"]
[[proofs]]
name = "stations-leave-each-other-alone"
who = { cohort = "stations" }
cannot = "publish"
topics = ["harrowmere/{reach}/elsewhere/#", "harrowmere/{reach}/{station}/gate/#"]
"##;

fn policy(text: &str) -> Arc<Policy> {
    let blueprint = Blueprint::parse(text).unwrap_or_else(|findings| panic!("{}", findings[0]));
    Arc::new(Policy::new(Arc::new(blueprint)))
}

fn identity(name: &str, attributes: &[(&str, &str)]) -> Identity {
    let attributes = attributes.iter();
    let attributes = attributes.map(|(name, value)| ((*name).into(), AttributeValue::Text((*value).into())));
    Identity { name: name.into(), attributes: attributes.collect() }
}

fn population() -> BTreeMap<Arc<str>, Identity> {
    let station = |name, reach| identity(name, &[("kind", "station"), ("reach", reach)]);
    [
        station("kettle-weir", "gorge"),
        station("nine-arches", "gorge"),
        station("ferry-stage", "tidal"),
        identity("duty-desk", &[("kind", "person")]),
        identity("contractor-pumps", &[("kind", "contractor")]),
    ]
    .into_iter()
    .map(|identity| (Arc::clone(&identity.name), identity))
    .collect()
}
