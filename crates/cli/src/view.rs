//! How messages are printed.

use std::{
    io::{self, Write},
    time::Duration,
};

use base64::{Engine, engine::general_purpose::STANDARD};
use clap::ValueEnum;
use moorfall_payload::sparkplug;
use moorfall_wire::{Publish, PublishProperties};
use serde_json::{Value, json};
use time::{OffsetDateTime, format_description::well_known::Rfc3339};

use crate::{
    output::{self, FAINT, STRONG, bytes, printable},
    payload::Shown,
};

/// What is printed of a message.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum Show {
    /// Only the payload; with --payload-as auto exactly as it arrived
    Payload,
    /// Topic and payload
    #[default]
    Topic,
    /// Time, QoS, flags, properties, topic and payload
    All,
    /// One JSON object per line
    Json,
}

/// How messages are printed.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct View {
    pub(crate) show: Show,
    pub(crate) payload: Shown,
}

impl View {
    /// Prints a message.
    pub(crate) fn print(self, message: &Publish) -> io::Result<()> {
        match self.show {
            Show::Payload if self.payload == Shown::Auto => {
                let mut out = io::stdout().lock();
                out.write_all(&message.payload)?;
                out.write_all(b"\n").and_then(|()| out.flush())
            }
            Show::Payload => output::line(self.payload.write_of(&message.topic, &message.payload)),
            Show::Json => output::line(as_json(message)),
            Show::Topic | Show::All => output::line(self.text(message)),
        }
    }

    /// A message as text.
    pub(crate) fn text(self, message: &Publish) -> String {
        let retained = if message.retain { " (retained)" } else { "" };
        let payload = self.payload.write_of(&message.topic, &message.payload);
        // What takes several lines begins on one of its own.
        let gap = if payload.contains('\n') { "\n" } else { " " };
        let topic = printable(&message.topic);
        if self.show != Show::All {
            return format!("{topic}{retained}{gap}{payload}");
        }
        let now = OffsetDateTime::now_utc();
        let (hour, minute, second, milli) = (now.hour(), now.minute(), now.second(), now.millisecond());
        let mut marks = format!("QoS {}", message.qos.level());
        for (marked, mark) in [(message.retain, ", retained"), (message.duplicate, ", duplicate")] {
            if marked {
                marks.push_str(mark);
            }
        }
        let mut text = format!(
            "{FAINT}{hour:02}:{minute:02}:{second:02}.{milli:03}{FAINT:#} {STRONG}{topic}{STRONG:#} {FAINT}({marks}, \
             {}){FAINT:#}",
            bytes(message.payload.len() as f64)
        );
        for (name, value) in properties(&message.properties) {
            text.push_str(&format!("\n  {FAINT}{name:18}{FAINT:#}{}", printable(&value)));
        }
        text.push_str("\n  ");
        text.push_str(&payload.replace('\n', "\n  "));
        text
    }
}

/// The properties of a message, each with its name, in words.
fn properties(all: &PublishProperties) -> Vec<(String, String)> {
    let mut found = Vec::new();
    let mut note = |name: &str, value: Option<String>| {
        if let Some(value) = value {
            found.push((name.to_owned(), value));
        }
    };
    note("Content Type", all.content_type.as_ref().map(ToString::to_string));
    note("Expires in", all.message_expiry_interval.map(|seconds| output::span(seconds.into())));
    note("Response Topic", all.response_topic.as_ref().map(ToString::to_string));
    note("Correlation Data", all.correlation_data.as_ref().map(|data| Shown::Auto.write(data)));
    let identifiers: Vec<String> =
        all.subscription_identifiers.iter().map(|identifier| identifier.0.to_string()).collect();
    note("subscription", (!identifiers.is_empty()).then(|| identifiers.join(", ")));
    for property in &all.user_properties {
        note(&printable(&property.name), Some(property.value.to_string()));
    }
    found
}

/// A message as a program reads it.
pub(crate) fn as_json(message: &Publish) -> Value {
    let mut object = json!({
        "received_at": OffsetDateTime::now_utc().format(&Rfc3339).unwrap_or_default(),
        "topic": &*message.topic,
        "qos": message.qos.level(),
        "retained": message.retain,
    });
    put_payload(&mut object, &message.payload);
    if let Some(told) = sparkplug::told(&message.topic, &message.payload) {
        object["sparkplug"] = told;
    }
    let all = &message.properties;
    let mut properties = serde_json::Map::new();
    let mut put = |name: &str, value: Option<Value>| {
        if let Some(value) = value {
            properties.insert(name.to_owned(), value);
        }
    };
    put("content_type", all.content_type.as_ref().map(|text| text.to_string().into()));
    put("expiry_seconds", all.message_expiry_interval.map(Into::into));
    put("response_topic", all.response_topic.as_ref().map(|text| text.to_string().into()));
    put("correlation_base64", all.correlation_data.as_ref().map(|data| STANDARD.encode(data).into()));
    let user: Vec<Value> =
        all.user_properties.iter().map(|property| json!([&*property.name, &*property.value])).collect();
    put("user", (!user.is_empty()).then(|| user.into()));
    if !properties.is_empty() {
        object["properties"] = properties.into();
    }
    object
}

