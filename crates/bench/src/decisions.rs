//! What an access decision costs, and what it costs to make a blueprint ready.

use std::{collections::BTreeMap, fmt::Write, hint::black_box, sync::Arc, time::Instant};

use moorfall_core::{
    AttributeValue, Identity, Limits, SessionKey, Time,
    access::{Policy, Request},
    blueprint::Blueprint,
    session::{Action, Session, Verdict},
};
use moorfall_wire::{Connect, Packet, ProtocolVersion, Publish, QoS, TopicName};

use crate::report::{Spread, judged};

/// Nanoseconds of a decision that was made before, of one that was not, and milliseconds of making ready.
const GOALS: (f64, f64, f64) = (100.0, 5_000.0, 200.0);

const RULES: usize = 1_000;
const TOPICS: usize = 10_000;

pub(crate) fn run() {
    println!("decisions: {RULES} rules, {TOPICS} planned topics");
    let text = text();
    let ready = Spread::of((0..5).map(|_| {
        let began = Instant::now();
        black_box(policy(black_box(&text)));
        began.elapsed().as_secs_f64() * 1_000.0
    }));
    let (cached, uncached, compile) = GOALS;
    println!(
        "  reading it and making it ready  {ready} ms; wanted at most {compile}: {}",
        judged(
            "decisions: ready",
            format!("{:.0} ms", ready.middle),
            format!("≤ {compile} ms"),
            ready.middle <= compile
        )
    );

    let policy = policy(&text);
    let kind = AttributeValue::Text("station".into());
    let identity = Identity { name: "station-7".into(), attributes: BTreeMap::from([("kind".to_owned(), kind)]) };
    let access = policy.bind(&identity, "station-7").expect("no value is in the way");
    let topics: Vec<TopicName> = (0..RULES)
        .map(|number| format!("harrowmere/reach-{number}/station-7/stage/level").parse().expect("a topic"))
        .collect();
    let spread = Spread::of((0..20).map(|_| {
        let began = Instant::now();
        for topic in &topics {
            let request = Request::Publish { topic, qos: QoS::AtLeastOnce, retain: false };
            assert!(black_box(access.decide(black_box(request))).is_allowed(), "{topic}");
        }
        began.elapsed().as_nanos() as f64 / topics.len() as f64
    }));
    println!(
        "  a decision for a new topic  {spread} ns; wanted at most {uncached}: {}",
        judged(
            "decisions: new topic",
            format!("{:.0} ns", spread.middle),
            format!("≤ {uncached} ns"),
            spread.middle <= uncached
        )
    );

    // The same topics again and again, by the session that remembers them. The rest of what a session does with a
    // message is measured beside it, on a session that has nothing to decide.
    let limited = handled(&mut session(Verdict::Known(access)), &topics[..64]);
    let free = moorfall_core::access::Access::unrestricted("station-7");
    let unlimited = handled(&mut session(Verdict::Known(free)), &topics[..64]);
    println!(
        "  a message on a topic that is known  {limited} ns, decision, plan and all; without rules {unlimited} ns"
    );
    let decision = (limited.middle - unlimited.middle).max(0.0);
    println!(
        "  of which rules and plan take {decision:.0} ns; wanted at most {cached}: {}\n",
        judged("decisions: known topic", format!("{decision:.0} ns"), format!("≤ {cached} ns"), decision <= cached)
    );
}

fn policy(text: &str) -> Arc<Policy> {
    let blueprint = Blueprint::parse(text).unwrap_or_else(|findings| panic!("{}", findings[0]));
    Arc::new(Policy::new(Arc::new(blueprint)))
}

fn text() -> String {
    let mut text = String::from("name = \"harrowmere\"\n[levels.station]\npattern = \"[a-z]+(-[a-z0-9]+)*\"\n");
    text.push_str("[cohorts.stations]\nwhere = 'attr.kind == \"station\"'\n");
    for number in 0..TOPICS {
        let path = format!("harrowmere/reach-{}/{{station}}/stage-{}/level", number % RULES, number / RULES);
        let path = path.replace("stage-0", "stage");
        writeln!(text, "[[topics]]\npath = \"{path}\"\nqos = 0\nretained = \"never\"").expect("a text grows");
    }
    for number in 0..RULES {
        let who = "who = { cohort = \"stations\" }\nmay = [\"publish\"]";
        let topics = format!("topics = [\"harrowmere/reach-{number}/{{identity}}/stage/level\"]");
        writeln!(text, "[[rules]]\nname = \"rule-{number}\"\n{who}\n{topics}").expect("a text grows");
    }
    text
}

fn session(verdict: Verdict) -> Session {
    let now = Time::from_micros(1);
    let mut session = Session::new(Arc::new(Limits::default()), "spare", now);
    session.handle_packet(now, Packet::Connect(Box::new(Connect::new(ProtocolVersion::V5, "station-7"))));
    let mut verdict = Some(verdict);
    while let Some(action) = session.poll_action() {
        match action {
            Action::Authenticate(_) => session.handle_verdict(verdict.take().expect("it is asked once")),
            Action::Admit { .. } => session.handle_admitted(now, SessionKey(1), None),
            _ => {}
        }
    }
    assert!(session.is_open());
    session
}

/// Nanoseconds of a message.
fn handled(session: &mut Session, topics: &[TopicName]) -> Spread {
    let now = Time::from_micros(2);
    Spread::of((0..40).map(|_| {
        let packets: Vec<Packet> = (0..100)
            .flat_map(|_| topics)
            .map(|topic| Packet::Publish(Publish::new(topic.clone(), "1.83", QoS::AtMostOnce)))
            .collect();
        let count = packets.len() as f64;
        let began = Instant::now();
        for packet in packets {
            session.handle_packet(now, packet);
            while let Some(action) = session.poll_action() {
                drop(black_box(action));
            }
        }
        let spent = began.elapsed().as_nanos() as f64 / count;
        // What breaks the plan is fetched after each batch; nothing does.
        session.take_drift();
        spent
    }))
}
