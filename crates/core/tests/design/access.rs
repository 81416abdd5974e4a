//! Who may do what.

use moorfall_core::{
    Identity,
    access::{Access, Considered, Decision, Request},
};
use moorfall_wire::QoS;
use proptest::prelude::*;

use super::{CATCHMENT, identity, policy, population};

fn access(name: &str) -> Access {
    policy(CATCHMENT).bind(&population()[name], "client-1").unwrap()
}

fn publishes(access: &Access, topic: &str, qos: QoS, retain: bool) -> Decision {
    access.decide(Request::Publish { topic: &topic.parse().unwrap(), qos, retain })
}

fn may_publish(access: &Access, topic: &str) -> bool {
    publishes(access, topic, QoS::AtLeastOnce, false).is_allowed()
}

fn subscribes(access: &Access, filter: &str) -> Decision {
    access.decide(Request::Subscribe { filter: &filter.parse().unwrap() })
}

fn explain(access: &Access, topic: &str, qos: QoS, retain: bool) -> String {
    access.explain(Request::Publish { topic: &topic.parse().unwrap(), qos, retain }).to_string()
}

#[test]
fn nothing_is_allowed_by_default() {
    let nobody = policy(CATCHMENT).bind(&identity("cold-tor", &[]), "client-1").unwrap();
    assert!(!may_publish(&nobody, "harrowmere/high-moor/cold-tor/status"));
    assert_eq!(subscribes(&nobody, "harrowmere/high-moor/cold-tor/status"), Decision::NotAllowed(None));
}

#[test]
fn a_cohort_publishes_below_its_own_name_and_reach() {
    let weir = access("kettle-weir");
    assert!(may_publish(&weir, "harrowmere/gorge/kettle-weir/stage/level"));
    for topic in ["harrowmere/gorge/nine-arches/stage/level", "harrowmere/tidal/kettle-weir/status", "harrowmere"] {
        assert!(!may_publish(&weir, topic), "{topic}");
    }
    let policy = policy(CATCHMENT);
    let other = policy.bind(&identity("kettle-weir", &[("kind", "model"), ("reach", "gorge")]), "c").unwrap();
    assert!(!may_publish(&other, "harrowmere/gorge/kettle-weir/status"), "another cohort");
    let nowhere = policy.bind(&identity("kettle-weir", &[("kind", "station")]), "c").unwrap();
    assert!(!may_publish(&nowhere, "harrowmere/gorge/kettle-weir/status"), "no reach");
}

#[test]
fn a_rule_that_denies_wins_wherever_it_stands() {
    let rule = |name: &str, key: &str, topic: &str| {
        format!(
            "[[rules]]\nname = \"{name}\"\nwho = \"everyone\"\n{key} = [\"publish\", \"subscribe\"]\n\
             topics = [\"{topic}\"]\n"
        )
    };
    let (all, gates) = (rule("all", "may", "harrowmere/#"), rule("gates", "never", "harrowmere/+/gate"));
    for (text, denying) in [(format!("{all}{gates}"), 1), (format!("{gates}{all}"), 0)] {
        let anyone = policy(&format!("name = \"a\"\n{text}")).bind(&identity("anyone", &[]), "c").unwrap();
        let gate = "harrowmere/kettle-weir/gate";
        assert_eq!(publishes(&anyone, gate, QoS::AtMostOnce, false), Decision::Denied(denying));
        assert_eq!(subscribes(&anyone, gate), Decision::Denied(denying));
        assert!(
            may_publish(&anyone, "harrowmere/kettle-weir/stage") && subscribes(&anyone, "harrowmere/#").is_allowed()
        );
        assert!(explain(&anyone, gate, QoS::AtMostOnce, false).ends_with("rule `gates` denies it."));
        assert!(anyone.withholds(&gate.parse().unwrap()) && !anyone.may_receive(&gate.parse().unwrap()));
    }
}

