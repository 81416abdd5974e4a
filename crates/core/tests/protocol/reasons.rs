//! Why something ends or is refused: every reason has its code of the standard, and a sentence that is one.

use std::{fmt::Display, sync::Arc, time::Duration};

use moorfall_core::{
    access::{Act, BindError},
    blueprint::Rate,
    names::NameFault,
    session::{Cause, ConditionFault, Ended, NoEntry, NotAccepted, Reason, Refusal, Violation},
};
use moorfall_wire::{DecodeError, PacketId, PacketType, ReasonCode};

/// Whether words are sentences: with a capital or a name at the beginning, an end, and no gap in between.
fn assert_is_sentence(what: &dyn Display) {
    let text = what.to_string();
    assert!(text.ends_with('.'), "no end: {text}");
    assert!(!text.contains("  ") && !text.contains("..") && !text.contains(" ."), "a gap: {text}");
    assert!(!text.contains("{ ") && !text.contains("Some(") && !text.contains("None"), "a value of a program: {text}");
    assert_eq!(text, text.trim(), "blanks around it");
    assert!(text.chars().count() < 400, "too long: {text}");
}

fn unfit() -> BindError {
    BindError { rule: "stations-report".into(), name: "{attr.reach}".into(), character: '/' }
}

fn refusal(reason: Reason, act: Act) -> Refusal {
    reason.refusal(&Arc::from("kettle-weir"), act, "harrowmere/gorge/kettle-weir/stage/level", None)
}

#[test]
fn every_end_has_a_code_and_a_sentence() {
    let attempt = || Box::new(refusal(Reason::NoEntry(NoEntry::Disabled), Act::Publish));
    for (ended, code, is_failure) in [
        (Ended::ByClient(ReasonCode::Success), 0x00, false),
        (Ended::ByClient(ReasonCode::DisconnectWithWill), 0x04, false),
        (Ended::ByClient(ReasonCode::Unspecified), 0x80, true),
        (Ended::Closed, 0x80, true),
        (Ended::Broken("connection reset".into()), 0x80, true),
        (Ended::NoConnect, 0x80, true),
        (Ended::KeepAlive(Duration::from_secs(45)), 0x8D, true),
        (Ended::Violation(Violation::FirstPacket(PacketType::PingReq)), 0x82, true),
        (Ended::NotAccepted(NotAccepted::WrongCredentials), 0x86, true),
        (Ended::TakenOver, 0x8E, true),
        (Ended::GivenToAnother, 0x8E, true),
        (Ended::ByOperator(ReasonCode::AdministrativeAction), 0x98, true),
        (Ended::ByOperator(ReasonCode::ServerBusy), 0x89, true),
        (Ended::Banned, 0x98, true),
        (Ended::Stopping, 0x8B, true),
        (Ended::IdentityChanged, 0x98, true),
        (Ended::IdentityRemoved, 0x98, true),
        (Ended::NoEntry(NoEntry::Disabled), 0x87, true),
        (Ended::NoEntry(NoEntry::Unfit(unfit())), 0x87, true),
        (Ended::TokenOver, 0x87, true),
        (Ended::CertificateExpired, 0x87, true),
        (Ended::AuthorityRemoved, 0x87, true),
        (Ended::CredentialsOver, 0x87, true),
        (Ended::QueueFull, 0x97, true),
        (Ended::SubscriptionLost(attempt()), 0x87, true),
        (Ended::RefusedTooOften(50, attempt()), 0x97, true),
    ] {
        assert_eq!((ended.code() as u8, ended.is_failure()), (code, is_failure), "{ended:?}");
        assert_is_sentence(&ended);
    }
    assert!(Ended::KeepAlive(Duration::from_millis(1_500)).to_string().contains("1.5 s"));
}

#[test]
fn every_violation_has_a_code_and_a_sentence() {
    for (violation, code) in [
        (Violation::FirstPacket(PacketType::Publish), 0x82),
        (Violation::Packet(PacketType::Connect), 0x82),
        (Violation::Acknowledgement(PacketType::PubComp, PacketId::MIN), 0x82),
        (Violation::SubscriptionIdentifier, 0x82),
        (Violation::TopicAliasTooHigh(32), 0x94),
        (Violation::TopicAliasUnknown, 0x82),
        (Violation::ReceiveMaximum(1_024), 0x93),
        (Violation::SessionExpiry, 0x82),
        (Violation::ServerReference, 0x82),
        (Violation::Decode(DecodeError::NoTopic), 0x82),
        (Violation::Decode(DecodeError::TooLarge { size: 2_000_000, limit: 1_048_576 }), 0x95),
    ] {
        assert_eq!(violation.code() as u8, code, "{violation:?}");
        assert_is_sentence(&violation);
    }
    let many = Violation::ReceiveMaximum(1_024).to_string();
    assert!(many.contains("1,024"), "numbers are written as people write them: {many}");
}

