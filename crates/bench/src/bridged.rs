//! Bridges: how fast one carries beside a plain subscriber, what storing costs while its link is down, what draining holds
//! in memory, and what many of them cost messages that none takes.

use std::{
    fmt::Write as _,
    net::SocketAddr,
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
    time::{Duration, Instant},
};

use bytes::{BufMut, BytesMut};
use moorfall_wire::{Connect, Packet, PacketId, ProtocolVersion, Publish, QoS};
use serde_json::Value;
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::{TcpListener, TcpStream},
    sync::Notify,
    task::{AbortHandle, JoinSet},
    time::{sleep, timeout},
};

use crate::{
    Failure, Plan,
    committed::{self, PAIRS},
    load::{PAYLOAD, Shape, connect, subscribe},
    passing::Side,
    process::Program,
    report::{Spread, count, judged},
};

/// The rate of a push mapping to that of a plain subscriber, at least.
const QOS_0_GOAL: f64 = 0.7;
const QOS_1_GOAL: f64 = 0.5;

/// The rate of acknowledged messages while the link is down to that of inserted rows, at least.
const STORED_GOAL: f64 = 0.6;

/// Messages that are drained, and the memory that may take.
const DRAINED: u64 = 1_000_000;
const DRAINED_GOAL: usize = 64 * 1024 * 1024;

/// Bridges, and mappings of each, that take nothing of what flows; and the ratio of processor time with them to without.
const BRIDGES: usize = 100;
const MAPPINGS: usize = 10;
const IDLE_GOAL: f64 = 1.1;

/// Messages that are under way at most.
const WINDOW: u64 = 10_000;

/// Frames of one write at most.
const BATCH: u64 = 64;

const TOPIC: &str = "harrowmere/gorge/kettle-weir/stage/level";

/// What has arrived, and who waits for it.
#[derive(Default)]
struct Arrived {
    count: AtomicU64,
    more: Notify,
}

impl Arrived {
    fn add(&self, count: u64) {
        self.count.fetch_add(count, Ordering::AcqRel);
        self.more.notify_one();
    }

    fn so_far(&self) -> u64 {
        self.count.load(Ordering::Acquire)
    }
}

/// The least that a remote broker can be: takes whoever comes, and acknowledges what is pushed.
struct Remote {
    address: SocketAddr,
    arrived: Arc<Arrived>,
    task: AbortHandle,
}

impl Drop for Remote {
    fn drop(&mut self) {
        self.task.abort();
    }
}

impl Remote {
    async fn open(address: SocketAddr) -> Result<Self, Failure> {
        let listener = TcpListener::bind(address).await?;
        let address = listener.local_addr()?;
        let arrived = Arc::new(Arrived::default());
        let counted = Arc::clone(&arrived);
        let task = tokio::spawn(async move {
            let mut links = JoinSet::new();
            while let Ok((stream, _)) = listener.accept().await {
                links.spawn(receive(stream, Arc::clone(&counted)));
            }
        });
        Ok(Self { address, arrived, task: task.abort_handle() })
    }
}

/// Reads frames, counts messages and answers what wants an answer; the same for a remote and for a plain subscriber.
async fn receive(mut stream: TcpStream, arrived: Arc<Arrived>) {
    let _ = stream.set_nodelay(true);
    let mut buffer = BytesMut::with_capacity(256 * 1024);
    let mut answers = BytesMut::new();
    loop {
        buffer.reserve(64 * 1024);
        if stream.read_buf(&mut buffer).await.map_or(true, |count| count == 0) {
            return;
        }
        let mut messages = 0;
        while let Some((first, body)) = frame(&buffer) {
            let (start, end) = (body.start, body.end);
            match first >> 4 {
                1 => answers.put_slice(&[0x20, 3, 0, 0, 0]),
                3 => {
                    messages += 1;
                    if first & 6 != 0 {
                        let topic = usize::from(u16::from_be_bytes([buffer[start], buffer[start + 1]]));
                        let id = start + 2 + topic;
                        answers.put_slice(&[0x40, 2, buffer[id], buffer[id + 1]]);
                    }
                }
                6 => answers.put_slice(&[0x70, 2, buffer[start], buffer[start + 1]]),
                12 => answers.put_slice(&[0xd0, 0]),
                _ => {}
            }
            let _ = buffer.split_to(end);
        }
        if !answers.is_empty() && stream.write_all(&answers).await.is_err() {
            return;
        }
        answers.clear();
        if messages > 0 {
            arrived.add(messages);
        }
    }
}

