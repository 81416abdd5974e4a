//! The broker's side of one connection, as a state machine over values.
//!
//! # The contract
//!
//! Inputs, each with the time at which it happened; time never goes back:
//! [`Session::handle_packet`], [`Session::handle_decode_error`], [`Session::handle_verdict`] (the answer to
//! [`Action::Authenticate`]), [`Session::handle_admitted`] (the answer to [`Action::Admit`]),
//! [`Session::handle_routed`] (the answer to [`Action::Route`] with a packet identifier),
//! [`Session::handle_committed`] (the answer to [`Action::Commit`]), [`Session::handle_queued`],
//! [`Session::handle_timeout`], [`Session::handle_connection_lost`], [`Session::end`].
//!
//! Outputs, to be drained after every input: [`Session::poll_action`] until it gives `None`, each action carried out
//! in order; then the bytes of [`Session::outgoing`] are written, and what [`Session::take_handed`] gives is handed on, if the
//! session hands over. [`Session::poll_timeout`] says when
//! [`Session::handle_timeout`] is due. Packets are handed in only while [`Session::wants_packets`] holds; what has
//! arrived meanwhile stays in the receive buffer, so packets right behind CONNECT are served in order after it.
//!
//! Answers to [`Action::Route`] and [`Action::Commit`] may come later, but in the order in which the actions came:
//! they mean that what the client is told next will survive. After [`Action::Close`], [`Session::part`] gives what
//! outlives the connection.
//!
//! ```text
//!            CONNECT               verdict: known            admitted
//! Waiting ───────────▶ Checking ───────────────▶ Admitting ───────────▶ Open
//!    │                    │                          │                    │
//!    └────────────────────┴──────── any end ─────────┴────────────────────┴──▶ Closed
//! ```

mod action;
mod checks;
mod connect;
mod deliver;
mod ended;
mod handed;
mod machine;
mod no_entry;
mod not_accepted;
mod permission;
mod permissions;
mod publish;
mod refusal;
mod state;
mod subscribe;
mod subscribed;
mod subscribing;
mod terms;

pub use self::{
    action::{Action, Credentials, Keep, Routed, Verdict},
    deliver::{Handled, Undelivered, Withheld},
    ended::{Ended, EndedKind, Violation},
    handed::{Handed, HandedMessage},
    machine::Session,
    no_entry::NoEntry,
    not_accepted::{NotAccepted, NotAcceptedKind},
    permissions::Drift,
    refusal::{Cause, ConditionFault, Reason, ReasonKind, Refusal},
    state::{DelayedWill, NEVER, Parting, Sent, SessionState},
};
pub use crate::Granted;
