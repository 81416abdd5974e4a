//! Properties of the codec: what encodes decodes to the same packet, and no bytes make it panic.
#![allow(clippy::unwrap_used, reason = "a test may panic")]

use std::num::{NonZeroU16, NonZeroU32};

use bytes::{Bytes, BytesMut};
use bytestring::ByteString;
use moorfall_wire::*;
use proptest::{collection::vec, option::of, prelude::*, sample::select};

fn text() -> impl Strategy<Value = ByteString> {
    "[a-zé0-9 ]{0,9}".prop_map(ByteString::from)
}

fn binary() -> impl Strategy<Value = Bytes> {
    vec(any::<u8>(), 0..40).prop_map(Bytes::from)
}

fn topic() -> impl Strategy<Value = TopicName> {
    "[a-zé$ ]{1,4}(/[a-z]{0,4}){0,4}".prop_map(|topic| topic.parse().unwrap())
}

fn response_topic() -> impl Strategy<Value = ByteString> {
    topic().prop_map(|topic| ByteString::from(&*topic))
}

fn filter() -> impl Strategy<Value = TopicFilter> {
    "([a-zé]{0,4}|\\+)(/([a-z]{0,4}|\\+)){1,4}(/#)?".prop_map(|filter| filter.parse().unwrap())
}

fn qos() -> impl Strategy<Value = QoS> {
    select(vec![QoS::AtMostOnce, QoS::AtLeastOnce, QoS::ExactlyOnce])
}

fn packet_id() -> impl Strategy<Value = PacketId> {
    any::<NonZeroU16>()
}

fn user_properties() -> impl Strategy<Value = Vec<UserProperty>> {
    vec((text(), text()).prop_map(|(name, value)| UserProperty { name, value }), 0..3)
}

fn identifier() -> impl Strategy<Value = VariableInt> {
    (1..=268_435_455_u32).prop_map(|number| VariableInt(NonZeroU32::new(number).unwrap()))
}

fn reason(packet: PacketType) -> impl Strategy<Value = ReasonCode> {
    select(ReasonCode::ALL.iter().copied().filter(|reason| reason.allowed_in(packet)).collect::<Vec<_>>())
}

fn will() -> impl Strategy<Value = Will> {
    let properties = (
        of(any::<u32>()),
        of(any::<bool>()),
        of(any::<u32>()),
        of(text()),
        of(response_topic()),
        of(binary()),
        user_properties(),
    )
        .prop_map(|(delay, utf8, expiry, content, response, correlation, user_properties)| WillProperties {
            will_delay_interval: delay,
            payload_format_indicator: utf8,
            message_expiry_interval: expiry,
            content_type: content,
            response_topic: response,
            correlation_data: correlation,
            user_properties,
        });
    (topic(), binary(), qos(), any::<bool>(), properties).prop_map(|(topic, payload, qos, retain, properties)| Will {
        topic,
        payload,
        qos,
        retain,
        properties,
    })
}

fn connect(version: ProtocolVersion) -> impl Strategy<Value = Packet> {
    let limits = (of(any::<u32>()), of(any::<NonZeroU16>()), of(any::<NonZeroU32>()), of(any::<u16>()));
    let asks = (of(any::<bool>()), of(any::<bool>()), user_properties(), of((text(), of(binary()))));
    let credentials = (of(text()), of(binary()));
    (any::<bool>(), any::<u16>(), limits, asks, text(), of(will()), credentials).prop_map(
        move |(clean_start, keep_alive, limits, asks, client_id, mut will, (user_name, mut password))| {
            let (authentication_method, data) = asks.3.unzip();
            let mut properties = ConnectProperties {
                session_expiry_interval: limits.0,
                receive_maximum: limits.1,
                maximum_packet_size: limits.2,
                topic_alias_maximum: limits.3,
                request_response_information: asks.0,
                request_problem_information: asks.1,
                user_properties: asks.2,
                authentication_method,
                authentication_data: data.flatten(),
            };
            if version == ProtocolVersion::V311 {
                properties = ConnectProperties::default();
                password = password.filter(|_| user_name.is_some());
                if let Some(will) = &mut will {
                    will.properties = WillProperties::default();
                }
            }
            Packet::Connect(Box::new(Connect {
                version,
                clean_start,
                keep_alive,
                properties,
                client_id,
                will,
                user_name,
                password,
            }))
        },
    )
}