#[test]
fn limits_of_a_rule_hold() {
    let desk = access("duty-desk");
    let target = "harrowmere/gorge/kettle-weir/gate/target";
    let Decision::Allowed { rate, .. } = publishes(&desk, target, QoS::AtLeastOnce, false) else { panic!() };
    assert_eq!(rate.unwrap().messages, 2);
    assert!(!publishes(&desk, target, QoS::ExactlyOnce, false).is_allowed());
    assert!(!publishes(&desk, target, QoS::AtMostOnce, true).is_allowed());
    assert!(!may_publish(&desk, "harrowmere/elsewhere/kettle-weir/gate/target"), "no reach of this name");
    assert!(!may_publish(&desk, "harrowmere/gorge/Kettle Weir/gate/target"), "no station of this name");
    assert_eq!(
        explain(&desk, target, QoS::ExactlyOnce, true),
        format!(
            "duty-desk is not allowed to publish to {target} at QoS 2 with the retain flag. Rule `desk-moves-gates` \
             allows QoS 1 at most. Rule `desk-moves-gates` does not allow retained messages."
        )
    );
}

#[test]
fn a_filter_is_granted_when_nothing_outside_could_match() {
    let desk = access("duty-desk");
    assert!(subscribes(&desk, "harrowmere/+/+/stage/#").is_allowed());
    assert_eq!(subscribes(&desk, "#"), Decision::NotAllowed(Some("anything".into())));
    assert_eq!(subscribes(&desk, "harrowmere/gorge/+/pump-2/#"), Decision::Denied(5), "all of it is denied");
    assert!(desk.withholds(&"harrowmere/gorge/kettle-weir/pump-2/power".parse().unwrap()));
    assert!(!desk.withholds(&"harrowmere/gorge/kettle-weir/pump-1/power".parse().unwrap()));
    let weir = access("kettle-weir");
    assert_eq!(
        weir.explain(Request::Subscribe { filter: &"harrowmere/gorge/+/gate/target".parse().unwrap() }).to_string(),
        "kettle-weir is not allowed to subscribe to harrowmere/gorge/+/gate/target: no rule allows all of it, for \
         example harrowmere/gorge/anything/gate/target. kettle-weir can subscribe to \
         harrowmere/gorge/kettle-weir/gate/target (rule `stations-obey`)."
    );
}

#[test]
fn several_rules_allow_together_what_none_allows_alone() {
    let text = r#"
        name = "harrowmere"
        [levels.pump]
        one-of = ["pump-1", "pump-2"]
        [[rules]]
        name = "first"
        who = "everyone"
        may = ["subscribe"]
        topics = ["pump-1/#"]
        [[rules]]
        name = "second"
        who = "everyone"
        may = ["subscribe"]
        topics = ["{pump}/power"]
        [[rules]]
        name = "third"
        who = "everyone"
        may = ["subscribe"]
        topics = ["+/+/#"]
        highest-qos = 1
    "#;
    let anyone = policy(text).bind(&identity("anyone", &[]), "c").unwrap();
    let granted = |filter| match subscribes(&anyone, filter) {
        Decision::Allowed { rules, highest_qos, .. } => (rules, highest_qos),
        other => panic!("{other:?}"),
    };
    assert_eq!(granted("pump-1/power"), (vec![0], QoS::ExactlyOnce));
    assert_eq!(granted("pump-2/+"), (vec![2], QoS::AtLeastOnce), "the lower QoS");
    assert_eq!(granted("pump-1/#"), (vec![0], QoS::ExactlyOnce));
    assert!(!subscribes(&anyone, "pump-2/#").is_allowed(), "pump-2 itself");
}

#[test]
fn a_value_that_would_change_a_topic_lets_nobody_in() {
    let policy = policy(CATCHMENT);
    let error = policy.bind(&identity("sluice", &[("kind", "station"), ("reach", "gorge/#")]), "c").unwrap_err();
    assert_eq!(
        error.to_string(),
        "Rule `stations-report` can't be applied: the value of {attr.reach} contains '/', which is not allowed in a \
         topic \
         level. Change the value or the rule."
    );
    let other = identity("sluice", &[("kind", "model"), ("reach", "gorge/#")]);
    assert!(policy.bind(&other, "c").is_ok(), "no rule with it is about this identity");
    let text = "name = \"a\"\n[[rules]]\nname = \"own\"\nwho = \"everyone\"\nmay = [\"publish\"]\ntopics = \
                [\"c/{client_id}\"]";
    assert!(super::policy(text).bind(&identity("x", &[]), "one+two").is_err());
}

