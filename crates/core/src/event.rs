//! What kinds of events there are: what happens now and then, and is worth finding again.

use strum::{EnumString, IntoStaticStr, VariantArray};

/// What happened.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "kebab-case")]
pub enum EventKind {
    /// A client has connected.
    Connected,
    /// The connection of a client has ended as somebody wanted it.
    Disconnected,
    /// The connection of a client has ended without that: it broke, or one side has ended it for something wrong.
    ConnectionLost,
    /// A connection has ended because another one came with its client identifier.
    TakenOver,
    /// A client was not let in.
    Refused,
    /// A connection ended before its client was let in or refused.
    Unfinished,
    /// The handshake of TLS or WebSocket has failed.
    HandshakeFailed,
    /// Many sign-ins from one address have failed.
    SignInsFail,
    /// A listener begins to refuse connections.
    ListenerRefuses,
    /// A listener accepts connections again.
    ListenerAccepts,
    /// A session has expired while its client was away.
    SessionExpired,
    /// A session has ended while its client was away, for another reason than time.
    SessionEnded,
    /// A client has subscribed.
    Subscribed,
    /// A client was not allowed to subscribe.
    SubscriptionRefused,
    /// A client has unsubscribed.
    Unsubscribed,
    /// A Will Message was published.
    WillSent,
    /// A Will Message was refused.
    WillRefused,
    /// A topic has another owner, or none any more.
    OwnerChanged,
    /// A blueprint was put in force.
    BlueprintApplied,
    /// An identity was made or changed.
    IdentityChanged,
    /// An identity was removed.
    IdentityRemoved,
    /// The database can't be reached.
    DatabaseAway,
    /// The database is back.
    DatabaseBack,
    /// A certificate of a listener ends soon, or has ended.
    CertificateEnds,
    /// An alert was raised.
    AlertRaised,
    /// An alert was cleared.
    AlertCleared,
    /// A notice of an alert can't be delivered.
    NoticeFails,
    /// A bridge has reached its remote.
    BridgeUp,
    /// The link of a bridge is down.
    BridgeDown,
    /// A remote, or this broker, refuses what a bridge carries.
    BridgeRefused,
    /// Messages that waited for a bridge were dropped.
    BridgeDrops,
    /// Somebody has told a bridge what to do.
    BridgeTold,
}
