//! The client against a broker that is played packet by packet over a real connection.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

use std::{
    num::{NonZeroU16, NonZeroU32},
    time::Duration,
};

use bytes::BytesMut;
use moorfall_client::{Arrival, Client, ConnectError, Options, Remote, Stage, examine};
use moorfall_wire::*;
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::{TcpListener, TcpStream},
    time::timeout,
};

const PATIENCE: Duration = Duration::from_secs(10);

/// One connection, from the broker's side.
struct Played {
    stream: TcpStream,
    buffer: BytesMut,
}

impl Played {
    /// The next packet; `None` when the client has closed the connection.
    async fn packet(&mut self) -> Option<Packet> {
        loop {
            if let Some(frame) = Frame::split(&mut self.buffer, MAX_PACKET_SIZE).unwrap() {
                return Some(Packet::decode(frame, ProtocolVersion::V5).unwrap());
            }
            let count = timeout(PATIENCE, self.stream.read_buf(&mut self.buffer)).await.expect("in time").unwrap();
            if count == 0 {
                return None;
            }
        }
    }

    async fn send(&mut self, packets: &[Packet]) {
        self.stream.write_all(&encoded(packets)).await.unwrap();
    }

    async fn accept(listener: &TcpListener) -> Self {
        let (stream, _) = timeout(PATIENCE, listener.accept()).await.expect("in time").unwrap();
        Self { stream, buffer: BytesMut::new() }
    }

    /// Accepts a client with this CONNACK; gives its CONNECT.
    async fn welcome(listener: &TcpListener, connack: ConnAck) -> (Self, Connect) {
        let mut played = Self::accept(listener).await;
        let Some(Packet::Connect(connect)) = played.packet().await else { panic!("no CONNECT") };
        played.send(&[Packet::ConnAck(Box::new(connack))]).await;
        (played, *connect)
    }

    async fn publish(&mut self) -> Publish {
        match self.packet().await {
            Some(Packet::Publish(publish)) => publish,
            other => panic!("not a PUBLISH: {other:?}"),
        }
    }
}

fn encoded(packets: &[Packet]) -> BytesMut {
    let mut bytes = BytesMut::new();
    packets.iter().for_each(|packet| packet.encode(ProtocolVersion::V5, &mut bytes).unwrap());
    bytes
}

async fn listen() -> (TcpListener, Options) {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    (listener, Options::new(Remote::tcp("127.0.0.1", port, None)))
}

fn accepted(session_present: bool) -> ConnAck {
    ConnAck { session_present, reason: ReasonCode::Success, properties: ConnAckProperties::default() }
}

fn message(payload: &str, qos: QoS) -> Publish {
    Publish::new("harrowmere/gorge/kettle-weir/stage/level".parse().unwrap(), payload.to_owned(), qos)
}

fn numbered(number: u16, qos: QoS) -> Packet {
    let packet_id = if qos == QoS::AtMostOnce { None } else { PacketId::new(number) };
    Packet::Publish(Publish { packet_id, ..message(&number.to_string(), qos) })
}

fn acknowledged(publish: &Publish, reason: ReasonCode) -> Packet {
    Packet::PubAck(Acknowledgement { reason, ..Acknowledgement::success(publish.packet_id.unwrap()) })
}

#[tokio::test]
async fn what_is_begun_in_order_is_sent_in_order_and_each_gets_its_own_answer() {
    let (listener, options) = listen().await;
    let broker = tokio::spawn(async move {
        let (mut played, _) = Played::welcome(&listener, accepted(false)).await;
        let mut all = Vec::new();
        for number in 0..50 {
            let publish = played.publish().await;
            assert_eq!(publish.payload, number.to_string());
            all.push(publish);
        }
        // Answers in another order find their messages all the same.
        for publish in all.iter().rev() {
            let is_even = publish.payload.last().is_some_and(|digit| digit % 2 == 0);
            let reason = if is_even { ReasonCode::Success } else { ReasonCode::NotAuthorized };
            played.send(&[acknowledged(publish, reason)]).await;
        }
        played.packet().await
    });
    let (client, _arrivals) = Client::connect(&options).await.unwrap();
    let mut pending = Vec::new();
    for number in 0..50 {
        pending.push(client.start_publish(message(&number.to_string(), QoS::AtLeastOnce)).await.unwrap());
    }
    for (number, pending) in pending.into_iter().enumerate() {
        let answer = pending.answer().await.unwrap().unwrap();
        let expected = if number % 2 == 0 { ReasonCode::Success } else { ReasonCode::NotAuthorized };
        assert_eq!(answer.reasons, [expected], "{number}");
    }
    client.disconnect().await;
    assert!(matches!(broker.await.unwrap(), Some(Packet::Disconnect(_))));
}

