//! Sparkplug B, an open specification of the Eclipse Foundation for industrial devices: who speaks on which topic, what
//! payloads say, and how they are shown.
//!
//! Any bytes give a message or a [`Fault`]: how long, how deep and how wide a payload may be is found out before anything is
//! made of it.

mod address;
mod array;
mod bounds;
mod fault;
pub mod frame;
mod shown;
mod value;

pub use self::{
    address::{Address, Kind, Place},
    bounds::{DEPTH, MESSAGES, METRICS, PAYLOAD},
    fault::Fault,
    shown::{metric_value, show, told},
    value::{DataType, Value},
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
