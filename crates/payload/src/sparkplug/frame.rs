//! Payloads as they stand in bytes: protocol buffers of version 2, all fields optional.

use prost::{Message, Oneof};

/// A payload.
#[derive(Clone, PartialEq, Message)]
pub struct Payload {
    /// When it was made, milliseconds since 1970.
    #[prost(uint64, optional, tag = "1")]
    pub timestamp: Option<u64>,
    /// What it says.
    #[prost(message, repeated, tag = "2")]
    pub metrics: Vec<Metric>,
    /// Its number among those of its edge node, 0 to 255.
    #[prost(uint64, optional, tag = "3")]
    pub seq: Option<u64>,
    /// Of which form the body is.
    #[prost(string, optional, tag = "4")]
    pub uuid: Option<String>,
    /// Something else.
    #[prost(bytes = "vec", optional, tag = "5")]
    pub body: Option<Vec<u8>>,
}

/// One value.
#[derive(Clone, PartialEq, Message)]
pub struct Metric {
    /// Its name; data may carry the alias alone.
    #[prost(string, optional, tag = "1")]
    pub name: Option<String>,
    /// A number that stands for the name.
    #[prost(uint64, optional, tag = "2")]
    pub alias: Option<u64>,
    /// When it was measured, milliseconds since 1970.
    #[prost(uint64, optional, tag = "3")]
    pub timestamp: Option<u64>,
    /// Its [`DataType`](super::DataType).
    #[prost(uint32, optional, tag = "4")]
    pub datatype: Option<u32>,
    /// Whether it is of the past, and not the newest.
    #[prost(bool, optional, tag = "5")]
    pub is_historical: Option<bool>,
    /// Whether it is not to be stored.
    #[prost(bool, optional, tag = "6")]
    pub is_transient: Option<bool>,
    /// Whether there is no value.
    #[prost(bool, optional, tag = "7")]
    pub is_null: Option<bool>,
    /// What belongs to a file, or to one of several parts.
    #[prost(message, optional, tag = "8")]
    pub metadata: Option<MetaData>,
    /// What is said of it, such as its unit.
    #[prost(message, optional, tag = "9")]
    pub properties: Option<PropertySet>,
    /// The value.
    #[prost(oneof = "MetricValue", tags = "10, 11, 12, 13, 14, 15, 16, 17, 18")]
    pub value: Option<MetricValue>,
}

/// The value of a metric as it stands in bytes.
#[derive(Clone, PartialEq, Oneof)]
pub enum MetricValue {
    /// Numbers of up to 32 bits.
    #[prost(uint32, tag = "10")]
    Int(u32),
    /// Numbers of 64 bits, and times.
    #[prost(uint64, tag = "11")]
    Long(u64),
    /// Single precision.
    #[prost(float, tag = "12")]
    Float(f32),
    /// Double precision.
    #[prost(double, tag = "13")]
    Double(f64),
    /// True or false.
    #[prost(bool, tag = "14")]
    Boolean(bool),
    /// Text.
    #[prost(string, tag = "15")]
    String(String),
    /// Bytes, files and arrays.
    #[prost(bytes = "vec", tag = "16")]
    Bytes(Vec<u8>),
    /// A table.
    #[prost(message, tag = "17")]
    DataSet(DataSet),
    /// A model, or an instance of one.
    #[prost(message, tag = "18")]
    Template(Template),
}

/// What belongs to a file, or to one of several parts.
#[derive(Clone, PartialEq, Message)]
pub struct MetaData {
    /// Whether it is one of several parts.
    #[prost(bool, optional, tag = "1")]
    pub is_multi_part: Option<bool>,
    /// Its media type.
    #[prost(string, optional, tag = "2")]
    pub content_type: Option<String>,
    /// Bytes.
    #[prost(uint64, optional, tag = "3")]
    pub size: Option<u64>,
    /// Which part it is.
    #[prost(uint64, optional, tag = "4")]
    pub seq: Option<u64>,
    /// The file's name.
    #[prost(string, optional, tag = "5")]
    pub file_name: Option<String>,
    /// The file's kind.
    #[prost(string, optional, tag = "6")]
    pub file_type: Option<String>,
    /// A digest.
    #[prost(string, optional, tag = "7")]
    pub md5: Option<String>,
    /// What it is.
    #[prost(string, optional, tag = "8")]
    pub description: Option<String>,
}

/// Properties: names, and as many values.
#[derive(Clone, PartialEq, Message)]
pub struct PropertySet {
    /// Their names.
    #[prost(string, repeated, tag = "1")]
    pub keys: Vec<String>,
    /// Their values, in the same order.
    #[prost(message, repeated, tag = "2")]
    pub values: Vec<PropertyValue>,
}

