//! Clients inside whose messages are handed over: the side here of what reaches out, or makes something of messages.

use std::{net::SocketAddr, sync::Arc};

use moorfall_broker::{
    attach::{Entrance, attach},
    broker::Broker,
    connection::handover::Handover,
    listeners::{listener::Listener, origin::Acting, seats::Seats, settings::ListenerSettings},
};
use moorfall_client::{AskedBy, ConnectError, Dialled, Layer, Options, Remote, Scheme, dial_over};
use moorfall_core::Limits;
use moorfall_wire::{
    Connect, Packet, PacketId, ProtocolVersion, Subscribe, SubscribeProperties, Subscription, TopicFilter, Unsubscribe,
    UnsubscribeProperties,
};

/// The identifier of SUBSCRIBE and UNSUBSCRIBE. Sessions begin with low ones for messages.
pub(crate) const REQUEST: PacketId = PacketId::MAX;

/// Why a client inside is not connected.
#[derive(Debug, thiserror::Error)]
pub(crate) enum NotInside {
    /// As many connections are open as there may be.
    #[error("There is no room for a connection. Raise `connections` in [limits] of moorfall.toml.")]
    NoRoom,
    /// It was refused.
    #[error(transparent)]
    Refused(#[from] ConnectError),
}

/// Where clients inside come in.
#[derive(Clone, Debug)]
pub(crate) struct Inside {
    pub(crate) broker: Arc<Broker>,
    pub(crate) seats: Arc<Seats>,
    /// The name of the listener that they count as ones of.
    pub(crate) listener: &'static str,
}

impl Inside {
    /// Connects a client whose session is kept, unless `adapt` asks for something else.
    pub(crate) async fn open(
        &self,
        client_id: String,
        acting: impl FnOnce(Arc<Handover>) -> Acting,
        limits: Limits,
        adapt: impl FnOnce(&mut Connect),
    ) -> Result<(Dialled, Arc<Handover>), NotInside> {
        let nowhere = SocketAddr::from(([127, 0, 0, 1], 0));
        let settings = ListenerSettings::tcp(self.listener, nowhere);
        let listener = Arc::new(Listener::new(&settings, nowhere, None, limits));
        let entrance = Entrance { seats: &self.seats, listener: &listener, address: nowhere };
        let handover = Arc::new(Handover::default());
        let near = attach(&self.broker, entrance, acting(Arc::clone(&handover)));
        let near: Box<dyn Layer> = Box::new(near.map_err(|_| NotInside::NoRoom)?);
        let mut connect = Connect::new(ProtocolVersion::V5, client_id);
        connect.clean_start = false;
        connect.keep_alive = 0;
        connect.properties.session_expiry_interval = Some(u32::MAX);
        adapt(&mut connect);
        let remote =
            Remote { scheme: Scheme::Mqtt, identity: None, host: "this broker".into(), port: 0, path: String::new() };
        let options = Options { asked_by: AskedBy::Bridge, ..Options::new(remote) };
        Ok((dial_over(near, &options, &connect).await?, handover))
    }
}

/// The packets that bring what is subscribed to from what it was before to what is wanted.
pub(crate) fn requests(wanted: &[Subscription], before: &[String]) -> Vec<Packet> {
    let is_wanted = |filter: &&String| wanted.iter().any(|one| *one.filter == ***filter);
    let gone: Vec<TopicFilter> =
        before.iter().filter(|filter| !is_wanted(filter)).filter_map(|filter| filter.parse().ok()).collect();
    let mut packets = Vec::new();
    if !gone.is_empty() {
        let properties = UnsubscribeProperties::default();
        packets.push(Packet::Unsubscribe(Unsubscribe { packet_id: REQUEST, properties, filters: gone }));
    }
    if !wanted.is_empty() {
        let (properties, subscriptions) = (SubscribeProperties::default(), wanted.to_vec());
        packets.push(Packet::Subscribe(Subscribe { packet_id: REQUEST, properties, subscriptions }));
    }
    packets
}
