//! The sessions of a broker among themselves: in process, without sockets, a database or a clock that has to pass.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

use std::{
    collections::VecDeque,
    pin::pin,
    sync::Arc,
    task::{Context, Poll, Waker},
};

use moorfall_broker::{
    clock::Clock,
    judge::{Judge, Rights},
    sessions::{
        Sessions,
        dispatch::{AnswerDue, By},
        journal::Promise,
        record::{Link, LinkOrigin, Place, SessionRecord, SignedInBy},
        registry::Newcomer,
    },
};
use moorfall_core::{
    Delivery, Granted, Limits, Message, Queued, Quota, SessionKey,
    session::{DelayedWill, Ended, Keep, NoEntry, NotAccepted, Parting, Routed, SessionState},
};
use moorfall_live::Live;
use moorfall_store::LastUsed;
use moorfall_wire::{PacketId, ProtocolVersion, PublishProperties, QoS, SubscriptionOptions, TopicFilter};

const LEVEL: &str = "harrowmere/gorge/kettle-weir/stage/level";

/// Everybody may do everything, but hold only so many sessions.
#[derive(Debug)]
struct Lenient;

impl Judge for Lenient {
    fn rights(&self, _identity: &str, _client_id: &str) -> Rights {
        Rights::Unlimited
    }

    fn quota(&self, _identity: &str) -> Quota {
        Quota { sessions: 2, ..Quota::from(&Limits::default()) }
    }

    fn no_entry(&self, identity: &str) -> Option<NoEntry> {
        (identity == "disabled").then_some(NoEntry::Disabled)
    }

    fn is_tied(&self, client_id: &str, identity: &str) -> Option<bool> {
        (client_id == "tied").then_some(identity == "weir")
    }
}

fn sessions() -> Sessions {
    let limits = Arc::new(Limits { sessions: 4, ..Limits::default() });
    let last = LastUsed { key: 0, number: 0 };
    Sessions::new(limits, Clock::start(), Arc::new(Live::new(1 << 20)), Arc::new(Lenient), last)
}

fn newcomer(client_id: &str, identity: &str, expiry: u32) -> Newcomer {
    let origin = LinkOrigin {
        address: ([127, 0, 0, 1], 1).into(),
        listener: "mqtt".into(),
        certificate: None,
        tls: None,
        trusts_given: false,
    };
    Newcomer {
        client_id: client_id.into(),
        identity: identity.into(),
        clean_start: false,
        expiry,
        limits: Arc::default(),
        link: Arc::new(Link::new(origin, ProtocolVersion::V5, SignedInBy::Password)),
    }
}

/// What is ready without anybody's doing more.
fn now<T>(future: impl Future<Output = T>) -> T {
    match pin!(future).poll(&mut Context::from_waker(Waker::noop())) {
        Poll::Ready(done) => done,
        Poll::Pending => panic!("it waits"),
    }
}

fn admit(sessions: &Sessions, client_id: &str, identity: &str, expiry: u32) -> Arc<SessionRecord> {
    now(sessions.admit(&newcomer(client_id, identity, expiry))).unwrap().0
}

fn part(sessions: &Sessions, record: &Arc<SessionRecord>, expiry: u32, will: Option<DelayedWill>) {
    let parting = Parting { expiry, state: SessionState::default(), will };
    sessions.part(record, parting, VecDeque::new(), None);
}

fn subscribe(sessions: &Sessions, record: &Arc<SessionRecord>, filter: &str, qos: QoS) {
    let options = SubscriptionOptions { qos, ..SubscriptionOptions::default() };
    let filter: TopicFilter = filter.parse().unwrap();
    let granted = Granted { options, identifier: None, condition: None };
    sessions.router.subscribe(record.key, &filter, moorfall_core::router::Subscriber::new(granted, Arc::clone(record)));
}

fn message(qos: QoS, retain: bool) -> Arc<Message> {
    let (topic, properties) = (LEVEL.parse().unwrap(), PublishProperties::default());
    Arc::new(Message::new(topic, "1.83".into(), qos, retain, properties, SessionKey(99), Clock::start().now()))
}

