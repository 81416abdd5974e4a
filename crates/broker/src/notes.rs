//! What becomes of facts: they are counted, kept as events, and make lines in the log.

use moorfall_core::Time;
use moorfall_live::{
    Live,
    facts::{Client, Fact},
};

/// Notes what has happened.
pub fn note(live: &Live, now: Time, fact: &Fact) {
    live.note(fact, now);
    write(fact);
}

/// Writes a fact's line. What clients can cause at any rate goes to the level `debug`.
pub(crate) fn write(fact: &Fact) {
    match fact {
        Fact::Connected { client: Client { id, identity }, address, listener, version, resumed } => {
            tracing::debug!(client = id, %identity, %address, %listener, %version, resumed, "connected");
        }
        Fact::Disconnected { client: Client { id, identity }, address, why } => {
            tracing::debug!(client = id, %identity, %address, failure = why.is_failure(), %why, "disconnected");
        }
        Fact::NotAccepted { user_name, address, why } => {
            tracing::debug!(user_name, %address, %why, "connection refused");
        }
        Fact::NotSecured { address, listener, why } => {
            tracing::debug!(%address, %listener, %why, "connection refused");
        }
        Fact::Refusing { address, listener, why } => {
            tracing::warn!(%address, %listener, %why, "connections are refused");
        }
        Fact::Accepting { listener } => tracing::info!(%listener, "connections are accepted again"),
        Fact::Expired { client: Client { id, identity } } => {
            tracing::debug!(client = id, %identity, "session expired");
        }
        Fact::EndedAway { client: Client { id, identity }, why } => {
            tracing::debug!(client = id, %identity, %why, "session ended");
        }
        Fact::Refused { client: Client { id, identity }, refusal } if refusal.is_will => {
            tracing::debug!(client = id, %identity, why = %refusal, "Will Message refused");
        }
        Fact::Refused { client: Client { id, identity }, refusal } => {
            tracing::debug!(client = id, %identity, count = refusal.count, why = %refusal, "refused");
        }
        Fact::Withheld { client: Client { id, identity }, topic, why } => {
            tracing::debug!(client = id, %identity, %topic, %why, "withheld");
        }
        Fact::Subscribed { client: Client { id, identity }, filter, qos } => {
            tracing::debug!(client = id, %identity, %filter, qos = qos.level(), "subscribed");
        }
        Fact::Unsubscribed { client: Client { id, identity }, filter } => {
            tracing::debug!(client = id, %identity, %filter, "unsubscribed");
        }
        Fact::WillSent { client: Client { id, identity }, topic } => {
            tracing::debug!(client = id, %identity, %topic, "Will Message published");
        }
        Fact::OwnerChanged(change) => tracing::debug!(topic = %change.topic, "{change}"),
        Fact::BlueprintApplied { revision, by, message } => {
            tracing::info!(revision, author = %by, "blueprint applied: {message}");
        }
        Fact::IdentityChanged { name, by } => tracing::debug!(name, %by, "identity changed"),
        Fact::IdentityRemoved { name, by } => tracing::debug!(name, %by, "identity removed"),
        // The database's own lines say it.
        Fact::DatabaseAway { .. } | Fact::DatabaseBack => {}
        Fact::CertificateEnds { listener, at } => {
            tracing::warn!(%listener, until = %at.date(), "the certificate ends soon");
        }
        Fact::AlertRaised { alert, subject, value } => {
            tracing::warn!(%alert, %subject, %value, "alert raised");
        }
        Fact::AlertCleared { alert, subject, value } => {
            tracing::info!(%alert, %subject, %value, "alert cleared");
        }
        Fact::NoticeFails { contact, target, why } => {
            tracing::warn!(%contact, %target, %why, "a notice can't be delivered");
        }
        Fact::BridgeUp { bridge, remote, session_present } => {
            tracing::info!(%bridge, %remote, session_present, "bridge up");
        }
        Fact::BridgeDown { bridge, why } => tracing::warn!(%bridge, "bridge down: {why}"),
        Fact::BridgeRefused { bridge, topic, why, count } => {
            tracing::warn!(%bridge, %topic, count, "refused: {why}");
        }
        Fact::BridgeDrops { bridge, count, why } => tracing::warn!(%bridge, count, "dropped: {why}"),
        Fact::BridgeTold { bridge, what, by } => tracing::info!(%bridge, %by, "bridge {what}"),
        Fact::SignInsFail { address } => {
            tracing::warn!(%address, "many sign-ins from this address have failed; the next ones wait");
        }
    }
}

/// Whether facts that clients can cause at any rate are written: else they need not be made.
pub(crate) fn wants_frequent() -> bool {
    tracing::enabled!(tracing::Level::DEBUG)
}
