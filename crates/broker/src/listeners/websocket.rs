//! MQTT within WebSocket (RFC 6455, MQTT §6): the handshake, and a stream of bytes over binary frames.
//!
//! Frames are not put together: their contents go on as they come, so that a connection holds no more than it would
//! without WebSocket, however large a frame is.

use std::{
    io::{self, Cursor},
    pin::Pin,
    task::{Context, Poll, ready},
};

use bytes::{Buf, BufMut, BytesMut};
use http::{HeaderMap, HeaderValue, Method, Request, Response, StatusCode, header};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tungstenite::{
    handshake::derive_accept_key,
    protocol::frame::{
        FrameHeader,
        coding::{Control, Data, OpCode},
    },
};

use crate::listeners::doors::{Doors, is_from_elsewhere};

/// The name of the sub-protocol ([MQTT-6.0.0-3], [MQTT-6.0.0-4]).
const SUB_PROTOCOL: &str = "mqtt";

/// The longest payload of a control frame, bytes (RFC 6455, 5.5).
const CONTROL: u64 = 125;

/// Bytes written as one frame at most, and held until they are sent.
const FRAME: usize = 32 * 1024;

/// Slices of one write at most; others wait for the next.
const SLICES: usize = 64;

/// Bytes read from below at a time.
const READ: usize = 8 * 1024;

/// Why a request is not a WebSocket that leads here.
#[derive(Debug)]
pub struct Declined {
    /// The status of the answer.
    pub status: StatusCode,
    /// Its body.
    pub words: &'static str,
}

/// Which pages may open a WebSocket.
pub struct Pages<'a> {
    /// Pages of these origins, besides those of the same host: a browser tells from which page a request comes, and any
    /// page could ask.
    pub origins: &'a [String],
    /// The names of this service.
    pub doors: &'a Doors,
    /// Whether the listener has TLS.
    pub is_secure: bool,
}

/// The answer to a request for a WebSocket.
pub fn accept<B>(request: &Request<B>, pages: &Pages<'_>) -> Result<Response<()>, Declined> {
    let headers = request.headers();
    let declined = |status, words| Err(Declined { status, words });
    let upgrade = has_token(headers, header::UPGRADE, "websocket") && has_token(headers, header::CONNECTION, "upgrade");
    if request.method() != Method::GET || !upgrade {
        return declined(StatusCode::UPGRADE_REQUIRED, "This path serves MQTT over WebSocket.\n");
    }
    if headers.get(header::SEC_WEBSOCKET_VERSION).is_none_or(|version| version != "13") {
        return declined(StatusCode::UPGRADE_REQUIRED, "Only WebSocket version 13 is supported.\n");
    }
    let Some(key) = headers.get(header::SEC_WEBSOCKET_KEY) else {
        return declined(StatusCode::BAD_REQUEST, "The request has no Sec-WebSocket-Key.\n");
    };
    if !has_token(headers, header::SEC_WEBSOCKET_PROTOCOL, SUB_PROTOCOL) {
        return declined(StatusCode::BAD_REQUEST, "Request the WebSocket subprotocol mqtt.\n");
    }
    if !pages.may(headers) {
        return declined(StatusCode::FORBIDDEN, "Pages of this origin are not allowed to connect.\n");
    }
    let mut response = Response::new(());
    *response.status_mut() = StatusCode::SWITCHING_PROTOCOLS;
    let answer = HeaderValue::try_from(derive_accept_key(key.as_bytes())).unwrap_or(HeaderValue::from_static(""));
    for (name, value) in [
        (header::UPGRADE, HeaderValue::from_static("websocket")),
        (header::CONNECTION, HeaderValue::from_static("Upgrade")),
        (header::SEC_WEBSOCKET_ACCEPT, answer),
        (header::SEC_WEBSOCKET_PROTOCOL, HeaderValue::from_static(SUB_PROTOCOL)),
    ] {
        response.headers_mut().insert(name, value);
    }
    Ok(response)
}

fn has_token(headers: &HeaderMap, name: header::HeaderName, wanted: &str) -> bool {
    let values = headers.get_all(name).into_iter().filter_map(|value| value.to_str().ok());
    values.flat_map(|value| value.split(',')).any(|token| token.trim().eq_ignore_ascii_case(wanted))
}

