//! Derived topics of a blueprint from its text.

use std::collections::BTreeMap;

use moorfall_wire::QoS;
use serde::Deserialize;
use strum::VariantNames;
use toml::Spanned;

use super::{Blueprint, Derived, DerivedForm, DerivedSource, Span, Statistic, Window, reader::Reader};
use crate::{
    TopicSet, ValueExpression,
    bridge::{Cycle, Mapping, find_cycle},
};

/// Sources of all derived topics of one blueprint: each is compared with each.
const ALL_SOURCES: usize = 500;

/// Sources of one of them.
const SOURCES: usize = 8;

/// Decimals that a number may be rounded to.
const DECIMALS: u8 = 9;

/// The longest name, bytes.
const NAME: usize = 64;

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct DerivedEntry {
    name: Spanned<String>,
    #[serde(default)]
    purpose: String,
    from: Spanned<From>,
    to: Spanned<String>,
    r#where: Option<Spanned<String>>,
    value: Option<Spanned<String>>,
    factor: Option<Spanned<f64>>,
    offset: Option<Spanned<f64>>,
    decimals: Option<Spanned<u8>>,
    statistic: Option<Spanned<String>>,
    window: Option<Spanned<String>>,
    on_change: Option<Spanned<bool>>,
    dead_band: Option<Spanned<f64>>,
    at_most_every: Option<Spanned<String>>,
    cadence: Option<Spanned<String>>,
    payload: Option<Spanned<String>>,
    qos: Option<Spanned<u8>>,
    #[serde(default)]
    retained: bool,
}

#[derive(Clone, Deserialize)]
#[serde(untagged)]
enum From {
    One(String),
    Several(BTreeMap<String, String>),
}

impl Reader {
    pub(super) fn derived(&mut self, blueprint: &mut Blueprint, entries: Vec<DerivedEntry>) {
        for entry in entries {
            let at = self.span(entry.name.span());
            let Some(one) = self.one_derived(at, entry) else { continue };
            let sources: usize = blueprint.derived.iter().map(|known| known.sources.len()).sum();
            if sources + one.sources.len() > ALL_SOURCES {
                let message = format!("derived topics have at most {ALL_SOURCES} sources together");
                return self.wrong(&one.at, message, "use wider filters");
            }
            blueprint.derived.push(one);
        }
    }