/// The first byte of the first frame and where its body lies, if it is there as a whole.
fn frame(bytes: &[u8]) -> Option<(u8, std::ops::Range<usize>)> {
    let (mut length, mut at) = (0, 1);
    loop {
        let byte = *bytes.get(at)?;
        length |= usize::from(byte & 127) << (7 * (at - 1));
        at += 1;
        if byte & 128 == 0 {
            break;
        }
    }
    (bytes.len() >= at + length).then(|| (bytes[0], at..at + length))
}

fn bridge(name: &str, remote: SocketAddr, waiting: u64, mappings: &[String]) -> String {
    let mut text = format!(
        "\n[[bridges]]\nname = \"{name}\"\nremotes = [\"mqtt://{remote}\"]\n\
         waiting = {{ messages = {waiting}, bytes = 2_000_000_000 }}\n"
    );
    for filter in mappings {
        let _ = write!(text, "[[bridges.push]]\nfilter = \"harrowmere/{filter}\"\nas = \"river/{filter}\"\n");
    }
    text
}

/// Waits until all bridges are up, or one is down.
async fn until(program: &Program, phase: &str) -> Result<(), Failure> {
    let (client, secret) = (reqwest::Client::new(), program.secret()?);
    let all = async {
        loop {
            let asked = client.get(program.call("bridges")).bearer_auth(&secret).send().await?;
            let answer: Value = asked.error_for_status()?.json().await?;
            let bridges = answer["bridges"].as_array().ok_or("no list of bridges")?;
            if !bridges.is_empty() && bridges.iter().all(|bridge| bridge["phase"] == phase) {
                return Ok::<_, Failure>(());
            }
            sleep(Duration::from_millis(50)).await;
        }
    };
    timeout(Duration::from_secs(60), all).await.map_err(|_| format!("bridges are not {phase} after 60 s"))?
}

/// A publisher, and where its messages arrive.
struct Flow {
    program: Program,
    publisher: TcpStream,
    qos: QoS,
    arrived: Arc<Arrived>,
    rates: Vec<f64>,
    micros: Vec<f64>,
}

impl Flow {
    async fn open(program: Program, qos: QoS, arrived: Arc<Arrived>) -> Result<Self, Failure> {
        let publisher = connect(program.address, Connect::new(ProtocolVersion::V5, "kettle-weir")).await?;
        let mut flow = Self { program, publisher, qos, arrived, rates: Vec::new(), micros: Vec::new() };
        // The first messages find cold caches and empty pools.
        flow.round(Duration::from_millis(300)).await?;
        flow.rates.clear();
        flow.micros.clear();
        Ok(flow)
    }

    async fn round(&mut self, time: Duration) -> Result<(), Failure> {
        let packet_id = (self.qos != QoS::AtMostOnce).then_some(PacketId::MIN);
        let publish = Publish { packet_id, ..Publish::new(TOPIC.parse()?, vec![b'x'; PAYLOAD], self.qos) };
        let mut one = BytesMut::new();
        Packet::Publish(publish).encode(ProtocolVersion::V5, &mut one)?;
        let id_at = frame(&one).ok_or("no frame")?.1.start + 2 + TOPIC.len();
        let (base, cpu, began) = (self.arrived.so_far(), self.program.cpu()?, Instant::now());
        let (mut reader, mut writer) = self.publisher.split();
        let (arrived, qos) = (&self.arrived, self.qos);
        let acknowledged = AtomicU64::new(0);
        let send = async {
            let (mut sent, mut bytes) = (0, BytesMut::new());
            while began.elapsed() < time {
                // What arrives there may do so before it is acknowledged here.
                let done = match qos {
                    QoS::AtMostOnce => arrived.so_far() - base,
                    _ => (arrived.so_far() - base).min(acknowledged.load(Ordering::Relaxed)),
                };
                let room = WINDOW.saturating_sub(sent - done).min(BATCH);
                if room == 0 {
                    let _ = timeout(time, arrived.more.notified()).await;
                    continue;
                }
                for _ in 0..room {
                    let start = bytes.len();
                    bytes.put_slice(&one);
                    if qos != QoS::AtMostOnce {
                        let id = (sent % 60_000 + 1) as u16;
                        bytes[start + id_at..][..2].copy_from_slice(&id.to_be_bytes());
                    }
                    sent += 1;
                }
                writer.write_all(&bytes).await?;
                bytes.clear();
            }
            let all = async {
                while arrived.so_far() - base < sent
                    || (qos != QoS::AtMostOnce && acknowledged.load(Ordering::Relaxed) < sent)
                {
                    sleep(Duration::from_millis(1)).await;
                }
            };
            timeout(Duration::from_secs(20), all).await.map_err(|_| "messages did not arrive within 20 s")?;
            Ok::<_, Failure>(sent)
        };
        let swallow = async {
            let (mut bytes, mut all) = (vec![0; 64 * 1024], 0);
            while let Ok(count @ 1..) = reader.read(&mut bytes).await {
                // PUBACK without a reason has four bytes.
                all += count as u64;
                acknowledged.store(all / 4, Ordering::Relaxed);
                arrived.more.notify_one();
            }
        };
        let sent = tokio::select! {
            sent = send => sent?,
            () = swallow => return Err("the service closed the connection".into()),
        };
        self.rates.push(sent as f64 / began.elapsed().as_secs_f64());
        self.micros.push((self.program.cpu()? - cpu).as_secs_f64() * 1e6 / sent as f64);
        Ok(())
    }

