//! Connections that do nothing: what each takes, and how many are held.

use moorfall_wire::{Connect, ProtocolVersion, QoS};
use tokio::{io::AsyncWriteExt, net::TcpStream};

use crate::{
    Failure, Plan,
    load::{connect, subscribe},
    process::Program,
    report::{count, verdict},
};

/// Bytes of an idle session at most.
const GOAL: usize = 8 * 1024;

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
    println!("  {} held, {each} bytes each; wanted at most {GOAL}: {}\n", streams.len(), verdict(each <= GOAL));
    Ok(())
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
