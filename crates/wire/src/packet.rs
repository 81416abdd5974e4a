//! Any control packet (§2.1.2), to and from bytes.

use bytes::{BufMut, BytesMut};

use crate::{
    Acknowledgement, Auth, ConnAck, Connect, DecodeError, Disconnect, EncodeError, Frame, PacketType, ProtocolVersion,
    Publish, SubAck, Subscribe, UnsubAck, Unsubscribe,
    reader::{Reader, VARIABLE_INT_MAX, put_variable_int},
};

/// A control packet of either version.
#[derive(Clone, Debug, PartialEq, Eq)]
#[allow(missing_docs, reason = "the names are the standard's own; each content has its doc")]
pub enum Packet {
    Connect(Box<Connect>),
    ConnAck(Box<ConnAck>),
    Publish(Publish),
    PubAck(Acknowledgement),
    PubRec(Acknowledgement),
    PubRel(Acknowledgement),
    PubComp(Acknowledgement),
    Subscribe(Subscribe),
    SubAck(SubAck),
    Unsubscribe(Unsubscribe),
    UnsubAck(UnsubAck),
    PingReq,
    PingResp,
    Disconnect(Disconnect),
    Auth(Auth),
}

impl Packet {
    /// The packet's type.
    pub fn packet_type(&self) -> PacketType {
        match self {
            Self::Connect(_) => PacketType::Connect,
            Self::ConnAck(_) => PacketType::ConnAck,
            Self::Publish(_) => PacketType::Publish,
            Self::PubAck(_) => PacketType::PubAck,
            Self::PubRec(_) => PacketType::PubRec,
            Self::PubRel(_) => PacketType::PubRel,
            Self::PubComp(_) => PacketType::PubComp,
            Self::Subscribe(_) => PacketType::Subscribe,
            Self::SubAck(_) => PacketType::SubAck,
            Self::Unsubscribe(_) => PacketType::Unsubscribe,
            Self::UnsubAck(_) => PacketType::UnsubAck,
            Self::PingReq => PacketType::PingReq,
            Self::PingResp => PacketType::PingResp,
            Self::Disconnect(_) => PacketType::Disconnect,
            Self::Auth(_) => PacketType::Auth,
        }
    }

    /// Reads a frame as the packet that it is in `version`. CONNECT says its own version, whatever is given here.
    pub fn decode(frame: Frame, version: ProtocolVersion) -> Result<Self, DecodeError> {
        let Frame { packet_type, flags, padded, body } = frame;
        let mut reader = Reader::new(body);
        let packet = match packet_type {
            PacketType::Publish => return Publish::decode(flags, reader, version).map(Self::Publish),
            PacketType::Connect => Self::Connect(Box::new(Connect::decode(&mut reader)?)),
            PacketType::ConnAck => Self::ConnAck(Box::new(ConnAck::decode(&mut reader, version)?)),
            PacketType::PubAck => Self::PubAck(Acknowledgement::decode(packet_type, &mut reader, version)?),
            PacketType::PubRec => Self::PubRec(Acknowledgement::decode(packet_type, &mut reader, version)?),
            PacketType::PubRel => Self::PubRel(Acknowledgement::decode(packet_type, &mut reader, version)?),
            PacketType::PubComp => Self::PubComp(Acknowledgement::decode(packet_type, &mut reader, version)?),
            PacketType::Subscribe => Self::Subscribe(Subscribe::decode(&mut reader, version)?),
            PacketType::SubAck => Self::SubAck(SubAck::decode(&mut reader, version)?),
            PacketType::Unsubscribe => Self::Unsubscribe(Unsubscribe::decode(&mut reader, version)?),
            PacketType::UnsubAck => Self::UnsubAck(UnsubAck::decode(&mut reader, version)?),
            PacketType::PingReq => Self::PingReq,
            PacketType::PingResp => Self::PingResp,
            PacketType::Disconnect => Self::Disconnect(Disconnect::decode(&mut reader, version)?),
            PacketType::Auth if version == ProtocolVersion::V5 => Self::Auth(Auth::decode(&mut reader)?),
            PacketType::Auth => return Err(DecodeError::PacketType { value: PacketType::Auth as u8 }),
        };
        // CONNECT itself says in which version it is.
        let version = if let Self::Connect(connect) = &packet { connect.version } else { version };
        let error = match reader.remaining() {
            0 if padded && version == ProtocolVersion::V5 => DecodeError::VariableInt,
            0 => return Ok(packet),
            count => DecodeError::TrailingBytes { packet: packet_type, count },
        };
        Err(if packet_type == PacketType::Connect {
            DecodeError::Connect { version, error: Box::new(error) }
        } else {
            error
        })
    }

    /// Appends the packet's bytes to `out`; after an error `out` is as it was before.
    pub fn encode(&self, version: ProtocolVersion, out: &mut BytesMut) -> Result<(), EncodeError> {
        let mut body = BytesMut::new();
        let flags = self.encode_body(version, &mut body)?;
        let remaining = u32::try_from(body.len())
            .ok()
            .filter(|length| *length <= VARIABLE_INT_MAX)
            .ok_or(EncodeError::PacketTooLong { length: body.len() })?;
        out.reserve(5 + body.len());
        out.put_u8((self.packet_type() as u8) << 4 | flags);
        put_variable_int(out, remaining)?;
        out.put_slice(&body);
        Ok(())
    }

    /// Writes what stands behind the fixed header; gives the header's flags.
    fn encode_body(&self, version: ProtocolVersion, body: &mut BytesMut) -> Result<u8, EncodeError> {
        let packet_type = self.packet_type();
        match self {
            Self::Publish(publish) => return publish.encode(version, body),
            Self::Connect(connect) => connect.encode(body)?,
            Self::ConnAck(connack) => connack.encode(version, body)?,
            Self::PubAck(ack) | Self::PubRec(ack) | Self::PubRel(ack) | Self::PubComp(ack) => {
                ack.encode(packet_type, version, body)?;
            }
            Self::Subscribe(subscribe) => subscribe.encode(version, body)?,
            Self::SubAck(suback) => suback.encode(version, body)?,
            Self::Unsubscribe(unsubscribe) => unsubscribe.encode(version, body)?,
            Self::UnsubAck(unsuback) => unsuback.encode(version, body)?,
            Self::PingReq | Self::PingResp => {}
            Self::Disconnect(disconnect) => disconnect.encode(version, body)?,
            Self::Auth(auth) => auth.encode(version, body)?,
        }
        Ok(packet_type.required_flags().unwrap_or(0))
    }
}
