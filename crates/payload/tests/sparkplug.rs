//! Payloads of Sparkplug B.
#![allow(clippy::unwrap_used, clippy::cast_possible_truncation, reason = "a test may panic")]

use moorfall_payload::sparkplug::{
    Address, DEPTH, DataType, Fault, Kind, MESSAGES, METRICS, PAYLOAD, Place, Value, decode,
    frame::{self, MetricValue, Payload},
    metric_value, show,
};
use proptest::prelude::*;
use prost::Message;
use serde_json::json;

/// A number as protocol buffers write it.
fn varint(mut number: u64) -> Vec<u8> {
    let mut bytes = Vec::new();
    while number >= 0x80 {
        bytes.push((number as u8 & 0x7f) | 0x80);
        number >>= 7;
    }
    bytes.push(number as u8);
    bytes
}

/// A field with a length, written by hand.
fn field(number: u64, inner: &[u8]) -> Vec<u8> {
    [varint(number << 3 | 2), varint(inner.len() as u64), inner.to_vec()].concat()
}

/// A field with a number, written by hand.
fn number(field: u64, value: u64) -> Vec<u8> {
    [varint(field << 3), varint(value)].concat()
}

#[test]
fn a_birth_that_was_written_by_hand_is_read() {
    let power = [
        field(1, b"pump-1/power"),
        number(2, 7),
        number(3, 1_772_432_100_000),
        number(4, 9),
        field(9, &[field(1, b"engUnit"), field(2, &[number(1, 12), field(8, b"kW")].concat())].concat()),
        [varint(12 << 3 | 5), 37.5_f32.to_le_bytes().to_vec()].concat(),
    ]
    .concat();
    let runs = [field(1, b"pump-1/runs"), number(4, 11), number(14, 1)].concat();
    let rise = [field(1, b"rise"), number(4, 2), number(10, 0xffff_fffe)].concat();
    let bytes =
        [number(1, 1_772_432_100_123), field(2, &power), field(2, &runs), field(2, &rise), number(3, 0)].concat();
    assert_eq!(
        show(&bytes).unwrap(),
        json!({
            "timestamp": 1_772_432_100_123_u64,
            "seq": 0,
            "metrics": [
                {
                    "name": "pump-1/power", "alias": 7, "type": "Float", "value": 37.5,
                    "timestamp": 1_772_432_100_000_u64, "properties": { "engUnit": "kW" }
                },
                { "name": "pump-1/runs", "type": "Boolean", "value": true },
                { "name": "rise", "type": "Int16", "value": -2 },
            ]
        })
    );
    // The same comes of it as it was.
    let read = decode(&bytes).unwrap();
    assert_eq!(decode(&read.encode_to_vec()).unwrap(), read);
}

#[test]
fn topics_are_read_and_made() {
    let node = Place { group: "harrowmere", node: "withy-drain", device: None };
    let device = Place { device: Some("pump-1"), ..node };
    assert_eq!(Address::of("spBv1.0/harrowmere/NBIRTH/withy-drain"), Some(Address::Of(node, Kind::NodeBirth)));
    assert_eq!(
        Address::of("spBv1.0/harrowmere/DCMD/withy-drain/pump-1"),
        Some(Address::Of(device, Kind::DeviceCommand))
    );
    assert_eq!(Address::of("spBv1.0/STATE/duty-desk"), Some(Address::Host("duty-desk")));
    for wrong in [
        "spBv1.0",
        "spBv1.0/",
        "spBv1.0//NBIRTH/withy-drain",
        "spBv1.0/harrowmere/NBIRTH",
        "spBv1.0/harrowmere/NBIRTH/",
        "spBv1.0/harrowmere/NBIRTH/withy-drain/pump-1",
        "spBv1.0/harrowmere/DBIRTH/withy-drain",
        "spBv1.0/harrowmere/DBIRTH/withy-drain/",
        "spBv1.0/harrowmere/DBIRTH/withy-drain/pump-1/more",
        "spBv1.0/harrowmere/nbirth/withy-drain",
        "spBv1.0/STATE/",
        "spAv1.0/harrowmere/NBIRTH/withy-drain",
        "harrowmere/meadows/withy-drain/status",
    ] {
        assert_eq!(Address::of(wrong), None, "{wrong}");
    }
    for kind in ["DBIRTH", "DDEATH", "DDATA", "DCMD"] {
        let topic = format!("spBv1.0/harrowmere/{kind}/withy-drain/pump-1");
        let Some(Address::Of(place, kind)) = Address::of(&topic) else { panic!("{topic}") };
        assert_eq!(place.topic(kind), topic);
    }
}

