//! What payloads say. Nothing here knows of MQTT, reads a clock or does I/O.

pub mod sparkplug;
