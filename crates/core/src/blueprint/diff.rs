//! What changes from one blueprint to another, in the design's own terms.

use std::{collections::BTreeMap, time::Duration};

use humantime::format_duration;

use serde::{Deserialize, Serialize};

use super::{
    Alert, Blueprint, Bridge, BridgeMapping, Cohort, Contact, Derived, DerivedSource, OnlyWhere, Owned, PlannedLevel,
    PlannedTopic, Proof, Rule, Verdict,
};
use crate::{Values, shown::span};

/// What happens to a part of the design.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// It is new.
    Added,
    /// It is otherwise than before.
    Changed,
    /// It is gone.
    Removed,
}

/// A change of one field.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct FieldChange {
    /// Which field.
    pub field: String,
    /// What it said; empty if it was not there.
    pub before: String,
    /// What it says; empty if it is not there any more.
    pub after: String,
    /// Of a list that was there before and after: what is in it now, and was not.
    pub added: Vec<String>,
    /// Of a list that was there before and after: what was in it, and is not now.
    pub removed: Vec<String>,
}

/// What a field says.
#[derive(Clone, PartialEq)]
enum Content {
    Text(String),
    List(Vec<String>),
}

impl Content {
    fn list(items: impl IntoIterator<Item = impl ToString>) -> Self {
        Self::List(items.into_iter().map(|item| item.to_string()).collect())
    }

    fn text(&self) -> String {
        match self {
            Self::Text(text) => text.clone(),
            Self::List(items) => items.join(", "),
        }
    }
}

impl From<String> for Content {
    fn from(text: String) -> Self {
        Self::Text(text)
    }
}

/// A change of one part of the design.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Change {
    /// What happens to it.
    pub kind: Kind,
    /// What it is: level, topic, cohort, rule, condition, proof, contact, alert, bridge, derived topic or owned path.
    pub part: String,
    /// Its name.
    pub name: String,
    /// The fields that differ.
    pub fields: Vec<FieldChange>,
}

type Fields = Vec<(&'static str, Content)>;

/// Parts of a blueprint by name: their places, and what they say.
type Parts = BTreeMap<String, (usize, Fields)>;

/// Finds parts of one kind.
type ListParts = fn(&Blueprint) -> Parts;

/// The changes from `old` to `new`, in the order of the parts.
pub fn diff(old: &Blueprint, new: &Blueprint) -> Vec<Change> {
    let mut changes = Vec::new();
    let head = |blueprint: &Blueprint| {
        let fields = vec![("name", blueprint.name.clone().into()), ("purpose", blueprint.purpose.clone().into())];
        BTreeMap::from([(String::new(), (0, fields))])
    };
    compare("blueprint", head(old), head(new), &mut changes);
    let parts: [(&str, ListParts); 11] = [
        ("level", |blueprint| named(blueprint.levels.iter().map(|(name, level)| (name, level_fields(level))))),
        ("topic", |blueprint| named(blueprint.topics.iter().map(|topic| (&topic.path, topic_fields(topic))))),
        ("cohort", |blueprint| named(blueprint.cohorts.iter().map(|(name, cohort)| (name, cohort_fields(cohort))))),
        ("rule", |blueprint| named(blueprint.rules.iter().map(|rule| (&rule.name, rule_fields(rule))))),
        ("condition", |blueprint| named(blueprint.conditions.iter().map(|one| (&one.name, condition_fields(one))))),
        ("proof", |blueprint| named(blueprint.proofs.iter().map(|proof| (&proof.name, proof_fields(proof))))),
        ("contact", |blueprint| named(blueprint.contacts.iter().map(|(name, one)| (name, contact_fields(one))))),
        ("alert", |blueprint| named(blueprint.alerts.iter().map(|alert| (&alert.name, alert_fields(alert))))),
        ("bridge", |blueprint| named(blueprint.bridges.iter().map(|bridge| (&bridge.name, bridge_fields(bridge))))),
        ("derived", |blueprint| named(blueprint.derived.iter().map(|one| (&one.name, derived_fields(one))))),
        ("owned", |blueprint| named(blueprint.owned.iter().map(|one| (&one.path, owned_fields(one))))),
    ];
    for (part, list) in parts {
        compare(part, list(old), list(new), &mut changes);
    }
    changes
}

fn named<'a>(entries: impl Iterator<Item = (&'a String, Fields)>) -> Parts {
    entries.enumerate().map(|(place, (name, fields))| (name.clone(), (place, fields))).collect()
}

fn compare(part: &str, mut old: Parts, new: Parts, changes: &mut Vec<Change>) {
    let mut new: Vec<_> = new.into_iter().collect();
    new.sort_by_key(|(_, (place, _))| *place);
    for (name, (_, after)) in new {
        let before = old.remove(&name);
        let kind = if before.is_some() { Kind::Changed } else { Kind::Added };
        let fields = field_changes(before.map_or_else(Vec::new, |(_, fields)| fields), after);
        if !fields.is_empty() || kind == Kind::Added {
            changes.push(Change { kind, part: part.into(), name, fields });
        }
    }
    for (name, (_, before)) in old {
        let fields = field_changes(before, Vec::new());
        changes.push(Change { kind: Kind::Removed, part: part.into(), name, fields });
    }
}

