//! Accepting MQTT connections.

use std::{sync::Arc, time::Duration};

use tokio::{net::TcpListener, time::sleep};
use tokio_util::task::TaskTracker;

use crate::{
    broker::Broker,
    connection::{self, Origin},
    stream::Stream,
};

/// Accepts until the service stops; each connection is a task of its own.
pub(crate) async fn accept(broker: Arc<Broker>, listener: TcpListener, tasks: TaskTracker) {
    // Said once for each time that it gets full, not for each connection: a flood shall not fill the log too.
    let name: Arc<str> = "mqtt".into();
    let mut full = false;
    loop {
        let accepted = tokio::select! {
            accepted = listener.accept() => accepted,
            () = broker.stopping.cancelled() => return,
        };
        match accepted {
            Ok((stream, address)) => match broker.seat() {
                Some(seat) => {
                    full = false;
                    // Small packets must not wait for more; without it they only come later.
                    let _ = stream.set_nodelay(true);
                    let origin = Origin { address, listener: Arc::clone(&name), at: broker.clock.now() };
                    tasks.spawn(connection::serve(Arc::clone(&broker), Stream::Tcp(stream), origin, seat));
                }
                None => {
                    if !full {
                        let limit = broker.limits.connections;
                        tracing::warn!(%address, limit, "connections are refused: there are as many as may be");
                    }
                    full = true;
                }
            },
            Err(error) => {
                // Out of descriptors or memory: waiting is all that helps.
                tracing::warn!(%error, "a connection could not be accepted");
                sleep(Duration::from_millis(100)).await;
            }
        }
    }
}
