//! Who has come: a stream of bytes, where it comes from, and its seat.

use std::{
    net::{IpAddr, SocketAddr},
    sync::Arc,
};

use futures_util::future::BoxFuture;
use moorfall_core::{Time, certificate::ClientCertificate, session::NotAccepted};
use moorfall_live::Live;

use crate::{
    common::Common,
    connection::handover::Handover,
    listeners::{
        doors::Doors,
        listener::Listener,
        seats::{Seat, Seats},
        stream::Stream,
        tls_version::TlsVersion,
    },
};

/// Where a connection came from.
pub struct Origin {
    /// The client's address.
    pub address: SocketAddr,
    /// By which listener it came.
    pub listener: Arc<Listener>,
    /// The certificate that the client has shown, if it has; an authority that is trusted has signed it.
    pub certificate: Option<Arc<ClientCertificate>>,
    /// The version of TLS that it is secured by, if it is.
    pub tls: Option<TlsVersion>,
    /// Authorities that had been removed when it was shown.
    pub removals: u64,
    /// When it was accepted, before TLS or WebSocket took their time.
    pub at: Time,
    /// Present for a client inside.
    pub acting: Option<Acting>,
}

/// Whoever holds a client inside; that they may was found out elsewhere.
#[derive(Clone, Debug)]
pub enum Acting {
    /// A person acts as an identity.
    Person {
        /// As whom.
        identity: String,
        /// Who.
        person: Arc<str>,
    },
    /// The client that derived topics hear with.
    Derived {
        /// Where messages for it go.
        handover: Arc<Handover>,
    },
    /// A bridge.
    Bridge {
        /// Its name.
        name: String,
        /// Where messages for it go.
        handover: Arc<Handover>,
    },
}

/// A client that a listener has let through to where MQTT is spoken.
pub struct Arrived {
    /// What is read from it and written to it.
    pub stream: Stream,
    /// Where it comes from.
    pub origin: Origin,
    /// Given back when the connection is over.
    pub seat: Seat,
}

/// What is done with who has come; it lasts as long as the connection.
type Serve = Box<dyn Fn(Arrived) -> BoxFuture<'static, ()> + Send + Sync>;

/// What all listeners need. They don't know what is spoken on the connections that they hand on.
pub struct Reception {
    /// What the process shares.
    pub common: Arc<Common>,
    /// What goes on.
    pub live: Arc<Live>,
    /// How many may come.
    pub seats: Arc<Seats>,
    /// By which names browsers may come in.
    pub doors: Doors,
    /// How many authorities were removed so far.
    pub removals: Box<dyn Fn() -> u64 + Send + Sync>,
    /// Whether whoever comes from this address is let in.
    pub banned: Box<dyn Fn(IpAddr) -> Option<NotAccepted> + Send + Sync>,
    /// What is done with who has come.
    pub serve: Serve,
}

impl std::fmt::Debug for Reception {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Reception").field("seats", &self.seats).field("doors", &self.doors).finish_non_exhaustive()
    }
}
