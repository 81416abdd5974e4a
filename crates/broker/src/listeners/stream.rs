//! The bytes of one connection, whatever carries them.

use std::{
    io,
    pin::Pin,
    task::{Context, Poll, ready},
};

use bytes::{Buf, BytesMut};
use moorfall_core::Outgoing;
use tokio::{
    io::{AsyncRead, AsyncWrite},
    net::TcpStream,
};
use tokio_util::io::poll_read_buf;

/// Chunks of one vectored write.
const CHUNKS: usize = 64;

/// What a connection is carried by, below MQTT and above TCP.
pub trait Layer: AsyncRead + AsyncWrite + Send + Unpin {}

impl<T: AsyncRead + AsyncWrite + Send + Unpin> Layer for T {}

/// A connection's bytes. While it is idle it holds no buffer of its own.
pub enum Stream {
    /// Plain TCP.
    Tcp(TcpStream),
    /// TLS, WebSocket, or both.
    Layered(Layered),
}

/// A layer, and what became of what it was given.
pub struct Layered {
    layer: Box<dyn Layer>,
    /// Whether it may hold some of it that is not sent.
    holds_back: bool,
}

impl Stream {
    /// A connection that a layer carries.
    pub fn layered(layer: Box<dyn Layer>) -> Self {
        Self::Layered(Layered { layer, holds_back: false })
    }

    /// Appends what has arrived to `buffer`: up to `size` bytes, 0 at the end of the stream.
    pub fn poll_read(
        &mut self,
        context: &mut Context<'_>,
        buffer: &mut BytesMut,
        size: usize,
    ) -> Poll<io::Result<usize>> {
        match self {
            Self::Tcp(stream) => {
                // Memory is taken when there is something. What does not fill it was all: the next call waits without asking.
                ready!(stream.poll_read_ready(context))?;
                buffer.reserve(size);
                poll_read_buf(Pin::new(stream), context, buffer)
            }
            Self::Layered(Layered { layer, .. }) => {
                buffer.reserve(size);
                poll_read_buf(Pin::new(layer), context, buffer)
            }
        }
    }

    /// Writes from `outgoing` as much as is taken, in one vectored write.
    pub fn poll_write(&mut self, context: &mut Context<'_>, outgoing: &mut Outgoing) -> Poll<io::Result<usize>> {
        let count = {
            let mut slices = [io::IoSlice::new(&[]); CHUNKS];
            let used = outgoing.chunks_vectored(&mut slices);
            let slices = &slices[..used];
            match self {
                Self::Tcp(stream) => ready!(Pin::new(stream).poll_write_vectored(context, slices))?,
                Self::Layered(Layered { layer, holds_back }) => {
                    let count = ready!(Pin::new(&mut *layer).poll_write_vectored(context, slices))?;
                    *holds_back =
                        count < outgoing.remaining() || Pin::new(&mut *layer).poll_flush(context)?.is_pending();
                    count
                }
            }
        };
        outgoing.advance(count);
        Poll::Ready(Ok(count))
    }

    /// Has everything sent that a layer still holds; done at once for plain TCP.
    pub fn poll_flush(&mut self, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        match self {
            Self::Tcp(_) => Poll::Ready(Ok(())),
            Self::Layered(Layered { layer, holds_back }) => {
                ready!(Pin::new(layer).poll_flush(context))?;
                *holds_back = false;
                Poll::Ready(Ok(()))
            }
        }
    }

    /// Whether some of what was written may still be here, and is sent by [`Stream::poll_flush`].
    pub fn holds_back(&self) -> bool {
        matches!(self, Self::Layered(Layered { holds_back: true, .. }))
    }

    /// Says that nothing more will be written.
    pub fn poll_shutdown(&mut self, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        match self {
            Self::Tcp(stream) => Pin::new(stream).poll_shutdown(context),
            Self::Layered(Layered { layer, .. }) => Pin::new(layer).poll_shutdown(context),
        }
    }
}