fn connack(version: ProtocolVersion) -> BoxedStrategy<Packet> {
    if version == ProtocolVersion::V311 {
        let codes = vec![
            ReasonCode::Success,
            ReasonCode::UnsupportedProtocolVersion,
            ReasonCode::ClientIdentifierNotValid,
            ReasonCode::ServerUnavailable,
            ReasonCode::BadUserNameOrPassword,
            ReasonCode::NotAuthorized,
        ];
        return (any::<bool>(), select(codes))
            .prop_map(|(session_present, reason)| {
                Packet::ConnAck(Box::new(ConnAck { session_present, reason, properties: ConnAckProperties::default() }))
            })
            .boxed();
    }
    let numbers =
        (of(any::<u32>()), of(any::<NonZeroU16>()), of(any::<NonZeroU32>()), of(any::<u16>()), of(any::<u16>()));
    let flags = (of(any::<bool>()), of(any::<bool>()), of(any::<bool>()), of(any::<bool>()), of(any::<bool>()));
    let texts = (of(text()), of(text()), of(text()), of(text()), of(text()), of(binary()));
    (any::<bool>(), reason(PacketType::ConnAck), numbers, flags, texts, user_properties())
        .prop_map(|(session_present, reason, numbers, flags, texts, user_properties)| {
            let properties = ConnAckProperties {
                session_expiry_interval: numbers.0,
                receive_maximum: numbers.1,
                maximum_qos: flags.0,
                retain_available: flags.1,
                maximum_packet_size: numbers.2,
                assigned_client_identifier: texts.0,
                topic_alias_maximum: numbers.3,
                reason_string: texts.1,
                user_properties,
                wildcard_subscription_available: flags.2,
                subscription_identifiers_available: flags.3,
                shared_subscription_available: flags.4,
                server_keep_alive: numbers.4,
                response_information: texts.2,
                server_reference: texts.3,
                authentication_method: texts.4,
                authentication_data: texts.5,
            };
            Packet::ConnAck(Box::new(ConnAck { session_present, reason, properties }))
        })
        .boxed()
}

fn publish(version: ProtocolVersion) -> impl Strategy<Value = Packet> {
    let properties = (
        (of(any::<bool>()), of(any::<u32>()), of(any::<NonZeroU16>()), of(response_topic())),
        (of(binary()), user_properties(), vec(identifier(), 0..3), of(text())),
    )
        .prop_map(|(a, b)| PublishProperties {
            payload_format_indicator: a.0,
            message_expiry_interval: a.1,
            topic_alias: a.2,
            response_topic: a.3,
            correlation_data: b.0,
            user_properties: b.1,
            subscription_identifiers: b.2,
            content_type: b.3,
        });
    (qos(), any::<bool>(), any::<bool>(), topic(), packet_id(), properties, vec(any::<u8>(), 0..300), any::<bool>())
        .prop_map(move |(qos, duplicate, retain, topic, packet_id, properties, payload, empty)| {
            let v5 = version == ProtocolVersion::V5;
            let by_alias = v5 && empty && properties.topic_alias.is_some();
            Packet::Publish(Publish {
                duplicate: duplicate && qos != QoS::AtMostOnce,
                qos,
                retain,
                topic: if by_alias { TopicName::default() } else { topic },
                packet_id: (qos != QoS::AtMostOnce).then_some(packet_id),
                properties: if v5 { properties } else { PublishProperties::default() },
                payload: payload.into(),
            })
        })
}

fn acknowledgement(packet: PacketType, version: ProtocolVersion) -> impl Strategy<Value = Acknowledgement> {
    (packet_id(), reason(packet), of(text()), user_properties()).prop_map(
        move |(packet_id, reason, reason_string, user_properties)| match version {
            ProtocolVersion::V311 => Acknowledgement::success(packet_id),
            ProtocolVersion::V5 => Acknowledgement {
                packet_id,
                reason,
                properties: AcknowledgementProperties { reason_string, user_properties },
            },
        },
    )
}

fn subscribe(version: ProtocolVersion) -> impl Strategy<Value = Packet> {
    let handling = select(vec![RetainHandling::Always, RetainHandling::IfNew, RetainHandling::Never]);
    let options =
        (qos(), any::<bool>(), any::<bool>(), handling).prop_map(move |(qos, no_local, as_published, handling)| {
            match version {
                ProtocolVersion::V311 => SubscriptionOptions { qos, ..SubscriptionOptions::default() },
                ProtocolVersion::V5 => {
                    SubscriptionOptions { qos, no_local, retain_as_published: as_published, retain_handling: handling }
                }
            }
        });
    let subscription = (filter(), options).prop_map(|(filter, options)| Subscription { filter, options });
    (packet_id(), of(identifier()), user_properties(), vec(subscription, 1..4)).prop_map(
        move |(packet_id, subscription_identifier, user_properties, subscriptions)| {
            let properties = match version {
                ProtocolVersion::V311 => SubscribeProperties::default(),
                ProtocolVersion::V5 => SubscribeProperties { subscription_identifier, user_properties },
            };
            Packet::Subscribe(Subscribe { packet_id, properties, subscriptions })
        },
    )
}

