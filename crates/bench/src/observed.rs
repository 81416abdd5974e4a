//! What it costs to be observed: alerts, topics of the service, the page for machines and a ladder, at 50,000 messages a
//! second over 1,000 sessions; and consoles that are open.

use std::{
    sync::{
        Arc,
        atomic::{AtomicBool, AtomicU64, Ordering},
    },
    time::Duration,
};

use bytes::BytesMut;
use moorfall_wire::{Connect, Packet, ProtocolVersion, Publish, QoS};
use serde_json::{Value, json};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    task::JoinSet,
    time::{MissedTickBehavior, interval, sleep},
};

use crate::{
    Failure, Plan,
    load::{connect, subscribe},
    process::Program,
    report::{Spread, count, judged},
};

/// Publishers, each with a subscriber: half of the sessions.
const PAIRS: usize = 500;

/// Messages of each publisher a second.
const EACH: usize = 100;

/// How often a publisher sends.
const TICK: Duration = Duration::from_millis(100);

/// How often both services are started anew: one may be faster than its like for as long as it runs.
const FRESH: usize = 4;

/// Between two times that the page for machines is read.
const SCRAPE: Duration = Duration::from_secs(5);

/// The ratio of processor time a delivered message, with everything on to without, at most.
const GOAL: f64 = 1.03;

/// Consoles that are open, and the share of a core that one may cost.
const CONSOLES: usize = 100;
const CONSOLE_GOAL: f64 = 0.01;

/// Alerts on every topic that is published to, on measures and on silence.
const BLUEPRINT: &str = r#"
name = "observed"
[[alerts]]
name = "stage-high"
topics = "harrowmere/+/stage/level"
field = "m"
high = 100
[[alerts]]
name = "stage-silent"
topics = "harrowmere/+/stage/level"
silent = "1m"
[[alerts]]
name = "queues"
measure = "queued"
high = 1_000_000
"#;

/// A service with 1,000 sessions.
struct Side {
    program: Program,
    sent: Arc<AtomicU64>,
    delivered: Arc<AtomicU64>,
    paced: Arc<AtomicBool>,
    _tasks: JoinSet<()>,
    micros: Vec<f64>,
}

fn topic(number: usize) -> String {
    format!("harrowmere/station-{number}/stage/level")
}

impl Side {
    async fn open(program: Program) -> Result<Self, Failure> {
        let (sent, delivered) = (Arc::new(AtomicU64::new(0)), Arc::new(AtomicU64::new(0)));
        let paced = Arc::new(AtomicBool::new(false));
        let mut tasks = JoinSet::new();
        for number in 0..PAIRS {
            let open = |name: String| connect(program.address, Connect::new(ProtocolVersion::V5, name));
            let mut reader = open(format!("reader-{number}")).await?;
            subscribe(&mut reader, &topic(number), QoS::AtMostOnce).await?;
            let mut packet = BytesMut::new();
            let payload = r#"{"m": 1.83, "at": "2031-03-02T06:15:00Z", "quality": "good"}"#;
            let publish = Publish::new(topic(number).parse()?, payload, QoS::AtMostOnce);
            Packet::Publish(publish).encode(ProtocolVersion::V5, &mut packet)?;
            let (count, size) = (Arc::clone(&delivered), packet.len() as u64);
            tasks.spawn(async move {
                let (mut bytes, mut all) = (vec![0; 64 * 1024], 0);
                while let Ok(read @ 1..) = reader.read(&mut bytes).await {
                    let before = all / size;
                    all += read as u64;
                    count.fetch_add(all / size - before, Ordering::Relaxed);
                }
            });
            let mut writer = open(format!("station-{number}")).await?;
            let burst = packet.repeat(EACH * TICK.as_millis() as usize / 1_000);
            let messages = (burst.len() as u64) / size;
            let (sent, paced) = (Arc::clone(&sent), Arc::clone(&paced));
            tasks.spawn(async move {
                // Not all at the same moment.
                sleep(TICK.mul_f64(number as f64 / PAIRS as f64)).await;
                let mut ticks = interval(TICK);
                ticks.set_missed_tick_behavior(MissedTickBehavior::Skip);
                loop {
                    ticks.tick().await;
                    if paced.load(Ordering::Relaxed) {
                        if writer.write_all(&burst).await.is_err() {
                            return;
                        }
                        sent.fetch_add(messages, Ordering::Relaxed);
                    }
                }
            });
        }
        Ok(Self { program, sent, delivered, paced, _tasks: tasks, micros: Vec::new() })
    }

    /// Messages flow for a while; gives how many a second were delivered.
    async fn round(&mut self, time: Duration) -> Result<f64, Failure> {
        self.paced.store(true, Ordering::Relaxed);
        sleep(Duration::from_millis(300)).await;
        let (cpu, before) = (self.program.cpu()?, self.delivered.load(Ordering::Relaxed));
        sleep(time).await;
        let delivered = (self.delivered.load(Ordering::Relaxed) - before) as f64;
        self.micros.push((self.program.cpu()? - cpu).as_secs_f64() * 1e6 / delivered);
        self.paced.store(false, Ordering::Relaxed);
        // What is under way arrives before the other side begins.
        sleep(Duration::from_millis(300)).await;
        let (sent, arrived) = (self.sent.load(Ordering::Relaxed), self.delivered.load(Ordering::Relaxed));
        if sent != arrived {
            return Err(format!("{arrived} of {sent} messages have arrived").into());
        }
        Ok(delivered / time.as_secs_f64())
    }
}

