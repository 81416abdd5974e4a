//! SUBSCRIBE and UNSUBSCRIBE.

use moorfall_wire::{
    Packet, ProtocolVersion, QoS, ReasonCode, RetainHandling, SubAck, SubAckProperties, Subscribe, Subscription,
    TopicFilter, UnsubAck, UnsubAckProperties, Unsubscribe,
};

use super::{Action, After, Granted, Phase, Session, publish::check_size};
use crate::Time;
use crate::access::{Access, Decision, Request};

/// Whether the rules grant a filter; of a shared subscription, the filter behind the group.
///
/// Gives the highest QoS that they grant.
pub(super) fn may_subscribe(access: &Access, filter: &TopicFilter) -> Result<QoS, (ReasonCode, String)> {
    let inner = match filter.shared() {
        None => None,
        Some(Ok((_, inner))) => Some(inner),
        Some(Err(error)) => return Err((ReasonCode::TopicFilterInvalid, format!("{filter}: {error}"))),
    };
    let request = Request::Subscribe { filter: inner.as_ref().unwrap_or(filter) };
    match access.decide(request) {
        Decision::Allowed { highest_qos, .. } => Ok(highest_qos),
        _ => Err((ReasonCode::NotAuthorized, access.explain(request))),
    }
}

impl Session {
    /// The rules have changed, or what they see of the identity. A client that loses a subscription is told by the end
    /// of its connection: the protocol knows no other way, and silence would leave it waiting. What it is granted less
    /// of goes on with less.
    pub fn change_access(&mut self, now: Time, access: Access) {
        let Phase::Open(open) = &mut self.phase else { return };
        open.access = access;
        open.rights_may_be_lost = true;
        open.permissions.forget();
        let mut lowered = Vec::new();
        for (filter, granted) in &mut open.state.subscriptions {
            match may_subscribe(&open.access, filter) {
                Ok(highest) if highest < granted.options.qos => {
                    granted.options.qos = highest;
                    lowered.push((filter.clone(), *granted));
                }
                Ok(_) => {}
                Err((_, words)) => {
                    let words = format!("the rules have changed: {words}");
                    return self.fail(now, ReasonCode::NotAuthorized, words);
                }
            }
        }
        for (filter, granted) in lowered {
            self.actions.push_back(Action::Subscribe { filter, granted, send_retained: false });
        }
    }

    pub(super) fn handle_subscribe(&mut self, subscribe: Subscribe) {
        let mut reasons = Vec::with_capacity(subscribe.subscriptions.len());
        let mut first_refusal = None;
        let identifier = subscribe.properties.subscription_identifier;
        for Subscription { filter, mut options } in subscribe.subscriptions {
            match self.check_subscription(&filter) {
                Ok(highest) => {
                    options.qos = options.qos.min(highest);
                    reasons.push(self.grant(filter, Granted { options, identifier }));
                }
                Err((reason, words)) => {
                    reasons.push(if self.version == ProtocolVersion::V5 { reason } else { ReasonCode::Unspecified });
                    first_refusal.get_or_insert_with(|| words.clone());
                    self.actions.push_back(Action::Refused { words, message: None });
                }
            }
        }
        let reason_string = first_refusal.and_then(|words| self.problem_string(&words));
        let properties = SubAckProperties { reason_string, ..SubAckProperties::default() };
        self.answer(Packet::SubAck(SubAck { packet_id: subscribe.packet_id, properties, reasons }));
    }

    /// Answers a change of subscriptions: at once, or when the change will survive.
    fn answer(&mut self, packet: Packet) {
        if self.is_kept() {
            self.after_commit(After::Send(Box::new(packet)));
        } else {
            self.send(&packet);
        }
    }

    fn check_subscription(&self, filter: &TopicFilter) -> Result<QoS, (ReasonCode, String)> {
        let Phase::Open(open) = &self.phase else { unreachable!("packets are handled only while open") };
        check_size(filter, &self.limits).map_err(|words| (ReasonCode::TopicFilterInvalid, words))?;
        let limit = self.limits.subscriptions;
        let known = &open.state.subscriptions;
        if known.len() >= limit && !known.contains_key(filter) {
            return Err((ReasonCode::QuotaExceeded, format!("a session may have {limit} subscriptions at most")));
        }
        may_subscribe(&open.access, filter)
    }

    fn grant(&mut self, filter: TopicFilter, granted: Granted) -> ReasonCode {
        let Phase::Open(open) = &mut self.phase else { unreachable!("packets are handled only while open") };
        let filter = filter.detached();
        // [MQTT-3.8.4-3]: the same filter again replaces the subscription.
        let existed = open.state.subscriptions.insert(filter.clone(), granted).is_some();
        // §3.8.3.1; none for a shared subscription (§4.8.2).
        let send_retained = match granted.options.retain_handling {
            _ if filter.shared().is_some() => false,
            RetainHandling::Always => true,
            RetainHandling::IfNew => !existed,
            RetainHandling::Never => false,
        };
        self.actions.push_back(Action::Subscribe { filter, granted, send_retained });
        match granted.options.qos {
            QoS::AtMostOnce => ReasonCode::Success,
            QoS::AtLeastOnce => ReasonCode::GrantedQoS1,
            QoS::ExactlyOnce => ReasonCode::GrantedQoS2,
        }
    }

    pub(super) fn handle_unsubscribe(&mut self, unsubscribe: Unsubscribe) {
        let Phase::Open(open) = &mut self.phase else { unreachable!("packets are handled only while open") };
        let mut reasons = Vec::with_capacity(unsubscribe.filters.len());
        for filter in unsubscribe.filters {
            let existed = open.state.subscriptions.remove(&filter).is_some();
            reasons.push(if existed { ReasonCode::Success } else { ReasonCode::NoSubscriptionExisted });
            if existed {
                self.actions.push_back(Action::Unsubscribe(filter));
            }
        }
        if self.version == ProtocolVersion::V311 {
            reasons.clear();
        }
        let properties = UnsubAckProperties::default();
        self.answer(Packet::UnsubAck(UnsubAck { packet_id: unsubscribe.packet_id, properties, reasons }));
    }
}
