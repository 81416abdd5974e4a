//! Planned topics and what breaks the plan.

use moorfall_core::plan::Breach;
use moorfall_wire::QoS;
use proptest::prelude::*;

use super::{CATCHMENT, policy};

#[test]
fn a_topic_is_found_in_the_plan() {
    let policy = policy(CATCHMENT);
    let path = |topic| policy.plan().find(topic).map(|place| policy.plan().topics()[place].path.clone());
    assert_eq!(
        path("harrowmere/gorge/kettle-weir/stage/level").as_deref(),
        Some("harrowmere/{reach}/{station}/stage/level")
    );
    for topic in [
        "harrowmere/gorge/kettle-weir/stage",
        "harrowmere/gorge/kettle-weir/stage/level/x",
        "harrowmere/upland/kettle-weir/stage/level",
        "harrowmere/gorge/Kettle/stage/level",
        "other",
    ] {
        assert_eq!(path(topic), None, "{topic}");
    }
}

#[test]
fn of_several_paths_the_one_with_more_fixed_levels_is_meant() {
    let text = "name = \"a\"\n[levels.any]\n[[topics]]\npath = \"{any}/{any}\"\n[[topics]]\npath = \"{any}/b\"\n";
    let policy = policy(text);
    assert_eq!((policy.plan().find("a/b"), policy.plan().find("a/c")), (Some(1), Some(0)));
}

#[test]
fn what_a_message_breaks_is_said() {
    let policy = policy(CATCHMENT);
    let check = |topic: &str, qos, retain, payload: &str| {
        let place = policy.plan().find(topic).unwrap();
        policy
            .plan()
            .check(place, qos, retain, payload.as_bytes())
            .map(|broken| (broken.fault.breach(), broken.fault.to_string(), broken.refused))
    };
    let level = "harrowmere/gorge/kettle-weir/stage/level";
    let (qos0, qos1) = (QoS::AtMostOnce, QoS::AtLeastOnce);
    assert_eq!(check(level, qos1, false, r#"{"m": 1.83}"#), None);
    for (payload, words) in [
        ("1.83", "violates the schema: 1.83 is not of type"),
        ("{", "not JSON: EOF"),
        (r#"{"m": "high"}"#, "violates the schema at /m: \"high\" is not of type"),
        (r#"{"m": -2}"#, "at /m: -2 is less than"),
    ] {
        let (breach, said, refused) = check(level, qos1, false, payload).unwrap();
        assert_eq!((breach, refused), (Breach::Payload, true));
        assert!(said.contains(words), "{said}");
    }
    let (breach, words, _) = check(level, qos0, false, r#"{"m": 1}"#).unwrap();
    assert_eq!((breach, &*words), (Breach::QoS, "it has QoS 0, and QoS 1 is planned"));
    assert_eq!(check(level, qos1, true, r#"{"m": 1}"#).unwrap().0, Breach::Retention);
    let status = "harrowmere/gorge/kettle-weir/status";
    let (breach, _, refused) = check(status, qos1, false, "online").unwrap();
    assert_eq!((breach, refused), (Breach::Retention, false));
    assert_eq!(check(status, qos0, true, "online"), None);
    assert_eq!(check(status, qos0, true, ""), None, "the retained message is cleared");
    let text = "name = \"a\"\n[[topics]]\npath = \"gate/position\"\npayload = \"json\"\nretained = \"required\"\n";
    let json = super::policy(text);
    let empty = |retain| json.plan().check(0, qos0, retain, b"").map(|broken| broken.fault.breach());
    assert_eq!((empty(true), empty(false)), (None, Some(Breach::Payload)), "only what clears is of every form");
    let power = "harrowmere/meadows/withy-drain/pump-2/power";
    assert_eq!(check(power, qos0, false, " 37.5 "), None);
    assert_eq!(check(power, qos0, false, "much").unwrap().1, "the payload is not a number: \"much\"");
}

proptest! {
    /// A payload that is only to be JSON is looked through, and nothing is made of it: the two must agree but where a text
    /// is JSON by its grammar (RFC 8259) and no value can be made of it.
    #[test]
    fn what_is_json_is_known_without_making_a_value(
        text in prop_oneof![
            "[\\[\\]{}:,\"0-9.eE+ truefalsn\\\\-]{0,24}",
            "(\\[|\\{\"m\":)?(-?[0-9]{1,3}(\\.[0-9]{1,2})?(e[0-9]{1,3})?|\"[a-zß]{0,4}(\\\\n|\\\\u[0-9a-f]{4})?\"|true|null)(\\]|\\})?",
        ],
    ) {
        let plan = super::policy("name = \"a\"\n[[topics]]\npath = \"gate/position\"\npayload = \"json\"\n");
        let taken = plan.plan().check(0, QoS::AtMostOnce, false, text.as_bytes()).is_none();
        match serde_json::from_str::<serde_json::Value>(&text) {
            Ok(_) => prop_assert!(taken, "{text}"),
            Err(error) if taken => {
                let why = error.to_string();
                prop_assert!(why.contains("out of range") || why.contains("surrogate") || why.contains("hex escape"), "{text}: {why}");
            }
            Err(_) => {}
        }
    }
}

#[test]
fn what_is_not_text_is_not_json_and_deep_brackets_are_no_danger() {
    let policy = super::policy("name = \"a\"\n[[topics]]\npath = \"gate/position\"\npayload = \"json\"\n");
    let taken = |payload: &[u8]| policy.plan().check(0, QoS::AtMostOnce, false, payload).is_none();
    assert!(taken(b"{\"m\": 1.83}") && taken(b" null "));
    for wrong in [&b"\"\xff\""[..], b"{\"m\": }", b"1 2", b"", b"{\"m\": 1", b"nul"] {
        assert!(!taken(wrong), "{wrong:?}");
    }
    assert!(taken(&[vec![b'['; 100_000], vec![b']'; 100_000]].concat()));
    assert!(!taken(&vec![b'['; 100_000]));
}
