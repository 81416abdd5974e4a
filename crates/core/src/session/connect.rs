//! From CONNECT to CONNACK.
use std::{
    num::{NonZeroU16, NonZeroU32},
    sync::Arc,
    time::Duration,
};

use bytes::Bytes;
use bytestring::ByteString;
use moorfall_wire::{
    ConnAck, ConnAckProperties, Connect, MAX_PACKET_SIZE, Packet, PacketId, ProtocolVersion, QoS, ReasonCode,
    UserProperty, Will,
};

use super::{
    action::{Action, Credentials, Verdict},
    checks::{check_payload, check_size, will_message},
    ended::{Ended, Violation},
    machine::{After, Open, Phase, Session},
    not_accepted::NotAccepted,
    refusal::{Patience, Reason},
    state::{NEVER, SessionState},
    subscribing::may_subscribe,
    terms::Terms,
};
use crate::{
    Limits, SessionKey, Time,
    access::{Access, Act, Request},
    aliases::{InboundAliases, OutboundAliases},
    bridge::PASSED,
    in_flight::Quota,
    shown::shown,
};

/// The longest client identifier that is taken, bytes. The standard asks for 23 at least ([MQTT-3.1.3-5]).
const CLIENT_ID_LENGTH: usize = 256;

impl Terms {
    fn new(connect: &Connect, access: Access, limits: &Limits) -> Self {
        let asked = match connect.version {
            // [MQTT-3.1.2-4] to [MQTT-3.1.2-6] of 3.1.1: a session that is not clean has no end of its own.
            ProtocolVersion::V311 if connect.clean_start => 0,
            ProtocolVersion::V311 => NEVER,
            ProtocolVersion::V5 => connect.properties.session_expiry_interval.unwrap_or(0),
        };
        let keep_alive = match limits.keep_alive_seconds {
            // [MQTT-3.2.2-21]; 3.1.1 has no way to say it.
            most @ 1..
                if connect.version == ProtocolVersion::V5 && (connect.keep_alive == 0 || connect.keep_alive > most) =>
            {
                most
            }
            _ => connect.keep_alive,
        };
        let window = connect.properties.receive_maximum.map_or(u16::MAX, Into::into);
        Self {
            access,
            keep_alive,
            window: window.min(limits.in_flight),
            topic_aliases: connect.properties.topic_alias_maximum.unwrap_or(0).min(limits.topic_aliases),
            will: connect.will.clone().map(detached),
            expiry: asked.min(limits.session_expiry_seconds),
        }
    }

    fn open(self, now: Time, key: SessionKey, state: SessionState, limits: &Limits) -> Open {
        Open {
            key,
            access: self.access,
            permissions: Default::default(),
            rights_may_be_lost: false,
            resends_when_safe: false,
            // [MQTT-3.1.2-22]: one and a half times.
            keep_alive: (self.keep_alive > 0).then(|| Duration::from_millis(u64::from(self.keep_alive) * 1_500)),
            last_heard: now,
            will: self.will.map(Box::new),
            expiry: self.expiry,
            state,
            quota: Quota::new(self.window),
            resend: Default::default(),
            unacknowledged: Default::default(),
            unanswered: 0,
            inbound_aliases: InboundAliases::new(limits.topic_aliases),
            outbound_aliases: OutboundAliases::new(self.topic_aliases),
            held: Default::default(),
            next_commit: 0,
            subscribing: None,
            patience: Patience::new(now),
        }
    }
}

