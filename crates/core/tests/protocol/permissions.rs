//! What a client may do while it is connected: limits of rules, the plan, and changes of both.

use std::sync::Arc;

use bytes::{Buf, BytesMut};
use moorfall_core::{
    Identity, Limits, SessionKey, Time,
    access::{Access, Act, Policy},
    blueprint::Blueprint,
    plan::Breach,
    session::{Action, Cause, Refusal, Session, Verdict},
};
use moorfall_wire::{
    Connect, Frame, MAX_PACKET_SIZE, Packet, PacketId, ProtocolVersion, Publish, QoS, ReasonCode, Subscribe,
    SubscribeProperties, Subscription, SubscriptionOptions,
};

const RULES: &str = r##"
name = "harrowmere"
[levels.gate]
one-of = ["gate-1", "gate-2"]
[[topics]]
path = "harrowmere/{gate}"
payload = "number"
[[topics]]
path = "harrowmere/log"
payload = "text"
retained = "never"
on-breach = "refuse"
[[rules]]
name = "moves-gates"
who = "everyone"
may = ["publish"]
topics = ["harrowmere/{gate}"]
rate = "2/m"
[[rules]]
name = "writes"
who = "everyone"
may = ["publish", "subscribe"]
topics = ["harrowmere/log", "harrowmere/notes/#"]
"##;

fn access(rules: &str) -> Access {
    let blueprint = Blueprint::parse(rules).unwrap_or_else(|findings| panic!("{}", findings[0]));
    let policy = Arc::new(Policy::new(Arc::new(blueprint)));
    policy.bind(&Identity { name: "desk".into(), attributes: Default::default() }, "desk").unwrap()
}

fn at(seconds: u64) -> Time {
    Time::from_micros(1_000_000_000 + seconds * 1_000_000)
}

/// A client that is accepted under these rules.
fn open(rules: &str) -> Session {
    let mut session = Session::new(Arc::new(Limits::default()), "spare", at(0));
    let connect = Connect { keep_alive: 0, ..Connect::new(ProtocolVersion::V5, "desk") };
    session.handle_packet(at(0), Packet::Connect(Box::new(connect)));
    while let Some(action) = session.poll_action() {
        match action {
            Action::Authenticate(_) => session.handle_verdict(Verdict::Known(access(rules))),
            Action::Admit { .. } => session.handle_admitted(at(0), SessionKey(1), None),
            other => panic!("{other:?}"),
        }
    }
    sent(&mut session);
    session
}

fn sent(session: &mut Session) -> Vec<Packet> {
    let count = session.outgoing().remaining();
    let mut bytes = BytesMut::from(&session.outgoing().copy_to_bytes(count)[..]);
    std::iter::from_fn(|| Frame::split(&mut bytes, MAX_PACKET_SIZE).unwrap())
        .map(|frame| Packet::decode(frame, ProtocolVersion::V5).unwrap())
        .collect()
}

/// What a message is answered; success means that it was to be routed.
fn publish(session: &mut Session, now: Time, topic: &str, payload: &str) -> ReasonCode {
    let message = Publish::new(topic.parse().unwrap(), payload.to_owned(), QoS::AtLeastOnce);
    session.handle_packet(now, Packet::Publish(Publish { packet_id: Some(PacketId::MIN), ..message }));
    while let Some(action) = session.poll_action() {
        if let Action::Route { packet_id: Some(id), .. } = action {
            session.handle_routed(QoS::AtLeastOnce, id, moorfall_core::session::Routed::To(1));
        }
    }
    match sent(session).remove(0) {
        Packet::PubAck(ack) => ack.reason,
        other => panic!("{other:?}"),
    }
}

#[test]
fn a_rate_gives_back_with_time_what_it_took() {
    let mut session = open(RULES);
    let mut move_gate = |second, gate: &str| publish(&mut session, at(second), &format!("harrowmere/{gate}"), "40");
    assert_eq!(move_gate(0, "gate-1"), ReasonCode::Success);
    assert_eq!(move_gate(0, "gate-2"), ReasonCode::Success);
    assert_eq!(move_gate(1, "gate-1"), ReasonCode::QuotaExceeded, "the rate is the rule's, not the topic's");
    assert_eq!(move_gate(29, "gate-1"), ReasonCode::QuotaExceeded);
    assert_eq!(move_gate(31, "gate-1"), ReasonCode::Success, "one in half a minute");
    assert_eq!(move_gate(32, "gate-1"), ReasonCode::QuotaExceeded);
    // However long it waits, never more than two at once.
    let results: Vec<_> = (0..4).map(|_| move_gate(3_600, "gate-2")).collect();
    assert_eq!(results.iter().filter(|reason| **reason == ReasonCode::Success).count(), 2);
}

