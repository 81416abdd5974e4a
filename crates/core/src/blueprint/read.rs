//! A blueprint from its text.

use std::{
    collections::{BTreeMap, BTreeSet, HashMap},
    sync::Arc,
};

use moorfall_wire::{QoS, TopicName};
use regex::RegexBuilder;
use serde::Deserialize;
use toml::Spanned;

use super::{
    Act, Blueprint, Cohort, Finding, OnBreach, PathLevel, Payload, PlannedLevel, PlannedTopic, Proof, Retention, Rule,
    RuleLimits, Schema, Severity, Source, Span, TopicPattern, Verdict, Who,
};
use super::{
    read_alerts::{AlertEntry, ContactEntry},
    read_bridges::BridgeEntry,
    read_conditions::ConditionEntry,
    read_derived::DerivedEntry,
    read_owned::OwnedEntry,
    reader::{Reader, rate},
};
use crate::{AttributeValue, CohortQuota, Level, Values, expression::Expression};

/// The largest compiled pattern of a level, bytes.
const PATTERN_SIZE: usize = 256 * 1024;

#[derive(Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    name: Option<Spanned<String>>,
    purpose: Option<String>,
    #[serde(default)]
    levels: BTreeMap<Spanned<String>, LevelEntry>,
    #[serde(default)]
    topics: Vec<Spanned<TopicEntry>>,
    #[serde(default)]
    cohorts: BTreeMap<Spanned<String>, CohortEntry>,
    #[serde(default)]
    rules: Vec<RuleEntry>,
    #[serde(default)]
    proofs: Vec<ProofEntry>,
    #[serde(default)]
    contacts: BTreeMap<Spanned<String>, ContactEntry>,
    #[serde(default)]
    alerts: Vec<AlertEntry>,
    #[serde(default)]
    bridges: Vec<BridgeEntry>,
    #[serde(default)]
    derived: Vec<DerivedEntry>,
    #[serde(default)]
    conditions: Vec<ConditionEntry>,
    #[serde(default)]
    owned: Vec<OwnedEntry>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct LevelEntry {
    #[serde(default)]
    purpose: String,
    one_of: Option<Spanned<Vec<String>>>,
    pattern: Option<Spanned<String>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct TopicEntry {
    path: Spanned<String>,
    #[serde(default)]
    purpose: String,
    payload: Option<Spanned<String>>,
    schema: Option<Spanned<serde_json::Value>>,
    qos: Option<Spanned<u8>>,
    #[serde(default)]
    retained: Retention,
    cadence: Option<Spanned<String>>,
    #[serde(default)]
    on_breach: OnBreach,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct CohortEntry {
    #[serde(default)]
    purpose: String,
    r#where: Spanned<String>,
    #[serde(default)]
    limits: CohortQuota,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct RuleEntry {
    name: Spanned<String>,
    #[serde(default)]
    purpose: String,
    /// A key of earlier versions.
    effect: Option<Spanned<toml::Value>>,
    who: Spanned<toml::Value>,
    may: Option<Spanned<BTreeSet<Act>>>,
    never: Option<Spanned<BTreeSet<Act>>>,
    topics: Spanned<Vec<Spanned<String>>>,
    highest_qos: Option<Spanned<u8>>,
    retained: Option<Spanned<bool>>,
    rate: Option<Spanned<String>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct ProofEntry {
    name: Spanned<String>,
    #[serde(default)]
    purpose: String,
    who: Spanned<toml::Value>,
    can: Option<Spanned<Act>>,
    cannot: Option<Spanned<Act>>,
    topics: Spanned<Vec<Spanned<String>>>,
    qos: Option<Spanned<u8>>,
    retained: Option<Spanned<bool>>,
}

/// Reads all files, and gathers what is wrong.
pub(super) fn read(source: Source) -> Result<Blueprint, Vec<Finding>> {
    let mut reader = Reader { source, file: 0, findings: Vec::new(), levels: BTreeMap::new() };
    let mut files = Vec::new();
    for (index, file) in reader.source.files().iter().enumerate() {
        match toml::from_str::<File>(&file.text) {
            Ok(parsed) => files.push((index, parsed)),
            Err(error) => {
                let span = Span { file: index, bytes: error.span().unwrap_or(0..0) };
                let message = error.message().lines().next().unwrap_or_default().to_owned();
                reader.findings.push(reader.source.finding(Severity::Error, &span, message, ""));
            }
        }
    }
    if !reader.findings.is_empty() {
        return Err(reader.findings);
    }
    let mut blueprint = Blueprint::default();
    reader.heads(&mut blueprint, &mut files);
    for (index, file) in &mut files {
        reader.file = *index;
        reader.levels_and_cohorts(&mut blueprint, file);
        reader.contacts(&mut blueprint, std::mem::take(&mut file.contacts));
    }
    for (index, file) in files {
        reader.file = index;
        reader.topics(&mut blueprint, file.topics);
        reader.rules(&mut blueprint, file.rules);
        reader.proofs(&mut blueprint, file.proofs);
        reader.alerts(&mut blueprint, file.alerts);
        reader.bridges(&mut blueprint, file.bridges);
        reader.derived(&mut blueprint, file.derived);
        reader.conditions(&mut blueprint, file.conditions);
        reader.owned(&mut blueprint, file.owned);
    }
    reader.no_derived_cycle(&blueprint);
    reader.twice(&blueprint);
    if reader.findings.is_empty() {
        blueprint.source = reader.source;
        Ok(blueprint)
    } else {
        Err(reader.findings)
    }
}

impl Reader {
    fn heads(&mut self, blueprint: &mut Blueprint, files: &mut [(usize, File)]) {
        let mut named = false;
        for (index, file) in files {
            self.file = *index;
            if let Some(name) = file.name.take() {
                if std::mem::replace(&mut named, true) {
                    let span = self.span(name.span());
                    self.wrong(&span, "the blueprint already has a name", "remove one of them");
                }
                blueprint.name = name.into_inner();
            }
            if let Some(purpose) = file.purpose.take() {
                blueprint.purpose = purpose;
            }
        }
        if !named {
            self.file = 0;
            let span = self.span(0..0);
            self.wrong(&span, "the blueprint has no name", "write name = \"…\" at the top");
        }
    }

    fn levels_and_cohorts(&mut self, blueprint: &mut Blueprint, file: &mut File) {
        for (name, entry) in std::mem::take(&mut file.levels) {
            let at = self.span(name.span());
            let name = name.into_inner();
            if name.is_empty() || name.contains(['{', '}', '/', '.']) || matches!(&*name, "identity" | "client_id") {
                self.wrong(&at, format!("`{name}` is not a valid name for a level"), "use letters and hyphens");
                continue;
            }
            if blueprint.levels.contains_key(&name) {
                self.wrong(&at, format!("the level `{name}` is defined twice"), "use different names");
                continue;
            }
            let Some(values) = self.values(&at, entry.one_of, entry.pattern) else { continue };
            let level = Arc::new(Level { name: name.clone(), values });
            self.levels.insert(name.clone(), Arc::clone(&level));
            blueprint.levels.insert(name, PlannedLevel { at, purpose: entry.purpose, level });
        }
        for (name, entry) in std::mem::take(&mut file.cohorts) {
            let at = self.span(name.span());
            let name = name.into_inner();
            if blueprint.cohorts.contains_key(&name) {
                self.wrong(&at, format!("the cohort `{name}` is defined twice"), "use different names");
                continue;
            }
            match Expression::parse(entry.r#where.get_ref()) {
                Ok(expression) => {
                    let (purpose, quota) = (entry.purpose, entry.limits);
                    blueprint.cohorts.insert(name, Cohort { at, purpose, expression, quota });
                }
                Err(error) => {
                    let span = self.inside(entry.r#where.span(), error.at);
                    self.wrong(&span, error.message, "");
                }
            }
        }
    }

    fn values(
        &mut self,
        at: &Span,
        one_of: Option<Spanned<Vec<String>>>,
        pattern: Option<Spanned<String>>,
    ) -> Option<Values> {
        match (one_of, pattern) {
            (Some(_), Some(_)) => {
                self.wrong(at, "a level can't have both `one-of` and `pattern`", "remove one of them");
                None
            }
            (None, None) => Some(Values::Free),
            (Some(values), None) => {
                let span = self.span(values.span());
                let values = values.into_inner();
                if values.is_empty() {
                    self.wrong(&span, "`one-of` is empty", "add at least one value, or remove `one-of` to allow any");
                    return None;
                }
                if let Some(bad) = values.iter().find(|value| value.contains(['/', '+', '#', '\0'])) {
                    self.wrong(&span, format!("`{bad}` is not a valid topic level"), "");
                    return None;
                }
                Some(Values::OneOf(values.into_iter().collect()))
            }
            (None, Some(pattern)) => {
                let span = self.span(pattern.span());
                // A value matches from beginning to end.
                let whole = format!("^(?:{})$", pattern.get_ref());
                match RegexBuilder::new(&whole).size_limit(PATTERN_SIZE).build() {
                    Ok(regex) => Some(Values::Pattern(regex)),
                    Err(error) => {
                        let words = error.to_string();
                        let last = words.lines().last().unwrap_or_default().trim_start_matches("error: ").to_owned();
                        self.wrong(&span, format!("not a regular expression: {last}"), "");
                        None
                    }
                }
            }
        }
    }

    pub(super) fn qos(&mut self, qos: Option<Spanned<u8>>) -> Option<QoS> {
        let qos = qos?;
        let level = QoS::try_from(*qos.get_ref()).ok();
        if level.is_none() {
            let span = self.span(qos.span());
            self.wrong(&span, format!("there is no QoS {}", qos.get_ref()), "write 0, 1 or 2");
        }
        level
    }

    fn topics(&mut self, blueprint: &mut Blueprint, entries: Vec<Spanned<TopicEntry>>) {
        for entry in entries {
            let entry = entry.into_inner();
            let at = self.span(entry.path.span());
            let path = entry.path.into_inner();
            let Some(levels) = self.path(&at, &path) else { continue };
            let payload = self.payload(entry.payload, entry.schema);
            let cadence = self.time(entry.cadence);
            let qos = self.qos(entry.qos);
            let set = PlannedTopic::set_of(&levels);
            let (purpose, retained, on_breach) = (entry.purpose, entry.retained, entry.on_breach);
            blueprint.topics.push(PlannedTopic {
                at,
                path,
                set,
                levels,
                purpose,
                payload,
                qos,
                retained,
                cadence,
                on_breach,
            });
        }
    }

    pub(super) fn path(&mut self, at: &Span, path: &str) -> Option<Vec<PathLevel>> {
        let mut levels = Vec::new();
        for text in path.split('/') {
            let name = text.strip_prefix('{').and_then(|text| text.strip_suffix('}'));
            levels.push(match name {
                Some(name) => match self.levels.get(name) {
                    Some(level) => PathLevel::Named(Arc::clone(level)),
                    None => {
                        let known: Vec<&str> = self.levels.keys().map(String::as_str).collect();
                        let message = format!("there is no level `{name}`; this blueprint has: {}", known.join(", "));
                        self.wrong(at, message, "");
                        return None;
                    }
                },
                None if text.contains(['{', '}']) => {
                    let message = format!("a named level must be alone between slashes, unlike in `{text}`");
                    self.wrong(at, message, "");
                    return None;
                }
                None => PathLevel::Text(text.to_owned()),
            });
        }
        let sample = path.replace(['{', '}'], "");
        if let Err(error) = sample.parse::<TopicName>() {
            self.wrong(at, format!("`{path}` is not a valid path: {error}"), "");
            return None;
        }
        Some(levels)
    }

    fn payload(&mut self, form: Option<Spanned<String>>, schema: Option<Spanned<serde_json::Value>>) -> Payload {
        let schema = schema.and_then(|schema| {
            let span = self.span(schema.span());
            let made = Schema::new(schema.into_inner());
            made.map_err(|error| self.wrong(&span, error.to_string(), "")).ok().map(|schema| (span, schema))
        });
        let Some(form) = form else {
            return if let Some((_, schema)) = schema { Payload::Json(Some(schema)) } else { Payload::Bytes };
        };
        let payload = match &**form.get_ref() {
            "json" => return Payload::Json(schema.map(|(_, schema)| schema)),
            "text" => Payload::Text,
            "number" => Payload::Number,
            "bytes" => Payload::Bytes,
            "sparkplug" => Payload::Sparkplug,
            other => {
                let span = self.span(form.span());
                self.wrong(
                    &span,
                    format!("`{other}` is not a payload type"),
                    "write json, text, number, bytes or sparkplug",
                );
                Payload::Bytes
            }
        };
        if let Some((span, _)) = schema {
            self.wrong(&span, "a schema is only for JSON payloads", "write payload = \"json\"");
        }
        payload
    }

    /// Whom a rule or a proof concerns; a proof may give the attributes of an identity that need not exist.
    pub(super) fn who(
        &mut self,
        blueprint: &Blueprint,
        who: &Spanned<toml::Value>,
        may_invent: bool,
    ) -> Option<(Who, Option<BTreeMap<String, AttributeValue>>)> {
        let span = self.span(who.span());
        let choice = if may_invent {
            "write { identity = \"…\" }, perhaps with attributes, { cohort = \"…\" } or \"everyone\""
        } else {
            "write { identity = \"…\" }, { cohort = \"…\" } or \"everyone\""
        };
        if who.get_ref().as_str() == Some("everyone") {
            return Some((Who::Everyone, None));
        }
        let Some(table) = who.get_ref().as_table() else {
            self.wrong(
                &span,
                format!("`{}` does not name anybody", who.get_ref().to_string().trim_matches('"')),
                choice,
            );
            return None;
        };
        let text = |key: &str| table.get(key).and_then(toml::Value::as_str).map(str::to_owned);
        let known = |key: &&String| matches!(key.as_str(), "identity" | "cohort") || may_invent && *key == "attributes";
        if let Some(unknown) = table.keys().find(|key| !known(key)) {
            self.wrong(&span, format!("`{unknown}` is not allowed here"), choice);
            return None;
        }
        let attributes = match table.get("attributes").map(|value| value.clone().try_into()) {
            None => None,
            Some(Ok(attributes)) => Some(attributes),
            Some(Err(_)) => {
                self.wrong(&span, "attributes are text, numbers, true or false", choice);
                return None;
            }
        };
        match (text("identity"), text("cohort")) {
            (Some(identity), None) => Some((Who::Identity(identity), attributes)),
            (None, Some(cohort)) if attributes.is_none() => {
                if !blueprint.cohorts.contains_key(&cohort) {
                    let known: Vec<&str> = blueprint.cohorts.keys().map(String::as_str).collect();
                    let message = format!("there is no cohort `{cohort}`; this blueprint has: {}", known.join(", "));
                    self.wrong(&span, message, "");
                    return None;
                }
                Some((Who::Cohort(cohort), None))
            }
            _ => {
                self.wrong(&span, "`who` must name one identity or one cohort", choice);
                None
            }
        }
    }

    /// Patterns, and where each of them stands.
    pub(super) fn patterns(&mut self, topics: Spanned<Vec<Spanned<String>>>) -> (Vec<TopicPattern>, Vec<Span>) {
        if topics.get_ref().is_empty() {
            let span = self.span(topics.span());
            self.wrong(&span, "`topics` is empty", "add at least one topic filter");
        }
        let (mut patterns, mut places) = (Vec::new(), Vec::new());
        for topic in topics.into_inner() {
            match TopicPattern::parse(topic.get_ref(), &self.levels) {
                Ok(pattern) => {
                    patterns.push(pattern);
                    places.push(self.span(topic.span()));
                }
                Err(error) => {
                    let span = self.span(topic.span());
                    self.wrong(&span, error.to_string(), "");
                }
            }
        }
        (patterns, places)
    }

    fn rules(&mut self, blueprint: &mut Blueprint, entries: Vec<RuleEntry>) {
        for entry in entries {
            let at = self.span(entry.name.span());
            if entry.name.get_ref().is_empty() {
                self.wrong(&at, "a rule needs a name; refusals show it", "");
            }
            let Some((verdict, acts)) = self.acts(&at, &entry) else { continue };
            let who = self.who(blueprint, &entry.who, false);
            let (topics, topics_at) = self.patterns(entry.topics);
            let limited = [entry.highest_qos.as_ref().map(Spanned::span), entry.rate.as_ref().map(Spanned::span)];
            if let (Verdict::Deny, Some(bytes)) = (verdict, limited.into_iter().flatten().next()) {
                let span = self.span(bytes);
                self.wrong(
                    &span,
                    "a rule that denies has no highest QoS and no rate",
                    "put it on the rules that allow",
                );
            }
            if let (false, Some(retained)) = (acts.contains(&Act::Publish), &entry.retained) {
                let span = self.span(retained.span());
                self.wrong(&span, "`retained` is only for rules about publishing", "remove it");
            }
            let rate = entry.rate.and_then(|rate| {
                let span = self.span(rate.span());
                let parsed = self::rate(rate.get_ref());
                if parsed.is_none() {
                    let message = format!("`{}` is not a rate", rate.get_ref());
                    self.wrong(&span, message, "write a number of messages and s, m or h, for example 10/s");
                }
                parsed
            });
            let limits = RuleLimits {
                highest_qos: self.qos(entry.highest_qos),
                retained: entry.retained.map(Spanned::into_inner),
                rate,
            };
            if let Some((who, _)) = who {
                let (name, purpose) = (entry.name.into_inner(), entry.purpose);
                blueprint.rules.push(Rule { at, name, purpose, verdict, who, acts, topics, topics_at, limits });
            }
        }
    }

    /// What a rule allows or denies; `None` if that is not said, or in a way of earlier versions.
    fn acts(&mut self, at: &Span, entry: &RuleEntry) -> Option<(Verdict, BTreeSet<Act>)> {
        if let Some(effect) = &entry.effect {
            let span = self.span(effect.span());
            let remedy = match effect.get_ref().as_str() {
                Some("deny") => "remove it, and write `never` instead of `may`",
                _ => "remove it: a rule with `may` allows",
            };
            self.wrong(&span, "rules no longer have the key `effect`", remedy);
            return None;
        }
        let (verdict, acts) = match (&entry.may, &entry.never) {
            (Some(may), None) => (Verdict::Allow, may),
            (None, Some(never)) => (Verdict::Deny, never),
            (Some(_), Some(never)) => {
                let span = self.span(never.span());
                self.wrong(&span, "a rule can't have both `may` and `never`", "write two rules");
                return None;
            }
            (None, None) => {
                let remedy = "write may = [\"publish\"] to allow, never = [\"publish\"] to deny";
                self.wrong(at, "a rule needs `may` or `never`", remedy);
                return None;
            }
        };
        if acts.get_ref().is_empty() {
            let span = self.span(acts.span());
            let key = if verdict == Verdict::Allow { "may" } else { "never" };
            self.wrong(&span, format!("`{key}` is empty"), "add publish, subscribe or both");
        }
        Some((verdict, acts.get_ref().clone()))
    }

    fn proofs(&mut self, blueprint: &mut Blueprint, entries: Vec<ProofEntry>) {
        for entry in entries {
            let at = self.span(entry.name.span());
            let who = self.who(blueprint, &entry.who, true);
            let (topics, _) = self.patterns(entry.topics);
            let limited = [entry.qos.as_ref().map(Spanned::span), entry.retained.as_ref().map(Spanned::span)];
            let qos = self.qos(entry.qos).unwrap_or(QoS::AtMostOnce);
            let (can, act) = match (entry.can, entry.cannot) {
                (Some(act), None) => (true, act.into_inner()),
                (None, Some(act)) => (false, act.into_inner()),
                _ => {
                    self.wrong(
                        &at,
                        "a proof needs either `can` or `cannot`",
                        "for example, write cannot = \"publish\"",
                    );
                    continue;
                }
            };
            if let (Act::Subscribe, Some(bytes)) = (act, limited.into_iter().flatten().next()) {
                let span = self.span(bytes);
                let message = "`qos` and `retained` are only for proofs about publishing";
                self.wrong(&span, message, "remove them: a subscription is granted a QoS in SUBACK");
            }
            if let Some((who, attributes)) = who {
                let (name, purpose) = (entry.name.into_inner(), entry.purpose);
                let retained = entry.retained.is_some_and(Spanned::into_inner);
                blueprint.proofs.push(Proof { at, name, purpose, who, attributes, can, act, topics, qos, retained });
            }
        }
    }

    /// Names that stand twice.
    fn twice(&mut self, blueprint: &Blueprint) {
        let rules = blueprint.rules.iter().map(|rule| ("rules", &rule.name, &rule.at));
        let proofs = blueprint.proofs.iter().map(|proof| ("proofs", &proof.name, &proof.at));
        let topics = blueprint.topics.iter().map(|topic| ("planned topics", &topic.path, &topic.at));
        let alerts = blueprint.alerts.iter().map(|alert| ("alerts", &alert.name, &alert.at));
        let mut seen = HashMap::new();
        let bridges = blueprint.bridges.iter().map(|bridge| ("bridges", &bridge.name, &bridge.at));
        let derived = blueprint.derived.iter().map(|derived| ("derived topics", &derived.name, &derived.at));
        let conditions = blueprint.conditions.iter().map(|one| ("conditions", &one.name, &one.at));
        let others = topics.chain(alerts).chain(bridges).chain(derived).chain(conditions);
        for (what, name, at) in rules.chain(proofs).chain(others) {
            if seen.insert((what, name), at).is_some() {
                self.wrong(at, format!("two {what} have the name `{name}`"), "use different names");
            }
        }
    }
}
