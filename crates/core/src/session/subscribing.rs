//! A SUBSCRIBE that is gone through in slices.

use moorfall_wire::{PacketId, QoS, ReasonCode, Subscription, TopicFilter, VariableInt};

use super::refusal::{Cause, Denied, Refusal};
use crate::{
    Time,
    access::{Access, Decision, Request},
    shown::shown,
};

/// Whether the rules grant a filter; of a shared subscription, the filter behind the group.
///
/// Gives the highest QoS that they grant.
pub(super) fn may_subscribe(access: &Access, filter: &TopicFilter) -> Result<QoS, Denied> {
    let decided = decide(access, filter)?;
    decided.map_err(|(request, decision)| Denied::by_rules(access, request.request(), &decision))
}

/// What is refused by the rules, and how; it is put into words only where it is told.
pub(super) type Refused = (Inner, Decision);

/// A filter, or the one behind the group of a shared subscription.
pub(super) struct Inner(TopicFilter);

impl Inner {
    pub(super) fn request(&self) -> Request<'_> {
        Request::Subscribe { filter: &self.0 }
    }
}

pub(super) fn decide(access: &Access, filter: &TopicFilter) -> Result<Result<QoS, Refused>, Denied> {
    let inner = match filter.shared() {
        None => None,
        Some(Ok((_, inner))) => Some(inner),
        Some(Err(error)) => {
            let words = format!("{}: {error}", shown(filter));
            return Err(Denied::new(ReasonCode::TopicFilterInvalid, Cause::Filter, words));
        }
    };
    Ok(match access.decide(Request::Subscribe { filter: inner.as_ref().unwrap_or(filter) }) {
        Decision::Allowed { highest_qos, .. } => Ok(highest_qos),
        decision => Err((Inner(inner.unwrap_or_else(|| filter.clone())), decision)),
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
    pub(super) left: std::vec::IntoIter<Subscription>,
    pub(super) reasons: Vec<ReasonCode>,
    /// The first one in words, and how many there were.
    pub(super) refused: Option<Refusal>,
}
