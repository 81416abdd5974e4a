//! What a payload says, as expressions see it: made of JSON at once, with its texts where they stand in the payload.

use std::{cell::Cell, collections::HashMap, fmt};

use cel::common::{
    types::{CelBool, CelDouble, CelList, CelMap, CelMapKey, CelNull, CelString},
    value::Val,
};
use serde::de::{DeserializeSeed, Deserializer, MapAccess, SeqAccess, Visitor};

use super::{NoValue, PAYLOAD, cost};

/// A value that expressions can look into.
pub type PayloadValue<'m> = Box<dyn Val + 'm>;

/// What a payload says: its fields if it is JSON, else its text.
///
/// # Errors
///
/// It is too long, or has a list, or an object, of more values than an expression goes through.
pub(crate) fn payload_of(payload: &[u8]) -> Result<PayloadValue<'_>, NoValue> {
    if payload.len() > PAYLOAD {
        return Err(NoValue::PayloadTooLong);
    }
    let is_long = Cell::new(false);
    let mut json = serde_json::Deserializer::from_slice(payload);
    let read = Reading(&is_long).deserialize(&mut json).and_then(|said| json.end().map(|()| said));
    match read {
        Ok(_) if is_long.get() => Err(NoValue::ListTooLong),
        Ok(said) => Ok(said),
        Err(_) => Ok(Box::new(CelString::from(String::from_utf8_lossy(payload)))),
    }
}

/// Reads a value, and notes whether there is a list that is too long.
#[derive(Clone, Copy)]
struct Reading<'c>(&'c Cell<bool>);

impl Reading<'_> {
    fn note(self, count: usize) {
        if count as u64 > cost::ITEMS {
            self.0.set(true);
        }
    }
}

impl<'de> DeserializeSeed<'de> for Reading<'_> {
    type Value = PayloadValue<'de>;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<PayloadValue<'de>, D::Error> {
        deserializer.deserialize_any(self)
    }
}

#[allow(clippy::cast_precision_loss, reason = "JSON knows one kind of number, so all are of one kind here too")]
impl<'de> Visitor<'de> for Reading<'_> {
    type Value = PayloadValue<'de>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("JSON")
    }

    fn visit_bool<E>(self, truth: bool) -> Result<PayloadValue<'de>, E> {
        Ok(Box::new(CelBool::from(truth)))
    }

    fn visit_i64<E>(self, number: i64) -> Result<PayloadValue<'de>, E> {
        Ok(Box::new(CelDouble::from(number as f64)))
    }

    fn visit_u64<E>(self, number: u64) -> Result<PayloadValue<'de>, E> {
        Ok(Box::new(CelDouble::from(number as f64)))
    }

    fn visit_f64<E>(self, number: f64) -> Result<PayloadValue<'de>, E> {
        Ok(Box::new(CelDouble::from(number)))
    }

    fn visit_borrowed_str<E>(self, text: &'de str) -> Result<PayloadValue<'de>, E> {
        Ok(Box::new(CelString::from(text)))
    }

    fn visit_str<E>(self, text: &str) -> Result<PayloadValue<'de>, E> {
        Ok(Box::new(CelString::from(text.to_owned())))
    }

    fn visit_unit<E>(self) -> Result<PayloadValue<'de>, E> {
        Ok(Box::new(CelNull))
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut items: A) -> Result<PayloadValue<'de>, A::Error> {
        let mut all: Vec<PayloadValue<'de>> = Vec::new();
        while let Some(item) = items.next_element_seed(self)? {
            all.push(item);
        }
        self.note(all.len());
        Ok(Box::new(CelList::from(all)))
    }

    fn visit_map<A: MapAccess<'de>>(self, mut entries: A) -> Result<PayloadValue<'de>, A::Error> {
        let mut all: HashMap<CelMapKey<'de>, PayloadValue<'de>> = HashMap::new();
        while let Some(name) = entries.next_key_seed(Name)? {
            all.insert(name, entries.next_value_seed(self)?);
        }
        self.note(all.len());
        Ok(Box::new(CelMap::from(all)))
    }
}

/// Reads the name of a field.
struct Name;

impl<'de> DeserializeSeed<'de> for Name {
    type Value = CelMapKey<'de>;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<CelMapKey<'de>, D::Error> {
        deserializer.deserialize_str(self)
    }
}

impl<'de> Visitor<'de> for Name {
    type Value = CelMapKey<'de>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("the name of a field")
    }

    fn visit_borrowed_str<E>(self, name: &'de str) -> Result<CelMapKey<'de>, E> {
        Ok(name.into())
    }

    fn visit_str<E>(self, name: &str) -> Result<CelMapKey<'de>, E> {
        Ok(name.to_owned().into())
    }
}