#[test]
fn whole_numbers_are_taken_as_two_s_complement_of_their_width_and_extended() {
    use DataType as T;
    let int = |wanted: DataType, number: u32| MetricValue::Int(number).value(Some(wanted));
    let long = |wanted: DataType, number: u64| MetricValue::Long(number).value(Some(wanted));
    for (wanted, number, expected) in [
        (T::Int8, 0xff, -1),
        (T::Int8, 0xffff_ffff, -1),
        (T::Int8, 0x80, -128),
        (T::Int8, 0x7f, 127),
        (T::Int16, 0xfffe, -2),
        (T::Int16, 0xffff_8000, -32_768),
        (T::Int32, 0x8000_0000, i64::from(i32::MIN)),
    ] {
        assert_eq!(int(wanted, number), Ok(Value::Int(expected)), "{wanted} {number:x}");
        let extended = i64::from(number.cast_signed()).cast_unsigned();
        if number > 0x7fff_ffff {
            assert_eq!(long(wanted, extended), Ok(Value::Int(expected)), "{wanted} {extended:x}");
        }
    }
    assert_eq!(long(T::Int64, u64::MAX), Ok(Value::Int(-1)));
    assert_eq!(int(T::Int8, 0x100), Err(Fault::Range { wanted: T::Int8, number: 0x100 }));
    assert_eq!(int(T::Int16, 0xfff0_ffff), Err(Fault::Range { wanted: T::Int16, number: 0xfff0_ffff }));
    assert_eq!(int(T::UInt8, 255), Ok(Value::UInt(255)));
    assert_eq!(int(T::UInt8, 256), Err(Fault::Range { wanted: T::UInt8, number: 256 }));
    assert_eq!(long(T::UInt64, u64::MAX), Ok(Value::UInt(u64::MAX)));
    assert_eq!(long(T::DateTime, 1_772_432_100_000), Ok(Value::DateTime(1_772_432_100_000)));
    assert_eq!(int(T::Boolean, 1), Ok(Value::Boolean(true)));
    let odd = MetricValue::Float(1.5).value(Some(T::Int8)).unwrap_err();
    assert_eq!(odd.to_string(), "a value of type Int8 does not stand in the field for floats");
    assert_eq!((DataType::of(35), DataType::of(0)), (None, None));
    assert_eq!(
        metric_value(
            &frame::Metric { datatype: Some(35), value: Some(MetricValue::Int(1)), ..Default::default() },
            None
        ),
        Err(Fault::DataType(35))
    );
    // Without a type a value is taken as it stands; a type that a birth has told counts where none is told.
    let metric = |datatype| frame::Metric { datatype, value: Some(MetricValue::Int(0xffff)), ..Default::default() };
    assert_eq!(metric_value(&metric(None), None), Ok(Value::UInt(0xffff)));
    assert_eq!(metric_value(&metric(None), Some(T::Int16)), Ok(Value::Int(-1)));
    assert_eq!(metric_value(&metric(Some(7)), Some(T::Int16)), Ok(Value::UInt(0xffff)));
    let null = frame::Metric { is_null: Some(true), ..metric(None) };
    assert_eq!(metric_value(&null, None), Ok(Value::Null));
}

