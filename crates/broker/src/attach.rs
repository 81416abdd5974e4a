//! Clients inside: like any other, with the rights of an identity, but without a network between them and the broker.

use std::{net::SocketAddr, sync::Arc};

use tokio::io::{DuplexStream, duplex};

use crate::{
    broker::Broker,
    connection,
    listeners::{
        listener::Listener,
        origin::{Acting, Arrived, Origin},
        seats::{Seats, TurnedAway},
        stream::Stream,
    },
};

/// Bytes on the way between a client and the broker.
const PIPE: usize = 64 * 1024;

/// Where clients inside come in. They count as ones of this listener.
#[derive(Clone, Copy)]
pub struct Entrance<'a> {
    /// How many may come.
    pub seats: &'a Arc<Seats>,
    /// By which listener.
    pub listener: &'a Arc<Listener>,
    /// Where whoever holds the client is.
    pub address: SocketAddr,
}

/// Connects a client that acts as an identity; gives its end of the connection.
pub fn attach(
    broker: &Arc<Broker>,
    Entrance { seats, listener, address }: Entrance<'_>,
    acting: Acting,
) -> Result<DuplexStream, TurnedAway> {
    let (near, far) = duplex(PIPE);
    let seat = seats.sit(listener)?;
    let listener = Arc::clone(listener);
    let origin =
        Origin { address, listener, certificate: None, tls: None, removals: 0, at: broker.now(), acting: Some(acting) };
    let arrived = Arrived { stream: Stream::layered(Box::new(far)), origin, seat };
    broker.common.tasks.spawn(connection::serve(Arc::clone(broker), arrived));
    Ok(near)
}