#[test]
fn every_refused_connection_has_a_code_and_a_sentence() {
    let will = || Box::new(refusal(Reason::TopicLevels { levels: 200, most: 128 }, Act::Publish));
    let none = |why| NotAccepted::NoEntry { identity: "kettle-weir".into(), why };
    for (why, code) in [
        (NotAccepted::Malformed(DecodeError::ProtocolVersion { level: 3 }), 0x84),
        (NotAccepted::Malformed(DecodeError::ProtocolName), 0x84),
        (NotAccepted::AuthenticationMethod("SCRAM".into()), 0x8C),
        (NotAccepted::NoClientId, 0x85),
        (NotAccepted::ClientIdTooLong(70_000, 256), 0x85),
        (NotAccepted::ClientIdControl, 0x85),
        (NotAccepted::ClientIdInvalid("weir ".into(), NameFault::Space), 0x85),
        (NotAccepted::ClientIdInvalid("we\u{200B}ir".into(), NameFault::Invisible), 0x85),
        (NotAccepted::ClientIdInUse("weir".into()), 0x87),
        (NotAccepted::ClientIdReserved("weir".into()), 0x85),
        (NotAccepted::ClientIdOther { identity: "kettle-weir".into(), tied: "gate-1".into() }, 0x85),
        (NotAccepted::Will(will()), 0x90),
        (NotAccepted::NoUserName, 0x86),
        (NotAccepted::WrongCredentials, 0x86),
        (NotAccepted::SignInsWaiting(1_000), 0x9F),
        (NotAccepted::Anonymous, 0x87),
        (NotAccepted::UnknownCertificate(["subject:CN=weir".to_owned()].into()), 0x87),
        (NotAccepted::AmbiguousCertificate("kettle-weir".into(), "barrier".into()), 0x87),
        (none(NoEntry::Unknown), 0x86),
        (none(NoEntry::Disabled), 0x87),
        (none(NoEntry::Unfit(unfit())), 0x87),
        (NotAccepted::Sessions(200_000), 0x97),
        (NotAccepted::SessionsOfIdentity(10_000), 0x97),
        (NotAccepted::Connections(10_000), 0x97),
        (NotAccepted::ConnectRate(500), 0x9F),
        (NotAccepted::Connecting(1_000), 0x97),
        (NotAccepted::ConnectingBytes, 0x97),
    ] {
        assert_eq!(why.code() as u8, code, "{why:?}");
        assert_is_sentence(&why);
    }
    // What is refused by a limit says how large it is, as people write numbers.
    assert!(NotAccepted::Sessions(200_000).to_string().contains("200,000"));
    // A stranger learns nothing about who exists.
    let wrong = NotAccepted::WrongCredentials.to_string();
    assert!(wrong.contains("user name or the password"), "{wrong}");
}

#[test]
fn every_refused_attempt_has_a_code_a_cause_and_a_sentence() {
    let rate = Rate { messages: 10, every: Duration::from_secs(60) };
    for (reason, act, code, cause) in [
        (Reason::Rate { rule: "desk".into(), rate }, Act::Publish, 0x97, "rate of rule desk exceeded"),
        (Reason::NoEntry(NoEntry::Unknown), Act::Publish, 0x87, "identity can no longer connect"),
        (Reason::TopicLevels { levels: 200, most: 128 }, Act::Publish, 0x90, "limit topic-levels"),
        (Reason::TopicLevels { levels: 200, most: 128 }, Act::Subscribe, 0x8F, "limit topic-levels"),
        (Reason::TopicBytes { bytes: 9_000, most: 4_096 }, Act::Publish, 0x90, "limit topic-bytes"),
        (Reason::TopicBytes { bytes: 9_000, most: 4_096 }, Act::Subscribe, 0x8F, "limit topic-bytes"),
        (Reason::Subscriptions { most: 1_000, asked: None }, Act::Subscribe, 0x97, "limit subscriptions"),
        (Reason::Subscriptions { most: 1_000, asked: Some(2_000) }, Act::Subscribe, 0x97, "limit subscriptions"),
        (Reason::SubscriptionBytes, Act::Subscribe, 0x97, "limit subscription-bytes-per-identity"),
        (Reason::Conditions, Act::Subscribe, 0x97, "limit conditions-per-identity"),
        (Reason::Condition(ConditionFault::Several), Act::Subscribe, 0x83, "invalid condition"),
        (Reason::NotText { at: 3 }, Act::Publish, 0x99, "payload is not UTF-8 text"),
    ] {
        let refused = refusal(reason, act);
        assert_eq!(refused.reason.code(act) as u8, code, "{refused:?}");
        assert_eq!(refused.reason.cause().to_string(), cause);
        assert_is_sentence(&refused);
    }
    let filter = "a/#/b".parse::<moorfall_wire::TopicFilter>().unwrap_err();
    let refused = refusal(Reason::Filter(filter), Act::Subscribe);
    assert_eq!(
        (refused.reason.code(Act::Subscribe), refused.reason.cause()),
        (ReasonCode::TopicFilterInvalid, Cause::Filter)
    );
    assert_is_sentence(&refused);

    // Of a will it is said that it was one; what is remembered holds no message.
    let will = Refusal { is_will: true, ..refusal(Reason::NotText { at: 3 }, Act::Publish) };
    assert!(will.to_string().starts_with("The Will Message was refused. "), "{will}");
    assert!(will.remembered().message.is_none());
    // A long topic is told by its beginning.
    let long = Reason::SubscriptionBytes.refusal(&Arc::from("desk"), Act::Subscribe, &"gorge/".repeat(2_000), None);
    assert!(long.topic.len() < 1_000, "{}", long.topic.len());
}
