//! One module for each command.

pub(crate) mod access;
pub(crate) mod authorities;
pub(crate) mod blueprint;
mod bulk;
pub(crate) mod cert;
pub(crate) mod demo;
pub(crate) mod drill;
pub(crate) mod identities;
pub(crate) mod journey;
pub(crate) mod manual;
pub(crate) mod people;
pub(crate) mod publish;
pub(crate) mod recording;
pub(crate) mod remote;
pub(crate) mod request;
pub(crate) mod retained;
pub(crate) mod serve;
pub(crate) mod sessions;
pub(crate) mod status;
pub(crate) mod subscribe;
pub(crate) mod topics;

use std::time::Duration;

use moorfall_wire::QoS;

/// A quality of service that this client speaks.
pub(crate) fn qos(text: &str) -> Result<QoS, String> {
    match text {
        "0" => Ok(QoS::AtMostOnce),
        "1" => Ok(QoS::AtLeastOnce),
        "2" => Ok(QoS::ExactlyOnce),
        _ => Err("write 0, 1 or 2".into()),
    }
}

/// A time such as `30s`, `5m` or `2h`.
pub(crate) fn parse_span(text: &str) -> Result<Duration, String> {
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
pub(crate) fn parse_short_span(text: &str) -> Result<Duration, String> {
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