fn field_changes(before: Fields, after: Fields) -> Vec<FieldChange> {
    let find = |fields: &Fields, name: &str| {
        fields.iter().find(|(field, _)| *field == name).map(|(_, content)| content.clone())
    };
    let mut names: Vec<&str> = before.iter().chain(&after).map(|(name, _)| *name).collect();
    names.dedup();
    let mut seen: Vec<FieldChange> = Vec::new();
    for name in names {
        if seen.iter().any(|change| change.field == name) {
            continue;
        }
        let (before, after) = (find(&before, name), find(&after, name));
        let (mut added, mut removed) = (Vec::new(), Vec::new());
        if let (Some(Content::List(before)), Some(Content::List(after))) = (&before, &after) {
            added.extend(after.iter().filter(|item| !before.contains(item)).cloned());
            removed.extend(before.iter().filter(|item| !after.contains(item)).cloned());
        }
        let text = |content: Option<Content>| content.map_or_else(String::new, |content| content.text());
        let (before, after) = (text(before), text(after));
        if before != after {
            seen.push(FieldChange { field: name.into(), before, after, added, removed });
        }
    }
    seen
}

fn joined(values: impl IntoIterator<Item = impl ToString>) -> String {
    values.into_iter().map(|value| value.to_string()).collect::<Vec<_>>().join(", ")
}

fn level_fields(planned: &PlannedLevel) -> Fields {
    let values = match &planned.level.values {
        Values::Free => "anything".to_owned().into(),
        Values::OneOf(values) => Content::list(values),
        Values::Pattern(pattern) => {
            let text = pattern.as_str();
            let text = text.strip_prefix("^(?:").and_then(|text| text.strip_suffix(")$")).unwrap_or(text);
            format!("pattern {text}").into()
        }
    };
    vec![("values", values), ("purpose", planned.purpose.clone().into())]
}

fn topic_fields(topic: &PlannedTopic) -> Fields {
    let schema = match &topic.payload {
        super::Payload::Json(Some(schema)) => schema.document().to_string(),
        _ => String::new(),
    };
    vec![
        ("payload", topic.payload.to_string().into()),
        ("schema", schema.into()),
        ("qos", topic.qos.map(|qos| qos.to_string()).unwrap_or_default().into()),
        ("retained", format!("{:?}", topic.retained).to_lowercase().into()),
        ("cadence", topic.cadence.map(|cadence| span(cadence.as_secs())).unwrap_or_default().into()),
        ("on-breach", format!("{:?}", topic.on_breach).to_lowercase().into()),
        ("purpose", topic.purpose.clone().into()),
    ]
}

fn cohort_fields(cohort: &Cohort) -> Fields {
    let limits = cohort.quota.named().map(|(name, value)| format!("{name} = {value}"));
    vec![
        ("where", cohort.expression.to_string().into()),
        ("limits", Content::list(limits)),
        ("purpose", cohort.purpose.clone().into()),
    ]
}

fn rule_fields(rule: &Rule) -> Fields {
    let acts = match rule.verdict {
        Verdict::Allow => "may",
        Verdict::Deny => "never",
    };
    vec![
        ("who", rule.who.to_string().into()),
        (acts, Content::list(&rule.acts)),
        ("topics", Content::list(&rule.topics)),
        ("highest-qos", rule.limits.highest_qos.map(|qos| qos.to_string()).unwrap_or_default().into()),
        ("retained", rule.limits.retained.map(|retained| retained.to_string()).unwrap_or_default().into()),
        ("rate", rule.limits.rate.map(|rate| rate.to_string()).unwrap_or_default().into()),
        ("purpose", rule.purpose.clone().into()),
    ]
}

fn condition_fields(condition: &OnlyWhere) -> Fields {
    vec![
        ("who", condition.who.to_string().into()),
        ("topics", Content::list(&condition.topics)),
        ("where", condition.condition.to_string().into()),
        ("purpose", condition.purpose.clone().into()),
    ]
}

fn proof_fields(proof: &Proof) -> Fields {
    let attributes = proof.attributes.iter().flatten().map(|(name, value)| format!("{name} = {value}"));
    vec![
        ("statement", proof.statement().into()),
        ("attributes", joined(attributes).into()),
        ("purpose", proof.purpose.clone().into()),
    ]
}

fn contact_fields(contact: &Contact) -> Fields {
    vec![
        ("mail", Content::list(&contact.mail)),
        ("hook", contact.hook.clone().unwrap_or_default().into()),
        ("topic", contact.topic.as_ref().map(ToString::to_string).unwrap_or_default().into()),
        ("purpose", contact.purpose.clone().into()),
    ]
}

fn alert_fields(alert: &Alert) -> Fields {
    let seconds = |time: Duration| if time.is_zero() { String::new() } else { format_duration(time).to_string() };
    vec![
        ("watches", alert.watched.to_string().into()),
        ("band", alert.band_in_words().into()),
        ("out-for", seconds(alert.terms.out_for).into()),
        ("back-for", seconds(alert.terms.back_for).into()),
        ("severity", alert.severity.to_string().into()),
        ("text", alert.text.clone().into()),
        ("tell", Content::list(&alert.tell)),
        ("purpose", alert.purpose.clone().into()),
    ]
}

