//! What clients feel of others that ask for much, take nothing, or are many.

use std::{
    io::{self, Read},
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};

use bytes::{Buf, BytesMut};
use hdrhistogram::Histogram;
use moorfall_wire::{Connect, Packet, ProtocolVersion, Publish, QoS};
use parking_lot::Mutex;
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::TcpStream,
    task::{JoinHandle, JoinSet, spawn_blocking},
    time::{MissedTickBehavior, interval, sleep},
};

use crate::{
    Failure, Plan,
    load::{Load, PAYLOAD, Shape, connect, subscribe},
    process::Program,
    report::{Spread, count, judged},
    restart::{self, RETAINED},
};

/// Pairs of clients beside the one that asks for much.
const PAIRS: usize = 30;

/// Milliseconds until the first retained message, how much longer the slowest hundredth of the others' messages may take,
/// and MiB more at most.
const WALK: (f64, f64, f64) = (50.0, 1.5, 64.0);

/// How much longer the slowest hundredth may take beside one that takes nothing.
const STUCK: f64 = 1.2;

/// The same with many connections beside few.
const CROWD: f64 = 1.2;

/// The queue of the client that takes nothing, bytes, and what its memory may be beside, MiB.
const QUEUE: (usize, f64) = (16 * 1024 * 1024, 48.0);

const TOPIC: &str = "harrowmere/gorge/kettle-weir/stage/level";

const VERSION: ProtocolVersion = ProtocolVersion::V5;

fn mib(bytes: usize) -> f64 {
    bytes as f64 / 1024.0 / 1024.0
}

/// One client subscribes to everything while a million messages are retained.
pub(crate) async fn walk(plan: &Plan) -> Result<(), Failure> {
    println!("walk: a client subscribes to # over {} retained messages, beside {PAIRS} pairs", count(RETAINED as f64));
    let service = Program::service(plan)?;
    restart::retain(&service).await?;
    let (service, _) = service.restart(plan)?;
    let shape = Shape { groups: PAIRS, window: 1, ..Shape::PAIR };
    let mut load = Load::open(service.address, shape).await?;
    load.run(Duration::from_millis(300)).await?;
    let before = service.memory()?;
    service.forget_peak()?;
    let (mut firsts, mut spans, mut ratios) = (Vec::new(), Vec::new(), Vec::new());
    for round in 0..plan.rounds {
        let quiet = load.run(plan.time()).await?.latency.value_at_quantile(0.99) as f64;
        let walker = connect(service.address, Connect::new(VERSION, format!("walker-{round}"))).await?;
        let walk = take_all(walker).await?;
        // As long as the walk lasts, about.
        let busy = load.run(plan.time()).await?.latency.value_at_quantile(0.99) as f64;
        let (first, span) = walk.await??;
        firsts.push(first * 1e3);
        spans.push(span);
        ratios.push(busy / quiet);
    }
    let more = mib(service.peak()?.saturating_sub(before));
    let (first, ratio) = (Spread::of(firsts), Spread::of(ratios));
    println!("  the first after {first} ms, all after {} s; peak memory {more:.0} MiB more", Spread::of(spans));
    println!("  the others' slowest hundredth, to that without: {ratio}");
    let within = first.middle <= WALK.0 && ratio.middle <= WALK.1 && more <= WALK.2;
    println!(
        "  wanted at most {} ms, {} and {} MiB: {}\n",
        WALK.0,
        WALK.1,
        WALK.2,
        judged(
            "walk",
            format!("{:.0} ms, {:.2}, {more:.0} MiB", first.middle, ratio.middle),
            "≤ 50 ms, 1.5, 64 MiB",
            within
        )
    );
    Ok(())
}

