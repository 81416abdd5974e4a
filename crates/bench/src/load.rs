//! The load: publishers and subscribers in groups, with a bound on what is under way.

use std::{
    net::SocketAddr,
    sync::{
        Arc,
        atomic::{AtomicBool, AtomicU64, Ordering},
    },
    time::{Duration, Instant},
};

use bytes::{Buf, BufMut, BytesMut};
use hdrhistogram::Histogram;
use moorfall_client::{Layer, Options, Remote, Scheme, Trust, dial, dial_over};
use moorfall_wire::{
    Connect, Packet, PacketId, ProtocolVersion, Publish, QoS, Subscribe, SubscribeProperties, Subscription,
    SubscriptionOptions,
};
use parking_lot::Mutex;
use tokio::{
    io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt, ReadHalf, split},
    net::TcpStream,
    sync::{Notify, oneshot},
    task::JoinSet,
    time::{sleep, timeout},
};

use crate::{Failure, lean_websocket::LeanWebSocket};

/// Bytes of a message.
pub(crate) const PAYLOAD: usize = 100;

const VERSION: ProtocolVersion = ProtocolVersion::V5;

/// Frames of one write at most.
const BATCH: u64 = 64;

/// Groups of publishers and those who hear them.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Shape {
    pub(crate) groups: usize,
    /// Of each group; all publish to one topic.
    pub(crate) publishers: usize,
    /// Of each group.
    pub(crate) subscribers: usize,
    pub(crate) qos: QoS,
    /// Messages of one publisher that are under way at most: not received by all its subscribers.
    pub(crate) window: u64,
    /// Bytes of a message.
    pub(crate) payload: usize,
    /// Whether it is JSON.
    pub(crate) is_json: bool,
}

impl Shape {
    /// A publisher and its subscriber, paced.
    pub(crate) const PAIR: Self = Self {
        groups: 1,
        publishers: 1,
        subscribers: 1,
        qos: QoS::AtMostOnce,
        window: 4,
        payload: PAYLOAD,
        is_json: false,
    };
}

/// Where the clients of a load come in, and as whom.
#[derive(Clone, Debug)]
pub(crate) struct Door {
    pub(crate) scheme: Scheme,
    pub(crate) address: SocketAddr,
    pub(crate) trust: Trust,
    /// A name and a secret for each client, as far as they reach; the others sign in without.
    pub(crate) known: Vec<(String, String)>,
}

impl From<SocketAddr> for Door {
    fn from(address: SocketAddr) -> Self {
        Self { scheme: Scheme::Mqtt, address, trust: Trust::default(), known: Vec::new() }
    }
}

impl Door {
    async fn enter(&self, client: usize, id: String) -> Result<Box<dyn Layer>, Failure> {
        let (host, port) = (self.address.ip().to_string(), self.address.port());
        let remote = Remote { scheme: self.scheme, identity: None, host, port, path: String::new() };
        let options = Options { trust: self.trust.clone(), ..Options::new(remote) };
        let mut connect = Connect::new(VERSION, id);
        if let Some((name, secret)) = self.known.get(client) {
            connect.user_name = Some(name.as_str().into());
            connect.password = Some(secret.clone().into());
        }
        let dialled = match self.scheme {
            Scheme::Ws => dial_over(Box::new(LeanWebSocket::open(self.address).await?), &options, &connect).await?,
            _ => dial(&options, &connect).await?,
        };
        Ok(dialled.stream)
    }
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
    flows: Vec<Flow>,
    latency: Mutex<Histogram<u64>>,
}

/// The messages of one publisher.
#[derive(Default)]
struct Flow {
    delivered: AtomicU64,
    /// Completed by the broker, at QoS 2.
    completed: AtomicU64,
    /// What is to be answered to it.
    replies: Mutex<BytesMut>,
    /// Awaited by the publisher.
    room: Notify,
}

/// Clients that stay connected from round to round.
pub(crate) struct Load {
    groups: Vec<Arc<Group>>,
    /// Of all groups, one after the other.
    publishers: Vec<Box<dyn Layer>>,
    readers: JoinSet<()>,
}

/// A frame whose bytes are always as many: the packet identifier, the time and the publisher are put in.
#[derive(Clone)]
struct Frame {
    bytes: Vec<u8>,
    id_at: usize,
    payload_at: usize,
    is_json: bool,
}

/// Where the time and the publisher stand in a JSON payload, in hexadecimal digits.
const JSON_AT: (usize, usize) = (9, 33);

