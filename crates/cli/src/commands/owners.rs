//! Topics that have one owner at a time, and who it is.

use moorfall_contract::owners::{ClaimantView, OwnedTopicList, OwnedTopicView, TopicOwnership};

use crate::{
    commands::journey::strong,
    local::Local,
    output::{self, Done, FAINT, STRONG, ago, count, indented, plural, printable, since, span},
};

/// Prints who owns the topics that a filter matches.
pub(super) async fn run(local: &Local, filter: &str, limit: u32, json: bool) -> Done {
    let limit = limit.to_string();
    let list: OwnedTopicList = local.get(&["topics", "owners"], &[("filter", filter), ("limit", &limit)]).await?;
    if json { output::json(&list) } else { output::finish(print(&list)) }
}

fn print(list: &OwnedTopicList) -> std::io::Result<()> {
    if list.topics.is_empty() {
        return output::line(if list.has_owned {
            "Nobody has published to an owned topic that matches."
        } else {
            "No topics have owners. Add [[owned]] to the blueprint; docs/STREAMS.md tells how."
        });
    }
    for topic in &list.topics {
        output::line(format_args!("{STRONG}{}{STRONG:#}", printable(&topic.topic)))?;
        for line in standing(topic) {
            output::line(indented(&printable(&line), 2))?;
        }
    }
    let shown = list.topics.len() as u64;
    if shown < list.total {
        let all = count(list.total);
        output::line(format_args!("{FAINT}{shown} of {all} shown; --limit N shows more{FAINT:#}"))?;
    }
    Ok(())
}

/// Who owns a topic, and who else publishes to it, line by line.
fn standing(topic: &OwnedTopicView) -> Vec<String> {
    let named = |one: &ClaimantView| {
        let identity =
            if one.identity == one.client_id { String::new() } else { format!(", identity {}", one.identity) };
        format!("{} ({}{identity})", one.client_id, strong(one.strength))
    };
    let heard = if topic.unheard {
        "not heard since the service started".to_owned()
    } else {
        format!("last message {}", ago(topic.owner.heard_at))
    };
    let mut lines = vec![format!("owned by {} for {}, {heard}", named(&topic.owner), since(topic.since))];
    lines
        .extend(topic.others.iter().map(|one| format!("withheld: {}, last message {}", named(one), ago(one.heard_at))));
    if topic.withheld > 0 {
        lines.push(format!("{} withheld", plural(topic.withheld, "message", "messages")));
    }
    lines
}

/// How a topic is owned, and by whom, line by line.
pub(super) fn ownership(owned: &TopicOwnership) -> Vec<String> {
    let strength = &owned.strength;
    let by = match (&strength.attribute, &strength.property, strength.least, strength.greatest) {
        (Some(attribute), ..) => format!("whoever has the greatest attribute {attribute} owns it"),
        (_, Some(property), Some(least), Some(greatest)) => {
            format!("whoever says the greatest {property} ({least} to {greatest}) owns it")
        }
        _ => String::new(),
    };
    let silent =
        owned.silent_after_seconds.map(|time| format!(", until silent for {}", span(time))).unwrap_or_default();
    let mut lines = vec![format!("{by}{silent}")];
    match &owned.now {
        None => lines.push("nobody publishes to it".into()),
        Some(now) => lines.extend(standing(now)),
    }
    lines
}
