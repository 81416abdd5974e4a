//! Looking at a busy broker, as the page of topics does: 50,000 messages a second over 200,000 topics.

use std::{
    sync::{
        Arc,
        atomic::{AtomicBool, AtomicU64, Ordering},
    },
    time::{Duration, Instant},
};

use bytes::BytesMut;
use moorfall_wire::{Connect, Packet, ProtocolVersion, Publish, QoS};
use tokio::{
    io::AsyncWriteExt,
    time::{MissedTickBehavior, interval},
};

use crate::{
    Failure, Plan,
    load::connect,
    process::Program,
    report::{count, judged},
    tree::look,
};

/// Milliseconds of any look, at most.
const GOAL: f64 = 500.0;

/// Messages per second.
const RATE: usize = 50_000;

const PUBLISHERS: usize = 4;

/// Topics of each publisher: half of them side by side right below one level, half of them in a hierarchy.
const TOPICS: usize = 50_000;

/// How often a publisher sends.
const TICK: Duration = Duration::from_millis(20);

/// What the page asks for, and a page of one topic.
const LOOKS: [(&str, &str); 6] = [
    ("the root", "topics"),
    ("1,000 stations, by name", "topics?prefix=harrowmere/reach-0&sort=name&limit=300"),
    ("100,000 side by side, by name", "topics?prefix=harrowmere/meters&sort=name&limit=300"),
    ("100,000 side by side, the busiest", "topics?prefix=harrowmere/meters&sort=rate&limit=300"),
    ("a filter that matches 100,000", "topics/match?filter=harrowmere/meters/%2B&limit=12"),
    ("one topic", "topics/topic?topic=harrowmere/meters/meter-0-7"),
];

fn topic(publisher: usize, number: usize) -> String {
    if number.is_multiple_of(2) {
        format!("harrowmere/meters/meter-{publisher}-{number}")
    } else {
        let (station, instrument) = (number / 50, number % 50);
        format!("harrowmere/reach-{publisher}/station-{station}/instrument-{instrument}/level")
    }
}

/// All messages of one publisher, as packets, by the topics' numbers.
fn packets(publisher: usize) -> Result<Vec<BytesMut>, Failure> {
    let packet = |number: usize| {
        let payload = format!(r#"{{"m": {}.83, "at": "2031-03-02T06:15:00Z", "quality": "good"}}"#, number % 7);
        let mut bytes = BytesMut::new();
        let publish = Publish::new(topic(publisher, number).parse()?, payload, QoS::AtMostOnce);
        Packet::Publish(publish).encode(ProtocolVersion::V5, &mut bytes)?;
        Ok(bytes)
    };
    (0..TOPICS).map(packet).collect()
}

/// Publishes evenly until it is told to stop.
async fn publish(
    address: std::net::SocketAddr,
    publisher: usize,
    sent: Arc<AtomicU64>,
    over: Arc<AtomicBool>,
) -> Result<(), Failure> {
    let packets = packets(publisher)?;
    let name = format!("meters-{publisher}");
    let mut stream = connect(address, Connect::new(ProtocolVersion::V5, name.as_str())).await?;
    let mut ticks = interval(TICK);
    // What was late is made up for, so that the rate holds.
    ticks.set_missed_tick_behavior(MissedTickBehavior::Burst);
    let each = RATE / PUBLISHERS * TICK.as_millis() as usize / 1_000;
    let mut next = 0;
    while !over.load(Ordering::Relaxed) {
        ticks.tick().await;
        let mut bytes = BytesMut::new();
        for _ in 0..each {
            bytes.extend_from_slice(&packets[next % TOPICS]);
            next += 1;
        }
        stream.write_all(&bytes).await?;
        sent.fetch_add(each as u64, Ordering::Relaxed);
    }
    Ok(())
}

pub(crate) async fn run(plan: &Plan) -> Result<(), Failure> {
    let all = TOPICS * PUBLISHERS;
    println!("watching: {} messages/s over {} topics, while somebody looks", count(RATE as f64), count(all as f64));
    let service = Program::service(plan)?;
    let secret = service.secret()?;
    let client = reqwest::Client::new();
    let (sent, over) = (Arc::new(AtomicU64::new(0)), Arc::new(AtomicBool::new(false)));
    let publishers: Vec<_> = (0..PUBLISHERS)
        .map(|publisher| tokio::spawn(publish(service.address, publisher, Arc::clone(&sent), Arc::clone(&over))))
        .collect();
    // Each topic was published to after four seconds.
    tokio::time::sleep(Duration::from_secs((all / RATE) as u64 + 2)).await;
    let measured = |span: Duration| {
        let (service, sent) = (&service, &sent);
        async move {
            let (cpu, messages, began) = (service.cpu()?, sent.load(Ordering::Relaxed), Instant::now());
            tokio::time::sleep(span).await;
            let messages = (sent.load(Ordering::Relaxed) - messages) as f64;
            let each = (service.cpu()? - cpu).as_secs_f64() * 1e6 / messages;
            Ok::<_, Failure>((messages / began.elapsed().as_secs_f64(), each))
        }
    };
    let (rate, alone) = measured(plan.time()).await?;
    println!("  nobody looks: {} messages/s, {alone:.2} us of CPU each", count(rate));
    let worst = look(plan, &service, &client, &LOOKS).await?;
    // The page with four branches open, every two seconds.
    let looking = {
        let (client, secret, over) = (client.clone(), secret.clone(), Arc::clone(&over));
        let calls: Vec<String> = LOOKS[..4].iter().map(|(_, call)| service.call(call)).collect();
        tokio::spawn(async move {
            while !over.load(Ordering::Relaxed) {
                for call in &calls {
                    let _answer = client.get(call).bearer_auth(&secret).send().await;
                }
                tokio::time::sleep(Duration::from_secs(2)).await;
            }
        })
    };
    let (rate, looked_at) = measured(plan.time() * 2).await?;
    println!("  the page open: {} messages/s, {looked_at:.2} us of CPU each", count(rate));
    over.store(true, Ordering::Relaxed);
    for publisher in publishers {
        publisher.await??;
    }
    looking.await?;
    println!(
        "  wanted at most {GOAL} ms each: {}\n",
        judged("watching", format!("{worst:.0} ms"), format!("≤ {GOAL} ms"), worst <= GOAL)
    );
    Ok(())
}
