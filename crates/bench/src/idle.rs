//! Connections and subscriptions that do nothing: what each takes, and how many are held.

use moorfall_wire::{Connect, ProtocolVersion, QoS};
use tokio::{io::AsyncWriteExt, net::TcpStream};

use crate::{
    Failure, Plan,
    load::{connect, subscribe, subscribe_all},
    process::Program,
    report::{count, judged},
};

/// Bytes of an idle session at most.
const GOAL: usize = 4 * 1024;

/// Bytes of a subscription at most.
const SUBSCRIPTION: usize = 300;

/// Sessions that subscribe, and how many filters each.
const SUBSCRIBERS: (usize, usize) = (200, 1_000);

/// Filters of a SUBSCRIBE.
const TOGETHER: usize = 100;

pub(crate) async fn run(plan: &Plan) -> Result<(), Failure> {
    println!("idle: {} connections, each with one subscription, that do nothing", count(plan.connections as f64));
    let service = Program::service(plan)?;
    let mut streams = open(&service, 0, 500).await?;
    let before = service.memory()?;
    let more = open(&service, 500, plan.connections).await?;
    let each = service.memory()?.saturating_sub(before) / more.len();
    streams.extend(more);
    // All of them are still served.
    for stream in &mut streams {
        stream.write_all(&[0xc0, 0]).await?;
    }
    println!(
        "  {} held, {each} bytes each; wanted at most {GOAL}: {}\n",
        streams.len(),
        judged("idle", format!("{each} B"), format!("≤ {GOAL} B"), each <= GOAL)
    );
    Ok(())
}

pub(crate) async fn subscriptions(plan: &Plan) -> Result<(), Failure> {
    let (sessions, each) = SUBSCRIBERS;
    println!(
        "subscriptions: {} filters of {sessions} sessions, with and without wildcards",
        count((sessions * each) as f64)
    );
    let service = Program::service(plan)?;
    let mut streams = Vec::new();
    for number in 0..sessions {
        let asked = Connect { keep_alive: 600, ..Connect::new(ProtocolVersion::V5, format!("desk-{number}")) };
        streams.push(connect(service.address, asked).await?);
    }
    // What is taken once, whoever subscribes first.
    subscribe(&mut streams[0], "harrowmere/#", QoS::AtMostOnce).await?;
    let before = service.memory()?;
    for (session, stream) in streams.iter_mut().enumerate() {
        for first in (0..each).step_by(TOGETHER) {
            let filters = (first..first + TOGETHER).map(|place| filter(session * each + place)).collect::<Vec<_>>();
            subscribe_all(stream, &filters).await?;
        }
    }
    let taken = service.memory()?.saturating_sub(before) / (sessions * each);
    println!(
        "  {taken} bytes each; wanted at most {SUBSCRIPTION}: {}\n",
        judged("subscriptions", format!("{taken} B"), format!("≤ {SUBSCRIPTION} B"), taken <= SUBSCRIPTION)
    );
    Ok(())
}

/// One that nobody else has.
fn filter(number: usize) -> String {
    let reach = ["gorge", "meadows", "tidal", "sallow-head"][number % 4];
    match number % 3 {
        0 => format!("harrowmere/{reach}/gauge-{number}/#"),
        1 => format!("harrowmere/+/gauge-{number}/stage/level"),
        _ => format!("harrowmere/{reach}/gauge-{number}/stage/level"),
    }
}

async fn open(service: &Program, from: usize, to: usize) -> Result<Vec<TcpStream>, Failure> {
    let mut streams = Vec::new();
    for number in from..to {
        let asked = Connect { keep_alive: 600, ..Connect::new(ProtocolVersion::V5, format!("gauge-{number}")) };
        let mut stream = connect(service.address, asked).await?;
        subscribe(&mut stream, &format!("harrowmere/gorge/gauge-{number}/#"), QoS::AtMostOnce).await?;
        streams.push(stream);
    }
    Ok(streams)
}
