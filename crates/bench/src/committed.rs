//! Messages at QoS 1 for sessions whose clients are away, beside PostgreSQL's own insert of the same rows.

use std::time::{Duration, Instant};

use bytes::BytesMut;
use moorfall_wire::{Connect, Packet, PacketId, ProtocolVersion, Publish, QoS};
use sqlx::{
    Executor, PgPool,
    postgres::{PgConnectOptions, PgPoolOptions},
};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::TcpStream,
    task::JoinSet,
};

use crate::{
    Failure, Plan,
    load::{PAYLOAD, connect, subscribe},
    process::Program,
    report::{Spread, count, judged},
};

/// The rate of acknowledged messages to that of inserted rows, at least.
const GOAL: f64 = 0.6;

/// Publishers, and sessions that each keep the messages of one of them.
pub(crate) const PAIRS: usize = 20;

/// Messages of a publisher in one round.
const MESSAGES: usize = 2_500;

/// Messages of all of them in one round.
pub(crate) const ROUND: u64 = (PAIRS * MESSAGES) as u64;

/// Messages that a publisher has unacknowledged at most.
const WINDOW: usize = 1_000;

/// Rows of one insert.
const ROWS: usize = 1_000;

pub(crate) async fn run(plan: &Plan) -> Result<(), Failure> {
    println!(
        "committed: QoS 1, {PAIRS} publishers to a session each whose client is away, {PAYLOAD} B, until acknowledged"
    );
    let service = Program::service(plan)?;
    let pool = open_database(&service).await?;
    for number in 0..PAIRS {
        let mut asked = Connect::new(ProtocolVersion::V5, format!("away-{number}"));
        asked.clean_start = false;
        asked.properties.session_expiry_interval = Some(3_600);
        let mut away = connect(service.address, asked).await?;
        subscribe(&mut away, &topic(number), QoS::AtLeastOnce).await?;
        away.write_all(&[0xe0, 0]).await?;
    }
    let mut publishers = publishers(&service).await?;
    let (mut ratios, mut rates, mut limits) = (Vec::new(), Vec::new(), Vec::new());
    for _ in 0..plan.rounds {
        let limit = insert(&pool).await?;
        let rate = round(&mut publishers).await?;
        ratios.push(rate / limit);
        rates.push(rate);
        limits.push(limit);
    }
    println!("  PostgreSQL {:>9} messages/s, {ROWS} in a transaction", count(Spread::of(limits).middle));
    println!("  Moorfall   {:>9} messages/s acknowledged", count(Spread::of(rates).middle));
    let ratio = Spread::of(ratios);
    println!(
        "  Moorfall to PostgreSQL: {ratio}; wanted at least {GOAL}: {}\n",
        judged("committed", format!("{:.2}", ratio.middle), format!("≥ {GOAL}"), ratio.middle >= GOAL)
    );
    Ok(())
}

/// The publishers of a round.
pub(crate) async fn publishers(service: &Program) -> Result<Vec<TcpStream>, Failure> {
    let mut publishers = Vec::new();
    for number in 0..PAIRS {
        let asked = Connect::new(ProtocolVersion::V5, format!("publisher-{number}"));
        publishers.push(connect(service.address, asked).await?);
    }
    Ok(publishers)
}

/// Each publishes its part and waits until it is acknowledged; gives messages a second.
pub(crate) async fn round(publishers: &mut Vec<TcpStream>) -> Result<f64, Failure> {
    let began = Instant::now();
    let mut tasks = JoinSet::new();
    for (number, stream) in publishers.drain(..).enumerate() {
        tasks.spawn(publish(stream, number));
    }
    while let Some(done) = tasks.join_next().await {
        publishers.push(done??);
    }
    Ok((PAIRS * MESSAGES) as f64 / began.elapsed().as_secs_f64())
}

fn topic(number: usize) -> String {
    format!("harrowmere/gorge/station-{number}/stage/level")
}

async fn publish(mut stream: TcpStream, number: usize) -> Result<TcpStream, Failure> {
    let mut bytes = BytesMut::new();
    let (mut sent, mut acknowledged) = (0, 0);
    let mut answers = BytesMut::new();
    while acknowledged < MESSAGES {
        while sent < MESSAGES && sent - acknowledged < WINDOW {
            let packet_id = PacketId::new(u16::try_from(sent % 60_000 + 1)?);
            let publish =
                Publish { packet_id, ..Publish::new(topic(number).parse()?, vec![b'x'; PAYLOAD], QoS::AtLeastOnce) };
            Packet::Publish(publish).encode(ProtocolVersion::V5, &mut bytes)?;
            sent += 1;
        }
        stream.write_all(&bytes).await?;
        bytes.clear();
        if stream.read_buf(&mut answers).await? == 0 {
            return Err("the service closed the connection".into());
        }
        // PUBACK without a reason has four bytes.
        let whole = answers.len() / 4;
        let taken = answers.split_to(whole * 4);
        if taken.chunks_exact(4).any(|ack| ack[0] != 0x40 || ack[1] != 2) {
            return Err("a message was not simply acknowledged".into());
        }
        acknowledged += whole;
    }
    Ok(stream)
}

pub(crate) async fn open_database(service: &Program) -> Result<PgPool, Failure> {
    let folder = service.socket_folder().ok_or("no database")?;
    let options =
        PgConnectOptions::new_without_pgpass().socket(folder).username("moorfall").database("moorfall").port(5432);
    let pool = PgPoolOptions::new().max_connections(1).connect_with(options).await?;
    pool.execute("CREATE TABLE IF NOT EXISTS bench_message (LIKE message INCLUDING ALL)").await?;
    pool.execute("CREATE TABLE IF NOT EXISTS bench_delivery (LIKE delivery INCLUDING ALL)").await?;
    Ok(pool)
}

/// The same rows, straight into tables of the same shape; gives messages a second.
pub(crate) async fn insert(pool: &PgPool) -> Result<f64, Failure> {
    pool.execute("TRUNCATE bench_message, bench_delivery").await?;
    tokio::time::sleep(Duration::from_millis(200)).await;
    let topics: Vec<String> = (0..ROWS).map(|row| topic(row % PAIRS)).collect();
    let payloads: Vec<Vec<u8>> = (0..ROWS).map(|_| vec![b'x'; PAYLOAD]).collect();
    let began = Instant::now();
    for batch in 0..PAIRS * MESSAGES / ROWS {
        let numbers: Vec<i64> = (0..ROWS).map(|row| (batch * ROWS + row) as i64).collect();
        let sessions: Vec<i64> = (0..ROWS).map(|row| (row % PAIRS) as i64).collect();
        let mut transaction = pool.begin().await?;
        sqlx::query(
            "INSERT INTO bench_message (number, topic, payload, properties, qos, retain, retained, publisher, \
             received) \
             SELECT n, t, p, '\\x00', 1, false, false, s, n FROM UNNEST($1::int8[], $2::text[], $3::bytea[], \
             $4::int8[]) \
             AS row (n, t, p, s)",
        )
        .bind(&numbers)
        .bind(&topics)
        .bind(&payloads)
        .bind(&sessions)
        .execute(&mut *transaction)
        .await?;
        sqlx::query(
            "INSERT INTO bench_delivery (session, sequence, message, qos, retain) \
             SELECT s, n, n, 1, false FROM UNNEST($1::int8[], $2::int8[]) AS row (s, n)",
        )
        .bind(&sessions)
        .bind(&numbers)
        .execute(&mut *transaction)
        .await?;
        transaction.commit().await?;
    }
    Ok((PAIRS * MESSAGES) as f64 / began.elapsed().as_secs_f64())
}