/// Takes all retained messages, in a thread of its own so that those who measure don't wait for it; gives the seconds until
/// the first and until the last.
async fn take_all(mut stream: TcpStream) -> Result<JoinHandle<io::Result<(f64, f64)>>, Failure> {
    let began = Instant::now();
    subscribe(&mut stream, "#", QoS::AtMostOnce).await?;
    let mut stream = blocking(stream)?;
    Ok(spawn_blocking(move || {
        let (mut read, mut buffer, mut taken, mut first) = (vec![0; 256 * 1024], BytesMut::new(), 0, None);
        while taken < RETAINED {
            let count = stream.read(&mut read)?;
            if count == 0 {
                return Err(io::ErrorKind::UnexpectedEof.into());
            }
            buffer.extend_from_slice(&read[..count]);
            first.get_or_insert_with(|| began.elapsed().as_secs_f64());
            while let Some(length) =
                buffer.get(1).map(|length| usize::from(*length) + 2).filter(|size| buffer.len() >= *size)
            {
                // Messages of the pairs are not retained.
                taken += usize::from(buffer[0] & 1);
                buffer.advance(length);
            }
        }
        Ok((first.unwrap_or_default(), began.elapsed().as_secs_f64()))
    }))
}

/// The same connection for a thread; what does not come within 20 s is an error.
fn blocking(stream: TcpStream) -> io::Result<std::net::TcpStream> {
    let stream = stream.into_std()?;
    stream.set_nonblocking(false)?;
    stream.set_read_timeout(Some(Duration::from_secs(20)))?;
    Ok(stream)
}

/// A publisher and those who take its messages, at a steady rate.
struct Steady {
    publisher: TcpStream,
    latency: Arc<Mutex<Histogram<u64>>>,
    began: Instant,
    _readers: JoinSet<()>,
}

impl Steady {
    async fn open(service: &Program, name: &str, subscribers: usize) -> Result<Self, Failure> {
        let latency = Arc::new(Mutex::new(Histogram::new(3)?));
        let (mut readers, began) = (JoinSet::new(), Instant::now());
        for place in 0..subscribers {
            let mut stream = connect(service.address, Connect::new(VERSION, format!("{name}-{place}"))).await?;
            subscribe(&mut stream, TOPIC, QoS::AtMostOnce).await?;
            readers.spawn(measure(stream, began, Arc::clone(&latency)));
        }
        let publisher = connect(service.address, Connect::new(VERSION, format!("{name}-publisher"))).await?;
        Ok(Self { publisher, latency, began, _readers: readers })
    }

    /// Publishes so many messages a second; gives the slowest hundredth, microseconds.
    async fn round(&mut self, rate: u64, time: Duration) -> Result<f64, Failure> {
        self.latency.lock().reset();
        let mut ticks = interval(Duration::from_micros(1_000_000 / rate));
        ticks.set_missed_tick_behavior(MissedTickBehavior::Burst);
        let until = Instant::now() + time;
        while Instant::now() < until {
            ticks.tick().await;
            let mut payload = vec![0; PAYLOAD];
            payload[..8].copy_from_slice(&u64::try_from(self.began.elapsed().as_nanos())?.to_be_bytes());
            let mut bytes = BytesMut::new();
            Packet::Publish(Publish::new(TOPIC.parse()?, payload, QoS::AtMostOnce)).encode(VERSION, &mut bytes)?;
            self.publisher.write_all(&bytes).await?;
        }
        sleep(Duration::from_millis(100)).await;
        Ok(self.latency.lock().value_at_quantile(0.99) as f64 / 1e3)
    }
}

async fn measure(mut stream: TcpStream, began: Instant, latency: Arc<Mutex<Histogram<u64>>>) {
    let size = 2 + 1 + 2 + TOPIC.len() + 1 + PAYLOAD;
    let mut buffer = BytesMut::new();
    while stream.read_buf(&mut buffer).await.is_ok_and(|count| count > 0) {
        let now = u64::try_from(began.elapsed().as_nanos()).unwrap_or(u64::MAX);
        while buffer.len() >= size {
            let message = buffer.split_to(size);
            let mut sent = [0; 8];
            sent.copy_from_slice(&message[size - PAYLOAD..][..8]);
            let _ = latency.lock().record(now.saturating_sub(u64::from_be_bytes(sent)));
        }
    }
}

