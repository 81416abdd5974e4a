//! Listeners from their settings: checked first, then bound.

use std::{collections::HashSet, net::SocketAddr, path::Path, sync::Arc};

use moorfall_core::Limits;
use tokio::net::TcpListener;

use crate::{
    StartError,
    broker::Addresses,
    listener::Listener,
    settings::{ListenerSettings, Settings, Transport},
    tls::Tls,
};

/// The name of the path of the HTTP interface at which MQTT is spoken, among the listeners.
const HTTP: &str = "http";

/// Listeners whose settings are good.
pub(crate) struct Plan<'a> {
    listeners: Vec<(&'a ListenerSettings, Option<Arc<Tls>>, Limits)>,
    http: ListenerSettings,
    http_limits: Limits,
}

/// Listeners that are bound.
pub(crate) struct Sockets {
    pub(crate) listeners: Vec<(Arc<Listener>, TcpListener)>,
    pub(crate) http: (Arc<Listener>, TcpListener),
}

impl<'a> Plan<'a> {
    pub(crate) fn new(settings: &'a Settings) -> Result<Self, StartError> {
        let mut names = HashSet::from([HTTP]);
        let mut listeners = Vec::new();
        for listener in &settings.listeners {
            let name_fault = |words| Err(StartError::ListenerName { name: listener.name.clone(), words });
            if listener.name.is_empty() || listener.name.chars().any(|c| c.is_control() || c.is_whitespace()) {
                return name_fault("a name has at least one character, and neither spaces nor control characters");
            }
            if !names.insert(&listener.name) {
                return name_fault("another listener has this name");
            }
            let address = listener.address;
            if settings.open && !address.ip().is_loopback() {
                return Err(StartError::OpenToOthers { address });
            }
            listeners.push((listener, open_tls(listener)?, settings.listener_limits(listener)?));
        }
        let http = ListenerSettings { transport: Transport::Websocket, ..ListenerSettings::tcp(HTTP, settings.http) };
        if settings.open && !settings.http.ip().is_loopback() {
            return Err(StartError::OpenToOthers { address: settings.http });
        }
        Ok(Self { listeners, http, http_limits: settings.service_limits()? })
    }

    /// Takes the addresses.
    pub(crate) async fn bind(self) -> Result<Sockets, StartError> {
        let mut listeners = Vec::new();
        for (settings, tls, limits) in self.listeners {
            let what = format!("the listener {}", settings.name);
            let remedy = if settings.name == Settings::LISTENER { "--mqtt" } else { "its address in moorfall.toml" };
            let socket = bind(&what, settings.address, remedy).await?;
            let address = local_address(&socket, settings.address);
            listeners.push((Arc::new(Listener::new(settings, address, tls, limits)), socket));
        }
        let socket = bind("the console", self.http.address, "--http").await?;
        let address = local_address(&socket, self.http.address);
        let http = Arc::new(Listener::new(&self.http, address, None, self.http_limits));
        Ok(Sockets { listeners, http: (http, socket) })
    }
}

impl Sockets {
    pub(crate) fn addresses(&self, data: &Path) -> Addresses {
        let plain = self.listeners.iter().find(|(listener, _)| listener.transport == Transport::Tcp);
        Addresses {
            mqtt: plain.map(|(listener, _)| listener.address),
            http: self.http.0.address,
            data: data.to_owned(),
        }
    }
}

fn open_tls(listener: &ListenerSettings) -> Result<Option<Arc<Tls>>, StartError> {
    let misfit = |words| Err(StartError::ListenerTls { name: listener.name.clone(), words });
    match (&listener.tls, listener.transport.is_secure()) {
        (None, false) => Ok(None),
        (None, true) => misfit("has a transport with TLS; name its certificate and key under tls"),
        (Some(_), false) => misfit("names certificates, but its transport has no TLS; choose tls or secure-websocket"),
        (Some(settings), true) => match Tls::open(settings.clone()) {
            Ok(tls) => Ok(Some(Arc::new(tls))),
            Err(error) => Err(StartError::Tls { name: listener.name.clone(), error }),
        },
    }
}

async fn bind(what: &str, address: SocketAddr, remedy: &str) -> Result<TcpListener, StartError> {
    TcpListener::bind(address).await.map_err(|error| {
        let words = match error.kind() {
            std::io::ErrorKind::AddrInUse => format!(
                "another program listens there; stop it, or choose another port by {remedy}, such as {}:PORT (0 takes \
                 any)",
                address.ip()
            ),
            std::io::ErrorKind::PermissionDenied => {
                format!("ports below 1024 need special rights; choose another by {remedy}")
            }
            std::io::ErrorKind::AddrNotAvailable => {
                format!("this machine has no such address; choose one of its own by {remedy}")
            }
            _ => error.to_string(),
        };
        StartError::Listen { what: what.into(), address, words }
    })
}

fn local_address(socket: &TcpListener, asked: SocketAddr) -> SocketAddr {
    socket.local_addr().unwrap_or(asked)
}
