//! From CONNECT to CONNACK.

use std::{num::NonZeroU32, sync::Arc, time::Duration};

use bytes::Bytes;
use bytestring::ByteString;
use moorfall_wire::{
    ConnAck, ConnAckProperties, Connect, MAX_PACKET_SIZE, Packet, ProtocolVersion, QoS, ReasonCode, Will,
};

use super::{Action, Credentials, Open, Phase, Session, Subscriptions, Verdict};
use crate::{
    Time,
    access::{Access, Request},
    in_flight::InFlight,
};

/// The longest client identifier that is taken, bytes. The standard asks for 23 at least ([MQTT-3.1.3-5]).
const CLIENT_ID_LENGTH: usize = 256;

impl Session {
    /// [MQTT-3.1.0-1]: the first packet is CONNECT.
    pub(super) fn handle_first_packet(&mut self, now: Time, packet: Packet) {
        let Packet::Connect(mut connect) = packet else {
            let words = format!("the first packet was {}, not CONNECT", packet.packet_type());
            return self.close(now, words, false, true);
        };
        self.version = connect.version;
        self.client_packet_size =
            connect.properties.maximum_packet_size.map_or(MAX_PACKET_SIZE, |size| size.get() as usize);
        self.problem_information = connect.properties.request_problem_information.unwrap_or(true);
        if let Err((reason, words)) = check(&connect) {
            return self.refuse(reason, words);
        }
        let Phase::Waiting { spare_id } = &self.phase else { unreachable!("called only while waiting") };
        let assigned_id = connect.client_id.is_empty().then(|| spare_id.clone());
        if let Some(id) = &assigned_id {
            connect.client_id = id.clone();
        }
        self.actions.push_back(Action::Authenticate(Credentials {
            client_id: connect.client_id.clone(),
            user_name: connect.user_name.clone(),
            // The password is needed once and kept no longer.
            password: connect.password.take(),
        }));
        self.phase = Phase::Checking { connect, assigned_id };
    }

    /// The answer to [`Action::Authenticate`].
    pub fn handle_verdict(&mut self, now: Time, verdict: Verdict) {
        let access = match verdict {
            Verdict::Known(access) => access,
            Verdict::Refused { reason, words } => return self.refuse(reason, words),
        };
        let Phase::Checking { connect, assigned_id } =
            std::mem::replace(&mut self.phase, Phase::Closed(Subscriptions::default()))
        else {
            return;
        };
        // A will that could never be published is refused now, not when it is needed.
        if let Some(will) = &connect.will {
            let request = Request::Publish(&will.topic);
            if !access.decide(request, |_, _| {}).is_allowed() {
                return self.refuse(ReasonCode::NotAuthorized, format!("the will: {}", access.explain(request)));
            }
        }
        let terms = match self.version {
            ProtocolVersion::V311 => ConnAckProperties::default(),
            ProtocolVersion::V5 => self.terms(&connect, assigned_id),
        };
        self.actions
            .push_back(Action::Admit { client_id: connect.client_id.clone(), identity: Arc::clone(access.name()) });
        let open = Box::new(self.open(now, *connect, access));
        self.phase = Phase::Admitting { open, terms: Box::new(terms) };
    }

    fn open(&self, now: Time, connect: Connect, access: Access) -> Open {
        let window = connect.properties.receive_maximum.map_or(u16::MAX, Into::into);
        Open {
            access,
            allowed: Default::default(),
            // [MQTT-3.1.2-22]: one and a half times; zero switches the check off.
            keep_alive: (connect.keep_alive > 0).then(|| Duration::from_millis(u64::from(connect.keep_alive) * 1_500)),
            last_heard: now,
            in_flight: InFlight::new(window.min(self.limits.in_flight)),
            will: connect.will.map(detached),
            subscriptions: Subscriptions::default(),
        }
    }

