//! Messages that are handed on together reach the client as they would one by one.

use std::{
    num::{NonZeroU16, NonZeroU32},
    sync::Arc,
};

use bytes::Buf;
use moorfall_core::{
    Delivery, Limits, Message, Part, Queued, Run, SessionKey, Time, Via,
    access::Access,
    session::{Action, Ended, Session, Verdict, Withheld},
};
use moorfall_wire::{
    Acknowledgement, Connect, ConnectProperties, Packet, PacketId, ProtocolVersion, PublishProperties, QoS, VariableInt,
};
use proptest::prelude::*;

fn now() -> Time {
    Time::from_micros(1_000_000)
}

/// What differs between receivers.
#[derive(Clone, Copy, Debug)]
struct Receiver {
    version: ProtocolVersion,
    qos: QoS,
    receive_maximum: u16,
    packet_size: u32,
    aliases: u16,
    kept: bool,
    identifier: bool,
    /// Bytes that may wait to be written.
    ahead: usize,
}

fn receiver() -> impl Strategy<Value = Receiver> {
    let version = prop_oneof![Just(ProtocolVersion::V311), Just(ProtocolVersion::V5)];
    let qos = prop_oneof![Just(QoS::AtMostOnce), Just(QoS::AtLeastOnce), Just(QoS::ExactlyOnce)];
    let packet_size = prop_oneof![Just(u32::MAX >> 4), Just(120)];
    let ahead = prop_oneof![Just(100), Just(700), Just(1 << 20)];
    (version, qos, 1_u16..6, packet_size, 0_u16..2, prop::bool::weighted(0.2), prop::bool::weighted(0.2), ahead)
        .prop_map(|(version, qos, receive_maximum, packet_size, aliases, kept, identifier, ahead)| {
            let v5 = version == ProtocolVersion::V5;
            let identifier = identifier && v5;
            Receiver { version, qos, receive_maximum, packet_size, aliases, kept, identifier, ahead }
        })
}

/// A session that is open.
fn open(receiver: Receiver) -> Session {
    let limits = Limits { in_flight: receiver.receive_maximum, ..Limits::default() };
    let mut session = Session::new(Arc::new(limits), "spare", now());
    let properties = ConnectProperties {
        session_expiry_interval: receiver.kept.then_some(60),
        maximum_packet_size: NonZeroU32::new(receiver.packet_size),
        topic_alias_maximum: Some(receiver.aliases),
        ..ConnectProperties::default()
    };
    let v5 = receiver.version == ProtocolVersion::V5;
    let properties = if v5 { properties } else { ConnectProperties::default() };
    let clean_start = v5 || !receiver.kept;
    let connect = Connect { clean_start, properties, ..Connect::new(receiver.version, "gauge") };
    session.handle_packet(now(), Packet::Connect(Box::new(connect)));
    while let Some(action) = session.poll_action() {
        match action {
            Action::Authenticate(_) => session.handle_verdict(Verdict::Known(Access::unrestricted("gauge"))),
            Action::Admit { .. } => session.handle_admitted(now(), SessionKey(2), None),
            other => panic!("{other:?}"),
        }
    }
    assert!(session.is_open());
    let connack = session.outgoing().remaining();
    session.outgoing().advance(connack);
    session
}

/// All that the session is made to send by these entries, and what it withheld. The client acknowledges whenever
/// nothing more comes.
fn send(receiver: Receiver, entries: Vec<Queued>) -> (Vec<u8>, Vec<Withheld>) {
    let mut session = open(receiver);
    let (mut bytes, mut withheld) = (Vec::new(), Vec::new());
    let mut next_id = PacketId::MIN;
    for entry in entries {
        let (mut entry, mut sent) = (Some(entry), 0);
        while entry.is_some() {
            let handled = session.handle_queued(now(), &mut entry, receiver.ahead);
            sent += handled.sent;
            withheld.extend(handled.withheld.iter().map(|undelivered| undelivered.why));
            let count = session.outgoing().remaining();
            assert!(count <= receiver.ahead + 3_100, "{count} bytes wait where {} may", receiver.ahead);
            bytes.extend_from_slice(&session.outgoing().copy_to_bytes(count));
            if receiver.qos > QoS::AtMostOnce {
                assert!(session.in_flight() <= receiver.receive_maximum.into());
                for _ in 0..session.in_flight() {
                    acknowledge(&mut session, receiver.qos, next_id);
                    next_id = next_id.checked_add(1).unwrap();
                }
            }
        }
        assert!(sent > 0 || !withheld.is_empty());
    }
    (bytes, withheld)
}

fn acknowledge(session: &mut Session, qos: QoS, id: PacketId) {
    let ack = Acknowledgement::success(id);
    if qos == QoS::AtLeastOnce {
        return session.handle_packet(now(), Packet::PubAck(ack));
    }
    session.handle_packet(now(), Packet::PubRec(ack.clone()));
    let release = session.outgoing().remaining();
    session.outgoing().advance(release);
    session.handle_packet(now(), Packet::PubComp(ack));
}

