//! Passing messages on, beside the bare relay.

use std::time::Duration;

use moorfall_wire::QoS;

use crate::{
    Failure, Plan,
    load::{Carried, Load, Shape},
    process::Program,
    report::{Spread, count, verdict},
};

/// One kind of traffic.
#[derive(Debug)]
pub(crate) struct Scenario {
    pub(crate) name: &'static str,
    words: &'static str,
    shape: Shape,
    /// The ratio of processor time a delivered message, service to relay, that is wanted at most.
    goal: f64,
}

const fn shape(groups: usize, subscribers: usize, qos: QoS, window: u64) -> Shape {
    Shape { groups, subscribers, qos, window }
}

/// Paced: four messages of each publisher under way. Saturated: so many that both sides always have work.
pub(crate) const SCENARIOS: &[Scenario] = &[
    Scenario {
        name: "fan-out-paced",
        words: "QoS 0, 1 publisher to 100 subscribers, 100 B, 4 under way",
        shape: shape(1, 100, QoS::AtMostOnce, 4),
        goal: 1.6,
    },
    Scenario {
        name: "fan-out-saturated",
        words: "QoS 0, 1 publisher to 100 subscribers, 100 B, saturated",
        shape: shape(1, 100, QoS::AtMostOnce, 1_000),
        goal: 5.0,
    },
    Scenario {
        name: "pairs-paced",
        words: "QoS 0, 100 publishers to a subscriber each, 100 B, 4 under way each",
        shape: shape(100, 1, QoS::AtMostOnce, 4),
        goal: 2.0,
    },
    Scenario {
        name: "pairs-saturated",
        words: "QoS 0, 100 publishers to a subscriber each, 100 B, saturated",
        shape: shape(100, 1, QoS::AtMostOnce, 200),
        goal: 6.0,
    },
    Scenario {
        name: "fan-out-qos1-paced",
        words: "QoS 1, 1 publisher to 100 subscribers, 100 B, 4 under way",
        shape: shape(1, 100, QoS::AtLeastOnce, 4),
        goal: 2.0,
    },
    Scenario {
        name: "fan-out-qos1-saturated",
        words: "QoS 1, 1 publisher to 100 subscribers, 100 B, saturated",
        shape: shape(1, 100, QoS::AtLeastOnce, 1_000),
        goal: 5.0,
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
        let mut load = Load::open(program.address, shape).await?;
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
            "  {name:<9} {:>7.3} us CPU  {rate:>11} messages/s  latency {half:.0} us, 99 % {most:.0} us  {memory:.0} \
             MiB",
            Spread::of(self.micros.iter().copied()).middle,
        );
        Ok(())
    }
}

pub(crate) async fn run(plan: &Plan, scenario: &Scenario) -> Result<(), Failure> {
    println!("{}: {}", scenario.name, scenario.words);
    let mut relay = Side::open(Program::relay()?, scenario.shape).await?;
    let mut service = Side::open(Program::service(plan)?, scenario.shape).await?;
    for _ in 0..plan.rounds {
        relay.round(plan.time()).await?;
        service.round(plan.time()).await?;
    }
    relay.print("relay")?;
    service.print("Moorfall")?;
    let ratios = service.micros.iter().zip(&relay.micros).map(|(service, relay)| service / relay);
    let ratio = Spread::of(ratios);
    println!(
        "  CPU of the service to that of the relay, a delivered message: {ratio}; wanted at most {}: {}\n",
        scenario.goal,
        verdict(ratio.middle <= scenario.goal)
    );
    Ok(())
}
