//! The Harrowmere catchment, all of it made up: a blueprint, identities, and a fleet of simulated stations.
//!
//! [`River`] is the story as plain computation: the same seed gives the same weather. [`Fleet`] plays it over real
//! MQTT connections.

mod fleet;
pub mod past;
mod river;
pub mod stand_in;
pub mod tideway;

use std::collections::BTreeMap;

use moorfall_core::{AttributeValue, blueprint::SourceFile};
use serde::Deserialize;

pub use fleet::{Fleet, FleetError};
pub use river::{Instrument, Reading, River, STATIONS, Station};

/// The catchment's blueprint.
pub const BLUEPRINT: &str = include_str!("../blueprint.toml");

/// What goes between the river and the barrier.
pub const BRIDGES: &str = include_str!("../bridges.toml");

/// What is made of the stations' values.
pub const DERIVED: &str = include_str!("../derived.toml");

/// What comes from several, of which one is heard.
pub const OWNED: &str = include_str!("../owned.toml");

/// The catchment's blueprint as its files; the web hook and the barrier's broker are at these ports of loopback.
pub fn blueprint(hook: u16, tideway: u16) -> Vec<SourceFile> {
    let text = BLUEPRINT.replace("127.0.0.1:7443", &format!("127.0.0.1:{hook}"));
    let bridges = BRIDGES.replace("127.0.0.1:7884", &format!("127.0.0.1:{tideway}"));
    let file = |name: &str, text| SourceFile { name: name.into(), text };
    vec![
        file("bridges.toml", bridges),
        file("derived.toml", DERIVED.to_owned()),
        file("harrowmere.toml", text),
        file("owned.toml", OWNED.to_owned()),
    ]
}

/// A set-up of the desk: the duty desk moves a gate, and the auditor may only look on.
pub const DESK: (&str, &str) = ("Move the gate at Kettle Weir", include_str!("../desk.json"));

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
    use std::sync::Arc;

    use moorfall_core::{
        Identity,
        access::Policy,
        blueprint::{Blueprint, Source, bridge_rights, prove},
    };

    use super::*;

    #[test]
    fn the_catchment_s_files_are_right_and_every_station_has_an_identity() {
        let read = |files: Vec<SourceFile>| {
            Blueprint::read(Source::new(files)).unwrap_or_else(|findings| panic!("{}", findings[0]))
        };
        let tideway = read(tideway::blueprint());
        assert_eq!(tideway.lint(), []);
        assert_eq!(Blueprint::parse(BLUEPRINT).unwrap().lint(), []);
        let blueprint = read(blueprint(7443, 7884));
        assert_eq!(blueprint.lint(), []);
        let identities = identities();
        let seen = |one: &DemoIdentity| {
            (one.name.as_str().into(), Identity { name: one.name.as_str().into(), attributes: one.attributes.clone() })
        };
        let policy = Arc::new(Policy::new(Arc::new(blueprint)));
        assert_eq!(bridge_rights(&policy), []);
        let results = prove(&policy, &identities.iter().map(seen).collect());
        let failed: Vec<_> = results.iter().filter(|proof| !proof.holds || proof.fault.is_some()).collect();
        assert!(failed.is_empty() && results.len() >= 14, "{failed:#?}");
        for station in STATIONS {
            let identity = identities.iter().find(|identity| identity.name == station.name);
            let reach = identity.and_then(|identity| identity.attributes.get("reach"));
            assert_eq!(reach, Some(&AttributeValue::Text(station.reach.into())), "{}", station.name);
        }
        assert!(STATIONS.len() >= 12);
    }
}
