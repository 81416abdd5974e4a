//! Everybody signs in at once, as after a restart, and subscribes.

use std::{
    net::Ipv4Addr,
    time::{Duration, Instant},
};

use argon2::{Argon2, PasswordHasher as _};
use bytes::BytesMut;
use moorfall_wire::{Connect, Packet, ProtocolVersion, QoS};
use serde_json::{Value, json};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::{TcpSocket, TcpStream},
    task::JoinSet,
    time::sleep,
};

use crate::{
    Failure, Plan,
    load::{greet, subscribe},
    process::Program,
    report::{Spread, count, judged},
};

/// Devices that come at once.
const DEVICES: usize = 10_000;

/// The password of all of them where people choose: what is kept for it costs the same for each.
const CHOSEN: &str = "chosen by a person";

/// Those of them whose secret costs a hash.
const HASHED: usize = 1_000;

/// Devices of one address.
const OF_ADDRESS: usize = 900;

/// Peak memory at most, bytes.
const GOAL: usize = 256 * 1024 * 1024;

const BLUEPRINT: &str = "name = \"bench\"\n[[rules]]\nname = \"all\"\nwho = \"everyone\"\nmay = [\"publish\", \
                         \"subscribe\"]\n\
                         topics = [\"#\"]\n";

/// Processor time of connecting, signing in by a token and subscribing, to that of the relay's connecting and subscribing, at
/// most.
const STORM: f64 = 2.0;

/// Names, and what they sign in with.
pub(crate) type Known = Vec<(String, String)>;

pub(crate) async fn run(plan: &Plan) -> Result<(), Failure> {
    println!("sign-in: {} devices at once, from {} addresses", count(DEVICES as f64), DEVICES.div_ceil(OF_ADDRESS));
    let service = Program::guarded(plan, BLUEPRINT, "connections = 100000\nconnects-per-second = 0\n")?;
    let generated = import(&service, json!({ "generate": true })).await?;
    let mut good = measure(&service, "generated secrets", &generated).await?;
    let tokens = tokens(&service, &generated).await?;
    good &= measure(&service, "tokens", &tokens).await?;
    let hash = Argon2::default().hash_password(CHOSEN.as_bytes()).map_err(|error| error.to_string())?.to_string();
    import(&service, json!({ "password_hash": hash })).await?;
    let chosen = generated.into_iter().take(HASHED).map(|(name, _)| (name, CHOSEN.to_owned())).collect();
    good &= measure(&service, "chosen passwords, cold", &chosen).await?;
    good &= measure(&service, "chosen passwords, known again", &chosen).await?;
    storm(plan, &service, &tokens).await?;
    println!("  wanted: all in, peak memory at most 256 MiB: {}\n", judged("sign-in", "", "all in, ≤ 256 MiB", good));
    Ok(())
}

/// Makes or changes identities of these properties; gives the secrets that are made for them.
pub(crate) async fn import(service: &Program, properties: Value) -> Result<Known, Failure> {
    let (client, admin) = (reqwest::Client::new(), service.secret()?);
    let mut known = Vec::new();
    for part in 0..4 {
        let names = (part * DEVICES / 4..(part + 1) * DEVICES / 4).map(|number| format!("gauge-{number}"));
        let identity = |name| {
            let mut identity = properties.clone();
            identity["name"] = Value::String(name);
            identity
        };
        let identities: Vec<Value> = names.map(identity).collect();
        let body = json!({ "identities": identities });
        let call = client.post(service.call("identities")).bearer_auth(&admin).json(&body);
        let answer = call.send().await?.error_for_status()?.json::<Value>().await?;
        let secrets = answer["secrets"].as_array().into_iter().flatten();
        let text = |value: &Value| value.as_str().unwrap_or_default().to_owned();
        known.extend(secrets.map(|made| (text(&made["name"]), text(&made["secret"]))));
    }
    Ok(known)
}

async fn tokens(service: &Program, known: &Known) -> Result<Known, Failure> {
    let (client, admin) = (reqwest::Client::new(), service.secret()?);
    let mut tokens = Vec::new();
    for (name, _) in known {
        let call = client.post(service.call(&format!("identities/{name}/tokens"))).bearer_auth(&admin);
        let body = json!({ "name": "bench", "seconds": 3_600 });
        let answer = call.json(&body).send().await?.error_for_status()?.json::<Value>().await?;
        tokens.push((name.clone(), answer["token"].as_str().ok_or("no token")?.to_owned()));
    }
    Ok(tokens)
}

