//! Topics that have one owner at a time.
#![allow(clippy::unwrap_used, reason = "a test may panic")]

use std::{collections::BTreeMap, sync::Arc, time::Duration};

use moorfall_core::{
    AttributeValue, Time,
    blueprint::{Blueprint, Owned, StrengthOf},
    owned::{Change, Claim, Kept, Most, NotOwner, OwnedPaths, Owners, Publishing, Said, Why},
};
use moorfall_wire::{TopicName, UserProperty};
use proptest::prelude::*;

const HEAD: &str = "name = \"harrowmere\"\n[levels.station]\n";

fn read(text: &str) -> Result<Blueprint, String> {
    Blueprint::parse(&format!("{HEAD}{text}")).map_err(|findings| {
        findings.iter().map(|one| format!("{} {}", one.message, one.remedy)).collect::<Vec<_>>().join("; ")
    })
}

fn owned(silent: &str) -> Vec<Owned> {
    let text = format!(
        "[[owned]]\npath = \"harrowmere/gorge/{{station}}/level\"\nstrength = {{ attribute = \"rank\" }}\n{silent}"
    );
    read(&text).unwrap().owned
}

fn by(silent: &str) -> Arc<Owned> {
    Arc::new(owned(silent).remove(0))
}

fn level() -> TopicName {
    "harrowmere/gorge/kettle-weir/level".parse().unwrap()
}

fn at(seconds: u64) -> Time {
    Time::from_micros(1_000_000_000 + seconds * 1_000_000)
}

/// The same a little later.
fn a_little_after(seconds: u64, micros: usize) -> Time {
    at(seconds) + Duration::from_micros(micros as u64)
}

/// Publishes, and gives whether it is heard and why the owner has changed, if it has.
fn publish(owners: &mut Owners, by: &Arc<Owned>, who: &str, strength: Option<f64>, now: Time) -> (bool, Option<Why>) {
    let identity = who.into();
    let publishing = Publishing { client_id: who, identity: &identity, strength };
    let Said { withheld, change } = owners.publish(&level(), by, publishing, now);
    (withheld.is_none(), change.map(|change| change.why))
}

/// Ends a session, a topic at a time.
fn end(owners: &mut Owners, who: &str, now: Time) -> Vec<Change> {
    let mut changes = Vec::new();
    loop {
        let (some, more) = owners.end(who, now, 1);
        changes.extend(some);
        if !more {
            return changes;
        }
    }
}

fn owner(owners: &Owners) -> String {
    owners.see(&level()).map(|seen| seen.owner.claim.client_id.to_string()).unwrap_or_default()
}

#[test]
fn the_strongest_is_heard_and_of_equal_ones_the_first() {
    let (mut owners, by) = (Owners::default(), by(""));
    assert_eq!(publish(&mut owners, &by, "stage-2", Some(1.0), at(0)), (true, None));
    assert_eq!(publish(&mut owners, &by, "stage-3", Some(1.0), at(1)), (false, None), "equal: the first stays");
    assert_eq!(publish(&mut owners, &by, "diver", None, at(1)), (false, None), "no strength is the weakest");
    assert_eq!(publish(&mut owners, &by, "stage", Some(2.0), at(2)), (true, Some(Why::Stronger)));
    assert_eq!(publish(&mut owners, &by, "stage-2", Some(1.0), at(3)), (false, None));
    let seen = owners.see(&level()).unwrap();
    assert_eq!((seen.since, seen.withheld, seen.others.len()), (at(2), 3, 3));
    // Its session ends, and the next one is the owner at once: not the newest, but the first of the strongest.
    let changes = end(&mut owners, "stage", at(4));
    assert_eq!(
        changes[0].to_string(),
        "stage-2 (strength 1) owns harrowmere/gorge/kettle-weir/level now: the session of stage (strength 2) has ended."
    );
    assert_eq!(owner(&owners), "stage-2");
    assert_eq!(publish(&mut owners, &by, "stage-3", Some(1.0), at(5)), (false, None));
    // It is back, and takes over.
    assert_eq!(publish(&mut owners, &by, "stage", Some(2.0), at(6)), (true, Some(Why::Stronger)));
    // Whoever is not the owner goes unnoticed; when all have gone nobody owns anything.
    assert_eq!(end(&mut owners, "stage-2", at(7)), []);
    assert_eq!(end(&mut owners, "stage-2", at(7)), []);
    assert_eq!(end(&mut owners, "stage", at(7))[0].now.as_ref().map(|now| &*now.client_id), Some("stage-3"));
    assert_eq!(end(&mut owners, "stage-3", at(7))[0].now.as_ref().map(|now| &*now.client_id), Some("diver"));
    let last = end(&mut owners, "diver", at(8));
    assert_eq!(
        last[0].to_string(),
        "Nobody owns harrowmere/gorge/kettle-weir/level now: the session of diver (no strength) has ended."
    );
    assert_eq!((owners.count(), owners.due()), (0, None));
}