impl Session {
    /// [MQTT-3.1.0-1]: the first packet is CONNECT.
    pub(super) fn handle_first_packet(&mut self, now: Time, packet: Packet) {
        let Packet::Connect(mut connect) = packet else {
            let first = Violation::FirstPacket(packet.packet_type());
            return self.close(now, Ended::Violation(first), false);
        };
        self.version = connect.version;
        self.client_packet_size =
            connect.properties.maximum_packet_size.map_or(MAX_PACKET_SIZE, |size| size.get() as usize);
        self.problem_information = connect.properties.request_problem_information.unwrap_or(true);
        if let Err(why) = check(&connect, &self.limits) {
            return self.refuse(why);
        }
        let Phase::Waiting { spare_id } = &self.phase else { unreachable!("called only while waiting") };
        let assigned_id = connect.client_id.is_empty().then(|| spare_id.clone());
        if let Some(id) = &assigned_id {
            connect.client_id = id.clone();
        }
        self.actions.push_back(Action::Authenticate(Box::new(Credentials {
            client_id: connect.client_id.clone(),
            user_name: connect.user_name.clone(),
            // The password is needed once and kept no longer.
            password: connect.password.take(),
        })));
        self.phase = Phase::Checking { connect, assigned_id };
    }

    /// The answer to [`Action::Authenticate`].
    pub fn handle_verdict(&mut self, verdict: Verdict) {
        let access = match verdict {
            Verdict::Known(access) => access,
            Verdict::Refused(why) => return self.refuse(why),
        };
        let Phase::Checking { connect, assigned_id } = std::mem::replace(&mut self.phase, Phase::Closed(None)) else {
            return;
        };
        // A will that could never be published is refused now, not when it is needed.
        if let Some(will) = &connect.will {
            let request = Request::Publish { topic: &will.topic, qos: will.qos, retain: will.retain };
            if !access.decide(request).is_allowed() {
                let will = will_message(will.clone(), SessionKey(0), Time::default());
                let refusal = Reason::rules(&access, request).refusal_of_will(access.name(), will);
                return self.refuse(NotAccepted::Will(Box::new(refusal)));
            }
        }
        let terms = Terms::new(&connect, access, &self.limits);
        let connack = match self.version {
            ProtocolVersion::V311 => ConnAckProperties::default(),
            ProtocolVersion::V5 => self.offer(&terms, &connect, assigned_id),
        };
        self.actions.push_back(Action::Admit {
            client_id: connect.client_id.clone(),
            identity: Arc::clone(terms.access.name()),
            clean_start: connect.clean_start,
            expiry: terms.expiry,
        });
        self.phase = Phase::Admitting { terms: Box::new(terms), connack: Box::new(connack) };
    }

    /// The answer to [`Action::Admit`]: earlier connections of this client are gone. With a `state` an earlier session
    /// goes on.
    pub fn handle_admitted(&mut self, now: Time, key: SessionKey, state: Option<SessionState>) {
        let Phase::Admitting { terms, connack } = std::mem::replace(&mut self.phase, Phase::Closed(None)) else {
            return;
        };
        // [MQTT-3.2.2-2], [MQTT-3.2.2-3].
        let session_present = state.is_some();
        let mut open = terms.open(now, key, state.unwrap_or_default(), &self.limits);
        open.rights_may_be_lost = session_present;
        self.withdraw_what_is_no_longer_allowed(&mut open);
        open.resend = open.state.in_flight.ids().into();
        let exactly_once =
            |id: &PacketId| open.state.sent(*id).is_some_and(|sent| sent.delivery.qos == QoS::ExactlyOnce);
        // What is sent again at QoS 2 may rest on what is still being written.
        let must_be_safe = open.is_kept() && open.resend.iter().any(exactly_once);
        open.resends_when_safe = must_be_safe;
        self.phase = Phase::Open(Box::new(open));
        let connack = ConnAck { session_present, reason: ReasonCode::Success, properties: *connack };
        self.send(&Packet::ConnAck(Box::new(connack)));
        if must_be_safe {
            self.after_commit(After::Resend);
        } else {
            self.resend(now);
        }
    }

    /// A subscription of an earlier connection may be one that the rules do not allow any more.
    fn withdraw_what_is_no_longer_allowed(&mut self, open: &mut Open) {
        let Open { access, state, .. } = open;
        state.subscriptions.retain(|filter, granted| {
            let reason = match may_subscribe(access, filter) {
                Ok(highest) => {
                    if highest < granted.options.qos {
                        granted.options.qos = highest;
                        let (filter, granted) = (filter.clone(), granted.clone());
                        self.actions.push_back(Action::Subscribe { filter, granted, send_retained: false });
                    }
                    return true;
                }
                Err(reason) => reason,
            };
            self.actions.push_back(Action::Unsubscribe(filter.clone()));
            self.actions.push_back(Action::Refused(Box::new(reason.refusal(
                access.name(),
                Act::Subscribe,
                filter,
                None,
            ))));
            false
        });
    }

