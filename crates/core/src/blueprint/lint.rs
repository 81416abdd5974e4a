//! What is legal in a blueprint and probably not meant.

use std::collections::{BTreeMap, HashMap, HashSet};

use super::{
    Act, Blueprint, Derived, Finding, PathLevel, PatternLevel, PlannedTopic, Rule, Severity, Span, TopicPattern,
    Verdict, Watched, Who, lint_bridges, pattern::Piece,
};
use crate::{TopicSet, Values};

/// More levels than this are hard to overlook.
const LEVELS: usize = 12;

/// Longer topics cost more than they say.
const LENGTH: usize = 200;

/// All findings, in the order of the text.
pub(super) fn lint(blueprint: &Blueprint) -> Vec<Finding> {
    let mut lint = Lint { blueprint, found: Vec::new() };
    lint.spelling();
    for topic in &blueprint.topics {
        lint.path(&topic.at, &topic.path, &topic.levels);
    }
    lint.overlaps();
    lint.unused();
    for rule in &blueprint.rules {
        for (pattern, at) in rule.topics.iter().zip(&rule.topics_at) {
            lint.rule(rule, pattern, at);
        }
    }
    lint.alerts();
    for bridge in &blueprint.bridges {
        lint_bridges::lint(bridge, &mut |at, message, remedy| lint.warn(at, message, remedy));
    }
    lint.derived();
    lint.found.sort_by_key(|(span, _)| (span.file, span.bytes.start));
    lint.found.into_iter().map(|(_, finding)| finding).collect()
}

/// The number of a path's levels, and its second and third if they are fixed.
type Group<'a> = (usize, Option<&'a str>, Option<&'a str>);

struct Lint<'a> {
    blueprint: &'a Blueprint,
    found: Vec<(Span, Finding)>,
}

impl<'a> Lint<'a> {
    fn warn(&mut self, at: &Span, message: impl Into<String>, remedy: impl Into<String>) {
        let finding = self.blueprint.source.finding(Severity::Warning, at, message, remedy);
        self.found.push((at.clone(), finding));
    }

    fn path(&mut self, at: &Span, path: &str, levels: &[PathLevel]) {
        if path.starts_with('/') || path.ends_with('/') || path.contains("//") {
            let message = "a slash at the beginning or the end, or two in a row, create an empty level";
            self.warn(at, message, "remove the extra slash");
        }
        if path.contains(char::is_whitespace) {
            self.warn(at, "a level contains a space, which is easily mistyped", "use a hyphen");
        }
        if path.starts_with('$') {
            let message = "topics that begin with $ are not matched by wildcards at the first level";
            self.warn(at, message, "use another first level");
        }
        if levels.len() > LEVELS {
            self.warn(at, format!("the path has {} levels", levels.len()), format!("{LEVELS} should be enough"));
        }
        if path.len() > LENGTH {
            let message = format!("the path has {} bytes, which every message carries", path.len());
            self.warn(at, message, format!("stay below {LENGTH}"));
        }
    }

    /// Derived topics that nobody may have meant so.
    fn derived(&mut self) {
        let blueprint = self.blueprint;
        let planned: Vec<TopicSet> = blueprint.topics.iter().map(|topic| topic.set.clone()).collect();
        for derived in &blueprint.derived {
            if let [source] = &derived.sources[..]
                && derived.window.is_none()
                && source.names.joins_topics()
            {
                let message = format!("different topics become one by `{}`, and the newest has it", source.names);
                self.warn(&derived.at, message, "put everything that the filter catches in the new name");
            }
            let image = derived.sources[0].names.image();
            if !planned.is_empty()
                && let Some(topic) = image.outside(&planned)
            {
                let message = format!("`{}` makes topics that are not planned, for example {topic}", derived.name);
                self.warn(&derived.at, message, format!("add a planned topic with path = \"{}\"", derived.to));
            }
        }
        for (place, derived) in blueprint.derived.iter().enumerate() {
            let image = |one: &Derived| one.sources[0].names.image();
            let clash = blueprint.derived[..place]
                .iter()
                .find_map(|earlier| image(earlier).intersect(&image(derived)).map(|both| (earlier, both.example())));
            if let Some((earlier, topic)) = clash {
                let message = format!("`{}` and `{}` may both make {topic}", earlier.name, derived.name);
                self.warn(&derived.at, message, "choose names that can't meet");
            }
        }
    }

