//! Starting with much that was kept: retained messages and sessions whose clients are away.

use moorfall_wire::{Connect, ProtocolVersion, QoS};
use sqlx::Executor;

use crate::{
    Failure, Plan,
    committed::open_database,
    load::{connect, subscribe},
    process::Program,
    report::{count, judged},
};

/// Seconds until the listeners are open, at most.
const GOAL: f64 = 5.0;

pub(crate) const RETAINED: usize = 1_000_000;
const SESSIONS: usize = 100_000;

pub(crate) async fn run(plan: &Plan) -> Result<(), Failure> {
    let (retained, sessions) = (count(RETAINED as f64), count(SESSIONS as f64));
    println!("restart: {retained} retained messages and {sessions} sessions with a subscription each are read back");
    let service = Program::service(plan)?;
    retain(&service).await?;
    let pool = open_database(&service).await?;
    pool.execute(
        "INSERT INTO session (key, client_id, identity, expiry, away_since, began_at) \
         SELECT n, 'away-' || n, 'gauge-' || n, 4294967295, 1700000000000000, 1700000000000000 \
         FROM generate_series(1000, 100999) AS n",
    )
    .await?;
    pool.execute(
        "INSERT INTO subscription (session, filter_key, filter, options) \
         SELECT n, decode(md5('f' || n), 'hex'), 'harrowmere/+/station-' || n || '/#', 1 \
         FROM generate_series(1000, 100999) AS n",
    )
    .await?;
    pool.close().await;
    let (service, span) = service.restart(plan)?;
    let span = span.as_secs_f64();
    // What was kept is there: a retained message comes.
    let mut stream = connect(service.address, Connect::new(ProtocolVersion::V5, "late")).await?;
    subscribe(&mut stream, "harrowmere/+/station-999999/status", QoS::AtMostOnce).await?;
    let mut head = [0; 1];
    tokio::io::AsyncReadExt::read_exact(&mut stream, &mut head).await?;
    if head[0] != 0x31 {
        return Err(format!("not a retained message: {head:02x?}").into());
    }
    let memory = service.memory()? as f64 / 1024.0 / 1024.0;
    println!("  {span:.1} s until it is ready, {memory:.0} MiB");
    println!(
        "  wanted at most {GOAL} s: {}\n",
        judged("restart", format!("{span:.1} s"), format!("≤ {GOAL} s"), span <= GOAL)
    );
    Ok(())
}

/// Puts retained messages where a service finds them when it starts again.
pub(crate) async fn retain(service: &Program) -> Result<(), Failure> {
    let pool = open_database(service).await?;
    pool.execute(
        "INSERT INTO message (number, topic, payload, properties, qos, retain, retained, publisher, received) \
         SELECT n, 'harrowmere/reach-' || n % 50 || '/station-' || n || '/status', 'online', '\\x00', 1, true, true, \
         0, \
         1700000000000000 FROM generate_series(1, 1000000) AS n",
    )
    .await?;
    pool.close().await;
    Ok(())
}