    fn one_derived(&mut self, at: Span, entry: DerivedEntry) -> Option<Derived> {
        let name = entry.name.into_inner();
        let is_plain = |c: char| c.is_ascii_alphanumeric() || c == '-' || c == '_';
        if name.is_empty() || name.len() > NAME || !name.chars().all(is_plain) {
            let message = format!("`{name}` is not a name for a derived topic");
            self.wrong(&at, message, format!("use up to {NAME} letters, digits and hyphens"));
        }
        let sources = self.sources(entry.from, &entry.to);
        let names: Vec<&str> =
            sources.iter().flatten().map(|source| source.name.as_str()).filter(|name| !name.is_empty()).collect();
        let condition = entry.r#where.map(|text| self.value_expression(&text, &names));
        let value = match entry.value {
            Some(text) => self.value_expression(&text, &names),
            None if names.is_empty() => ValueExpression::parse("payload", &[]).ok(),
            None => {
                let message = format!("`{name}` does not say how its value comes of {}", names.join(" and "));
                self.wrong(
                    &at,
                    message,
                    format!("write for example value = \"{} - {}\"", names[0], names[names.len() - 1]),
                );
                None
            }
        };
        let scale = (self.finite(entry.factor, 1.0), self.finite(entry.offset, 0.0));
        let decimals = entry.decimals.map(|decimals| {
            if *decimals.get_ref() > DECIMALS {
                let span = self.span(decimals.span());
                self.wrong(&span, format!("a number has 0 to {DECIMALS} decimals"), "write fewer");
            }
            decimals.into_inner()
        });
        let window = self.window(&at, entry.statistic, entry.window);
        let dead_band = entry.dead_band.map(|band| {
            if !(band.get_ref().is_finite() && *band.get_ref() > 0.0) {
                let span = self.span(band.span());
                self.wrong(&span, "a dead band is a number above 0", "remove it, or write how far values may differ");
            }
            band.into_inner()
        });
        if let (Some(_), Some(on_change)) = (dead_band, entry.on_change.as_ref().filter(|one| !one.get_ref())) {
            let span = self.span(on_change.span());
            self.wrong(&span, "with a dead band only changes are published", "remove on-change or dead-band");
        }
        let at_most_every = self.time(entry.at_most_every);
        let form = self.word(entry.payload.as_ref(), "a form of derived messages").unwrap_or_default();
        let stale_at = entry.cadence.as_ref().map(Spanned::span);
        let cadence = self.time(entry.cadence);
        if let (Some(span), DerivedForm::Value) = (stale_at, form) {
            let span = self.span(span);
            let message = "a bare value can't say that it is stale";
            self.wrong(&span, message, "write payload = \"record\", or remove cadence");
        }
        let qos = entry.qos.map_or(QoS::AtMostOnce, |qos| {
            let span = self.span(qos.span());
            let level = self.qos(Some(qos)).unwrap_or_default();
            if level == QoS::ExactlyOnce {
                let message = "after a crash a value may be made again, so QoS 2 would promise too much";
                self.wrong(&span, message, "write 0 or 1");
            }
            level
        });
        Some(Derived {
            at,
            name,
            purpose: entry.purpose,
            sources: sources?,
            to: entry.to.into_inner(),
            condition: condition.map_or(Some(None), |condition| condition.map(Some))?,
            value: value?,
            scale,
            decimals,
            window,
            on_change: dead_band.is_some() || entry.on_change.is_some_and(Spanned::into_inner),
            dead_band,
            at_most_every,
            cadence,
            form,
            qos,
            retained: entry.retained,
        })
    }

    fn sources(&mut self, from: Spanned<From>, to: &Spanned<String>) -> Option<Vec<DerivedSource>> {
        let span = self.span(from.span());
        let written: Vec<(String, String)> = match from.into_inner() {
            From::One(filter) => vec![(String::new(), filter)],
            From::Several(named) => named.into_iter().collect(),
        };
        if written.is_empty() || written.len() > SOURCES {
            let message = format!("a derived topic has 1 to {SOURCES} sources");
            self.wrong(&span, message, "write from = \"FILTER\", or from = { upper = \"FILTER\", lower = \"FILTER\" }");
            return None;
        }
        let mut sources = Vec::new();
        for (name, filter) in written {
            if !name.is_empty() && !ValueExpression::may_name(&name) {
                let message = format!("`{name}` is not a name for a source");
                self.wrong(
                    &span,
                    message,
                    "use small letters, digits and _, and no name that expressions have already",
                );
                return None;
            }
            match Mapping::parse(&filter, Some(to.get_ref()), &self.levels) {
                Ok(names) => sources.push(DerivedSource { name, names }),
                Err(error) => {
                    let place = if error.is_of_name() { self.span(to.span()) } else { span.clone() };
                    self.wrong(&place, error.to_string(), "");
                    return None;
                }
            }
        }
        Some(sources)
    }

    fn value_expression(&mut self, text: &Spanned<String>, names: &[&str]) -> Option<ValueExpression> {
        match ValueExpression::parse(text.get_ref(), names) {
            Ok(expression) => Some(expression),
            Err(error) => {
                let span = self.inside(text.span(), error.at);
                self.wrong(&span, error.message, "");
                None
            }
        }
    }

    fn finite(&mut self, number: Option<Spanned<f64>>, usual: f64) -> f64 {
        let Some(number) = number else { return usual };
        if !number.get_ref().is_finite() || usual != 0.0 && *number.get_ref() == 0.0 {
            let span = self.span(number.span());
            self.wrong(&span, format!("{} can't be used here", number.get_ref()), "write another number");
        }
        number.into_inner()
    }

