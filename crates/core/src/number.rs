//! The number in a payload, found without reading the rest into memory.

use std::fmt;

use serde::de::{DeserializeSeed, Deserializer, IgnoredAny, MapAccess, SeqAccess, Visitor};

/// Longer payloads are not looked into, bytes.
const LONGEST: usize = 256 * 1024;

/// The number in a payload: at a path of fields in JSON, or all of it if the path is empty. `None` if there is none. Texts
/// that are a number are one, and truth is 1 or 0. In a list a field is a place, from 0.
pub fn number_in(payload: &[u8], field: &[String]) -> Option<f64> {
    if payload.len() > LONGEST {
        return None;
    }
    let number = if field.is_empty() {
        std::str::from_utf8(payload).ok()?.trim().parse().ok()?
    } else {
        let mut json = serde_json::Deserializer::from_slice(payload);
        let number = Sought(field).deserialize(&mut json).ok()?;
        json.end().ok()?;
        number?
    };
    number.is_finite().then_some(number)
}

/// A number that is sought along a path.
struct Sought<'a>(&'a [String]);

impl<'de> DeserializeSeed<'de> for Sought<'_> {
    type Value = Option<f64>;

    fn deserialize<D: Deserializer<'de>>(self, json: D) -> Result<Self::Value, D::Error> {
        json.deserialize_any(self)
    }
}

impl Sought<'_> {
    /// What a value is that can't have fields.
    fn at_end(&self, number: Option<f64>) -> Option<f64> {
        number.filter(|_| self.0.is_empty())
    }
}

impl<'de> Visitor<'de> for Sought<'_> {
    type Value = Option<f64>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("JSON")
    }

    fn visit_unit<E>(self) -> Result<Self::Value, E> {
        Ok(None)
    }

    fn visit_bool<E>(self, yes: bool) -> Result<Self::Value, E> {
        Ok(self.at_end(Some(f64::from(u8::from(yes)))))
    }

    fn visit_i64<E>(self, number: i64) -> Result<Self::Value, E> {
        Ok(self.at_end(Some(number as f64)))
    }

    fn visit_u64<E>(self, number: u64) -> Result<Self::Value, E> {
        Ok(self.at_end(Some(number as f64)))
    }

    fn visit_f64<E>(self, number: f64) -> Result<Self::Value, E> {
        Ok(self.at_end(Some(number)))
    }

    fn visit_str<E>(self, text: &str) -> Result<Self::Value, E> {
        Ok(self.at_end(text.trim().parse().ok()))
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut items: A) -> Result<Self::Value, A::Error> {
        let sought = self.0.split_first().and_then(|(name, rest)| Some((name.parse::<usize>().ok()?, rest)));
        let mut found = None;
        for place in 0.. {
            let more = match sought {
                Some((wanted, rest)) if wanted == place => {
                    items.next_element_seed(Sought(rest))?.map(|number| found = number)
                }
                _ => items.next_element::<IgnoredAny>()?.map(drop),
            };
            if more.is_none() {
                break;
            }
        }
        Ok(found)
    }

    fn visit_map<A: MapAccess<'de>>(self, mut fields: A) -> Result<Self::Value, A::Error> {
        let sought = self.0.split_first();
        let mut found = None;
        while let Some(is_wanted) = fields.next_key_seed(Named(sought.map(|(name, _)| name.as_str())))? {
            match sought {
                // Of two fields with one name the last one counts.
                Some((_, rest)) if is_wanted => found = fields.next_value_seed(Sought(rest))?,
                _ => drop(fields.next_value::<IgnoredAny>()?),
            }
        }
        Ok(found)
    }
}

/// Whether the name of a field is this one; no name is that of nothing.
struct Named<'a>(Option<&'a str>);

impl<'de> DeserializeSeed<'de> for Named<'_> {
    type Value = bool;

    fn deserialize<D: Deserializer<'de>>(self, name: D) -> Result<bool, D::Error> {
        name.deserialize_str(self)
    }
}

impl Visitor<'_> for Named<'_> {
    type Value = bool;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("the name of a field")
    }

    fn visit_str<E>(self, name: &str) -> Result<bool, E> {
        Ok(self.0 == Some(name))
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn numbers_are_found_in_payloads() {
        let field = |path: &str| path.split('.').filter(|name| !name.is_empty()).map(str::to_owned).collect::<Vec<_>>();
        let number = |payload: &str, path| number_in(payload.as_bytes(), &field(path));
        assert_eq!(number("{\"m\": 1.83}", "m"), Some(1.83));
        assert_eq!(number("{\"stage\": {\"m\": \"1.83\"}, \"dry\": true}", "stage.m"), Some(1.83));
        assert_eq!(number("{\"dry\": true}", "dry"), Some(1.0));
        assert_eq!(number("[[1, 2], [3]]", "0.1"), Some(2.0));
        assert_eq!(number(" 37.5\n", ""), Some(37.5));
        for (payload, path) in
            [("{\"m\": null}", "m"), ("{\"m\": 1}", "mm"), ("{", "m"), ("wet", ""), ("NaN", ""), ("", "")]
        {
            assert_eq!(number(payload, path), None, "{payload} {path}");
        }
    }

    /// JSON of a few names, some of which lead somewhere.
    fn json() -> impl Strategy<Value = serde_json::Value> {
        let leaf = prop_oneof![
            Just(serde_json::Value::Null),
            any::<bool>().prop_map(Into::into),
            any::<i64>().prop_map(Into::into),
            any::<u64>().prop_map(Into::into),
            (-1e300..1e300).prop_map(|number: f64| number.into()),
            "( ?[0-9.e-]{0,5} ?|inf|\\PC{0,5})".prop_map(Into::into),
        ];
        leaf.prop_recursive(4, 40, 4, |inner| {
            prop_oneof![
                prop::collection::vec(inner.clone(), 0..4).prop_map(Into::into),
                prop::collection::btree_map("[abc01\"é]{1,2}", inner, 0..4)
                    .prop_map(|all| serde_json::Value::Object(all.into_iter().collect())),
            ]
        })
    }

    proptest! {
        /// A number is found as it would be in all of the text, read into memory.
        #[test]
        fn a_number_is_found_without_reading_the_rest_into_memory(
            json in json(), field in prop::collection::vec("[ab01]", 1..4), cut in any::<prop::sample::Index>()
        ) {
            let text = json.to_string();
            let found = field.iter().try_fold(&json, |value, name| match value {
                serde_json::Value::Array(items) => items.get(name.parse::<usize>().ok()?),
                value => value.get(name),
            });
            let number = found.and_then(|found| match found {
                serde_json::Value::Number(number) => number.as_f64(),
                serde_json::Value::String(text) => text.trim().parse().ok().filter(|number: &f64| number.is_finite()),
                serde_json::Value::Bool(yes) => Some(f64::from(u8::from(*yes))),
                _ => None,
            });
            prop_assert_eq!(number_in(text.as_bytes(), &field), number, "{}", text);
            // A part of it is nothing at all.
            let part = &text.as_bytes()[..cut.index(text.len())];
            if serde_json::from_slice::<serde_json::Value>(part).is_err() {
                prop_assert_eq!(number_in(part, &field), None);
            }
        }
    }
}