/// Lets all sign in at once; prints what it took and gives whether all were accepted within the memory.
async fn measure(service: &Program, words: &str, known: &Known) -> Result<bool, Failure> {
    // All connections stand before anybody says a word.
    let mut streams = Vec::new();
    for (place, (name, secret)) in known.iter().enumerate() {
        let mut connect = Connect::new(ProtocolVersion::V5, name.as_str());
        connect.user_name = Some(name.as_str().into());
        connect.password = Some(secret.clone().into());
        let mut bytes = BytesMut::new();
        Packet::Connect(Box::new(connect)).encode(ProtocolVersion::V5, &mut bytes)?;
        streams.push((reach(service, place).await?, bytes));
    }
    service.forget_peak()?;
    let (cpu, began) = (service.cpu()?, Instant::now());
    let mut asking = JoinSet::new();
    for (stream, bytes) in streams {
        asking.spawn(sign_in(stream, bytes));
    }
    let mut streams = Vec::new();
    while let Some(answered) = asking.join_next().await {
        streams.extend(answered?);
    }
    let span = began.elapsed().as_secs_f64();
    let each = (service.cpu()? - cpu).as_secs_f64() * 1e6 / known.len() as f64;
    let peak = service.peak()?;
    println!(
        "  {words:30} {:>6} of {} in after {span:.2} s, {} a second, {each:.0} us of CPU each, peak {} MiB",
        count(streams.len() as f64),
        count(known.len() as f64),
        count(streams.len() as f64 / span),
        peak / 1024 / 1024
    );
    Ok(streams.len() == known.len() && peak <= GOAL)
}

/// Everybody connects, signs in by token and subscribes at once, beside the same with the relay, which lets anybody in.
async fn storm(plan: &Plan, service: &Program, tokens: &Known) -> Result<(), Failure> {
    let (mut ratios, mut own, mut limits) = (Vec::new(), Vec::new(), Vec::new());
    for _ in 0..plan.rounds {
        // It never closes what its clients have left.
        let limit = rush(&Program::relay("lean-relay", None)?, tokens).await?;
        let each = rush(service, tokens).await?;
        ratios.push(each / limit);
        own.push(each);
        limits.push(limit);
    }
    let ratio = Spread::of(ratios);
    println!(
        "  connect, token and subscribe: {:.0} us of CPU each, the relay {:.0} us: {ratio}; wanted at most {STORM}: {}",
        Spread::of(own).middle,
        Spread::of(limits).middle,
        judged("sign-in: storm", format!("{:.2}", ratio.middle), format!("≤ {STORM}"), ratio.middle <= STORM)
    );
    Ok(())
}

/// Microseconds of processor time for each client that comes in; all must.
async fn rush(program: &Program, known: &Known) -> Result<f64, Failure> {
    let cpu = program.cpu()?;
    let mut coming = JoinSet::new();
    for (place, (name, secret)) in known.iter().enumerate() {
        let mut connect = Connect::new(ProtocolVersion::V5, name.as_str());
        connect.user_name = Some(name.as_str().into());
        connect.password = Some(secret.clone().into());
        let stream = reach(program, place).await?;
        let filter = format!("harrowmere/gorge/{name}/stage/level");
        coming.spawn(async move {
            let mut stream = greet(stream, connect).await?;
            subscribe(&mut stream, &filter, QoS::AtMostOnce).await?;
            Ok::<_, Failure>(stream)
        });
    }
    let mut streams = Vec::new();
    while let Some(came) = coming.join_next().await {
        streams.push(came??);
    }
    let each = (program.cpu()? - cpu).as_secs_f64() * 1e6 / known.len() as f64;
    drop(streams);
    // Their leaving is not part of the next round.
    let mut before = program.cpu()?;
    loop {
        sleep(Duration::from_millis(300)).await;
        let now = program.cpu()?;
        if now - before < Duration::from_millis(5) {
            return Ok(each);
        }
        before = now;
    }
}

/// A connection from one of the addresses.
async fn reach(program: &Program, place: usize) -> Result<TcpStream, Failure> {
    let socket = TcpSocket::new_v4()?;
    let part = u8::try_from(place / OF_ADDRESS)?;
    socket.bind((Ipv4Addr::new(127, 0, 1, part + 1), 0).into())?;
    let stream = socket.connect(program.address).await;
    Ok(stream.map_err(|error| format!("client {place} to {}: {error}", program.address))?)
}

/// Signs in; gives the stream if it was accepted.
async fn sign_in(mut stream: TcpStream, connect: BytesMut) -> Option<TcpStream> {
    stream.write_all(&connect).await.ok()?;
    let mut head = [0; 4];
    stream.read_exact(&mut head).await.ok()?;
    (head[0] == 0x20 && head[3] == 0).then_some(stream)
}
