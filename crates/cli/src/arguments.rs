//! Values that several commands read.
use std::time::Duration;

use moorfall_core::Condition;
use moorfall_wire::{QoS, TopicFilter};
use time::{
    Date, OffsetDateTime, PrimitiveDateTime, format_description::well_known::Rfc3339, macros::format_description,
};

use crate::output::printable;

/// A value that is not what it should be; the sentence is for whoever wrote it.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct Misread(pub String);

impl From<&str> for Misread {
    fn from(words: &str) -> Self {
        Self(words.into())
    }
}

/// A quality of service that this client speaks.
pub fn qos(text: &str) -> Result<QoS, Misread> {
    match text {
        "0" => Ok(QoS::AtMostOnce),
        "1" => Ok(QoS::AtLeastOnce),
        "2" => Ok(QoS::ExactlyOnce),
        _ => Err("use 0, 1 or 2".into()),
    }
}

/// A time such as `100ms`, `30s`, `5m` or `1h 30m`.
pub fn duration(text: &str) -> Result<Duration, Misread> {
    duration_or_none(text).ok().filter(|time| !time.is_zero()).ok_or_else(|| no_duration(text))
}

/// The same, or `0s`.
pub fn duration_or_none(text: &str) -> Result<Duration, Misread> {
    humantime::parse_duration(text).map_err(|_| no_duration(text))
}

fn no_duration(text: &str) -> Misread {
    Misread(format!("`{text}` is not a time; write for example 100ms, 30s, 5m or 2h"))
}

/// A time of the calendar, or how long ago something was.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum When {
    /// So long ago.
    Ago(Duration),
    /// Then.
    At(OffsetDateTime),
}

/// A time such as `2h` (ago), `2026-11-20`, `2026-11-20T09:30` (both in UTC) or `2026-11-20T09:30:00+01:00`.
pub fn when(text: &str) -> Result<When, Misread> {
    if let Ok(ago) = duration(text) {
        return Ok(When::Ago(ago));
    }
    let day = format_description!("[year]-[month]-[day]");
    let minute = format_description!("[year]-[month]-[day]T[hour]:[minute]");
    let at = OffsetDateTime::parse(text, &Rfc3339).ok();
    let at = at.or_else(|| PrimitiveDateTime::parse(text, minute).ok().map(PrimitiveDateTime::assume_utc));
    let at = at.or_else(|| Date::parse(text, day).ok().map(|day| day.midnight().assume_utc()));
    at.map(When::At).ok_or_else(|| {
        Misread(format!("`{text}` is not a time; write for example 2h (ago), 2026-11-20 or 2026-11-20T09:30 (in UTC)"))
    })
}

impl When {
    /// The time, seen from `now`.
    pub fn seen_from(self, now: OffsetDateTime) -> OffsetDateTime {
        match self {
            Self::Ago(time) => now.checked_sub(time.try_into().unwrap_or(time::Duration::MAX)).unwrap_or(now),
            Self::At(at) => at,
        }
    }
}

/// The same in whole seconds, no less than it was; as many as the protocol can say at most.
pub fn whole_seconds(time: Duration) -> u32 {
    let seconds = time.as_secs().saturating_add(u64::from(time.subsec_nanos() > 0));
    u32::try_from(seconds).unwrap_or(u32::MAX)
}

/// A filter, and the QoS that is wished for it.
#[derive(Clone, Debug)]
pub struct Wanted {
    /// Which topics.
    pub filter: TopicFilter,
    /// The highest QoS, if one is said.
    pub qos: Option<QoS>,
}

/// A filter, or what is wrong with it with the character pointed at.
pub fn filter(text: &str) -> Result<TopicFilter, Misread> {
    text.parse::<TopicFilter>().map_err(|error| match error.at() {
        None => Misread(error.to_string()),
        Some(at) => pointed(text, at, &error.to_string()),
    })
}

/// An expression over topic and payload.
pub fn condition(text: &str) -> Result<Condition, Misread> {
    Condition::parse(text).map_err(|error| pointed(text, error.at, &error.message))
}

/// A filter with its QoS, or what is wrong with it with the character pointed at.
pub fn wanted(text: &str) -> Result<Wanted, Misread> {
    let (text, qos) = match text.rsplit_once(':') {
        Some((filter, level @ ("0" | "1" | "2"))) => (filter, Some(qos(level)?)),
        _ => (text, None),
    };
    Ok(Wanted { filter: filter(text)?, qos })
}

fn pointed(text: &str, at: usize, words: &str) -> Misread {
    let before = text.get(..at).map_or(0, |before| before.chars().count());
    Misread(format!("{words}\n  {}\n  {}^", printable(text), " ".repeat(before)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_are_read() {
        assert_eq!(duration("30s"), Ok(Duration::from_secs(30)));
        assert_eq!(duration("1h 30m"), Ok(Duration::from_secs(5_400)));
        assert_eq!(duration("100ms").map(whole_seconds), Ok(1));
        assert_eq!(duration("9999y").map(whole_seconds), Ok(u32::MAX));
        for wrong in ["", "30", "s", "-1s", "0s", "1x", "é", "99999999999999999999h", "9999999999999999999h"] {
            assert!(duration(wrong).is_err(), "{wrong}");
        }
    }

    #[test]
    fn times_are_of_the_calendar_or_ago() {
        assert_eq!(when("90m"), Ok(When::Ago(Duration::from_secs(5_400))));
        let at = |text: &str| match when(text) {
            Ok(When::At(at)) => at.unix_timestamp(),
            other => panic!("{text}: {other:?}"),
        };
        assert_eq!(at("2026-11-20"), 1_795_132_800);
        assert_eq!(at("2026-11-20T09:30"), 1_795_132_800 + 9 * 3_600 + 1_800);
        assert_eq!(at("2026-11-20T09:30:00+01:00"), 1_795_132_800 + 8 * 3_600 + 1_800);
        for wrong in ["", "yesterday", "2026-13-01", "2026-11-20 09:30", "0s"] {
            assert!(when(wrong).is_err(), "{wrong}");
        }
        let now = OffsetDateTime::UNIX_EPOCH;
        assert_eq!(When::Ago(Duration::from_secs(60)).seen_from(now), now - Duration::from_secs(60));
    }
}
