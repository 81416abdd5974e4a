//! Connections whose time stands still until everybody waits: silences, deadlines and the life of messages, to the
//! millisecond. Nothing here is stored, for a database does not stop with the clock.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod house;

use std::{num::NonZeroU16, time::Duration};

use bytes::BytesMut;
use house::{House, LEVEL, place};
use moorfall_core::Limits;
use moorfall_wire::{
    Acknowledgement, ConnAck, Connect, Disconnect, Frame, MAX_PACKET_SIZE, Packet, PacketId, ProtocolVersion, Publish,
    QoS, ReasonCode, Subscribe, SubscribeProperties, Subscription, SubscriptionOptions, Will,
};
use tempfile::TempDir;
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt, DuplexStream},
    time::{Instant, pause, sleep},
};

/// Bytes of a pipe that nobody fills.
const PIPE: usize = 64 * 1024;

const V5: ProtocolVersion = ProtocolVersion::V5;
const V311: ProtocolVersion = ProtocolVersion::V311;

/// A house whose time has just been stopped.
async fn stopped(limits: Limits) -> (TempDir, House) {
    let place = place();
    let house = House::open(&place, limits).await;
    pause();
    (place, house)
}

/// A client that does only what it is told.
struct Raw {
    stream: DuplexStream,
    buffer: BytesMut,
    version: ProtocolVersion,
}

impl Raw {
    /// Over a pipe that takes so many bytes before somebody has to read.
    fn over(house: &House, size: usize, version: ProtocolVersion) -> Self {
        Self { stream: house.pipe(size), buffer: BytesMut::new(), version }
    }

    async fn say(&mut self, packet: &Packet) {
        let mut bytes = BytesMut::new();
        packet.encode(self.version, &mut bytes).unwrap();
        self.stream.write_all(&bytes).await.unwrap();
    }

    /// The next packet; `None` when the connection is closed.
    async fn hear(&mut self) -> Option<Packet> {
        loop {
            if let Some(frame) = Frame::split(&mut self.buffer, MAX_PACKET_SIZE).unwrap() {
                return Some(Packet::decode(frame, self.version).unwrap());
            }
            if self.stream.read_buf(&mut self.buffer).await.unwrap() == 0 {
                return None;
            }
        }
    }

    async fn open(house: &House, size: usize, connect: Connect) -> Self {
        let mut raw = Self::over(house, size, connect.version);
        raw.say(&Packet::Connect(Box::new(connect))).await;
        let answer = raw.hear().await;
        assert!(matches!(&answer, Some(Packet::ConnAck(answer)) if is_good(answer)), "{answer:?}");
        raw
    }

    /// One that reads all at once and may be silent.
    async fn named(house: &House, client_id: &str) -> Self {
        Self::open(house, PIPE, connect(V5, client_id, 0)).await
    }

    /// A ping is answered before anything else comes.
    async fn is_next_answered(&mut self, what: &str) {
        self.say(&Packet::PingReq).await;
        let next = self.hear().await;
        assert!(matches!(next, Some(Packet::PingResp)), "{what}: {next:?}");
    }

    async fn subscribe(&mut self, filter: &str, qos: QoS) {
        let options = SubscriptionOptions { qos, ..SubscriptionOptions::default() };
        let subscriptions = vec![Subscription { filter: filter.parse().unwrap(), options }];
        let properties = SubscribeProperties::default();
        self.say(&Packet::Subscribe(Subscribe { packet_id: PacketId::MIN, properties, subscriptions })).await;
        assert!(matches!(self.hear().await, Some(Packet::SubAck(_))));
    }

    async fn publish(&mut self, payload: impl Into<bytes::Bytes>, expiry: Option<u32>) {
        let mut message = Publish::new(LEVEL.parse().unwrap(), payload, QoS::AtMostOnce);
        message.properties.message_expiry_interval = expiry;
        self.say(&Packet::Publish(message)).await;
    }

    /// The payload of the next message.
    async fn message(&mut self) -> String {
        match self.hear().await {
            Some(Packet::Publish(message)) => String::from_utf8_lossy(&message.payload).into_owned(),
            other => panic!("not a message: {other:?}"),
        }
    }
}

fn is_good(answer: &ConnAck) -> bool {
    answer.reason == ReasonCode::Success
}

fn connect(version: ProtocolVersion, client_id: &str, keep_alive: u16) -> Connect {
    Connect { keep_alive, ..Connect::new(version, client_id) }
}

/// Whether so much time has gone by, and hardly more.
fn assert_took(began: Instant, wanted: Duration) {
    let took = began.elapsed();
    assert!(took >= wanted && took < wanted + Duration::from_millis(50), "{took:?} instead of {wanted:?}");
}

