//! A remote looked at step by step, so that what fails is told apart from what does not.

use std::{
    fmt,
    net::{IpAddr, SocketAddr},
    time::{Duration, Instant},
};

use moorfall_wire::{ConnAckProperties, ProtocolVersion};
use time::OffsetDateTime;
use tokio::time::timeout;

use crate::{
    AskedBy, Client, ClientError, ConnectError, Options, Scheme,
    connection::open_over,
    transport::{self, Layer},
};

/// What is looked at, in this order.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stage {
    /// The name of the host.
    Name,
    /// Its port.
    Port,
    /// TLS.
    Tls,
    /// The certificate of the broker.
    Certificate,
    /// The WebSocket.
    WebSocket,
    /// CONNECT and CONNACK.
    SignIn,
    /// What CONNACK says the broker does not offer.
    Features,
    /// The limits that CONNACK sets.
    Limits,
    /// PINGREQ and PINGRESP.
    RoundTrip,
}

impl fmt::Display for Stage {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Name => "name",
            Self::Port => "port",
            Self::Tls => "tls",
            Self::Certificate => "certificate",
            Self::WebSocket => "websocket",
            Self::SignIn => "sign-in",
            Self::Features => "features",
            Self::Limits => "limits",
            Self::RoundTrip => "round trip",
        })
    }
}

