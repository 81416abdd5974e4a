//! Sparkplug B, an open specification of the Eclipse Foundation for industrial devices: who speaks on which topic, what
//! payloads say, and how they are shown.
//!
//! Any bytes give a message or a [`Fault`]: how long, how deep and how wide a payload may be is found out before anything is
//! made of it.

mod address;
mod array;
mod bounds;
mod data_type;
mod fault;
pub mod frame;
mod limits;
mod read;
mod shown;
mod value;

pub use self::{
    address::{Address, Kind, Place},
    data_type::DataType,
    fault::Fault,
    limits::{DEPTH, MESSAGES, METRICS, PAYLOAD},
    shown::{metric_value, show, told},
    value::Value,
};

use prost::Message;

/// Reads a payload.
///
/// # Errors
///
/// It is none, or more than is looked into.
pub fn decode(payload: &[u8]) -> Result<frame::Payload, Fault> {
    bounds::check(payload)?;
    frame::Payload::decode(payload).map_err(|error| Fault::NotReadable(error.to_string()))
}