#[tokio::test]
async fn who_is_silent_for_one_and_a_half_keep_alives_is_ended_and_its_will_is_published() {
    let (_place, house) = stopped(Limits::default()).await;
    for version in [V5, V311] {
        let mut desk = Raw::named(&house, "desk").await;
        desk.subscribe("harrowmere/#", QoS::AtMostOnce).await;
        let will = Will::new(LEVEL.parse().unwrap(), "gone", QoS::AtMostOnce, false);
        let asked = Connect { will: Some(will), ..connect(version, "weir", 20) };
        let mut weir = Raw::open(&house, PIPE, asked).await;
        let began = Instant::now();
        let told = weir.hear().await;
        assert_took(began, Duration::from_secs(30));
        match (version, told) {
            (V5, Some(Packet::Disconnect(Disconnect { reason, properties }))) => {
                assert_eq!(reason, ReasonCode::KeepAliveTimeout);
                assert!(properties.reason_string.unwrap().contains("30 s"));
                assert!(weir.hear().await.is_none());
            }
            (V311, None) => {}
            (version, other) => panic!("{version}: {other:?}"),
        }
        assert_eq!(desk.message().await, "gone");
        desk.say(&Packet::Disconnect(Disconnect::normal())).await;
        assert!(desk.hear().await.is_none());
    }
    house.leave().await;
}

#[tokio::test]
async fn any_packet_in_time_keeps_a_connection() {
    let (_place, house) = stopped(Limits::default()).await;
    let mut weir = Raw::open(&house, PIPE, connect(V5, "weir", 20)).await;
    let began = Instant::now();
    for round in 0..20 {
        sleep(Duration::from_millis(29_900)).await;
        if round % 2 == 0 {
            weir.is_next_answered("it stays").await;
        } else {
            weir.publish("1.83", None).await;
        }
    }
    assert!(began.elapsed() > Duration::from_secs(590));
    assert!(matches!(weir.hear().await, Some(Packet::Disconnect(told)) if told.reason == ReasonCode::KeepAliveTimeout));
    assert_took(began, Duration::from_millis(20 * 29_900 + 30_000));
    house.leave().await;
}

#[tokio::test]
async fn who_does_not_say_who_it_is_does_not_stay() {
    let (_place, house) = stopped(Limits { connect_time: Duration::from_secs(7), ..Limits::default() }).await;
    // Nothing at all, and half a CONNECT.
    for beginning in [&b""[..], &[0x10, 0x20, 0, 4, b'M', b'Q']] {
        let mut stranger = Raw::over(&house, 1_024, V5);
        stranger.stream.write_all(beginning).await.unwrap();
        let began = Instant::now();
        assert!(stranger.hear().await.is_none(), "it is told nothing");
        assert_took(began, Duration::from_secs(7));
    }
    // Something else is ended at once.
    let mut stranger = Raw::over(&house, 1_024, V5);
    stranger.stream.write_all(b"GET / HTTP/1.1\r\n\r\n").await.unwrap();
    let began = Instant::now();
    assert!(stranger.hear().await.is_none());
    assert_took(began, Duration::ZERO);
    while house.taken() > 0 {
        assert!(began.elapsed() < Duration::from_secs(1), "no seat is kept");
        sleep(Duration::from_millis(1)).await;
    }
    house.leave().await;
}

#[tokio::test]
async fn what_expires_behind_a_slow_reader_is_not_sent_and_counted() {
    let (_place, house) = stopped(Limits::default()).await;
    let mut desk = Raw::open(&house, 2_048, connect(V5, "desk", 0)).await;
    desk.subscribe("harrowmere/#", QoS::AtMostOnce).await;
    let mut weir = Raw::named(&house, "weir").await;
    // The pipe takes two kilobytes and the task of the desk a little more; the rest waits in the queue.
    for number in 0..200 {
        weir.publish(format!("{number:04}{}", "-".repeat(4_000)), Some(5)).await;
    }
    weir.is_next_answered("a slow reader holds nobody up").await;
    sleep(Duration::from_secs(6)).await;
    weir.publish("fresh", None).await;
    let mut heard = Vec::new();
    loop {
        let message = desk.message().await;
        if message == "fresh" {
            break;
        }
        heard.push(message);
    }
    assert!(!heard.is_empty() && heard.len() < 200, "{}", heard.len());
    let lost = house.broker.live.counters.read().totals().withheld;
    assert_eq!(heard.len() as u64 + lost, 200, "each is sent or counted");
    let sent: Vec<usize> = heard.iter().map(|message| message[..4].parse().unwrap()).collect();
    assert!(sent.is_sorted() && sent[0] == 0, "{sent:?}");
    house.leave().await;
}

