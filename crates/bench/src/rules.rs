//! What rules, identities and a plan cost where messages pass, beside the service without any.

use std::fmt::Write;

use moorfall_client::{Scheme, Trust};
use serde_json::json;

use crate::{
    Failure, Plan,
    load::Shape,
    passing::Side,
    process::Program,
    report::{Spread, judged},
    sign_in::import,
};

/// Rules of the blueprint, of which one is about the messages.
const RULES: usize = 1_000;

/// Processor time of a message under rules to that without, and microseconds more if a schema is to be looked at, at most.
const GOALS: (f64, f64) = (1.05, 2.0);

const LIMITS: &str = "connections = 100000\nconnects-per-second = 0\nin-flight = 10000\nreceive-maximum = 10000\n";

pub(crate) async fn run(plan: &Plan) -> Result<(), Failure> {
    for (words, window) in [("paced", 4), ("saturated", 200)] {
        beside(plan, words, Shape { groups: 100, window, is_json: true, ..Shape::PAIR }).await?;
    }
    Ok(())
}

async fn beside(plan: &Plan, words: &str, shape: Shape) -> Result<(), Failure> {
    println!(
        "rules-{words}: {RULES} rules, 10,000 identities, a plan; 100 publishers to a subscriber each, JSON of 100 B"
    );
    let mut free = Side::open(Program::service(plan)?, shape).await?;
    let mut ruled = open(plan, "payload = \"text\"", shape).await?;
    let schema = "{ type = \"object\", required = [\"m\"], properties = { m = { type = \"number\" } } }";
    let mut checked = open(plan, &format!("payload = \"json\"\nschema = {schema}"), shape).await?;
    for _ in 0..plan.rounds {
        for side in [&mut free, &mut ruled, &mut checked] {
            side.round(plan.time()).await?;
        }
    }
    free.print("no rules")?;
    ruled.print("rules")?;
    checked.print("a schema")?;
    let ratio = Spread::of(ruled.micros.iter().zip(&free.micros).map(|(ruled, free)| ruled / free));
    let more = Spread::of(checked.micros.iter().zip(&free.micros).map(|(checked, free)| checked - free));
    for (what, name, spread, unit, goal) in [
        ("CPU with rules to that without", format!("rules-{words}"), ratio, "", GOALS.0),
        ("more with a schema", format!("rules-{words}: schema"), more, " us", GOALS.1),
    ] {
        let (measured, wanted) = (format!("{:.2}{unit}", spread.middle), format!("≤ {goal}{unit}"));
        let word = judged(&name, measured, wanted, spread.middle <= goal);
        println!("  {what}: {spread}{unit}; wanted at most {goal}{unit}: {word}");
    }
    println!();
    Ok(())
}

/// A service with rules, whose clients are identities.
async fn open(plan: &Plan, payload: &str, shape: Shape) -> Result<Side, Failure> {
    let service = Program::guarded(plan, &blueprint(payload), LIMITS)?;
    let known = import(&service, json!({ "generate": true, "attributes": { "kind": "station" } })).await?;
    let mut door = service.door(Scheme::Mqtt, Trust::default())?;
    door.known = known;
    Side::open_at(service, door, shape).await
}

fn blueprint(payload: &str) -> String {
    let mut text = String::from("name = \"harrowmere\"\n[cohorts.stations]\nwhere = 'attr.kind == \"station\"'\n");
    text.push_str("[levels.station]\npattern = \"[a-z0-9-]+\"\n");
    let topic = "harrowmere/gorge/{station}/stage/level";
    writeln!(text, "[[topics]]\npath = \"{topic}\"\n{payload}\nqos = 0").expect("a text grows");
    for number in 0..RULES {
        let topics = match number {
            0 => "harrowmere/gorge/+/stage/level".to_owned(),
            _ => format!("harrowmere/reach-{number}/{{identity}}/stage/level"),
        };
        let who = "who = { cohort = \"stations\" }\nmay = [\"publish\", \"subscribe\"]";
        writeln!(text, "[[rules]]\nname = \"rule-{number}\"\n{who}\ntopics = [\"{topics}\"]").expect("a text grows");
    }
    text
}
