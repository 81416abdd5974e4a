//! What a bridge is told to do.

/// What a bridge is to do.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Mode {
    /// Keep the link up.
    Run,
    /// Rest.
    Pause,
    /// Send what waits, then rest.
    Drain,
    /// End: the design has changed.
    Stop,
}

/// The same, and how often it was told to connect anew.
#[derive(Clone, Copy, Debug)]
pub(super) struct Wish {
    pub(super) mode: Mode,
    pub(super) retry: u64,
}

/// What somebody can tell a bridge.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Order {
    /// To rest. Messages wait meanwhile.
    Pause,
    /// To go on.
    Resume,
    /// To take nothing new, send what waits, and then rest.
    Drain,
    /// To connect anew at once, beginning with its first address.
    Retry,
}

impl Order {
    pub(super) fn done(self) -> &'static str {
        match self {
            Self::Pause => "paused",
            Self::Resume => "resumed",
            Self::Drain => "begun to drain",
            Self::Retry => "reconnected",
        }
    }

    pub(super) fn verb(self) -> &'static str {
        match self {
            Self::Pause => "pause",
            Self::Resume => "resume",
            Self::Drain => "drain",
            Self::Retry => "retry",
        }
    }
}