#[test]
fn whoever_says_that_it_is_weaker_now_gives_way() {
    let (mut owners, by) = (Owners::default(), by(""));
    publish(&mut owners, &by, "stage", Some(5.0), at(0));
    publish(&mut owners, &by, "stage-2", Some(3.0), at(0));
    assert_eq!(publish(&mut owners, &by, "stage", Some(4.0), at(1)), (true, None), "still the strongest");
    assert_eq!(publish(&mut owners, &by, "stage", Some(2.0), at(2)), (false, Some(Why::Weaker)));
    assert_eq!(owner(&owners), "stage-2");
    assert_eq!(publish(&mut owners, &by, "stage", Some(3.0), at(3)), (false, None), "as strong is not stronger");
    assert_eq!(publish(&mut owners, &by, "stage", Some(3.5), at(4)), (true, Some(Why::Stronger)));
}

#[test]
fn whoever_is_silent_for_too_long_is_the_owner_no_more() {
    let (mut owners, by) = (Owners::default(), by("silent-after = \"10s\""));
    publish(&mut owners, &by, "stage", Some(2.0), at(0));
    publish(&mut owners, &by, "stage-2", Some(1.0), at(5));
    publish(&mut owners, &by, "diver", Some(1.5), at(0));
    assert_eq!(owners.due(), Some(at(10)));
    publish(&mut owners, &by, "stage", Some(2.0), at(9));
    // It was heard since, so it is looked at again when it would be silent from then on.
    assert_eq!(owners.look(at(10), 100), []);
    assert_eq!((owner(&owners).as_str(), owners.due()), ("stage", Some(at(19))));
    publish(&mut owners, &by, "stage-2", Some(1.0), at(15));
    let changes = owners.look(at(19), 100);
    assert_eq!(changes[0].why, Why::Silent);
    assert_eq!(owner(&owners), "stage-2", "the stronger diver was silent, too");
    assert_eq!(owners.due(), Some(at(25)));
    assert_eq!(owners.look(at(25), 100)[0].now, None);
    assert_eq!(owners.count(), 0);
    // Whoever comes in the moment before anybody looks takes over by itself.
    publish(&mut owners, &by, "stage", Some(2.0), at(30));
    assert_eq!(publish(&mut owners, &by, "stage-2", Some(1.0), at(40)), (true, Some(Why::Silent)));
    // An owner that speaks in that moment stays the owner.
    assert_eq!(publish(&mut owners, &by, "stage-2", Some(1.0), at(50)), (true, None));
}

