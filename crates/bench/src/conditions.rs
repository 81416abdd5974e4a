//! What it costs to judge the condition of a subscription for a message that nobody has looked into yet.

use std::{hint::black_box, sync::Arc, time::Instant};

use moorfall_core::{Condition, Judged, Judging};

use crate::report::{Spread, judged};

/// Nanoseconds for a simple form and for any other, at most.
const GOALS: (f64, f64) = (100.0, 2_000.0);

const MESSAGES: u32 = 20_000;

const LEVEL: &[u8] = br#"{"m":1.83,"at":"2031-03-02T08:29:00Z","quality":"good"}"#;
const BEFORE: &[u8] = br#"{"m":1.82,"at":"2031-03-02T08:28:00Z","quality":"good"}"#;
const FLOAT: &[u8] = br#"{"lat":54.2014,"lon":-2.1032,"speed":0.8,"battery":83}"#;

/// What each is, the condition, and the message.
const SIMPLE: [(&str, &str, &[u8]); 4] = [
    ("a band", "payload.m >= 1.5 && payload.m < 2.5", LEVEL),
    ("a state", "payload.quality == 'good'", LEVEL),
    ("a box", "payload.lat > 54.1 && payload.lat < 54.3 && payload.lon > -2.2 && payload.lon < -2.0", FLOAT),
    ("a change", "before == null || payload.m != before.m", LEVEL),
];

const OTHERS: [(&str, &str, &[u8]); 3] = [
    ("a jump", "payload.m - before.m > 0.005 || before.m - payload.m > 0.005", LEVEL),
    ("a beginning", "payload.quality.startsWith('go') && levels[1] == 'gorge'", LEVEL),
    ("a field that may lack", "!has(payload.flow) || payload.flow > 1.0", LEVEL),
];

pub(crate) fn run() {
    println!("conditions: judging one for a message of about 55 B of JSON, ns");
    for (name, forms, goal) in [("conditions: simple", &SIMPLE[..], GOALS.0), ("conditions: others", &OTHERS, GOALS.1)]
    {
        let mut most = 0.0_f64;
        for (what, text, payload) in forms {
            let condition = Condition::shared(text).expect("a condition");
            assert_eq!(condition.is_simple(), goal == GOALS.0, "{text}");
            let spread = Spread::of((0..20).map(|_| round(&condition, payload)));
            println!("  {what:<22} {spread}");
            most = most.max(spread.middle);
        }
        let word = judged(name, format!("{most:.0} ns"), format!("≤ {goal} ns"), most <= goal);
        println!("  the dearest of these {most:.0}; wanted at most {goal}: {word}");
    }
    println!();
}

fn round(condition: &Arc<Condition>, payload: &[u8]) -> f64 {
    let began = Instant::now();
    for _ in 0..MESSAGES {
        let topic = black_box("harrowmere/gorge/kettle-weir/stage/level");
        let mut judging = Judging::new(topic, black_box(payload), (0, false), Some(black_box(BEFORE)));
        assert_eq!(judging.judge(condition), Judged::True, "{condition}");
    }
    began.elapsed().as_nanos() as f64 / f64::from(MESSAGES)
}
