//! What the service needs to know to start.

use std::{
    net::{Ipv4Addr, SocketAddr},
    path::PathBuf,
};

/// Where the blueprint comes from.
#[derive(Clone, Debug)]
pub enum BlueprintSource {
    /// A file.
    File(PathBuf),
    /// A text that is part of the program, and its name.
    BuiltIn {
        /// What to call it in messages.
        name: &'static str,
        /// The TOML.
        text: &'static str,
    },
}

/// Settings of the process. Everything has a default but the data folder.
#[derive(Clone)]
pub struct Settings {
    /// The folder with everything that the service keeps.
    pub data: PathBuf,
    /// Where MQTT clients connect; port 0 takes any.
    pub mqtt: SocketAddr,
    /// Where the console and the API are; port 0 takes any.
    pub http: SocketAddr,
    /// A PostgreSQL server to use instead of a private one; it may hold a password.
    pub database: Option<String>,
    /// The design of the broker.
    pub blueprint: Option<BlueprintSource>,
    /// Whether clients without identity may do everything.
    pub open: bool,
}

impl Settings {
    /// The default port of MQTT (registered with IANA).
    pub const MQTT_PORT: u16 = 1883;
    /// The default port of the console and the API.
    pub const HTTP_PORT: u16 = 7070;

    /// The defaults, on loopback.
    pub fn new(data: PathBuf) -> Self {
        Self {
            data,
            mqtt: SocketAddr::from((Ipv4Addr::LOCALHOST, Self::MQTT_PORT)),
            http: SocketAddr::from((Ipv4Addr::LOCALHOST, Self::HTTP_PORT)),
            database: None,
            blueprint: None,
            open: false,
        }
    }
}

impl std::fmt::Debug for Settings {
    /// Leaves the database address out: it may hold a password.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Settings")
            .field("data", &self.data)
            .field("mqtt", &self.mqtt)
            .field("http", &self.http)
            .field("blueprint", &self.blueprint)
            .field("open", &self.open)
            .finish_non_exhaustive()
    }
}