    /// One of the words of an enum.
    fn word<T: std::str::FromStr + VariantNames>(&mut self, text: Option<&Spanned<String>>, what: &str) -> Option<T> {
        let text = text?;
        let read = text.get_ref().parse().ok();
        if read.is_none() {
            let span = self.span(text.span());
            let words = T::VARIANTS.join(", ");
            self.wrong(&span, format!("`{}` is not {what}", text.get_ref()), format!("write one of: {words}"));
        }
        read
    }

    fn window(
        &mut self,
        at: &Span,
        statistic: Option<Spanned<String>>,
        window: Option<Spanned<String>>,
    ) -> Option<Window> {
        if statistic.is_some() != window.is_some() {
            let remedy = "write both, for example statistic = \"mean\" and window = \"5m\"";
            self.wrong(at, "a window needs a statistic, and a statistic a window", remedy);
        }
        let statistic = self.word::<Statistic>(statistic.as_ref(), "a statistic");
        let span = self.time(window);
        Some(Window { statistic: statistic?, span: span? })
    }

    /// Refuses derived topics that feed each other round and round.
    pub(super) fn no_derived_cycle(&mut self, blueprint: &Blueprint) {
        let all: Vec<(&Derived, &Mapping)> = blueprint
            .derived
            .iter()
            .flat_map(|derived| derived.sources.iter().map(move |source| (derived, &source.names)))
            .collect();
        let left = may_go_round(&all.iter().map(|(_, names)| (names.topics(), names.image())).collect::<Vec<_>>());
        let Some(first) = left.first() else { return };
        let mappings: Vec<Mapping> = left.iter().map(|place| all[*place].1.clone()).collect();
        // What one publishes is what the others hear.
        let as_it_is = Mapping::parse("#", None, &BTreeMap::new());
        let Ok(as_it_is) = as_it_is else { return };
        match find_cycle(&mappings, &[as_it_is]) {
            Ok(None) => {}
            Ok(Some(cycle)) => {
                let of = |mapping: usize| all[left[mapping]].0;
                let at = cycle.passages.first().map_or(&all[*first].0.at, |passage| &of(passage.mapping).at).clone();
                let message = format!("derived topics go round: {}", in_words(&cycle, |mapping| &of(mapping).name));
                self.wrong(&at, message, "choose names that no derived topic takes up again");
            }
            Err(_) => {
                let at = all[*first].0.at.clone();
                self.wrong(&at, "too many derived topics may feed each other", "use fewer, or narrower filters");
            }
        }
    }
}

/// Those that may lead back to themselves, as far as sets of topics tell.
fn may_go_round(sets: &[(TopicSet, TopicSet)]) -> Vec<usize> {
    let all = 0..sets.len();
    let feeds = |one: usize| all.clone().filter(move |other| sets[one].1.intersect(&sets[*other].0).is_some());
    let fed: Vec<Vec<usize>> = all.clone().map(|one| feeds(one).collect()).collect();
    let mut left: Vec<usize> = all.clone().collect();
    loop {
        let mut is_left = vec![(false, false); sets.len()];
        for one in &left {
            for other in fed[*one].iter().filter(|other| left.binary_search(other).is_ok()) {
                is_left[*one].0 = true;
                is_left[*other].1 = true;
            }
        }
        let still: Vec<usize> = left.iter().copied().filter(|one| is_left[*one] == (true, true)).collect();
        if still.len() == left.len() {
            return left;
        }
        left = still;
    }
}

fn in_words<'a>(cycle: &Cycle, name: impl Fn(usize) -> &'a str) -> String {
    // Between two of them nothing changes.
    let pushes = cycle.passages.iter().step_by(2);
    let mut words = String::new();
    for (place, passage) in pushes.enumerate() {
        if place == 0 {
            words += &passage.from;
        } else {
            words += ", which";
        }
        words += &format!(" becomes {} by {}", passage.to, name(passage.mapping));
    }
    words
}
