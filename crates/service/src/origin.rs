//! Who has come: a stream of bytes, where it comes from, and its seat.

use std::{net::SocketAddr, sync::Arc};

use futures_util::future::BoxFuture;
use moorfall_core::Time;

use crate::{
    certificate::ClientCertificate,
    common::Common,
    doors::Doors,
    listener::Listener,
    seats::{Seat, Seats},
    stream::Stream,
};

/// Where a connection came from.
pub(crate) struct Origin {
    pub(crate) address: SocketAddr,
    pub(crate) listener: Arc<Listener>,
    /// The certificate that the client has shown, if it has; an authority that is trusted has signed it.
    pub(crate) certificate: Option<Arc<ClientCertificate>>,
    /// Authorities that had been removed when it was shown.
    pub(crate) removals: u64,
    /// When it was accepted, before TLS or WebSocket took their time.
    pub(crate) at: Time,
    /// Present for a client that a person holds at the console.
    pub(crate) acting: Option<Acting>,
}

/// A person acts as an identity, and has shown elsewhere that they may.
#[derive(Clone, Debug)]
pub(crate) struct Acting {
    pub(crate) identity: String,
    pub(crate) person: Arc<str>,
}

/// A client that a listener has let through to where MQTT is spoken.
pub(crate) struct Arrived {
    pub(crate) stream: Stream,
    pub(crate) origin: Origin,
    /// Given back when the connection is over.
    pub(crate) seat: Seat,
}

/// What is done with who has come; it lasts as long as the connection.
type Serve = Box<dyn Fn(Arrived) -> BoxFuture<'static, ()> + Send + Sync>;

/// What all listeners need. They don't know what is spoken on the connections that they hand on.
pub(crate) struct Reception {
    pub(crate) common: Arc<Common>,
    pub(crate) seats: Arc<Seats>,
    /// By which names browsers may come in.
    pub(crate) doors: Doors,
    /// How many authorities were removed so far.
    pub(crate) removals: Box<dyn Fn() -> u64 + Send + Sync>,
    pub(crate) serve: Serve,
}

impl std::fmt::Debug for Reception {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Reception").field("seats", &self.seats).field("doors", &self.doors).finish_non_exhaustive()
    }
}