/// Publishes as a client does that waits for its answer.
fn publish(
    sessions: &Sessions,
    publisher: &Arc<SessionRecord>,
    message: &Arc<Message>,
) -> (Routed, Option<Arc<Promise>>) {
    let route = sessions.router.route(&message.topic);
    let waiting = AnswerDue { record: publisher, packet_id: PacketId::MIN };
    let by = By { identity: &publisher.identity, waiting: Some(waiting) };
    sessions.distribute(message, &route, by)
}

/// What waits for a session.
fn waiting(record: &SessionRecord) -> Vec<Delivery> {
    let mut queue = VecDeque::new();
    record.take(usize::MAX, &mut queue);
    queue.into_iter().flatten().collect()
}

#[test]
fn a_newcomer_waits_until_the_earlier_connection_is_gone_and_goes_on_with_its_session() {
    let sessions = sessions();
    let first = admit(&sessions, "weir-1", "weir", 60);
    let second = newcomer("weir-1", "weir", 60);
    let mut admitting = pin!(sessions.admit(&second));
    let mut context = Context::from_waker(Waker::noop());
    assert!(admitting.as_mut().poll(&mut context).is_pending());
    assert!(matches!(first.link().unwrap().ending().unwrap().why, Ended::TakenOver));
    assert_eq!(sessions.registry.connected(), 1);
    part(&sessions, &first, 60, None);
    let Poll::Ready(Ok((record, parked))) = admitting.as_mut().poll(&mut context) else { panic!("it still waits") };
    assert!(Arc::ptr_eq(&record, &first) && parked.is_some(), "it is the same session");
    assert_eq!((sessions.registry.connected(), sessions.registry.count()), (1, 1));
    // What did not outlive its connection is not gone on with.
    part(&sessions, &record, 0, None);
    let third = admit(&sessions, "weir-1", "weir", 0);
    assert_ne!(third.key, record.key);
}

#[test]
fn nobody_takes_the_session_of_another_but_for_what_is_tied() {
    let sessions = sessions();
    let held = admit(&sessions, "desk-1", "desk", 60);
    assert!(matches!(now(sessions.admit(&newcomer("desk-1", "weir", 60))), Err(NotAccepted::ClientIdInUse(_))));
    assert!(held.link().unwrap().ending().is_none(), "it is not disturbed");
    assert!(matches!(now(sessions.admit(&newcomer("tied", "desk", 60))), Err(NotAccepted::ClientIdReserved(_))));
    admit(&sessions, "tied", "weir", 60);
    // Two sessions an identity, four in all; the first of an identity is accepted all the same.
    admit(&sessions, "desk-2", "desk", 60);
    assert!(matches!(now(sessions.admit(&newcomer("desk-3", "desk", 60))), Err(NotAccepted::SessionsOfIdentity(2))));
    admit(&sessions, "pump-1", "pump", 60);
    assert!(matches!(now(sessions.admit(&newcomer("weir-2", "weir", 60))), Err(NotAccepted::Sessions(4))));
    admit(&sessions, "arches", "arches", 60);
    assert_eq!(sessions.registry.count(), 5);
}

#[test]
fn what_waits_for_a_session_that_is_away_is_filed_and_acknowledged_early_when_it_is_done_with() {
    let sessions = sessions();
    let (away, publisher) = (admit(&sessions, "desk", "desk", 60), admit(&sessions, "weir", "weir", 0));
    subscribe(&sessions, &away, "harrowmere/#", QoS::ExactlyOnce);
    part(&sessions, &away, 60, None);
    let backlog = sessions.journal.backlog();

    // QoS 0 is not kept for it.
    let (routed, promise) = publish(&sessions, &publisher, &message(QoS::AtMostOnce, false));
    assert_eq!((routed, promise.is_none()), (Routed::To(1), true));
    assert_eq!((away.queue().0, sessions.journal.backlog()), (0, backlog));

    let (routed, promise) = publish(&sessions, &publisher, &message(QoS::AtLeastOnce, false));
    let promise = promise.unwrap();
    assert_eq!((routed, promise.is_kept(), away.queue().0), (Routed::To(1), false, 1));
    assert_eq!(sessions.journal.backlog(), backlog + 2, "the message, and that it waits");
    let delivery = waiting(&away).remove(0);
    assert!(delivery.sequence > 0);
    sessions.journal.open().keep(away.key, Keep::Done(delivery));
    assert!(promise.is_kept(), "everybody has it: nothing has to be written first");
    assert_eq!(sessions.journal.backlog(), backlog, "and nothing is left to be written");
}

