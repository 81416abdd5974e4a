//! The computation of the broker: sessions, routing, access, blueprint, rates.
//!
//! Nothing here opens a socket, reads a clock, writes to a database or prints. Time is a [`Time`] handed in;
//! bytes come in as packets and leave through [`Outgoing`]. So each rule of the protocol can be tested with two
//! simulated peers and a simulated clock, and the service above only moves bytes and answers questions.

pub mod access;
pub mod alert;
mod aliases;
pub mod blueprint;
pub mod bridge;
mod bucket;
pub mod certificate;
pub mod client;
pub mod derived;
mod event;
mod expression;
mod granted;
mod holding;
mod identity;
mod in_flight;
mod limits;
pub mod measure;
mod message;
pub mod names;
pub mod near_miss;
pub mod number;
mod outbox;
mod outgoing;
pub mod owned;
mod pattern_index;
pub mod plan;
mod queued;
mod remote;
mod retained;
mod route;
pub mod router;
mod run;
pub mod session;
mod shelf;
pub mod shown;
mod subscriptions;
mod time;
mod topic_set;

pub use event::EventKind;
pub use expression::{
    Condition, Expression, ExpressionError, Judged, Judging, Known, MessageFields, NoValue, PayloadValue, Scalar,
    ValueExpression,
};
pub use granted::{Granted, JUDGED, ONLY_WHERE, When};
pub use holding::{CohortQuota, Holding, Quota, Share};
pub use identity::{ADMINISTRATOR, ANONYMOUS, AttributeValue, BRIDGE, BUILT_IN, DERIVED, Identity};
pub use limits::{LimitError, Limits, LiveTraffic, QueuePolicy};
pub use message::{Delivery, Filed, Message, MessageName, NameKey, Properties, SessionKey, Via};
pub use outbox::{Outbox, Pushed};
pub use outgoing::Outgoing;
pub use queued::Queued;
pub use remote::{Remote, RemoteError, Scheme};
pub use run::{Part, Passing, Run, Said};
pub use shelf::{Left, Page, Shelved};
pub use time::Time;
pub use topic_set::{Level, Segment, TopicSet, Values};
