//! A client that is not ours: a connection, played packet by packet.

use std::{
    any::Any,
    io::{ErrorKind, Read, Write},
    net::{SocketAddr, TcpStream},
};

use bytes::BytesMut;
use moorfall_wire::*;

use crate::harness::PATIENCE;

pub(crate) const V311: ProtocolVersion = ProtocolVersion::V311;
pub(crate) const V5: ProtocolVersion = ProtocolVersion::V5;

/// What carries a connection.
pub(crate) trait Carrier: Read + Write + Any + Send {}

impl<T: Read + Write + Any + Send> Carrier for T {}

/// One end of a connection, played packet by packet.
pub(crate) struct Peer {
    pub(crate) stream: Box<dyn Carrier>,
    buffer: BytesMut,
    version: ProtocolVersion,
}

impl Peer {
    pub(crate) fn new(address: SocketAddr, version: ProtocolVersion) -> Self {
        let stream = TcpStream::connect(address).unwrap();
        stream.set_read_timeout(Some(PATIENCE)).unwrap();
        stream.set_nodelay(true).unwrap();
        Self::over(stream, version)
    }

    pub(crate) fn over(stream: impl Carrier, version: ProtocolVersion) -> Self {
        Self { stream: Box::new(stream), buffer: BytesMut::new(), version }
    }

    pub(crate) fn version(&self) -> ProtocolVersion {
        self.version
    }

    pub(crate) fn into_stream(self) -> Box<dyn Any> {
        self.stream
    }

    /// Sends CONNECT and does not wait for the answer.
    pub(crate) fn begin(address: SocketAddr, connect: Connect) -> Self {
        let mut peer = Self::new(address, connect.version);
        peer.send(&Packet::Connect(Box::new(connect)));
        peer
    }

    /// Connects to an open broker over whatever carries this, and expects to be accepted.
    pub(crate) fn sign_in(&mut self) {
        self.sign_in_as("carried");
    }

    /// The same with another client identifier.
    pub(crate) fn sign_in_as(&mut self, client_id: &str) {
        let connect = connect(self.version, client_id);
        self.send(&Packet::Connect(Box::new(connect)));
        assert!(matches!(self.receive(), Some(Packet::ConnAck(connack)) if connack.reason == ReasonCode::Success));
    }

    /// Connects to an open broker and expects to be accepted.
    pub(crate) fn open(address: SocketAddr, version: ProtocolVersion, client_id: &str) -> Self {
        Self::open_with(address, connect(version, client_id))
    }

    pub(crate) fn open_with(address: SocketAddr, connect: Connect) -> Self {
        let mut peer = Self::new(address, connect.version);
        peer.send(&Packet::Connect(Box::new(connect)));
        match peer.receive() {
            Some(Packet::ConnAck(connack)) if connack.reason == ReasonCode::Success => peer,
            other => panic!("not accepted: {other:?}"),
        }
    }

    /// Connects and gives whether the broker knew the session.
    pub(crate) fn resume(address: SocketAddr, connect: Connect) -> (Self, bool) {
        let mut peer = Self::new(address, connect.version);
        peer.send(&Packet::Connect(Box::new(connect)));
        match peer.receive() {
            Some(Packet::ConnAck(connack)) if connack.reason == ReasonCode::Success => (peer, connack.session_present),
            other => panic!("not accepted: {other:?}"),
        }
    }

    /// Sends a message under an identifier and goes through its whole handshake.
    pub(crate) fn publish(&mut self, id: u16, publish: Publish) {
        let qos = publish.qos;
        self.send(&Packet::Publish(Publish { packet_id: PacketId::new(id), ..publish }));
        match (qos, self.receive()) {
            (QoS::AtLeastOnce, Some(Packet::PubAck(ack))) => assert!(!ack.reason.is_error(), "{ack:?}"),
            (QoS::ExactlyOnce, Some(Packet::PubRec(rec))) => {
                assert!(!rec.reason.is_error(), "{rec:?}");
                self.send(&Packet::PubRel(ack(id)));
                assert_eq!(self.receive(), Some(Packet::PubComp(ack(id))));
            }
            other => panic!("not acknowledged: {other:?}"),
        }
    }

    /// Acknowledges a message to the end.
    pub(crate) fn acknowledge(&mut self, message: &Publish) {
        let plain = message.packet_id.map(Acknowledgement::success);
        match (message.qos, plain) {
            (QoS::AtLeastOnce, Some(ack)) => self.send(&Packet::PubAck(ack)),
            (QoS::ExactlyOnce, Some(ack)) => {
                self.send(&Packet::PubRec(ack.clone()));
                assert_eq!(self.receive(), Some(Packet::PubRel(ack.clone())));
                self.send(&Packet::PubComp(ack));
            }
            _ => {}
        }
    }

    pub(crate) fn send(&mut self, packet: &Packet) {
        let mut bytes = BytesMut::new();
        packet.encode(self.version, &mut bytes).unwrap();
        self.stream.write_all(&bytes).unwrap();
        self.stream.flush().unwrap();
    }

    /// The next packet; `None` at the end of the connection.
    pub(crate) fn receive(&mut self) -> Option<Packet> {
        loop {
            if let Some(frame) = Frame::split(&mut self.buffer, MAX_PACKET_SIZE).unwrap() {
                return Some(Packet::decode(frame, self.version).unwrap());
            }
            let mut bytes = [0; 4096];
            match self.stream.read(&mut bytes) {
                Ok(0) => return None,
                Ok(count) => self.buffer.extend_from_slice(&bytes[..count]),
                Err(error) if error.kind() == ErrorKind::ConnectionReset => return None,
                Err(error) => panic!("{error}"),
            }
        }
    }

    pub(crate) fn subscribe(&mut self, filter: &str, qos: QoS) {
        self.try_subscribe(filter, qos);
    }

    /// Subscribes and gives the answer.
    pub(crate) fn try_subscribe(&mut self, filter: &str, qos: QoS) -> Vec<ReasonCode> {
        let options = SubscriptionOptions { qos, ..SubscriptionOptions::default() };
        self.send(&Packet::Subscribe(Subscribe {
            packet_id: PacketId::MIN,
            properties: SubscribeProperties::default(),
            subscriptions: vec![Subscription { filter: filter.parse().unwrap(), options }],
        }));
        match self.receive() {
            Some(Packet::SubAck(ack)) => ack.reasons,
            other => panic!("not answered: {other:?}"),
        }
    }

    pub(crate) fn message(&mut self) -> Publish {
        match self.receive() {
            Some(Packet::Publish(publish)) => publish,
            other => panic!("not a message: {other:?}"),
        }
    }
}

pub(crate) fn connect(version: ProtocolVersion, client_id: &str) -> Connect {
    Connect::new(version, client_id)
}

pub(crate) fn publish(topic: &str, payload: Vec<u8>, qos: QoS) -> Publish {
    let packet_id = (qos != QoS::AtMostOnce).then_some(PacketId::MIN);
    Publish { packet_id, ..Publish::new(topic.parse().unwrap(), payload, qos) }
}

/// A client whose session outlives its connection for ever.
pub(crate) fn keeping(version: ProtocolVersion, client_id: &str) -> Connect {
    let mut asked = Connect { clean_start: false, ..connect(version, client_id) };
    if version == V5 {
        asked.properties.session_expiry_interval = Some(u32::MAX);
    }
    asked
}

pub(crate) fn ack(id: u16) -> Acknowledgement {
    Acknowledgement::success(PacketId::new(id).unwrap())
}
