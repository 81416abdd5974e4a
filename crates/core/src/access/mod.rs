//! Who may publish and subscribe to what.
//!
//! A [`Policy`] is a blueprint made ready. Binding it to an identity and a client identifier gives that session's
//! [`Access`], which decides. Deny wins; nothing is allowed by default. One function considers a rule, for decisions as
//! they are made and for explaining them: an explanation is the trace of a decision over all rules, and a live decision
//! leaves out only rules that an index says can't be about the topic.

mod bind;
mod decide;
mod explanation;
mod policy;

pub(crate) use self::decide::Sets;
pub use self::{
    decide::{Access, Considered, Decision, Request},
    explanation::{Explanation, Limited, Ruling},
    policy::{Policy, Subject},
};
pub use crate::blueprint::{Act, BindError, Verdict};