#[test]
fn what_is_promised_for_longer_is_not_kept_early() {
    let sessions = sessions();
    let (away, publisher) = (admit(&sessions, "desk", "desk", 60), admit(&sessions, "weir", "weir", 60));
    subscribe(&sessions, &away, "harrowmere/#", QoS::ExactlyOnce);
    part(&sessions, &away, 60, None);
    for (qos, retain) in [(QoS::AtLeastOnce, true), (QoS::ExactlyOnce, false), (QoS::ExactlyOnce, true)] {
        let (_, promise) = publish(&sessions, &publisher, &message(qos, retain));
        let promise = promise.unwrap();
        for delivery in waiting(&away) {
            sessions.journal.open().keep(away.key, Keep::Done(delivery));
        }
        assert!(!promise.is_kept(), "{qos} retain {retain}: it has to be written, whoever has it");
    }
    assert!(sessions.router.retained_of(&LEVEL.parse().unwrap()).is_some());
}

#[test]
fn a_will_is_published_when_the_session_ends_unless_its_identity_may_not_connect_any_more() {
    let sessions = sessions();
    let reader = admit(&sessions, "desk", "desk", 0);
    subscribe(&sessions, &reader, "harrowmere/#", QoS::AtLeastOnce);
    for (identity, wills) in [("weir", 1), ("disabled", 0)] {
        let record = admit(&sessions, identity, identity, 60);
        let will = DelayedWill { message: message(QoS::AtLeastOnce, false), delay: std::time::Duration::from_secs(30) };
        part(&sessions, &record, 60, Some(will));
        assert_eq!(reader.queue().0, 0, "it is delayed");
        sessions.finish(&record);
        assert!(matches!(&*record.place.lock(), Place::Over));
        assert_eq!(waiting(&reader).len(), wills, "{identity}");
    }
    assert_eq!(sessions.live.refusals.list().len(), 1, "it is noted who was refused");
    assert_eq!(sessions.live.counters.read().totals().refused, 1);
}

#[test]
fn the_turn_of_a_member_that_goes_away_is_another_s() {
    let sessions = sessions();
    let members = ["one", "two"].map(|name| admit(&sessions, name, name, 60));
    members.iter().for_each(|member| subscribe(&sessions, member, "$share/desks/harrowmere/#", QoS::AtLeastOnce));
    let publisher = admit(&sessions, "weir", "weir", 0);
    for _ in 0..10 {
        publish(&sessions, &publisher, &message(QoS::AtLeastOnce, false));
    }
    let counts = || [&members[0], &members[1]].map(|member| member.queue().0);
    assert_eq!(counts(), [5, 5], "by turns");
    part(&sessions, &members[0], 60, None);
    assert_eq!(counts(), [0, 10], "nothing of the group waits for who is away while another is there");
    let left = waiting(&members[1]);
    members[1].put_back(left.into_iter().map(Queued::One));
    part(&sessions, &members[1], 60, None);
    assert_eq!(counts(), [0, 10], "nobody else is there: it waits");
}

/// What the tests rely on: where locks are taken one under another, in builds like this one their order is watched,
/// so that no two tasks can ever wait for each other.
#[cfg(debug_assertions)]
#[test]
#[should_panic(expected = "cycle")]
fn locks_that_are_taken_against_their_order_are_told() {
    let sessions = sessions();
    let weir = admit(&sessions, "weir-1", "weir", 60);
    {
        let _journal = sessions.journal.open();
        let _place = weir.place.lock();
    }
    let _place = weir.place.lock();
    let _journal = sessions.journal.open();
}