#[test]
fn what_breaks_the_plan_is_gathered_by_topic_and_kind() {
    let mut session = open(RULES);
    assert_eq!(publish(&mut session, at(0), "harrowmere/gate-1", "wide"), ReasonCode::Success, "only counted");
    for _ in 0..3 {
        assert_eq!(publish(&mut session, at(0), "harrowmere/notes/today", "rain"), ReasonCode::Success);
    }
    let message = Publish::new("harrowmere/log".parse().unwrap(), vec![0xff], QoS::AtMostOnce);
    session.handle_packet(at(0), Packet::Publish(message));
    assert!(
        matches!(session.poll_action(), Some(Action::Refused(refusal)) if refusal.to_string().contains("not text from \
                                                                                                        byte 0 on"))
    );
    let mut drift = session.take_drift();
    drift.sort_by(|one, other| one.topic.cmp(&other.topic));
    let told: Vec<_> = drift.iter().map(|one| (&*one.topic, one.fault.breach(), one.count, one.refused)).collect();
    assert_eq!(
        told,
        [
            ("harrowmere/gate-1", Breach::Payload, 1, 0),
            ("harrowmere/log", Breach::Payload, 1, 1),
            ("harrowmere/notes/today", Breach::Unplanned, 3, 0),
        ]
    );
    assert_eq!(&drift[2].sample[..], b"rain");
    assert!(session.take_drift().is_empty());
}

#[test]
fn changed_rules_hold_for_the_next_message_and_lower_what_is_granted() {
    let mut session = open(RULES);
    let options = SubscriptionOptions { qos: QoS::ExactlyOnce, ..SubscriptionOptions::default() };
    let subscriptions = vec![Subscription { filter: "harrowmere/notes/#".parse().unwrap(), options }];
    let subscribe = Subscribe { packet_id: PacketId::MIN, properties: SubscribeProperties::default(), subscriptions };
    session.handle_packet(at(0), Packet::Subscribe(subscribe));
    assert!(matches!(session.poll_action(), Some(Action::Subscribe { .. })));
    assert!(matches!(&sent(&mut session)[..], [Packet::SubAck(ack)] if ack.reasons == [ReasonCode::GrantedQoS2]));
    assert_eq!(publish(&mut session, at(0), "harrowmere/notes/a", "x"), ReasonCode::Success);

    let lower = RULES.replace(
        "topics = [\"harrowmere/log\", \"harrowmere/notes/#\"]",
        "topics = [\"harrowmere/log\", \"harrowmere/notes/#\"]\nhighest-qos = 0",
    );
    session.change_access(at(1), access(&lower));
    let Some(Action::Subscribe { granted, send_retained, .. }) = session.poll_action() else { panic!("not lowered") };
    assert_eq!((granted.options.qos, send_retained), (QoS::AtMostOnce, false));
    assert_eq!(
        publish(&mut session, at(1), "harrowmere/notes/a", "x"),
        ReasonCode::NotAuthorized,
        "what was known is forgotten"
    );

    session.change_access(at(2), access(&RULES.replace("harrowmere/notes/#", "harrowmere/notes/+")));
    assert!(session.is_closed(), "a subscription is lost");
    let Some(Packet::Disconnect(goodbye)) = sent(&mut session).pop() else { panic!("not told") };
    assert_eq!(goodbye.reason, ReasonCode::NotAuthorized);
    // What is parked keeps no subscription that it may not have.
    let mut parting = session.part().unwrap();
    let lost = parting.state.withdraw(&access("name = \"empty\""));
    assert_eq!(lost.iter().map(ToString::to_string).collect::<Vec<_>>(), ["harrowmere/notes/#"]);
    assert_eq!(parting.state.subscriptions().count(), 0);
}

