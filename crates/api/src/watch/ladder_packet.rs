//! A packet in words: what it says in short, and field by field.

use base64::{Engine, engine::general_purpose::STANDARD};
use bytes::BytesMut;
use moorfall_broker::clock::date;
use moorfall_contract::{kinds::Direction, ladders::LadderPacket, retained::NameAndValue};
use moorfall_live::ladders::Rung;
use moorfall_payload::sparkplug;
use moorfall_wire::{
    Acknowledgement, ConnAck, Connect, Disconnect, Frame, MAX_PACKET_SIZE, Packet, Publish, QoS, ReasonCode,
    UserProperty,
};

use crate::http::preview::preview;

/// Fields, gathered in order.
#[derive(Default)]
struct Fields(Vec<NameAndValue>);

impl Fields {
    fn add(&mut self, name: &str, value: impl ToString) {
        self.0.push(NameAndValue { name: name.into(), value: value.to_string() });
    }

    fn add_if(&mut self, name: &str, value: Option<impl ToString>) {
        if let Some(value) = value {
            self.add(name, value);
        }
    }

    fn users(&mut self, properties: &[UserProperty]) {
        properties.iter().for_each(|property| self.add(&format!("User Property {}", property.name), &property.value));
    }
}

/// A packet of a ladder that keeps payloads or not, as it is told.
pub(super) fn view(rung: Rung, payloads: bool) -> LadderPacket {
    let Rung { number, party, passed } = rung;
    let mut fields = Fields::default();
    let mut told = Told::default();
    match read(&passed.bytes, passed.size, passed.version) {
        Some(packet) => tell(&packet, payloads, &mut told, &mut fields),
        None => told.summary = "can't be read".into(),
    }
    let direction = if passed.sent { Direction::ToClient } else { Direction::ToBroker };
    LadderPacket {
        number,
        at: date(passed.at),
        direction,
        connection: party.connection,
        client_address: party.address.to_string(),
        client_id: party.client_id.to_string(),
        identity: party.identity.to_string(),
        packet: passed.packet.to_string(),
        packet_id: told.packet_id,
        step: told.step.map(|(step, _)| step),
        steps: told.step.map(|(_, of)| of),
        summary: told.summary,
        failure: told.failure,
        fields: fields.0,
        size: passed.size as u64,
        bytes: STANDARD.encode(&passed.bytes),
    }
}

/// Reads what was kept. Bytes that were left out at the end are a payload.
fn read(bytes: &[u8], size: usize, version: moorfall_wire::ProtocolVersion) -> Option<Packet> {
    let mut whole = BytesMut::from(bytes);
    whole.resize(size, b'*');
    let frame = Frame::split(&mut whole, MAX_PACKET_SIZE).ok()??;
    Packet::decode(frame, version).ok()
}

#[derive(Default)]
struct Told {
    packet_id: Option<u16>,
    step: Option<(u8, u8)>,
    summary: String,
    failure: bool,
}

impl Told {
    /// A reason, which is worth a word if it is not just success.
    fn reason(&mut self, reason: ReasonCode, words: Option<impl ToString>, fields: &mut Fields) {
        fields.add("Reason Code", reason);
        fields.add_if("Reason String", words);
        self.failure = reason.is_error();
        if reason != ReasonCode::Success {
            self.summary = reason.to_string();
        }
    }

    fn acknowledgement(&mut self, ack: &Acknowledgement, step: (u8, u8), fields: &mut Fields) {
        self.packet_id = Some(ack.packet_id.get());
        self.step = Some(step);
        fields.add("Packet Identifier", ack.packet_id);
        self.reason(ack.reason, ack.properties.reason_string.as_ref(), fields);
        fields.users(&ack.properties.user_properties);
    }
}

fn tell(packet: &Packet, payloads: bool, told: &mut Told, fields: &mut Fields) {
    match packet {
        Packet::Connect(connect) => self::connect(connect, payloads, told, fields),
        Packet::ConnAck(connack) => self::connack(connack, told, fields),
        Packet::Publish(publish) => self::publish(publish, payloads, told, fields),
        Packet::PubAck(ack) => told.acknowledgement(ack, (2, 2), fields),
        Packet::PubRec(ack) => told.acknowledgement(ack, (2, 4), fields),
        Packet::PubRel(ack) => told.acknowledgement(ack, (3, 4), fields),
        Packet::PubComp(ack) => told.acknowledgement(ack, (4, 4), fields),
        Packet::Subscribe(subscribe) => {
            told.packet_id = Some(subscribe.packet_id.get());
            fields.add("Packet Identifier", subscribe.packet_id);
            for one in &subscribe.subscriptions {
                let options = &one.options;
                let mut words = format!("QoS {}", options.qos.level());
                for (is_set, mark) in
                    [(options.no_local, "No Local"), (options.retain_as_published, "Retain As Published")]
                {
                    if is_set {
                        words.push_str(", ");
                        words.push_str(mark);
                    }
                }
                fields.add(&one.filter, words);
            }
            let filters: Vec<String> = subscribe.subscriptions.iter().map(|one| one.filter.to_string()).collect();
            told.summary = filters.join(", ");
        }
        Packet::SubAck(suback) => {
            told.packet_id = Some(suback.packet_id.get());
            fields.add("Packet Identifier", suback.packet_id);
            told.summary = reasons(&suback.reasons, fields);
            told.failure = suback.reasons.iter().any(|reason| reason.is_error());
        }
        Packet::Unsubscribe(unsubscribe) => {
            told.packet_id = Some(unsubscribe.packet_id.get());
            fields.add("Packet Identifier", unsubscribe.packet_id);
            let filters: Vec<String> = unsubscribe.filters.iter().map(ToString::to_string).collect();
            told.summary = filters.join(", ");
        }
        Packet::UnsubAck(unsuback) => {
            told.packet_id = Some(unsuback.packet_id.get());
            fields.add("Packet Identifier", unsuback.packet_id);
            told.summary = reasons(&unsuback.reasons, fields);
        }
        Packet::PingReq | Packet::PingResp => {}
        Packet::Disconnect(Disconnect { reason, properties, .. }) => {
            told.reason(*reason, properties.reason_string.as_ref(), fields);
            fields.add_if("Session Expiry Interval", properties.session_expiry_interval);
            fields.users(&properties.user_properties);
        }
        Packet::Auth(auth) => told.reason(auth.reason, auth.properties.reason_string.as_ref(), fields),
    }
}

