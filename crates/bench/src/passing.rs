//! Passing messages on, beside the lean relay.

use std::time::Duration;

use moorfall_client::{Scheme, Trust};
use moorfall_wire::QoS;

use crate::{
    Failure, Plan,
    load::{Carried, Door, Load, Shape},
    process::{Certificate, Program},
    report::{Spread, count, judged},
};

/// One kind of traffic.
#[derive(Debug)]
pub(crate) struct Scenario {
    pub(crate) name: &'static str,
    words: &'static str,
    shape: Shape,
    /// What carries MQTT to the service. The relay has TLS if this has, and no WebSocket.
    scheme: Scheme,
    /// The ratio of processor time a delivered message, service to lean relay, that is wanted at most.
    goal: f64,
}

/// Paced: four messages of each publisher under way. Saturated: so many that both sides always have work.
pub(crate) const SCENARIOS: &[Scenario] = &[
    Scenario {
        name: "fan-out-paced",
        words: "QoS 0, 1 publisher to 100 subscribers, 100 B, 4 under way",
        shape: Shape { subscribers: 100, ..Shape::PAIR },
        scheme: Scheme::Mqtt,
        goal: 1.5,
    },
    Scenario {
        name: "fan-out-saturated",
        words: "QoS 0, 1 publisher to 100 subscribers, 100 B, saturated",
        shape: Shape { subscribers: 100, window: 1_000, ..Shape::PAIR },
        scheme: Scheme::Mqtt,
        goal: 1.5,
    },
    Scenario {
        name: "pairs-paced",
        words: "QoS 0, 100 publishers to a subscriber each, 100 B, 4 under way each",
        shape: Shape { groups: 100, ..Shape::PAIR },
        scheme: Scheme::Mqtt,
        goal: 1.4,
    },
    Scenario {
        name: "pairs-saturated",
        words: "QoS 0, 100 publishers to a subscriber each, 100 B, saturated",
        shape: Shape { groups: 100, window: 200, ..Shape::PAIR },
        scheme: Scheme::Mqtt,
        goal: 3.0,
    },
    Scenario {
        name: "fan-in-paced",
        words: "QoS 0, 100 publishers to 1 subscriber, 100 B, 4 under way each",
        shape: Shape { publishers: 100, ..Shape::PAIR },
        scheme: Scheme::Mqtt,
        goal: 1.5,
    },
    Scenario {
        name: "fan-in-saturated",
        words: "QoS 0, 100 publishers to 1 subscriber, 100 B, saturated",
        shape: Shape { publishers: 100, window: 200, ..Shape::PAIR },
        scheme: Scheme::Mqtt,
        goal: 2.0,
    },
    Scenario {
        name: "fan-out-large-paced",
        words: "QoS 0, 1 publisher to 100 subscribers, 4 KiB, 4 under way",
        shape: Shape { subscribers: 100, payload: 4_096, ..Shape::PAIR },
        scheme: Scheme::Mqtt,
        goal: 1.4,
    },
    Scenario {
        name: "fan-out-qos1-paced",
        words: "QoS 1, 1 publisher to 100 subscribers, 100 B, 4 under way",
        shape: Shape { subscribers: 100, qos: QoS::AtLeastOnce, ..Shape::PAIR },
        scheme: Scheme::Mqtt,
        goal: 1.5,
    },
    Scenario {
        name: "fan-out-qos1-saturated",
        words: "QoS 1, 1 publisher to 100 subscribers, 100 B, saturated",
        shape: Shape { subscribers: 100, qos: QoS::AtLeastOnce, window: 1_000, ..Shape::PAIR },
        scheme: Scheme::Mqtt,
        goal: 2.0,
    },
    Scenario {
        name: "pairs-qos2-paced",
        words: "QoS 2, 100 publishers to a subscriber each, 100 B, 4 under way each",
        shape: Shape { groups: 100, qos: QoS::ExactlyOnce, ..Shape::PAIR },
        scheme: Scheme::Mqtt,
        goal: 1.8,
    },
    Scenario {
        name: "fan-out-tls-paced",
        words: "TLS, QoS 0, 1 publisher to 100 subscribers, 100 B, 4 under way",
        shape: Shape { subscribers: 100, ..Shape::PAIR },
        scheme: Scheme::Mqtts,
        goal: 1.3,
    },
    Scenario {
        name: "fan-out-tls-saturated",
        words: "TLS, QoS 0, 1 publisher to 100 subscribers, 100 B, saturated",
        shape: Shape { subscribers: 100, window: 1_000, ..Shape::PAIR },
        scheme: Scheme::Mqtts,
        goal: 1.3,
    },
    Scenario {
        name: "fan-out-websocket-paced",
        words: "WebSocket, QoS 0, 1 publisher to 100 subscribers, 100 B, 4 under way; the relay's over TCP",
        shape: Shape { subscribers: 100, ..Shape::PAIR },
        scheme: Scheme::Ws,
        goal: 1.6,
    },
];