    /// Planned topics that hold the same topics.
    fn overlaps(&mut self) {
        // Only paths of one length that agree in their first fixed levels can meet.
        let mut groups: HashMap<Group<'a>, Vec<&'a PlannedTopic>> = HashMap::new();
        let fixed = |topic: &'a PlannedTopic, place: usize| topic.levels.get(place).and_then(PathLevel::fixed);
        for topic in &self.blueprint.topics {
            groups.entry((topic.levels.len(), fixed(topic, 1), fixed(topic, 2))).or_default().push(topic);
        }
        let mut meeting = Vec::new();
        for (one_key, one) in &groups {
            for (other_key, other) in &groups {
                let meets = |a: Option<&str>, b: Option<&str>| a.is_none() || b.is_none() || a == b;
                if one_key <= other_key
                    && one_key.0 == other_key.0
                    && meets(one_key.1, other_key.1)
                    && meets(one_key.2, other_key.2)
                {
                    pairs(one, other, one_key == other_key, &mut meeting);
                }
            }
        }
        for (first, second) in meeting {
            let Some(both) = first.set.intersect(&second.set) else { continue };
            let line = |topic: &PlannedTopic| self.blueprint.source.finding(Severity::Warning, &topic.at, "", "").line;
            let (first_line, example) = (line(first), both.example());
            let equal = fixed_count(first) == fixed_count(second);
            if second.set.outside([&first.set]).is_none() && fixed_count(first) >= fixed_count(second) {
                let message = format!("`{}` of line {first_line} covers all of this, so it is never used", first.path);
                self.warn(&second.at, message, "remove one of them");
            } else if equal {
                let message = format!(
                    "`{}` of line {first_line} covers some of the same topics, for example {example}",
                    first.path
                );
                self.warn(&second.at, message, "define the levels so that each topic is planned once");
            }
        }
    }

    fn unused(&mut self) {
        let blueprint = self.blueprint;
        let in_paths = blueprint.topics.iter().flat_map(|topic| &topic.levels).filter_map(|level| match level {
            PathLevel::Named(level) => Some(level.name.as_str()),
            PathLevel::Text(_) => None,
        });
        let patterns = blueprint.rules.iter().map(|rule| &rule.topics);
        let patterns = patterns.chain(blueprint.conditions.iter().map(|condition| &condition.topics)).flatten();
        let patterns = patterns.chain(blueprint.proofs.iter().flat_map(|proof| &proof.topics));
        let in_rules = patterns.flat_map(TopicPattern::levels).filter_map(level_name);
        let in_alerts = blueprint
            .alerts
            .iter()
            .filter_map(|alert| alert.watched.topics())
            .flat_map(|topics| topics.pattern.levels())
            .filter_map(level_name);
        let mappings = blueprint.bridges.iter().flat_map(|bridge| bridge.push.iter().chain(&bridge.pull));
        let in_bridges = mappings.flat_map(|mapping| mapping.names.named_levels());
        let sources = blueprint.derived.iter().flat_map(|derived| &derived.sources);
        let in_derived = sources.flat_map(|source| source.names.named_levels());
        let used: HashSet<&str> =
            in_paths.chain(in_rules).chain(in_alerts).chain(in_bridges).chain(in_derived).collect();
        for (name, level) in &blueprint.levels {
            if !used.contains(name.as_str()) {
                self.warn(
                    &level.at,
                    format!("no topic, rule, alert, bridge or derived topic uses the level `{name}`"),
                    "remove it, or use it",
                );
            }
        }
        let whos = blueprint.rules.iter().map(|rule| &rule.who).chain(blueprint.proofs.iter().map(|proof| &proof.who));
        let whos = whos.chain(blueprint.conditions.iter().map(|condition| &condition.who));
        let used: HashSet<&str> =
            whos.filter_map(|who| if let Who::Cohort(name) = who { Some(name.as_str()) } else { None }).collect();
        for (name, cohort) in &blueprint.cohorts {
            if !used.contains(name.as_str()) && cohort.quota.named().next().is_none() {
                self.warn(&cohort.at, format!("no rule uses the cohort `{name}`"), "remove it, or use it");
            }
        }
    }

