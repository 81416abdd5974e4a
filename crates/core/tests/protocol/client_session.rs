//! The client's side of a connection, with the broker played packet by packet.

use std::{num::NonZeroU16, time::Duration};

use bytes::{Buf, BytesMut};
use moorfall_core::{
    Time,
    client::{ClientSession, Event, WishError},
};
use moorfall_wire::*;

const VERSION: ProtocolVersion = ProtocolVersion::V5;

fn at(seconds: u64) -> Time {
    Time::default() + Duration::from_secs(seconds)
}

/// A client that was accepted under these terms.
fn open(keep_alive: u16, properties: ConnAckProperties) -> ClientSession {
    let mut client = ClientSession::new(Connect { keep_alive, ..Connect::new(VERSION, "desk") }, at(0)).unwrap();
    assert!(matches!(sent(&mut client)[..], [Packet::Connect(_)]));
    let connack = ConnAck { session_present: false, reason: ReasonCode::Success, properties };
    client.handle_packet(at(0), Packet::ConnAck(Box::new(connack)));
    assert!(matches!(client.poll_event(), Some(Event::Connected(_))));
    client
}

/// What the client has sent since the last call.
fn sent(client: &mut ClientSession) -> Vec<Packet> {
    let count = client.outgoing().remaining();
    let mut bytes = BytesMut::from(&client.outgoing().copy_to_bytes(count)[..]);
    let mut packets = Vec::new();
    while let Some(frame) = Frame::split(&mut bytes, MAX_PACKET_SIZE).unwrap() {
        packets.push(Packet::decode(frame, VERSION).unwrap());
    }
    packets
}

fn message(qos: QoS) -> Publish {
    Publish::new("harrowmere/gate".parse().unwrap(), "40", qos)
}

fn closed(client: &mut ClientSession) -> String {
    let mut events = std::iter::from_fn(|| client.poll_event());
    match events.find(|event| *event != Event::Pong) {
        Some(Event::Closed { words, .. }) => words,
        other => panic!("not closed: {other:?}"),
    }
}

#[test]
fn answers_find_their_requests() {
    let mut client = open(0, ConnAckProperties::default());
    let first = client.publish(at(1), message(QoS::AtLeastOnce)).unwrap().unwrap();
    let second = client.subscribe(
        at(1),
        vec![Subscription { filter: "#".parse().unwrap(), options: Default::default() }],
        Default::default(),
    );
    let second = second.unwrap();
    assert_eq!(client.publish(at(1), message(QoS::AtMostOnce)), Ok(None));
    assert_eq!(sent(&mut client).len(), 3);

    // A PUBACK with the subscription's identifier answers nothing, and the right answer still comes through.
    client.handle_packet(at(2), Packet::PubAck(Acknowledgement::success(second)));
    assert_eq!(client.poll_event(), None);
    let suback = SubAck { packet_id: second, properties: Default::default(), reasons: vec![ReasonCode::NotAuthorized] };
    client.handle_packet(at(2), Packet::SubAck(suback));
    let refused = Event::Answered {
        packet_id: second,
        reasons: vec![ReasonCode::NotAuthorized],
        reason_string: None,
        user_properties: Vec::new(),
    };
    assert_eq!(client.poll_event(), Some(refused));
    client.handle_packet(at(2), Packet::PubAck(Acknowledgement::success(first)));
    let answered = Event::Answered {
        packet_id: first,
        reasons: vec![ReasonCode::Success],
        reason_string: None,
        user_properties: Vec::new(),
    };
    assert_eq!(client.poll_event(), Some(answered));
}

#[test]
fn the_broker_s_window_is_kept() {
    let terms = ConnAckProperties { receive_maximum: NonZeroU16::new(2), ..ConnAckProperties::default() };
    let mut client = open(0, terms);
    let first = client.publish(at(1), message(QoS::AtLeastOnce)).unwrap().unwrap();
    client.publish(at(1), message(QoS::AtLeastOnce)).unwrap();
    assert!(!client.has_room());
    assert_eq!(client.publish(at(1), message(QoS::AtLeastOnce)), Err(WishError::Busy));
    client.handle_packet(at(2), Packet::PubAck(Acknowledgement::success(first)));
    assert!(client.has_room());
}

