//! A link between two brokers that can be cut, slowed and restored: for the demo and tests, on this machine alone.

use std::{
    io,
    net::{Ipv4Addr, SocketAddr},
    sync::Arc,
    time::Duration,
};

use moorfall_contract::kinds::LinkState;
use parking_lot::Mutex;
use tokio::{
    io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt},
    net::{TcpListener, TcpStream},
    sync::watch,
    task::AbortHandle,
    time::sleep,
};

/// Bytes that are carried at a time: little, so that a slow link is slow for small messages, too.
const CHUNK: usize = 2 * 1024;

/// Between two chunks of a slow link.
const SLOWED: Duration = Duration::from_millis(250);

/// A link that can be cut.
#[derive(Debug)]
pub struct WeakLink {
    address: SocketAddr,
    target: Arc<Mutex<SocketAddr>>,
    state: watch::Sender<LinkState>,
    task: AbortHandle,
}

impl WeakLink {
    /// Carries what comes to a port of this machine on to an address.
    ///
    /// # Errors
    ///
    /// No port can be opened.
    pub async fn start(target: SocketAddr) -> io::Result<Self> {
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).await?;
        let address = listener.local_addr()?;
        let (state, states) = watch::channel(LinkState::Open);
        let target = Arc::new(Mutex::new(target));
        let led = Arc::clone(&target);
        let task = tokio::spawn(async move {
            while let Ok((near, _)) = listener.accept().await {
                let target = *led.lock();
                tokio::spawn(carry(near, target, states.clone()));
            }
        });
        Ok(Self { address, target, state, task: task.abort_handle() })
    }

    /// Where it takes connections.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// New connections lead there from now on.
    pub fn lead_to(&self, target: SocketAddr) {
        *self.target.lock() = target;
    }

    /// How the link is from now on. What is on its way when it is cut is lost.
    pub fn set(&self, state: LinkState) {
        self.state.send_replace(state);
    }

    /// How it is.
    pub fn state(&self) -> LinkState {
        *self.state.borrow()
    }
}

impl Drop for WeakLink {
    fn drop(&mut self) {
        self.task.abort();
    }
}

async fn carry(near: TcpStream, target: SocketAddr, mut states: watch::Receiver<LinkState>) {
    if *states.borrow() == LinkState::Cut {
        return;
    }
    let Ok(far) = TcpStream::connect(target).await else { return };
    // Small packets must not wait for more; without it they only come later.
    let _ = (near.set_nodelay(true), far.set_nodelay(true));
    let slow = states.clone();
    let ((near_in, near_out), (far_in, far_out)) = (near.into_split(), far.into_split());
    tokio::select! {
        _ = copy(near_in, far_out, slow.clone()) => {}
        _ = copy(far_in, near_out, slow) => {}
        _ = states.wait_for(|state| *state == LinkState::Cut) => {}
    }
}

async fn copy(
    mut from: impl AsyncRead + Unpin,
    mut to: impl AsyncWrite + Unpin,
    states: watch::Receiver<LinkState>,
) -> io::Result<()> {
    let mut chunk = vec![0; CHUNK];
    loop {
        let count = from.read(&mut chunk).await?;
        if count == 0 {
            return Ok(());
        }
        let is_slow = *states.borrow() == LinkState::Slow;
        if is_slow {
            sleep(SLOWED).await;
        }
        to.write_all(&chunk[..count]).await?;
    }
}