    /// Texts of levels that differ only in capitals, hyphens or underscores.
    fn spelling(&mut self) {
        let blueprint = self.blueprint;
        let mut texts: Vec<(&str, &Span)> = Vec::new();
        for level in blueprint.levels.values() {
            if let Values::OneOf(values) = &level.level.values {
                texts.extend(values.iter().map(|value| (value.as_str(), &level.at)));
            }
        }
        for topic in &blueprint.topics {
            texts.extend(topic.levels.iter().filter_map(|level| match level {
                PathLevel::Text(text) => Some((text.as_str(), &topic.at)),
                PathLevel::Named(_) => None,
            }));
        }
        for rule in &blueprint.rules {
            texts.extend(rule.topics.iter().flat_map(TopicPattern::levels).filter_map(|level| match level {
                PatternLevel::Text(text) => Some((&**text, &rule.at)),
                _ => None,
            }));
        }
        let mut known: BTreeMap<String, &str> = BTreeMap::new();
        let mut told = HashSet::new();
        for (text, at) in texts {
            let plain: String = text.chars().filter(|c| !matches!(c, '-' | '_')).flat_map(char::to_lowercase).collect();
            let first = *known.entry(plain).or_insert(text);
            if first != text && told.insert(text) {
                let message = format!("`{text}` is spelled `{first}` elsewhere; these are different topics");
                self.warn(at, message, "use one spelling");
            }
        }
    }

    fn alerts(&mut self) {
        let blueprint = self.blueprint;
        for alert in &blueprint.alerts {
            if alert.tell.is_empty() {
                let message = format!("the alert `{}` tells nobody", alert.name);
                self.warn(&alert.at, message, "name contacts in `tell`; the console shows it in any case");
            }
            if let Watched::Bridge { name, .. } = &alert.watched
                && !blueprint.bridges.iter().any(|bridge| bridge.name == *name)
            {
                let message = format!("there is no bridge `{name}`, which `{}` watches", alert.name);
                self.warn(&alert.at, message, "add it, or correct its name: nothing is known of it until then");
            }
            let Some(topics) = alert.watched.topics() else { continue };
            let meeting = || blueprint.topics.iter().filter(|topic| topic.set.intersect(&topics.set).is_some());
            if !blueprint.topics.is_empty() && meeting().next().is_none() {
                let message = format!("no planned topic matches `{}`, which `{}` watches", topics.pattern, alert.name);
                self.warn(&alert.at, message, "plan it, or look for a missing or misspelled level");
            } else if matches!(alert.watched, Watched::SilentTopics { longest: None, .. })
                && meeting().all(|topic| topic.cadence.is_none())
            {
                let message = format!("none of the topics that `{}` watches has a planned cadence", alert.name);
                self.warn(&alert.at, message, "plan one, or write how long silence may last");
            }
        }
        let told: HashSet<&str> = blueprint.alerts.iter().flat_map(|alert| &alert.tell).map(String::as_str).collect();
        for (name, contact) in &blueprint.contacts {
            if !told.contains(name.as_str()) {
                self.warn(
                    &contact.at,
                    format!("no alert tells the contact `{name}`"),
                    "remove it, or name it in `tell`",
                );
            }
            if contact.hook.as_ref().is_some_and(|hook| hook.starts_with("http://")) {
                let message = format!("the hook of `{name}` is called without TLS, so others can read notices");
                self.warn(&contact.at, message, "write https:// unless it stays on one machine");
            }
        }
    }