impl Pages<'_> {
    /// Programs that are no browsers send no origin.
    fn may(&self, headers: &HeaderMap) -> bool {
        let Some(origin) = headers.get(header::ORIGIN) else { return !is_from_elsewhere(headers) };
        let Ok(origin) = origin.to_str() else { return false };
        self.origins.iter().any(|allowed| allowed == origin)
            || self.doors.is_own_origin(headers, origin, self.is_secure) && !is_from_elsewhere(headers)
    }
}

/// Bytes over the binary frames of a server's WebSocket.
pub struct WebSocket<S> {
    inner: S,
    /// Received and not looked at yet.
    raw: BytesMut,
    /// Of the frame that is being received.
    incoming: Incoming,
    /// Frames that are being sent.
    outgoing: BytesMut,
    /// Nothing more is read: the peer has said goodbye.
    finished: bool,
    /// A close frame was sent.
    closed: bool,
}

#[derive(Default)]
struct Incoming {
    kind: Kind,
    left: u64,
    mask: [u8; 4],
    /// Where in the mask the next byte is.
    turn: usize,
    /// What a control frame has carried so far.
    control: BytesMut,
    /// Whether a message is open that further frames continue.
    within_message: bool,
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
enum Kind {
    #[default]
    None,
    Data,
    Ping,
    Pong,
    Close,
}

/// The header of an unmasked frame, and its size: at most ten bytes (RFC 6455, 5.2).
fn header(opcode: OpCode, length: usize) -> ([u8; 10], usize) {
    let header = FrameHeader { opcode, ..FrameHeader::default() };
    let mut bytes = [0; 10];
    let mut rest = &mut bytes[..];
    // There is room for the longest.
    let _ = header.format(length as u64, &mut rest);
    let size = 10 - rest.len();
    (bytes, size)
}

impl<S> WebSocket<S> {
    /// A WebSocket whose handshake is done.
    pub fn new(inner: S) -> Self {
        Self {
            inner,
            raw: BytesMut::new(),
            incoming: Incoming::default(),
            outgoing: BytesMut::new(),
            finished: false,
            closed: false,
        }
    }

    fn put_control(&mut self, control: Control, payload: &[u8]) {
        let (header, size) = header(OpCode::Control(control), payload.len());
        self.outgoing.put_slice(&header[..size]);
        self.outgoing.put_slice(payload);
    }

    fn say_close(&mut self, code: u16) {
        if !self.closed {
            self.closed = true;
            self.put_control(Control::Close, &code.to_be_bytes());
        }
    }

    /// Ends a WebSocket that breaks its rules: the error ends the connection, the close frame says why.
    fn broken(&mut self, code: u16, words: &'static str) -> io::Error {
        self.say_close(code);
        io::Error::new(io::ErrorKind::InvalidData, words)
    }

    /// Takes the next header off `raw`; gives whether there was a whole one.
    fn take_header(&mut self) -> io::Result<bool> {
        let mut cursor = Cursor::new(&self.raw[..]);
        let parsed = FrameHeader::parse(&mut cursor);
        let size = usize::try_from(cursor.position()).unwrap_or(0);
        let (header, length) = match parsed {
            Ok(Some(parsed)) => parsed,
            Ok(None) => return Ok(false),
            Err(_) => return Err(self.broken(1002, "invalid WebSocket frame")),
        };
        self.raw.advance(size);
        let Some(mask) = header.mask else {
            return Err(self.broken(1002, "unmasked WebSocket frame from a client"));
        };
        if header.rsv1 || header.rsv2 || header.rsv3 {
            return Err(self.broken(1002, "WebSocket frame with an extension that was not negotiated"));
        }
        let kind = match header.opcode {
            OpCode::Data(Data::Binary) if !self.incoming.within_message => Kind::Data,
            OpCode::Data(Data::Continue) if self.incoming.within_message => Kind::Data,
            // [MQTT-6.0.0-1].
            OpCode::Data(Data::Text) => return Err(self.broken(1003, "text WebSocket frame instead of a binary one")),
            OpCode::Data(_) => return Err(self.broken(1002, "WebSocket frames in an invalid order")),
            OpCode::Control(_) if length > CONTROL || !header.is_final => {
                return Err(self.broken(1002, "WebSocket control frame too long or fragmented"));
            }
            OpCode::Control(Control::Ping) => Kind::Ping,
            OpCode::Control(Control::Pong) => Kind::Pong,
            OpCode::Control(Control::Close) => Kind::Close,
            OpCode::Control(_) => return Err(self.broken(1002, "WebSocket frame with an unknown opcode")),
        };
        if kind == Kind::Data {
            self.incoming.within_message = !header.is_final;
        }
        self.incoming = Incoming {
            kind,
            left: length,
            mask,
            turn: 0,
            control: BytesMut::new(),
            within_message: self.incoming.within_message,
        };
        Ok(true)
    }

