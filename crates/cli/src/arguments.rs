//! Values that several commands read.
use std::time::Duration;

use moorfall_core::MessageExpression;
use moorfall_wire::{QoS, TopicFilter};

use crate::output::printable;

/// A quality of service that this client speaks.
pub fn qos(text: &str) -> Result<QoS, String> {
    match text {
        "0" => Ok(QoS::AtMostOnce),
        "1" => Ok(QoS::AtLeastOnce),
        "2" => Ok(QoS::ExactlyOnce),
        _ => Err("use 0, 1 or 2".into()),
    }
}

/// A time such as `30s`, `5m` or `2h`.
pub fn parse_span(text: &str) -> Result<Duration, String> {
    let wrong = || format!("`{text}` is not a time; write a number and s, m or h, for example 30s");
    let (number, unit) = text.split_at(text.len() - text.chars().last().map_or(0, char::len_utf8));
    let seconds = match unit {
        "s" => 1,
        "m" => 60,
        "h" => 3_600,
        _ => return Err(wrong()),
    };
    let number: u64 = number.parse().map_err(|_| wrong())?;
    number.checked_mul(seconds).map(Duration::from_secs).ok_or_else(wrong)
}

/// A time that may be as short as `100ms`.
pub fn parse_short_span(text: &str) -> Result<Duration, String> {
    match text.strip_suffix("ms").map(str::parse) {
        Some(Ok(millis @ 1..)) => Ok(Duration::from_millis(millis)),
        Some(_) => Err(format!("`{text}` is not a time; write for example 100ms")),
        None => parse_span(text)
            .and_then(|span| if span.is_zero() { Err("write a time of at least 1ms".into()) } else { Ok(span) }),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_are_read() {
        assert_eq!(parse_span("30s"), Ok(Duration::from_secs(30)));
        assert_eq!(parse_span("2h"), Ok(Duration::from_secs(7_200)));
        for wrong in ["", "30", "s", "-1s", "1d", "é", "99999999999999999999h", "9999999999999999999h"] {
            assert!(parse_span(wrong).is_err(), "{wrong}");
        }
    }
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
pub fn filter(text: &str) -> Result<TopicFilter, String> {
    text.parse::<TopicFilter>().map_err(|error| match error.at() {
        None => error.to_string(),
        Some(at) => pointed(text, at, &error.to_string()),
    })
}

/// An expression over topic and payload.
pub fn condition(text: &str) -> Result<MessageExpression, String> {
    MessageExpression::parse(text).map_err(|error| pointed(text, error.at, &error.message))
}

/// A filter with its QoS, or what is wrong with it with the character pointed at.
pub fn wanted(text: &str) -> Result<Wanted, String> {
    let (text, qos) = match text.rsplit_once(':') {
        Some((filter, level @ ("0" | "1" | "2"))) => (filter, Some(qos(level)?)),
        _ => (text, None),
    };
    Ok(Wanted { filter: filter(text)?, qos })
}

fn pointed(text: &str, at: usize, words: &str) -> String {
    let before = text.get(..at).map_or(0, |before| before.chars().count());
    format!("{words}\n  {}\n  {}^", printable(text), " ".repeat(before))
}
