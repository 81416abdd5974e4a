//! Half of the clients mean harm: what the others feel of it.

use std::{
    net::{Ipv4Addr, SocketAddr},
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
    time::Duration,
};

use bytes::BytesMut;
use moorfall_wire::{
    Connect, Packet, PacketId, ProtocolVersion, Publish, QoS, Subscribe, SubscribeProperties, Subscription,
    SubscriptionOptions,
};
use serde_json::{Value, json};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::{TcpSocket, TcpStream},
    task::JoinSet,
    time::{sleep, timeout},
};

use crate::{
    Failure, Plan,
    load::{Load, Shape},
    process::Program,
    report::{Spread, count, judged},
};

/// Pairs of good clients; as many clients are hostile.
const PAIRS: usize = 30;

/// Between two deeds of a hostile client that was answered, or not.
const PAUSE: Duration = Duration::from_millis(20);

/// How much longer the slowest hundredth may take, and memory at most.
const GOAL: (f64, usize) = (2.0, 256 * 1024 * 1024);

/// Good ones come without identity; whoever is hostile and accepted is this one, who may do nothing.
pub(crate) const BLUEPRINT: &str = "name = \"bench\"\n[[rules]]\nname = \"good\"\nwho = { identity = \"anonymous\" }\n\
                         may = [\"publish\", \"subscribe\"]\ntopics = [\"harrowmere/#\"]\n";

pub(crate) const ROGUE: &str = "rogue";

#[derive(Clone, Copy, Debug)]
enum Deed {
    WrongPassword,
    RefusedFilters,
    RefusedMessages,
    LongTopics,
    HalfOpenHttp,
    NewIdentifiers,
}

const DEEDS: [Deed; 6] = [
    Deed::WrongPassword,
    Deed::RefusedFilters,
    Deed::RefusedMessages,
    Deed::LongTopics,
    Deed::HalfOpenHttp,
    Deed::NewIdentifiers,
];

struct Foe {
    mqtt: SocketAddr,
    http: SocketAddr,
    secret: String,
    /// Deeds done, by kind.
    done: [AtomicU64; DEEDS.len()],
}

pub(crate) async fn run(plan: &Plan) -> Result<(), Failure> {
    println!("hostile: {PAIRS} good publishers with a subscriber each, and as many hostile clients, in turns");
    let service = Program::guarded(plan, BLUEPRINT, "")?;
    let foe = Arc::new(Foe {
        mqtt: service.address,
        http: service.api_address()?,
        secret: make_rogue(&service).await?,
        done: Default::default(),
    });
    let shape = Shape { groups: PAIRS, qos: QoS::AtLeastOnce, window: 1, ..Shape::PAIR };
    let mut load = Load::open(service.address, shape).await?;
    load.run(Duration::from_millis(300)).await?;
    service.forget_peak()?;
    let (mut quiet, mut beset) = (Vec::new(), Vec::new());
    for _ in 0..plan.rounds {
        quiet.push(load.run(plan.time()).await?.latency.value_at_quantile(0.99) as f64 / 1e3);
        let mut hostile = JoinSet::new();
        for number in 0..PAIRS * 2 {
            hostile.spawn(harm(Arc::clone(&foe), number));
        }
        beset.push(load.run(plan.time()).await?.latency.value_at_quantile(0.99) as f64 / 1e3);
        hostile.shutdown().await;
        sleep(Duration::from_millis(500)).await;
    }
    let peak = service.peak()?;
    for (deed, done) in DEEDS.iter().zip(&foe.done) {
        println!("  {:18} {:>9}", format!("{deed:?}"), count(done.load(Ordering::Relaxed) as f64));
    }
    let ratio = Spread::of(beset.iter().zip(&quiet).map(|(beset, quiet)| beset / quiet));
    println!("  99 % of the good ones' messages within {} us, beset {} us", Spread::of(quiet), Spread::of(beset));
    println!(
        "  ratio {ratio}, wanted at most {}; peak memory {} MiB, at most 256: {}\n",
        GOAL.0,
        peak / 1024 / 1024,
        judged(
            "hostile",
            format!("{:.2}, {} MiB", ratio.middle, peak / 1024 / 1024),
            "≤ 2, 256 MiB",
            ratio.middle <= GOAL.0 && peak <= GOAL.1
        )
    );
    Ok(())
}

