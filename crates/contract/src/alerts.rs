//! Alerts, and the notices that are sent of them.

use std::fmt;

use moorfall_core::shown::span;
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::kinds::{AlertPhase, AlertSeverity, NoticeKind, NoticeState, NoticeWay};

/// What is told of one subject of an alert.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct NoticeSubject {
    /// A topic, a measure, an identity or a client identifier.
    pub name: String,
    /// The last value; of silence in seconds. Null in a test.
    pub value: Option<f64>,
    /// The value that was furthest out.
    pub worst: Option<f64>,
    /// Since when it is, or was, out.
    #[serde(with = "time::serde::rfc3339::option")]
    pub out_since: Option<OffsetDateTime>,
    /// How long it was out, seconds; null as long as it is.
    pub out_seconds: Option<f64>,
    /// Whether it is raised again and again: it is cleared only when it has been back for long.
    pub flapping: bool,
}

/// What is told: the facts of a notice. A web hook gets them as `data`.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct NoticeFacts {
    /// The same however often it is sent.
    pub id: String,
    /// What is told.
    pub kind: NoticeKind,
    /// The broker, by the name of its blueprint.
    pub broker: String,
    /// The alert.
    pub alert: String,
    /// How much it matters.
    pub severity: AlertSeverity,
    /// What the alert is for.
    pub purpose: String,
    /// What whoever is told should know or do.
    pub text: String,
    /// What is watched, such as `m in harrowmere/gorge/+/stage/level`.
    pub watches: String,
    /// The least value that is all right.
    pub low: Option<f64>,
    /// The greatest value that is all right; of silence in seconds.
    pub high: Option<f64>,
    /// Whether values are seconds of silence.
    pub silence: bool,
    /// When it was decided.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// What it is about: the first of them.
    pub subjects: Vec<NoticeSubject>,
    /// How many more there are.
    pub more: u64,
}

impl NoticeFacts {
    /// A line: the subject of a letter.
    pub fn title(&self) -> String {
        let Self { kind, broker, alert, severity, subjects, more, .. } = self;
        let what = match (&subjects[..], more) {
            ([], _) => String::new(),
            ([one], 0) => match one.value {
                Some(value) if self.silence && *kind == NoticeKind::Raised => {
                    format!(": {} is silent for {}", one.name, self.value(value))
                }
                Some(value) if !self.silence => format!(": {} is {}", one.name, self.value(value)),
                _ => format!(": {}", one.name),
            },
            (several, more) => format!(": {} topics", several.len() as u64 + more),
        };
        match kind {
            NoticeKind::Raised => format!("{broker}, {severity}: {alert}{what}"),
            NoticeKind::Cleared => format!("{broker}, back: {alert}{what}"),
            NoticeKind::Removed => format!("{broker}, no longer watched: {alert}{what}"),
            NoticeKind::Test => format!("{broker}, test: {alert}"),
        }
    }

    fn value(&self, value: f64) -> String {
        value_in_words(value, self.silence)
    }

    fn band(&self) -> String {
        match (self.low, self.high) {
            (_, Some(high)) if self.silence => format!("silence of at most {}", self.value(high)),
            (Some(low), Some(high)) => format!("{} to {}", self.value(low), self.value(high)),
            (Some(low), None) => format!("at least {}", self.value(low)),
            (None, Some(high)) => format!("at most {}", self.value(high)),
            (None, None) => String::new(),
        }
    }

    fn subject(&self, subject: &NoticeSubject) -> String {
        let NoticeSubject { name, value, worst, out_since, out_seconds, flapping } = subject;
        let value = value.map(|value| self.value(value));
        let mut line = match (self.kind, value) {
            (NoticeKind::Raised, Some(value)) if self.silence => format!("{name}: silent for {value}"),
            (_, Some(value)) if self.silence => format!("{name}: heard {value} ago"),
            (_, Some(value)) => format!("{name}: {value}"),
            (_, None) => name.clone(),
        };
        if let (NoticeKind::Raised, Some(since)) = (self.kind, out_since) {
            line.push_str(&format!(", out since {}", clock(*since)));
        }
        if let Some(seconds) = out_seconds {
            line.push_str(&format!("; it was out for {}", span(seconds.max(0.0) as u64)));
            if let (false, Some(worst)) = (self.silence, worst) {
                line.push_str(&format!(", furthest out at {}", self.value(*worst)));
            }
        }
        if *flapping {
            line.push_str(
                "; it was in and out several times, so it is told as back only when it stays inside for long",
            );
        }
        line
    }
}

impl fmt::Display for NoticeFacts {
    /// The whole in words: the body of a letter.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        writeln!(f, "{}", self.title())?;
        writeln!(f)?;
        match self.kind {
            NoticeKind::Raised | NoticeKind::Cleared => {}
            NoticeKind::Removed => writeln!(f, "The alert was removed from the blueprint, or watches something else.")?,
            NoticeKind::Test => writeln!(f, "Somebody tries whether notices of this alert arrive. Nothing is wrong.")?,
        }
        for subject in &self.subjects {
            writeln!(f, "{}", self.subject(subject))?;
        }
        if self.more > 0 {
            writeln!(f, "and {} more", self.more)?;
        }
        let band = self.band();
        if !band.is_empty() {
            writeln!(f, "The band is {band}.")?;
        }
        for text in [&self.text, &self.purpose] {
            if !text.is_empty() {
                writeln!(f, "\n{text}")?;
            }
        }
        writeln!(f, "\nAlert {}, watching {}. Told {}.", self.alert, self.watches, clock(self.at))
    }
}