    fn print(&self, name: &str) {
        let (rate, micros) = (Spread::of(self.rates.iter().copied()), Spread::of(self.micros.iter().copied()));
        println!("  {name:<19} {:>9} messages/s  {:.3} us CPU", count(rate.middle), micros.middle);
    }
}

/// A plain subscriber, whose session ends with its connection or is kept.
async fn plain(plan: &Plan, qos: QoS, is_kept: bool) -> Result<Flow, Failure> {
    let program = Program::service(plan)?;
    let mut asked = Connect::new(ProtocolVersion::V5, "subscriber");
    asked.clean_start = !is_kept;
    asked.properties.session_expiry_interval = is_kept.then_some(3_600);
    let mut stream = connect(program.address, asked).await?;
    subscribe(&mut stream, "harrowmere/#", qos).await?;
    let arrived = Arc::new(Arrived::default());
    tokio::spawn(receive(stream, Arc::clone(&arrived)));
    Flow::open(program, qos, arrived).await
}

async fn carried(plan: &Plan, name: &str, qos: QoS, goal: f64) -> Result<(), Failure> {
    println!("{name}: a push mapping and a plain subscriber, 1 publisher, {PAYLOAD} B, {WINDOW} under way");
    let remote = Remote::open("127.0.0.1:0".parse()?).await?;
    let blueprint = format!("name = \"here\"\n{}", bridge("tideway", remote.address, 1_000_000, &["#".to_owned()]));
    let service = Program::service_with(plan, "", Some(&blueprint))?;
    until(&service, "up").await?;
    let mut bridged = Flow::open(service, qos, Arc::clone(&remote.arrived)).await?;
    let mut passing = plain(plan, qos, false).await?;
    let mut kept = plain(plan, qos, true).await?;
    for _ in 0..plan.rounds {
        for flow in [&mut passing, &mut bridged, &mut kept] {
            flow.round(plan.time()).await?;
        }
    }
    passing.print("subscriber");
    kept.print("with a kept session");
    bridged.print("push mapping");
    let to = |other: &Flow| Spread::of(bridged.rates.iter().zip(&other.rates).map(|(bridged, other)| bridged / other));
    println!("  push mapping to a subscriber with a kept session: {}", to(&kept));
    let ratio = to(&passing);
    println!(
        "  push mapping to subscriber: {ratio}; wanted at least {goal}: {}\n",
        judged(name, format!("{:.2}", ratio.middle), format!("≥ {goal}"), ratio.middle >= goal)
    );
    Ok(())
}

async fn stored(plan: &Plan) -> Result<(), Failure> {
    println!(
        "bridged-stored: QoS 1, {PAIRS} publishers to a bridge whose link is down, {PAYLOAD} B, until acknowledged"
    );
    // Bound and let go: nothing listens there.
    let nowhere = Remote::open("127.0.0.1:0".parse()?).await?.address;
    let blueprint = format!("name = \"here\"\n{}", bridge("tideway", nowhere, 10_000_000, &["#".to_owned()]));
    let service = Program::service_with(plan, "", Some(&blueprint))?;
    until(&service, "down").await?;
    let pool = committed::open_database(&service).await?;
    let mut publishers = committed::publishers(&service).await?;
    let (mut ratios, mut rates, mut limits) = (Vec::new(), Vec::new(), Vec::new());
    for _ in 0..plan.rounds {
        let limit = committed::insert(&pool).await?;
        let rate = committed::round(&mut publishers).await?;
        ratios.push(rate / limit);
        rates.push(rate);
        limits.push(limit);
    }
    println!("  PostgreSQL {:>9} messages/s", count(Spread::of(limits).middle));
    println!("  stored     {:>9} messages/s acknowledged", count(Spread::of(rates).middle));
    let ratio = Spread::of(ratios);
    println!(
        "  stored to PostgreSQL: {ratio}; wanted at least {STORED_GOAL}: {}\n",
        judged(
            "bridged-stored",
            format!("{:.2}", ratio.middle),
            format!("≥ {STORED_GOAL}"),
            ratio.middle >= STORED_GOAL
        )
    );
    Ok(())
}