#[test]
fn what_is_written_is_what_is_read() {
    use DataType as T;
    for (data_type, value) in [
        (T::Int8, Value::Int(-128)),
        (T::Int16, Value::Int(-2)),
        (T::Int32, Value::Int(i64::from(i32::MIN))),
        (T::Int64, Value::Int(i64::MIN)),
        (T::UInt8, Value::UInt(255)),
        (T::UInt32, Value::UInt(u64::from(u32::MAX))),
        (T::UInt64, Value::UInt(u64::MAX)),
        (T::Float, Value::Float(37.5)),
        (T::Double, Value::Double(-0.1)),
        (T::Boolean, Value::Boolean(true)),
        (T::String, Value::Text("open".into())),
        (T::DateTime, Value::DateTime(7)),
        (T::Bytes, Value::Bytes(vec![1, 2])),
    ] {
        let metric = frame::Metric::named("gate", data_type, &value, 7).unwrap();
        assert_eq!(metric_value(&metric, None), Ok(value), "{data_type}");
    }
    for (data_type, value) in [
        (T::Int8, Value::Int(128)),
        (T::Int8, Value::Int(-129)),
        (T::UInt8, Value::UInt(256)),
        (T::Float, Value::Double(1.0)),
        (T::Boolean, Value::Text("true".into())),
    ] {
        assert_eq!(frame::Metric::named("gate", data_type, &value, 7), None, "{data_type}");
    }
}

#[test]
fn arrays_are_packed() {
    use DataType as T;
    let read = |wanted: DataType, bytes: &[u8]| MetricValue::Bytes(bytes.to_vec()).value(Some(wanted));
    let ints = |numbers: &[i64]| Ok(Value::Array(numbers.iter().copied().map(Value::Int).collect()));
    assert_eq!(read(T::Int8Array, &[0xff, 1]), ints(&[-1, 1]));
    assert_eq!(read(T::Int16Array, &[0xfe, 0xff, 2, 0]), ints(&[-2, 2]));
    assert_eq!(read(T::Int32Array, &(-3_i32).to_le_bytes()), ints(&[-3]));
    assert_eq!(read(T::FloatArray, &1.5_f32.to_le_bytes()), Ok(Value::Array(vec![Value::Float(1.5)])));
    assert_eq!(read(T::DateTimeArray, &9_u64.to_le_bytes()), Ok(Value::Array(vec![Value::DateTime(9)])));
    let truths = |bits: &[bool]| Ok(Value::Array(bits.iter().copied().map(Value::Boolean).collect()));
    assert_eq!(read(T::BooleanArray, &[9, 0, 0, 0, 0b1010_0000, 0b1000_0000]), {
        truths(&[true, false, true, false, false, false, false, false, true])
    });
    let texts = |texts: &[&str]| Ok(Value::Array(texts.iter().map(|text| Value::Text((*text).into())).collect()));
    assert_eq!(read(T::StringArray, b"low\0\0high\0"), texts(&["low", "", "high"]));
    assert_eq!(read(T::StringArray, b""), texts(&[]));
    for (wanted, bytes) in [
        (T::Int16Array, &[1, 2, 3][..]),
        (T::BooleanArray, &[9, 0, 0, 0, 1]),
        (T::BooleanArray, &[0xff, 0xff, 0xff, 0xff]),
        (T::BooleanArray, &[1]),
        (T::StringArray, b"no end"),
        (T::StringArray, &[0xff, 0]),
    ] {
        assert_eq!(read(wanted, bytes), Err(Fault::Array(wanted)), "{bytes:?}");
    }
}

#[test]
fn tables_and_models_are_shown_with_all_that_belongs_to_them() {
    let cell = |value| frame::Cell { value };
    let table = frame::DataSet {
        num_of_columns: Some(2),
        columns: vec!["at".into(), "m".into()],
        types: vec![13, 9],
        rows: vec![frame::Row {
            elements: vec![cell(Some(frame::Plain::Long(7))), cell(Some(frame::Plain::Float(0.1)))],
        }],
    };
    let inner = frame::Metric::named("power", DataType::Float, &Value::Float(0.1), 7).unwrap();
    let model = frame::Template {
        version: Some("1".into()),
        metrics: vec![inner],
        parameters: vec![frame::Parameter {
            name: Some("rated".into()),
            r#type: Some(DataType::UInt16 as u32),
            value: Some(frame::ParameterValue::Int(75)),
        }],
        template_ref: Some("pump".into()),
        is_definition: Some(false),
    };
    let metric = |name: &str, data_type: DataType, value| frame::Metric {
        name: Some(name.into()),
        datatype: Some(data_type as u32),
        value: Some(value),
        ..Default::default()
    };
    let payload = Payload {
        metrics: vec![
            metric("curve", DataType::DataSet, MetricValue::DataSet(table)),
            metric("pump-1", DataType::Template, MetricValue::Template(model)),
            metric("odd", DataType::Boolean, MetricValue::String("yes".into())),
        ],
        ..Default::default()
    };
    let shown = show(&payload.encode_to_vec()).unwrap();
    assert_eq!(shown["metrics"][0]["value"], json!({ "columns": ["at", "m"], "rows": [[7, 0.1]] }));
    assert_eq!(
        shown["metrics"][1]["value"],
        json!({
            "template": "pump", "version": "1", "parameters": { "rated": 75 },
            "metrics": [{ "name": "power", "type": "Float", "value": 0.1, "timestamp": 7 }]
        })
    );
    let fault = shown["metrics"][2]["fault"].as_str().unwrap();
    assert_eq!(fault, "a value of type Boolean does not stand in the field for text");
}