#[test]
fn owners_survive_and_have_a_while_to_come_back() {
    let paths = OwnedPaths::new(&owned(""));
    let (mut owners, by) = (Owners::default(), Arc::clone(paths.find(&level()).unwrap()));
    publish(&mut owners, &by, "stage", Some(2.0), at(0));
    let kept = owners.take_new(10);
    assert_eq!(owners.take_new(10), [], "it is kept once");
    owners.put_back(kept.clone());
    assert_eq!(owners.take_new(10), kept, "unless it could not be");
    let mut again = Owners::default();
    again.restore(kept[0].clone(), &paths, at(100));
    assert!(again.see(&level()).unwrap().returns);
    assert_eq!(publish(&mut again, &by, "stage-2", Some(1.0), at(101)), (false, None), "it may come back");
    assert_eq!(again.due(), Some(at(160)));
    let mut back = Owners::default();
    back.restore(kept[0].clone(), &paths, at(100));
    assert_eq!(publish(&mut back, &by, "stage", Some(2.0), at(110)), (true, None));
    assert_eq!((back.due(), back.see(&level()).unwrap().since), (None, at(0)), "it is the owner as it was");
    // It does not come back.
    assert_eq!(again.look(at(160), 10)[0].now.as_ref().map(|now| &*now.client_id), Some("stage-2"));
    // What nobody owns any more is forgotten in the records, too; of what was never kept nothing is.
    end(&mut again, "stage-2", at(161));
    assert_eq!(again.take_new(10), [Kept { topic: level(), owner: None }]);
    let none = OwnedPaths::new(&[]);
    let mut other = Owners::default();
    other.restore(kept[0].clone(), &none, at(100));
    assert_eq!((other.count(), other.take_new(10)), (0, vec![Kept { topic: level(), owner: None }]));
    let topics = back.topics();
    back.forget_unowned(&topics, &none);
    assert_eq!((back.count(), end(&mut back, "stage", at(200))), (0, vec![]));
}

#[test]
fn a_will_makes_nobody_the_owner() {
    let (mut owners, by) = (Owners::default(), by(""));
    assert_eq!(owners.judge_will(&level(), "stage"), None);
    assert_eq!(owners.count(), 0);
    publish(&mut owners, &by, "stage", Some(2.0), at(0));
    assert_eq!(owners.judge_will(&level(), "stage"), None);
    assert!(
        matches!(owners.judge_will(&level(), "stage-2"), Some(NotOwner::OwnedBy(Claim { client_id, .. })) if *client_id == *"stage")
    );
}

#[test]
fn what_one_client_and_all_of_them_hold_is_bounded() {
    let (mut owners, by) = (Owners::new(Most { topics: 5, of_client: 3 }), by(""));
    let say = |owners: &mut Owners, who: &str, number: u32| {
        let topic: TopicName = format!("harrowmere/gorge/station-{number}/level").parse().unwrap();
        let identity = who.into();
        let publishing = Publishing { client_id: who, identity: &identity, strength: None };
        owners.publish(&topic, &by, publishing, at(0)).withheld
    };
    assert!((0..3).all(|number| say(&mut owners, "one", number).is_none()));
    assert_eq!(say(&mut owners, "one", 3), Some(NotOwner::Full), "it has its share");
    assert!(say(&mut owners, "one", 2).is_none(), "what it owns it owns");
    assert!((3..5).all(|number| say(&mut owners, "two", number).is_none()));
    assert_eq!(say(&mut owners, "two", 5), Some(NotOwner::Full), "there is no room for more");
    assert!(matches!(say(&mut owners, "two", 0), Some(NotOwner::OwnedBy(_))), "a known topic takes none");
    // Of those that publish to one topic a few are remembered; one that is stronger comes in all the same.
    for number in 0..20 {
        say(&mut owners, &format!("crowd-{number}"), 0);
    }
    let topic: TopicName = "harrowmere/gorge/station-0/level".parse().unwrap();
    assert_eq!(owners.see(&topic).unwrap().others.len(), 7);
    let identity = "strong".into();
    let strong = Publishing { client_id: "strong", identity: &identity, strength: Some(1.0) };
    assert!(owners.publish(&topic, &by, strong, at(1)).withheld.is_none());
    for number in 0..20 {
        end(&mut owners, &format!("crowd-{number}"), at(2));
    }
    end(&mut owners, "one", at(2));
    end(&mut owners, "two", at(2));
    end(&mut owners, "strong", at(2));
    assert_eq!(owners.count(), 0, "nothing is held for nobody");
}