pub(crate) async fn run(plan: &Plan) -> Result<(), Failure> {
    let rate = count((PAIRS * EACH) as f64);
    println!("observed: {rate} messages/s over {} sessions, with everything on and without", 2 * PAIRS);
    let mut found = Compared::default();
    let mut last = None;
    for _ in 0..FRESH {
        drop(last.take());
        last = Some(compare(plan, &mut found).await?);
    }
    let middle = |all: &[f64]| Spread::of(all.iter().copied()).middle;
    println!("  {} messages/s delivered", count(middle(&found.rates)));
    println!("  without  {:.3} us CPU a delivered message", middle(&found.without));
    println!("  with     {:.3} us CPU a delivered message", middle(&found.with));
    let ratio = Spread::of(found.with.iter().zip(&found.without).map(|(with, without)| with / without));
    println!(
        "  with to without: {ratio}; wanted at most {GOAL}: {}\n",
        judged("observed", format!("{:.2}", ratio.middle), format!("≤ {GOAL}"), ratio.middle <= GOAL)
    );
    match last {
        Some(with) => consoles(plan, with).await,
        None => Ok(()),
    }
}

/// What was measured of both sides, round by round.
#[derive(Default)]
struct Compared {
    /// Messages delivered, per second.
    rates: Vec<f64>,
    /// Processor time a delivered message, microseconds.
    with: Vec<f64>,
    without: Vec<f64>,
}

/// Compares two new services; gives the one with everything on.
async fn compare(plan: &Plan, found: &mut Compared) -> Result<Side, Failure> {
    let mut without = Side::open(Program::service_with(plan, "[readings]\ntopic-seconds = 0\n", None)?).await?;
    let on = "[readings]\ntopic-seconds = 10\npage = \"loopback\"\n";
    let mut with = Side::open(Program::service_with(plan, on, Some(BLUEPRINT))?).await?;
    let (client, secret) = (reqwest::Client::new(), with.program.secret()?);
    let ladder = json!({ "session": "station-7", "seconds": 3_600 });
    let begun = client.post(with.program.call("ladders")).bearer_auth(&secret).json(&ladder).send().await?;
    begun.error_for_status()?;
    // Whoever collects numbers for machines asks every 15 seconds; here three times as often.
    let page = with.program.call("").replace("/api/v1/", "/metrics");
    let scraping = {
        let client = client.clone();
        tokio::spawn(async move {
            loop {
                let _asked = client.get(&page).send().await;
                sleep(SCRAPE).await;
            }
        })
    };
    for round in 0..plan.rounds.div_ceil(FRESH) {
        // Whoever is second in one round is first in the next: what the machine does else hits both.
        let sides = if round % 2 == 0 { [&mut without, &mut with] } else { [&mut with, &mut without] };
        for side in sides {
            found.rates.push(side.round(plan.time()).await?);
        }
    }
    scraping.abort();
    found.without.append(&mut without.micros);
    found.with.append(&mut with.micros);
    let alerts: Value =
        client.get(with.program.call("alerts")).bearer_auth(&secret).send().await?.error_for_status()?.json().await?;
    let watched =
        alerts["alerts"].as_array().into_iter().flatten().filter_map(|alert| alert["subjects"].as_u64()).sum::<u64>();
    if watched < 2 * PAIRS as u64 {
        return Err(format!("only {watched} subjects are watched: {alerts}").into());
    }
    Ok(with)
}

/// The overview, open in many browsers: its stream, and what it asks every two seconds.
async fn consoles(plan: &Plan, mut side: Side) -> Result<(), Failure> {
    println!("consoles: {CONSOLES} open while messages flow");
    side.micros.clear();
    side.paced.store(true, Ordering::Relaxed);
    let share = |time: Duration| {
        let program = &side.program;
        async move {
            let before = program.cpu()?;
            sleep(time).await;
            Ok::<_, Failure>((program.cpu()? - before).as_secs_f64() / time.as_secs_f64())
        }
    };
    let time = plan.time().max(Duration::from_secs(4)) * 2;
    let alone = share(time).await?;
    let secret = side.program.secret()?;
    let (status, events, live) =
        (side.program.call("status"), side.program.call("events?limit=30"), side.program.call("live"));
    let mut open = JoinSet::new();
    for number in 0..CONSOLES {
        let (client, secret) = (reqwest::Client::new(), secret.clone());
        let (status, events, live) = (status.clone(), events.clone(), live.clone());
        let mut stream = client.get(live).bearer_auth(&secret).send().await?.error_for_status()?;
        open.spawn(async move { while let Ok(Some(_)) = stream.chunk().await {} });
        open.spawn(async move {
            sleep(Duration::from_millis(20 * number as u64)).await;
            loop {
                for call in [&status, &events] {
                    let asked = client.get(call).bearer_auth(&secret).send().await;
                    if let Ok(answer) = asked {
                        let _read = answer.bytes().await;
                    }
                }
                sleep(Duration::from_secs(2)).await;
            }
        });
    }
    sleep(Duration::from_secs(3)).await;
    let looked_at = share(time).await?;
    let each = (looked_at - alone) / CONSOLES as f64;
    println!("  {:.2} cores without, {:.2} with: {:.2} % of a core each", alone, looked_at, each * 100.0);
    let goal = CONSOLE_GOAL * 100.0;
    println!(
        "  wanted at most {goal} % each: {}\n",
        judged("observed: a console", format!("{:.2} %", each * 100.0), format!("≤ {goal} %"), each <= CONSOLE_GOAL)
    );
    Ok(())
}
