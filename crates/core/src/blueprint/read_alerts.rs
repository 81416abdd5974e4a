//! Contacts and alerts of a blueprint from its text.

use std::{collections::BTreeMap, time::Duration};

use moorfall_wire::TopicName;
use serde::Deserialize;
use strum::VariantNames;
use toml::Spanned;

use super::{
    Alert, AlertSeverity, Blueprint, BridgeFigure, Contact, Span, TopicPattern, Watched, WatchedTopics, reader::Reader,
};
use crate::{
    alert::{Band, Terms},
    measure::Series,
};

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct ContactEntry {
    #[serde(default)]
    purpose: String,
    #[serde(default)]
    mail: Vec<Spanned<String>>,
    hook: Option<Spanned<String>>,
    topic: Option<Spanned<String>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct AlertEntry {
    name: Spanned<String>,
    #[serde(default)]
    purpose: String,
    #[serde(default)]
    severity: AlertSeverity,
    measure: Option<Spanned<String>>,
    topics: Option<Spanned<String>>,
    field: Option<Spanned<String>>,
    silent: Option<Spanned<String>>,
    identity: Option<Spanned<String>>,
    session: Option<Spanned<String>>,
    bridge: Option<Spanned<String>>,
    figure: Option<Spanned<String>>,
    low: Option<Spanned<f64>>,
    high: Option<Spanned<f64>>,
    out_for: Option<Spanned<String>>,
    back_for: Option<Spanned<String>>,
    #[serde(default)]
    text: String,
    #[serde(default)]
    tell: Vec<Spanned<String>>,
}

/// What an alert can be about.
const CHOICE: &str = "write one of measure, topics, identity, session or bridge";

/// The word for the time that the plan has for a topic.
const CADENCE: &str = "cadence";

impl Reader {
    pub(super) fn contacts(&mut self, blueprint: &mut Blueprint, entries: BTreeMap<Spanned<String>, ContactEntry>) {
        for (name, entry) in entries {
            let at = self.span(name.span());
            let name = name.into_inner();
            if blueprint.contacts.contains_key(&name) {
                self.wrong(&at, format!("the contact `{name}` is defined twice"), "use different names");
                continue;
            }
            if entry.mail.is_empty() && entry.hook.is_none() && entry.topic.is_none() {
                self.wrong(&at, format!("the contact `{name}` can't be reached"), "add mail, hook or topic");
            }
            for address in &entry.mail {
                if !is_mail_address(address.get_ref()) {
                    let span = self.span(address.span());
                    let message = format!("`{}` is not an address of e-mail", address.get_ref());
                    self.wrong(&span, message, "write for example duty@harrowmere.example");
                }
            }
            if let Some(hook) = entry.hook.as_ref().filter(|hook| !is_web_address(hook.get_ref())) {
                let span = self.span(hook.span());
                let message = format!("`{}` is not the address of a web hook", hook.get_ref());
                self.wrong(&span, message, "write for example https://duty.harrowmere.example/alerts");
            }
            let topic = entry.topic.and_then(|topic| {
                let parsed = topic.get_ref().parse::<TopicName>();
                if let Err(error) = &parsed {
                    let span = self.span(topic.span());
                    self.wrong(&span, format!("`{}` is not a topic: {error}", topic.get_ref()), "");
                }
                parsed.ok()
            });
            let mail = entry.mail.into_iter().map(Spanned::into_inner).collect();
            let hook = entry.hook.map(Spanned::into_inner);
            blueprint.contacts.insert(name, Contact { at, purpose: entry.purpose, mail, hook, topic });
        }
    }

    pub(super) fn alerts(&mut self, blueprint: &mut Blueprint, entries: Vec<AlertEntry>) {
        for mut entry in entries {
            let at = self.span(entry.name.span());
            if entry.name.get_ref().is_empty() {
                self.wrong(&at, "an alert needs a name; notices begin with it", "");
            }
            let band = self.band(&entry);
            let (out_for, back_for) = (self.time(entry.out_for.take()), self.time(entry.back_for.take()));
            for name in &entry.tell {
                if !blueprint.contacts.contains_key(name.get_ref()) {
                    let span = self.span(name.span());
                    let known: Vec<&str> = blueprint.contacts.keys().map(String::as_str).collect();
                    let known = if known.is_empty() { "none".into() } else { known.join(", ") };
                    let message = format!("there is no contact `{}`; this blueprint has: {known}", name.get_ref());
                    self.wrong(&span, message, "add it as [contacts.NAME]");
                }
            }
            let Some((watched, longest)) = self.watched(&at, &mut entry) else { continue };
            let band = match (&watched, longest) {
                (watched, _) if !watched.is_silence() => {
                    if band.low.is_none() && band.high.is_none() {
                        let remedy = "write low, high or both";
                        self.wrong(&at, format!("the alert `{}` has no band", entry.name.get_ref()), remedy);
                    }
                    band
                }
                (_, longest) => Band { low: None, high: longest.map(|time| time.as_secs_f64()) },
            };
            let terms = Terms { band, out_for: out_for.unwrap_or_default(), back_for: back_for.unwrap_or_default() };
            blueprint.alerts.push(Alert {
                at,
                name: entry.name.into_inner(),
                purpose: entry.purpose,
                severity: entry.severity,
                watched,
                terms,
                text: entry.text,
                tell: entry.tell.into_iter().map(Spanned::into_inner).collect(),
            });
        }
    }

    fn band(&mut self, entry: &AlertEntry) -> Band {
        for edge in [&entry.low, &entry.high].into_iter().flatten() {
            if !edge.get_ref().is_finite() {
                let span = self.span(edge.span());
                self.wrong(&span, "the edge of a band is a number", "");
            }
        }
        if let (Some(low), Some(high)) = (&entry.low, &entry.high)
            && low.get_ref() > high.get_ref()
        {
            let span = self.span(low.span());
            let message = format!("low is {} and high is {}: nothing lies between", low.get_ref(), high.get_ref());
            self.wrong(&span, message, "make low the smaller one");
        }
        if let (Some(edge), Some(_)) = (entry.low.as_ref().or(entry.high.as_ref()), &entry.silent) {
            let span = self.span(edge.span());
            self.wrong(&span, "silence has no band", "remove low and high; `silent` says how long is too long");
        }
        Band {
            low: entry.low.as_ref().map(|low| *low.get_ref()),
            high: entry.high.as_ref().map(|high| *high.get_ref()),
        }
    }

    /// What an alert is about, and of silence how long it may last if that is said.
    fn watched(&mut self, at: &Span, entry: &mut AlertEntry) -> Option<(Watched, Option<Duration>)> {
        let (field, silent) = (entry.field.take(), entry.silent.take());
        let about = (entry.measure.take(), entry.topics.take(), entry.identity.take(), entry.session.take());
        let figure = entry.figure.take();
        if let Some(bridge) = entry.bridge.take() {
            if !matches!(about, (None, None, None, None)) {
                self.wrong(at, format!("the alert `{}` watches several things", entry.name.get_ref()), CHOICE);
                return None;
            }
            return Some((self.watched_bridge(bridge, figure, silent.or(field))?, None));
        }
        if let Some(figure) = &figure {
            let span = self.span(figure.span());
            self.wrong(&span, "`figure` is only for bridges", "remove it, or write bridge");
        }
        if let Some(field) = &field
            && (about.1.is_none() || silent.is_some())
        {
            let span = self.span(field.span());
            self.wrong(&span, "`field` is only for numbers in messages", "remove it, or write topics, and no silent");
            return None;
        }
        match about {
            (Some(measure), None, None, None) => {
                if let Some(silent) = silent {
                    let span = self.span(silent.span());
                    self.wrong(&span, "a measure is never silent", "remove silent, and write low, high or both");
                }
                let series = Series::named(measure.get_ref());
                if series.is_none() {
                    let span = self.span(measure.span());
                    let message = format!("there is no measure `{}`", measure.get_ref());
                    self.wrong(&span, message, "`moorfall measures` lists them; docs/MEASURES.md, too");
                }
                Some((Watched::Measure(series?), None))
            }
            (None, Some(topics), None, None) => {
                let watched = self.watched_topics(&topics)?;
                match silent {
                    None => {
                        let field = field.map(Spanned::into_inner).unwrap_or_default();
                        let field = field.split('.').filter(|name| !name.is_empty()).map(str::to_owned).collect();
                        Some((Watched::Number { topics: watched, field }, None))
                    }
                    Some(silent) if silent.get_ref() == CADENCE => {
                        Some((Watched::SilentTopics { topics: watched, longest: None }, None))
                    }
                    Some(silent) => {
                        let longest = Some(self.time(Some(silent))?);
                        Some((Watched::SilentTopics { topics: watched, longest }, longest))
                    }
                }
            }
            (None, None, Some(identity), None) => {
                let longest = self.longest(&identity, silent)?;
                Some((Watched::SilentIdentity(identity.into_inner()), Some(longest)))
            }
            (None, None, None, Some(session)) => {
                let longest = self.longest(&session, silent)?;
                Some((Watched::SilentSession(session.into_inner()), Some(longest)))
            }
            (None, None, None, None) => {
                self.wrong(at, format!("the alert `{}` watches nothing", entry.name.get_ref()), CHOICE);
                None
            }
            _ => {
                self.wrong(at, format!("the alert `{}` watches several things", entry.name.get_ref()), CHOICE);
                None
            }
        }
    }

    /// A bridge, and what of it; what does not belong to one is told.
    fn watched_bridge(
        &mut self,
        bridge: Spanned<String>,
        figure: Option<Spanned<String>>,
        other: Option<Spanned<String>>,
    ) -> Option<Watched> {
        if let Some(other) = other {
            let span = self.span(other.span());
            self.wrong(&span, "a bridge has no field, and is never silent", "remove it, and write figure");
        }
        let remedy = format!("write one of {}", BridgeFigure::VARIANTS.join(", "));
        let Some(figure) = figure else {
            let span = self.span(bridge.span());
            self.wrong(&span, "an alert on a bridge needs to know what of it", format!("add figure: {remedy}"));
            return None;
        };
        let Ok(known) = figure.get_ref().parse() else {
            let span = self.span(figure.span());
            self.wrong(&span, format!("a bridge has no figure `{}`", figure.get_ref()), remedy);
            return None;
        };
        Some(Watched::Bridge { name: bridge.into_inner(), figure: known })
    }

    /// How long an identity or a session may be silent.
    fn longest(&mut self, of: &Spanned<String>, silent: Option<Spanned<String>>) -> Option<Duration> {
        let remedy = "write how long it may be, for example silent = \"15m\"";
        let Some(silent) = silent else {
            let span = self.span(of.span());
            self.wrong(&span, "an alert on an identity or a session is about its silence", remedy);
            return None;
        };
        if silent.get_ref() == CADENCE {
            let span = self.span(silent.span());
            self.wrong(&span, "only topics have a planned cadence", remedy);
            return None;
        }
        self.time(Some(silent))
    }

    fn watched_topics(&mut self, topics: &Spanned<String>) -> Option<WatchedTopics> {
        let span = self.span(topics.span());
        let pattern = match TopicPattern::parse(topics.get_ref(), &self.levels) {
            Ok(pattern) => pattern,
            Err(error) => {
                self.wrong(&span, error.to_string(), "");
                return None;
            }
        };
        let watched = WatchedTopics::new(pattern);
        if watched.is_err() {
            let message = format!("`{}` has a value of a session in it", topics.get_ref());
            self.wrong(&span, message, "write a wildcard or a level instead: alerts are about nobody's session");
        }
        watched.ok()
    }
}

/// Whether a text can be an address of e-mail (RFC 5321 §4.1.2, without quoted names).
fn is_mail_address(text: &str) -> bool {
    let is_plain = |part: &str| {
        !part.is_empty()
            && !part.chars().any(|c| c.is_whitespace() || c.is_control() || matches!(c, '<' | '>' | ',' | '@'))
    };
    text.split_once('@').is_some_and(|(name, domain)| is_plain(name) && is_plain(domain))
}

/// Whether a text can be the address of a web hook.
fn is_web_address(text: &str) -> bool {
    let rest = text.strip_prefix("https://").or_else(|| text.strip_prefix("http://"));
    rest.is_some_and(|rest| {
        let host = rest.split(['/', '?', '#']).next().unwrap_or_default();
        !host.is_empty() && !host.starts_with(':') && !text.chars().any(|c| c.is_whitespace() || c.is_control())
    })
}
