//! How long, deep and wide a payload may be.

/// The longest payload that is looked into, bytes.
pub const PAYLOAD: usize = 1024 * 1024;

/// How deep it may be nested: models within models, tables, properties of properties.
pub const DEPTH: usize = 12;

/// Metrics of a payload at its top.
pub const METRICS: usize = 10_000;

/// Metrics, properties, rows, cells and all else together.
pub const MESSAGES: usize = 50_000;