fn message(payload: usize, expiry: Option<u32>) -> Arc<Message> {
    let topic = "harrowmere/gorge/kettle-weir/stage/level".parse().unwrap();
    let properties = PublishProperties { message_expiry_interval: expiry, ..PublishProperties::default() };
    let payload = (0..payload).map(|index| index.to_le_bytes()[0]).collect::<Vec<_>>();
    let received = Time::from_micros(0);
    Arc::new(Message::new(topic, payload.into(), QoS::ExactlyOnce, false, properties, SessionKey(1), received))
}

proptest! {
    #[test]
    fn a_run_is_sent_as_its_messages_would_be(
        receiver in receiver(),
        payloads in prop::collection::vec(prop_oneof![8 => 0_usize..200, 1 => 2_000..3_000_usize], 1..12),
        expiry in prop::option::weighted(0.1, prop_oneof![Just(0_u32), Just(10)]),
        others in any::<bool>(),
    ) {
        let messages: Vec<_> = payloads.iter().map(|size| message(*size, expiry)).collect();
        let identifiers = receiver.identifier.then_some(VariableInt(NonZeroU32::MIN)).into_iter().collect();
        let via = receiver.identifier.then(|| Arc::new(Via { identifiers, shared: None }));
        let one = |message: &Arc<Message>| {
            let delivery = Delivery::new(Arc::clone(message), receiver.qos, false);
            Queued::One(Delivery { via: via.clone(), ..delivery })
        };
        let single = send(receiver, messages.iter().map(one).collect());
        let run = Arc::new(Run::new(messages.iter().map(Arc::clone)));
        // Whether others have it too decides which encoding is used.
        let _other = others.then(|| Arc::clone(&run));
        let part = Part::new(run, receiver.qos, via.clone());
        let together = send(receiver, vec![Queued::Part(part)]);
        prop_assert_eq!(single, together);
    }
}

const PLAIN: Receiver = Receiver {
    version: ProtocolVersion::V5,
    qos: QoS::AtLeastOnce,
    receive_maximum: 5,
    packet_size: 10_000,
    aliases: 0,
    kept: false,
    identifier: false,
    ahead: 10_000,
};

#[test]
fn what_may_be_handed_on_or_sent_again_is_held_though_it_came_in_a_run() {
    for (kept, group) in [(false, Some("$share/models/harrowmere/#")), (true, None), (false, None)] {
        let mut session = open(Receiver { kept, ..PLAIN });
        let via = group.map(|filter| Arc::new(Via { identifiers: Vec::new(), shared: Some(filter.parse().unwrap()) }));
        let run = Arc::new(Run::new([message(5, None), message(6, None)]));
        let mut queued = Some(Queued::Part(Part::new(run, QoS::AtLeastOnce, via)));
        assert_eq!(session.handle_queued(now(), &mut queued, 10_000).sent, 2);
        session.handle_connection_lost(now(), Ended::Closed);
        let mut state = session.part().unwrap().state;
        assert_eq!(state.take_shared().len(), if group.is_some() { 2 } else { 0 });
        // Of a session that ends with its connection nothing is sent again, so nothing is held.
        assert_eq!(state.into_sent().len(), if kept { 2 } else { 0 });
    }
}

#[test]
fn an_identifier_of_a_run_is_not_one_of_qos_2() {
    let mut session = open(PLAIN);
    let run = Arc::new(Run::new([message(5, None), message(6, None)]));
    let mut queued = Some(Queued::Part(Part::new(run, QoS::AtLeastOnce, None)));
    assert_eq!(session.handle_queued(now(), &mut queued, 10_000).sent, 2);
    assert!(queued.is_none());
    session.handle_packet(now(), Packet::PubRec(Acknowledgement::success(NonZeroU16::MIN)));
    assert!(session.is_closed(), "PUBREC for a message that was sent at QoS 1");
}

#[test]
fn a_message_whose_journey_is_recorded_is_followed_to_its_acknowledgement() {
    let mut session = open(PLAIN);
    let followed = Arc::new(Message::new(
        "harrowmere/gorge".parse().unwrap(),
        "1.83".into(),
        QoS::AtLeastOnce,
        false,
        PublishProperties::default(),
        SessionKey(1),
        now(),
    ));
    let run = Arc::new(Run::new([Arc::new(followed.followed(7))]));
    // Others have it, too.
    let mut queued = Some(Queued::Part(Part::new(Arc::clone(&run), QoS::AtLeastOnce, None)));
    assert_eq!(session.handle_queued(now(), &mut queued, 10_000).sent, 1);
    session.handle_packet(now(), Packet::PubAck(Acknowledgement::success(PacketId::MIN)));
    assert!(matches!(session.poll_action(), Some(Action::Acknowledged { journey: 7, .. })));
}
