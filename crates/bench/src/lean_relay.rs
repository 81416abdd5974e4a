//! The lean relay: what passing messages on costs at the least, as far as is known.
//!
//! As the bare relay, it answers by canned packets and decodes, matches, checks and counts nothing. Unlike it, it wakes
//! nobody: frames are read into one buffer for each thread and written from there to the sockets of all subscribers at
//! once. Only what a socket does not take is copied, and sent by the subscriber's own task. Over TLS the same is encrypted
//! for each subscriber first, and waits there.

use std::{
    cell::RefCell,
    collections::HashMap,
    future::poll_fn,
    io::{self, Read, Write},
    path::PathBuf,
    pin::Pin,
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    task::{Context, Poll, ready},
};

use bytes::{Buf, BytesMut};
use futures_util::task::AtomicWaker;
use parking_lot::Mutex;
use rustls::{
    ServerConfig, ServerConnection,
    pki_types::{CertificateDer, PrivateKeyDer, pem::PemObject},
};
use tokio::{
    io::{AsyncRead, ReadBuf},
    net::{
        TcpListener,
        tcp::{OwnedReadHalf, OwnedWriteHalf},
    },
};

use crate::{
    Failure,
    relay::{answer, frame_end, group_name},
};

/// Bytes read at a time.
const READ: usize = 64 * 1024;

thread_local! {
    static BUFFER: RefCell<Vec<u8>> = RefCell::new(vec![0; READ]);
    /// What was decrypted.
    static DECRYPTED: RefCell<Vec<u8>> = RefCell::new(vec![0; 2 * READ]);
}

/// What it is secured by; nothing if absent.
#[derive(Debug, clap::Args)]
pub(crate) struct Secured {
    #[arg(long, requires = "key")]
    certificate: Option<PathBuf>,
    #[arg(long)]
    key: Option<PathBuf>,
}

impl Secured {
    fn config(&self) -> Result<Option<Arc<ServerConfig>>, Failure> {
        let (Some(certificate), Some(key)) = (&self.certificate, &self.key) else { return Ok(None) };
        let chain = CertificateDer::pem_file_iter(certificate)?.collect::<Result<_, _>>()?;
        let key = PrivateKeyDer::from_pem_file(key)?;
        Ok(Some(Arc::new(ServerConfig::builder().with_no_client_auth().with_single_cert(chain, key)?)))
    }
}

/// One connection.
struct Client {
    writer: OwnedWriteHalf,
    /// Absent if it is not secured.
    secured: Option<Mutex<ServerConnection>>,
    /// What its socket did not take.
    rest: Mutex<BytesMut>,
    /// Whether there is any.
    is_behind: AtomicBool,
    waker: AtomicWaker,
}

/// The subscribers of one group.
#[derive(Default)]
struct Group(Mutex<Arc<Vec<Arc<Client>>>>);

#[derive(Default)]
struct Relay {
    groups: Mutex<HashMap<Vec<u8>, Arc<Group>>>,
}

/// Prints its address and runs until it is killed.
pub(crate) async fn run(secured: Secured) -> Result<(), Failure> {
    let config = secured.config()?;
    let listener = TcpListener::bind("127.0.0.1:0").await?;
    println!("{}", listener.local_addr()?);
    let relay = Arc::new(Relay::default());
    loop {
        let (stream, _) = listener.accept().await?;
        // Whoever has gone again needs none.
        let _ = stream.set_nodelay(true);
        let (reader, writer) = stream.into_split();
        let (rest, is_behind, waker) = Default::default();
        let secured = match &config {
            Some(config) => {
                let mut secured = ServerConnection::new(Arc::clone(config))?;
                secured.set_buffer_limit(None);
                Some(Mutex::new(secured))
            }
            None => None,
        };
        let client = Arc::new(Client { writer, secured, rest, is_behind, waker });
        tokio::spawn(serve(Arc::clone(&relay), reader, client));
    }
}

impl Client {
    /// Writes, or has its task write, these bytes.
    fn write(&self, bytes: &[u8]) {
        if let Some(secured) = &self.secured {
            let mut secured = secured.lock();
            let _ = secured.writer().write_all(bytes);
            return self.write_secured(&mut secured);
        }
        let mut rest = self.rest.lock();
        // An error is found by the reader, too.
        let taken = if rest.is_empty() { self.writer.try_write(bytes).unwrap_or(0) } else { 0 };
        if taken < bytes.len() {
            rest.extend_from_slice(&bytes[taken..]);
            self.is_behind.store(true, Ordering::Release);
            self.waker.wake();
        }
    }

    /// Writes what is encrypted as far as the socket takes it.
    fn write_secured(&self, secured: &mut ServerConnection) {
        while secured.wants_write() && secured.write_tls(&mut Socket(&self.writer)).is_ok() {}
        self.is_behind.store(secured.wants_write(), Ordering::Release);
        if secured.wants_write() {
            self.waker.wake();
        }
    }

