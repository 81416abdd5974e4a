//! Connections that wait for their clients: whoever queues something for one carries it out at once, instead of waking a
//! task for it.

use std::{
    any::Any,
    fmt, io,
    task::{Context, Poll},
};

use moorfall_core::Time;
use tracing_mutex::parkinglot::Mutex;

use crate::listeners::inbox::Inbox;

/// A connection that has nothing to do.
pub trait Rests: Any + Send {
    /// Sends what is queued, as far as its client takes it now. Gives whether its task has to go on.
    fn carry_out(&mut self, now: Time) -> bool;

    /// Reads what has arrived: gives how many bytes, 0 at the end of the stream.
    fn poll_read(&mut self, context: &mut Context<'_>, inbox: &mut Inbox) -> Poll<io::Result<usize>>;
}

/// Where the connection of a session is while it rests; empty while its task works with it, or waits for its client to take
/// something. Its lock is taken before all others of a session, and before the journal's.
#[derive(Default)]
pub struct RestingPlace(Mutex<Option<Box<dyn Rests>>>);

impl fmt::Debug for RestingPlace {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("RestingPlace")
    }
}

impl RestingPlace {
    /// Has the connection carry out what is queued, if it rests and nobody else is at it. Gives whether that is all that was
    /// to be done.
    pub fn carry_out(&self, now: Time) -> bool {
        let Some(mut place) = self.0.try_lock() else { return false };
        place.as_mut().is_some_and(|resting| !resting.carry_out(now))
    }

    /// A connection comes to rest. It does not outlast what is given back.
    pub fn rest(&self, connection: Box<dyn Rests>) -> Rest<'_> {
        *self.0.lock() = Some(connection);
        Rest(self)
    }
}

/// One connection's rest.
pub struct Rest<'a>(&'a RestingPlace);

impl Rest<'_> {
    /// Reads for the connection.
    pub fn poll_read(&self, context: &mut Context<'_>, inbox: &mut Inbox) -> Poll<io::Result<usize>> {
        match self.0.0.lock().as_mut() {
            Some(resting) => resting.poll_read(context, inbox),
            None => Poll::Pending,
        }
    }

    /// Its rest is over.
    pub fn end<T: Rests>(self) -> Box<T> {
        let resting: Option<Box<dyn Any>> = self.0.0.lock().take().map(|resting| resting as Box<dyn Any>);
        resting.and_then(|resting| resting.downcast().ok()).expect("it was put there")
    }
}

impl Drop for Rest<'_> {
    fn drop(&mut self) {
        // The connection holds its session, which holds the place.
        let _none_if_ended = self.0.0.lock().take();
    }
}
