//! Packets as tests write them, and what tests read of events.

use super::*;

/// A plain CONNECT.
pub(crate) fn connect(client_id: &str, version: ProtocolVersion) -> Connect {
    Connect::new(version, client_id)
}

/// A plain PUBLISH; the client fills in the packet identifier.
pub(crate) fn publish(topic: &str, payload: &[u8], qos: QoS) -> Publish {
    Publish::new(topic.parse().unwrap(), payload.to_vec(), qos)
}

/// Appends a SUBSCRIBE.
pub(crate) fn message(bytes: &mut BytesMut, version: ProtocolVersion, filter: &str) {
    let subscriptions = vec![Subscription { filter: filter.parse().unwrap(), options: SubscriptionOptions::default() }];
    let subscribe = Subscribe { packet_id: PacketId::MIN, properties: SubscribeProperties::default(), subscriptions };
    Packet::Subscribe(subscribe).encode(version, bytes).unwrap();
}

/// The messages among the events.
pub(crate) fn messages(events: &[Event]) -> Vec<Publish> {
    events
        .iter()
        .filter_map(|event| if let Event::Message(message) = event { Some(message.clone()) } else { None })
        .collect()
}

/// The reason codes of all answers among the events.
pub(crate) fn reasons(events: &[Event]) -> Vec<ReasonCode> {
    events
        .iter()
        .filter_map(|event| if let Event::Answered { reasons, .. } = event { Some(reasons.clone()) } else { None })
        .flatten()
        .collect()
}

/// The reason string of the first answer that has one.
pub(crate) fn words(events: &[Event]) -> String {
    events
        .iter()
        .find_map(|event| if let Event::Answered { reason_string, .. } = event { reason_string.clone() } else { None })
        .map_or_else(String::new, |words| words.to_string())
}

/// Why the connection was closed, as the client saw it.
pub(crate) fn closed(events: &[Event]) -> String {
    events
        .iter()
        .find_map(|event| if let Event::Closed { words, .. } = event { Some(words.clone()) } else { None })
        .unwrap_or_default()
}