impl Frame {
    fn new(topic: &str, shape: &Shape) -> Result<Self, Failure> {
        let packet_id = (shape.qos != QoS::AtMostOnce).then_some(PacketId::MIN);
        let payload = if shape.is_json { json(shape.payload) } else { vec![0; shape.payload] };
        let publish = Publish { packet_id, ..Publish::new(topic.parse()?, payload, shape.qos) };
        let mut bytes = BytesMut::new();
        Packet::Publish(publish).encode(VERSION, &mut bytes)?;
        let payload_at = bytes.len() - shape.payload;
        let header = if bytes.len() > 129 { 3 } else { 2 };
        Ok(Self { bytes: bytes.to_vec(), id_at: header + 2 + topic.len(), payload_at, is_json: shape.is_json })
    }

    /// Puts in when it is sent, and by which publisher of its group.
    fn put_stamp(&self, message: &mut [u8], sent: u64, publisher: u32) {
        let payload = &mut message[self.payload_at..];
        if self.is_json {
            payload[JSON_AT.0..][..16].copy_from_slice(format!("{sent:016x}").as_bytes());
            payload[JSON_AT.1..][..8].copy_from_slice(format!("{publisher:08x}").as_bytes());
        } else {
            payload[..8].copy_from_slice(&sent.to_be_bytes());
            payload[8..12].copy_from_slice(&publisher.to_be_bytes());
        }
    }

    /// The same read back.
    fn stamp(&self, message: &[u8]) -> (u64, usize) {
        let payload = &message[self.payload_at..];
        if self.is_json {
            let number = |at: usize, digits: usize| {
                let text = std::str::from_utf8(&payload[at..][..digits]).unwrap_or_default();
                u64::from_str_radix(text, 16).unwrap_or_default()
            };
            return (number(JSON_AT.0, 16), number(JSON_AT.1, 8) as usize);
        }
        let (mut sent, mut publisher) = ([0; 8], [0; 4]);
        sent.copy_from_slice(&payload[..8]);
        publisher.copy_from_slice(&payload[8..12]);
        (u64::from_be_bytes(sent), u32::from_be_bytes(publisher) as usize)
    }
}

/// A reading in JSON of so many bytes.
fn json(size: usize) -> Vec<u8> {
    let start = format!("{{\"sent\":\"{:016x}\",\"by\":\"{:08x}\",\"m\":1.83,\"note\":\"", 0, 0);
    let note = "-".repeat(size - start.len() - 2);
    format!("{start}{note}\"}}").into_bytes()
}

/// Connects and gives the stream behind CONNACK.
pub(crate) async fn connect(address: SocketAddr, connect: Connect) -> Result<TcpStream, Failure> {
    greet(TcpStream::connect(address).await?, connect).await
}

/// The same on a connection that stands.
pub(crate) async fn greet(mut stream: TcpStream, connect: Connect) -> Result<TcpStream, Failure> {
    stream.set_nodelay(true)?;
    let mut bytes = BytesMut::new();
    Packet::Connect(Box::new(connect)).encode(VERSION, &mut bytes)?;
    stream.write_all(&bytes).await?;
    expect(&mut stream, 0x20).await?;
    Ok(stream)
}

/// What is read and written.
pub(crate) trait Both: AsyncRead + AsyncWrite + Unpin {}

impl<T: AsyncRead + AsyncWrite + Unpin> Both for T {}

/// Subscribes and waits for SUBACK.
pub(crate) async fn subscribe(stream: &mut impl Both, filter: &str, qos: QoS) -> Result<(), Failure> {
    let options = SubscriptionOptions { qos, ..SubscriptionOptions::default() };
    send_subscribe(stream, vec![Subscription { filter: filter.parse()?, options }]).await?;
    expect(stream, 0x90).await
}

/// The same for many filters at QoS 0, fewer than 120 of which an answer has a length of one byte.
pub(crate) async fn subscribe_all(stream: &mut TcpStream, filters: &[String]) -> Result<(), Failure> {
    let options = SubscriptionOptions::default();
    let all = filters.iter().map(|filter| Ok(Subscription { filter: filter.parse()?, options }));
    send_subscribe(stream, all.collect::<Result<_, Failure>>()?).await?;
    expect(stream, 0x90).await
}

async fn send_subscribe(stream: &mut impl Both, subscriptions: Vec<Subscription>) -> Result<(), Failure> {
    let properties = SubscribeProperties::default();
    let mut bytes = BytesMut::new();
    let packet = Subscribe { packet_id: PacketId::MIN, properties, subscriptions };
    Packet::Subscribe(packet).encode(VERSION, &mut bytes)?;
    stream.write_all(&bytes).await?;
    Ok(stream.flush().await?)
}