/// A payload in JSON: as text if it is some, else in Base64.
pub(crate) fn put_payload(object: &mut Value, payload: &[u8]) {
    match std::str::from_utf8(payload) {
        Ok(text) => object["payload"] = text.into(),
        Err(_) => object["payload_base64"] = STANDARD.encode(payload).into(),
    }
}

/// A rate for people.
pub(crate) fn rate(number: u64, time: Duration) -> String {
    let rate = number as f64 / time.as_secs_f64().max(0.001);
    if rate < 100.0 { format!("{rate:.1}") } else { output::count(rate as u64) }
}

#[cfg(test)]
mod tests {
    use bytes::Bytes;
    use moorfall_wire::{QoS, UserProperty};

    use super::*;

    fn message(payload: &[u8]) -> Publish {
        let topic = "harrowmere/gorge/kettle-weir/stage/level".parse().unwrap();
        Publish::new(topic, Bytes::copy_from_slice(payload), QoS::AtLeastOnce)
    }

    fn text(show: Show, payload: Shown, message: &Publish) -> String {
        View { show, payload }.text(message)
    }

    #[test]
    fn topic_and_payload_stand_on_a_line_unless_the_payload_needs_several() {
        let mut level = message(b"{\"m\":1.83}");
        assert_eq!(text(Show::Topic, Shown::Auto, &level), "harrowmere/gorge/kettle-weir/stage/level {\"m\":1.83}");
        level.retain = true;
        let pretty = text(Show::Topic, Shown::Json, &level);
        assert_eq!(pretty, "harrowmere/gorge/kettle-weir/stage/level (retained)\n{\n  \"m\": 1.83\n}");
    }

    #[test]
    fn nothing_from_outside_commands_the_terminal() {
        let mut level = message(b"\x1b[2J");
        level.properties.content_type = Some("\u{1b}]0;x\u{7}".into());
        level.properties.user_properties = vec![UserProperty { name: "a\u{1b}b".into(), value: "c\u{1b}d".into() }];
        for show in [Show::Topic, Show::All] {
            for form in [Shown::Auto, Shown::Text, Shown::Json, Shown::Hex, Shown::Base64] {
                let shown = text(show, form, &level);
                let plain = anstream::adapter::strip_str(&shown).to_string();
                // What is left of escapes after those of our own styles are taken away.
                assert!(!plain.contains('\u{7}'), "{shown:?}");
                assert!(
                    !shown.contains("\u{1b}[2J") && !shown.contains("\u{1b}]0") && !shown.contains("\u{1b}b"),
                    "{shown:?}"
                );
            }
        }
    }

    #[test]
    fn all_of_a_message_is_told() {
        let mut level = message(&[0xff, 1]);
        level.duplicate = true;
        level.properties = PublishProperties {
            message_expiry_interval: Some(90),
            response_topic: Some("harrowmere/answers".into()),
            correlation_data: Some(Bytes::from_static(b"c-1")),
            user_properties: vec![UserProperty { name: "sensor".into(), value: "2".into() }],
            ..PublishProperties::default()
        };
        let shown = anstream::adapter::strip_str(&text(Show::All, Shown::Auto, &level)).to_string();
        for part in [
            "(QoS 1, duplicate, 2 B)",
            "Expires in        90 s",
            "Response Topic    harrowmere/answers",
            "Correlation Data  c-1",
            "sensor            2",
            "  (binary, 2 B: ff 01)",
        ] {
            assert!(shown.contains(part), "{part}: {shown}");
        }
        let json = as_json(&level);
        assert_eq!(json["payload_base64"], "/wE=");
        assert_eq!(json["properties"]["correlation_base64"], "Yy0x");
        assert_eq!(json["properties"]["expiry_seconds"], 90);
        assert!(as_json(&message(b"online")).get("properties").is_none());
    }

    #[test]
    fn rates_are_written_for_people() {
        assert_eq!(rate(5, Duration::from_secs(2)), "2.5");
        assert_eq!(rate(2_500_000, Duration::from_secs(2)), "1,250,000");
        assert_eq!(rate(0, Duration::ZERO), "0.0");
    }
}
