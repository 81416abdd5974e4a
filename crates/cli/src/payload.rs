//! Payloads as people write and read them.

use std::fmt::Write as _;

use base64::{Engine, engine::general_purpose::STANDARD};
use bytes::Bytes;
use clap::ValueEnum;

use moorfall_payload::sparkplug;

use crate::output::{bytes, printable};

/// How a payload is given.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum Encoding {
    /// As it is
    #[default]
    Text,
    /// As it is, after a check that it is JSON
    Json,
    /// Hexadecimal digits; spaces are ignored
    Hex,
    /// Base64
    Base64,
}

impl Encoding {
    /// The bytes of a payload that is given like this.
    pub(crate) fn read(self, text: &str) -> Result<Bytes, PayloadError> {
        let dense = || text.split_whitespace().collect::<String>();
        match self {
            Self::Text => Ok(Bytes::from(text.to_owned())),
            Self::Json => match serde_json::from_str::<serde::de::IgnoredAny>(text) {
                Ok(_) => Ok(Bytes::from(text.to_owned())),
                Err(error) => Err(PayloadError::Json(pointed(text, &error))),
            },
            Self::Hex => Ok(hex::decode(dense())?.into()),
            Self::Base64 => Ok(STANDARD.decode(dense())?.into()),
        }
    }
}

/// Why a payload can't be read as it is given.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
pub(crate) enum PayloadError {
    /// It is not JSON: why, and where.
    #[error("The payload is not JSON: {0}")]
    Json(String),
    /// It is not hexadecimal.
    #[error("The payload is not hexadecimal: {0}.")]
    Hex(#[from] hex::FromHexError),
    /// It is not Base64.
    #[error("The payload is not Base64: {0}.")]
    Base64(#[from] base64::DecodeError),
    /// Nothing is filled in for this.
    #[error("`%{{{0}}}` is unknown. Use %{{count}}, %{{time}} or %{{random}}.")]
    Unknown(String),
    /// A random number between what?
    #[error("`%{{{0}}}` has no bounds. Write %{{random 1.5..2.5}}.")]
    Bounds(String),
}

/// What is wrong with JSON, and the line with the character pointed at.
fn pointed(text: &str, error: &serde_json::Error) -> String {
    let line = text.lines().nth(error.line().saturating_sub(1)).unwrap_or_default();
    let said = error.to_string();
    let said = said.split(" at line").next().unwrap_or_default();
    // What comes before the column, as far as a screen shows it.
    let column = error.column().saturating_sub(1).min(line.len());
    let before = line.get(..column).map_or(0, |before| before.chars().count());
    let skipped = before.saturating_sub(60);
    let shown: String = line.chars().skip(skipped).take(72).collect();
    format!("{said}\n  {}\n  {}^", printable(&shown), " ".repeat(before - skipped))
}

/// How a payload is shown.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum Shown {
    /// Text as text, anything else in hexadecimal
    #[default]
    Auto,
    /// As text; what is no text is replaced
    Text,
    /// JSON over several lines; anything else as text
    Json,
    /// As a table of bytes
    Hex,
    /// In Base64
    Base64,
}

/// Bytes that are told of a payload that is no text.
const TOLD: usize = 24;

impl Shown {
    /// A payload of this topic, whose name may tell what it is.
    pub(crate) fn write_of(self, topic: &str, payload: &[u8]) -> String {
        let told = match self {
            Self::Auto | Self::Json => sparkplug::told(topic, payload),
            Self::Text | Self::Hex | Self::Base64 => None,
        };
        match told {
            Some(told) if self == Self::Json => {
                printable_lines(&serde_json::to_string_pretty(&told).unwrap_or_default())
            }
            Some(told) => printable(&told.to_string()),
            None => self.write(payload),
        }
    }