fn clock(at: OffsetDateTime) -> String {
    let at = at.to_offset(time::UtcOffset::UTC);
    format!("{} {:02}:{:02}:{:02} UTC", at.date(), at.hour(), at.minute(), at.second())
}

/// A value, or seconds of silence, for people: with no more digits than anybody reads.
pub fn value_in_words(value: f64, silence: bool) -> String {
    if silence { span(value.max(0.0) as u64) } else { ((value * 1e4).round() / 1e4).to_string() }
}

/// An attempt to send a notice.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct NoticeAttempt {
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// Whether it was taken.
    pub delivered: bool,
    /// What was answered, or what went wrong, in a sentence.
    pub explanation: String,
}

/// A notice to one address.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct NoticeView {
    /// Its place in the order of notices.
    pub number: i64,
    /// What is told.
    #[serde(flatten)]
    pub facts: NoticeFacts,
    /// The same in a line.
    pub title: String,
    /// To which contact.
    pub contact: String,
    /// Which way.
    pub way: NoticeWay,
    /// The address, or the topic.
    pub target: String,
    /// What has become of it.
    pub state: NoticeState,
    /// How often it was tried.
    pub tries: u64,
    /// The last attempts, oldest first.
    pub attempts: Vec<NoticeAttempt>,
    /// When it is tried next, while it waits.
    #[serde(with = "time::serde::rfc3339::option")]
    pub next_at: Option<OffsetDateTime>,
}

/// Notices, the newest first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NoticeList {
    /// The notices.
    pub notices: Vec<NoticeView>,
    /// How many wait in all.
    pub waiting: u64,
}

/// How one subject of an alert stands.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct StandingView {
    /// A topic, a measure, an identity or a client identifier.
    pub subject: String,
    /// Where it is.
    pub phase: AlertPhase,
    /// Since when.
    #[serde(with = "time::serde::rfc3339")]
    pub since: OffsetDateTime,
    /// Since when it is out, if it is.
    #[serde(with = "time::serde::rfc3339::option")]
    pub out_since: Option<OffsetDateTime>,
    /// The last value; of silence in seconds. Null if none is known.
    pub value: Option<f64>,
    /// The value that was furthest out.
    pub worst: Option<f64>,
    /// Whether it is raised again and again.
    pub flapping: bool,
    /// Whether somebody was told that it is out, and not yet that it is back.
    pub told: bool,
}

/// What an alert would have told over a range of the past, and would tell of what is there now.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct AlertRehearsal {
    /// The lower end of the band that was tried.
    pub low: Option<f64>,
    /// Its upper end; of silence in seconds. Null if each topic's planned cadence counts.
    pub high: Option<f64>,
    /// Whether values are seconds of silence.
    pub silence: bool,
    /// How long a value must be out.
    pub out_for_seconds: u64,
    /// How long it must be back.
    pub back_for_seconds: u64,
    /// The beginning of the range.
    #[serde(with = "time::serde::rfc3339")]
    pub from: OffsetDateTime,
    /// Its end.
    #[serde(with = "time::serde::rfc3339")]
    pub to: OffsetDateTime,
    /// The values were means over so many seconds; null if there is no history of what the alert watches.
    pub step_seconds: Option<u32>,
    /// For how much of the range there were values.
    pub measured_seconds: u64,
    /// When it would have been raised, newest first; 200 at most.
    pub spells: Vec<SpellView>,
    /// How often it would have been raised in all.
    pub raised: u64,
    /// The values that are there now: those first that would be out; 200 at most.
    pub now: Vec<RehearsedSubject>,
    /// How many of them would be out.
    pub out_now: u64,
    /// How many there are.
    pub known_now: u64,
}

impl AlertRehearsal {
    /// What was tried, in words.
    pub fn terms(&self) -> String {
        let value = |value: f64| value_in_words(value, self.silence);
        let mut words = match (self.low, self.high) {
            (Some(low), Some(high)) => format!("{} to {}", value(low), value(high)),
            (Some(low), None) => format!("at least {}", value(low)),
            (None, Some(high)) => format!("at most {}", value(high)),
            (None, None) => "at most the planned cadence".to_owned(),
        };
        for (label, seconds) in [("out for", self.out_for_seconds), ("back for", self.back_for_seconds)] {
            if seconds > 0 {
                words.push_str(&format!(", {label} {}", span(seconds)));
            }
        }
        words
    }
}