async fn expect(stream: &mut impl Both, first: u8) -> Result<(), Failure> {
    let mut head = [0; 2];
    timeout(Duration::from_secs(20), stream.read_exact(&mut head)).await??;
    if head[0] != first {
        return Err(format!("expected a packet {first:#04x}, got {head:02x?}").into());
    }
    // A length over 127 goes on in a second byte.
    let more = if head[1] > 127 { usize::from(stream.read_u8().await?) << 7 } else { 0 };
    stream.read_exact(&mut vec![0; usize::from(head[1] & 127) + more]).await?;
    Ok(())
}

fn topic(group: usize) -> String {
    format!("harrowmere/gorge/station-{group}/stage/level")
}

impl Load {
    pub(crate) async fn open(door: impl Into<Door>, shape: Shape) -> Result<Self, Failure> {
        let door = door.into();
        let mut clients = 0..;
        let mut next = || clients.next().unwrap_or_default();
        let mut load = Self { groups: Vec::new(), publishers: Vec::new(), readers: JoinSet::new() };
        for number in 0..shape.groups {
            let group = Arc::new(Group {
                shape,
                began: Instant::now(),
                stop: AtomicBool::new(true),
                flows: (0..shape.publishers).map(|_| Flow::default()).collect(),
                latency: Mutex::new(Histogram::new(3)?),
            });
            for place in 0..shape.subscribers {
                let id = format!("subscriber-{place}-{number}");
                let mut stream = door.enter(next(), id).await?;
                subscribe(&mut stream, &topic(number), shape.qos).await?;
                let frame = Frame::new(&topic(number), &shape)?;
                load.readers.spawn(read(Arc::clone(&group), stream, frame, place == 0));
            }
            for place in 0..shape.publishers {
                let id = format!("publisher-{place}-{number}");
                load.publishers.push(door.enter(next(), id).await?);
            }
            load.groups.push(group);
        }
        Ok(load)
    }

    /// Publishes for a while and waits until everything has arrived.
    pub(crate) async fn run(&mut self, time: Duration) -> Result<Carried, Failure> {
        let before = self.delivered();
        let mut publishers = JoinSet::new();
        let began = Instant::now();
        let mut streams = self.publishers.drain(..);
        for (number, group) in self.groups.iter().enumerate() {
            group.latency.lock().reset();
            group.stop.store(false, Ordering::Release);
            let frame = Frame::new(&topic(number), &group.shape)?;
            for (place, stream) in streams.by_ref().take(group.shape.publishers).enumerate() {
                let (group, frame) = (Arc::clone(group), frame.clone());
                publishers.spawn(async move { ((number, place), publish(&group, place, stream, frame).await) });
            }
        }
        drop(streams);
        sleep(time).await;
        for group in &self.groups {
            group.stop.store(true, Ordering::Release);
            group.flows.iter().for_each(|flow| flow.room.notify_one());
        }
        let mut sent = 0;
        let mut streams = Vec::new();
        while let Some(done) = publishers.join_next().await {
            let (at, done) = done?;
            let (stream, count) = done?;
            sent += count * self.groups[at.0].shape.subscribers as u64;
            streams.push((at, stream));
        }
        streams.sort_by_key(|(at, _)| *at);
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
        let flows = self.groups.iter().flat_map(|group| &group.flows);
        flows.map(|flow| flow.delivered.load(Ordering::Acquire)).sum()
    }
}

/// Publishes until it is stopped; gives how many.
async fn publish(
    group: &Arc<Group>,
    place: usize,
    stream: Box<dyn Layer>,
    frame: Frame,
) -> Result<(Box<dyn Layer>, u64), Failure> {
    let (reader, mut writer) = split(stream);
    let (stop, stopped) = oneshot::channel();
    let answered = tokio::spawn(answered(Arc::clone(group), place, reader, stopped));
    let (shape, flow) = (&group.shape, &group.flows[place]);
    let subscribers = shape.subscribers as u64;
    let base = flow.delivered.load(Ordering::Acquire);
    let completed = flow.completed.load(Ordering::Acquire);
    let mut sent = 0_u64;
    let mut bytes = BytesMut::new();
    loop {
        std::mem::swap(&mut bytes, &mut *flow.replies.lock());
        let under_way = sent - (flow.delivered.load(Ordering::Acquire) - base) / subscribers;
        let room = match group.stop.load(Ordering::Acquire) {
            true => 0,
            false => shape.window.saturating_sub(under_way).min(BATCH),
        };
        let now = u64::try_from(group.began.elapsed().as_nanos())?;
        for _ in 0..room {
            let start = bytes.len();
            bytes.put_slice(&frame.bytes);
            frame.put_stamp(&mut bytes[start..], now, u32::try_from(place)?);
            if shape.qos != QoS::AtMostOnce {
                let id = u16::try_from(sent % 60_000 + 1)?;
                bytes[start + frame.id_at..][..2].copy_from_slice(&id.to_be_bytes());
            }
            sent += 1;
        }
        if !bytes.is_empty() {
            writer.write_all(&bytes).await?;
            writer.flush().await?;
            bytes.clear();
        } else if group.stop.load(Ordering::Acquire)
            && (shape.qos != QoS::ExactlyOnce || flow.completed.load(Ordering::Acquire) - completed == sent)
        {
            break;
        } else {
            timeout(Duration::from_secs(20), flow.room.notified()).await.map_err(|_| "a flow came to a stop")?;
        }
    }
    drop(stop);
    Ok((answered.await?.unsplit(writer), sent))
}

