//! The bare relay: what passing messages on costs if each recipient has a task that is woken for what it is sent.
//!
//! CONNECT, SUBSCRIBE and PUBLISH at QoS 1 and 2 are answered by canned packets; PUBLISH frames go on as they came, many at
//! a time, to everyone whose client identifier ends with the same group as the publisher's. Nothing is decoded,
//! matched, checked or counted.

use std::{
    collections::{HashMap, VecDeque},
    io::IoSlice,
    sync::Arc,
};

use bytes::{Buf, Bytes, BytesMut};
use parking_lot::Mutex;
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::{TcpListener, TcpStream},
    sync::Notify,
};

use crate::Failure;

#[derive(Default)]
struct Queue {
    frames: Mutex<VecDeque<Bytes>>,
    wake: Notify,
}

/// The subscribers of one group.
type Subscribers = Arc<Mutex<Vec<Arc<Queue>>>>;

#[derive(Default)]
struct Relay {
    groups: Mutex<HashMap<Bytes, Subscribers>>,
}

pub(crate) async fn run() -> Result<(), Failure> {
    let listener = TcpListener::bind("127.0.0.1:0").await?;
    println!("{}", listener.local_addr()?);
    let relay = Arc::new(Relay::default());
    loop {
        let (stream, _) = listener.accept().await?;
        stream.set_nodelay(true)?;
        tokio::spawn(serve(Arc::clone(&relay), stream));
    }
}

/// The length of the frame's header and of the whole frame at the start of a buffer, once it is whole.
pub(crate) fn frame_end(buffer: &[u8]) -> Option<(usize, usize)> {
    let mut length = 0;
    for (index, byte) in buffer.iter().skip(1).take(4).enumerate() {
        length |= usize::from(byte & 0x7f) << (7 * index);
        if byte & 0x80 == 0 {
            let end = index + 2 + length;
            return (buffer.len() >= end).then_some((index + 2, end));
        }
    }
    None
}

/// The group of a client: what follows the last hyphen of the client identifier, which ends CONNECT.
pub(crate) fn group_name(connect: &[u8]) -> &[u8] {
    connect.rsplit(|byte| *byte == b'-').next().unwrap_or_default()
}

/// Adds what a frame is answered by.
pub(crate) fn answer(frame: &[u8], header: usize, answers: &mut BytesMut) {
    match (frame[0] >> 4, frame[0] >> 1 & 3) {
        (1, _) => answers.extend_from_slice(&[0x20, 3, 0, 0, 0]),
        (3, qos @ 1..) => {
            let topic = usize::from(frame[header]) << 8 | usize::from(frame[header + 1]);
            let id = header + 2 + topic;
            answers.extend_from_slice(&[if qos == 1 { 0x40 } else { 0x50 }, 2, frame[id], frame[id + 1]]);
        }
        (5, _) => answers.extend_from_slice(&[0x62, 2, frame[header], frame[header + 1]]),
        (6, _) => answers.extend_from_slice(&[0x70, 2, frame[header], frame[header + 1]]),
        (8, _) => answers.extend_from_slice(&[0x90, 4, frame[header], frame[header + 1], 0, frame[0] & 1]),
        (12, _) => answers.extend_from_slice(&[0xd0, 0]),
        _ => {}
    }
}

async fn serve(relay: Arc<Relay>, mut stream: TcpStream) {
    let queue = Arc::new(Queue::default());
    let mut group = Subscribers::default();
    let (mut reader, mut writer) = stream.split();
    let mut buffer = BytesMut::with_capacity(64 * 1024);
    let mut answers = BytesMut::new();
    let mut outgoing: VecDeque<Bytes> = VecDeque::new();
    loop {
        if outgoing.is_empty() {
            outgoing.append(&mut queue.frames.lock());
        }
        if !answers.is_empty() {
            outgoing.push_back(answers.split().freeze());
        }
        let waiting = !outgoing.is_empty();
        tokio::select! {
            written = write(&mut writer, &mut outgoing), if waiting => {
                if written.is_err() {
                    return;
                }
            }
            read = reader.read_buf(&mut buffer) => {
                if read.is_err() || read.is_ok_and(|count| count == 0) {
                    return;
                }
                take_frames(&relay, &queue, &mut group, &mut buffer, &mut answers);
                buffer.reserve(64 * 1024);
            }
            () = queue.wake.notified() => {}
        }
    }
}

async fn write(writer: &mut tokio::net::tcp::WriteHalf<'_>, outgoing: &mut VecDeque<Bytes>) -> std::io::Result<()> {
    let slices: Vec<IoSlice<'_>> = outgoing.iter().take(64).map(|bytes| IoSlice::new(bytes)).collect();
    let mut count = writer.write_vectored(&slices).await?;
    while count > 0
        && let Some(front) = outgoing.front_mut()
    {
        let here = count.min(front.len());
        front.advance(here);
        count -= here;
        if front.is_empty() {
            outgoing.pop_front();
        }
    }
    Ok(())
}

fn take_frames(
    relay: &Relay,
    queue: &Arc<Queue>,
    group: &mut Subscribers,
    buffer: &mut BytesMut,
    answers: &mut BytesMut,
) {
    let mut run = 0;
    let mut publishes = 0..0;
    while let Some((header, end)) = frame_end(&buffer[run..]) {
        let frame = &buffer[run..run + end];
        match frame[0] >> 4 {
            1 => {
                let name = Bytes::copy_from_slice(group_name(frame));
                *group = Arc::clone(relay.groups.lock().entry(name).or_default());
            }
            3 => {
                if publishes.is_empty() {
                    publishes = run..run;
                }
                publishes.end = run + end;
            }
            8 => group.lock().push(Arc::clone(queue)),
            _ => {}
        }
        answer(frame, header, answers);
        run += end;
    }
    let taken = buffer.split_to(run).freeze();
    if publishes.is_empty() {
        return;
    }
    let frames = taken.slice(publishes);
    for subscriber in group.lock().iter() {
        let first = {
            let mut queued = subscriber.frames.lock();
            queued.push_back(frames.clone());
            queued.len() == 1
        };
        if first {
            subscriber.wake.notify_one();
        }
    }
}