pub(crate) async fn make_rogue(service: &Program) -> Result<String, Failure> {
    let call = reqwest::Client::new().put(service.call(&format!("identities/{ROGUE}")));
    let body = json!({ "attributes": {}, "enabled": true, "note": "", "generate": true });
    let answer = call.bearer_auth(service.secret()?).json(&body).send().await?.error_for_status()?;
    let answer: Value = answer.json().await?;
    Ok(answer["secret"].as_str().ok_or("no secret")?.to_owned())
}

/// Does harm until it is ended.
async fn harm(foe: Arc<Foe>, number: usize) {
    let place = number % DEEDS.len();
    let mut round = 0;
    loop {
        // A refusal is what it lives on.
        let _outcome = timeout(Duration::from_secs(5), foe.strike(DEEDS[place], place, number, round)).await;
        round += 1;
        sleep(PAUSE).await;
    }
}

impl Foe {
    async fn strike(&self, deed: Deed, place: usize, number: usize, round: usize) -> Result<(), Failure> {
        let done = || self.done[place].fetch_add(1, Ordering::Relaxed);
        match deed {
            Deed::HalfOpenHttp => {
                let mut stream = self.reach(self.http).await?;
                stream.write_all(b"GET /api/v1/status HTTP/1.1\r\nHost: ").await?;
                done();
                sleep(Duration::from_millis(300)).await;
            }
            Deed::WrongPassword => {
                let mut stream = self.reach(self.mqtt).await?;
                stream.write_all(&hello(&format!("guess-{number}"), "not the secret")?).await?;
                done();
                stream.read_exact(&mut [0; 4]).await?;
            }
            Deed::NewIdentifiers => {
                let mut stream = self.reach(self.mqtt).await?;
                stream.write_all(&hello(&format!("new-{number}-{round}"), &self.secret)?).await?;
                done();
                stream.read_exact(&mut [0; 4]).await?;
            }
            Deed::RefusedFilters | Deed::RefusedMessages | Deed::LongTopics => {
                let mut stream = self.reach(self.mqtt).await?;
                stream.write_all(&hello(&format!("rogue-{number}"), &self.secret)?).await?;
                let packets = refused(deed, round)?;
                let mut answer = [0; 4_096];
                loop {
                    stream.write_all(&packets).await?;
                    done();
                    if stream.read(&mut answer).await? == 0 {
                        return Ok(());
                    }
                    sleep(PAUSE).await;
                }
            }
        }
        Ok(())
    }

    async fn reach(&self, address: SocketAddr) -> Result<TcpStream, Failure> {
        let socket = TcpSocket::new_v4()?;
        socket.bind((Ipv4Addr::new(127, 0, 9, 9), 0).into())?;
        Ok(socket.connect(address).await?)
    }
}

/// The CONNECT of whoever may do nothing.
pub(crate) fn hello(client_id: &str, secret: &str) -> Result<BytesMut, Failure> {
    let mut connect = Connect::new(ProtocolVersion::V5, client_id);
    connect.user_name = Some(ROGUE.into());
    connect.password = Some(secret.to_owned().into());
    connect.properties.session_expiry_interval = Some(3_600);
    encoded(&[Packet::Connect(Box::new(connect))])
}

pub(crate) fn encoded(packets: &[Packet]) -> Result<BytesMut, Failure> {
    let mut bytes = BytesMut::new();
    for packet in packets {
        packet.encode(ProtocolVersion::V5, &mut bytes)?;
    }
    Ok(bytes)
}

/// Packets that the rules refuse.
fn refused(deed: Deed, round: usize) -> Result<BytesMut, Failure> {
    let id = |number: usize| PacketId::new(u16::try_from(number + 1).unwrap_or(1));
    let publish = |topic: String, number| {
        let message = Publish::new(topic.parse()?, "1", QoS::AtLeastOnce);
        Ok::<_, Failure>(Packet::Publish(Publish { packet_id: id(number), ..message }))
    };
    match deed {
        Deed::RefusedFilters => {
            let options = SubscriptionOptions::default();
            let filter = |number: usize| format!("tideway/{round}/{number}/#").parse();
            let subscriptions = (0..100)
                .map(|number| Ok(Subscription { filter: filter(number)?, options }))
                .collect::<Result<_, Failure>>()?;
            let properties = SubscribeProperties::default();
            encoded(&[Packet::Subscribe(Subscribe { packet_id: PacketId::MIN, properties, subscriptions })])
        }
        Deed::LongTopics => encoded(&[publish(format!("tideway/{}", "deep/".repeat(800)), 0)?]),
        _ => {
            let all = (0..20).map(|number| publish(format!("tideway/{round}/{number}"), number));
            encoded(&all.collect::<Result<Vec<_>, Failure>>()?)
        }
    }
}
