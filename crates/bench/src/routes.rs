//! What it costs to find who receives a topic, with few and with many subscriptions.

use std::{hint::black_box, time::Instant};

use moorfall_core::{
    Granted, SessionKey,
    router::{Router, Subscriber},
};
use moorfall_wire::{SubscriptionOptions, TopicFilter, TopicName};

use crate::report::{Spread, count, judged};

/// The cost with the most subscriptions to that with the fewest, at most.
const GOAL: f64 = 1.5;

const TOPICS: usize = 1_000;

pub(crate) fn run() {
    println!(
        "routes: finding the recipients of a topic, not cached; each topic has three, and a fifth of the filters have wildcards"
    );
    let mut figures = Vec::new();
    for subscriptions in [1_000, 100_000, 10_000_000] {
        let router = filled(subscriptions);
        // Spread over the whole index, so that the caches are as cold as they would be.
        let topics: Vec<TopicName> =
            (0..TOPICS).map(|number| topic(number * (subscriptions / TOPICS).max(1) % subscriptions)).collect();
        let rounds = (0..20).map(|_| {
            let began = Instant::now();
            for topic in &topics {
                let route = black_box(router.route(black_box(topic)));
                assert_eq!(route.recipients.len(), 3, "{topic:?}");
            }
            began.elapsed().as_nanos() as f64 / TOPICS as f64
        });
        let spread = Spread::of(rounds);
        println!("  {:>10} subscriptions  {spread} ns", count(subscriptions as f64));
        figures.push(spread.middle);
    }
    let ratio = figures.last().copied().unwrap_or(f64::NAN) / figures[0];
    println!(
        "  10,000,000 to 1,000: {ratio:.2}; wanted at most {GOAL}: {}\n",
        judged("routes", format!("{ratio:.2}"), format!("≤ {GOAL}"), ratio <= GOAL)
    );
}

fn topic(number: usize) -> TopicName {
    text(number).parse().expect("a topic")
}

fn text(number: usize) -> String {
    format!("harrowmere/reach-{}/station-{}/stage/level", number % 50, number)
}

/// One subscription for each station, of which a fifth have wildcards, and two that match all.
fn filled(subscriptions: usize) -> Router<()> {
    let router = Router::default();
    let granted = Granted { options: SubscriptionOptions::default(), identifier: None, condition: None };
    let one = |number: usize| {
        let filter = match number % 10 {
            3 => format!("harrowmere/+/station-{number}/stage/level"),
            7 => format!("harrowmere/reach-{}/station-{number}/#", number % 50),
            _ => text(number),
        };
        let filter: TopicFilter = filter.parse().expect("a filter");
        (SessionKey(number as u64 + 10), filter, Subscriber::new(granted.clone(), ()))
    };
    router.subscribe_all((0..subscriptions).map(one));
    router.subscribe(SessionKey(1), &"harrowmere/#".parse().expect("a filter"), Subscriber::new(granted.clone(), ()));
    router.subscribe(
        SessionKey(2),
        &"harrowmere/+/+/stage/+".parse().expect("a filter"),
        Subscriber::new(granted.clone(), ()),
    );
    router
}
