//! Statements about the rules.

use moorfall_core::blueprint::prove;

use super::{CATCHMENT, policy, population};

/// Whether this one proof holds in the catchment, and what is said.
fn proof(text: &str) -> (bool, String) {
    let rules = CATCHMENT.split("[[proofs]]").next().unwrap();
    let policy = policy(&format!("{rules}[[proofs]]\nname = \"p\"\n{text}"));
    let result = prove(&policy, &population()).remove(0);
    (result.holds, result.words)
}

#[test]
fn what_holds_is_proved() {
    let results = prove(&policy(CATCHMENT), &population());
    let told: Vec<_> = results.iter().map(|result| (&*result.name, result.holds, result.identities)).collect();
    assert_eq!(
        told,
        [
            ("the-desk-reads-levels", true, 1),
            ("the-gorge-ends-somewhere", true, 2),
            ("stations-leave-each-other-alone", true, 3)
        ]
    );
    assert_eq!(
        results[2].statement,
        "cohort stations cannot publish harrowmere/{reach}/elsewhere/#, harrowmere/{reach}/{station}/gate/#"
    );
    assert!(results[0].line > 60, "{}", results[0].line);
}

#[test]
fn what_does_not_hold_is_refuted_by_an_example() {
    for (text, words) in [
        (
            "who = { cohort = \"stations\" }\ncannot = \"publish\"\ntopics = [\"harrowmere/+/nine-arches/#\"]",
            "nine-arches can publish harrowmere/gorge/nine-arches/stage/level: rule `stations-report` allows it",
        ),
        (
            "who = { identity = \"duty-desk\" }\ncan = \"subscribe\"\ntopics = [\"harrowmere/gorge/#\"]",
            "duty-desk cannot subscribe harrowmere/gorge/anything/pump-2: rule `nobody-reads-the-contractor` denies it",
        ),
        (
            "who = { identity = \"duty-desk\" }\ncan = \"publish\"\nqos = 2\ntopics = [\"harrowmere/{reach}/{station}/gate/target\"]",
            "duty-desk cannot publish harrowmere/gorge/{station}/gate/target: no rule allows it",
        ),
        (
            "who = { identity = \"nobody\" }\ncannot = \"publish\"\ntopics = [\"#\"]",
            "there is no identity nobody; make it, or give its attributes in the proof: who = { identity = \"nobody\", attributes = { … } }",
        ),
        (
            "who = \"everyone\"\ncannot = \"subscribe\"\ntopics = [\"harrowmere/meadows/+/pump-1/#\"]",
            "contractor-pumps can subscribe harrowmere/meadows/{station}/pump-1/power: rule `pumps-are-the-contractor-s` allows it",
        ),
    ] {
        assert_eq!(proof(text), (false, words.into()), "{text}");
    }
}

#[test]
fn the_denied_part_of_what_is_allowed_is_not_allowed() {
    let text = "who = { identity = \"duty-desk\" }\ncannot = \"subscribe\"\ntopics = [\"harrowmere/+/+/pump-2/#\"]";
    assert_eq!(proof(text), (true, String::new()));
}

#[test]
fn an_identity_that_does_not_exist_can_be_spoken_of() {
    let who = "who = { identity = \"new-weir\", attributes = { kind = \"station\", reach = \"tidal\" } }";
    assert!(proof(&format!("{who}\ncan = \"publish\"\ntopics = [\"harrowmere/tidal/{{identity}}/status\"]")).0);
    assert!(proof(&format!("{who}\ncannot = \"publish\"\ntopics = [\"harrowmere/gorge/#\"]")).0);
    assert!(!proof(&format!("{who}\ncannot = \"publish\"\ntopics = [\"harrowmere/tidal/#\"]")).0);
    let (holds, words) =
        proof("who = { cohort = \"gorge-stations\" }\ncan = \"publish\"\ntopics = [\"harrowmere/{attr.basin}/x\"]");
    assert_eq!((holds, &*words), (false, "kettle-weir lacks an attribute in `harrowmere/{attr.basin}/x`"));
}