/// What was found at a stage.
#[derive(Clone, Debug)]
pub enum Found {
    /// The addresses of a name.
    Addresses(String, Vec<IpAddr>),
    /// A port is open.
    Open(u16),
    /// The version of TLS.
    Tls(&'static str),
    /// A certificate.
    Certificate(Shown),
    /// A WebSocket opened at this path.
    WebSocket(String),
    /// Accepted as this identity, or anonymously.
    SignedIn(Option<String>, ProtocolVersion),
    /// What is offered.
    Features(ConnAckProperties),
    /// What is limited.
    Limits(ConnAckProperties),
    /// PINGREQ was answered.
    Pong,
}

/// A certificate that was shown, if it can be read.
#[derive(Clone, Debug)]
pub struct Shown(Option<Named>);

#[derive(Clone, Debug)]
struct Named {
    subject: String,
    issuer: String,
    /// The end of its validity.
    ends: Option<OffsetDateTime>,
}

/// Why it can't go on.
#[derive(Debug, thiserror::Error)]
pub enum Failed {
    /// It was refused, or is not there.
    #[error(transparent)]
    Connect(#[from] ConnectError),
    /// It took too long.
    #[error("no response within {} s", .0.as_secs_f32())]
    Silent(Duration),
    /// PINGREQ could not be sent, or was not answered.
    #[error(transparent)]
    Ping(#[from] ClientError),
}

/// One thing that was looked at.
#[derive(Debug)]
pub struct Step {
    /// What.
    pub stage: Stage,
    /// What was found, or why it can't go on.
    pub found: Result<Found, Failed>,
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

    fn note(&mut self, stage: Stage, found: Found, took: Option<Duration>) {
        self.steps.push(Step { stage, found: Ok(found), took });
    }

    /// Does a step, within the time that it may take.
    async fn step<T>(
        &mut self,
        stage: Stage,
        within: Duration,
        work: impl Future<Output = Result<T, ConnectError>>,
    ) -> Option<(T, Duration)> {
        let began = Instant::now();
        let done = timeout(within, work).await;
        let took = began.elapsed();
        let why = match done {
            Ok(Ok(done)) => return Some((done, took)),
            Ok(Err(error)) => error.into(),
            Err(_) => Failed::Silent(within),
        };
        self.steps.push(Step { stage, found: Err(why), took: Some(took) });
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
    let (addresses, took) = examination.step(Stage::Name, within, transport::look_up(remote)).await?;
    let listed = addresses.iter().map(SocketAddr::ip).collect();
    examination.note(Stage::Name, Found::Addresses(remote.host.clone(), listed), Some(took));
    let (stream, took) = examination.step(Stage::Port, within, transport::dial(remote, &addresses)).await?;
    examination.note(Stage::Port, Found::Open(remote.port), Some(took));
    let stream: Box<dyn Layer> = if remote.scheme.is_secure() {
        let (stream, took) =
            examination.step(Stage::Tls, within, transport::secure(remote, trust, stream, AskedBy::Command)).await?;
        let session = stream.get_ref().1;
        let version = match session.protocol_version() {
            Some(rustls::ProtocolVersion::TLSv1_2) => "TLS 1.2",
            _ => "TLS 1.3",
        };
        examination.note(Stage::Tls, Found::Tls(version), Some(took));
        if let Some(shown) = session.peer_certificates().and_then(|chain| chain.first()) {
            examination.note(Stage::Certificate, Found::Certificate(Shown::read(shown)), None);
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
    let ((desk, connack, receiver, state), took) = examination.step(Stage::SignIn, within, asked).await?;
    examination.note(Stage::SignIn, Found::SignedIn(remote.identity.clone(), options.version), Some(took));
    if options.version == ProtocolVersion::V5 {
        examination.note(Stage::Features, Found::Features(connack.properties.clone()), None);
        examination.note(Stage::Limits, Found::Limits(connack.properties.clone()), None);
    }
    let client = Client { desk, connack: std::sync::Arc::new(connack) };
    let _arrivals = (receiver, state);
    let began = Instant::now();
    let answered = timeout(within, client.ping()).await;
    let found = match answered {
        Ok(Ok(())) => Ok(Found::Pong),
        Ok(Err(error)) => Err(error.into()),
        Err(_) => Err(Failed::Silent(within)),
    };
    examination.steps.push(Step { stage: Stage::RoundTrip, found, took: Some(began.elapsed()) });
    client.disconnect().await;
    Some(())
}

async fn upgrade<S: Layer>(
    options: &Options,
    examination: &mut Examination,
    stream: S,
) -> Option<transport::WebSocket<S>> {
    let asked = transport::upgrade(&options.remote, stream);
    let (stream, took) = examination.step(Stage::WebSocket, options.connect_within, asked).await?;
    examination.note(Stage::WebSocket, Found::WebSocket(options.remote.path.clone()), Some(took));
    Some(stream)
}

impl Shown {
    fn read(der: &[u8]) -> Self {
        let parsed = x509_parser::parse_x509_certificate(der).ok();
        Self(parsed.map(|(_, parsed)| Named {
            subject: parsed.subject().to_string(),
            issuer: parsed.issuer().to_string(),
            ends: OffsetDateTime::from_unix_timestamp(parsed.validity().not_after.timestamp()).ok(),
        }))
    }
}

impl fmt::Display for Shown {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Some(Named { subject, issuer, ends }) = &self.0 else { return f.write_str("unreadable certificate") };
        write!(f, "of {subject}, signed by {issuer}")?;
        let Some(ends) = ends else { return Ok(()) };
        let left = (*ends - OffsetDateTime::now_utc()).whole_days();
        write!(f, ", valid until {} ({left} days)", ends.date())
    }
}

impl fmt::Display for Found {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Addresses(host, addresses) => {
                let listed: Vec<String> = addresses.iter().map(ToString::to_string).collect();
                write!(f, "{host} is {}", listed.join(", "))
            }
            Self::Open(port) => write!(f, "{port} is open"),
            Self::Tls(version) => f.write_str(version),
            Self::Certificate(shown) => shown.fmt(f),
            Self::WebSocket(path) => write!(f, "opened at {path}"),
            Self::SignedIn(Some(identity), version) => write!(f, "accepted as {identity}, MQTT {version}"),
            Self::SignedIn(None, version) => write!(f, "accepted anonymously, MQTT {version}"),
            Self::Features(said) => f.write_str(&features(said)),
            Self::Limits(said) => f.write_str(&limits(said)),
            Self::Pong => f.write_str("PINGREQ answered"),
        }
    }
}

/// What CONNACK says the broker does not offer ([MQTT-3.2.2-9] and those after it).
fn features(said: &ConnAckProperties) -> String {
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

fn limits(said: &ConnAckProperties) -> String {
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