/// The value of a property.
#[derive(Clone, PartialEq, Message)]
pub struct PropertyValue {
    /// Its [`DataType`](super::DataType).
    #[prost(uint32, optional, tag = "1")]
    pub r#type: Option<u32>,
    /// Whether there is none.
    #[prost(bool, optional, tag = "2")]
    pub is_null: Option<bool>,
    /// The value.
    #[prost(oneof = "PropertyContent", tags = "3, 4, 5, 6, 7, 8, 9, 10")]
    pub value: Option<PropertyContent>,
}

/// The value of a property as it stands in bytes.
#[derive(Clone, PartialEq, Oneof)]
pub enum PropertyContent {
    /// Numbers of up to 32 bits.
    #[prost(uint32, tag = "3")]
    Int(u32),
    /// Numbers of 64 bits.
    #[prost(uint64, tag = "4")]
    Long(u64),
    /// Single precision.
    #[prost(float, tag = "5")]
    Float(f32),
    /// Double precision.
    #[prost(double, tag = "6")]
    Double(f64),
    /// True or false.
    #[prost(bool, tag = "7")]
    Boolean(bool),
    /// Text.
    #[prost(string, tag = "8")]
    String(String),
    /// Properties of the property.
    #[prost(message, tag = "9")]
    Set(PropertySet),
    /// Several of them.
    #[prost(message, tag = "10")]
    Sets(PropertySetList),
}

/// Several sets of properties.
#[derive(Clone, PartialEq, Message)]
pub struct PropertySetList {
    /// The sets.
    #[prost(message, repeated, tag = "1")]
    pub sets: Vec<PropertySet>,
}

/// A table.
#[derive(Clone, PartialEq, Message)]
pub struct DataSet {
    /// How many columns it has.
    #[prost(uint64, optional, tag = "1")]
    pub num_of_columns: Option<u64>,
    /// Their names.
    #[prost(string, repeated, tag = "2")]
    pub columns: Vec<String>,
    /// Their [data types](super::DataType).
    #[prost(uint32, repeated, packed = "false", tag = "3")]
    pub types: Vec<u32>,
    /// The rows.
    #[prost(message, repeated, tag = "4")]
    pub rows: Vec<Row>,
}

/// A row of a table.
#[derive(Clone, PartialEq, Message)]
pub struct Row {
    /// One value a column.
    #[prost(message, repeated, tag = "1")]
    pub elements: Vec<Cell>,
}

/// A value in a table.
#[derive(Clone, PartialEq, Message)]
pub struct Cell {
    /// The value; there is none if absent.
    #[prost(oneof = "Plain", tags = "1, 2, 3, 4, 5, 6")]
    pub value: Option<Plain>,
}

/// A plain value as it stands in bytes.
#[derive(Clone, PartialEq, Oneof)]
pub enum Plain {
    /// Numbers of up to 32 bits.
    #[prost(uint32, tag = "1")]
    Int(u32),
    /// Numbers of 64 bits, and times.
    #[prost(uint64, tag = "2")]
    Long(u64),
    /// Single precision.
    #[prost(float, tag = "3")]
    Float(f32),
    /// Double precision.
    #[prost(double, tag = "4")]
    Double(f64),
    /// True or false.
    #[prost(bool, tag = "5")]
    Boolean(bool),
    /// Text.
    #[prost(string, tag = "6")]
    String(String),
}

/// A model, or an instance of one.
#[derive(Clone, PartialEq, Message)]
pub struct Template {
    /// Its version.
    #[prost(string, optional, tag = "1")]
    pub version: Option<String>,
    /// What belongs to it.
    #[prost(message, repeated, tag = "2")]
    pub metrics: Vec<Metric>,
    /// What its instances differ in.
    #[prost(message, repeated, tag = "3")]
    pub parameters: Vec<Parameter>,
    /// The model that it is an instance of.
    #[prost(string, optional, tag = "4")]
    pub template_ref: Option<String>,
    /// Whether it is a model.
    #[prost(bool, optional, tag = "5")]
    pub is_definition: Option<bool>,
}

/// A parameter of a model.
#[derive(Clone, PartialEq, Message)]
pub struct Parameter {
    /// Its name.
    #[prost(string, optional, tag = "1")]
    pub name: Option<String>,
    /// Its [`DataType`](super::DataType).
    #[prost(uint32, optional, tag = "2")]
    pub r#type: Option<u32>,
    /// Its value.
    #[prost(oneof = "ParameterValue", tags = "3, 4, 5, 6, 7, 8")]
    pub value: Option<ParameterValue>,
}

/// The value of a parameter as it stands in bytes.
#[derive(Clone, PartialEq, Oneof)]
pub enum ParameterValue {
    /// Numbers of up to 32 bits.
    #[prost(uint32, tag = "3")]
    Int(u32),
    /// Numbers of 64 bits.
    #[prost(uint64, tag = "4")]
    Long(u64),
    /// Single precision.
    #[prost(float, tag = "5")]
    Float(f32),
    /// Double precision.
    #[prost(double, tag = "6")]
    Double(f64),
    /// True or false.
    #[prost(bool, tag = "7")]
    Boolean(bool),
    /// Text.
    #[prost(string, tag = "8")]
    String(String),
}