/// Subscribes to many filters at once; gives the answer, and what was refused.
fn subscribe_to(session: &mut Session, now: Time, filters: usize) -> (Vec<ReasonCode>, Vec<Refusal>) {
    let filter = |number| Subscription {
        filter: format!("secret/{number}").parse().unwrap(),
        options: SubscriptionOptions::default(),
    };
    session.handle_packet(
        now,
        Packet::Subscribe(Subscribe {
            packet_id: PacketId::MIN,
            properties: SubscribeProperties::default(),
            subscriptions: (0..filters).map(filter).collect(),
        }),
    );
    let mut refused = Vec::new();
    while let Some(action) = session.poll_action() {
        if let Action::Refused(refusal) = action {
            refused.push(*refusal);
        }
    }
    match sent(session).remove(0) {
        Packet::SubAck(ack) => (ack.reasons, refused),
        other => panic!("{other:?}"),
    }
}

#[test]
fn many_refused_filters_are_one_sentence_and_more_than_may_be_are_not_looked_at() {
    let mut session = open(RULES);
    let (reasons, refused) = subscribe_to(&mut session, at(0), 60);
    assert_eq!(reasons, [ReasonCode::NotAuthorized; 60]);
    let [refusal] = &refused[..] else { panic!("{refused:?}") };
    assert_eq!((refusal.count, refusal.reason.cause(), refusal.act), (60, Cause::NoRule, Act::Subscribe));
    assert_eq!(&*refusal.topic, "secret/0");
    assert!(refusal.to_string().contains("is not allowed to subscribe to secret/0"), "{refusal}");
    let (reasons, refused) = subscribe_to(&mut session, at(60), 1_001);
    assert_eq!(reasons, [ReasonCode::QuotaExceeded; 1_001]);
    assert!(
        refused[0].to_string().contains("asked for 1,001 subscriptions at once") && refused[0].count == 1_001,
        "{refused:?}"
    );
}

#[test]
fn a_large_subscribe_is_gone_through_in_slices() {
    let mut session = open(RULES);
    let filter = |number: usize| Subscription {
        filter: if number == 500 { "harrowmere/log".into() } else { format!("secret/{number}") }.parse().unwrap(),
        options: SubscriptionOptions::default(),
    };
    session.handle_packet(
        at(0),
        Packet::Subscribe(Subscribe {
            packet_id: PacketId::MIN,
            properties: SubscribeProperties::default(),
            subscriptions: (0..1_000).map(filter).collect(),
        }),
    );
    assert!(session.has_actions() && !session.wants_packets(), "nothing overtakes it");
    assert!(matches!(session.poll_action(), Some(Action::Subscribe { .. })));
    assert!(sent(&mut session).is_empty(), "the rest was not looked at yet");
    while session.poll_action().is_some() {}
    assert_eq!(sent(&mut session).len(), 1);
}

#[test]
fn whoever_is_refused_too_often_is_slowed_down_and_then_told_to_go() {
    let mut session = open(RULES);
    let mut now = at(0);
    let mut held = 0;
    while session.is_open() {
        let Some(()) = session.wants_packets().then_some(()) else {
            // Nothing is read until then, and silence is not the client's fault.
            now = session.poll_timeout().unwrap();
            session.handle_timeout(now);
            assert!(session.wants_packets());
            held += 1;
            continue;
        };
        let message = Publish::new("secret/x".parse().unwrap(), "1", QoS::AtMostOnce);
        session.handle_packet(now, Packet::Publish(message));
        while session.poll_action().is_some() {}
    }
    assert_eq!(held, 10);
    let packets = sent(&mut session);
    let Some(Packet::Disconnect(disconnect)) = packets.last() else { panic!("{packets:?}") };
    assert_eq!(disconnect.reason, ReasonCode::QuotaExceeded);
    let words = disconnect.properties.reason_string.as_ref().unwrap();
    assert!(words.contains("More than 50 attempts per second have been refused"), "{words}");
}

#[test]
fn a_sentence_holds_no_whole_long_topic() {
    let mut session = open(RULES);
    let long = format!("secret/{}", "x".repeat(4_000));
    let message = Publish::new(long.parse().unwrap(), "1", QoS::AtMostOnce);
    session.handle_packet(at(0), Packet::Publish(message));
    let Some(Action::Refused(refusal)) = session.poll_action() else { panic!("it is refused") };
    let words = refusal.to_string().len();
    assert!(words < 700 && refusal.topic.len() < 300, "{words}");
}
