//! What a topic carried last, and the numbers that it carried before.

use std::{fmt, sync::Arc};

use moorfall_core::{Said, Time};
use moorfall_wire::QoS;
use serde::{
    Deserializer,
    de::{IgnoredAny, MapAccess, Visitor},
};

/// Bytes of a payload that are kept.
pub const PREVIEW: usize = 128;

/// Numbers that are kept of a topic.
pub const NUMBERS: usize = 24;

/// Seconds between two of them at least: looking for a number in each message would cost more than it tells.
pub const SPACING: u64 = 5;

/// Longer payloads are not looked at for numbers, bytes.
const LOOKED_AT: usize = 4_096;

/// What a topic carried last.
#[derive(Clone, Debug)]
pub struct LastValue {
    /// When it was published.
    pub at: Time,
    /// Who published it.
    pub publisher: Arc<str>,
    /// The publisher's quality of service.
    pub qos: QoS,
    /// Whether it was to be retained.
    pub retain: bool,
    /// Bytes of the payload.
    pub bytes: usize,
    /// The beginning of the payload.
    pub preview: Vec<u8>,
    /// The first number of payloads now and then, oldest first; absent until there is one.
    numbers: Option<Box<Numbers>>,
    /// When a number was looked for last, seconds since 1970.
    looked: u64,
}

/// A ring.
#[derive(Clone, Debug, Default)]
struct Numbers {
    values: [f32; NUMBERS],
    count: usize,
}

impl Numbers {
    fn push(&mut self, value: f64) {
        self.values[self.count % NUMBERS] = value as f32;
        self.count += 1;
    }

    fn in_order(&self) -> impl Iterator<Item = f32> {
        let first = self.count.saturating_sub(NUMBERS);
        (first..self.count).map(|place| self.values[place % NUMBERS])
    }
}

impl LastValue {
    /// One of which nothing is known but by whom and when.
    pub fn new(publisher: &Arc<str>, at: Time) -> Self {
        Self {
            at,
            publisher: Arc::clone(publisher),
            qos: QoS::AtMostOnce,
            retain: false,
            bytes: 0,
            preview: Vec::new(),
            numbers: None,
            looked: 0,
        }
    }

    /// Takes what is carried now. `room` says whether numbers may be kept of one more topic; gives whether they are
    /// from now on.
    pub fn set(&mut self, message: Said<'_>, publisher: &Arc<str>, now: Time, room: impl FnOnce() -> bool) {
        if !Arc::ptr_eq(&self.publisher, publisher) {
            self.publisher = Arc::clone(publisher);
        }
        let payload = message.payload;
        (self.at, self.qos, self.retain, self.bytes) = (now, message.qos, message.retain, payload.len());
        self.preview.clear();
        self.preview.extend_from_slice(&payload[..payload.len().min(PREVIEW)]);
        let second = now.as_micros() / 1_000_000;
        if second >= self.looked + SPACING {
            self.looked = second;
            if let Some(number) = first_number(payload) {
                if self.numbers.is_none() && room() {
                    self.numbers = Some(Box::default());
                }
                if let Some(numbers) = &mut self.numbers {
                    numbers.push(number);
                }
            }
        }
    }

    /// Whether numbers are kept.
    pub fn has_numbers(&self) -> bool {
        self.numbers.is_some()
    }

    /// Numbers, oldest first.
    pub fn numbers(&self) -> Vec<f32> {
        self.numbers.iter().flat_map(|numbers| numbers.in_order()).collect()
    }
}

/// The number that a payload is, or the first that stands in it as a field of its own: the level of a gauge, say.
fn first_number(payload: &[u8]) -> Option<f64> {
    let first = payload.first()?;
    if payload.len() > LOOKED_AT || !(first.is_ascii_digit() || matches!(first, b'{' | b'-' | b'+' | b'.' | b' ')) {
        return None;
    }
    if *first == b'{' {
        let mut json = serde_json::Deserializer::from_slice(payload);
        return json.deserialize_map(FirstField).ok().flatten().filter(|number| number.is_finite());
    }
    let number: f64 = std::str::from_utf8(payload).ok()?.trim().parse().ok()?;
    number.is_finite().then_some(number)
}