#[test]
fn an_explanation_says_of_each_rule_what_became_of_it() {
    let weir = access("kettle-weir");
    let topic = "harrowmere/gorge/kettle-weir/status".parse().unwrap();
    let mut seen = Vec::new();
    let request = Request::Publish { topic: &topic, qos: QoS::AtMostOnce, retain: true };
    let decision = weir.trace(request, |_, considered| seen.push(considered));
    assert!(matches!(decision, Decision::Allowed { rules, .. } if rules == [0]));
    use Considered::{Applies, OtherAct, OtherWho};
    assert_eq!(seen, [Applies, OtherAct, OtherWho, OtherWho, OtherWho, OtherWho]);
    let sentence = explain(&weir, "harrowmere/gorge/nine-arches/status", QoS::AtMostOnce, true);
    assert_eq!(
        sentence,
        "kettle-weir is not allowed to publish to harrowmere/gorge/nine-arches/status: no rule allows it. kettle-weir \
         can publish to harrowmere/gorge/kettle-weir/stage/level (rule `stations-report`) and \
         harrowmere/gorge/kettle-weir/status (rule `stations-report`)."
    );
}

/// A rule of a few words, so that rules meet often.
fn rule() -> impl Strategy<Value = String> {
    let level = prop::sample::select(vec!["a", "b", "+", "{identity}", "{attr.reach}", "{word}", "x-{identity}"]);
    let levels = (prop::collection::vec(level, 1..4), any::<bool>())
        .prop_map(|(levels, open)| format!("{}{}", levels.join("/"), if open { "/#" } else { "" }));
    let who = prop::sample::select(vec!["\"everyone\"", "{ identity = \"a\" }", "{ cohort = \"some\" }"]);
    let act = prop::sample::select(vec!["\"publish\"", "\"subscribe\"", "\"publish\", \"subscribe\""]);
    (levels, who, act, prop::bool::weighted(0.3)).prop_map(|(topics, who, act, deny)| {
        let key = if deny { "never" } else { "may" };
        format!("who = {who}\n{key} = [{act}]\ntopics = [\"{topics}\"]\n")
    })
}

proptest! {
    #[test]
    fn the_index_leaves_out_only_rules_that_do_not_matter(
        rules in prop::collection::vec(rule(), 0..8),
        topic in "(a|b|x-a|gorge|one)(/(a|b|x-a|gorge|one)){0,3}",
        name in "[ab]",
        reach in prop::option::of("(a|gorge)"),
    ) {
        let mut text = "name = \"t\"\n[levels.word]\none-of = [\"one\", \"a\"]\n[cohorts.some]\nwhere = \
                        'has(attr.reach)'\n".to_owned();
        for (index, rule) in rules.iter().enumerate() {
            text.push_str(&format!("[[rules]]\nname = \"r{index}\"\n{rule}"));
        }
        let policy = policy(&text);
        let attributes: Vec<_> = reach.iter().map(|reach| ("reach", reach.as_str())).collect();
        let someone: Identity = identity(&name, &attributes);
        let access = policy.bind(&someone, "c").unwrap();
        let topic = topic.parse().unwrap();
        let request = Request::Publish { topic: &topic, qos: QoS::AtMostOnce, retain: false };
        prop_assert_eq!(access.decide(request), access.trace(request, |_, _| {}));
        // What may be subscribed to as a filter without wildcards is what is not withheld.
        let filter = topic.parse().unwrap();
        let granted = access.decide(Request::Subscribe { filter: &filter }).is_allowed();
        prop_assert!(!(granted && access.withholds(&topic)), "{} is granted and withheld", topic);
        prop_assert_eq!(access.may_receive(&topic), granted, "{}", topic);
    }
}
