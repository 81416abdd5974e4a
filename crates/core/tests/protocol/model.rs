//! Random clients against a plain model: everything that was acknowledged arrives, in order, and QoS 2 once.

use std::{collections::HashMap, time::Duration};

use moorfall_wire::*;
use proptest::prelude::*;

use crate::{
    handshakes::keeping,
    world::{World, messages, publish},
};

/// What a client may do next.
#[derive(Clone, Debug)]
enum Step {
    /// A publisher sends the next number on a topic.
    Publish { publisher: usize, topic: usize, qos: QoS },
    /// A subscriber's connection breaks, whatever it has and has not read.
    Break { subscriber: usize },
    /// It comes back with what it had kept.
    Return { subscriber: usize },
    /// It reads nothing, or reads again.
    Mute { subscriber: usize, on: bool },
    /// A publisher's connection breaks, and it comes back with what it had kept.
    Republish { publisher: usize },
    /// What is to be kept waits, or is safe.
    Commits { held: bool },
    /// Time passes.
    Wait,
}

const TOPICS: [&str; 3] = ["harrowmere/gorge/a", "harrowmere/gorge/b", "harrowmere/tidal/a"];
/// The filter of each subscriber, its QoS, and which topics match.
const SUBSCRIBERS: [(&str, QoS, [bool; 3]); 3] = [
    ("harrowmere/#", QoS::ExactlyOnce, [true, true, true]),
    ("harrowmere/gorge/+", QoS::AtLeastOnce, [true, true, false]),
    ("+/+/a", QoS::ExactlyOnce, [true, false, true]),
];
const PUBLISHERS: usize = 2;

fn step() -> impl Strategy<Value = Step> {
    let qos = prop::sample::select(vec![QoS::AtLeastOnce, QoS::ExactlyOnce]);
    let subscriber = 0..SUBSCRIBERS.len();
    prop_oneof![
        8 => (0..PUBLISHERS, 0..TOPICS.len(), qos)
            .prop_map(|(publisher, topic, qos)| Step::Publish { publisher, topic, qos }),
        1 => subscriber.clone().prop_map(|subscriber| Step::Break { subscriber }),
        2 => subscriber.clone().prop_map(|subscriber| Step::Return { subscriber }),
        1 => (subscriber, any::<bool>()).prop_map(|(subscriber, on)| Step::Mute { subscriber, on }),
        1 => (0..PUBLISHERS).prop_map(|publisher| Step::Republish { publisher }),
        1 => any::<bool>().prop_map(|held| Step::Commits { held }),
        1 => Just(Step::Wait),
    ]
}

struct Subscriber {
    peer: usize,
    connected: bool,
    /// (publisher, topic, QoS of delivery) → numbers, as they came.
    seen: HashMap<(usize, usize, QoS), Vec<u32>>,
}

/// A message that was sent: by whom, on which topic, at which QoS, with which number.
type Sent = (usize, usize, QoS, u32);

fn play(steps: &[Step], version: ProtocolVersion) -> (Vec<Subscriber>, Vec<Sent>) {
    let mut world = World::default();
    let mut subscribers: Vec<_> = SUBSCRIBERS
        .iter()
        .enumerate()
        .map(|(number, (filter, qos, _))| {
            let peer = world.open(keeping(&format!("subscriber-{number}"), version));
            world.subscribe(peer, filter, *qos);
            Subscriber { peer, connected: true, seen: HashMap::new() }
        })
        .collect();
    let mut publishers: Vec<_> =
        (0..PUBLISHERS).map(|number| world.open(keeping(&format!("publisher-{number}"), version))).collect();
    let mut sent = Vec::new();
    for step in steps {
        apply(&mut world, step, version, &mut subscribers, &mut publishers, &mut sent);
        for subscriber in &mut subscribers {
            collect(&mut world, subscriber);
        }
    }
    world.commit();
    for (number, subscriber) in subscribers.iter_mut().enumerate() {
        world.unmute(subscriber.peer);
        come_back(&mut world, subscriber, number, version);
        collect(&mut world, subscriber);
        assert_eq!(world.in_flight(subscriber.peer), 0, "every handshake ended");
    }
    (subscribers, sent)
}