#[tokio::test]
async fn pings_and_goodbyes_wait_for_no_place_in_the_window() {
    let (listener, options) = listen().await;
    let broker = tokio::spawn(async move {
        let properties = ConnAckProperties { receive_maximum: NonZeroU16::new(1), ..ConnAckProperties::default() };
        let (mut played, _) = Played::welcome(&listener, ConnAck { properties, ..accepted(false) }).await;
        // The first is never acknowledged, so the others keep waiting.
        assert_eq!(played.publish().await.payload, "0");
        assert_eq!(played.packet().await, Some(Packet::PingReq));
        played.send(&[Packet::PingResp]).await;
        played.packet().await
    });
    let (client, _arrivals) = Client::connect(&options).await.unwrap();
    let mut pending = Vec::new();
    for number in 0..3 {
        pending.push(client.start_publish(message(&number.to_string(), QoS::AtLeastOnce)).await.unwrap());
    }
    timeout(PATIENCE, client.ping()).await.expect("in time").unwrap();
    timeout(PATIENCE, client.disconnect()).await.expect("in time");
    assert!(matches!(broker.await.unwrap(), Some(Packet::Disconnect(_))));
    for pending in pending {
        pending.answer().await.unwrap_err();
    }
}

#[tokio::test]
async fn packets_in_pieces_and_many_in_one_piece_are_the_same() {
    let (listener, options) = listen().await;
    let broker = tokio::spawn(async move {
        let (mut played, _) = Played::welcome(&listener, accepted(false)).await;
        let all: Vec<Packet> = (1..=40).map(|number| numbered(number, QoS::AtLeastOnce)).collect();
        let bytes = encoded(&all);
        let half = bytes.len() / 2 + 1;
        for piece in bytes[..half].chunks(7) {
            played.stream.write_all(piece).await.unwrap();
            tokio::task::yield_now().await;
        }
        played.stream.write_all(&bytes[half..]).await.unwrap();
        for number in 1..=40 {
            let Some(Packet::PubAck(ack)) = played.packet().await else { panic!("not a PUBACK") };
            assert_eq!(Some(ack.packet_id), PacketId::new(number));
        }
        played
    });
    let (_client, mut arrivals) = Client::connect(&options).await.unwrap();
    for number in 1..=40 {
        match arrivals.next().await {
            Some(Arrival::Message(message)) => assert_eq!(message.payload, number.to_string()),
            other => panic!("{other:?}"),
        }
    }
    let _still_open = broker.await.unwrap();
}

#[tokio::test]
async fn a_session_goes_on_where_it_was_left() {
    let (listener, mut options) = listen().await;
    (options.client_id, options.clean_start, options.session_expiry) = ("weir-1".into(), false, 60);
    let broker = tokio::spawn(async move {
        let (mut played, connect) = Played::welcome(&listener, accepted(false)).await;
        assert!(!connect.clean_start && connect.properties.session_expiry_interval == Some(60));
        let lost = played.publish().await;
        played.send(&[numbered(9, QoS::ExactlyOnce)]).await;
        assert!(matches!(played.packet().await, Some(Packet::PubRec(_))));
        drop(played);
        let (mut played, _) = Played::welcome(&listener, accepted(true)).await;
        let again = played.publish().await;
        assert!(again.duplicate && again.packet_id == lost.packet_id && again.payload == lost.payload);
        played.send(&[acknowledged(&again, ReasonCode::Success)]).await;
        // The same QoS 2 message once more is known, and comes to nobody twice.
        played.send(&[numbered(9, QoS::ExactlyOnce), numbered(0, QoS::AtMostOnce)]).await;
        assert!(matches!(played.packet().await, Some(Packet::PubRec(_))));
        played
    });
    let (client, mut arrivals) = Client::connect(&options).await.unwrap();
    let pending = client.start_publish(message("1.83", QoS::AtLeastOnce)).await.unwrap();
    assert!(matches!(arrivals.next().await, Some(Arrival::Message(message)) if message.payload == "9"));
    assert!(matches!(arrivals.next().await, Some(Arrival::Closed { reason: None, .. })));
    let error = pending.answer().await.unwrap_err().to_string();
    assert!(error.contains("No response arrived before"), "{error}");
    let (_client, mut arrivals) = Client::resume(&options, arrivals.into_state().await).await.unwrap();
    let Some(Arrival::Message(first)) = arrivals.next().await else { panic!("nothing came") };
    assert_eq!(first.payload, "0", "the one that was received before does not come again");
    let _still_open = broker.await.unwrap();
}

