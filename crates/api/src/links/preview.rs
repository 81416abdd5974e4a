//! What a bridge would do to topics.

use moorfall_broker::broker::Broker;
use moorfall_contract::bridges::{BridgePreview, BridgePreviewLine, BridgePreviewSide};
use moorfall_core::{
    blueprint::{Blueprint, Bridge},
    bridge::{Direction, Mapped},
};
use moorfall_live::topics::search as topic_search;
use moorfall_wire::{TopicFilter, TopicName};

/// Live topics that are looked at.
const LOOKED_AT: usize = 20_000;

/// Topics that are told of one direction: carried, and not.
const TOLD: (usize, usize) = (500, 100);

/// A bridge and its topics here and there; all live ones here if none is named.
pub(super) fn preview(
    broker: &Broker,
    blueprint: &Blueprint,
    bridge: &Bridge,
    (here, there): (Vec<TopicName>, Vec<TopicName>),
) -> BridgePreview {
    let here = if here.is_empty() { live(broker) } else { here };
    let there = if there.is_empty() { examples(bridge) } else { there };
    let warnings = blueprint.lint().into_iter().filter(|finding| is_about(blueprint, bridge, finding.line));
    BridgePreview {
        push: side(bridge, Direction::Push, here),
        pull: side(bridge, Direction::Pull, there),
        warnings: warnings.map(|finding| join(&finding.message, &finding.remedy)).collect(),
    }
}

fn join(message: &str, remedy: &str) -> String {
    if remedy.is_empty() { message.to_owned() } else { format!("{message}; {remedy}") }
}

/// Whether a line of the blueprint is one of this bridge.
fn is_about(blueprint: &Blueprint, bridge: &Bridge, line: usize) -> bool {
    let mappings = bridge.push.iter().chain(&bridge.pull).map(|mapping| &mapping.at);
    let mut places = std::iter::once(&bridge.at).chain(mappings);
    places.any(|at| blueprint.source.line_of(at) == line)
}

fn live(broker: &Broker) -> Vec<TopicName> {
    let Ok(everything) = "#".parse::<TopicFilter>() else { return Vec::new() };
    let found = topic_search::search(&broker.live.topics.walker(), &everything, LOOKED_AT);
    found.caught.into_iter().filter_map(|topic| topic.parse().ok()).collect()
}

/// What is there is not known, so each mapping gets a topic that it takes.
fn examples(bridge: &Bridge) -> Vec<TopicName> {
    bridge.pull.iter().filter_map(|mapping| mapping.names.topics().example().parse().ok()).collect()
}

fn side(bridge: &Bridge, direction: Direction, topics: Vec<TopicName>) -> BridgePreviewSide {
    let looked_at = topics.len() as u64;
    let (mut carried, mut left) = (Vec::new(), Vec::new());
    let mut count = 0;
    for topic in topics {
        let taken = bridge.taken(direction, &topic);
        let mapping = taken.as_ref().map(|(place, _)| *place as u64);
        let line = |becomes, why_not: &str| BridgePreviewLine {
            topic: topic.to_string(),
            becomes,
            mapping,
            why_not: why_not.to_owned(),
        };
        match taken {
            Some((_, Mapped::To(to))) => {
                count += 1;
                if carried.len() < TOLD.0 {
                    carried.push(line(Some(to.to_string()), ""));
                }
            }
            Some(_) if left.len() < TOLD.1 => left.push(line(None, "nothing is left of its name")),
            None if left.len() < TOLD.1 => left.push(line(None, "no mapping takes it")),
            _ => {}
        }
    }
    carried.extend(left);
    BridgePreviewSide { direction: direction.into(), topics: carried, looked_at, carried: count }
}