#[test]
fn strength_is_an_attribute_or_a_property_within_its_bounds() {
    let attributes: BTreeMap<String, AttributeValue> = [
        ("rank".to_owned(), AttributeValue::Number(2.0)),
        ("name".to_owned(), AttributeValue::Text("stage".to_owned())),
    ]
    .into();
    let attribute = |name: &str| StrengthOf::Attribute(name.into()).of(|| Some(&attributes), &[]);
    assert_eq!((attribute("rank"), attribute("name"), attribute("other")), (Some(2.0), None, None));
    assert_eq!(StrengthOf::Attribute("rank".into()).of(|| None, &[]), None);
    let by = StrengthOf::Property { name: "strength".into(), least: 0.0, greatest: 10.0 };
    let property =
        |value: &str| by.of(|| unreachable!(), &[UserProperty { name: "strength".into(), value: value.into() }]);
    assert_eq!((property("0"), property("10"), property("7.5")), (Some(0.0), Some(10.0), Some(7.5)));
    for wrong in ["-1", "11", "NaN", "inf", "", "strong"] {
        assert_eq!(property(wrong), None, "{wrong}");
    }
}

#[test]
fn what_is_wrong_in_a_blueprint_is_said() {
    let path = "[[owned]]\npath = \"harrowmere/gorge/{station}/level\"\n";
    let wrong = |text: &str| read(text).unwrap_err();
    assert!(
        wrong(&format!("{path}strength = {{ property = \"strength\" }}"))
            .contains("the bounds of its strength are missing")
    );
    assert!(
        wrong(&format!("{path}strength = {{ property = \"s\", least = 3, greatest = 3 }}"))
            .contains("there is no strength")
    );
    assert!(wrong(&format!("{path}strength = {{ }}")).contains("`strength` is an attribute"));
    assert!(
        wrong(&format!("{path}strength = {{ attribute = \"rank\" }}\nsilent-after = \"0s\""))
            .contains("`0s` is not a time")
    );
    assert!(
        wrong("[[owned]]\npath = \"a/{nowhere}\"\nstrength = { attribute = \"rank\" }")
            .contains("there is no level `nowhere`")
    );
    let twice = format!(
        "{path}strength = {{ attribute = \"rank\" }}\n[[owned]]\npath = \"harrowmere/gorge/kettle-weir/level\"\nstrength = {{ attribute = \"rank\" }}"
    );
    let said = wrong(&twice);
    assert!(
        said.contains("harrowmere/gorge/kettle-weir/level is owned by `harrowmere/gorge/{station}/level` already"),
        "{said}"
    );
}

#[derive(Clone, Copy, Debug)]
enum Step {
    Publish { who: usize, strength: Option<u8> },
    End(usize),
    Wait(u64),
}

fn step() -> impl Strategy<Value = Step> {
    prop_oneof![
        6 => (0..5_usize, proptest::option::of(0..3_u8)).prop_map(|(who, strength)| Step::Publish { who, strength }),
        1 => (0..5_usize).prop_map(Step::End),
        2 => (1..8_u64).prop_map(Step::Wait),
    ]
}