/// Models within models, so many.
fn nested(depth: usize) -> Vec<u8> {
    let mut metric = number(4, 19);
    for _ in 0..depth {
        metric = field(18, &field(2, &metric));
    }
    field(2, &metric)
}

#[test]
fn what_is_too_long_too_deep_or_too_wide_is_refused_before_anything_is_made_of_it() {
    assert_eq!(decode(&vec![0; PAYLOAD + 1]), Err(Fault::TooLong(PAYLOAD + 1)));
    assert!(decode(&nested((DEPTH - 1) / 2)).is_ok());
    assert_eq!(decode(&nested(DEPTH)), Err(Fault::TooDeep));
    assert_eq!(decode(&nested(20_000)), Err(Fault::TooDeep));
    let empty = [0x12, 0];
    assert_eq!(decode(&empty.repeat(METRICS)).map(|read| read.metrics.len()), Ok(METRICS));
    assert_eq!(decode(&empty.repeat(METRICS + 1)), Err(Fault::TooManyMetrics));
    // Properties, rows and columns take room as metrics do.
    let properties = field(2, &field(9, &field(1, b"").repeat(MESSAGES)));
    assert_eq!(decode(&properties), Err(Fault::TooManyParts));
    let rows = field(2, &field(17, &field(4, &field(1, b"")).repeat(MESSAGES / 2)));
    assert_eq!(decode(&rows), Err(Fault::TooManyParts));
    let types = field(2, &field(17, &field(3, &[1; 16_000]).repeat(4)));
    assert_eq!(decode(&types), Err(Fault::TooManyParts));
    for wrong in [&b"online"[..], &[0x12], &[0x12, 9, 1], &[0x0a, 1, 1], &[0xff; 12], b"{\"m\": 1.83}"] {
        assert!(matches!(decode(wrong), Err(Fault::NotReadable(_))), "{wrong:?}");
    }
}

proptest! {
    /// Any bytes, and any change of a payload, give a message or a fault.
    #[test]
    fn any_bytes_are_read_or_refused(
        bytes in proptest::collection::vec(any::<u8>(), 0..200),
        places in proptest::collection::vec((any::<proptest::sample::Index>(), any::<u8>()), 0..6),
        depth in 0..8_usize,
    ) {
        let _ = show(&bytes);
        let mut changed = [nested(depth), number(3, 300)].concat();
        for (place, byte) in places {
            let place = place.index(changed.len());
            changed[place] = byte;
        }
        if let Ok(read) = decode(&changed) {
            // What was read can be written and read again.
            prop_assert_eq!(decode(&read.encode_to_vec()).map(|again| again.encode_to_vec()), Ok(read.encode_to_vec()));
            prop_assert!(show(&changed).is_ok());
        }
    }

    /// An array of any type and any bytes is read, or is none.
    #[test]
    fn arrays_of_any_bytes(bytes in proptest::collection::vec(any::<u8>(), 0..40), number in 22..=34_u32) {
        let wanted = DataType::of(number).unwrap();
        let read = MetricValue::Bytes(bytes).value(Some(wanted));
        prop_assert!(matches!(read, Ok(Value::Array(_)) | Err(Fault::Array(_))), "{:?}", read);
    }
}
