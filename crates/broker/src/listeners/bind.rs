//! Listeners from their settings: checked first, then bound.

use std::{collections::HashSet, net::SocketAddr, sync::Arc};

use moorfall_core::Limits;
use tokio::net::TcpListener;

use crate::listeners::{
    listener::Listener,
    settings::{DEFAULT_LISTENER, LimitsError, ListenerSettings, Transport, limits_of, service_limits},
    tls::{Tls, TlsError},
};

/// The name of the path of the HTTP interface at which MQTT is spoken, among the listeners.
const HTTP: &str = "http";

/// Why there is no place to listen.
#[derive(Debug, thiserror::Error)]
pub enum ListenError {
    /// `--open` together with an address that others can reach.
    #[error(
        "--open lets everybody publish and subscribe to everything, so it works only on loopback addresses, and \
         {address} is not one. Leave out --open, or listen on 127.0.0.1."
    )]
    OpenToOthers {
        /// The address.
        address: SocketAddr,
    },
    /// An address can't be listened on.
    #[error("{what} can't listen on {address}: {words}")]
    Address {
        /// Which listener.
        what: String,
        /// Where.
        address: SocketAddr,
        /// Why, and the remedy.
        words: String,
    },
    /// Two listeners of one name, or a name that can't be one.
    #[error("\"{name}\" is not a valid name for a listener: {words}.")]
    Name {
        /// The name.
        name: String,
        /// Why.
        words: &'static str,
    },
    /// Certificates are named for a listener without TLS, or none for one with TLS.
    #[error("The listener {name} {words}.")]
    TlsMisfit {
        /// Its name.
        name: String,
        /// What does not fit.
        words: &'static str,
    },
    /// A listener's certificates can't be used.
    #[error("Listener {name}: {error}")]
    Tls {
        /// Its name.
        name: String,
        /// Why.
        error: TlsError,
    },
    /// Limits that can't be.
    #[error(transparent)]
    Limits(#[from] LimitsError),
}

/// Where to listen.
pub struct Wanted<'a> {
    /// Where MQTT clients connect.
    pub listeners: &'a [ListenerSettings],
    /// Where The console and the API are.
    pub http: SocketAddr,
    /// Whether clients without identity may do everything.
    pub open: bool,
    /// Limits of the service, by name.
    pub limits: &'a toml::Table,
}

/// Listeners whose settings are good.
pub struct Listening<'a> {
    listeners: Vec<(&'a ListenerSettings, Option<Arc<Tls>>, Limits)>,
    http: ListenerSettings,
    http_limits: Limits,
}

/// Listeners that are bound.
pub struct Sockets {
    /// Each with its socket.
    pub listeners: Vec<(Arc<Listener>, TcpListener)>,
    /// The path of the HTTP interface at which MQTT is spoken, and the socket of the interface.
    pub http: (Arc<Listener>, TcpListener),
}

impl<'a> Listening<'a> {
    /// Checks all settings; nothing is bound yet.
    pub fn new(wanted: &Wanted<'a>) -> Result<Self, ListenError> {
        let mut names = HashSet::from([HTTP]);
        let mut listeners = Vec::new();
        for listener in wanted.listeners {
            let name_fault = |words| Err(ListenError::Name { name: listener.name.clone(), words });
            if listener.name.is_empty() || listener.name.chars().any(|c| c.is_control() || c.is_whitespace()) {
                return name_fault("a name has at least one character, and no spaces or control characters");
            }
            if !names.insert(&listener.name) {
                return name_fault("another listener has this name");
            }
            let address = listener.address;
            if wanted.open && !address.ip().is_loopback() {
                return Err(ListenError::OpenToOthers { address });
            }
            listeners.push((listener, open_tls(listener)?, limits_of(listener, wanted.limits)?));
        }
        let http = ListenerSettings { transport: Transport::Websocket, ..ListenerSettings::tcp(HTTP, wanted.http) };
        if wanted.open && !wanted.http.ip().is_loopback() {
            return Err(ListenError::OpenToOthers { address: wanted.http });
        }
        Ok(Self { listeners, http, http_limits: service_limits(wanted.limits)? })
    }

    /// Takes the addresses.
    pub async fn bind(self) -> Result<Sockets, ListenError> {
        let mut listeners = Vec::new();
        for (settings, tls, limits) in self.listeners {
            let what = format!("The listener {}", settings.name);
            let remedy = if settings.name == DEFAULT_LISTENER { "--mqtt" } else { "its address in moorfall.toml" };
            let socket = bind(&what, settings.address, remedy).await?;
            let address = local_address(&socket, settings.address);
            listeners.push((Arc::new(Listener::new(settings, address, tls, limits)), socket));
        }
        let socket = bind("The console", self.http.address, "--http").await?;
        let address = local_address(&socket, self.http.address);
        let http = Arc::new(Listener::new(&self.http, address, None, self.http_limits));
        Ok(Sockets { listeners, http: (http, socket) })
    }
}

fn open_tls(listener: &ListenerSettings) -> Result<Option<Arc<Tls>>, ListenError> {
    let misfit = |words| Err(ListenError::TlsMisfit { name: listener.name.clone(), words });
    match (&listener.tls, listener.transport.is_secure()) {
        (None, false) => Ok(None),
        (None, true) => misfit("uses TLS; set its certificate and key under `tls`"),
        (Some(_), false) => {
            misfit("has certificates, but its transport is without TLS; use `tls` or `secure-websocket`")
        }
        (Some(settings), true) => match Tls::open(settings.clone()) {
            Ok(tls) => Ok(Some(Arc::new(tls))),
            Err(error) => Err(ListenError::Tls { name: listener.name.clone(), error }),
        },
    }
}

async fn bind(what: &str, address: SocketAddr, remedy: &str) -> Result<TcpListener, ListenError> {
    TcpListener::bind(address).await.map_err(|error| {
        let words = match error.kind() {
            std::io::ErrorKind::AddrInUse => format!(
                "another program uses this port. Stop it, or set another port with {remedy}, for example {}:PORT (0 \
                 takes any free port).",
                address.ip()
            ),
            std::io::ErrorKind::PermissionDenied => {
                format!("ports below 1024 need special rights. Set another port with {remedy}.")
            }
            std::io::ErrorKind::AddrNotAvailable => {
                format!("this machine does not have this address. Set another one with {remedy}.")
            }
            _ => error.to_string(),
        };
        ListenError::Address { what: what.into(), address, words }
    })
}

fn local_address(socket: &TcpListener, asked: SocketAddr) -> SocketAddr {
    socket.local_addr().unwrap_or(asked)
}
