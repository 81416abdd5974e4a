//! A remote looked at step by step, so that what fails is told apart from what does not.

use std::time::{Duration, Instant};

use moorfall_wire::ConnAck;
use time::OffsetDateTime;
use tokio::time::timeout;

use crate::{
    Client, ConnectError, Options, Scheme,
    connection::open_over,
    transport::{self, Layer},
};

/// One thing that was looked at.
#[derive(Debug)]
pub struct Step {
    /// What: `name`, `port`, `tls`, `certificate`, `websocket`, `sign-in`, `features`, `limits` or `round trip`.
    pub what: &'static str,
    /// What was found, or why it can't go on.
    pub found: Result<String, String>,
    /// How long it took; absent where nothing was waited for.
    pub took: Option<Duration>,
}

/// What was found, in order; after a step that failed nothing more is looked at.
#[derive(Debug, Default)]
pub struct Examination {
    /// The steps.
    pub steps: Vec<Step>,
}

impl Examination {
    /// Whether every step went well.
    pub fn passed(&self) -> bool {
        self.steps.iter().all(|step| step.found.is_ok())
    }

    fn note(&mut self, what: &'static str, found: impl Into<String>, took: Option<Duration>) {
        self.steps.push(Step { what, found: Ok(found.into()), took });
    }

    /// Does a step, within the time that it may take.
    async fn step<T>(
        &mut self,
        what: &'static str,
        within: Duration,
        work: impl Future<Output = Result<T, ConnectError>>,
    ) -> Option<(T, Duration)> {
        let began = Instant::now();
        let done = timeout(within, work).await;
        let took = began.elapsed();
        let words = match done {
            Ok(Ok(done)) => return Some((done, took)),
            Ok(Err(error)) => error.to_string(),
            Err(_) => format!("no response within {} s", within.as_secs_f32()),
        };
        self.steps.push(Step { what, found: Err(words), took: Some(took) });
        None
    }
}

/// Looks at a remote: is its name found, is its port open, is its TLS good and until when, does it open a WebSocket, does
/// it accept the credentials, what does it offer, and how long does a round trip take?
pub async fn examine(options: &Options) -> Examination {
    let mut examination = Examination::default();
    let _over_at_the_first_failure = go(options, &mut examination).await;
    examination
}

async fn go(options: &Options, examination: &mut Examination) -> Option<()> {
    let Options { remote, connect_within, trust, .. } = options;
    let within = *connect_within;
    let (addresses, took) = examination.step("name", within, transport::look_up(remote)).await?;
    let listed: Vec<String> = addresses.iter().map(|address| address.ip().to_string()).collect();
    examination.note("name", format!("{} is {}", remote.host, listed.join(", ")), Some(took));
    let (stream, took) = examination.step("port", within, transport::dial(remote, &addresses)).await?;
    examination.note("port", format!("{} is open", remote.port), Some(took));
    let stream: Box<dyn Layer> = if remote.scheme.is_secure() {
        let (stream, took) = examination.step("tls", within, transport::secure(remote, trust, stream)).await?;
        let session = stream.get_ref().1;
        let version = match session.protocol_version() {
            Some(rustls::ProtocolVersion::TLSv1_2) => "TLS 1.2",
            _ => "TLS 1.3",
        };
        examination.note("tls", version, Some(took));
        if let Some(shown) = session.peer_certificates().and_then(|chain| chain.first()) {
            examination.note("certificate", certificate_words(shown), None);
        }
        if remote.scheme == Scheme::Wss {
            Box::new(upgrade(options, examination, stream).await?)
        } else {
            Box::new(stream)
        }
    } else if remote.scheme == Scheme::Ws {
        Box::new(upgrade(options, examination, stream).await?)
    } else {
        Box::new(stream)
    };
    let began = Instant::now();
    let deadline = tokio::time::Instant::now() + within;
    let asked = open_over(stream, options, options.connect(), crate::ClientState::default(), began, deadline);
    let ((desk, connack, receiver, state), took) = examination.step("sign-in", within, asked).await?;
    let who = remote.identity.as_ref().map_or_else(|| "anonymously".to_owned(), |name| format!("as {name}"));
    examination.note("sign-in", format!("accepted {who}, MQTT {}", options.version), Some(took));
    if options.version == moorfall_wire::ProtocolVersion::V5 {
        examination.note("features", features(&connack), None);
        examination.note("limits", limits(&connack), None);
    }
    let client = Client { desk, connack: std::sync::Arc::new(connack) };
    let _arrivals = (receiver, state);
    let began = Instant::now();
    let answered = timeout(within, client.ping()).await;
    let found = match answered {
        Ok(Ok(())) => Ok("PINGREQ answered".to_owned()),
        Ok(Err(error)) => Err(error.to_string()),
        Err(_) => Err(format!("PINGREQ not answered within {} s", within.as_secs_f32())),
    };
    examination.steps.push(Step { what: "round trip", found, took: Some(began.elapsed()) });
    client.disconnect().await;
    Some(())
}

async fn upgrade<S: Layer>(
    options: &Options,
    examination: &mut Examination,
    stream: S,
) -> Option<transport::WebSocket<S>> {
    let asked = transport::upgrade(&options.remote, stream);
    let (stream, took) = examination.step("websocket", options.connect_within, asked).await?;
    examination.note("websocket", format!("opened at {}", options.remote.path), Some(took));
    Some(stream)
}

fn certificate_words(der: &[u8]) -> String {
    let Ok((_, parsed)) = x509_parser::parse_x509_certificate(der) else { return "unreadable certificate".into() };
    let ends = OffsetDateTime::from_unix_timestamp(parsed.validity().not_after.timestamp());
    let Ok(ends) = ends else { return format!("of {}", parsed.subject()) };
    let left = (ends - OffsetDateTime::now_utc()).whole_days();
    format!("of {}, signed by {}, valid until {} ({left} days)", parsed.subject(), parsed.issuer(), ends.date())
}

/// What CONNACK says the broker does not offer ([MQTT-3.2.2-9] and those after it).
fn features(connack: &ConnAck) -> String {
    let said = &connack.properties;
    let highest = match said.maximum_qos {
        None => 2,
        Some(at_least_once) => u8::from(at_least_once),
    };
    let mut features = vec![format!("QoS up to {highest}")];
    for (offered, name) in [
        (said.retain_available, "retained messages"),
        (said.wildcard_subscription_available, "wildcards"),
        (said.shared_subscription_available, "shared subscriptions"),
        (said.subscription_identifiers_available, "subscription identifiers"),
    ] {
        features.push(if offered == Some(false) { format!("no {name}") } else { name.to_owned() });
    }
    features.join(", ")
}

fn limits(connack: &ConnAck) -> String {
    let said = &connack.properties;
    let in_flight = said.receive_maximum.map_or(65_535, u16::from);
    let mut limits = vec![format!("{in_flight} in flight")];
    limits.push(match said.maximum_packet_size {
        Some(bytes) => format!("packets up to {bytes} B"),
        None => "packets of any size".into(),
    });
    limits.push(format!("{} topic aliases", said.topic_alias_maximum.unwrap_or(0)));
    if let Some(seconds) = said.server_keep_alive {
        limits.push(format!("Keep Alive {seconds} s"));
    }
    if let Some(seconds) = said.session_expiry_interval {
        limits.push(format!("Session Expiry {seconds} s"));
    }
    limits.join(", ")
}
