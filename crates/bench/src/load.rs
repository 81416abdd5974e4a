//! The load: publishers and subscribers in groups, with a bound on what is under way.

use std::{
    net::SocketAddr,
    sync::{
        Arc,
        atomic::{AtomicBool, AtomicU64, Ordering},
    },
    time::{Duration, Instant},
};

use bytes::{BufMut, BytesMut};
use hdrhistogram::Histogram;
use moorfall_wire::{
    Connect, Packet, PacketId, ProtocolVersion, Publish, QoS, Subscribe, SubscribeProperties, Subscription,
    SubscriptionOptions,
};
use parking_lot::Mutex;
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::TcpStream,
    sync::{Notify, oneshot},
    task::JoinSet,
    time::{sleep, timeout},
};

use crate::Failure;

/// Bytes of a message.
pub(crate) const PAYLOAD: usize = 100;

const VERSION: ProtocolVersion = ProtocolVersion::V5;

/// Frames of one write at most.
const BATCH: u64 = 64;

/// One publisher and those who hear it.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Shape {
    pub(crate) groups: usize,
    pub(crate) subscribers: usize,
    pub(crate) qos: QoS,
    /// Messages of one publisher that are under way at most: not received by all its subscribers.
    pub(crate) window: u64,
}

/// What a round of load came to.
#[derive(Debug)]
pub(crate) struct Carried {
    pub(crate) delivered: u64,
    pub(crate) span: Duration,
    /// Nanoseconds from sending to receiving.
    pub(crate) latency: Histogram<u64>,
}

struct Group {
    shape: Shape,
    began: Instant,
    stop: AtomicBool,
    delivered: AtomicU64,
    /// Awaited by the publisher.
    room: Notify,
    latency: Mutex<Histogram<u64>>,
}

/// Clients that stay connected from round to round.
pub(crate) struct Load {
    groups: Vec<Arc<Group>>,
    publishers: Vec<TcpStream>,
    readers: JoinSet<()>,
}

/// A frame whose bytes are always as many: the packet identifier and the time are put in.
struct Frame {
    bytes: Vec<u8>,
    id_at: usize,
    payload_at: usize,
}

impl Frame {
    fn new(topic: &str, qos: QoS) -> Result<Self, Failure> {
        let packet_id = (qos != QoS::AtMostOnce).then_some(PacketId::MIN);
        let publish = Publish { packet_id, ..Publish::new(topic.parse()?, vec![0; PAYLOAD], qos) };
        let mut bytes = BytesMut::new();
        Packet::Publish(publish).encode(VERSION, &mut bytes)?;
        let payload_at = bytes.len() - PAYLOAD;
        let header = if bytes.len() > 129 { 3 } else { 2 };
        Ok(Self { bytes: bytes.to_vec(), id_at: header + 2 + topic.len(), payload_at })
    }
}

/// Connects and gives the stream behind CONNACK.
pub(crate) async fn connect(address: SocketAddr, connect: Connect) -> Result<TcpStream, Failure> {
    let mut stream = TcpStream::connect(address).await?;
    stream.set_nodelay(true)?;
    let mut bytes = BytesMut::new();
    Packet::Connect(Box::new(connect)).encode(VERSION, &mut bytes)?;
    stream.write_all(&bytes).await?;
    expect(&mut stream, 0x20).await?;
    Ok(stream)
}

/// Subscribes and waits for SUBACK.
pub(crate) async fn subscribe(stream: &mut TcpStream, filter: &str, qos: QoS) -> Result<(), Failure> {
    let options = SubscriptionOptions { qos, ..SubscriptionOptions::default() };
    let subscriptions = vec![Subscription { filter: filter.parse()?, options }];
    let properties = SubscribeProperties::default();
    let mut bytes = BytesMut::new();
    let packet = Subscribe { packet_id: PacketId::MIN, properties, subscriptions };
    Packet::Subscribe(packet).encode(VERSION, &mut bytes)?;
    stream.write_all(&bytes).await?;
    expect(stream, 0x90).await
}

async fn expect(stream: &mut TcpStream, first: u8) -> Result<(), Failure> {
    let mut head = [0; 2];
    timeout(Duration::from_secs(20), stream.read_exact(&mut head)).await??;
    if head[0] != first || head[1] > 127 {
        return Err(format!("expected a packet {first:#04x}, got {head:02x?}").into());
    }
    stream.read_exact(&mut vec![0; usize::from(head[1])]).await?;
    Ok(())
}

fn topic(group: usize) -> String {
    format!("harrowmere/gorge/station-{group}/stage/level")
}

impl Load {
    pub(crate) async fn open(address: SocketAddr, shape: Shape) -> Result<Self, Failure> {
        let mut load = Self { groups: Vec::new(), publishers: Vec::new(), readers: JoinSet::new() };
        for number in 0..shape.groups {
            let group = Arc::new(Group {
                shape,
                began: Instant::now(),
                stop: AtomicBool::new(true),
                delivered: AtomicU64::new(0),
                room: Notify::new(),
                latency: Mutex::new(Histogram::new(3)?),
            });
            for place in 0..shape.subscribers {
                let id = format!("subscriber-{place}-{number}");
                let mut stream = connect(address, Connect::new(VERSION, id)).await?;
                subscribe(&mut stream, &topic(number), shape.qos).await?;
                let frame = Frame::new(&topic(number), shape.qos)?;
                load.readers.spawn(read(Arc::clone(&group), stream, frame, place == 0));
            }
            load.publishers.push(connect(address, Connect::new(VERSION, format!("publisher-{number}"))).await?);
            load.groups.push(group);
        }
        Ok(load)
    }

