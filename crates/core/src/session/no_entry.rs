//! Why an identity can't connect, or can't any more.

use std::fmt;

use crate::blueprint::BindError;

/// Why an identity can't connect.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NoEntry {
    /// There is none of this name, or no longer.
    Unknown,
    /// It is disabled.
    Disabled,
    /// The rules can't be applied to it.
    Unfit(BindError),
}

impl fmt::Display for NoEntry {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Unknown => f.write_str("The identity no longer exists."),
            Self::Disabled => f.write_str("The identity is disabled. Enable it to let it connect."),
            Self::Unfit(why) => why.fmt(f),
        }
    }
}
