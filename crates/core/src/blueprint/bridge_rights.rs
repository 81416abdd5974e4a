//! What a bridge takes and its identity may not have.

use std::sync::Arc;

use super::{Act, Bridge, BridgeMapping, Finding, Severity};
use crate::{
    TopicSet,
    access::{Access, Policy},
    bridge::Direction,
};

/// Warnings about topics that bridges take and may not have by the rules: none of them is pushed or pulled.
pub fn bridge_rights(policy: &Arc<Policy>) -> Vec<Finding> {
    let blueprint = policy.blueprint();
    let mut findings = Vec::new();
    for bridge in &blueprint.bridges {
        let Ok(access) = policy.bind_any(&bridge.identity(), None) else { continue };
        for direction in [Direction::Push, Direction::Pull] {
            for mapping in bridge.mappings(direction) {
                if let Some((topic, rule)) = not_allowed(&access, direction, mapping) {
                    findings.push(finding(policy, bridge, (direction, mapping), &topic, rule.as_deref()));
                }
            }
        }
    }
    findings
}

/// A topic of a mapping that the bridge may not have, and the rule that denies it, if one does.
fn not_allowed(access: &Access, direction: Direction, mapping: &BridgeMapping) -> Option<(String, Option<Arc<str>>)> {
    let (act, topics): (_, TopicSet) = match direction {
        Direction::Push => (Act::Subscribe, mapping.names.topics()),
        Direction::Pull => (Act::Publish, mapping.names.image()),
    };
    let sets = access.sets(act, mapping.highest_qos, mapping.retained, false);
    if let Some(topic) = topics.outside(sets.allowing.iter().map(|(_, set)| set)) {
        return Some((topic, None));
    }
    let denied = |(rule, set): &(Arc<str>, TopicSet)| Some((set.intersect(&topics)?.example(), Some(Arc::clone(rule))));
    sets.denying.iter().find_map(denied)
}

fn finding(
    policy: &Policy,
    bridge: &Bridge,
    (direction, mapping): (Direction, &BridgeMapping),
    topic: &str,
    rule: Option<&str>,
) -> Finding {
    let name = bridge.identity().name;
    let act = match direction {
        Direction::Push => Act::Subscribe,
        Direction::Pull => Act::Publish,
    };
    let retained = if direction == Direction::Pull && mapping.retained { " retained" } else { "" };
    let qos = if direction == Direction::Pull { format!(" at QoS {}", mapping.highest_qos) } else { String::new() };
    let (message, remedy) = match rule {
        Some(rule) => {
            (format!("rule `{rule}` denies that {name} may {act} to {topic}"), "change it, or narrow the filter")
        }
        None => (
            format!("no rule allows {name} to {act}{retained}{qos} to {topic}, so it is not {}", direction.done()),
            "add a rule for its identity, or narrow the filter",
        ),
    };
    policy.blueprint().source.finding(Severity::Warning, &mapping.at, message, remedy)
}
