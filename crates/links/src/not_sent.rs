//! Why a notice was not taken.

use std::time::Duration;

/// How long sending a notice may take in all.
pub(crate) const LONGEST: Duration = Duration::from_secs(20);

/// Why a notice was not taken.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NotSent {
    /// No server for e-mail is known.
    #[error("no mail server is configured; add [notices.mail] to moorfall.toml")]
    NoMailServer,
    /// The hook has no secret.
    #[error("no secret is configured for the hook of {0}; add it to hook-secrets in [notices] of moorfall.toml")]
    NoSecret(String),
    /// The address can't be used.
    #[error("the address can't be used: {0}")]
    Address(String),
    /// It leads into a private network.
    #[error("{0} is in a private network; private-addresses = true in [notices] of moorfall.toml allows that")]
    Private(String),
    /// The name is not known.
    #[error("{0}")]
    Unresolved(String),
    /// Nobody answered in time.
    #[error("no answer within {} s", .0.as_secs())]
    TimedOut(Duration),
    /// The connection or its security failed.
    #[error("the connection failed: {0}")]
    Connection(String),
    /// It was answered, and not taken. Trying again may help.
    #[error("answered {0}")]
    Answered(String),
    /// It wants no more notices.
    #[error("answered {0}: it wants no more notices")]
    Gone(String),
}

impl NotSent {
    /// Whether trying again is of no use.
    pub fn is_final(&self) -> bool {
        matches!(self, Self::Gone(_))
    }
}