    /// A payload for a line, or for several where it needs them.
    pub(crate) fn write(self, payload: &[u8]) -> String {
        match (self, std::str::from_utf8(payload)) {
            (Self::Auto, Ok(text)) => printable(text),
            (Self::Auto, Err(_)) => {
                let mut hex = String::new();
                for byte in payload.iter().take(TOLD) {
                    let _infallible = write!(hex, " {byte:02x}");
                }
                let more = if payload.len() > TOLD { " …" } else { "" };
                format!("(binary, {}:{hex}{more})", bytes(payload.len() as f64))
            }
            (Self::Json, Ok(text)) => match serde_json::from_str::<serde_json::Value>(text) {
                Ok(value) => serde_json::to_string_pretty(&value).unwrap_or_else(|_| printable(text)),
                Err(_) => printable(text),
            },
            (Self::Text | Self::Json, _) => printable(&String::from_utf8_lossy(payload)),
            (Self::Hex, _) => dump(payload),
            (Self::Base64, _) => STANDARD.encode(payload),
        }
    }
}

fn printable_lines(text: &str) -> String {
    text.lines().map(printable).collect::<Vec<_>>().join("\n")
}

/// Sixteen bytes a line: where they are, what they are, and their text.
fn dump(payload: &[u8]) -> String {
    let mut text = format!("(binary, {})", bytes(payload.len() as f64));
    for (line, part) in payload.chunks(16).enumerate() {
        let _infallible = write!(text, "\n  {:06x} ", line * 16);
        for place in 0..16 {
            let gap = if place == 8 { "  " } else { " " };
            let _infallible = match part.get(place) {
                Some(byte) => write!(text, "{gap}{byte:02x}"),
                None => write!(text, "{gap}  "),
            };
        }
        let letters: String =
            part.iter().map(|byte| if (0x20..0x7f).contains(byte) { char::from(*byte) } else { '.' }).collect();
        let _infallible = write!(text, "  {letters}");
    }
    text
}

/// What stands for something that is other in each message: `%{count}`, `%{time}`, `%{random}`.
pub(crate) fn fill(text: &str, count: u64, random: &mut impl FnMut() -> f64) -> Result<String, PayloadError> {
    let mut filled = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find("%{") {
        let Some(end) = rest[at..].find('}') else { break };
        filled.push_str(&rest[..at]);
        let name = &rest[at + 2..at + end];
        let _infallible = match name.split_once(' ').unwrap_or((name, "")) {
            ("count", "") => write!(filled, "{count}"),
            ("time", "") => {
                let now = time::OffsetDateTime::now_utc();
                let now = now.replace_nanosecond(now.millisecond() as u32 * 1_000_000).unwrap_or(now);
                write!(filled, "{}", now.format(&time::format_description::well_known::Rfc3339).unwrap_or_default())
            }
            ("random", "") => write!(filled, "{:.3}", random()),
            ("random", span) => {
                let bounds =
                    span.split_once("..").and_then(|(low, high)| Some((low.parse().ok()?, high.parse().ok()?)));
                let (low, high): (f64, f64) = bounds.ok_or_else(|| PayloadError::Bounds(name.into()))?;
                write!(filled, "{:.3}", low + (high - low) * random())
            }
            _ => return Err(PayloadError::Unknown(name.into())),
        };
        rest = &rest[at + end + 1..];
    }
    filled.push_str(rest);
    Ok(filled)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn payloads_are_read_in_their_forms() {
        assert_eq!(Encoding::Hex.read("48 65\n6c6C 6f").unwrap(), "Hello");
        assert_eq!(Encoding::Base64.read("SGVs bG8=").unwrap(), "Hello");
        assert_eq!(Encoding::Json.read("{\"m\": 1.83}").unwrap(), "{\"m\": 1.83}");
        for (encoding, text, words) in [
            (Encoding::Hex, "4", "Odd number of digits"),
            (Encoding::Hex, "4x", "Invalid character 'x' at position 1"),
            (Encoding::Base64, "S", "not Base64"),
            (Encoding::Json, "{\"m\": }", "not JSON"),
        ] {
            assert!(encoding.read(text).unwrap_err().to_string().contains(words), "{text}");
        }
        let words = Encoding::Json.read("{\"m\": 1.83, }").unwrap_err().to_string();
        let lines: Vec<&str> = words.lines().collect();
        assert_eq!(lines[1].as_bytes()[lines[2].find('^').unwrap()], b'}', "{words}");
    }

    #[test]
    fn payloads_are_shown_in_their_forms() {
        assert_eq!(Shown::Auto.write(b"on\x1b"), "on\\u{1b}");
        assert_eq!(Shown::Auto.write(&[0xff, 0]), "(binary, 2 B: ff 00)");
        assert_eq!(Shown::Json.write(b"{\"m\":1.50}"), "{\n  \"m\": 1.5\n}");
        assert_eq!(Shown::Json.write(b"online"), "online");
        assert_eq!(Shown::Base64.write(b"Hello"), "SGVsbG8=");
        let dumped = Shown::Hex.write(b"harrowmere/gorge\xff");
        assert!(dumped.contains("68 61 72 72 6f 77 6d 65  72 65 2f 67 6f 72 67 65  harrowmere/gorge"), "{dumped}");
        assert!(dumped.lines().all(|line| line.len() <= 80) && dumped.contains("000010  ff"), "{dumped}");
    }

    #[test]
    fn payloads_of_the_industrial_standard_are_told_by_their_topics() {
        // Number 3, and a metric of name m.
        let payload = [0x12, 3, 0x0a, 1, b'm', 0x18, 3];
        let topic = "spBv1.0/harrowmere/NDATA/withy-drain";
        let told = "{\"seq\":3,\"metrics\":[{\"name\":\"m\",\"value\":null}]}";
        assert_eq!(Shown::Auto.write_of(topic, &payload), told);
        assert_eq!(Shown::Auto.write_of(&format!("$sparkplug/certificates/{topic}"), &payload), told);
        assert!(Shown::Json.write_of(topic, &payload).contains("\n  \"seq\": 3,\n"));
        assert_eq!(Shown::Base64.write_of(topic, &payload), "EgMKAW0YAw==");
        assert_eq!(Shown::Auto.write_of(topic, b"online"), "online");
        assert_eq!(Shown::Auto.write_of("harrowmere/meadows/withy-drain/power", &payload), Shown::Auto.write(&payload));
    }

    #[test]
    fn what_differs_in_each_message_is_filled_in() {
        let mut random = || 0.5;
        let filled = fill("{\"n\": %{count}, \"m\": %{random 1..3}, \"r\": %{random}}", 7, &mut random).unwrap();
        assert_eq!(filled, "{\"n\": 7, \"m\": 2.000, \"r\": 0.500}");
        assert!(fill("%{time}", 1, &mut random).unwrap().ends_with('Z'));
        assert_eq!(fill("100 %{", 1, &mut random).unwrap(), "100 %{");
        assert!(fill("%{level}", 1, &mut random).unwrap_err().to_string().contains("is unknown"));
        assert!(fill("%{random 1}", 1, &mut random).unwrap_err().to_string().contains("no bounds"));
    }
}