/// Reads what a publisher is answered, until it stops.
async fn answered(
    group: Arc<Group>,
    place: usize,
    mut reader: ReadHalf<Box<dyn Layer>>,
    mut stopped: oneshot::Receiver<()>,
) -> ReadHalf<Box<dyn Layer>> {
    let flow = &group.flows[place];
    let mut bytes = BytesMut::new();
    loop {
        bytes.reserve(64 * 1024);
        let count = tokio::select! {
            count = reader.read_buf(&mut bytes) => count.unwrap_or(0),
            _ = &mut stopped => break,
        };
        if count == 0 {
            break;
        }
        if group.shape.qos != QoS::ExactlyOnce {
            bytes.clear();
            continue;
        }
        // Answers without a reason have four bytes.
        let whole = bytes.len() / 4 * 4;
        for answer in bytes.split_to(whole).chunks_exact(4) {
            match answer[0] {
                0x50 => flow.replies.lock().put_slice(&[0x62, 2, answer[2], answer[3]]),
                _ => drop(flow.completed.fetch_add(1, Ordering::AcqRel)),
            }
        }
        flow.room.notify_one();
    }
    reader
}

/// Counts what arrives, and acknowledges it.
async fn read(group: Arc<Group>, mut stream: Box<dyn Layer>, frame: Frame, timed: bool) {
    let mut buffer = BytesMut::with_capacity(256 * 1024);
    let mut answers = BytesMut::new();
    let shape = &group.shape;
    let size = frame.bytes.len();
    let subscribers = shape.subscribers as u64;
    let mut arrived = vec![0; shape.publishers];
    // Only what is needed is looked at: the load is to cost little.
    let is_simple = !timed && shape.qos == QoS::AtMostOnce && shape.publishers == 1;
    loop {
        buffer.reserve(64 * 1024);
        if !stream.read_buf(&mut buffer).await.is_ok_and(|count| count > 0) {
            return;
        }
        if is_simple {
            arrived[0] = (buffer.len() / size) as u64;
            buffer.advance(buffer.len() / size * size);
        } else {
            let now = u64::try_from(group.began.elapsed().as_nanos()).unwrap_or(u64::MAX);
            let mut latency = timed.then(|| group.latency.lock());
            let mut rest = &buffer[..];
            while let Some(first) = rest.first() {
                // PUBREL has four bytes.
                let length = if first >> 4 == 6 { 4 } else { size };
                let Some((packet, more)) = rest.split_at_checked(length) else { break };
                rest = more;
                match (first >> 4, shape.qos) {
                    (6, _) => answers.put_slice(&[0x70, 2, packet[2], packet[3]]),
                    (_, QoS::AtMostOnce) => {}
                    (_, QoS::AtLeastOnce) => {
                        answers.put_slice(&[0x40, 2, packet[frame.id_at], packet[frame.id_at + 1]]);
                    }
                    (_, QoS::ExactlyOnce) => {
                        answers.put_slice(&[0x50, 2, packet[frame.id_at], packet[frame.id_at + 1]]);
                    }
                }
                if first >> 4 == 3 {
                    let (sent, publisher) = frame.stamp(packet);
                    arrived[publisher] += 1;
                    if let Some(latency) = &mut latency {
                        let _ = latency.record(now.saturating_sub(sent));
                    }
                }
            }
            let left = rest.len();
            buffer.advance(buffer.len() - left);
        }
        if !answers.is_empty() {
            if stream.write_all(&answers).await.is_err() || stream.flush().await.is_err() {
                return;
            }
            answers.clear();
        }
        for (flow, count) in group.flows.iter().zip(&mut arrived).filter(|(_, count)| **count > 0) {
            let before = flow.delivered.fetch_add(*count, Ordering::AcqRel);
            if (before + *count) / subscribers > before / subscribers {
                flow.room.notify_one();
            }
            *count = 0;
        }
    }
}
