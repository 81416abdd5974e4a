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

/// Connects a client that acts as an identity; gives its end of the connection. It counts as one of this listener.
pub fn attach(
    broker: &Arc<Broker>,
    seats: &Arc<Seats>,
    listener: &Arc<Listener>,
    acting: Acting,
    address: SocketAddr,
) -> Result<DuplexStream, TurnedAway> {
    let (near, far) = duplex(PIPE);
    let seat = seats.sit(listener)?;
    let listener = Arc::clone(listener);
    let origin = Origin { address, listener, certificate: None, removals: 0, at: broker.now(), acting: Some(acting) };
    let arrived = Arrived { stream: Stream::Layered(Box::new(far)), origin, seat };
    broker.common.tasks.spawn(connection::serve(Arc::clone(broker), arrived));
    Ok(near)
}
