//! What the service needs to know to start.

use std::{
    net::{Ipv4Addr, SocketAddr},
    path::PathBuf,
};

use moorfall_broker::listeners::settings::{DEFAULT_LISTENER, ListenerSettings};

/// Settings of the process. Everything has a default but the data folder.
#[derive(Clone)]
pub struct Settings {
    /// The folder with everything that the service keeps.
    pub data: PathBuf,
    /// Where MQTT clients connect.
    pub listeners: Vec<ListenerSettings>,
    /// Where the console and the API are; port 0 takes any.
    pub http: SocketAddr,
    /// Names by which browsers reach the service, besides those of loopback and addresses: `console.example`, or with a
    /// scheme where a proxy brings TLS, `https://console.example`.
    pub hosts: Vec<String>,
    /// A PostgreSQL server to use instead of a private one; it may hold a password.
    pub database: Option<String>,
    /// A file or a folder of files, which become the first revision of the design. Later ones are applied.
    pub blueprint: Option<PathBuf>,
    /// Whether clients without identity may do everything.
    pub open: bool,
    /// Who the process becomes once its ports are open, when it is started as root.
    pub user: Option<String>,
    /// Limits that differ from the defaults, by name.
    pub limits: toml::Table,
}

impl Settings {
    /// The default port of MQTT (registered with IANA).
    pub const MQTT_PORT: u16 = 1883;
    /// The default port of the console and the API.
    pub const HTTP_PORT: u16 = 7070;
    /// The defaults, on loopback.
    pub fn new(data: PathBuf) -> Self {
        let mqtt = SocketAddr::from((Ipv4Addr::LOCALHOST, Self::MQTT_PORT));
        Self {
            data,
            listeners: vec![ListenerSettings::tcp(DEFAULT_LISTENER, mqtt)],
            http: SocketAddr::from((Ipv4Addr::LOCALHOST, Self::HTTP_PORT)),
            hosts: Vec::new(),
            database: None,
            blueprint: None,
            open: false,
            user: None,
            limits: toml::Table::new(),
        }
    }
}

impl std::fmt::Debug for Settings {
    /// Leaves the database address out: it may hold a password.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Settings")
            .field("data", &self.data)
            .field("listeners", &self.listeners)
            .field("http", &self.http)
            .field("hosts", &self.hosts)
            .field("blueprint", &self.blueprint)
            .field("open", &self.open)
            .field("user", &self.user)
            .field("limits", &self.limits)
            .finish_non_exhaustive()
    }
}