#[tokio::test]
async fn the_end_has_the_broker_s_reason_and_pings_have_answers() {
    let (listener, options) = listen().await;
    let broker = tokio::spawn(async move {
        let (mut played, _) = Played::welcome(&listener, accepted(false)).await;
        assert!(matches!(played.packet().await, Some(Packet::PingReq)));
        let properties = DisconnectProperties { reason_string: Some("another came".into()), ..Default::default() };
        let goodbye = Disconnect { reason: ReasonCode::SessionTakenOver, properties };
        played.send(&[Packet::PingResp, Packet::Disconnect(goodbye)]).await;
        played
    });
    let (client, mut arrivals) = Client::connect(&options).await.unwrap();
    client.ping().await.unwrap();
    match arrivals.next().await {
        Some(Arrival::Closed { words, reason }) => {
            assert_eq!(reason, Some(ReasonCode::SessionTakenOver));
            assert!(words.contains("another came"), "{words}");
        }
        other => panic!("{other:?}"),
    }
    assert!(arrivals.next().await.is_none(), "nothing follows");
    assert!(client.ping().await.is_err());
    let _still_open = broker.await.unwrap();
}

#[tokio::test]
async fn what_is_no_broker_is_told_apart() {
    for (answer, words) in [
        (&b""[..], "closed the connection without a response"),
        (b"HTTP/1.1 400 Bad Request\r\n\r\n", "is not MQTT"),
        (b"\xd0\x00", "is not allowed here"),
    ] {
        let (listener, options) = listen().await;
        let broker = tokio::spawn(async move {
            let mut played = Played::accept(&listener).await;
            played.packet().await;
            played.stream.write_all(answer).await.unwrap();
        });
        let error = Client::connect(&options).await.unwrap_err();
        assert!(matches!(error, ConnectError::NotAccepted { .. }), "{error:?}");
        assert!(error.to_string().contains(words), "{error}");
        broker.await.unwrap();
    }
    // One that accepts and never answers: the step that it hangs at is named.
    let (_silent, mut options) = listen().await;
    options.connect_within = Duration::from_millis(200);
    let address = options.remote.address();
    for (scheme, words) in
        [("mqtt", "no response to CONNECT"), ("ws", "WebSocket"), ("mqtts", "TLS handshake did not finish")]
    {
        options.remote = format!("{scheme}://{address}").parse().unwrap();
        let error = Client::connect(&options).await.unwrap_err().to_string();
        assert!(error.contains(words), "{scheme}: {error}");
    }
}

#[tokio::test]
async fn an_examination_tells_what_the_broker_does_not_offer() {
    let (listener, options) = listen().await;
    let broker = tokio::spawn(async move {
        let properties = ConnAckProperties {
            maximum_qos: Some(true),
            shared_subscription_available: Some(false),
            receive_maximum: NonZeroU16::new(20),
            maximum_packet_size: NonZeroU32::new(4_096),
            server_keep_alive: Some(15),
            ..ConnAckProperties::default()
        };
        let (mut played, _) = Played::welcome(&listener, ConnAck { properties, ..accepted(false) }).await;
        assert!(matches!(played.packet().await, Some(Packet::PingReq)));
        played.send(&[Packet::PingResp]).await;
        played.packet().await
    });
    let found = examine(&options).await;
    assert!(found.passed(), "{found:?}");
    let words =
        |stage| found.steps.iter().find(|step| step.stage == stage).unwrap().found.as_ref().unwrap().to_string();
    let features = words(Stage::Features);
    assert!(features.starts_with("QoS up to 1, retained messages, wildcards, no shared"), "{features}");
    let limits = words(Stage::Limits);
    for part in ["20 in flight", "packets up to 4096 B", "Keep Alive 15 s"] {
        assert!(limits.contains(part), "{limits}");
    }
    assert!(matches!(broker.await.unwrap(), Some(Packet::Disconnect(_))), "it leaves in order");
}

#[tokio::test]
async fn a_program_that_does_not_read_slows_the_broker_and_loses_nothing() {
    const MESSAGES: u32 = 20_000;
    let (listener, options) = listen().await;
    let broker = tokio::spawn(async move {
        let (mut played, _) = Played::welcome(&listener, accepted(false)).await;
        for number in 0..MESSAGES {
            let payload = format!("{number:1000}");
            played.send(&[Packet::Publish(message(&payload, QoS::AtMostOnce))]).await;
        }
        played
    });
    let (_client, mut arrivals) = Client::connect(&options).await.unwrap();
    for number in 0..MESSAGES {
        let Some(Arrival::Message(message)) = arrivals.next().await else { panic!("lost {number}") };
        assert_eq!(std::str::from_utf8(&message.payload).unwrap().trim(), number.to_string());
        // Twenty megabytes don't fit in between: the broker can't be done before anything was read.
        assert!(number > 0 || !broker.is_finished());
    }
    let _still_open = broker.await.unwrap();
}
