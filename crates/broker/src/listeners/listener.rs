//! A place where clients connect.

use std::{
    net::SocketAddr,
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    },
};

use moorfall_core::Limits;
use moorfall_live::counters::SharedCounters;

use crate::listeners::{
    doors::Doors,
    settings::{ListenerSettings, Transport},
    tls::Tls,
    websocket,
};

/// One place where clients connect.
#[derive(Debug)]
pub struct Listener {
    /// What it is called.
    pub name: Arc<str>,
    /// Where it really is.
    pub address: SocketAddr,
    /// What lies between TCP and MQTT.
    pub transport: Transport,
    /// Present for transports with TLS.
    pub tls: Option<Arc<Tls>>,
    /// Whether clients without identity are accepted.
    pub anonymous: bool,
    /// Origins of pages that may open a WebSocket, besides its own.
    pub origins: Vec<String>,
    /// Those of the service, and its own.
    pub limits: Arc<Limits>,
    /// Connections at present.
    pub connections: AtomicUsize,
    /// What its connections have carried.
    pub counters: SharedCounters,
}

impl Listener {
    /// One that is bound to this address.
    pub fn new(settings: &ListenerSettings, address: SocketAddr, tls: Option<Arc<Tls>>, limits: Limits) -> Self {
        Self {
            name: settings.name.as_str().into(),
            address,
            transport: settings.transport,
            tls,
            anonymous: settings.anonymous,
            origins: settings.origins.clone(),
            limits: Arc::new(limits),
            connections: AtomicUsize::new(0),
            counters: SharedCounters::default(),
        }
    }

    /// Its address with the scheme.
    pub fn url(&self) -> String {
        format!("{}://{}", self.transport.scheme(), self.address)
    }

    /// Which pages may open a WebSocket here.
    pub fn pages<'a>(&'a self, doors: &'a Doors) -> websocket::Pages<'a> {
        websocket::Pages { origins: &self.origins, doors, is_secure: self.transport.is_secure() }
    }

    /// Connections at present.
    pub fn count(&self) -> usize {
        self.connections.load(Ordering::Relaxed)
    }
}