    /// Moves contents from `raw` to `out`, as far as there are some; handles control frames.
    fn take_contents(&mut self, out: &mut ReadBuf<'_>) -> io::Result<()> {
        while out.remaining() > 0 && !self.finished {
            if self.incoming.kind == Kind::None && !self.take_header()? {
                return Ok(());
            }
            let Incoming { kind, left, mask, turn, control, .. } = &mut self.incoming;
            let most = if *kind == Kind::Data { out.remaining() } else { usize::MAX };
            let count = self.raw.len().min(usize::try_from(*left).unwrap_or(usize::MAX)).min(most);
            let mut part = self.raw.split_to(count);
            for byte in part.iter_mut() {
                *byte ^= mask[*turn];
                *turn = (*turn + 1) & 3;
            }
            *left -= count as u64;
            if *kind == Kind::Data {
                out.put_slice(&part);
            } else {
                control.put_slice(&part);
            }
            if *left > 0 {
                return Ok(());
            }
            let (kind, control) = (*kind, std::mem::take(control));
            self.incoming.kind = Kind::None;
            match kind {
                // One answer waits at a time: a peer that only pings and does not read can't fill the memory.
                Kind::Ping if self.outgoing.len() < FRAME => {
                    self.put_control(Control::Pong, &control);
                }
                Kind::Close => {
                    self.finished = true;
                    self.say_close(1000);
                }
                _ => {}
            }
        }
        Ok(())
    }
}

impl<S: AsyncWrite + Unpin> WebSocket<S> {
    /// Sends what is held.
    fn poll_send(&mut self, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        while self.outgoing.has_remaining() {
            let count = ready!(Pin::new(&mut self.inner).poll_write(context, &self.outgoing))?;
            if count == 0 {
                return Poll::Ready(Err(io::ErrorKind::WriteZero.into()));
            }
            self.outgoing.advance(count);
        }
        if self.outgoing.capacity() > 0 {
            self.outgoing = BytesMut::new();
        }
        Poll::Ready(Ok(()))
    }
}

impl<S: AsyncRead + AsyncWrite + Unpin> AsyncRead for WebSocket<S> {
    fn poll_read(mut self: Pin<&mut Self>, context: &mut Context<'_>, out: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        let this = &mut *self;
        let before = out.filled().len();
        loop {
            let taken = this.take_contents(out);
            // Answers to control frames leave even if nothing else is written.
            if this.outgoing.has_remaining()
                && let Poll::Ready(Err(error)) = this.poll_send(context)
            {
                return Poll::Ready(Err(error));
            }
            taken?;
            if out.filled().len() > before || this.finished || out.remaining() == 0 {
                return Poll::Ready(Ok(()));
            }
            let mut space = [0; READ];
            let mut read = ReadBuf::new(&mut space);
            ready!(Pin::new(&mut this.inner).poll_read(context, &mut read))?;
            if read.filled().is_empty() {
                return Poll::Ready(Ok(()));
            }
            this.raw.extend_from_slice(read.filled());
        }
    }
}

impl<S: AsyncWrite + Unpin> AsyncWrite for WebSocket<S> {
    fn poll_write(mut self: Pin<&mut Self>, context: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        let slice = io::IoSlice::new(bytes);
        self.as_mut().poll_write_vectored(context, &[slice])
    }

