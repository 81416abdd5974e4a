//! What a listener needs to know.

use std::net::SocketAddr;

use moorfall_core::Limits;
use serde::{Deserialize, Serialize};

use crate::listeners::tls::TlsSettings;

/// The name of the listener that there is when none is named.
pub const DEFAULT_LISTENER: &str = "mqtt";

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
    /// Whether clients without identity are accepted; the rules then see them as the identity `anonymous`.
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

/// Limits that can't be.
#[derive(Clone, Debug, thiserror::Error)]
#[error("Limits of {whose}: {words}.")]
pub struct LimitsError {
    /// The service's or a listener's.
    pub whose: String,
    /// What is wrong.
    pub words: String,
}

/// What is wrong with one limit, whatever the others are; `None` if nothing is.
pub fn limit_fault(name: &str, value: &toml::Value) -> Option<String> {
    let only = toml::Table::from_iter([(name.to_owned(), value.clone())]);
    read_limits("", only).err().map(|error| error.words)
}

/// The limits of the whole service.
pub fn service_limits(limits: &toml::Table) -> Result<Limits, LimitsError> {
    read_limits("the service", limits.clone())
}

/// The limits of a listener: its own, and the service's for the rest.
pub fn limits_of(listener: &ListenerSettings, service: &toml::Table) -> Result<Limits, LimitsError> {
    let mut table = service.clone();
    table.extend(listener.limits.clone());
    read_limits(&format!("the listener {}", listener.name), table)
}

fn read_limits(whose: &str, table: toml::Table) -> Result<Limits, LimitsError> {
    let wrong = |words: String| LimitsError { whose: whose.into(), words };
    let limits: Limits = table.try_into().map_err(|error: toml::de::Error| wrong(error.message().to_owned()))?;
    limits.check().map_err(|error| wrong(error.to_string()))?;
    Ok(limits)
}
