//! A connection of HTTP that does not wait for ever: for a request to arrive, between two of them, for a client that
//! does not read. Once it is a WebSocket it is left alone.

use std::{
    io,
    pin::Pin,
    sync::{
        Arc,
        atomic::{AtomicU8, Ordering},
    },
    task::{Context, Poll, ready},
    time::Duration,
};

use futures_util::task::AtomicWaker;
use tokio::{
    io::{AsyncRead, AsyncWrite, ReadBuf},
    net::TcpStream,
    time::{Instant, Sleep, sleep},
};

/// What goes on; shared with whoever answers.
#[derive(Clone, Debug, Default)]
pub struct Phase(Arc<Shared>);

#[derive(Debug, Default)]
struct Shared {
    phase: AtomicU8,
    /// The connection's task: it does not look again by itself when an answer is sent.
    task: AtomicWaker,
}

const IDLE: u8 = 0;
/// The first bytes of a request have arrived.
const ARRIVING: u8 = 1;
const ANSWERED: u8 = 2;
const HANDED_OVER: u8 = 3;

impl Phase {
    fn get(&self) -> u8 {
        self.0.phase.load(Ordering::Acquire)
    }

    fn set(&self, phase: u8) {
        if self.get() != HANDED_OVER {
            self.0.phase.store(phase, Ordering::Release);
        }
    }

    /// A request has arrived; until this is dropped it is being answered.
    pub fn answer(&self) -> Answering {
        self.set(ANSWERED);
        Answering(self.clone())
    }

    /// The connection is something else now.
    pub fn hand_over(&self) {
        self.set(HANDED_OVER);
    }
}

/// A request that is being answered.
#[derive(Debug)]
pub struct Answering(Phase);

impl Drop for Answering {
    fn drop(&mut self) {
        self.0.set(IDLE);
        self.0.0.task.wake();
    }
}

/// How long things may take.
#[derive(Clone, Copy, Debug)]
pub struct Waits {
    /// The headers of a request.
    pub header: Duration,
    /// Between two requests, and for bytes that the client does not read.
    pub idle: Duration,
}

/// The connection.
pub struct HttpStream {
    inner: TcpStream,
    phase: Phase,
    waits: Waits,
    /// What was waited for when `timer` was set.
    waits_for: u8,
    reading: Pin<Box<Sleep>>,
    /// Set while the client does not read.
    writing: Option<Pin<Box<Sleep>>>,
}

impl HttpStream {
    /// A connection that is closed when its peer takes longer than `waits`.
    pub fn new(inner: TcpStream, phase: Phase, waits: Waits) -> Self {
        let reading = Box::pin(sleep(waits.header));
        // The first request is waited for as if it had begun: nobody connects to be idle.
        phase.set(ARRIVING);
        Self { inner, phase, waits, waits_for: ARRIVING, reading, writing: None }
    }

    fn late(explanation: &'static str) -> io::Error {
        io::Error::new(io::ErrorKind::TimedOut, explanation)
    }
}

impl AsyncRead for HttpStream {
    fn poll_read(mut self: Pin<&mut Self>, context: &mut Context<'_>, into: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        let before = into.filled().len();
        if let Poll::Ready(read) = Pin::new(&mut self.inner).poll_read(context, into) {
            if self.phase.get() == IDLE && into.filled().len() > before {
                self.phase.set(ARRIVING);
            }
            return Poll::Ready(read);
        }
        self.phase.0.task.register(context.waker());
        let phase = self.phase.get();
        if phase != self.waits_for {
            let wait = if phase == IDLE { self.waits.idle } else { self.waits.header };
            self.waits_for = phase;
            self.reading.as_mut().reset(Instant::now() + wait);
        }
        if phase == IDLE || phase == ARRIVING {
            ready!(self.reading.as_mut().poll(context));
            return Poll::Ready(Err(Self::late("no request arrived in time")));
        }
        Poll::Pending
    }
}

impl HttpStream {
    /// Gives up on a client that takes nothing for long.
    fn written<T>(&mut self, context: &mut Context<'_>, done: Poll<io::Result<T>>) -> Poll<io::Result<T>> {
        if done.is_ready() || self.phase.get() == HANDED_OVER {
            self.writing = None;
            return done;
        }
        let idle = self.waits.idle;
        let timer = self.writing.get_or_insert_with(|| Box::pin(sleep(idle)));
        ready!(timer.as_mut().poll(context));
        Poll::Ready(Err(Self::late("the response is not read")))
    }
}

impl AsyncWrite for HttpStream {
    fn poll_write(mut self: Pin<&mut Self>, context: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        let done = Pin::new(&mut self.inner).poll_write(context, bytes);
        self.written(context, done)
    }

    fn poll_write_vectored(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        slices: &[io::IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        let done = Pin::new(&mut self.inner).poll_write_vectored(context, slices);
        self.written(context, done)
    }

    fn is_write_vectored(&self) -> bool {
        self.inner.is_write_vectored()
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.inner).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.inner).poll_shutdown(context)
    }
}