    /// Takes up to one frame's worth, once what was taken before has been sent.
    fn poll_write_vectored(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        slices: &[io::IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        let this = &mut *self;
        ready!(this.poll_send(context))?;
        if this.closed {
            return Poll::Ready(Err(io::ErrorKind::BrokenPipe.into()));
        }
        let mut all = [io::IoSlice::new(&[]); 1 + SLICES];
        let (mut taken, mut used) = (0, 1);
        for (slice, place) in slices.iter().zip(&mut all[1..]) {
            let part = &slice[..slice.len().min(FRAME - taken)];
            taken += part.len();
            used += 1;
            *place = io::IoSlice::new(part);
        }
        if taken == 0 {
            return Poll::Ready(Ok(0));
        }
        let (header, size) = header(OpCode::Data(Data::Binary), taken);
        all[0] = io::IoSlice::new(&header[..size]);
        let all = &all[..used];
        // Where there is no vectored write, the parts would leave one by one.
        let written = match this.inner.is_write_vectored() {
            true => match Pin::new(&mut this.inner).poll_write_vectored(context, all) {
                Poll::Ready(written) => written?,
                Poll::Pending => 0,
            },
            false => 0,
        };
        if written == size + taken {
            return Poll::Ready(Ok(taken));
        }
        let mut sent = written;
        for part in all {
            let here = sent.min(part.len());
            this.outgoing.put_slice(&part[here..]);
            sent -= here;
        }
        // What can't be sent now is sent by the next write or flush.
        match this.poll_send(context) {
            Poll::Ready(Err(error)) => Poll::Ready(Err(error)),
            _ => Poll::Ready(Ok(taken)),
        }
    }

    fn is_write_vectored(&self) -> bool {
        true
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        ready!(self.poll_send(context))?;
        Pin::new(&mut self.inner).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        self.say_close(1000);
        ready!(self.poll_send(context))?;
        ready!(Pin::new(&mut self.inner).poll_flush(context))?;
        Pin::new(&mut self.inner).poll_shutdown(context)
    }
}

#[cfg(test)]
mod tests {
    use tokio::io::{AsyncReadExt, AsyncWriteExt, duplex};

    use super::*;

    /// The contents of unmasked frames.
    fn contents(mut bytes: &[u8]) -> Vec<u8> {
        let mut contents = Vec::new();
        while !bytes.is_empty() {
            let mut cursor = Cursor::new(bytes);
            let (header, length) = FrameHeader::parse(&mut cursor).expect("a header").expect("a whole one");
            let (start, length) = (cursor.position() as usize, length as usize);
            assert!(length <= FRAME && header.mask.is_none());
            if header.opcode == OpCode::Data(Data::Binary) {
                contents.extend_from_slice(&bytes[start..start + length]);
            }
            bytes = &bytes[start + length..];
        }
        contents
    }

    #[tokio::test]
    async fn what_is_taken_in_part_leaves_whole_and_in_order() {
        // A peer that takes a few bytes at a time, so that headers are cut, too, and one that takes much.
        for room in [1, 3, 13, 1_000, 100_000] {
            let (near, mut far) = duplex(room);
            let mut socket = WebSocket::new(near);
            let parts: Vec<Vec<u8>> = [1, 0, 124, 3, 300, 40_000, 7, 66_000]
                .iter()
                .map(|size| (0..*size).map(|at| (at % 251) as u8).collect())
                .collect();
            let whole = parts.concat();
            let sending = tokio::spawn(async move {
                let mut slices: Vec<io::IoSlice<'_>> = parts.iter().map(|part| io::IoSlice::new(part)).collect();
                let mut rest = &mut slices[..];
                while !rest.is_empty() {
                    let count = socket.write_vectored(rest).await.expect("it is taken");
                    assert!(count > 0);
                    io::IoSlice::advance_slices(&mut rest, count);
                }
                socket.shutdown().await.expect("it is sent");
            });
            let mut received = Vec::new();
            far.read_to_end(&mut received).await.expect("all comes");
            sending.await.expect("all is sent");
            assert!(contents(&received) == whole, "{room} bytes at a time");
        }
    }
}