async fn drained(plan: &Plan) -> Result<(), Failure> {
    println!(
        "bridged-drained: {} messages of {PAYLOAD} B that were stored while the link was down",
        count(DRAINED as f64)
    );
    let address = Remote::open("127.0.0.1:0".parse()?).await?.address;
    let blueprint = format!("name = \"here\"\n{}", bridge("tideway", address, 2 * DRAINED, &["#".to_owned()]));
    let service = Program::service_with(plan, "", Some(&blueprint))?;
    until(&service, "down").await?;
    let before = service.memory()?;
    let mut publishers = committed::publishers(&service).await?;
    for _ in 0..DRAINED / committed::ROUND {
        committed::round(&mut publishers).await?;
    }
    drop(publishers);
    let stored = service.memory()?;
    service.forget_peak()?;
    let remote = Remote::open(address).await?;
    let mut began = None;
    let all = async {
        while remote.arrived.so_far() < DRAINED {
            sleep(Duration::from_millis(10)).await;
            if began.is_none() && remote.arrived.so_far() > 0 {
                began = Some(Instant::now());
            }
        }
    };
    timeout(Duration::from_secs(180), all).await.map_err(|_| "not all messages arrived within 180 s")?;
    let seconds = began.map_or(f64::NAN, |began| began.elapsed().as_secs_f64());
    let mib = |bytes: usize| bytes as f64 / 1024.0 / 1024.0;
    let held = service.peak()?.saturating_sub(before);
    println!("  while they waited {:.0} MiB more than before", mib(stored.saturating_sub(before)));
    println!("  drained at {} messages/s", count(DRAINED as f64 / seconds));
    println!(
        "  while it drained {:.0} MiB more than before; wanted at most {:.0} MiB: {}\n",
        mib(held),
        mib(DRAINED_GOAL),
        judged(
            "bridged-drained",
            format!("{:.0} MiB", mib(held)),
            format!("≤ {:.0} MiB", mib(DRAINED_GOAL)),
            held <= DRAINED_GOAL
        )
    );
    Ok(())
}

async fn idle(plan: &Plan) -> Result<(), Failure> {
    println!(
        "bridged-idle: QoS 0, 100 pairs, 4 under way each, beside {BRIDGES} bridges of {MAPPINGS} mappings and without"
    );
    let remote = Remote::open("127.0.0.1:0".parse()?).await?;
    let mut blueprint = "name = \"here\"\n".to_owned();
    for number in 0..BRIDGES {
        let mappings: Vec<String> = (0..MAPPINGS).map(|mapping| format!("works/{number}/{mapping}/#")).collect();
        blueprint += &bridge(&format!("works-{number}"), remote.address, 1_000, &mappings);
    }
    let shape = Shape { groups: 100, ..Shape::PAIR };
    let mut without = Side::open(Program::service(plan)?, shape).await?;
    let service = Program::service_with(plan, "", Some(&blueprint))?;
    until(&service, "up").await?;
    let mut with = Side::open(service, shape).await?;
    for round in 0..plan.rounds {
        // Whoever is second in one round is first in the next.
        let sides = if round % 2 == 0 { [&mut without, &mut with] } else { [&mut with, &mut without] };
        for side in sides {
            side.round(plan.time()).await?;
        }
    }
    without.print("without")?;
    with.print("with")?;
    let ratio = Spread::of(with.micros.iter().zip(&without.micros).map(|(with, without)| with / without));
    println!(
        "  CPU with to without: {ratio}; wanted at most {IDLE_GOAL}: {}\n",
        judged("bridged-idle", format!("{:.2}", ratio.middle), format!("≤ {IDLE_GOAL}"), ratio.middle <= IDLE_GOAL)
    );
    Ok(())
}

pub(crate) async fn run(plan: &Plan) -> Result<(), Failure> {
    if plan.wants("bridged-qos0") {
        carried(plan, "bridged-qos0", QoS::AtMostOnce, QOS_0_GOAL).await?;
    }
    if plan.wants("bridged-qos1") {
        carried(plan, "bridged-qos1", QoS::AtLeastOnce, QOS_1_GOAL).await?;
    }
    if plan.wants("bridged-stored") {
        stored(plan).await?;
    }
    if plan.wants("bridged-drained") {
        drained(plan).await?;
    }
    if plan.wants("bridged-idle") {
        idle(plan).await?;
    }
    Ok(())
}
