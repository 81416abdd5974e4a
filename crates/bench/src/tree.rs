//! Looking at a hierarchy of a million live topics, through the API.

use std::time::Instant;

use bytes::BytesMut;
use moorfall_wire::{Connect, Packet, PacketId, ProtocolVersion, Publish, QoS};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::TcpStream,
};

use crate::{
    Failure, Plan,
    load::connect,
    process::Program,
    report::{Spread, count, judged},
};

/// Milliseconds of any look, at most.
const GOAL: f64 = 500.0;

const REACHES: usize = 100;
const STATIONS: usize = 1_000;
const INSTRUMENTS: usize = 10;
const TOPICS: usize = REACHES * STATIONS * INSTRUMENTS;

/// What a person looks at: in words, and as a call.
const LOOKS: [(&str, &str); 6] = [
    ("the root", "topics"),
    ("100 reaches, the busiest first", "topics?prefix=harrowmere&sort=rate&limit=300"),
    ("1,000 stations, by name", "topics?prefix=harrowmere/reach-7&sort=name&limit=300"),
    ("one station", "topics?prefix=harrowmere/reach-7/station-500&limit=300"),
    ("a filter that matches 100,000", "topics/match?filter=harrowmere/%2B/%2B/instrument-4/level&limit=12"),
    ("drift", "topics/drift"),
];

pub(crate) async fn run(plan: &Plan) -> Result<(), Failure> {
    println!("tree: {} live topics", count(TOPICS as f64));
    let service = Program::service(plan)?;
    let before = service.memory()?;
    let mut stream = connect(service.address, Connect::new(ProtocolVersion::V5, "all-stations")).await?;
    let began = Instant::now();
    for reach in 0..REACHES {
        publish(&mut stream, reach).await?;
    }
    let grown = began.elapsed().as_secs_f64();
    let each = (service.memory()?.saturating_sub(before)) as f64 / TOPICS as f64;
    println!("  published once each in {grown:.1} s; {each:.0} bytes a topic, with its levels");
    let client = reqwest::Client::new();
    let worst = look(plan, &service, &client, &LOOKS).await?;
    println!(
        "  wanted at most {GOAL} ms each: {}\n",
        judged("tree", format!("{worst:.0} ms"), format!("≤ {GOAL} ms"), worst <= GOAL)
    );
    Ok(())
}

/// Looks so often as the plan says, and prints how long it took; gives the longest middle, milliseconds.
pub(crate) async fn look(
    plan: &Plan,
    service: &Program,
    client: &reqwest::Client,
    looks: &[(&str, &str)],
) -> Result<f64, Failure> {
    let secret = service.secret()?;
    let mut worst: f64 = 0.0;
    for (words, call) in looks {
        let mut spans = Vec::new();
        for _ in 0..plan.rounds {
            let began = Instant::now();
            let answer = client.get(service.call(call)).bearer_auth(&secret).send().await?.error_for_status()?;
            let bytes = answer.bytes().await?;
            spans.push(began.elapsed().as_secs_f64() * 1_000.0);
            if bytes.len() < 2 {
                return Err(format!("{call} answers nothing").into());
            }
        }
        let spread = Spread::of(spans);
        worst = worst.max(spread.middle);
        println!("  {words:34}  {spread} ms");
    }
    Ok(worst)
}

/// Publishes to all topics of a reach, and waits until the last is acknowledged.
async fn publish(stream: &mut TcpStream, reach: usize) -> Result<(), Failure> {
    let mut bytes = BytesMut::new();
    let all = (0..STATIONS).flat_map(|station| (0..INSTRUMENTS).map(move |instrument| (station, instrument)));
    for (station, instrument) in all {
        let topic = format!("harrowmere/reach-{reach}/station-{station}/instrument-{instrument}/level").parse()?;
        let is_last = station + 1 == STATIONS && instrument + 1 == INSTRUMENTS;
        let mut publish = Publish::new(topic, "1.83", if is_last { QoS::AtLeastOnce } else { QoS::AtMostOnce });
        publish.packet_id = is_last.then(|| PacketId::new(1)).flatten();
        Packet::Publish(publish).encode(ProtocolVersion::V5, &mut bytes)?;
    }
    stream.write_all(&bytes).await?;
    let mut answer = [0; 4];
    stream.read_exact(&mut answer).await?;
    if answer[0] != 0x40 {
        return Err(format!("not an acknowledgement: {answer:02x?}").into());
    }
    // The rest of it, if it has a reason code.
    let mut rest = vec![0; usize::from(answer[1]).saturating_sub(2)];
    stream.read_exact(&mut rest).await?;
    Ok(())
}
