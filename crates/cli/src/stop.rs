//! Being asked to stop.

use tokio::signal::unix::{SignalKind, signal};

/// Being asked to stop: by SIGTERM, or by Ctrl-C.
pub struct Stop {
    terminate: tokio::signal::unix::Signal,
    interrupt: tokio::signal::unix::Signal,
}

impl Stop {
    /// From now on a signal does not end the process by itself.
    pub fn listen() -> std::io::Result<Self> {
        Ok(Self { terminate: signal(SignalKind::terminate())?, interrupt: signal(SignalKind::interrupt())? })
    }

    /// Waits until the process is asked to stop. Nothing is lost when the future is dropped.
    pub async fn wait(&mut self) {
        tokio::select! {
            _ = self.terminate.recv() => {}
            _ = self.interrupt.recv() => {}
        }
    }
}
