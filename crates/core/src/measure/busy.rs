//! What the busiest are told of, and by what.

use strum::{EnumString, IntoStaticStr, VariantArray, VariantNames};

/// Of what the busiest are told.
#[derive(Clone, Copy, Debug, PartialEq, Eq, IntoStaticStr, EnumString, VariantArray, VariantNames)]
#[strum(serialize_all = "kebab-case")]
pub enum BusyOf {
    /// Sessions, by their client identifiers: what they sent and were sent.
    Sessions,
    /// Identities: what all their sessions sent and were sent.
    Identities,
    /// Topics: what was published to them.
    Topics,
    /// The levels right above topics: what was published below.
    Branches,
}

/// What makes busy.
#[derive(Clone, Copy, Debug, PartialEq, Eq, IntoStaticStr, EnumString, VariantArray, VariantNames)]
#[strum(serialize_all = "kebab-case")]
pub enum BusyIn {
    /// The number of messages.
    Messages,
    /// Their bytes.
    Bytes,
}