fn apply(
    world: &mut World,
    step: &Step,
    version: ProtocolVersion,
    subscribers: &mut [Subscriber],
    publishers: &mut [usize],
    sent: &mut Vec<Sent>,
) {
    match *step {
        Step::Publish { publisher, topic, qos } => {
            let number = sent.len() as u32;
            let payload = format!("{publisher} {number}");
            world.publish(publishers[publisher], publish(TOPICS[topic], payload.as_bytes(), qos));
            sent.push((publisher, topic, qos, number));
        }
        Step::Break { subscriber } => {
            let subscriber = &mut subscribers[subscriber];
            if subscriber.connected {
                world.break_connection(subscriber.peer);
                collect(world, subscriber);
                subscriber.connected = false;
            }
        }
        Step::Return { subscriber } => come_back(world, &mut subscribers[subscriber], subscriber, version),
        Step::Mute { subscriber, on: true } if subscribers[subscriber].connected => {
            world.mute(subscribers[subscriber].peer);
        }
        Step::Mute { subscriber, .. } if subscribers[subscriber].connected => {
            world.unmute(subscribers[subscriber].peer);
        }
        Step::Mute { .. } => {}
        Step::Republish { publisher } => {
            world.break_connection(publishers[publisher]);
            let state = world.client_state(publishers[publisher]);
            publishers[publisher] = world.resume(keeping(&format!("publisher-{publisher}"), version), state);
        }
        Step::Commits { held: true } => world.hold_commits(),
        Step::Commits { held: false } => world.commit(),
        Step::Wait => world.advance(Duration::from_secs(1)),
    }
}

fn come_back(world: &mut World, subscriber: &mut Subscriber, number: usize, version: ProtocolVersion) {
    if !subscriber.connected {
        let state = world.client_state(subscriber.peer);
        subscriber.peer = world.resume(keeping(&format!("subscriber-{number}"), version), state);
        subscriber.connected = true;
    }
}

fn collect(world: &mut World, subscriber: &mut Subscriber) {
    for message in messages(&world.events(subscriber.peer)) {
        let text = String::from_utf8(message.payload.to_vec()).unwrap();
        let (publisher, number) = text.split_once(' ').unwrap();
        let topic = TOPICS.iter().position(|topic| **topic == *message.topic).unwrap();
        let key = (publisher.parse().unwrap(), topic, message.qos);
        subscriber.seen.entry(key).or_default().push(number.parse().unwrap());
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn everything_arrives_in_order_and_qos_2_once(
        steps in prop::collection::vec(step(), 0..60),
        version in prop::sample::select(vec![ProtocolVersion::V311, ProtocolVersion::V5]),
    ) {
        let (subscribers, sent) = play(&steps, version);
        for (subscriber, (_, granted, matching)) in subscribers.iter().zip(SUBSCRIBERS) {
            for key @ (publisher, topic, qos) in (0..PUBLISHERS)
                .flat_map(|publisher| (0..TOPICS.len()).map(move |topic| (publisher, topic)))
                .flat_map(|(publisher, topic)| {
                    [QoS::AtLeastOnce, QoS::ExactlyOnce].map(|qos| (publisher, topic, qos))
                })
            {
                let expected: Vec<u32> = sent
                    .iter()
                    .filter(|(by, on, at, _)| {
                        matching[topic] && *by == publisher && *on == topic && (*at).min(granted) == qos
                    })
                    .map(|(.., number)| *number)
                    .collect();
                let seen = subscriber.seen.get(&key).cloned().unwrap_or_default();
                if qos == QoS::ExactlyOnce {
                    prop_assert_eq!(&seen, &expected, "exactly once, in order: {:?}", key);
                } else {
                    let mut once = Vec::new();
                    for number in seen {
                        if !once.contains(&number) {
                            once.push(number);
                        }
                    }
                    prop_assert_eq!(&once, &expected, "at least once, first copies in order: {:?}", key);
                }
            }
        }
    }
}
