//! The bridge's two clients here, and what they subscribe to.

use std::{collections::BTreeMap, path::PathBuf, sync::Arc};

use bytes::BytesMut;
use moorfall_broker::{
    broker::Broker,
    connection::handover::Handover,
    listeners::{origin::Acting, seats::Seats},
};
use moorfall_client::Dialled;
use moorfall_core::{
    Limits,
    blueprint::Bridge,
    bridge::{Direction, PASSED},
};
use moorfall_wire::{
    Connect, Disconnect, Frame, MAX_PACKET_SIZE, Packet, PacketId, ProtocolVersion, QoS, ReasonCode, RetainHandling,
    Subscription, SubscriptionOptions, TopicFilter, UserProperty,
};
use tokio::io::{AsyncReadExt, AsyncWriteExt};

use super::fault::LinkFault;
use crate::inside::{Inside, requests};

/// The name of the listener that clients of bridges count as ones of.
const LISTENER: &str = "bridges";

/// Messages at QoS 1 and 2 that are under way to the remote at most, if it takes so many: enough for a long way there.
pub(super) const IN_FLIGHT: u16 = 4_096;

/// Where clients of bridges come in.
#[derive(Debug)]
pub(super) struct Here {
    pub(super) broker: Arc<Broker>,
    pub(super) seats: Arc<Seats>,
    /// Where files of bridges lie.
    pub(super) files: PathBuf,
}

impl Here {
    /// Connects one of the bridge's clients; its messages are handed over.
    pub(super) async fn open(
        &self,
        bridge: &Bridge,
        direction: Direction,
        adapt: impl FnOnce(&mut Connect),
    ) -> Result<(Dialled, Arc<Handover>), LinkFault> {
        let limits = Limits {
            receive_maximum: u16::MAX,
            in_flight: IN_FLIGHT,
            topic_aliases: 0,
            refusals_per_second: 0,
            subscriptions: usize::MAX,
            ..bridge.limits(&self.broker.limits)
        };
        let inside = Inside { broker: Arc::clone(&self.broker), seats: Arc::clone(&self.seats), listener: LISTENER };
        let acting = |handover| Acting::Bridge { name: bridge.name.clone(), handover };
        Ok(inside.open(bridge.client_id(direction), acting, limits, adapt).await?)
    }

    /// Whether the session that receives what is pushed is there.
    pub(super) fn has_session(&self, bridge: &Bridge) -> bool {
        self.broker.sessions.registry.get(&bridge.client_id(Direction::Push)).is_some()
    }

    /// Subscribes here without a link, so that what is to be pushed waits from the first moment on. Messages that come
    /// meanwhile are not acknowledged: they come again. Gives what was refused.
    pub(super) async fn subscribe(
        &self,
        bridge: &Bridge,
        before: &[String],
    ) -> Result<Vec<(TopicFilter, ReasonCode)>, LinkFault> {
        let opened = self.open(bridge, Direction::Push, |connect| {
            connect.properties.receive_maximum = Some(PacketId::MIN);
        });
        // What is handed over is not taken.
        let (Dialled { mut stream, mut buffer, .. }, _handover) = opened.await?;
        let mut bytes = BytesMut::new();
        let wanted = wanted(bridge, Direction::Push);
        for packet in requests(&wanted, before) {
            packet.encode(ProtocolVersion::V5, &mut bytes).map_err(moorfall_client::ConnectError::from)?;
        }
        let broke = |error: std::io::Error| LinkFault::Here(error.to_string());
        stream.write_all(&bytes).await.map_err(broke)?;
        let mut refused = Vec::new();
        let mut is_answered = wanted.is_empty();
        while !is_answered {
            if stream.read_buf(&mut buffer).await.map_err(broke)? == 0 {
                return Err(LinkFault::Here("it closed the connection".into()));
            }
            while let Some(frame) = Frame::split(&mut buffer, MAX_PACKET_SIZE).ok().flatten() {
                match Packet::decode(frame, ProtocolVersion::V5) {
                    Ok(Packet::SubAck(ack)) => {
                        refused.extend(refusals(&wanted, &ack.reasons));
                        is_answered = true;
                    }
                    Ok(Packet::Disconnect(goodbye)) => return Err(LinkFault::Here(goodbye.reason.coded())),
                    _ => {}
                }
            }
        }
        bytes.clear();
        let goodbye = Packet::Disconnect(Disconnect::normal());
        goodbye.encode(ProtocolVersion::V5, &mut bytes).map_err(moorfall_client::ConnectError::from)?;
        stream.write_all(&bytes).await.map_err(broke)?;
        // The session is away when the other end has closed.
        while stream.read_buf(&mut buffer).await.is_ok_and(|count| count > 0) {
            buffer.clear();
        }
        Ok(refused)
    }
}

/// What the mappings of one direction subscribe to, each filter once.
pub(super) fn wanted(bridge: &Bridge, direction: Direction) -> Vec<Subscription> {
    let mut all: BTreeMap<String, Subscription> = BTreeMap::new();
    for mapping in bridge.mappings(direction) {
        let filter = mapping.names.filter();
        let retain_handling = if mapping.retained { RetainHandling::IfNew } else { RetainHandling::Never };
        let is_v5 = direction == Direction::Push || bridge.version == ProtocolVersion::V5;
        let options = SubscriptionOptions {
            qos: mapping.highest_qos,
            no_local: is_v5 && direction == Direction::Pull,
            retain_as_published: is_v5,
            retain_handling: if is_v5 { retain_handling } else { RetainHandling::Always },
        };
        let new = Subscription { filter: filter.clone(), options };
        let known = all.entry(filter.to_string()).or_insert(new);
        known.options.qos = known.options.qos.max(options.qos);
        if options.retain_handling == RetainHandling::IfNew {
            known.options.retain_handling = RetainHandling::IfNew;
        }
    }
    all.into_values().collect()
}

/// Which filters were refused.
pub(super) fn refusals(wanted: &[Subscription], reasons: &[ReasonCode]) -> Vec<(TopicFilter, ReasonCode)> {
    let all = wanted.iter().zip(reasons);
    all.filter(|(_, reason)| reason.is_error()).map(|(one, reason)| (one.filter.clone(), *reason)).collect()
}

/// The QoS that was granted less than asked for.
pub(super) fn lowered(wanted: &[Subscription], reasons: &[ReasonCode]) -> Vec<(TopicFilter, QoS)> {
    let granted = |reason: ReasonCode| QoS::try_from(reason as u8).ok();
    let all = wanted.iter().zip(reasons).filter_map(|(one, reason)| Some((one, granted(*reason)?)));
    all.filter(|(one, granted)| *granted < one.options.qos)
        .map(|(one, granted)| (one.filter.clone(), granted))
        .collect()
}

/// Says that a client is a bridge of this broker.
pub(super) fn introduction(name: &str) -> UserProperty {
    UserProperty { name: PASSED.into(), value: name.into() }
}