#[test]
fn messages_are_acknowledged_as_they_come() {
    let mut client = open(0, ConnAckProperties::default());
    let arriving = Publish { packet_id: NonZeroU16::new(7), ..message(QoS::AtLeastOnce) };
    client.handle_packet(at(1), Packet::Publish(arriving.clone()));
    assert_eq!(sent(&mut client), [Packet::PubAck(Acknowledgement::success(arriving.packet_id.unwrap()))]);
    assert_eq!(client.poll_event(), Some(Event::Message(arriving)));
}

#[test]
fn it_pings_when_it_is_silent_and_gives_up_when_nobody_answers() {
    let mut client = open(20, ConnAckProperties::default());
    assert_eq!(client.poll_timeout(), Some(at(20)));
    client.handle_timeout(at(19));
    assert_eq!(sent(&mut client), []);
    client.handle_timeout(at(20));
    assert_eq!(sent(&mut client), [Packet::PingReq]);
    client.handle_packet(at(21), Packet::PingResp);
    client.handle_timeout(at(40));
    assert_eq!(sent(&mut client), [Packet::PingReq]);
    client.handle_timeout(at(50));
    assert_eq!(closed(&mut client), "The broker no longer responds.");
    assert_eq!(client.publish(at(51), message(QoS::AtMostOnce)), Err(WishError::NotOpen));
}

#[test]
fn the_broker_s_keep_alive_wins() {
    let terms = ConnAckProperties { server_keep_alive: Some(5), ..ConnAckProperties::default() };
    assert_eq!(open(60, terms).poll_timeout(), Some(at(5)));
}

#[test]
fn a_broker_that_breaks_the_protocol_is_left() {
    let mut aliased = message(QoS::AtMostOnce);
    aliased.properties.topic_alias = NonZeroU16::new(1);
    let wrong = [Packet::PingReq, Packet::Publish(aliased)];
    for packet in wrong {
        let mut client = open(0, ConnAckProperties::default());
        client.handle_packet(at(1), packet);
        assert!(matches!(&sent(&mut client)[..], [Packet::Disconnect(end)] if end.reason == ReasonCode::ProtocolError));
        assert!(closed(&mut client).starts_with("The broker"));
    }
}

#[test]
fn a_goodbye_from_the_broker_is_told_in_its_words() {
    let mut client = open(0, ConnAckProperties::default());
    let properties =
        DisconnectProperties { reason_string: Some("high water".into()), ..DisconnectProperties::default() };
    client.handle_packet(at(1), Packet::Disconnect(Disconnect { reason: ReasonCode::ServerBusy, properties }));
    assert_eq!(closed(&mut client), "The broker ended the connection (Server busy, 0x89). high water");
}

#[test]
fn a_ping_of_one_s_own_is_answered_and_one_that_is_not_ends_it() {
    let mut client = open(0, ConnAckProperties::default());
    client.ping(at(1)).unwrap();
    assert_eq!(sent(&mut client), [Packet::PingReq]);
    client.handle_packet(at(2), Packet::PingResp);
    assert_eq!(client.poll_event(), Some(Event::Pong));
    client.disconnect(at(3));
    assert_eq!(client.ping(at(4)), Err(WishError::NotOpen));
}

#[test]
fn the_end_carries_the_broker_s_reason_if_it_has_said_one() {
    let goodbye = |reason| Packet::Disconnect(Disconnect { reason, properties: DisconnectProperties::default() });
    let mut told = open(20, ConnAckProperties::default());
    told.handle_packet(at(1), goodbye(ReasonCode::SessionTakenOver));
    // What comes after it changes nothing.
    told.handle_packet(at(1), goodbye(ReasonCode::ServerShuttingDown));
    told.handle_connection_lost("The broker closed the connection.".into());
    assert!(matches!(told.poll_event(), Some(Event::Closed { reason: Some(ReasonCode::SessionTakenOver), .. })));
    assert_eq!(told.poll_event(), None);
    let mut broken = open(20, ConnAckProperties::default());
    broken.handle_connection_lost("the connection broke".into());
    assert!(matches!(broken.poll_event(), Some(Event::Closed { reason: None, .. })));
}
