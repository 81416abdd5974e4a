//! The Harrowmere catchment, all of it made up: a blueprint, identities, and a fleet of simulated stations.
//!
//! [`River`] is the story as plain computation: the same seed gives the same weather. [`Fleet`] plays it over real
//! MQTT connections.

mod fleet;
mod river;

use std::collections::BTreeMap;

use moorfall_core::AttributeValue;
use serde::Deserialize;

pub use fleet::{Fleet, FleetError};
pub use river::{Instrument, Reading, River, STATIONS, Station};

/// The catchment's blueprint.
pub const BLUEPRINT: &str = include_str!("../blueprint.toml");

/// Someone who connects in the catchment.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DemoIdentity {
    /// The name.
    pub name: String,
    /// What it is, in a sentence.
    pub note: String,
    /// What the access rules know of it.
    pub attributes: BTreeMap<String, AttributeValue>,
}

/// Everyone who connects in the catchment.
pub fn identities() -> Vec<DemoIdentity> {
    #[derive(Deserialize)]
    struct File {
        identity: Vec<DemoIdentity>,
    }
    let file: File = toml::from_str(include_str!("../identities.toml")).expect("the file is checked by a test");
    file.identity
}

#[cfg(test)]
mod tests {
    use moorfall_core::blueprint::Blueprint;

    use super::*;

    #[test]
    fn the_catchment_s_files_are_right_and_every_station_has_an_identity() {
        Blueprint::parse(BLUEPRINT).unwrap_or_else(|error| panic!("{error}"));
        let identities = identities();
        for station in STATIONS {
            let identity = identities.iter().find(|identity| identity.name == station.name);
            let reach = identity.and_then(|identity| identity.attributes.get("reach"));
            assert_eq!(reach, Some(&AttributeValue::Text(station.reach.into())), "{}", station.name);
        }
        assert!(STATIONS.len() >= 12);
    }
}
