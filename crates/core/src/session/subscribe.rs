//! SUBSCRIBE and UNSUBSCRIBE.

use std::sync::Arc;

use moorfall_wire::{
    Packet, ProtocolVersion, QoS, ReasonCode, RetainHandling, SubAck, SubAckProperties, Subscribe, Subscription,
    TopicFilter, UnsubAck, UnsubAckProperties, Unsubscribe, UserProperty,
};

use super::{
    action::Action,
    checks::check_size,
    ended::Ended,
    machine::{After, Session},
    refusal::{ConditionFault, Reason, Refusal},
    subscribing::{Inner, SLICE, Subscribing, decide, may_subscribe},
};
use crate::{
    Condition, Granted, JUDGED, ONLY_WHERE, Time,
    access::{Access, Act},
};

/// What an expression of a client may cost at most, steps: it is evaluated for every message, by whoever publishes it.
const STEPS: u64 = 500;

/// The condition that a client asks for.
fn asked_condition(properties: &[UserProperty]) -> Result<Option<Arc<Condition>>, ConditionFault> {
    let mut all = properties.iter().filter(|property| &*property.name == ONLY_WHERE);
    match (all.next(), all.next()) {
        (None, _) => Ok(None),
        (Some(one), None) => {
            let condition = Condition::shared(&one.value).map_err(ConditionFault::Wrong)?;
            let steps = condition.steps();
            if condition.is_simple() || steps <= STEPS {
                Ok(Some(condition))
            } else {
                Err(ConditionFault::TooDear { steps, most: STEPS })
            }
        }
        (Some(_), Some(_)) => Err(ConditionFault::Several),
    }
}

impl Session {
    /// The rules have changed, or what they see of the identity. A client that loses a subscription is told by the end
    /// of its connection: the protocol knows no other way, and silence would leave it waiting. What it is granted less
    /// of goes on with less.
    pub fn change_access(&mut self, now: Time, access: Access) {
        let Some(open) = self.phase.open_mut() else { return };
        open.access = access;
        open.rights_may_be_lost = true;
        open.permissions.forget();
        let mut lowered = Vec::new();
        let mut lost = None;
        for (filter, granted) in open.state.subscriptions.iter_mut() {
            match may_subscribe(&open.access, filter) {
                Ok(highest) if highest < granted.options.qos => {
                    granted.options.qos = highest;
                    lowered.push((filter.clone(), granted.clone()));
                }
                Ok(_) => {}
                Err(reason) => {
                    lost = Some(reason.refusal(open.access.name(), Act::Subscribe, filter, None));
                    break;
                }
            }
        }
        if let Some(lost) = lost {
            return self.fail(now, Ended::SubscriptionLost(Box::new(lost)));
        }
        for (filter, granted) in lowered {
            self.actions.push_back(Action::Subscribe { filter, granted, send_retained: false });
        }
    }

    /// Filters are gone through in slices. More than a session may ever have are not looked at.
    pub(super) fn handle_subscribe(&mut self, now: Time, subscribe: Subscribe) {
        let Subscribe { packet_id, properties, subscriptions } = subscribe;
        let (count, limit) = (subscriptions.len(), self.limits.subscriptions);
        let mut subscribing = Subscribing {
            arrived: now,
            packet_id,
            identifier: properties.subscription_identifier,
            condition: None,
            left: Vec::new().into_iter(),
            reasons: Vec::new(),
            refused: None,
        };
        let condition = asked_condition(&properties.user_properties);
        let reason = match condition {
            _ if count > limit => Some(Reason::Subscriptions { most: limit, asked: Some(count) }),
            Ok(condition) => {
                subscribing.condition = condition;
                None
            }
            Err(fault) => Some(Reason::Condition(fault)),
        };
        if let Some(reason) = reason {
            subscribing.reasons = vec![self.refusal_code(reason.code(Act::Subscribe)); count];
            let first = subscriptions.first().map_or("", |first| &first.filter);
            let refusal = reason.refusal(self.phase.opened().access.name(), Act::Subscribe, first, None);
            subscribing.refused = Some(Refusal { count: count as u64, ..refusal });
            return self.subscribed(subscribing);
        }
        subscribing.left = subscriptions.into_iter();
        subscribing.reasons.reserve(count);
        let open = self.phase.opened_mut();
        open.subscribing = Some(Box::new(subscribing));
    }

