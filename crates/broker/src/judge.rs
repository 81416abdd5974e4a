//! What identities may do, as the rooms ask that don't know who decides it.

use std::{fmt, sync::Arc};

use moorfall_core::{Quota, access::Access, session::NoEntry};

/// What an identity may do.
pub enum Rights {
    /// Everything.
    Unlimited,
    /// What the rules say.
    Bound(Access),
    /// It can't connect, and why.
    None(NoEntry),
}

/// Says what identities may do.
pub trait Judge: fmt::Debug + Send + Sync {
    /// What an identity may do now by a client of this identifier.
    fn rights(&self, identity: &str, client_id: &str) -> Rights;

    /// How much an identity may hold: as the limits say, and as its cohorts do.
    fn quota(&self, identity: &str) -> Quota;

    /// Why an identity can't connect at all; `None` if it can.
    fn no_entry(&self, identity: &str) -> Option<NoEntry>;

    /// Whether a client identifier is tied to this identity; `None` if it is tied to nobody.
    fn is_tied(&self, client_id: &str, identity: &str) -> Option<bool>;
}

/// Who judges, for those who only ask.
pub type Judges = Arc<dyn Judge>;
