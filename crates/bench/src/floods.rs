//! How long a client waits for the answer to its PING beside two that flood the broker.

use std::time::{Duration, Instant};

use bytes::BytesMut;
use hdrhistogram::Histogram;
use moorfall_wire::{
    Connect, Packet, PacketId, ProtocolVersion, Publish, QoS, Subscribe, SubscribeProperties, Subscription,
    SubscriptionOptions,
};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::TcpStream,
    task::JoinSet,
    time::sleep,
};

use crate::{
    Failure, Plan,
    hostile::{BLUEPRINT, encoded, hello, make_rogue},
    process::Program,
    report::judged,
};

/// Clients that flood at a time.
const FLOODS: usize = 2;

/// Filters of a SUBSCRIBE: as many as a session may have.
const FILTERS: usize = 1_000;

/// Messages of one write.
const MESSAGES: u16 = 1_000;

/// Between two PINGs.
const PAUSE: Duration = Duration::from_millis(5);

/// Milliseconds that an answer may take at most.
const GOAL: f64 = 100.0;

pub(crate) async fn run(plan: &Plan) -> Result<(), Failure> {
    println!("floods: how long PING takes beside {FLOODS} clients that send without pause what is refused");
    // A session that is refused all the time is ended for it; here it goes on.
    let service = Program::guarded(plan, BLUEPRINT, "refusals-per-second = 0\nconnects-per-second = 0\n")?;
    let secret = make_rogue(&service).await?;
    let mut stream = TcpStream::connect(service.address).await?;
    stream.set_nodelay(true)?;
    stream.write_all(&encoded(&[Packet::Connect(Box::new(Connect::new(ProtocolVersion::V5, "good")))])?).await?;
    let (mut answer, mut good) = ([0; 1_024], true);
    let _connack = stream.read(&mut answer).await?;
    for (words, packets) in [
        ("nobody", BytesMut::new()),
        ("filters, 1,000 in a SUBSCRIBE", filters()?),
        ("messages, QoS 1", messages(QoS::AtLeastOnce)?),
        ("messages, QoS 0", messages(QoS::AtMostOnce)?),
    ] {
        let mut floods = JoinSet::new();
        for number in 0..if packets.is_empty() { 0 } else { FLOODS } {
            let (address, secret, packets) = (service.address, secret.clone(), packets.clone());
            floods.spawn(async move {
                loop {
                    let stream = TcpStream::connect(address).await?;
                    // One that is ended comes again.
                    let _ended = flood(stream, &format!("flood-{number}"), &secret, &packets).await;
                }
                #[allow(unreachable_code)]
                Ok::<_, Failure>(())
            });
        }
        sleep(Duration::from_millis(300)).await;
        let mut waits = Histogram::<u64>::new(3)?;
        let (end, cpu) = (Instant::now() + plan.time() * u32::try_from(plan.rounds)?, service.cpu()?);
        while Instant::now() < end {
            let began = Instant::now();
            stream.write_all(&[0xC0, 0]).await?;
            stream.read_exact(&mut answer[..2]).await?;
            waits.record(u64::try_from(began.elapsed().as_micros())?)?;
            sleep(PAUSE).await;
        }
        let used = (service.cpu()? - cpu).as_secs_f64();
        floods.shutdown().await;
        let most = waits.max() as f64 / 1e3;
        good &= most <= GOAL;
        println!(
            "  {words:32} {:>6} PINGs, middle {:.2} ms, 99 % {:.2} ms, most {most:.2} ms; {used:.1} s of CPU",
            waits.len(),
            waits.value_at_quantile(0.5) as f64 / 1e3,
            waits.value_at_quantile(0.99) as f64 / 1e3,
        );
    }
    println!("  wanted: at most {GOAL} ms: {}\n", judged("floods", "", format!("≤ {GOAL} ms"), good));
    Ok(())
}

/// Sends the packets for ever, and reads what comes back as fast as it comes.
async fn flood(mut stream: TcpStream, client_id: &str, secret: &str, packets: &[u8]) -> Result<(), Failure> {
    stream.write_all(&hello(client_id, secret)?).await?;
    let (mut read, mut write) = stream.into_split();
    let mut answer = vec![0; 65_536];
    let reads = async {
        while read.read(&mut answer).await? > 0 {}
        Ok::<_, Failure>(())
    };
    let writes = async {
        loop {
            write.write_all(packets).await?;
        }
    };
    tokio::select! {
        ended = reads => ended,
        ended = writes => ended,
    }
}

fn filters() -> Result<BytesMut, Failure> {
    let options = SubscriptionOptions::default();
    let filter = |number: usize| Ok(Subscription { filter: format!("tideway/{number}/#").parse()?, options });
    let subscriptions = (0..FILTERS).map(filter).collect::<Result<_, Failure>>()?;
    let properties = SubscribeProperties::default();
    encoded(&[Packet::Subscribe(Subscribe { packet_id: PacketId::MIN, properties, subscriptions })])
}

fn messages(qos: QoS) -> Result<BytesMut, Failure> {
    let message = |number: u16| {
        let message = Publish::new(format!("tideway/{number}").parse()?, "1", qos);
        let packet_id = if qos == QoS::AtMostOnce { None } else { PacketId::new(number) };
        Ok(Packet::Publish(Publish { packet_id, ..message }))
    };
    encoded(&(1..=MESSAGES).map(message).collect::<Result<Vec<_>, Failure>>()?)
}
