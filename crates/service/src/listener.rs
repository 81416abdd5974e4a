//! A place where clients connect.

use std::{
    net::SocketAddr,
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    },
};

use moorfall_core::Limits;

use crate::{
    doors::Doors,
    listener_settings::{ListenerSettings, Transport},
    tls::Tls,
    websocket,
};

/// One place where clients connect.
#[derive(Debug)]
pub(crate) struct Listener {
    pub(crate) name: Arc<str>,
    /// Where it really is.
    pub(crate) address: SocketAddr,
    pub(crate) transport: Transport,
    pub(crate) tls: Option<Arc<Tls>>,
    /// Whether clients without identity are let in.
    pub(crate) anonymous: bool,
    pub(crate) origins: Vec<String>,
    pub(crate) limits: Arc<Limits>,
    pub(crate) connections: AtomicUsize,
}

impl Listener {
    pub(crate) fn new(settings: &ListenerSettings, address: SocketAddr, tls: Option<Arc<Tls>>, limits: Limits) -> Self {
        Self {
            name: settings.name.as_str().into(),
            address,
            transport: settings.transport,
            tls,
            anonymous: settings.anonymous,
            origins: settings.origins.clone(),
            limits: Arc::new(limits),
            connections: AtomicUsize::new(0),
        }
    }

    /// Its address with the scheme.
    pub(crate) fn url(&self) -> String {
        format!("{}://{}", self.transport.scheme(), self.address)
    }

    /// Which pages may open a WebSocket here.
    pub(crate) fn pages<'a>(&'a self, doors: &'a Doors) -> websocket::Pages<'a> {
        websocket::Pages { origins: &self.origins, doors, is_secure: self.transport.is_secure() }
    }

    /// Connections at present.
    pub(crate) fn count(&self) -> usize {
        self.connections.load(Ordering::Relaxed)
    }
}