#[tokio::test]
async fn what_is_left_of_a_life_is_said() {
    let (_place, house) = stopped(Limits::default()).await;
    let mut desk = Raw::open(&house, 2_048, connect(V5, "desk", 0)).await;
    desk.subscribe("harrowmere/#", QoS::AtMostOnce).await;
    let mut weir = Raw::named(&house, "weir").await;
    // So many that the last one waits in the queue.
    for _ in 0..200 {
        weir.publish("-".repeat(4_000), None).await;
    }
    weir.publish("1.84", Some(60)).await;
    weir.is_next_answered("it is read").await;
    sleep(Duration::from_millis(20_500)).await;
    for _ in 0..200 {
        desk.message().await;
    }
    let Some(Packet::Publish(late)) = desk.hear().await else { panic!("nothing comes") };
    assert_eq!(&*late.payload, b"1.84");
    assert_eq!(late.properties.message_expiry_interval, Some(40), "of 60 s, after 20.5 s");
    house.leave().await;
}

#[tokio::test]
async fn who_takes_over_waits_for_the_will_of_the_one_before() {
    let (_place, house) = stopped(Limits::default()).await;
    let mut desk = Raw::named(&house, "desk").await;
    desk.subscribe("harrowmere/#", QoS::AtMostOnce).await;
    let will = Will::new(LEVEL.parse().unwrap(), "gone", QoS::AtMostOnce, false);
    let mut weirs = Vec::new();
    for round in 0..5 {
        let asked = Connect { will: Some(will.clone()), ..connect(V5, "weir", 0) };
        let mut weir = Raw::open(&house, PIPE, asked).await;
        weir.publish(format!("{round}"), None).await;
        if round > 0 {
            assert_eq!(desk.message().await, "gone");
        }
        assert_eq!(desk.message().await, format!("{round}"), "the will never comes after it");
        weirs.push(weir);
    }
    for weir in weirs.iter_mut().take(4) {
        let told = weir.hear().await;
        let taken = |told: &Disconnect| told.reason == ReasonCode::SessionTakenOver;
        assert!(matches!(&told, Some(Packet::Disconnect(told)) if taken(told)), "{told:?}");
    }
    assert_eq!(house.broker.sessions.registry.connected(), 2);
    house.leave().await;
}

#[tokio::test]
async fn an_acknowledgement_that_nobody_waits_for_changes_nothing() {
    let (_place, house) = stopped(Limits::default()).await;
    let mut weir = Raw::named(&house, "weir").await;
    weir.say(&Packet::PubAck(Acknowledgement::success(PacketId::MIN))).await;
    weir.say(&Packet::PubRec(Acknowledgement::success(PacketId::MIN))).await;
    let answer = weir.hear().await;
    let unknown = |answer: &Acknowledgement| answer.reason == ReasonCode::PacketIdentifierNotFound;
    assert!(matches!(&answer, Some(Packet::PubRel(answer)) if unknown(answer)), "{answer:?}");
    weir.is_next_answered("it is read").await;
    house.leave().await;
}

/// The packet identifier and payload of the next message.
async fn numbered(raw: &mut Raw) -> (PacketId, String) {
    match raw.hear().await {
        Some(Packet::Publish(message)) => {
            (message.packet_id.unwrap(), String::from_utf8_lossy(&message.payload).into_owned())
        }
        other => panic!("not a message: {other:?}"),
    }
}

#[tokio::test]
async fn no_more_is_in_flight_than_the_client_takes_and_nothing_is_sent_twice() {
    let (_place, house) = stopped(Limits::default()).await;
    let mut asked = connect(V5, "desk", 0);
    asked.properties.receive_maximum = NonZeroU16::new(2);
    let mut desk = Raw::open(&house, PIPE, asked).await;
    desk.subscribe("harrowmere/#", QoS::AtLeastOnce).await;
    let mut weir = Raw::named(&house, "weir").await;
    for number in 1..=5u16 {
        let message = Publish::new(LEVEL.parse().unwrap(), number.to_string(), QoS::AtLeastOnce);
        weir.say(&Packet::Publish(Publish { packet_id: PacketId::new(number), ..message })).await;
        assert!(matches!(weir.hear().await, Some(Packet::PubAck(ack)) if !ack.reason.is_error()));
    }
    let first = numbered(&mut desk).await;
    let second = numbered(&mut desk).await;
    assert_eq!((first.1.as_str(), second.1.as_str()), ("1", "2"));
    // A message that is not acknowledged is sent again on another connection only (§4.4), however long it takes.
    sleep(Duration::from_secs(600)).await;
    desk.is_next_answered("nothing came in ten minutes").await;
    // Each acknowledgement makes room for one, whichever it is of.
    desk.say(&Packet::PubAck(Acknowledgement::success(second.0))).await;
    assert_eq!(numbered(&mut desk).await.1, "3");
    desk.say(&Packet::PubAck(Acknowledgement::success(first.0))).await;
    assert_eq!(numbered(&mut desk).await.1, "4");
    desk.is_next_answered("two are in flight again").await;
    house.leave().await;
}

