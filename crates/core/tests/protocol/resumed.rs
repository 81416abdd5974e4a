//! What an earlier connection left is sent again, never more at a time than the client takes, and all of it (§4.4, §4.9).

use std::{collections::BTreeSet, sync::Arc};

use bytes::{Buf, BytesMut};
use moorfall_core::{
    Delivery, Limits, Message, Queued, SessionKey, Time,
    access::Access,
    session::{Action, Routed, Sent, Session, SessionState, Verdict},
};
use moorfall_wire::{
    Acknowledgement, Connect, Frame, Packet, PacketId, ProtocolVersion, Publish, PublishProperties, QoS,
};
use proptest::prelude::*;

const LEVEL: &str = "harrowmere/gorge/kettle-weir/stage/level";

fn now() -> Time {
    Time::from_micros(1_000_000)
}

fn id(number: u16) -> PacketId {
    PacketId::new(number).unwrap()
}

fn delivery(sequence: u64, qos: QoS) -> Delivery {
    let properties = PublishProperties::default();
    let message = Message::new(LEVEL.parse().unwrap(), "1.83".into(), qos, false, properties, SessionKey(9), now());
    Delivery { sequence, ..Delivery::new(Arc::new(message), qos, false) }
}

/// A kept session whose client has come back, and takes so many messages at a time.
struct Resumed {
    session: Session,
    commits: Vec<u64>,
    /// Messages that were sent on this connection, and have not been answered to the end.
    open: BTreeSet<PacketId>,
    /// The most of them there were at a time.
    most: usize,
    /// Messages and PUBREL that came and were not answered.
    come: Vec<Packet>,
}

impl Resumed {
    fn new(maximum: u16, left: &[(QoS, bool)]) -> Self {
        let mut state = SessionState::default();
        for (place, (qos, released)) in left.iter().enumerate() {
            let delivery = delivery(place as u64 + 1, *qos);
            state.restore_sent(id(place as u16 + 1), Sent { delivery, released: *released });
        }
        let mut session = Session::new(Arc::new(Limits::default()), "spare", now());
        let mut asked = Connect { clean_start: false, ..Connect::new(ProtocolVersion::V5, "desk") };
        asked.properties.session_expiry_interval = Some(600);
        asked.properties.receive_maximum = PacketId::new(maximum);
        session.handle_packet(now(), Packet::Connect(Box::new(asked)));
        let (commits, open, come) = Default::default();
        let mut resumed = Self { session, commits, open, most: 0, come };
        resumed.act(Some(state));
        resumed
    }

    /// Carries out what the session wants; what is to be committed is kept until [`Resumed::commit`].
    fn act(&mut self, mut state: Option<SessionState>) {
        while let Some(action) = self.session.poll_action() {
            match action {
                Action::Authenticate(_) => self.session.handle_verdict(Verdict::Known(Access::unrestricted("desk"))),
                Action::Admit { .. } => self.session.handle_admitted(now(), SessionKey(2), state.take()),
                Action::Route { message, packet_id: Some(id) } => {
                    self.session.handle_routed(message.qos, id, Routed::To(1));
                }
                Action::Commit(number) => self.commits.push(number),
                Action::Close(why) => panic!("{why:?}"),
                _ => while self.session.poll_keep().is_some() {},
            }
        }
        let mut bytes = BytesMut::new();
        let outgoing = self.session.outgoing();
        while outgoing.has_remaining() {
            let part = outgoing.chunk().len();
            bytes.extend_from_slice(outgoing.chunk());
            outgoing.advance(part);
        }
        while let Some(frame) = Frame::split(&mut bytes, 1 << 20).unwrap() {
            let packet = Packet::decode(frame, ProtocolVersion::V5).unwrap();
            if let Packet::Publish(publish) = &packet {
                self.open.extend(publish.packet_id);
                self.most = self.most.max(self.open.len());
            }
            if matches!(packet, Packet::Publish(_) | Packet::PubRel(_)) {
                self.come.push(packet);
            }
        }
    }

    fn handle(&mut self, packet: Packet) {
        self.session.handle_packet(now(), packet);
        self.act(None);
    }

    fn commit(&mut self) {
        for number in std::mem::take(&mut self.commits) {
            self.session.handle_committed(now(), number);
            self.act(None);
        }
    }