    /// Goes on with a SUBSCRIBE; gives whether there was one.
    pub(super) fn subscribe_on(&mut self) -> bool {
        let Some(open) = self.phase.open_mut() else { return false };
        let Some(mut subscribing) = open.subscribing.take() else { return false };
        for _ in 0..SLICE {
            let Some(Subscription { filter, mut options }) = subscribing.left.next() else {
                self.subscribed(*subscribing);
                return true;
            };
            let reason = match self.check_subscription(&filter, subscribing.condition.as_ref()) {
                Ok(Ok(highest)) => {
                    options.qos = options.qos.min(highest);
                    let Subscribing { identifier, condition, .. } = &*subscribing;
                    self.grant(filter, Granted { options, identifier: *identifier, condition: condition.clone() })
                }
                refused => {
                    let Some(open) = self.phase.open() else { return true };
                    let (code, reason) = match refused {
                        Err(reason) => (reason.code(Act::Subscribe), Some(reason)),
                        Ok(Err(inner)) if subscribing.refused.is_none() => {
                            (ReasonCode::NotAuthorized, Some(Reason::rules(&open.access, inner.request())))
                        }
                        Ok(_) => (ReasonCode::NotAuthorized, None),
                    };
                    match (&mut subscribing.refused, reason) {
                        (Some(refused), _) => refused.count += 1,
                        (first @ None, reason) => {
                            let name = open.access.name();
                            *first = reason.map(|reason| reason.refusal(name, Act::Subscribe, &filter, None));
                        }
                    }
                    self.refusal_code(code)
                }
            };
            subscribing.reasons.push(reason);
        }
        if let Some(open) = self.phase.open_mut() {
            open.subscribing = Some(subscribing);
        }
        true
    }

    fn refusal_code(&self, reason: ReasonCode) -> ReasonCode {
        if self.version == ProtocolVersion::V5 { reason } else { ReasonCode::Unspecified }
    }

    fn subscribed(&mut self, subscribing: Subscribing) {
        let Subscribing { arrived, packet_id, reasons, refused, condition, .. } = subscribing;
        let reason_string = refused.as_ref().and_then(|refused| self.problem_string(refused));
        let judged = condition.map(|_| UserProperty { name: ONLY_WHERE.into(), value: JUDGED.into() });
        let user_properties = judged.into_iter().collect();
        let properties = SubAckProperties { reason_string, user_properties };
        self.answer(Packet::SubAck(SubAck { packet_id, properties, reasons }));
        if let Some(refused) = refused {
            self.refused(arrived, refused);
        }
    }

    /// Answers a change of subscriptions: at once, or when the change will survive.
    fn answer(&mut self, packet: Packet) {
        if self.is_kept() {
            self.after_commit(After::Send(Box::new(packet)));
        } else {
            self.send(&packet);
        }
    }

    fn check_subscription(
        &self,
        filter: &TopicFilter,
        condition: Option<&Arc<Condition>>,
    ) -> Result<Result<QoS, Inner>, Reason> {
        let open = self.phase.opened();
        check_size(filter, &self.limits)?;
        let limit = self.limits.subscriptions;
        let known = &open.state.subscriptions;
        let is_new = !known.contains(filter);
        if known.len() >= limit && is_new {
            return Err(Reason::Subscriptions { most: limit, asked: None });
        }
        if condition.is_some() && !known.has_room_for_condition(filter) {
            return Err(Reason::Conditions);
        }
        if !known.has_room(filter, condition) {
            return Err(Reason::SubscriptionBytes);
        }
        decide(&open.access, filter)
    }

    fn grant(&mut self, filter: TopicFilter, granted: Granted) -> ReasonCode {
        let open = self.phase.opened_mut();
        // [MQTT-3.8.4-3]: the same filter again replaces the subscription.
        let options = granted.options;
        let existed = open.state.subscriptions.insert(filter.clone(), granted.clone()).is_some();
        // §3.8.3.1; none for a shared subscription (§4.8.2).
        let send_retained = match options.retain_handling {
            _ if filter.shared().is_some() => false,
            RetainHandling::Always => true,
            RetainHandling::IfNew => !existed,
            RetainHandling::Never => false,
        };
        self.actions.push_back(Action::Subscribe { filter, granted, send_retained });
        match options.qos {
            QoS::AtMostOnce => ReasonCode::Success,
            QoS::AtLeastOnce => ReasonCode::GrantedQoS1,
            QoS::ExactlyOnce => ReasonCode::GrantedQoS2,
        }
    }

    pub(super) fn handle_unsubscribe(&mut self, unsubscribe: Unsubscribe) {
        let open = self.phase.opened_mut();
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