/// A time for which an alert would have been raised.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SpellView {
    /// The first value that was out.
    #[serde(with = "time::serde::rfc3339")]
    pub out_since: OffsetDateTime,
    /// When it would have been raised.
    #[serde(with = "time::serde::rfc3339")]
    pub raised_at: OffsetDateTime,
    /// When it would have been cleared; null if not by the end of the range.
    #[serde(with = "time::serde::rfc3339::option")]
    pub cleared_at: Option<OffsetDateTime>,
    /// The value that was furthest out.
    pub worst: f64,
    /// Whether it would have been raised again and again.
    pub flapping: bool,
}

/// A value that is there now.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RehearsedSubject {
    /// A topic, a measure, an identity or a client identifier.
    pub subject: String,
    /// The value; of silence in seconds.
    pub value: f64,
    /// Whether it would be out of the band.
    pub out: bool,
}

/// For how long nobody is told.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct QuietView {
    /// Who wants it.
    pub by: String,
    /// Until when.
    #[serde(with = "time::serde::rfc3339")]
    pub until: OffsetDateTime,
}

/// For how long nobody is to be told.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct QuietDraft {
    /// Seconds from now, at most 30 days.
    #[schema(minimum = 1, maximum = 2_592_000)]
    pub seconds: u32,
}

/// An alert of the blueprint, and how it stands.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct AlertView {
    /// Its name.
    pub name: String,
    /// What it is for.
    pub purpose: String,
    /// How much it matters.
    pub severity: AlertSeverity,
    /// What is watched.
    pub watches: String,
    /// The band, or the time, in words.
    pub band: String,
    /// The least value that is all right.
    pub low: Option<f64>,
    /// The greatest value that is all right; of silence in seconds.
    pub high: Option<f64>,
    /// Whether values are seconds of silence.
    pub silence: bool,
    /// How long a value must be out before it is told, seconds.
    pub out_for_seconds: u64,
    /// How long it must be back before that is told, seconds.
    pub back_for_seconds: u64,
    /// What whoever is told should know or do.
    pub text: String,
    /// Who is told.
    pub tell: Vec<String>,
    /// Where the worst of its subjects is.
    pub phase: AlertPhase,
    /// Since when.
    #[serde(with = "time::serde::rfc3339::option")]
    pub since: Option<OffsetDateTime>,
    /// Present while nobody is told.
    pub quiet: Option<QuietView>,
    /// What it is about: those first that are out, then by name.
    pub standings: Vec<StandingView>,
    /// How many subjects there are in all.
    pub subjects: u64,
    /// Messages that were not looked at, because they, or their topics, were too many.
    pub unwatched: u64,
    /// Messages that had no number where it should stand.
    pub without_number: u64,
}

/// All alerts.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AlertList {
    /// Those that are raised first, by severity.
    pub alerts: Vec<AlertView>,
    /// How many are raised, clearing ones too.
    pub raised: u64,
    /// Notices that wait.
    pub waiting_notices: u64,
}

#[cfg(test)]
mod tests {
    use time::macros::datetime;

    use super::*;

    fn facts(kind: NoticeKind) -> NoticeFacts {
        let level = NoticeSubject {
            name: "harrowmere/gorge/kettle-weir/stage/level".into(),
            value: Some(2.413_000_01),
            worst: Some(2.6),
            out_since: Some(datetime!(2026-11-28 09:15:00 UTC)),
            out_seconds: None,
            flapping: false,
        };
        NoticeFacts {
            id: "1".into(),
            kind,
            broker: "harrowmere".into(),
            alert: "gorge high".into(),
            severity: AlertSeverity::Critical,
            purpose: String::new(),
            text: "Close the footpath.".into(),
            watches: "m in harrowmere/gorge/+/stage/level".into(),
            low: None,
            high: Some(2.4),
            silence: false,
            at: datetime!(2026-11-28 09:15:30 UTC),
            subjects: vec![level],
            more: 0,
        }
    }

    #[test]
    fn a_notice_says_what_since_when_the_value_and_the_band() {
        let raised = facts(NoticeKind::Raised).to_string();
        assert_eq!(
            raised,
            "harrowmere, critical: gorge high: harrowmere/gorge/kettle-weir/stage/level is 2.413\n\n\
             harrowmere/gorge/kettle-weir/stage/level: 2.413, out since 2026-11-28 09:15:00 UTC\n\
             The band is at most 2.4.\n\nClose the footpath.\n\n\
             Alert gorge high, watching m in harrowmere/gorge/+/stage/level. Told 2026-11-28 09:15:30 UTC.\n"
        );
    }

    #[test]
    fn a_notice_of_what_is_back_says_how_long_it_was_out() {
        let mut back = facts(NoticeKind::Cleared);
        back.subjects[0].out_seconds = Some(180.0);
        assert!(back.to_string().contains("; it was out for 3 min, furthest out at 2.6\n"), "{back}");
        back.more = 11;
        assert!(back.title().ends_with("back: gorge high: 12 topics") && back.to_string().contains("and 11 more"));
        let mut silent = facts(NoticeKind::Raised);
        (silent.silence, silent.high) = (true, Some(900.0));
        silent.subjects[0].value = Some(1_000.0);
        assert!(silent.to_string().contains("level: silent for 16 min, out since"), "{silent}");
        assert!(silent.to_string().contains("The band is silence of at most 15 min."), "{silent}");
    }
}
