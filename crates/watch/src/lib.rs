//! Looks on: what the broker carries, read once a second, kept and passed on. Writes nothing into the broker.

pub mod sample_writer;
pub mod sampler;