    /// The other answer to [`Action::Admit`]: the client is not accepted after all.
    pub fn handle_not_admitted(&mut self, why: NotAccepted) {
        if matches!(self.phase, Phase::Admitting { .. }) {
            self.refuse(why);
        }
    }

    /// What the broker offers, where it is not what the standard assumes (§3.2.2.3).
    fn offer(&self, terms: &Terms, asked: &Connect, assigned_id: Option<ByteString>) -> ConnAckProperties {
        let asked_expiry = asked.properties.session_expiry_interval.unwrap_or(0);
        let says_who = |property: &UserProperty| *property.name == *PASSED;
        let is_bridge = asked.properties.user_properties.iter().any(says_who) && !self.broker_name.is_empty();
        let name = || UserProperty { name: ByteString::from_static(PASSED), value: (&*self.broker_name).into() };
        ConnAckProperties {
            user_properties: is_bridge.then(name).into_iter().collect(),
            session_expiry_interval: (terms.expiry != asked_expiry).then_some(terms.expiry),
            receive_maximum: NonZeroU16::new(self.limits.receive_maximum),
            maximum_packet_size: u32::try_from(self.limits.packet_bytes).ok().and_then(NonZeroU32::new),
            assigned_client_identifier: assigned_id,
            topic_alias_maximum: Some(self.limits.topic_aliases).filter(|maximum| *maximum > 0),
            server_keep_alive: (terms.keep_alive != asked.keep_alive).then_some(terms.keep_alive),
            ..ConnAckProperties::default()
        }
    }

    /// Answers CONNECT with a refusal and closes (§3.2.2.2).
    pub(super) fn refuse(&mut self, why: NotAccepted) {
        let (reason, properties) = match self.version {
            ProtocolVersion::V311 => (why.code().nearest_connect_return(), ConnAckProperties::default()),
            ProtocolVersion::V5 => (
                why.code(),
                ConnAckProperties { reason_string: self.reason_string(&why), ..ConnAckProperties::default() },
            ),
        };
        self.send(&Packet::ConnAck(Box::new(ConnAck { session_present: false, reason, properties })));
        self.phase = Phase::Closed(None);
        self.actions.push_back(Action::Close(Box::new(Ended::NotAccepted(why))));
    }
}

/// The will in memory of its own: it waits as long as the connection lasts, the receive buffer shall not.
fn detached(will: Will) -> Will {
    Will { topic: will.topic.detached(), payload: Bytes::copy_from_slice(&will.payload), ..will }
}

/// What can be refused without knowing who it is.
fn check(connect: &Connect, limits: &Limits) -> Result<(), NotAccepted> {
    if let Some(method) = &connect.properties.authentication_method {
        return Err(NotAccepted::AuthenticationMethod(shown(method).escape_debug().to_string()));
    }
    let id = &connect.client_id;
    if id.is_empty() && connect.version == ProtocolVersion::V311 && !connect.clean_start {
        return Err(NotAccepted::NoClientId);
    }
    if id.len() > CLIENT_ID_LENGTH {
        return Err(NotAccepted::ClientIdTooLong(id.len(), CLIENT_ID_LENGTH));
    }
    if id.chars().any(char::is_control) {
        return Err(NotAccepted::ClientIdControl);
    }
    if let Some(will) = &connect.will {
        let checked = check_size(&will.topic, limits)
            .and_then(|()| check_payload(will.properties.payload_format_indicator, &will.payload));
        checked.map_err(|reason| {
            let message = will_message(will.clone(), SessionKey(0), Time::default());
            NotAccepted::Will(Box::new(reason.refusal_of_will(&"".into(), message)))
        })?;
    }
    Ok(())
}