fn suback(version: ProtocolVersion) -> impl Strategy<Value = Packet> {
    let codes = match version {
        ProtocolVersion::V311 => {
            vec![ReasonCode::Success, ReasonCode::GrantedQoS1, ReasonCode::GrantedQoS2, ReasonCode::Unspecified]
        }
        ProtocolVersion::V5 => {
            ReasonCode::ALL.iter().copied().filter(|reason| reason.allowed_in(PacketType::SubAck)).collect()
        }
    };
    (packet_id(), of(text()), user_properties(), vec(select(codes), 1..4)).prop_map(
        move |(packet_id, reason_string, user_properties, reasons)| {
            let properties = match version {
                ProtocolVersion::V311 => SubAckProperties::default(),
                ProtocolVersion::V5 => SubAckProperties { reason_string, user_properties },
            };
            Packet::SubAck(SubAck { packet_id, properties, reasons })
        },
    )
}

fn unsubscribe(version: ProtocolVersion) -> impl Strategy<Value = Packet> {
    (packet_id(), user_properties(), vec(filter(), 1..4)).prop_map(move |(packet_id, user_properties, filters)| {
        let properties = match version {
            ProtocolVersion::V311 => UnsubscribeProperties::default(),
            ProtocolVersion::V5 => UnsubscribeProperties { user_properties },
        };
        Packet::Unsubscribe(Unsubscribe { packet_id, properties, filters })
    })
}

fn unsuback(version: ProtocolVersion) -> impl Strategy<Value = Packet> {
    (packet_id(), of(text()), user_properties(), vec(reason(PacketType::UnsubAck), 1..4)).prop_map(
        move |(packet_id, reason_string, user_properties, reasons)| {
            Packet::UnsubAck(match version {
                ProtocolVersion::V311 => {
                    UnsubAck { packet_id, properties: UnsubAckProperties::default(), reasons: Vec::new() }
                }
                ProtocolVersion::V5 => {
                    UnsubAck { packet_id, properties: UnsubAckProperties { reason_string, user_properties }, reasons }
                }
            })
        },
    )
}

fn disconnect(version: ProtocolVersion) -> impl Strategy<Value = Packet> {
    (reason(PacketType::Disconnect), of(any::<u32>()), of(text()), user_properties(), of(text())).prop_map(
        move |(reason, session_expiry_interval, reason_string, user_properties, server_reference)| {
            Packet::Disconnect(match version {
                ProtocolVersion::V311 => Disconnect::normal(),
                ProtocolVersion::V5 => Disconnect {
                    reason,
                    properties: DisconnectProperties {
                        session_expiry_interval,
                        reason_string,
                        user_properties,
                        server_reference,
                    },
                },
            })
        },
    )
}

fn auth() -> impl Strategy<Value = Packet> {
    (reason(PacketType::Auth), of(text()), of(binary()), of(text()), user_properties()).prop_map(
        |(reason, authentication_method, authentication_data, reason_string, user_properties)| {
            let properties =
                AuthProperties { authentication_method, authentication_data, reason_string, user_properties };
            Packet::Auth(Auth { reason, properties })
        },
    )
}

fn packet(version: ProtocolVersion) -> BoxedStrategy<Packet> {
    let common = prop_oneof![
        2 => connect(version),
        2 => connack(version),
        4 => publish(version),
        1 => acknowledgement(PacketType::PubAck, version).prop_map(Packet::PubAck),
        1 => acknowledgement(PacketType::PubRec, version).prop_map(Packet::PubRec),
        1 => acknowledgement(PacketType::PubRel, version).prop_map(Packet::PubRel),
        1 => acknowledgement(PacketType::PubComp, version).prop_map(Packet::PubComp),
        2 => subscribe(version),
        1 => suback(version),
        1 => unsubscribe(version),
        1 => unsuback(version),
        1 => Just(Packet::PingReq),
        1 => Just(Packet::PingResp),
        1 => disconnect(version),
    ];
    match version {
        ProtocolVersion::V311 => common.boxed(),
        ProtocolVersion::V5 => prop_oneof![15 => common, 1 => auth()].boxed(),
    }
}

fn any_packet() -> impl Strategy<Value = (ProtocolVersion, Packet)> {
    select(vec![ProtocolVersion::V311, ProtocolVersion::V5]).prop_flat_map(|version| (Just(version), packet(version)))
}