    /// The answer to [`Action::Admit`]: earlier connections of this client are gone.
    pub fn handle_admitted(&mut self, now: Time) {
        let Phase::Admitting { mut open, terms } =
            std::mem::replace(&mut self.phase, Phase::Closed(Subscriptions::default()))
        else {
            return;
        };
        open.last_heard = now;
        self.phase = Phase::Open(open);
        // [MQTT-3.2.2-2]: no session is kept, so none is ever present.
        let connack = ConnAck { session_present: false, reason: ReasonCode::Success, properties: *terms };
        self.send(&Packet::ConnAck(Box::new(connack)));
    }

    /// The other answer to [`Action::Admit`]: the client is not let in after all.
    pub fn handle_not_admitted(&mut self, reason: ReasonCode, words: String) {
        if matches!(self.phase, Phase::Admitting { .. }) {
            self.refuse(reason, words);
        }
    }

    /// What the broker offers, where it is not what the standard assumes (§3.2.2.3).
    fn terms(&self, asked: &Connect, assigned_id: Option<ByteString>) -> ConnAckProperties {
        let expiry = asked.properties.session_expiry_interval.unwrap_or(0);
        ConnAckProperties {
            session_expiry_interval: (expiry > 0).then_some(0),
            maximum_qos: Some(true),
            maximum_packet_size: u32::try_from(self.limits.packet_size).ok().and_then(NonZeroU32::new),
            assigned_client_identifier: assigned_id,
            subscription_identifiers_available: Some(false),
            shared_subscription_available: Some(false),
            ..ConnAckProperties::default()
        }
    }

    /// Answers CONNECT with a refusal and closes (§3.2.2.2).
    pub(super) fn refuse(&mut self, reason: ReasonCode, words: String) {
        let (reason, properties) = match self.version {
            ProtocolVersion::V311 => (reason.nearest_connect_return(), ConnAckProperties::default()),
            ProtocolVersion::V5 => (
                reason,
                ConnAckProperties { reason_string: self.reason_string(&words), ..ConnAckProperties::default() },
            ),
        };
        self.send(&Packet::ConnAck(Box::new(ConnAck { session_present: false, reason, properties })));
        self.phase = Phase::Closed(Subscriptions::default());
        self.actions.push_back(Action::Close { words: format!("refused: {words}"), failure: true });
    }
}

/// The will in memory of its own: it waits as long as the connection lasts, the receive buffer shall not.
fn detached(will: Will) -> Will {
    Will { topic: will.topic.detached(), payload: Bytes::copy_from_slice(&will.payload), ..will }
}

/// What can be refused without knowing who it is.
fn check(connect: &Connect) -> Result<(), (ReasonCode, String)> {
    // [MQTT-4.12.0-1]: no method of extended authentication is offered.
    if let Some(method) = &connect.properties.authentication_method {
        let words =
            format!("the authentication method {method:?} is not offered here; sign in with user name and password");
        return Err((ReasonCode::BadAuthenticationMethod, words));
    }
    let id = &connect.client_id;
    // 3.1.1 [MQTT-3.1.3-8]: without an identifier there is nothing to keep a session by.
    if id.is_empty() && connect.version == ProtocolVersion::V311 && !connect.clean_start {
        let words = "an empty client identifier needs the clean session flag".into();
        return Err((ReasonCode::ClientIdentifierNotValid, words));
    }
    if id.len() > CLIENT_ID_LENGTH {
        let words = format!("the client identifier has {} bytes; at most {CLIENT_ID_LENGTH} are taken", id.len());
        return Err((ReasonCode::ClientIdentifierNotValid, words));
    }
    if id.chars().any(char::is_control) {
        let words = "the client identifier holds control characters".into();
        return Err((ReasonCode::ClientIdentifierNotValid, words));
    }
    // [MQTT-3.2.2-12].
    if connect.will.as_ref().is_some_and(|will| will.qos == QoS::ExactlyOnce) && connect.version == ProtocolVersion::V5
    {
        return Err((ReasonCode::QoSNotSupported, "a will at QoS 2 is not offered; use QoS 1".into()));
    }
    Ok(())
}