#[tokio::test]
async fn a_message_at_qos_2_waits_at_each_step_for_its_client() {
    let (_place, house) = stopped(Limits::default()).await;
    let mut desk = Raw::named(&house, "desk").await;
    desk.subscribe("harrowmere/#", QoS::ExactlyOnce).await;
    let mut weir = Raw::named(&house, "weir").await;
    let message = Publish::new(LEVEL.parse().unwrap(), "1.83", QoS::ExactlyOnce);
    let message = Publish { packet_id: PacketId::new(7), ..message };
    weir.say(&Packet::Publish(message.clone())).await;
    assert!(matches!(weir.hear().await, Some(Packet::PubRec(ack)) if !ack.reason.is_error()));
    sleep(Duration::from_secs(60)).await;
    // Once more under its identifier, it is the same message and comes to nobody twice.
    weir.say(&Packet::Publish(Publish { duplicate: true, ..message })).await;
    assert!(matches!(weir.hear().await, Some(Packet::PubRec(_))));
    let seven = Acknowledgement::success(PacketId::new(7).unwrap());
    weir.say(&Packet::PubRel(seven.clone())).await;
    assert!(matches!(weir.hear().await, Some(Packet::PubComp(_))));

    let (id, payload) = numbered(&mut desk).await;
    assert_eq!(payload, "1.83");
    sleep(Duration::from_secs(60)).await;
    desk.say(&Packet::PubRec(Acknowledgement::success(id))).await;
    assert!(matches!(desk.hear().await, Some(Packet::PubRel(ack)) if ack.packet_id == id));
    sleep(Duration::from_secs(60)).await;
    desk.say(&Packet::PubComp(Acknowledgement::success(id))).await;
    desk.is_next_answered("one message, once").await;
    house.leave().await;
}

#[tokio::test]
async fn who_goes_without_a_word_has_its_will_published_and_who_says_goodbye_has_not() {
    let (_place, house) = stopped(Limits::default()).await;
    let mut desk = Raw::named(&house, "desk").await;
    desk.subscribe("harrowmere/#", QoS::AtMostOnce).await;
    let with_will = |payload: &'static str| {
        let will = Will::new(LEVEL.parse().unwrap(), payload, QoS::AtMostOnce, false);
        Connect { will: Some(will), ..connect(V5, "weir", 0) }
    };
    let goodbye = |reason| Packet::Disconnect(Disconnect { reason, ..Disconnect::normal() });
    for (payload, farewell, is_published) in [
        ("cut", None, true),
        ("goodbye", Some(ReasonCode::Success), false),
        ("with will", Some(ReasonCode::DisconnectWithWill), true),
        ("in error", Some(ReasonCode::Unspecified), true),
    ] {
        let mut weir = Raw::open(&house, PIPE, with_will(payload)).await;
        match farewell {
            Some(reason) => weir.say(&goodbye(reason)).await,
            None => drop(weir),
        }
        // What is published after it comes after it.
        sleep(Duration::from_secs(1)).await;
        let mut other = Raw::named(&house, "other").await;
        other.publish("after", None).await;
        if is_published {
            assert_eq!(desk.message().await, payload);
        }
        assert_eq!(desk.message().await, "after", "{payload}");
        other.say(&goodbye(ReasonCode::Success)).await;
        assert!(other.hear().await.is_none());
    }
    house.leave().await;
}

#[tokio::test]
async fn who_is_refused_all_the_time_is_read_less_often_and_told_each_time() {
    let (_place, house) = stopped(Limits { refusals_per_second: 10, topic_levels: 4, ..Limits::default() }).await;
    let mut noisy = Raw::named(&house, "noisy").await;
    let began = Instant::now();
    // Each is refused: it has more levels than may be.
    for number in 1..=40u16 {
        let message = Publish::new("a/b/c/d/e/f".parse().unwrap(), "1", QoS::AtLeastOnce);
        noisy.say(&Packet::Publish(Publish { packet_id: PacketId::new(number), ..message })).await;
    }
    for number in 1..=40u16 {
        match noisy.hear().await {
            Some(Packet::PubAck(ack)) => {
                assert_eq!((ack.packet_id, ack.reason), (PacketId::new(number).unwrap(), ReasonCode::TopicNameInvalid));
            }
            other => panic!("{number}: {other:?}"),
        }
    }
    let took = began.elapsed();
    assert!(took > Duration::from_secs(1), "ten a second, forty of them took {took:?}");
    // Nobody else waits for it.
    let mut desk = Raw::named(&house, "desk").await;
    let began = Instant::now();
    desk.is_next_answered("it is read").await;
    assert_took(began, Duration::ZERO);
    assert_eq!(house.broker.live.counters.read().totals().refused, 40);
    house.leave().await;
}