fn reasons(reasons: &[ReasonCode], fields: &mut Fields) -> String {
    reasons.iter().for_each(|reason| fields.add("Reason Code", reason));
    reasons.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
}

fn connect(connect: &Connect, payloads: bool, told: &mut Told, fields: &mut Fields) {
    let Connect { version, client_id, clean_start, keep_alive, will, user_name, password, properties } = connect;
    told.summary = format!("MQTT {version}, {client_id}{}", if *clean_start { ", clean" } else { "" });
    fields.add("Protocol Version", version);
    fields.add("Client Identifier", client_id);
    fields.add("Clean Start", clean_start);
    fields.add("Keep Alive", format!("{keep_alive} s"));
    fields.add_if("User Name", user_name.as_ref());
    fields.add_if("Password", password.as_ref().map(|_| "not kept"));
    fields.add_if("Session Expiry Interval", properties.session_expiry_interval);
    fields.add_if("Receive Maximum", properties.receive_maximum);
    fields.add_if("Maximum Packet Size", properties.maximum_packet_size);
    fields.add_if("Topic Alias Maximum", properties.topic_alias_maximum);
    fields.add_if("Authentication Method", properties.authentication_method.as_ref());
    if let Some(will) = will {
        let retained = if will.retain { ", retained" } else { "" };
        fields.add("Will Topic", &will.topic);
        fields.add("Will QoS", format!("{}{retained}", will.qos.level()));
        fields.add("Will Payload", payload(&will.payload, payloads));
    }
    fields.users(&properties.user_properties);
}

fn connack(connack: &ConnAck, told: &mut Told, fields: &mut Fields) {
    let properties = &connack.properties;
    fields.add("Session Present", connack.session_present);
    told.reason(connack.reason, properties.reason_string.as_ref(), fields);
    if connack.reason == ReasonCode::Success {
        told.summary = if connack.session_present { "session resumed" } else { "new session" }.into();
    }
    fields.add_if("Assigned Client Identifier", properties.assigned_client_identifier.as_ref());
    fields.add_if("Server Keep Alive", properties.server_keep_alive);
    fields.add_if("Session Expiry Interval", properties.session_expiry_interval);
    fields.add_if("Receive Maximum", properties.receive_maximum);
    fields.add_if("Maximum Packet Size", properties.maximum_packet_size);
    fields.add_if("Topic Alias Maximum", properties.topic_alias_maximum);
    fields.users(&properties.user_properties);
}

fn publish(publish: &Publish, payloads: bool, told: &mut Told, fields: &mut Fields) {
    let Publish { topic, qos, retain, duplicate, packet_id, payload, properties } = publish;
    told.packet_id = packet_id.map(std::num::NonZero::get);
    told.step = match qos {
        QoS::AtMostOnce => None,
        QoS::AtLeastOnce => Some((1, 2)),
        QoS::ExactlyOnce => Some((1, 4)),
    };
    let mut words = format!("QoS {}", qos.level());
    for (is_set, mark) in [(*duplicate, ", DUP"), (*retain, ", retain")] {
        if is_set {
            words.push_str(mark);
        }
    }
    let alias = properties.topic_alias;
    let shown = match alias {
        Some(alias) if topic.is_empty() => format!("topic alias {alias}"),
        _ => topic.to_string(),
    };
    told.summary = format!("{shown} ({words})");
    fields.add("Topic Name", &**topic);
    fields.add("QoS", qos.level());
    fields.add("DUP", duplicate);
    fields.add("RETAIN", retain);
    fields.add_if("Packet Identifier", *packet_id);
    fields.add_if("Topic Alias", alias);
    fields.add_if("Message Expiry Interval", properties.message_expiry_interval.map(|life| format!("{life} s")));
    fields.add_if("Content Type", properties.content_type.as_ref());
    fields.add_if("Response Topic", properties.response_topic.as_ref());
    fields.add_if("Correlation Data", properties.correlation_data.as_ref().map(|data| text(data)));
    for identifier in &properties.subscription_identifiers {
        fields.add("Subscription Identifier", identifier.0);
    }
    fields.users(&properties.user_properties);
    let told = if payloads { sparkplug::told(topic, payload) } else { None };
    fields.add("Payload", told.map_or_else(|| self::payload(payload, payloads), |told| told.to_string()));
}

/// A payload, if it was kept.
fn payload(payload: &[u8], is_kept: bool) -> String {
    if is_kept || payload.is_empty() { text(payload) } else { format!("{} B, not kept", payload.len()) }
}

fn text(bytes: &[u8]) -> String {
    preview(bytes).unwrap_or_else(|| format!("{} B, no text", bytes.len()))
}