    fn rule(&mut self, rule: &Rule, pattern: &TopicPattern, at: &Span) {
        let topics = &self.blueprint.topics;
        let set = pattern.of_anyone();
        if set.segments().is_empty() && rule.verdict == Verdict::Allow && rule.who == Who::Everyone {
            self.warn(at, "`#` for everyone allows everybody to use every topic", "name the topics instead");
            return;
        }
        if matches!(pattern.levels().first(), Some(PatternLevel::Text(text)) if text.starts_with('$')) {
            let message = format!("`{pattern}` begins with $, which wildcards at the first level do not match");
            self.warn(at, message, "use another first level unless that is intended");
        }
        if topics.is_empty() || set.segments().is_empty() {
            return;
        }
        let meeting: Vec<&PlannedTopic> = topics.iter().filter(|topic| topic.set.intersect(&set).is_some()).collect();
        if let Some((place, named)) = misplaced(pattern, &meeting) {
            let message = format!(
                "`{pattern}` has the identity at level {}, where the plan has {{{named}}}, one of a few fixed values",
                place + 1
            );
            self.warn(at, message, "use {identity} where the plan has the name");
        } else if meeting.is_empty() {
            let message = format!("no planned topic matches `{pattern}`");
            self.warn(at, message, "plan it, or look for a missing or misspelled level");
        } else if rule.verdict == Verdict::Allow
            && rule.acts.contains(&Act::Publish)
            && let Some(example) = set.outside(meeting.iter().map(|topic| &topic.set).collect::<Vec<&TopicSet>>())
            && has_wildcard(pattern)
        {
            let message =
                format!("`{pattern}` also allows publishing to topics that are not planned, for example {example}");
            self.warn(at, message, "name the planned paths, with {identity} at the level of the name");
        }
    }
}

fn level_name(level: &PatternLevel) -> Option<&str> {
    if let PatternLevel::Named(level) = level { Some(level.name.as_str()) } else { None }
}

fn pairs<'a>(
    one: &[&'a PlannedTopic],
    other: &[&'a PlannedTopic],
    same: bool,
    meeting: &mut Vec<(&'a PlannedTopic, &'a PlannedTopic)>,
) {
    for (index, first) in one.iter().enumerate() {
        for second in &other[if same { index + 1 } else { 0 }..] {
            if first.set.intersect(&second.set).is_some() {
                let in_order = (first.at.file, first.at.bytes.start) <= (second.at.file, second.at.bytes.start);
                meeting.push(if in_order { (first, second) } else { (second, first) });
            }
        }
    }
}

fn fixed_count(topic: &PlannedTopic) -> usize {
    topic.levels.iter().filter_map(PathLevel::fixed).count()
}

fn has_wildcard(pattern: &TopicPattern) -> bool {
    pattern.is_open() || pattern.levels().iter().any(|level| matches!(level, PatternLevel::Any))
}

/// A level where the pattern has the identity and all planned topics that it may be about have one of a few values.
fn misplaced(pattern: &TopicPattern, meeting: &[&PlannedTopic]) -> Option<(usize, String)> {
    let has_identity =
        |level: &PatternLevel| matches!(level, PatternLevel::Template(pieces) if pieces.contains(&Piece::Identity));
    let place = pattern.levels().iter().position(has_identity)?;
    let mut names = meeting.iter().map(|topic| match topic.levels.get(place) {
        Some(PathLevel::Named(level)) if matches!(level.values, Values::OneOf(_)) => Some(level.name.clone()),
        _ => None,
    });
    let first = names.next()??;
    names.all(|name| name.is_some()).then_some((place, first))
}