/// One subscriber stops reading beside a hundred that take 10,000 messages a second, and what it is owed grows.
pub(crate) async fn stuck(plan: &Plan) -> Result<(), Failure> {
    println!("stuck: 100 subscribers take 10,000 messages/s; beside them one that is sent 40 MB/s reads, and does not");
    let service = Program::service_with(plan, &format!("queue-memory-bytes = {}\n", QUEUE.0), None)?;
    let mut steady = Steady::open(&service, "screen", 100).await?;
    steady.round(100, Duration::from_millis(500)).await?;
    let before = service.memory()?;
    service.forget_peak()?;
    let mut ratios = Vec::new();
    for round in 0..plan.rounds {
        let mut screen = connect(service.address, Connect::new(VERSION, format!("screen-{round}"))).await?;
        subscribe(&mut screen, "harrowmere/tidal/#", QoS::AtMostOnce).await?;
        let mut screen = blocking(screen)?;
        let flood = tokio::spawn(flood(connect(service.address, Connect::new(VERSION, "camera")).await?));
        let reads = Arc::new(AtomicBool::new(true));
        let goes_on = Arc::clone(&reads);
        let reader = spawn_blocking(move || {
            let mut read = vec![0; 256 * 1024];
            while goes_on.load(Ordering::Relaxed) && screen.read(&mut read).is_ok_and(|count| count > 0) {}
            screen
        });
        let quiet = steady.round(100, plan.time()).await?;
        reads.store(false, Ordering::Relaxed);
        let stuck = reader.await?;
        ratios.push(steady.round(100, plan.time()).await? / quiet);
        flood.abort();
        drop(stuck);
        sleep(Duration::from_millis(200)).await;
    }
    let more = mib(service.peak()?.saturating_sub(before));
    let ratio = Spread::of(ratios);
    let within = ratio.middle <= STUCK && more <= QUEUE.1;
    println!("  slowest hundredth, to that while it reads: {ratio}; peak memory {more:.0} MiB more, its queue 16 MiB");
    println!(
        "  wanted at most {STUCK} and {} MiB: {}\n",
        QUEUE.1,
        judged("stuck", format!("{:.2}, {more:.0} MiB", ratio.middle), "≤ 1.2, 48 MiB", within)
    );
    Ok(())
}

/// 40 MB/s of messages.
async fn flood(mut stream: TcpStream) -> Result<(), Failure> {
    let topic = "harrowmere/tidal/barrier/camera".parse()?;
    let mut bytes = BytesMut::new();
    Packet::Publish(Publish::new(topic, vec![7; 40_000], QoS::AtMostOnce)).encode(VERSION, &mut bytes)?;
    let mut ticks = interval(Duration::from_millis(1));
    loop {
        ticks.tick().await;
        stream.write_all(&bytes).await?;
    }
}

/// Whether messages are as fast with many connections as with few.
pub(crate) async fn crowd(plan: &Plan) -> Result<(), Failure> {
    let connections = plan.connections;
    println!(
        "crowd: 10 subscribers take 1,000 messages/s, beside {} idle connections and without",
        count(connections as f64)
    );
    let (few, many) = (Program::service(plan)?, Program::service(plan)?);
    let mut idle = Vec::new();
    for number in 0..connections {
        let asked = Connect { keep_alive: 600, ..Connect::new(VERSION, format!("gauge-{number}")) };
        let mut stream = connect(many.address, asked).await?;
        subscribe(&mut stream, &format!("harrowmere/gorge/gauge-{number}/#"), QoS::AtMostOnce).await?;
        idle.push(stream);
    }
    let mut few = (Steady::open(&few, "screen", 10).await?, few);
    let mut many = (Steady::open(&many, "screen", 10).await?, many);
    few.0.round(100, Duration::from_millis(500)).await?;
    many.0.round(100, Duration::from_millis(500)).await?;
    let (mut alone, mut beside) = (Vec::new(), Vec::new());
    for _ in 0..plan.rounds {
        alone.push(few.0.round(100, plan.time()).await?);
        beside.push(many.0.round(100, plan.time()).await?);
    }
    let ratio = Spread::of(beside.iter().zip(&alone).map(|(beside, alone)| beside / alone));
    println!("  slowest hundredth {} us, without {} us", Spread::of(beside), Spread::of(alone));
    println!(
        "  ratio {ratio}; wanted at most {CROWD}: {}\n",
        judged("crowd", format!("{:.2}", ratio.middle), format!("≤ {CROWD}"), ratio.middle <= CROWD)
    );
    Ok(())
}
