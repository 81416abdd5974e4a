//! What the service needs to know to start.

use std::{
    net::{Ipv4Addr, SocketAddr},
    path::PathBuf,
};

use moorfall_core::Limits;
use serde::{Deserialize, Serialize};

use crate::tls::TlsSettings;

/// What carries MQTT on a listener.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Transport {
    /// TCP.
    #[default]
    Tcp,
    /// TLS over TCP.
    Tls,
    /// WebSocket over TCP, at any path.
    Websocket,
    /// WebSocket over TLS, at any path.
    SecureWebsocket,
}

impl Transport {
    /// Whether it is protected by TLS.
    pub fn is_secure(self) -> bool {
        matches!(self, Self::Tls | Self::SecureWebsocket)
    }

    /// The scheme of its addresses.
    pub fn scheme(self) -> &'static str {
        match self {
            Self::Tcp => "mqtt",
            Self::Tls => "mqtts",
            Self::Websocket => "ws",
            Self::SecureWebsocket => "wss",
        }
    }
}

/// A place where MQTT clients connect.
#[derive(Clone, Debug, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct ListenerSettings {
    /// What to call it in the status and the log.
    pub name: String,
    /// Where; port 0 takes any.
    pub address: SocketAddr,
    /// What carries MQTT there.
    #[serde(default)]
    pub transport: Transport,
    /// Certificates, for the transports with TLS.
    #[serde(default)]
    pub tls: Option<TlsSettings>,
    /// Whether clients without identity are let in; the rules then see them as the identity `anonymous`.
    #[serde(default)]
    pub anonymous: bool,
    /// Origins of web pages that may open a WebSocket, besides those of the same host: `https://desk.example`.
    #[serde(default)]
    pub origins: Vec<String>,
    /// Limits that differ from those of the service, by name.
    #[serde(default)]
    pub limits: toml::Table,
}

impl ListenerSettings {
    /// Plain TCP.
    pub fn tcp(name: &str, address: SocketAddr) -> Self {
        Self {
            name: name.into(),
            address,
            transport: Transport::Tcp,
            tls: None,
            anonymous: false,
            origins: Vec::new(),
            limits: toml::Table::new(),
        }
    }
}

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

/// Limits that can't be.
#[derive(Clone, Debug, thiserror::Error)]
#[error("the limits of {whose}: {words}")]
pub struct LimitsError {
    /// The service's or a listener's.
    pub whose: String,
    /// What is wrong.
    pub words: String,
}

impl Settings {
    /// The default port of MQTT (registered with IANA).
    pub const MQTT_PORT: u16 = 1883;
    /// The default port of the console and the API.
    pub const HTTP_PORT: u16 = 7070;
    /// The name of the listener that there is when none is named.
    pub const LISTENER: &str = "mqtt";

    /// The defaults, on loopback.
    pub fn new(data: PathBuf) -> Self {
        let mqtt = SocketAddr::from((Ipv4Addr::LOCALHOST, Self::MQTT_PORT));
        Self {
            data,
            listeners: vec![ListenerSettings::tcp(Self::LISTENER, mqtt)],
            http: SocketAddr::from((Ipv4Addr::LOCALHOST, Self::HTTP_PORT)),
            hosts: Vec::new(),
            database: None,
            blueprint: None,
            open: false,
            user: None,
            limits: toml::Table::new(),
        }
    }

    /// The limits of the whole service.
    pub fn service_limits(&self) -> Result<Limits, LimitsError> {
        read_limits("the service", self.limits.clone())
    }

    /// The limits of a listener: its own, and the service's for the rest.
    pub fn listener_limits(&self, listener: &ListenerSettings) -> Result<Limits, LimitsError> {
        let mut table = self.limits.clone();
        table.extend(listener.limits.clone());
        read_limits(&format!("the listener {}", listener.name), table)
    }
}

/// What is wrong with one limit, whatever the others are; `None` if nothing is.
pub fn limit_fault(name: &str, value: &toml::Value) -> Option<String> {
    let only = toml::Table::from_iter([(name.to_owned(), value.clone())]);
    read_limits("", only).err().map(|error| error.words)
}

fn read_limits(whose: &str, table: toml::Table) -> Result<Limits, LimitsError> {
    let wrong = |words: String| LimitsError { whose: whose.into(), words };
    let limits: Limits = table.try_into().map_err(|error: toml::de::Error| wrong(error.message().to_owned()))?;
    limits.check().map_err(|error| wrong(error.to_string()))?;
    Ok(limits)
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
