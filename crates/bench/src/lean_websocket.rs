//! The client's side of a WebSocket, as lean as the load's side of TCP: what it costs must not slow the load, or more
//! messages would leave the service one by one.

use std::{
    io,
    net::SocketAddr,
    pin::Pin,
    task::{Context, Poll, ready},
};

use bytes::{Buf, BufMut, BytesMut};
use tokio::{
    io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt, ReadBuf},
    net::TcpStream,
};
use tokio_util::io::poll_read_buf;

use crate::Failure;

/// Bytes over the frames of a WebSocket.
pub(crate) struct LeanWebSocket {
    inner: TcpStream,
    /// Received, frames and all.
    raw: BytesMut,
    /// Bytes of the frame that have not come yet.
    left: usize,
    /// Frames that are being sent.
    outgoing: BytesMut,
}

impl LeanWebSocket {
    /// Connects and asks for MQTT (RFC 6455, 4.1; MQTT §6).
    pub(crate) async fn open(address: SocketAddr) -> Result<Self, Failure> {
        let mut inner = TcpStream::connect(address).await?;
        inner.set_nodelay(true)?;
        let request = format!(
            "GET /mqtt HTTP/1.1\r\nHost: {address}\r\nUpgrade: websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Version: \
             13\r\nSec-WebSocket-Key: aGFycm93bWVyZSBnb3JnZQ==\r\nSec-WebSocket-Protocol: mqtt\r\n\r\n"
        );
        inner.write_all(request.as_bytes()).await?;
        let mut answer = Vec::new();
        while !answer.ends_with(b"\r\n\r\n") {
            answer.push(inner.read_u8().await?);
        }
        if !answer.starts_with(b"HTTP/1.1 101 ") {
            return Err(format!("no WebSocket: {}", String::from_utf8_lossy(&answer)).into());
        }
        Ok(Self { inner, raw: BytesMut::new(), left: 0, outgoing: BytesMut::new() })
    }

    /// The size of the header in front and of the contents behind it, once the header is there.
    fn header(&self) -> Option<(usize, usize)> {
        let length = usize::from(*self.raw.get(1)? & 127);
        let more = match length {
            126 => 2,
            127 => 8,
            _ => return Some((2, length)),
        };
        let digits = self.raw.get(2..2 + more)?;
        Some((2 + more, digits.iter().fold(0, |length, digit| length << 8 | usize::from(*digit))))
    }

    fn poll_send(&mut self, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        while self.outgoing.has_remaining() {
            let count = ready!(Pin::new(&mut self.inner).poll_write(context, &self.outgoing))?;
            self.outgoing.advance(count);
        }
        Poll::Ready(Ok(()))
    }
}

impl AsyncRead for LeanWebSocket {
    fn poll_read(mut self: Pin<&mut Self>, context: &mut Context<'_>, out: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        let before = out.filled().len();
        let this = &mut *self;
        loop {
            while out.remaining() > 0 {
                if this.left == 0 {
                    let Some((header, length)) = this.header() else { break };
                    this.raw.advance(header);
                    this.left = length;
                }
                let count = this.left.min(this.raw.len()).min(out.remaining());
                if count == 0 {
                    break;
                }
                out.put_slice(&this.raw[..count]);
                this.raw.advance(count);
                this.left -= count;
            }
            if out.filled().len() > before {
                return Poll::Ready(Ok(()));
            }
            this.raw.reserve(64 * 1024);
            if ready!(poll_read_buf(Pin::new(&mut this.inner), context, &mut this.raw))? == 0 {
                return Poll::Ready(Ok(()));
            }
        }
    }
}

impl AsyncWrite for LeanWebSocket {
    fn poll_write(mut self: Pin<&mut Self>, context: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        ready!(self.poll_send(context))?;
        self.outgoing.put_u8(0x82);
        // Masked, by zeros: what is sent is what is meant.
        match bytes.len() {
            length @ ..126 => self.outgoing.put_u8(0x80 | length as u8),
            length @ ..65_536 => {
                self.outgoing.put_u8(0x80 | 126);
                self.outgoing.put_u16(length as u16);
            }
            length => {
                self.outgoing.put_u8(0x80 | 127);
                self.outgoing.put_u64(length as u64);
            }
        }
        self.outgoing.put_u32(0);
        self.outgoing.put_slice(bytes);
        match self.poll_send(context) {
            Poll::Ready(Err(error)) => Poll::Ready(Err(error)),
            _ => Poll::Ready(Ok(bytes.len())),
        }
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        self.poll_send(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.inner).poll_shutdown(context)
    }
}
