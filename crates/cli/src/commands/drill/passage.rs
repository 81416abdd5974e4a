//! What carries bytes between two test services, and can be cut.

use std::{
    io,
    net::{Ipv4Addr, SocketAddr},
    sync::Arc,
};

use tokio::{
    io::copy_bidirectional,
    net::{TcpListener, TcpStream},
    sync::watch,
    task::JoinHandle,
};

/// A way to a service.
pub(super) struct Passage {
    /// Where it begins.
    pub(super) address: SocketAddr,
    is_open: watch::Sender<bool>,
    task: JoinHandle<()>,
}

impl Passage {
    pub(super) async fn to(target: SocketAddr) -> io::Result<Self> {
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).await?;
        let address = listener.local_addr()?;
        let (is_open, open) = watch::channel(true);
        let open = Arc::new(open);
        let task = tokio::spawn(async move {
            while let Ok((near, _)) = listener.accept().await {
                tokio::spawn(carry(near, target, open.as_ref().clone()));
            }
        });
        Ok(Self { address, is_open, task })
    }

    /// What is on its way is lost, and nothing passes any more.
    pub(super) fn cut(&self) {
        self.is_open.send_replace(false);
    }

    pub(super) fn restore(&self) {
        self.is_open.send_replace(true);
    }
}

impl Drop for Passage {
    fn drop(&mut self) {
        self.task.abort();
    }
}

async fn carry(mut near: TcpStream, target: SocketAddr, mut open: watch::Receiver<bool>) {
    if !*open.borrow() {
        return;
    }
    let Ok(mut far) = TcpStream::connect(target).await else { return };
    tokio::select! {
        _ = copy_bidirectional(&mut near, &mut far) => {}
        _ = open.wait_for(|open| !open) => {}
    }
}
