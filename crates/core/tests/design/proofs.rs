//! Statements about the rules.

use std::{collections::BTreeMap, sync::Arc};

use moorfall_core::{
    access::Request,
    blueprint::{Blueprint, Population, prove, prove_within},
};
use moorfall_wire::QoS;

use super::{CATCHMENT, identity, policy, population};

/// Whether this one proof holds in the catchment, and what is said.
fn proof(text: &str) -> (bool, String) {
    let rules = CATCHMENT.split("[[proofs]]").next().unwrap();
    let policy = policy(&format!("{rules}[[proofs]]\nname = \"p\"\n{text}"));
    let result = prove(&policy, &population()).remove(0);
    (result.holds, result.fault.map_or_else(String::new, |fault| fault.to_string()))
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
        "cohort stations cannot publish to harrowmere/{reach}/elsewhere/#, harrowmere/{reach}/{station}/gate/#"
    );
    assert!(results[0].line > 60, "{}", results[0].line);
}

#[test]
fn what_does_not_hold_is_refuted_by_an_example() {
    for (text, words) in [
        (
            "who = { cohort = \"stations\" }\ncannot = \"publish\"\ntopics = [\"harrowmere/+/nine-arches/#\"]",
            "nine-arches can publish to harrowmere/gorge/nine-arches/stage/level: rule `stations-report` allows it.",
        ),
        (
            "who = { identity = \"duty-desk\" }\ncan = \"subscribe\"\ntopics = [\"harrowmere/gorge/#\"]",
            "duty-desk cannot subscribe to harrowmere/gorge/anything/pump-2: rule `nobody-reads-the-contractor` denies it.",
        ),
        (
            "who = { identity = \"duty-desk\" }\ncan = \"publish\"\nqos = 2\ntopics = \
             [\"harrowmere/{reach}/{station}/gate/target\"]",
            "duty-desk cannot publish to harrowmere/gorge/{station}/gate/target: no rule allows it.",
        ),
        (
            "who = { identity = \"nobody\" }\ncannot = \"publish\"\ntopics = [\"#\"]",
            "There is no identity nobody. Create it, or give its attributes in the proof: who = { identity = \
             \"nobody\", attributes = { … } }",
        ),
        (
            "who = \"everyone\"\ncannot = \"subscribe\"\ntopics = [\"harrowmere/meadows/+/pump-1/#\"]",
            "contractor-pumps can subscribe to harrowmere/meadows/{station}/pump-1/power: rule \
             `pumps-are-the-contractor-s` allows it.",
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
    assert_eq!(
        (holds, &*words),
        (false, "kettle-weir does not have an attribute that `harrowmere/{attr.basin}/x` needs.")
    );
}

/// What a proof comes to under these rules, of these identities; some are tied to a client identifier.
fn proved(rules: &str, proof: &str, identities: &[&str], tied: &[(&str, &str)]) -> (bool, String) {
    let text = format!("name = \"a\"\n{rules}\n[[proofs]]\nname = \"it\"\n{proof}");
    let identities = identities.iter().map(|name| (Arc::from(*name), identity(name, &[]))).collect();
    let tied = tied.iter().map(|(name, client)| (Arc::from(*name), (*client).to_owned())).collect();
    let population = Population { identities: &identities, tied: &tied, is_over: &|| false };
    let result = prove_within(&policy(&text), population).remove(0);
    (result.holds, result.fault.map_or_else(String::new, |fault| fault.to_string()))
}

const OWN: &str = "[[rules]]\nname = \"own\"\nwho = \"everyone\"\nmay = [\"publish\"]\ntopics = [\"{client_id}/x\"]";

#[test]
fn a_client_identifier_is_any_that_a_client_may_give() {
    let secret = "who = \"everyone\"\ncannot = \"publish\"\ntopics = [\"secret/x\"]";
    let (holds, words) = proved(OWN, secret, &["n"], &[]);
    assert_eq!((holds, &*words), (false, "n can publish to secret/x: rule `own` allows it."));
    let of_n = "who = { identity = \"n\" }\ncannot = \"publish\"\ntopics = [\"secret/x\"]";
    assert!(proved(OWN, of_n, &["n"], &[("n", "gate-1")]).0, "it may only be gate-1");
    assert!(!proved(OWN, of_n, &["n"], &[("n", "secret")]).0);
    // Each may publish its own, whatever it is.
    let own = "who = \"everyone\"\ncan = \"publish\"\ntopics = [\"{client_id}/x\"]";
    assert_eq!(proved(OWN, own, &["n"], &[]), (true, String::new()));
    let not_all = "who = \"everyone\"\ncan = \"publish\"\ntopics = [\"secret/x\"]";
    assert!(!proved(OWN, not_all, &["n"], &[]).0);
    // What is denied to each by its own identifier is denied to nobody by another's.
    let denied = "[[rules]]\nname = \"all\"\nwho = \"everyone\"\nmay = [\"publish\"]\ntopics = [\"#\"]\n\
        [[rules]]\nname = \"not-own\"\nwho = \"everyone\"\nnever = [\"publish\"]\ntopics = [\"{client_id}/x\"]";
    assert!(!proved(denied, secret, &["n"], &[]).0);
    let own = "who = \"everyone\"\ncannot = \"publish\"\ntopics = [\"{client_id}/x\"]";
    assert_eq!(proved(denied, own, &["n"], &[]), (true, String::new()));
}

#[test]
fn someone_who_is_not_known_yet_is_in_no_cohort_by_a_name() {
    let rules = "[cohorts.any]\nwhere = \"identity == 'anyone'\"\n[[rules]]\nname = \"any\"\nwho = { cohort = \"any\" \
                 }\n\
        may = [\"publish\"]\ntopics = [\"x\"]";
    let nobody = "who = \"everyone\"\ncannot = \"publish\"\ntopics = [\"x\"]";
    assert!(proved(rules, nobody, &[], &[]).0);
    assert!(!proved(rules, nobody, &["anyone"], &[]).0);
    let all = "[[rules]]\nname = \"all\"\nwho = \"everyone\"\nmay = [\"publish\"]\ntopics = [\"x\"]";
    let (_, words) = proved(all, nobody, &[], &[]);
    assert_eq!(words, "an identity that does not exist yet can publish to x: rule `all` allows it.");
}

#[test]
fn what_begins_with_a_dollar_is_reached_by_those_who_name_it_alone() {
    let rule = |first: &str| {
        format!(
            "[levels.free]\n[levels.one]\none-of = [\"$d\", \"a\"]\n[levels.some]\npattern = \".*\"\n[[rules]]\nname \
             = \"r\"\nwho = \"everyone\"\n\
             may = [\"publish\"]\ntopics = [\"{first}/x\"]"
        )
    };
    let hidden = "who = \"everyone\"\ncannot = \"publish\"\ntopics = [\"$d/x\"]";
    let wild = "who = \"everyone\"\ncannot = \"publish\"\ntopics = [\"+/x\"]";
    for (first, reaches_hidden, reaches_others) in [
        ("+", false, true),
        ("{free}", false, true),
        ("{one}", true, true),
        ("{some}", true, true),
        ("$d", true, false),
    ] {
        let rules = rule(first);
        assert_eq!(!proved(&rules, hidden, &["n"], &[]).0, reaches_hidden, "{first}");
        assert_eq!(!proved(&rules, wild, &["n"], &[]).0, reaches_others, "{first}");
        let access = policy(&format!("name = \"a\"\n{rules}")).bind(&identity("n", &[]), "n").unwrap();
        let topic = "$d/x".parse().unwrap();
        let request = Request::Publish { topic: &topic, qos: QoS::AtMostOnce, retain: false };
        assert_eq!(access.decide(request).is_allowed(), reaches_hidden, "{first}, live");
    }
}

#[test]
fn an_empty_value_is_an_empty_level() {
    let rules = "[[rules]]\nname = \"r\"\nwho = \"everyone\"\nmay = [\"publish\"]\ntopics = [\"a/{attr.x}\"]";
    let access = policy(&format!("name = \"a\"\n{rules}")).bind(&identity("n", &[("x", "")]), "n").unwrap();
    for (topic, allowed) in [("a/", true), ("a", false), ("a/b", false)] {
        let topic = topic.parse().unwrap();
        let request = Request::Publish { topic: &topic, qos: QoS::AtMostOnce, retain: false };
        assert_eq!(access.decide(request).is_allowed(), allowed, "{topic}");
    }
}

#[test]
fn what_a_proof_about_subscribing_does_not_mean_is_refused() {
    for more in ["qos = 1", "retained = true"] {
        let text = format!(
            "name = \"a\"\n[[proofs]]\nname = \"it\"\nwho = \"everyone\"\ncannot = \"subscribe\"\ntopics = \
             [\"x\"]\n{more}"
        );
        let findings = Blueprint::parse(&text).unwrap_err();
        assert!(findings[0].to_string().contains("are only for proofs about publishing"), "{}", findings[0]);
    }
}

#[test]
fn proofs_that_take_too_long_do_not_hold() {
    let names: Vec<String> = (0..1_000).map(|number| number.to_string()).collect();
    let identities = names.iter().map(|name| (Arc::from(name.as_str()), identity(name, &[]))).collect();
    let looks = std::cell::Cell::new(0);
    let is_over = || {
        looks.set(looks.get() + 1);
        looks.get() > 3
    };
    let population = Population { identities: &identities, tied: &BTreeMap::new(), is_over: &is_over };
    let text = format!(
        "name = \"a\"\n{OWN}\n[[proofs]]\nname = \"it\"\nwho = \"everyone\"\ncannot = \"subscribe\"\ntopics = [\"x\"]"
    );
    let result = prove_within(&policy(&text), population).remove(0);
    assert!(
        !result.holds && result.fault.as_ref().map_or_else(String::new, ToString::to_string).contains("takes too long"),
        "{result:?}"
    );
}