    fn write_rest(&self) {
        if let Some(secured) = &self.secured {
            return self.write_secured(&mut secured.lock());
        }
        let mut rest = self.rest.lock();
        let taken = self.writer.try_write(&rest).unwrap_or(0);
        rest.advance(taken);
        self.is_behind.store(!rest.is_empty(), Ordering::Release);
    }
}

/// A socket that is written to without waiting.
struct Socket<'a>(&'a OwnedWriteHalf);

impl Write for Socket<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.try_write(bytes)
    }

    fn write_vectored(&mut self, slices: &[io::IoSlice<'_>]) -> io::Result<usize> {
        self.0.try_write_vectored(slices)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

enum Event {
    Read,
    Writable,
    Closed,
}

async fn serve(relay: Arc<Relay>, mut reader: OwnedReadHalf, client: Arc<Client>) {
    let mut group = Arc::default();
    let (mut begun, mut answers) = (Vec::new(), BytesMut::new());
    loop {
        let event = poll_fn(|context| {
            client.waker.register(context.waker());
            if client.is_behind.load(Ordering::Acquire)
                && let Poll::Ready(done) = client.writer.as_ref().poll_write_ready(context)
            {
                return Poll::Ready(done.map(|()| Event::Writable));
            }
            if let Some(secured) = &client.secured {
                let decrypted = |buffer: &[u8], begun: &mut Vec<u8>| {
                    let whole = take_frames(&relay, &client, &mut group, buffer, &mut answers);
                    begun.clear();
                    begun.extend_from_slice(&buffer[whole..]);
                };
                return poll_secured(context, &mut reader, &client, secured, &mut begun, decrypted);
            }
            BUFFER.with_borrow_mut(|buffer| {
                let before = begun.len();
                buffer[..before].copy_from_slice(&begun);
                let mut space = ReadBuf::new(&mut buffer[before..]);
                ready!(Pin::new(&mut reader).poll_read(context, &mut space))?;
                let count = space.filled().len();
                let whole = take_frames(&relay, &client, &mut group, &buffer[..before + count], &mut answers);
                begun.clear();
                begun.extend_from_slice(&buffer[whole..before + count]);
                Poll::Ready(Ok(if count == 0 { Event::Closed } else { Event::Read }))
            })
        });
        match event.await {
            Err(_) | Ok(Event::Closed) => return,
            Ok(Event::Writable) => client.write_rest(),
            Ok(Event::Read) => {}
        }
        if !answers.is_empty() {
            client.write(&answers);
            answers.clear();
        }
    }
}

/// Reads and decrypts, and has `take` what came of it behind what had begun.
fn poll_secured(
    context: &mut Context<'_>,
    reader: &mut OwnedReadHalf,
    client: &Client,
    secured: &Mutex<ServerConnection>,
    begun: &mut Vec<u8>,
    mut take: impl FnMut(&[u8], &mut Vec<u8>),
) -> Poll<io::Result<Event>> {
    BUFFER.with_borrow_mut(|buffer| {
        let mut space = ReadBuf::new(buffer);
        ready!(Pin::new(reader).poll_read(context, &mut space))?;
        let mut arrived = space.filled();
        if arrived.is_empty() {
            return Poll::Ready(Ok(Event::Closed));
        }
        DECRYPTED.with_borrow_mut(|decrypted| {
            let mut end = begun.len();
            decrypted[..end].copy_from_slice(begun);
            let mut secured = secured.lock();
            while !arrived.is_empty() {
                secured.read_tls(&mut arrived)?;
                secured.process_new_packets().map_err(io::Error::other)?;
                while let Ok(count @ 1..) = secured.reader().read(&mut decrypted[end..]) {
                    end += count;
                }
            }
            client.write_secured(&mut secured);
            drop(secured);
            take(&decrypted[..end], begun);
            Poll::Ready(Ok(Event::Read))
        })
    })
}

/// Passes on what is whole; gives how many bytes that is.
fn take_frames(
    relay: &Relay,
    client: &Arc<Client>,
    group: &mut Arc<Group>,
    buffer: &[u8],
    answers: &mut BytesMut,
) -> usize {
    let mut run = 0;
    let mut publishes = 0..0;
    while let Some((header, end)) = frame_end(&buffer[run..]) {
        let frame = &buffer[run..run + end];
        match frame[0] >> 4 {
            1 => *group = Arc::clone(relay.groups.lock().entry(group_name(frame).to_vec()).or_default()),
            3 => {
                if publishes.is_empty() {
                    publishes = run..run;
                }
                publishes.end = run + end;
            }
            8 => Arc::make_mut(&mut *group.0.lock()).push(Arc::clone(client)),
            _ => {}
        }
        answer(frame, header, answers);
        run += end;
    }
    if !publishes.is_empty() {
        let subscribers = Arc::clone(&*group.0.lock());
        subscribers.iter().for_each(|subscriber| subscriber.write(&buffer[publishes.clone()]));
    }
    run
}