fn bridge_fields(bridge: &Bridge) -> Fields {
    let time = |time: Duration| format_duration(time).to_string();
    let seconds = |seconds: u64| time(Duration::from_secs(seconds));
    let file = |file: &Option<String>| Content::Text(file.clone().unwrap_or_default());
    let waiting = &bridge.waiting;
    vec![
        ("remotes", Content::list(&bridge.remotes)),
        ("protocol", bridge.version.to_string().into()),
        ("client-id", bridge.client_id.clone().into()),
        ("keep-alive", seconds(bridge.keep_alive.into()).into()),
        ("clean-start", bridge.clean_start.to_string().into()),
        ("session-expiry", seconds(bridge.session_expiry.into()).into()),
        ("fail-back", time(bridge.fail_back).into()),
        ("secret-file", file(&bridge.files.secret)),
        ("authority-file", file(&bridge.files.authority)),
        ("certificate-file", file(&bridge.files.certificate)),
        ("key-file", file(&bridge.files.key)),
        ("status-there", bridge.status_there.as_ref().map(ToString::to_string).unwrap_or_default().into()),
        ("waiting.messages", waiting.messages.to_string().into()),
        ("waiting.bytes", waiting.bytes.to_string().into()),
        ("waiting.age", waiting.age.map(time).unwrap_or_default().into()),
        ("waiting.full", waiting.full.to_string().into()),
        ("waiting.live", waiting.live.to_string().into()),
        ("retained-rate", format!("{}/s", bridge.retained_rate).into()),
        ("push", Content::list(bridge.push.iter().map(mapping_in_words))),
        ("pull", Content::list(bridge.pull.iter().map(mapping_in_words))),
        ("purpose", bridge.purpose.clone().into()),
    ]
}

impl Bridge {
    /// Whether another one says the same, wherever it stands.
    pub fn says_the_same(&self, other: &Self) -> bool {
        self.name == other.name && bridge_fields(self) == bridge_fields(other)
    }
}

fn derived_fields(derived: &Derived) -> Fields {
    let time = |time: Option<Duration>| time.map(|time| format_duration(time).to_string()).unwrap_or_default();
    let (factor, offset) = derived.scale;
    let source = |source: &DerivedSource| match source.name.as_str() {
        "" => source.names.written_filter().to_owned(),
        name => format!("{name}: {}", source.names.written_filter()),
    };
    vec![
        ("from", Content::list(derived.sources.iter().map(source))),
        ("to", derived.to.clone().into()),
        ("where", derived.condition.as_ref().map(ToString::to_string).unwrap_or_default().into()),
        ("value", derived.value.to_string().into()),
        ("factor", factor.to_string().into()),
        ("offset", offset.to_string().into()),
        ("decimals", derived.decimals.map(|decimals| decimals.to_string()).unwrap_or_default().into()),
        ("statistic", derived.window.map(|window| window.statistic.to_string()).unwrap_or_default().into()),
        ("window", time(derived.window.map(|window| window.span)).into()),
        ("on-change", derived.on_change.to_string().into()),
        ("dead-band", derived.dead_band.map(|band| band.to_string()).unwrap_or_default().into()),
        ("at-most-every", time(derived.at_most_every).into()),
        ("cadence", time(derived.cadence).into()),
        ("payload", derived.form.to_string().into()),
        ("qos", derived.qos.to_string().into()),
        ("retained", derived.retained.to_string().into()),
        ("purpose", derived.purpose.clone().into()),
    ]
}

fn owned_fields(owned: &Owned) -> Fields {
    let silent = owned.silent_after.map(|time| format_duration(time).to_string()).unwrap_or_default();
    vec![
        ("strength", owned.strength.to_string().into()),
        ("silent-after", silent.into()),
        ("purpose", owned.purpose.clone().into()),
    ]
}

impl Derived {
    /// Everything that its values depend on, as one text: what is known of earlier values holds as long as it is the same.
    pub fn says(&self) -> String {
        let fields = derived_fields(self);
        let told = fields.iter().filter(|(name, _)| *name != "purpose");
        told.map(|(name, content)| format!("{name} = {}\n", content.text())).collect()
    }
}

fn mapping_in_words(mapping: &BridgeMapping) -> String {
    let mut words = mapping.names.to_string();
    if mapping.highest_qos.level() < 2 {
        words += &format!(", QoS {} at most", mapping.highest_qos);
    }
    if !mapping.retained {
        words += ", nothing retained";
    } else if !mapping.clearing {
        words += ", not cleared";
    }
    if let Some(condition) = &mapping.condition {
        words += &format!(", where {condition}");
    }
    if let Some(rate) = mapping.rate {
        words += &format!(", {rate} at most");
    }
    if !mapping.purpose.is_empty() {
        words += &format!(" ({})", mapping.purpose);
    }
    words
}