    /// The client answers one of those that have come.
    fn answer(&mut self, which: usize) {
        let answer = match self.come.remove(which % self.come.len()) {
            Packet::Publish(publish) if publish.qos == QoS::ExactlyOnce => {
                Packet::PubRec(Acknowledgement::success(publish.packet_id.unwrap()))
            }
            Packet::Publish(publish) => {
                self.open.remove(&publish.packet_id.unwrap());
                Packet::PubAck(Acknowledgement::success(publish.packet_id.unwrap()))
            }
            Packet::PubRel(ack) => {
                self.open.remove(&ack.packet_id);
                Packet::PubComp(Acknowledgement::success(ack.packet_id))
            }
            other => panic!("{other:?}"),
        };
        self.handle(answer);
    }

    /// More is queued; as much as there is room for is sent.
    fn queue(&mut self, count: usize) {
        for sequence in 0..count as u64 {
            let mut queued = Some(Queued::One(delivery(1_000 + sequence, QoS::AtLeastOnce)));
            self.session.handle_queued(now(), &mut queued, usize::MAX);
        }
        self.act(None);
    }
}

/// The end of what was only to be released gives room for no more than there was.
#[test]
fn what_is_released_again_takes_its_part_of_the_receive_maximum() {
    let two = QoS::ExactlyOnce;
    let mut resumed = Resumed::new(4, &[(two, false), (two, false), (two, true), (two, true)]);
    resumed.commit();
    assert_eq!(resumed.open.len(), 2);
    while let Some(place) = resumed.come.iter().position(|packet| matches!(packet, Packet::PubRel(_))) {
        resumed.answer(place);
        resumed.commit();
    }
    resumed.queue(10);
    assert_eq!(resumed.most, 4);
}

/// What waits for a commit for other reasons does not keep back what there is room for again.
#[test]
fn all_is_sent_again_though_the_client_releases_its_own_messages_meanwhile() {
    let one = QoS::AtLeastOnce;
    let mut resumed = Resumed::new(1, &[(one, false), (one, false)]);
    assert_eq!(resumed.come.len(), 1);
    let own = Publish { packet_id: Some(id(7)), ..Publish::new(LEVEL.parse().unwrap(), "1.84", QoS::ExactlyOnce) };
    resumed.handle(Packet::Publish(own));
    resumed.handle(Packet::PubRel(Acknowledgement::success(id(7))));
    assert!(!resumed.commits.is_empty(), "PUBCOMP waits");
    resumed.answer(0);
    resumed.commit();
    assert_eq!(resumed.come.len(), 1, "the second one has come");
}

proptest! {
    #[test]
    fn all_comes_again_and_never_more_than_the_client_takes(
        maximum in 1_u16..6,
        left in prop::collection::vec((any::<bool>(), any::<bool>()), 0..12),
        steps in prop::collection::vec((0_u8..5, any::<usize>()), 0..80),
    ) {
        // At QoS 1 nothing is released.
        let left: Vec<(QoS, bool)> = left
            .into_iter()
            .map(|(twice, released)| if twice { (QoS::ExactlyOnce, released) } else { (QoS::AtLeastOnce, false) })
            .collect();
        let mut resumed = Resumed::new(maximum, &left);
        let mut own = 100;
        for (step, which) in steps {
            match step {
                0 => resumed.commit(),
                1 => resumed.queue(which % 4),
                2 => {
                    own += 1;
                    let publish = Publish::new(LEVEL.parse().unwrap(), "1.84", QoS::ExactlyOnce);
                    resumed.handle(Packet::Publish(Publish { packet_id: Some(id(own)), ..publish }));
                    resumed.handle(Packet::PubRel(Acknowledgement::success(id(own))));
                }
                _ if !resumed.come.is_empty() => resumed.answer(which),
                _ => {}
            }
            prop_assert!(resumed.most <= usize::from(maximum));
        }
        // The client answers all that comes, and everything is written.
        while !resumed.come.is_empty() || !resumed.commits.is_empty() {
            resumed.commit();
            if !resumed.come.is_empty() {
                resumed.answer(0);
            }
        }
        prop_assert!(resumed.most <= usize::from(maximum));
        prop_assert_eq!(resumed.session.in_flight(), 0, "nothing is left behind");
    }
}
