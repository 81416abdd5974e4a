//! Payloads as people and expressions see them: JSON.

use std::fmt;

use base64::{Engine, engine::general_purpose::STANDARD};
use serde_json::{Map, Value as Json, json};

use super::{
    address::{Address, CERTIFICATES},
    data_type::DataType,
    decode,
    fault::Fault,
    frame::{DataSet, Metric, MetricValue, Parameter, Payload, PropertyContent, PropertySet, Template},
    value::Value,
};

/// A payload as JSON: its time, its number and its metrics.
///
/// # Errors
///
/// It is none, or more than is looked into.
pub fn show(payload: &[u8]) -> Result<Json, Fault> {
    let Payload { timestamp, metrics, seq, uuid, body } = decode(payload)?;
    let mut shown = Map::new();
    put(&mut shown, "timestamp", timestamp);
    put(&mut shown, "seq", seq);
    shown.insert("metrics".into(), metrics.iter().map(metric).collect());
    put(&mut shown, "uuid", uuid);
    put(&mut shown, "body", body.map(|body| STANDARD.encode(body)));
    Ok(Json::Object(shown))
}

/// What a message says, if its topic is one of the standard and its payload is whole and of it. The births that a server keeps
/// are told, too.
pub fn told(topic: &str, payload: &[u8]) -> Option<Json> {
    let topic = topic.strip_prefix(CERTIFICATES).unwrap_or(topic);
    let is_of_it = matches!(Address::of(topic), Some(Address::Of(..))) && !payload.is_empty();
    is_of_it.then(|| show(payload).ok()).flatten()
}

fn put(into: &mut Map<String, Json>, name: &str, value: Option<impl Into<Json>>) {
    if let Some(value) = value {
        into.insert(name.into(), value.into());
    }
}

/// The value of a metric, whose type is that which it says itself, or else this one.
///
/// # Errors
///
/// It is of another form than its type.
pub fn metric_value(metric: &Metric, known: Option<DataType>) -> Result<Value, Fault> {
    let of = |number| DataType::of(number).ok_or(Fault::DataType(number));
    let told = metric.datatype.filter(|number| *number > 0).map(of).transpose()?;
    match &metric.value {
        Some(value) if metric.is_null != Some(true) => value.value(told.or(known)),
        _ => Ok(Value::Null),
    }
}

fn metric(metric: &Metric) -> Json {
    let mut shown = Map::new();
    put(&mut shown, "name", metric.name.as_deref());
    put(&mut shown, "alias", metric.alias);
    let data_type = metric.datatype.map(|number| match DataType::of(number) {
        Some(known) => Json::from(<&str>::from(known)),
        None => number.into(),
    });
    put(&mut shown, "type", data_type);
    match metric_value(metric, None) {
        Ok(value) => {
            shown.insert("value".into(), json(&value));
        }
        Err(fault) => {
            shown.insert("fault".into(), fault.to_string().into());
        }
    }
    put(&mut shown, "timestamp", metric.timestamp);
    put(&mut shown, "historical", metric.is_historical.filter(|is| *is));
    put(&mut shown, "transient", metric.is_transient.filter(|is| *is));
    put(&mut shown, "properties", metric.properties.as_ref().map(properties));
    Json::Object(shown)
}

/// A value as JSON. Numbers that JSON has not, such as infinity, are texts; bytes are in Base64.
fn json(value: &Value) -> Json {
    let double = |number: f64| if number.is_finite() { json!(number) } else { number.to_string().into() };
    match value {
        Value::Null => Json::Null,
        Value::Int(number) => (*number).into(),
        Value::UInt(number) | Value::DateTime(number) => (*number).into(),
        // The shortest text that is this number of single precision.
        Value::Float(number) => number.to_string().parse().map_or_else(|_| number.to_string().into(), double),
        Value::Double(number) => double(*number),
        Value::Boolean(truth) => (*truth).into(),
        Value::Text(text) => text.as_str().into(),
        Value::Bytes(bytes) => STANDARD.encode(bytes).into(),
        Value::Array(values) => values.iter().map(json).collect(),
        Value::DataSet(table) => data_set(table),
        Value::Template(model) => template(model),
    }
}

/// The properties of a metric, such as its unit, by their names.
fn properties(set: &PropertySet) -> Json {
    let named = set.keys.iter().zip(&set.values);
    let shown = named.map(|(name, property)| {
        let data_type = property.r#type.and_then(DataType::of);
        let value = match &property.value {
            Some(PropertyContent::Set(inner)) => properties(inner),
            Some(PropertyContent::Sets(list)) => list.sets.iter().map(properties).collect(),
            Some(value) if property.is_null != Some(true) => {
                value.value(data_type).map_or_else(|fault| fault.to_string().into(), |value| json(&value))
            }
            _ => Json::Null,
        };
        (name.clone(), value)
    });
    Json::Object(shown.collect())
}

fn data_set(DataSet { columns, types, rows, .. }: &DataSet) -> Json {
    let types: Vec<Option<DataType>> = types.iter().map(|number| DataType::of(*number)).collect();
    let row = |row: &super::frame::Row| -> Json {
        let cells = row.elements.iter().enumerate();
        let cell = |(place, cell): (usize, &super::frame::Cell)| match &cell.value {
            None => Json::Null,
            Some(value) => {
                let wanted = types.get(place).copied().flatten();
                value.value(wanted).map_or_else(|fault| fault.to_string().into(), |value| json(&value))
            }
        };
        cells.map(cell).collect()
    };
    json!({ "columns": columns, "rows": rows.iter().map(row).collect::<Json>() })
}

fn template(model: &Template) -> Json {
    let mut shown = Map::new();
    put(&mut shown, "definition", model.is_definition.filter(|is| *is));
    put(&mut shown, "template", model.template_ref.as_deref());
    put(&mut shown, "version", model.version.as_deref());
    shown.insert("metrics".into(), model.metrics.iter().map(metric).collect());
    let parameter = |Parameter { name, r#type, value }: &Parameter| {
        let data_type = r#type.and_then(DataType::of);
        let value = value.as_ref().map(|value| value.value(data_type));
        let value = match value {
            None => Json::Null,
            Some(Ok(value)) => json(&value),
            Some(Err(fault)) => fault.to_string().into(),
        };
        (name.clone().unwrap_or_default(), value)
    };
    if !model.parameters.is_empty() {
        shown.insert("parameters".into(), Json::Object(model.parameters.iter().map(parameter).collect()));
    }
    Json::Object(shown)
}

impl Metric {
    /// A metric of this name, type and value, measured at this time, milliseconds since 1970; `None` if the value is not of
    /// the type.
    pub fn named(name: &str, data_type: DataType, value: &Value, at: u64) -> Option<Self> {
        let (value, is_null) = match value {
            Value::Null => (None, Some(true)),
            value => (Some(MetricValue::of(value, data_type)?), None),
        };
        let (name, timestamp, datatype) = (Some(name.to_owned()), Some(at), Some(data_type as u32));
        Some(Self { name, timestamp, datatype, is_null, value, ..Self::default() })
    }
}

impl fmt::Display for Value {
    /// As it is shown to people, on one line.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Text(text) => f.write_str(text),
            other => json(other).fmt(f),
        }
    }
}
