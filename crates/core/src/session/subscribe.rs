//! SUBSCRIBE and UNSUBSCRIBE.

use moorfall_wire::{
    Packet, ProtocolVersion, QoS, ReasonCode, RetainHandling, SubAck, SubAckProperties, Subscribe, Subscription,
    TopicFilter, UnsubAck, UnsubAckProperties, Unsubscribe,
};

use super::{Action, After, Granted, Phase, Session, publish::check_size};
use crate::access::{Access, Request};

/// Whether the rules grant a filter; of a shared subscription, the filter behind the group.
pub(super) fn may_subscribe(access: &Access, filter: &TopicFilter) -> Result<(), (ReasonCode, String)> {
    let inner = match filter.shared() {
        None => None,
        Some(Ok((_, inner))) => Some(inner),
        Some(Err(error)) => return Err((ReasonCode::TopicFilterInvalid, format!("{filter}: {error}"))),
    };
    let request = Request::Subscribe(inner.as_ref().unwrap_or(filter));
    if access.decide(request, |_, _| {}).is_allowed() {
        Ok(())
    } else {
        Err((ReasonCode::NotAuthorized, access.explain(request)))
    }
}

impl Session {
    pub(super) fn handle_subscribe(&mut self, subscribe: Subscribe) {
        let mut reasons = Vec::with_capacity(subscribe.subscriptions.len());
        let mut first_refusal = None;
        let identifier = subscribe.properties.subscription_identifier;
        for Subscription { filter, options } in subscribe.subscriptions {
            match self.check_subscription(&filter) {
                Ok(()) => reasons.push(self.grant(filter, Granted { options, identifier })),
                Err((reason, words)) => {
                    reasons.push(if self.version == ProtocolVersion::V5 { reason } else { ReasonCode::Unspecified });
                    first_refusal.get_or_insert_with(|| words.clone());
                    self.actions.push_back(Action::Refused(words));
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

    fn check_subscription(&self, filter: &TopicFilter) -> Result<(), (ReasonCode, String)> {
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