/// One program under one kind of load.
pub(crate) struct Side {
    program: Program,
    load: Load,
    pub(crate) micros: Vec<f64>,
    rates: Vec<f64>,
    latency: Vec<(f64, f64)>,
}

impl Side {
    pub(crate) async fn open(program: Program, shape: Shape) -> Result<Self, Failure> {
        let door = Door::from(program.address);
        Self::open_at(program, door, shape).await
    }

    /// The same through another door.
    pub(crate) async fn open_at(program: Program, door: Door, shape: Shape) -> Result<Self, Failure> {
        let mut load = Load::open(door, shape).await?;
        // The first messages find cold caches and empty pools.
        load.run(Duration::from_millis(300)).await?;
        Ok(Self { program, load, micros: Vec::new(), rates: Vec::new(), latency: Vec::new() })
    }

    pub(crate) async fn round(&mut self, time: Duration) -> Result<(), Failure> {
        let before = self.program.cpu()?;
        let Carried { delivered, span, latency } = self.load.run(time).await?;
        let cpu = self.program.cpu()? - before;
        self.micros.push(cpu.as_secs_f64() * 1e6 / delivered as f64);
        self.rates.push(delivered as f64 / span.as_secs_f64());
        let micros = |quantile| latency.value_at_quantile(quantile) as f64 / 1e3;
        self.latency.push((micros(0.5), micros(0.99)));
        Ok(())
    }

    pub(crate) fn print(&self, name: &str) -> Result<(), Failure> {
        let half = Spread::of(self.latency.iter().map(|(half, _)| *half)).middle;
        let most = Spread::of(self.latency.iter().map(|(_, most)| *most)).middle;
        let rate = count(Spread::of(self.rates.iter().copied()).middle);
        let memory = self.program.memory()? as f64 / 1024.0 / 1024.0;
        println!(
            "  {name:<10} {:>7.3} us CPU  {rate:>11} messages/s  latency {half:.0} us, 99 % {most:.0} us  {memory:.0} \
             MiB",
            Spread::of(self.micros.iter().copied()).middle,
        );
        Ok(())
    }
}

pub(crate) async fn run(plan: &Plan, scenario: &Scenario) -> Result<(), Failure> {
    println!("{}: {}", scenario.name, scenario.words);
    let scheme = scenario.scheme;
    let certificate = if scheme.is_secure() { Some(Certificate::make()?) } else { None };
    let trust = certificate.as_ref().map_or_else(Trust::default, Certificate::trust);
    let mut bare = match plan.bare && !scheme.is_secure() {
        true => Some(open_relay("relay", None, scenario.shape).await?),
        false => None,
    };
    let mut lean = open_relay("lean-relay", certificate.as_ref(), scenario.shape).await?;
    let program = Program::service_with(plan, &listener(scheme, certificate.as_ref()), None)?;
    let door = program.door(scheme, trust)?;
    let mut service = Side::open_at(program, door, scenario.shape).await?;
    for _ in 0..plan.rounds {
        if let Some(bare) = &mut bare {
            bare.round(plan.time()).await?;
        }
        lean.round(plan.time()).await?;
        service.round(plan.time()).await?;
    }
    if let Some(bare) = &bare {
        bare.print("bare relay")?;
    }
    lean.print("lean relay")?;
    service.print("Moorfall")?;
    let ratio = Spread::of(service.micros.iter().zip(&lean.micros).map(|(service, lean)| service / lean));
    println!(
        "  CPU of the service to that of the lean relay, a delivered message: {ratio}; wanted at most {}: {}\n",
        scenario.goal,
        judged(
            scenario.name,
            format!("{:.2}", ratio.middle),
            format!("≤ {}", scenario.goal),
            ratio.middle <= scenario.goal
        )
    );
    Ok(())
}

async fn open_relay(command: &str, secured: Option<&Certificate>, shape: Shape) -> Result<Side, Failure> {
    let program = Program::relay(command, secured)?;
    let scheme = if secured.is_some() { Scheme::Mqtts } else { Scheme::Mqtt };
    let trust = secured.map_or_else(Trust::default, Certificate::trust);
    let door = Door { scheme, trust, ..Door::from(program.address) };
    Side::open_at(program, door, shape).await
}

/// The settings of a listener besides the plain one.
fn listener(scheme: Scheme, secured: Option<&Certificate>) -> String {
    let transport = match scheme {
        Scheme::Mqtt => return String::new(),
        Scheme::Mqtts => "tls",
        Scheme::Ws => "websocket",
        Scheme::Wss => "secure-websocket",
    };
    let mut settings = format!(
        "[[listeners]]\nname = \"other\"\naddress = \"127.0.0.1:0\"\ntransport = \"{transport}\"\nanonymous = true\n"
    );
    if let Some(certificate) = secured {
        let (file, key) = (certificate.file(), certificate.key());
        settings += &format!("tls = {{ certificate = {file:?}, key = {key:?} }}\n");
    }
    settings
}
