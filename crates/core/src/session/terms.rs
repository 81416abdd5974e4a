//! On which terms a client is accepted.

use moorfall_wire::Will;

use crate::access::Access;

/// What CONNECT and the verdict settled.
#[derive(Debug)]
pub(super) struct Terms {
    pub(super) access: Access,
    /// Seconds; 0 switches the check off.
    pub(super) keep_alive: u16,
    /// Messages at QoS 1 and 2 that the client takes without acknowledging.
    pub(super) window: u16,
    /// Aliases that the client takes.
    pub(super) topic_aliases: u16,
    pub(super) will: Option<Will>,
    /// Seconds that the session outlives the connection.
    pub(super) expiry: u32,
}
