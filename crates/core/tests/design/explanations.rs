//! What is said of a decision: which rule, which limit, what else would be allowed. The value and its sentence.

use std::sync::Arc;

use moorfall_core::access::{Access, Explanation, Limited, Request, Ruling};
use moorfall_wire::{QoS, TopicFilter, TopicName};

use super::{CATCHMENT, identity, policy, population};

fn access(name: &str) -> Access {
    policy(CATCHMENT).bind(&population()[name], "client-1").unwrap()
}

fn of_message(access: &Access, topic: &str, qos: QoS, retain: bool) -> Explanation {
    let topic: TopicName = topic.parse().unwrap();
    access.explain(Request::Publish { topic: &topic, qos, retain })
}

fn of_filter(access: &Access, filter: &str) -> Explanation {
    let filter: TopicFilter = filter.parse().unwrap();
    access.explain(Request::Subscribe { filter: &filter })
}

fn rule(name: &str) -> Arc<str> {
    name.into()
}

#[test]
fn the_rule_that_allows_or_denies_is_named() {
    let weir = access("kettle-weir");
    let allowed = of_message(&weir, "harrowmere/gorge/kettle-weir/stage/level", QoS::AtLeastOnce, false);
    assert_eq!(allowed.ruling, Ruling::Allowed(vec![rule("stations-report")]));
    assert_eq!(
        allowed.to_string(),
        "kettle-weir can publish to harrowmere/gorge/kettle-weir/stage/level: rule `stations-report` allows it."
    );
    let desk = access("duty-desk");
    let denied = of_filter(&desk, "harrowmere/meadows/withy-drain/pump-2/power");
    assert_eq!(denied.ruling, Ruling::Denied(rule("nobody-reads-the-contractor")));
    assert!(denied.to_string().ends_with(": rule `nobody-reads-the-contractor` denies it."), "{denied}");
    // Of a filter, some of which is denied, the rest is read.
    let some = of_filter(&desk, "harrowmere/#");
    assert_eq!(some.ruling, Ruling::Allowed(vec![rule("desk-reads")]));
}

#[test]
fn what_a_rule_limits_is_said_with_the_rule() {
    let desk = access("duty-desk");
    let target = "harrowmere/gorge/kettle-weir/gate/target";
    let high = of_message(&desk, target, QoS::ExactlyOnce, false);
    assert_eq!(high.ruling, Ruling::Limited(vec![Limited::QoS(rule("desk-moves-gates"), QoS::AtLeastOnce)]));
    assert_eq!(
        high.to_string(),
        format!(
            "duty-desk is not allowed to publish to {target} at QoS 2. Rule `desk-moves-gates` allows QoS 1 at most."
        )
    );
    let retained = of_message(&desk, target, QoS::AtLeastOnce, true);
    assert_eq!(retained.ruling, Ruling::Limited(vec![Limited::Retained(rule("desk-moves-gates"), false)]));
    assert!(retained.to_string().contains(" with the retain flag. Rule `desk-moves-gates` does not"), "{retained}");
    // Both at once are both said.
    let both = of_message(&desk, target, QoS::ExactlyOnce, true).to_string();
    assert!(both.contains("QoS 1 at most") && both.contains("does not allow retained"), "{both}");
    assert!(matches!(of_message(&desk, target, QoS::AtMostOnce, false).ruling, Ruling::Allowed(_)));
}

#[test]
fn who_is_refused_is_told_what_would_be_allowed() {
    let weir = access("kettle-weir");
    let other = of_message(&weir, "harrowmere/gorge/nine-arches/stage/level", QoS::AtLeastOnce, false);
    let Ruling::NotAllowed { outside: None, elsewhere, more } = &other.ruling else { panic!("{other:?}") };
    assert!(!elsewhere.is_empty() && elsewhere.len() <= 3, "{elsewhere:?}");
    let text = other.to_string();
    assert!(text.contains(": no rule allows it. kettle-weir can publish to "), "{text}");
    assert!(text.contains("(rule `stations-report`)"), "{text}");
    assert_eq!(*more > 0, text.contains(" more."), "{text}");
    // Who may nothing is told that.
    let nobody = policy(CATCHMENT).bind(&identity("cold-tor", &[]), "client-1").unwrap();
    let nothing = of_message(&nobody, "a/b", QoS::AtMostOnce, false);
    assert!(nothing.to_string().ends_with("No rule allows cold-tor to publish anywhere."), "{nothing}");
    let nothing = of_filter(&nobody, "a/#");
    assert!(nothing.to_string().ends_with("No rule allows cold-tor to subscribe to anything."), "{nothing}");
}

#[test]
fn a_filter_that_is_allowed_in_part_is_told_with_a_topic_that_is_not() {
    let pumps = access("contractor-pumps");
    let all = of_filter(&pumps, "harrowmere/meadows/#");
    let Ruling::NotAllowed { outside: Some(outside), .. } = &all.ruling else { panic!("{all:?}") };
    assert!(outside.starts_with("harrowmere/meadows"), "{outside}");
    assert!(all.to_string().contains(&format!("no rule allows all of it, for example {outside}.")), "{all}");
    // The example is one indeed.
    let example: TopicFilter = outside.parse().unwrap();
    assert!(!pumps.decide(Request::Subscribe { filter: &example }).is_allowed());
}

#[test]
fn several_rules_may_allow_a_filter_together() {
    let rules: String = ["one", "two"]
        .map(|value| {
            format!(
                "[[rules]]\nname = \"reads-{value}\"\nwho = \"everyone\"\nmay = [\"subscribe\"]\ntopics = [\"{value}/#\"]\n"
            )
        })
        .concat();
    let text = format!(
        "name = \"two\"\n[levels.part]\npurpose = \"a half\"\none-of = [\"one\", \"two\"]\n{rules}\
         [[rules]]\nname = \"reads-both\"\nwho = \"everyone\"\nmay = [\"subscribe\"]\ntopics = [\"{{part}}/x\"]\n"
    );
    let reader = policy(&text).bind(&identity("n", &[]), "c").unwrap();
    let one = of_filter(&reader, "one/x");
    let Ruling::Allowed(rules) = &one.ruling else { panic!("{one:?}") };
    assert!(!rules.is_empty(), "{one}");
    assert!(of_filter(&reader, "+/x").to_string().contains("n "), "whatever is said, it is of this identity");
}

#[test]
fn nobody_s_rules_limit_the_administrator() {
    let free = Access::unrestricted("administrator");
    let explained = of_message(&free, "anything/at/all", QoS::ExactlyOnce, true);
    assert_eq!(explained.ruling, Ruling::Unlimited);
    assert_eq!(explained.to_string(), "administrator can publish to anything/at/all: no rules apply to administrator.");
}

#[test]
fn a_long_topic_is_told_by_its_beginning() {
    let weir = access("kettle-weir");
    let long = format!("harrowmere/{}", "gorge/".repeat(500));
    let told = of_message(&weir, &long, QoS::AtMostOnce, false);
    assert!(told.topic.len() < 400 && told.to_string().len() < 1_500, "{}", told.to_string().len());
    assert!(long.starts_with(told.topic.trim_end_matches('…')), "{}", told.topic);
}
