//! The lean relay: what passing messages on costs at the least, as far as is known.
//!
//! As the bare relay, it answers by canned packets and decodes, matches, checks and counts nothing. Unlike it, it wakes
//! nobody: frames are read into one buffer for each thread and written from there to the sockets of all subscribers at
//! once. Only what a socket does not take is copied, and sent by the subscriber's own task.

use std::{
    cell::RefCell,
    collections::HashMap,
    future::poll_fn,
    pin::Pin,
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    task::{Poll, ready},
};

use bytes::{Buf, BytesMut};
use futures_util::task::AtomicWaker;
use parking_lot::Mutex;
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
}

/// One connection.
struct Client {
    writer: OwnedWriteHalf,
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
pub(crate) async fn run() -> Result<(), Failure> {
    let listener = TcpListener::bind("127.0.0.1:0").await?;
    println!("{}", listener.local_addr()?);
    let relay = Arc::new(Relay::default());
    loop {
        let (stream, _) = listener.accept().await?;
        stream.set_nodelay(true)?;
        let (reader, writer) = stream.into_split();
        let (rest, is_behind, waker) = Default::default();
        tokio::spawn(serve(Arc::clone(&relay), reader, Arc::new(Client { writer, rest, is_behind, waker })));
    }
}

impl Client {
    /// Writes, or has its task write, these bytes.
    fn write(&self, bytes: &[u8]) {
        let mut rest = self.rest.lock();
        // An error is found by the reader, too.
        let taken = if rest.is_empty() { self.writer.try_write(bytes).unwrap_or(0) } else { 0 };
        if taken < bytes.len() {
            rest.extend_from_slice(&bytes[taken..]);
            self.is_behind.store(true, Ordering::Release);
            self.waker.wake();
        }
    }

    fn write_rest(&self) {
        let mut rest = self.rest.lock();
        let taken = self.writer.try_write(&rest).unwrap_or(0);
        rest.advance(taken);
        self.is_behind.store(!rest.is_empty(), Ordering::Release);
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
