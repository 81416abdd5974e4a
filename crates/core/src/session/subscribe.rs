//! SUBSCRIBE and UNSUBSCRIBE.

use moorfall_wire::{
    Packet, ProtocolVersion, QoS, ReasonCode, RetainHandling, SubAck, SubAckProperties, Subscribe, Subscription,
    SubscriptionOptions, TopicFilter, UnsubAck, UnsubAckProperties, Unsubscribe,
};

use super::{Action, Phase, Session, publish::check_size};
use crate::{Time, access::Request};

impl Session {
    pub(super) fn handle_subscribe(&mut self, now: Time, subscribe: Subscribe) {
        if subscribe.properties.subscription_identifier.is_some() {
            // CONNACK said that they are not available (§3.2.2.3.12).
            let words = "subscription identifiers are not offered".into();
            return self.fail(now, ReasonCode::SubscriptionIdentifiersNotSupported, words);
        }
        let mut reasons = Vec::with_capacity(subscribe.subscriptions.len());
        let mut first_refusal = None;
        for Subscription { filter, options } in subscribe.subscriptions {
            match self.may_subscribe(&filter) {
                Ok(()) => reasons.push(self.grant(filter, options)),
                Err((reason, words)) => {
                    reasons.push(if self.version == ProtocolVersion::V5 { reason } else { ReasonCode::Unspecified });
                    first_refusal.get_or_insert_with(|| words.clone());
                    self.actions.push_back(Action::Refused(words));
                }
            }
        }
        let reason_string = first_refusal.and_then(|words| self.problem_string(&words));
        let properties = SubAckProperties { reason_string, ..SubAckProperties::default() };
        self.send(&Packet::SubAck(SubAck { packet_id: subscribe.packet_id, properties, reasons }));
    }

    fn may_subscribe(&self, filter: &TopicFilter) -> Result<(), (ReasonCode, String)> {
        let Phase::Open(open) = &self.phase else { unreachable!("packets are handled only while open") };
        if filter.starts_with("$share/") {
            let words = format!("shared subscriptions are not offered, so not {filter}");
            return Err((ReasonCode::SharedSubscriptionsNotSupported, words));
        }
        check_size(filter, &self.limits).map_err(|words| (ReasonCode::TopicFilterInvalid, words))?;
        let limit = self.limits.subscriptions;
        if open.subscriptions.len() >= limit && !open.subscriptions.contains_key(filter) {
            return Err((ReasonCode::QuotaExceeded, format!("a session may have {limit} subscriptions at most")));
        }
        let request = Request::Subscribe(filter);
        if !open.access.decide(request, |_, _| {}).is_allowed() {
            return Err((ReasonCode::NotAuthorized, open.access.explain(request)));
        }
        Ok(())
    }

    fn grant(&mut self, filter: TopicFilter, options: SubscriptionOptions) -> ReasonCode {
        let Phase::Open(open) = &mut self.phase else { unreachable!("packets are handled only while open") };
        let options = SubscriptionOptions { qos: options.qos.min(QoS::AtLeastOnce), ..options };
        let filter = filter.detached();
        let existed = open.subscriptions.insert(filter.clone(), options).is_some();
        // §3.8.3.1.
        let send_retained = match options.retain_handling {
            RetainHandling::Always => true,
            RetainHandling::IfNew => !existed,
            RetainHandling::Never => false,
        };
        self.actions.push_back(Action::Subscribe { filter, options, send_retained });
        if options.qos == QoS::AtMostOnce { ReasonCode::Success } else { ReasonCode::GrantedQoS1 }
    }

    pub(super) fn handle_unsubscribe(&mut self, unsubscribe: Unsubscribe) {
        let Phase::Open(open) = &mut self.phase else { unreachable!("packets are handled only while open") };
        let mut reasons = Vec::with_capacity(unsubscribe.filters.len());
        for filter in unsubscribe.filters {
            let existed = open.subscriptions.remove(&filter).is_some();
            reasons.push(if existed { ReasonCode::Success } else { ReasonCode::NoSubscriptionExisted });
            if existed {
                self.actions.push_back(Action::Unsubscribe(filter));
            }
        }
        if self.version == ProtocolVersion::V311 {
            reasons.clear();
        }
        let properties = UnsubAckProperties::default();
        self.send(&Packet::UnsubAck(UnsubAck { packet_id: unsubscribe.packet_id, properties, reasons }));
    }
}
