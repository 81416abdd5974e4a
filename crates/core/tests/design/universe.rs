//! Publishing is decided by patterns, and subscribing, proofs and the matrix by sets: over small universes they agree.

use std::{collections::BTreeMap, sync::Arc};

use moorfall_core::{
    AttributeValue, Identity, Level, Values,
    blueprint::{ClientId, TopicPattern},
};
use proptest::prelude::*;

fn levels() -> BTreeMap<String, Arc<Level>> {
    let pattern = regex::Regex::new("^(?:a|\\$d)$").unwrap();
    let one_of = ["a", "$d", ""].map(str::to_owned).into_iter().collect();
    [("free", Values::Free), ("one", Values::OneOf(one_of)), ("pattern", Values::Pattern(pattern))]
        .into_iter()
        .map(|(name, values)| (name.to_owned(), Arc::new(Level { name: name.into(), values })))
        .collect()
}

/// Values of levels, and what the session may put in.
const VALUES: [&str; 4] = ["a", "b", "$d", ""];

fn pattern() -> impl Strategy<Value = TopicPattern> {
    let level = prop::sample::select(vec![
        "+",
        "a",
        "$d",
        "",
        "{free}",
        "{one}",
        "{pattern}",
        "{client_id}",
        "a{client_id}",
        "{attr.x}",
        "{identity}",
        "{attr.none}",
    ]);
    (prop::collection::vec(level, 1..4), any::<bool>()).prop_filter_map("no filter", |(mut pattern, open)| {
        if open {
            pattern.push("#");
        }
        TopicPattern::parse(&pattern.join("/"), &levels()).ok()
    })
}

fn topics() -> Vec<String> {
    let mut all = Vec::new();
    for one in VALUES {
        all.push(one.to_owned());
        for two in VALUES {
            all.push(format!("{one}/{two}"));
            all.extend(VALUES.map(|three| format!("{one}/{two}/{three}")));
            all.extend(["aa", "ab"].map(|three| format!("{one}/{two}/{three}")));
        }
    }
    all.retain(|topic| !topic.is_empty());
    all
}

fn identity(name: &str, x: &str) -> Identity {
    let attributes = BTreeMap::from([("x".to_owned(), AttributeValue::Text(x.into()))]);
    Identity { name: name.into(), attributes }
}

proptest! {
    #[test]
    fn a_pattern_holds_what_its_set_holds(
        pattern in pattern(), name in prop::sample::select(vec!["a", "$d"]),
        x in prop::sample::select(VALUES.to_vec()), client in prop::sample::select(vec!["a", "b", "$d"]),
    ) {
        let identity = identity(name, x);
        let set = pattern.bind("rule", &identity, ClientId::Given(client)).unwrap();
        for topic in topics() {
            let live = pattern.holds(&topic, &identity, client);
            prop_assert_eq!(live, set.as_ref().map(|set| set.holds(&topic)), "{} of {} by {}: {}", pattern, x, client, topic);
        }
    }

    #[test]
    fn any_client_is_every_one_and_each_is_only_what_all_have(pattern in pattern(), x in prop::sample::select(VALUES.to_vec())) {
        let identity = identity("weir", x);
        let bind = |client| pattern.bind("rule", &identity, client).unwrap();
        let (Some(any), Some(each)) = (bind(ClientId::Any), bind(ClientId::Each)) else { return Ok(()) };
        for topic in topics() {
            let by = ["a", "b", "$d", "ab"].map(|client| bind(ClientId::Given(client)).is_some_and(|set| set.holds(&topic)));
            prop_assert!(!by.contains(&true) || any.holds(&topic), "{}: {} is missing", pattern, topic);
            prop_assert!(!each.holds(&topic) || by.iter().all(|by| *by), "{}: {} is too much", pattern, topic);
        }
        prop_assert_eq!(any.outside([&each]), None, "the same for each client");
    }
}
