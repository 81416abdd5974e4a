//! What happens, as values: the log writes lines of them, and whoever else looks on makes of them what it needs.

use std::{
    net::{IpAddr, SocketAddr},
    sync::Arc,
};

use moorfall_core::{
    owned::Change,
    session::{Ended, NotAccepted, Refusal, Withheld},
};
use moorfall_wire::{ProtocolVersion, QoS, TopicFilter, TopicName};
use time::OffsetDateTime;

/// A client, as facts name it.
#[derive(Clone, Debug)]
pub struct Client {
    /// Its client identifier.
    pub id: String,
    /// Who it is.
    pub identity: Arc<str>,
}

/// What happened.
#[derive(Clone, Debug)]
pub enum Fact {
    /// A client has connected.
    Connected {
        /// Which.
        client: Client,
        /// From where.
        address: SocketAddr,
        /// Over which listener.
        listener: Arc<str>,
        /// What it speaks.
        version: ProtocolVersion,
        /// Whether an earlier session continues.
        resumed: bool,
    },
    /// The connection of a client has ended.
    Disconnected {
        /// Which.
        client: Client,
        /// From where it was connected.
        address: SocketAddr,
        /// Why.
        why: Ended,
    },
    /// A connection ended before its client was accepted.
    NotAccepted {
        /// The user name of its CONNECT; empty if none.
        user_name: String,
        /// From where.
        address: SocketAddr,
        /// Why.
        why: Ended,
    },
    /// A connection ended before anything of MQTT was said on it.
    NotSecured {
        /// From where.
        address: SocketAddr,
        /// Over which listener.
        listener: Arc<str>,
        /// Why.
        why: NotSecured,
    },
    /// A listener begins to refuse connections; not told again until it accepts one.
    Refusing {
        /// From where the first one came.
        address: SocketAddr,
        /// Which.
        listener: Arc<str>,
        /// Why.
        why: NotAccepted,
    },
    /// A listener accepts connections again.
    Accepting {
        /// Which.
        listener: Arc<str>,
    },
    /// The session of a client that was away has expired.
    Expired {
        /// Whose.
        client: Client,
    },
    /// The session of a client that was away has ended before its time.
    EndedAway {
        /// Whose.
        client: Client,
        /// Why.
        why: Ended,
    },
    /// Attempts of a client were refused.
    Refused {
        /// Whose.
        client: Client,
        /// What, and why.
        refusal: Refusal,
    },
    /// A message that was routed to a session was not sent.
    Withheld {
        /// Whose.
        client: Client,
        /// Its topic.
        topic: TopicName,
        /// Why.
        why: Withheld,
    },
    /// A client has subscribed.
    Subscribed {
        /// Which.
        client: Client,
        /// To what.
        filter: TopicFilter,
        /// What was granted.
        qos: QoS,
    },
    /// A client has unsubscribed.
    Unsubscribed {
        /// Which.
        client: Client,
        /// From what.
        filter: TopicFilter,
    },
    /// A Will Message was published.
    WillSent {
        /// Whose.
        client: Client,
        /// Its topic.
        topic: TopicName,
    },
    /// A topic has another owner, or none any more.
    OwnerChanged(Change),
    /// A blueprint was put in force.
    BlueprintApplied {
        /// The number of the revision.
        revision: i64,
        /// By whom.
        by: Arc<str>,
        /// What they say of it.
        message: String,
    },
    /// An identity was made or changed.
    IdentityChanged {
        /// Its name.
        name: String,
        /// By whom.
        by: Arc<str>,
    },
    /// An identity was removed.
    IdentityRemoved {
        /// Its name.
        name: String,
        /// By whom.
        by: Arc<str>,
    },
    /// The database can't be reached, or does not do what it is asked.
    DatabaseAway {
        /// Why.
        why: String,
    },
    /// The database does what it is asked again.
    DatabaseBack,
    /// A certificate of a listener ends soon, or has ended.
    CertificateEnds {
        /// Of which.
        listener: Arc<str>,
        /// When.
        at: OffsetDateTime,
    },
    /// An alert was raised.
    AlertRaised {
        /// Which.
        alert: String,
        /// What it is about.
        subject: String,
        /// The value, in words.
        value: String,
    },
    /// An alert was cleared.
    AlertCleared {
        /// Which.
        alert: String,
        /// What it is about.
        subject: String,
        /// The value, in words.
        value: String,
    },
    /// A notice of an alert can't be delivered; not told again until one is.
    NoticeFails {
        /// To which contact.
        contact: String,
        /// To which address.
        target: String,
        /// Why.
        why: String,
    },
    /// A bridge has reached its remote.
    BridgeUp {
        /// Which.
        bridge: String,
        /// Where.
        remote: String,
        /// Whether the remote goes on with a session.
        session_present: bool,
    },
    /// The link of a bridge is down; not told again until it was up.
    BridgeDown {
        /// Which.
        bridge: String,
        /// Why, and what to do.
        why: String,
    },
    /// What a bridge carries was refused; the same is not told again for a while.
    BridgeRefused {
        /// Which.
        bridge: String,
        /// Its topic or filter.
        topic: String,
        /// By whom and why.
        why: String,
        /// How often since it was told last.
        count: u64,
    },
    /// Messages that waited for a bridge were dropped.
    BridgeDrops {
        /// Which.
        bridge: String,
        /// Since it was told last.
        count: u64,
        /// Why.
        why: String,
    },
    /// Somebody has told a bridge what to do.
    BridgeTold {
        /// Which.
        bridge: String,
        /// What, as in "paused".
        what: &'static str,
        /// By whom.
        by: Arc<str>,
    },
    /// Many sign-ins of one address have failed, and the next ones wait.
    SignInsFail {
        /// Which.
        address: IpAddr,
    },
}

/// Why a connection came to nothing before anything of MQTT was said on it.
#[derive(Clone, Debug, thiserror::Error)]
pub enum NotSecured {
    /// The TLS handshake failed.
    #[error("TLS handshake failed: {0}")]
    Tls(String),
    /// The TLS handshake took too long.
    #[error("TLS handshake timed out")]
    TlsTimeout,
    /// Client certificates are required, and no authority that signs them is known.
    #[error("no certificate authority is trusted to sign client certificates; `moorfall authorities add` adds one")]
    NoAuthority,
    /// The client certificate can't be read.
    #[error("unreadable client certificate")]
    Certificate,
    /// The WebSocket handshake failed.
    #[error("WebSocket handshake failed: {0}")]
    WebSocket(String),
    /// The WebSocket handshake took too long.
    #[error("WebSocket handshake timed out")]
    WebSocketTimeout,
}