    /// Publishes for a while and waits until everything has arrived.
    pub(crate) async fn run(&mut self, time: Duration) -> Result<Carried, Failure> {
        let before = self.delivered();
        self.groups.iter().for_each(|group| group.latency.lock().reset());
        let mut publishers = JoinSet::new();
        let began = Instant::now();
        for (number, (stream, group)) in self.publishers.drain(..).zip(&self.groups).enumerate() {
            group.stop.store(false, Ordering::Release);
            let frame = Frame::new(&topic(number), group.shape.qos)?;
            let group = Arc::clone(group);
            publishers.spawn(async move { (number, publish(&group, stream, frame).await) });
        }
        sleep(time).await;
        for group in &self.groups {
            group.stop.store(true, Ordering::Release);
            group.room.notify_one();
        }
        let mut sent = 0;
        let mut streams = Vec::new();
        while let Some(done) = publishers.join_next().await {
            let (number, done) = done?;
            let (stream, count) = done?;
            sent += count * self.groups[number].shape.subscribers as u64;
            streams.push((number, stream));
        }
        streams.sort_by_key(|(number, _)| *number);
        self.publishers = streams.into_iter().map(|(_, stream)| stream).collect();
        let drained = async {
            while self.delivered() - before < sent {
                sleep(Duration::from_millis(1)).await;
            }
        };
        if timeout(Duration::from_secs(20), drained).await.is_err() {
            let lost = sent - (self.delivered() - before);
            return Err(format!("{lost} of {sent} messages did not arrive within 20 s").into());
        }
        let span = began.elapsed();
        let mut latency = Histogram::new(3)?;
        for group in &self.groups {
            latency.add(&*group.latency.lock())?;
        }
        Ok(Carried { delivered: sent, span, latency })
    }

    fn delivered(&self) -> u64 {
        self.groups.iter().map(|group| group.delivered.load(Ordering::Acquire)).sum()
    }
}

/// Publishes until it is stopped; gives how many.
async fn publish(group: &Group, stream: TcpStream, frame: Frame) -> Result<(TcpStream, u64), Failure> {
    let (mut reader, mut writer) = stream.into_split();
    // Acknowledgements are read and thrown away.
    let (stop, mut stopped) = oneshot::channel::<()>();
    let swallow = tokio::spawn(async move {
        let mut bytes = vec![0; 64 * 1024];
        loop {
            tokio::select! {
                count = reader.read(&mut bytes) => if count.is_err() || count.is_ok_and(|count| count == 0) { break },
                _ = &mut stopped => break,
            }
        }
        reader
    });
    let subscribers = group.shape.subscribers as u64;
    let base = group.delivered.load(Ordering::Acquire);
    let mut sent = 0_u64;
    let mut bytes = BytesMut::new();
    while !group.stop.load(Ordering::Acquire) {
        let under_way = sent - (group.delivered.load(Ordering::Acquire) - base) / subscribers;
        let room = group.shape.window.saturating_sub(under_way).min(BATCH);
        if room == 0 {
            group.room.notified().await;
            continue;
        }
        let now = u64::try_from(group.began.elapsed().as_nanos())?;
        for _ in 0..room {
            let start = bytes.len();
            bytes.put_slice(&frame.bytes);
            bytes[start + frame.payload_at..][..8].copy_from_slice(&now.to_be_bytes());
            if group.shape.qos != QoS::AtMostOnce {
                let id = u16::try_from(sent % 60_000 + 1)?;
                bytes[start + frame.id_at..][..2].copy_from_slice(&id.to_be_bytes());
            }
            sent += 1;
        }
        writer.write_all(&bytes).await?;
        bytes.clear();
    }
    drop(stop);
    Ok((swallow.await?.reunite(writer)?, sent))
}

/// Counts what arrives, and acknowledges it.
async fn read(group: Arc<Group>, mut stream: TcpStream, frame: Frame, timed: bool) {
    let mut buffer = BytesMut::with_capacity(256 * 1024);
    let mut answers = BytesMut::new();
    let size = frame.bytes.len();
    let subscribers = group.shape.subscribers as u64;
    loop {
        buffer.reserve(64 * 1024);
        if stream.read_buf(&mut buffer).await.is_ok_and(|count| count == 0) {
            return;
        }
        let whole = buffer.len() / size;
        let now = u64::try_from(group.began.elapsed().as_nanos()).unwrap_or(u64::MAX);
        let taken = buffer.split_to(whole * size);
        if timed || group.shape.qos != QoS::AtMostOnce {
            let mut latency = timed.then(|| group.latency.lock());
            for message in taken.chunks_exact(size) {
                if let Some(latency) = &mut latency {
                    let mut sent = [0; 8];
                    sent.copy_from_slice(&message[frame.payload_at..][..8]);
                    let _ = latency.record(now.saturating_sub(u64::from_be_bytes(sent)));
                }
                if group.shape.qos != QoS::AtMostOnce {
                    answers.put_slice(&[0x40, 2, message[frame.id_at], message[frame.id_at + 1]]);
                }
            }
        }
        if !answers.is_empty() {
            if stream.write_all(&answers).await.is_err() {
                return;
            }
            answers.clear();
        }
        let before = group.delivered.fetch_add(whole as u64, Ordering::AcqRel);
        if (before + whole as u64) / subscribers > before / subscribers {
            group.room.notify_one();
        }
    }
}