proptest! {
    /// The same as a slow and simple account of it: a list of those that are there, in the order in which they came.
    #[test]
    fn owners_are_those_that_a_simple_account_says(steps in proptest::collection::vec(step(), 1..60)) {
        const PATIENCE: u64 = 10;
        let (mut owners, by) = (Owners::default(), by("silent-after = \"10s\""));
        // Name, strength, and when it was heard; the owner's name.
        let mut there: Vec<(usize, Option<u8>, u64)> = Vec::new();
        let mut holder: Option<usize> = None;
        let mut now = 0;
        let choose = |there: &[(usize, Option<u8>, u64)], holder: Option<usize>| {
            let best = there.iter().map(|one| one.1).max()?;
            let held = holder.filter(|holder| there.iter().any(|one| one.0 == *holder && one.1 == best));
            held.or_else(|| there.iter().find(|one| one.1 == best).map(|one| one.0))
        };
        for (number, step) in steps.into_iter().enumerate() {
            match step {
                Step::Publish { who, strength } => {
                    let said = publish(&mut owners, &by, &format!("client-{who}"), strength.map(f64::from), a_little_after(now, number));
                    match there.iter_mut().find(|one| one.0 == who) {
                        Some(one) => (one.1, one.2) = (strength, now),
                        None => there.push((who, strength, now)),
                    }
                    holder = choose(&there, holder);
                    prop_assert_eq!(said.0, holder == Some(who));
                }
                Step::End(who) => {
                    end(&mut owners, &format!("client-{who}"), a_little_after(now, number));
                    there.retain(|one| one.0 != who);
                    // Others that were silent are noticed when there is a choice.
                    if holder == Some(who) {
                        holder = choose(&there, None);
                    }
                }
                Step::Wait(seconds) => {
                    for _ in 0..seconds {
                        now += 1;
                        // All of this second, but none of the next.
                        owners.look(a_little_after(now, 1_000), 100);
                        let was = there.len();
                        there.retain(|one| one.2 + PATIENCE > now);
                        if there.len() < was && !there.iter().any(|one| Some(one.0) == holder) {
                            holder = choose(&there, None);
                        }
                    }
                }
            }
            let expected = holder.map(|who| format!("client-{who}")).unwrap_or_default();
            prop_assert_eq!(owner(&owners), expected);
        }
        for who in 0..5 {
            end(&mut owners, &format!("client-{who}"), at(now));
        }
        prop_assert_eq!((owners.count(), owners.due()), (0, None));
    }
}

#[test]
fn ten_thousand_topics_are_looked_at_in_slices() {
    let (mut owners, by) = (Owners::default(), by("silent-after = \"10s\""));
    let identity = "stage".into();
    for number in 0..10_000 {
        let topic: TopicName = format!("harrowmere/gorge/station-{number}/level").parse().unwrap();
        let publishing = Publishing { client_id: "stage", identity: &identity, strength: None };
        assert!(owners.publish(&topic, &by, publishing, at(0)).withheld.is_none());
    }
    assert_eq!(owners.look(at(9), 1_000), []);
    for left in (0..10_u64).rev() {
        assert_eq!(owners.look(at(10), 1_000).len(), 1_000);
        assert_eq!(owners.count() as u64, left * 1_000);
    }
    assert_eq!(owners.due(), None);
}

#[test]
fn what_waits_to_be_kept_does_not_grow_with_topics_that_come_and_go() {
    let (mut owners, by) = (Owners::new(Most { topics: 10, of_client: 10 }), by(""));
    let identity = "stage".into();
    for number in 0..1_000 {
        let topic: TopicName = format!("harrowmere/gorge/station-{number}/level").parse().unwrap();
        let publishing = Publishing { client_id: "stage", identity: &identity, strength: None };
        assert!(owners.publish(&topic, &by, publishing, at(number)).withheld.is_none());
        if number % 10 == 9 {
            end(&mut owners, "stage", at(number));
        }
    }
    assert_eq!((owners.take_new(10_000), owners.topics().len()), (vec![], 0));
    // What could be kept is taken back.
    publish(&mut owners, &by, "stage", None, at(2_000));
    let kept = owners.take_new(10);
    end(&mut owners, "stage", at(2_001));
    assert_eq!(owners.take_new(10), [Kept { topic: kept[0].topic.clone(), owner: None }]);
    // Also if it is not known whether it could be.
    publish(&mut owners, &by, "stage", None, at(2_002));
    let kept = owners.take_new(10);
    end(&mut owners, "stage", at(2_003));
    owners.put_back(kept);
    assert_eq!(owners.take_new(10), [Kept { topic: level(), owner: None }]);
}
