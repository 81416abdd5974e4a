//! A SUBSCRIBE that is gone through in slices.

use std::sync::Arc;

use moorfall_wire::{PacketId, QoS, ReasonCode, Subscription, TopicFilter, VariableInt};

use super::refusal::{Reason, Refusal};
use crate::{
    Condition, Time,
    access::{Access, Decision, Request},
};

/// Whether the rules grant a filter; of a shared subscription, the filter behind the share name.
///
/// Gives the highest QoS that they grant.
pub(super) fn may_subscribe(access: &Access, filter: &TopicFilter) -> Result<QoS, Reason> {
    decide(access, filter)?.map_err(|inner| Reason::rules(access, inner.request()))
}

/// A filter, or the one behind the share name of a shared subscription. Why the rules refuse it costs more to find out
/// than that they do, so it is done for the first of many.
pub(super) struct Inner(TopicFilter);

impl Inner {
    pub(super) fn request(&self) -> Request<'_> {
        Request::Subscribe { filter: &self.0 }
    }
}

pub(super) fn decide(access: &Access, filter: &TopicFilter) -> Result<Result<QoS, Inner>, Reason> {
    let inner = match filter.shared() {
        None => None,
        Some(Ok((_, inner))) => Some(inner),
        Some(Err(error)) => return Err(Reason::Filter(error)),
    };
    Ok(match access.decide(Request::Subscribe { filter: inner.as_ref().unwrap_or(filter) }) {
        Decision::Allowed { highest_qos, .. } => Ok(highest_qos),
        _ => Err(Inner(inner.unwrap_or_else(|| filter.clone()))),
    })
}

/// Filters that are gone through at a time: rules and filters that are long cost most of a millisecond each.
pub(super) const SLICE: usize = 8;

/// A SUBSCRIBE that is gone through.
#[derive(Debug)]
pub(super) struct Subscribing {
    pub(super) arrived: Time,
    pub(super) packet_id: PacketId,
    pub(super) identifier: Option<VariableInt>,
    /// Which messages the client asks for, of all filters; all if absent.
    pub(super) condition: Option<Arc<Condition>>,
    pub(super) left: std::vec::IntoIter<Subscription>,
    pub(super) reasons: Vec<ReasonCode>,
    /// The first one, and how many there were.
    pub(super) refused: Option<Refusal>,
}