/// Finds the first field of an object that is a number.
struct FirstField;

impl<'de> Visitor<'de> for FirstField {
    type Value = Option<f64>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("an object")
    }

    fn visit_map<M: MapAccess<'de>>(self, mut map: M) -> Result<Self::Value, M::Error> {
        let mut found = None;
        while map.next_key::<IgnoredAny>()?.is_some() {
            if found.is_none() {
                found = map.next_value::<PerhapsNumber>()?.0;
            } else {
                map.next_value::<IgnoredAny>()?;
            }
        }
        Ok(found)
    }
}

/// Any value; the number that it is, if it is one.
struct PerhapsNumber(Option<f64>);

impl<'de> serde::Deserialize<'de> for PerhapsNumber {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        deserializer.deserialize_any(Any).map(Self)
    }
}

struct Any;

impl<'de> Visitor<'de> for Any {
    type Value = Option<f64>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("any value")
    }

    fn visit_f64<E>(self, value: f64) -> Result<Self::Value, E> {
        Ok(Some(value))
    }

    fn visit_i64<E>(self, value: i64) -> Result<Self::Value, E> {
        Ok(Some(value as f64))
    }

    fn visit_u64<E>(self, value: u64) -> Result<Self::Value, E> {
        Ok(Some(value as f64))
    }

    fn visit_bool<E>(self, _: bool) -> Result<Self::Value, E> {
        Ok(None)
    }

    fn visit_str<E>(self, _: &str) -> Result<Self::Value, E> {
        Ok(None)
    }

    fn visit_unit<E>(self) -> Result<Self::Value, E> {
        Ok(None)
    }

    fn visit_seq<S: serde::de::SeqAccess<'de>>(self, mut seq: S) -> Result<Self::Value, S::Error> {
        while seq.next_element::<IgnoredAny>()?.is_some() {}
        Ok(None)
    }

    fn visit_map<M: MapAccess<'de>>(self, mut map: M) -> Result<Self::Value, M::Error> {
        while map.next_entry::<IgnoredAny, IgnoredAny>()?.is_some() {}
        Ok(None)
    }
}

#[cfg(test)]
mod tests {
    use moorfall_core::{Message, SessionKey};
    use moorfall_wire::PublishProperties;

    use super::*;

    #[test]
    fn the_first_number_of_a_payload_is_found() {
        for (payload, number) in [
            ("1.83", Some(1.83)),
            (" -4 \n", Some(-4.0)),
            (r#"{"at": "2031-03-02", "nested": {"m": 9}, "list": [1], "good": true, "m": 1.83, "n": 2}"#, Some(1.83)),
            (r#"{"count": 7}"#, Some(7.0)),
            (r#"{"m": "1.83"}"#, None),
            (r#"{"m": 1.83"#, None),
            ("online", None),
            ("", None),
            ("12 m", None),
            ("1e999", None),
            ("[1, 2]", None),
        ] {
            assert_eq!(first_number(payload.as_bytes()), number, "{payload}");
        }
        assert_eq!(first_number(&[b'1'; LOOKED_AT + 1]), None);
    }

    #[test]
    fn numbers_are_kept_apart_in_time_and_bounded() {
        let weir: Arc<str> = "kettle-weir".into();
        let at = |second: u64| Time::from_micros(second * 1_000_000);
        let mut last = LastValue::new(&weir, at(0));
        for second in 10..10 + 2 * SPACING * NUMBERS as u64 {
            let message = Message::new(
                "a".parse().unwrap(),
                second.to_string().into(),
                QoS::AtLeastOnce,
                false,
                PublishProperties::default(),
                SessionKey(1),
                at(second),
            );
            last.set(Said::from(&message), &weir, at(second), || true);
        }
        let numbers = last.numbers();
        assert_eq!(numbers.len(), NUMBERS);
        assert!(numbers.windows(2).all(|two| two[1] - two[0] == SPACING as f32), "{numbers:?}");
        assert_eq!(*numbers.last().unwrap(), (10 + (2 * NUMBERS as u64 - 1) * SPACING) as f32);
        assert_eq!(String::from_utf8_lossy(&last.preview), (9 + 2 * SPACING * NUMBERS as u64).to_string());
    }
}
