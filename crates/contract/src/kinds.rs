//! Kinds of things, as the interface names them.

use std::fmt;

use moorfall_core::{access, alert, blueprint, measure};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// An enum whose variants go by these texts, in JSON and for people.
macro_rules! kinds {
    ($(#[$doc:meta])* $name:ident $($(#[$about:meta])* $variant:ident = $text:literal,)+) => {
        $(#[$doc])*
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
        #[serde(rename_all = "kebab-case")]
        pub enum $name {
            $($(#[$about])* $variant,)+
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str(match self {
                    $(Self::$variant => $text,)+
                })
            }
        }
    };
}

/// The same kinds as in the core.
macro_rules! mirrors {
    ($name:ident: $core:ty, $($variant:ident),+) => {
        impl From<$core> for $name {
            fn from(kind: $core) -> Self {
                match kind {
                    $(<$core>::$variant => Self::$variant,)+
                }
            }
        }
    };
}

/// What the core calls the kinds that are asked for.
macro_rules! asked_for {
    ($name:ident: $core:ty, $($variant:ident),+) => {
        mirrors!($name: $core, $($variant),+);

        impl From<$name> for $core {
            fn from(kind: $name) -> Self {
                match kind {
                    $($name::$variant => Self::$variant,)+
                }
            }
        }
    };
}

mirrors!(Severity: blueprint::Severity, Error, Warning);
mirrors!(ChangeKind: blueprint::Kind, Added, Changed, Removed);
mirrors!(Verdict: access::Verdict, Allow, Deny);
mirrors!(Act: access::Act, Publish, Subscribe);
mirrors!(Retention: blueprint::Retention, Allowed, Required, Never);
mirrors!(MeasureKind: measure::Kind, Counter, Gauge, Timing);
mirrors!(QueuePolicy: moorfall_core::QueuePolicy, DropNewest, DropOldest, EndSession);
mirrors!(LiveTraffic: moorfall_core::LiveTraffic, Behind, Beside);

kinds! {
    /// How much a finding matters.
    Severity
    /// The blueprint can't be applied.
    Error = "error",
    /// It can, and probably does something that is not meant.
    Warning = "warning",
}

kinds! {
    /// What becomes of a part of the design.
    ChangeKind
    /// It was not there.
    Added = "added",
    /// It differs.
    Changed = "changed",
    /// It is not there any more.
    Removed = "removed",
}

kinds! {
    /// Whether a rule allows or denies.
    Verdict
    /// It allows.
    Allow = "allow",
    /// It denies, and wins over every rule that allows.
    Deny = "deny",
}

kinds! {
    /// What somebody wants to do.
    Act
    /// Send messages.
    Publish = "publish",
    /// Receive them.
    Subscribe = "subscribe",
}

kinds! {
    /// Whether messages of a topic are retained.
    Retention
    /// They may be.
    Allowed = "allowed",
    /// All of them are.
    Required = "required",
    /// None is.
    Never = "never",
}

kinds! {
    /// How messages that come now are sent while many others wait in the database.
    LiveTraffic
    /// Behind all that waits.
    Behind = "behind",
    /// At once, unless something waits of the same topic.
    Beside = "beside",
}

kinds! {
    /// What happens to a message that does not fit into a queue.
    QueuePolicy
    /// It is dropped.
    DropNewest = "drop-newest",
    /// What has waited longest is dropped.
    DropOldest = "drop-oldest",
    /// The session ends.
    EndSession = "end-session",
}

kinds! {
    /// How a client signed in.
    SignedInBy
    /// It has no identity.
    Nothing = "nothing",
    /// By the administrator's secret.
    Secret = "secret",
    /// By a password, or a secret that the broker made.
    Password = "password",
    /// By a token.
    Token = "token",
    /// By a client certificate.
    Certificate = "certificate",
    /// By nothing: it is a bridge's.
    Bridge = "bridge",
    /// By nothing: derived topics hear with it.
    Derived = "derived",
    /// A person acts as it at the console.
    Person = "person",
}

kinds! {
    /// What a client is told when its session is ended by whoever runs the broker.
    #[derive(Default)]
    EndReason
    /// An administrative action (0x98).
    #[default]
    AdministrativeAction = "administrative action",
    /// Not authorized (0x87).
    NotAuthorized = "not authorized",
    /// Server busy (0x89).
    ServerBusy = "server busy",
    /// Message rate too high (0x96).
    MessageRateTooHigh = "message rate too high",
    /// Quota exceeded (0x97).
    QuotaExceeded = "quota exceeded",
    /// Connection rate exceeded (0x9F).
    ConnectionRateExceeded = "connection rate exceeded",
}

kinds! {
    /// What sessions are sorted by.
    #[derive(Default)]
    SessionOrder
    /// The client identifier.
    #[default]
    Client = "client",
    /// The identity.
    Identity = "identity",
    /// When it connected or left.
    Since = "since",
    /// When it was heard last.
    Heard = "heard",
    /// Messages accepted from it, per second.
    RateIn = "rate-in",
    /// Messages sent to it, per second.
    RateOut = "rate-out",
    /// Messages accepted from it.
    MessagesIn = "messages-in",
    /// Messages sent to it.
    MessagesOut = "messages-out",
    /// Its subscriptions.
    Subscriptions = "subscriptions",
    /// What waits for it.
    Queue = "queue",
    /// What it has not acknowledged.
    InFlight = "in-flight",
    /// What it was refused.
    Refused = "refused",
    /// What was not sent to it, for a full queue too.
    Withheld = "withheld",
}

kinds! {
    /// Which way a packet went.
    Direction
    /// From the client to the broker.
    ToBroker = "to broker",
    /// From the broker to the client.
    ToClient = "to client",
}

kinds! {
    /// How a measure behaves.
    MeasureKind
    /// It grows from the start of the service on; what matters is its rate.
    Counter = "counter",
    /// It goes up and down.
    Gauge = "gauge",
    /// Quantiles of times that were taken.
    Timing = "timing",
}

kinds! {
    /// Of what the busiest are told.
    BusyOf
    /// Sessions, by their client identifiers: what they sent and were sent.
    Sessions = "sessions",
    /// Identities: what all their sessions sent and were sent.
    Identities = "identities",
    /// Topics: what was published to them.
    Topics = "topics",
    /// The levels right above topics: what was published below.
    Branches = "branches",
}

asked_for!(BusyOf: measure::BusyOf, Sessions, Identities, Topics, Branches);

kinds! {
    /// What makes busy.
    BusyIn
    /// The number of messages.
    Messages = "messages",
    /// Their bytes.
    Bytes = "bytes",
}

asked_for!(BusyIn: measure::BusyIn, Messages, Bytes);

kinds! {
    /// How much it matters that an alert is raised.
    AlertSeverity
    /// Worth knowing.
    Info = "info",
    /// Somebody should look.
    Warning = "warning",
    /// Somebody should act.
    Critical = "critical",
}

mirrors!(AlertSeverity: blueprint::AlertSeverity, Info, Warning, Critical);

kinds! {
    /// Where a subject of an alert is.
    AlertPhase
    /// In its band.
    Ok = "ok",
    /// Out of it, and not yet for long enough.
    Pending = "pending",
    /// Back in it, and not yet for long enough.
    Clearing = "clearing",
    /// Out of it.
    Raised = "raised",
}

mirrors!(AlertPhase: alert::Phase, Ok, Pending, Clearing, Raised);

kinds! {
    /// What a notice tells.
    NoticeKind
    /// It is out of its band.
    Raised = "raised",
    /// It is back.
    Cleared = "cleared",
    /// It is not watched any more.
    Removed = "removed",
    /// Whether notices arrive is tried.
    Test = "test",
}

mirrors!(NoticeKind: alert::Telling, Raised, Cleared);

kinds! {
    /// How a notice is sent.
    NoticeWay
    /// By e-mail.
    Mail = "e-mail",
    /// To a web hook.
    Hook = "web hook",
    /// To a topic.
    Topic = "topic",
}

kinds! {
    /// What has become of a notice.
    NoticeState
    /// It is not delivered yet.
    Waiting = "waiting",
    /// It is.
    Delivered = "delivered",
    /// It was tried for long enough.
    GivenUp = "given up",
}

kinds! {
    /// How a stand-in for a mail server or a web hook fails.
    #[derive(Default)]
    StandInFault
    /// It does not.
    #[default]
    None = "none",
    /// It answers, and takes nothing.
    Refuses = "refuses",
    /// It does not answer.
    Hangs = "hangs",
    /// It shows a certificate that nobody trusts.
    BadCertificate = "bad certificate",
}

kinds! {
    /// What happened.
    EventKind
    /// A client has connected.
    Connected = "connected",
    /// The connection of a client has ended as somebody wanted it.
    Disconnected = "disconnected",
    /// The connection of a client has ended without that: it broke, or one side has ended it for something wrong.
    ConnectionLost = "connection lost",
    /// A connection has ended because another one came with its client identifier.
    TakenOver = "taken over",
    /// A client was not let in.
    Refused = "refused",
    /// A connection ended before its client was let in or refused.
    Unfinished = "unfinished",
    /// The handshake of TLS or WebSocket has failed.
    HandshakeFailed = "handshake failed",
    /// Many sign-ins from one address have failed.
    SignInsFail = "sign-ins fail",
    /// A listener begins to refuse connections.
    ListenerRefuses = "listener refuses",
    /// A listener accepts connections again.
    ListenerAccepts = "listener accepts",
    /// A session has expired while its client was away.
    SessionExpired = "session expired",
    /// A session has ended while its client was away, for another reason than time.
    SessionEnded = "session ended",
    /// A client has subscribed.
    Subscribed = "subscribed",
    /// A client was not allowed to subscribe.
    SubscriptionRefused = "subscription refused",
    /// A client has unsubscribed.
    Unsubscribed = "unsubscribed",
    /// A Will Message was published.
    WillSent = "will sent",
    /// A Will Message was refused.
    WillRefused = "will refused",
    /// A topic has another owner, or none any more.
    OwnerChanged = "owner changed",
    /// A blueprint was put in force.
    BlueprintApplied = "blueprint applied",
    /// An identity was made or changed.
    IdentityChanged = "identity changed",
    /// An identity was removed.
    IdentityRemoved = "identity removed",
    /// The database can't be reached.
    DatabaseAway = "database away",
    /// The database is back.
    DatabaseBack = "database back",
    /// A certificate of a listener ends soon, or has ended.
    CertificateEnds = "certificate ends",
    /// An alert was raised.
    AlertRaised = "alert raised",
    /// An alert was cleared.
    AlertCleared = "alert cleared",
    /// A notice can't be delivered.
    NoticeFails = "notice fails",
    /// A bridge has reached its remote.
    BridgeUp = "bridge up",
    /// The link of a bridge is down.
    BridgeDown = "bridge down",
    /// A remote, or this broker, refuses what a bridge carries.
    BridgeRefused = "bridge refused",
    /// Messages that waited for a bridge were dropped.
    BridgeDrops = "bridge drops",
    /// Somebody has told a bridge what to do.
    BridgeTold = "bridge told",
}

mirrors!(EventKind: moorfall_core::EventKind, Connected, Disconnected, ConnectionLost, TakenOver, Refused, Unfinished, HandshakeFailed, SignInsFail, ListenerRefuses, ListenerAccepts, SessionExpired, SessionEnded, Subscribed, SubscriptionRefused, Unsubscribed, WillSent, WillRefused, OwnerChanged, BlueprintApplied, IdentityChanged, IdentityRemoved, DatabaseAway, DatabaseBack, CertificateEnds, AlertRaised, AlertCleared, NoticeFails, BridgeUp, BridgeDown, BridgeRefused, BridgeDrops, BridgeTold);

impl EventKind {
    /// The kind of this name, as it stands in JSON.
    pub fn named(name: &str) -> Option<Self> {
        name.parse::<moorfall_core::EventKind>().ok().map(Self::from)
    }
}

kinds! {
    /// How the link of a bridge is.
    BridgePhase
    /// It is up.
    Up = "up",
    /// It is being made.
    Connecting = "connecting",
    /// It is down; the next attempt is made later.
    Down = "down",
    /// It was told to rest.
    Paused = "paused",
    /// It sends what waits, takes nothing new, and then rests.
    Draining = "draining",
}

kinds! {
    /// Which way messages go, seen from this broker.
    BridgeDirection
    /// To the remote.
    Push = "push",
    /// From the remote.
    Pull = "pull",
}

asked_for!(BridgeDirection: moorfall_core::bridge::Direction, Push, Pull);

kinds! {
    /// How the link between the brokers of the demo is.
    LinkState
    /// It carries.
    Open = "open",
    /// It carries slowly.
    Slow = "slow",
    /// It is cut.
    Cut = "cut",
}

kinds! {
    /// What a derived topic's messages hold.
    DerivedForm
    /// The value alone, as text.
    Value = "value",
    /// A JSON object of value, time and quality.
    Record = "record",
}

mirrors!(DerivedForm: moorfall_core::blueprint::DerivedForm, Value, Record);

kinds! {
    /// How values of a while are made into one.
    Statistic
    /// Their mean.
    Mean = "mean",
    /// The least.
    Least = "least",
    /// The greatest.
    Greatest = "greatest",
    /// Their sum.
    Sum = "sum",
    /// How many.
    Count = "count",
    /// By how much they change in a second.
    Rate = "rate",
}

mirrors!(Statistic: moorfall_core::blueprint::Statistic, Mean, Least, Greatest, Sum, Count, Rate);

kinds! {
    /// Whether a value is as new as it is meant to be.
    Quality
    /// It is.
    Good = "good",
    /// Its sources are silent for longer than their cadence.
    Stale = "stale",
}

mirrors!(Quality: moorfall_core::derived::Quality, Good, Stale);

kinds! {
    /// What a derived topic makes of a message.
    DerivedOutcome
    /// It is published.
    Published = "published",
    /// It is like what was published before, or within the dead band.
    Unchanged = "unchanged",
    /// It waits, because something was published a moment ago.
    Waits = "waits",
    /// The condition is not true.
    NotTrue = "not true",
    /// Other sources have not said anything yet.
    Incomplete = "incomplete",
    /// A rate needs a second value.
    OneAlone = "one alone",
    /// No value can be made.
    Failed = "failed",
    /// There are as many topics as there is room for.
    Full = "full",
}