/// Splits and decodes everything in `buffer`, as a receiver would; stops at the first error.
fn decode_all(buffer: &mut BytesMut, version: ProtocolVersion) -> Result<Vec<Packet>, DecodeError> {
    let mut packets = Vec::new();
    while let Some(frame) = Frame::split(buffer, MAX_PACKET_SIZE)? {
        packets.push(Packet::decode(frame, version)?);
    }
    Ok(packets)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 2_000, ..ProptestConfig::default() })]

    #[test]
    fn what_encodes_decodes_to_the_same((version, packet) in any_packet()) {
        let mut bytes = BytesMut::new();
        packet.encode(version, &mut bytes).unwrap();
        let decoded = decode_all(&mut bytes, version).unwrap();
        prop_assert_eq!(decoded, vec![packet]);
        prop_assert!(bytes.is_empty());
    }

    #[test]
    fn packets_in_a_row_are_found_however_the_stream_is_cut(
        packets in vec(packet(ProtocolVersion::V5), 1..5),
        piece in 1..50_usize,
    ) {
        let mut stream = BytesMut::new();
        for packet in &packets {
            packet.encode(ProtocolVersion::V5, &mut stream).unwrap();
        }
        let mut buffer = BytesMut::new();
        let mut decoded = Vec::new();
        for part in stream.chunks(piece) {
            buffer.extend_from_slice(part);
            decoded.extend(decode_all(&mut buffer, ProtocolVersion::V5).unwrap());
        }
        prop_assert_eq!(decoded, packets);
    }

    #[test]
    fn any_bytes_give_packets_or_an_error(bytes in vec(any::<u8>(), 0..200)) {
        for version in [ProtocolVersion::V311, ProtocolVersion::V5] {
            let _ = decode_all(&mut BytesMut::from(&bytes[..]), version);
        }
    }

    /// Nearly right bytes reach deeper than random ones; what still decodes must also encode again.
    #[test]
    fn damaged_packets_give_packets_or_an_error(
        (version, packet) in any_packet(),
        damage in vec((any::<prop::sample::Index>(), any::<u8>()), 1..4),
        cut in any::<prop::sample::Index>(),
    ) {
        let mut bytes = BytesMut::new();
        packet.encode(version, &mut bytes).unwrap();
        for (at, byte) in damage {
            let at = at.index(bytes.len());
            bytes[at] = byte;
        }
        bytes.truncate(cut.index(bytes.len()) + 1);
        for packet in decode_all(&mut bytes, version).unwrap_or_default() {
            let version = if let Packet::Connect(connect) = &packet { connect.version } else { version };
            let mut again = BytesMut::new();
            packet.encode(version, &mut again).unwrap();
            prop_assert_eq!(decode_all(&mut again, version).unwrap(), vec![packet]);
        }
    }

    #[test]
    fn the_shared_encoding_is_the_plain_one(
        (version, packet) in any_packet().prop_filter("only PUBLISH", |(_, packet)| matches!(packet, Packet::Publish(_))),
    ) {
        let Packet::Publish(publish) = &packet else { unreachable!("filtered") };
        let mut plain = BytesMut::new();
        packet.encode(version, &mut plain).unwrap();
        let shared = EncodedPublish::new(
            &publish.topic,
            &publish.properties,
            publish.payload.clone(),
            version,
            publish.packet_id.is_some(),
        )
        .unwrap();
        let mut out = BytesMut::from(&b"before"[..]);
        shared.put_head(&mut out, publish.duplicate, publish.qos, publish.retain, publish.packet_id);
        out.extend_from_slice(shared.payload());
        prop_assert_eq!(&out[6..], &plain[..]);
        prop_assert_eq!(shared.size(), plain.len());
    }

    #[test]
    fn a_filter_covers_another_only_if_it_matches_what_the_other_matches(
        wide in filter(), narrow in filter(), topic in topic(),
    ) {
        if wide.covers(&narrow) && narrow.matches(&topic) {
            prop_assert!(wide.matches(&topic), "{} covers {} but not {}", wide, narrow, topic);
        }
    }
}

#[test]
fn a_payload_is_not_copied() {
    let payload = Bytes::from(vec![7; 5_000]);
    let topic = "harrowmere/gorge/kettle-weir/stage/level".parse().unwrap();
    let packet = Packet::Publish(Publish::new(topic, payload, QoS::AtMostOnce));
    let mut buffer = BytesMut::new();
    packet.encode(ProtocolVersion::V5, &mut buffer).unwrap();
    let whole = buffer.as_ptr() as usize..buffer.as_ptr() as usize + buffer.len();
    let frame = Frame::split(&mut buffer, MAX_PACKET_SIZE).unwrap().unwrap();
    let Ok(Packet::Publish(publish)) = Packet::decode(frame, ProtocolVersion::V5) else { panic!("a PUBLISH") };
    assert!(whole.contains(&(publish.payload.as_ptr() as usize)));
}
