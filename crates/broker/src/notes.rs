//! What becomes of facts: they are counted, and make lines in the log.

use moorfall_live::{
    Live,
    facts::{Client, Fact},
};

/// Notes what has happened.
pub(crate) fn note(live: &Live, fact: &Fact) {
    live.count(fact);
    write(fact);
}

/// Writes a fact's line. What clients can cause at any rate goes to the level `debug`.
pub(crate) fn write(fact: &Fact) {
    match fact {
        Fact::Connected { client: Client { id, identity }, address, listener, version, resumed } => {
            tracing::info!(client = id, %identity, %address, %listener, %version, resumed, "connected");
        }
        Fact::Disconnected { client: Client { id, identity }, address, why } => {
            tracing::info!(client = id, %identity, %address, failure = why.is_failure(), %why, "disconnected");
        }
        Fact::NotAccepted { user_name, address, why } => {
            tracing::info!(user_name, %address, %why, "connection refused");
        }
        Fact::NotSecured { address, listener, why } => {
            tracing::info!(%address, %listener, %why, "connection refused");
        }
        Fact::Refusing { address, listener, why } => {
            tracing::warn!(%address, %listener, %why, "connections are refused");
        }
        Fact::Accepting { listener } => tracing::info!(%listener, "connections are accepted again"),
        Fact::Expired { client: Client { id, identity } } => {
            tracing::info!(client = id, %identity, "session expired");
        }
        Fact::Refused { client: Client { id, identity }, refusal } if refusal.is_will => {
            tracing::info!(client = id, %identity, why = %refusal, "Will Message refused");
        }
        Fact::Refused { client: Client { id, identity }, refusal } => {
            tracing::debug!(client = id, %identity, count = refusal.count, why = %refusal, "refused");
        }
        Fact::Withheld { client: Client { id, identity }, topic, why } => {
            tracing::debug!(client = id, %identity, %topic, %why, "withheld");
        }
        Fact::SignInsFail { address } => {
            tracing::warn!(%address, "many sign-ins from this address have failed; the next ones wait");
        }
    }
}

/// Whether facts that clients can cause at any rate are written: else they need not be made.
pub(crate) fn wants_frequent() -> bool {
    tracing::enabled!(tracing::Level::DEBUG)
}
