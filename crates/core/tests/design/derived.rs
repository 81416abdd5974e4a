//! Derived topics: how the blueprint declares them, what it refuses, and what they make of messages.

use moorfall_core::{
    NoValue, Time,
    blueprint::{Blueprint, diff},
    derived::{Deriver, Made, Outcome, Quality},
};
use moorfall_wire::{QoS, TopicName};
use proptest::prelude::*;

const LEVELS: &str = "name = \"harrowmere\"\n[levels]\nreach = { one-of = [\"gorge\", \"tidal\"] }\nstation = {}\n";

const LEVEL: &str = "name = \"level\"\nfrom = \"harrowmere/{reach}/{station}/stage\"\n\
                     to = \"values/{reach}/{station}/level\"\nvalue = \"payload.m\"\n";

const FALL: &str = "name = \"fall\"\nfrom = { upper = \"harrowmere/{reach}/upper\", lower = \"harrowmere/{reach}/lower\" }\n\
                    to = \"values/{reach}/fall\"\nvalue = \"upper.m - lower.m\"\n";

fn read(entries: &[&str]) -> Result<Blueprint, String> {
    let text: String = entries.iter().map(|entry| format!("[[derived]]\n{entry}\n")).collect();
    Blueprint::parse(&format!("{LEVELS}{text}"))
        .map_err(|findings| findings.iter().map(|finding| format!("{finding}\n")).collect())
}

fn deriver(entries: &[&str]) -> Deriver {
    Deriver::new(&read(entries).unwrap_or_else(|words| panic!("{words}")).derived, Deriver::default())
}

fn at(seconds: u64) -> Time {
    Time::from_micros(1_700_000_000_000_000 + seconds * 1_000_000)
}

fn topic(text: &str) -> TopicName {
    text.parse().unwrap()
}

fn hear(deriver: &mut Deriver, name: &str, payload: &str, seconds: u64) -> Vec<Made> {
    deriver.hear(&topic(name), payload.as_bytes(), (QoS::AtMostOnce, false), at(seconds))
}

/// What is published, as topic and payload; everything else as it is.
fn told(made: Vec<Made>) -> Vec<String> {
    let words = |made: Made| match made.outcome {
        Outcome::Published(payload) => format!("{} {}", made.topic, String::from_utf8_lossy(&payload)),
        other => format!("{} {other:?}", made.topic),
    };
    made.into_iter().map(words).collect()
}

const WEIR: &str = "harrowmere/gorge/kettle-weir/stage";

#[test]
fn a_field_becomes_a_value_of_its_own_in_another_unit() {
    let mut deriver = deriver(&[&format!("{LEVEL}where = \"payload.quality == 'good'\"\nfactor = 100")]);
    let made = hear(&mut deriver, WEIR, r#"{"m": 1.83, "quality": "good"}"#, 0);
    assert_eq!(told(made), ["values/gorge/kettle-weir/level 183"]);
    assert_eq!(
        told(hear(&mut deriver, WEIR, r#"{"m": 1.9, "quality": "bad"}"#, 1)),
        ["values/gorge/kettle-weir/level NotTrue"]
    );
    let without = hear(&mut deriver, WEIR, r#"{"m": 1.9}"#, 1);
    assert_eq!(
        without[0].outcome,
        Outcome::Failed(NoValue::Missing("quality".into())),
        "who asks for it wants to know"
    );
    let number = format!("{LEVEL}where = \"payload.m\"");
    assert_eq!(
        hear(&mut self::deriver(&[&number]), WEIR, r#"{"m": 1}"#, 0)[0].outcome,
        Outcome::Failed(NoValue::NotTruth)
    );
    let failed = hear(&mut deriver, WEIR, r#"{"quality": "good"}"#, 2);
    assert_eq!(failed[0].outcome, Outcome::Failed(NoValue::Missing("m".into())));
    assert!(hear(&mut deriver, "harrowmere/moor/kettle-weir/stage", "{}", 3).is_empty(), "moor is no reach");
    let tenths = format!("{LEVEL}decimals = 1");
    let made = hear(&mut self::deriver(&[&tenths]), WEIR, r#"{"m": -0.04}"#, 0);
    assert_eq!(told(made), ["values/gorge/kettle-weir/level 0"]);
    let clearing = deriver.hear(&topic(WEIR), b"", (QoS::AtMostOnce, true), at(4));
    assert!(clearing.is_empty(), "what clears a retained message is no value");
    assert_eq!(deriver.filters(), [("harrowmere/+/+/stage".parse().unwrap(), QoS::AtMostOnce)]);
}

#[test]
fn two_topics_make_a_third_when_both_have_said_something() {
    let mut deriver = deriver(&[FALL]);
    let first = hear(&mut deriver, "harrowmere/gorge/upper", r#"{"m": 2.5}"#, 0);
    assert_eq!(first[0].outcome, Outcome::Incomplete(vec!["lower".into()]));
    let other = hear(&mut deriver, "harrowmere/tidal/lower", r#"{"m": 1.0}"#, 1);
    assert_eq!(other[0].outcome, Outcome::Incomplete(vec!["upper".into()]), "another reach");
    assert_eq!(told(hear(&mut deriver, "harrowmere/gorge/lower", r#"{"m": 1.2}"#, 2)), ["values/gorge/fall 1.3"]);
    assert_eq!(told(hear(&mut deriver, "harrowmere/gorge/upper", r#"{"m": 2.7}"#, 3)), ["values/gorge/fall 1.5"]);
    let known = deriver.known_of(&topic("values/gorge/fall"));
    let heard: Vec<_> = known[0].1.heard.iter().flatten().cloned().collect();
    assert_eq!(heard, ["harrowmere/gorge/lower", "harrowmere/gorge/upper"]);
    let long = format!("{{\"m\": 1, \"x\": \"{}\"}}", "x".repeat(17_000));
    assert_eq!(hear(&mut deriver, "harrowmere/gorge/upper", &long, 4)[0].outcome, Outcome::Failed(NoValue::NotKept));
}

#[test]
fn only_what_changes_enough_is_published() {
    let mut deriver = deriver(&[&format!("{LEVEL}dead-band = 0.1")]);
    let mut say = |m: f64, seconds| told(hear(&mut deriver, WEIR, &format!("{{\"m\": {m}}}"), seconds)).remove(0);
    assert_eq!(say(1.0, 0), "values/gorge/kettle-weir/level 1");
    assert!(say(1.09, 1).ends_with("Unchanged"));
    assert!(say(1.2, 2).ends_with(" 1.2"), "from what was published, not from what came");
    assert!(say(1.2, 3).ends_with("Unchanged"));
}

#[test]
fn the_newest_of_what_comes_too_often_waits_and_is_published_in_its_time() {
    let mut deriver = deriver(&[&format!("{LEVEL}at-most-every = \"10s\"\non-change = true")]);
    let mut say = |m: f64, seconds| told(hear(&mut deriver, WEIR, &format!("{{\"m\": {m}}}"), seconds)).remove(0);
    assert!(say(1.0, 0).ends_with(" 1"));
    assert!(say(2.0, 3).contains("Waits") && say(3.0, 4).contains("Waits"));
    assert_eq!(deriver.due(), Some(at(10)));
    assert!(deriver.look(at(9), 10).is_empty());
    assert_eq!(told(deriver.look(at(10), 10)), ["values/gorge/kettle-weir/level 3"]);
    assert!(deriver.look(at(30), 10).is_empty());
    let mut say = |m: f64, seconds| told(hear(&mut deriver, WEIR, &format!("{{\"m\": {m}}}"), seconds)).remove(0);
    assert!(say(4.0, 12).contains("Waits"));
    assert!(say(3.0, 13).ends_with("Unchanged"), "it is again what was published");
    assert!(deriver.look(at(30), 10).is_empty(), "so nothing waits");
}

#[test]
fn a_value_that_does_not_come_within_its_cadence_is_stale() {
    let mut deriver = deriver(&[&format!("{LEVEL}payload = \"record\"\ncadence = \"1m\"\non-change = true")]);
    assert_eq!(
        told(hear(&mut deriver, WEIR, r#"{"m": 1.5}"#, 0)),
        [r#"values/gorge/kettle-weir/level {"value":1.5,"time":"2023-11-14T22:13:20Z","quality":"good"}"#]
    );
    assert!(hear(&mut deriver, WEIR, r#"{"m": 1.5}"#, 50)[0].outcome == Outcome::Unchanged);
    assert!(deriver.look(at(60), 10).is_empty(), "it came again, though it was not published");
    let stale = told(deriver.look(at(110), 10));
    assert!(stale[0].ends_with(r#""time":"2023-11-14T22:14:10Z","quality":"stale"}"#), "{stale:?}");
    assert!(deriver.look(at(1_000), 10).is_empty(), "it is said once");
    let known = &deriver.known_of(&topic("values/gorge/kettle-weir/level"))[0].1;
    assert_eq!(known.published.as_ref().map(|(.., quality)| *quality), Some(Quality::Stale));
    let back = told(hear(&mut deriver, WEIR, r#"{"m": 1.5}"#, 1_001));
    assert!(back[0].contains(r#""quality":"good""#), "that it is back is a change: {back:?}");
}

#[test]
fn a_window_tells_of_a_while_and_the_value_before_is_known() {
    let mean = format!("{LEVEL}statistic = \"mean\"\nwindow = \"1m\"");
    let change =
        LEVEL.replace("level\"", "change\"").replace("payload.m", "before == null ? payload.m : payload.m - before");
    let count =
        LEVEL.replace("level\"", "count\"").replace("payload.m", "payload") + "statistic = \"count\"\nwindow = \"1h\"";
    let rate = LEVEL.replace("level\"", "rate\"") + "statistic = \"rate\"\nwindow = \"1m\"";
    let mut deriver = deriver(&[&mean, &change, &count, &rate]);
    let mut say = |payload: &str, seconds| told(hear(&mut deriver, WEIR, payload, seconds));
    assert!(say(r#"{"m": 1}"#, 0)[3].contains("OneAlone"));
    let second = say(r#"{"m": 3}"#, 10);
    assert!(second[0].ends_with(" 2") && second[1].ends_with(" 2") && second[3].ends_with(" 0.2"), "{second:?}");
    assert!(second[2].contains("NotScalar"), "an object is no value: {second:?}");
    let third = say("7", 11);
    assert!(third[2].ends_with(" 1") && third[0].contains("Failed"), "{third:?}");
    assert!(say("\"text\"", 12)[2].ends_with(" 2"), "also texts are counted");
}

#[test]
fn what_is_older_than_the_window_counts_no_more_though_nothing_comes() {
    let with = |name: &str, more: &str| format!("{}{more}", LEVEL.replace("level\"", &format!("{name}\"")));
    let sum = with("sum", "statistic = \"sum\"\nwindow = \"1m\"\non-change = true\nat-most-every = \"5s\"");
    let mean = with("mean", "statistic = \"mean\"\nwindow = \"1m\"\ndecimals = 1");
    let count = with("count", "statistic = \"count\"\nwindow = \"1m\"\npayload = \"record\"\ncadence = \"100s\"");
    let mut deriver = deriver(&[&sum, &mean, &count]);
    for (m, seconds) in [(2.0, 0), (4.0, 30)] {
        hear(&mut deriver, WEIR, &format!("{{\"m\": {m}}}"), seconds);
    }
    assert!(deriver.look(at(60), 10).is_empty());
    let first = told(deriver.look(at(61), 10));
    assert_eq!(first[..2], ["values/gorge/kettle-weir/sum 4", "values/gorge/kettle-weir/mean 4"]);
    assert!(first[2].ends_with(r#"{"value":1,"time":"2023-11-14T22:13:50Z","quality":"good"}"#), "{first:?}");
    // What is known is kept, and goes on by itself after a restart.
    let kept = deriver.take_new(10);
    assert_eq!(kept.len(), 3);
    let mut next = self::deriver(&[&sum, &mean, &count]);
    assert!(kept.iter().all(|kept| next.restore(kept)));
    let second = told(next.look(at(91), 10));
    assert_eq!(second[0], "values/gorge/kettle-weir/sum 0");
    assert!(second[1].contains("/count {\"value\":0,"), "of nothing there is no mean: {second:?}");
    let third = told(next.look(at(130), 10));
    assert!(third.len() == 1 && third[0].ends_with("\"stale\"}"), "{third:?}");
    assert_eq!((next.look(at(10_000), 10).len(), next.due()), (0, None), "then there is nothing to wait for");
    // What leaves soon after a message waits as messages do.
    hear(&mut next, WEIR, r#"{"m": 5}"#, 200);
    hear(&mut next, WEIR, r#"{"m": 1}"#, 258);
    assert!(next.look(at(261), 10).iter().all(|made| made.derived != 0), "5 s since 258 have not passed");
    assert_eq!(told(next.look(at(263), 10)), ["values/gorge/kettle-weir/sum 1"]);
}

#[test]
fn what_is_known_outlives_the_process_as_long_as_the_design_says_the_same() {
    let entries = [&format!("{LEVEL}dead-band = 0.1\nstatistic = \"mean\"\nwindow = \"1m\""), FALL];
    let mut before = deriver(&entries);
    hear(&mut before, WEIR, r#"{"m": 1.0}"#, 0);
    hear(&mut before, WEIR, r#"{"m": 1.0}"#, 1);
    hear(&mut before, "harrowmere/gorge/upper", r#"{"m": 2.5}"#, 2);
    let kept = before.take_new(100);
    assert_eq!(kept.len(), 2, "each once");
    assert!(before.take_new(100).is_empty());
    let mut after = deriver(&entries);
    assert!(kept.iter().all(|kept| after.restore(kept)));
    assert_eq!(told(hear(&mut after, "harrowmere/gorge/lower", r#"{"m": 1}"#, 3)), ["values/gorge/fall 1.5"]);
    assert!(told(hear(&mut after, WEIR, r#"{"m": 1.06}"#, 3))[0].ends_with("Unchanged"), "the mean moved by 0.02");
    let mut other = deriver(&[LEVEL, FALL]);
    let restored: Vec<bool> = kept.iter().map(|kept| other.restore(kept)).collect();
    assert_eq!(
        restored.iter().filter(|is_known| **is_known).count(),
        1,
        "of what the design says otherwise nothing is known"
    );
    // A change of the design while it runs.
    let design = read(&[FALL, LEVEL]).unwrap().derived;
    let mut changed = Deriver::new(&design, after);
    assert_eq!(told(hear(&mut changed, "harrowmere/gorge/lower", r#"{"m": 2}"#, 4)), ["values/gorge/fall 0.5"]);
}

#[test]
fn one_derived_topic_feeds_another_and_a_trial_changes_nothing() {
    let doubled = "name = \"doubled\"\nfrom = \"values/{reach}/{station}/level\"\nto = \"values/{reach}/{station}/doubled\"\nvalue = \"payload * 2\"\n";
    let mut deriver = deriver(&[LEVEL, doubled]);
    let made = hear(&mut deriver, WEIR, r#"{"m": 1.5}"#, 0);
    let Outcome::Published(payload) = &made[0].outcome else { panic!() };
    let next = deriver.hear(&made[0].topic, payload, (QoS::AtMostOnce, false), at(0));
    assert_eq!(told(next), ["values/gorge/kettle-weir/doubled 3"]);
    let tried = deriver.try_one(0, &topic(WEIR), br#"{"m": 9}"#, (QoS::AtMostOnce, false), at(1));
    assert_eq!(tried, [(topic("values/gorge/kettle-weir/level"), Outcome::Published("9".into()))]);
    assert_eq!(deriver.known(0, 10)[0].published.as_ref().unwrap().0.to_string(), "1.5");
    assert_eq!(deriver.try_one(0, &topic("elsewhere"), b"1", (QoS::AtMostOnce, false), at(1)), []);
    assert_eq!(deriver.try_one(1, &topic(WEIR), b"1", (QoS::AtMostOnce, false), at(1)), []);
}

#[test]
fn what_is_wrong_is_told_with_its_place_and_remedy() {
    let level = |from: &str, to: &str| LEVEL.replace(from, to);
    let twice = format!("{LEVEL}[[derived]]\n{LEVEL}");
    for (entry, words) in [
        (level("payload.m", "payload.m +"), "not complete"),
        (level("payload.m", "upper.m"), "`upper` is unknown here; write payload"),
        (level("{reach}/{station}/level", "{basin}/level"), "`{basin}` is nothing that the filter catches"),
        (level("values/{reach}/{station}/level", "$values/level"), "can't be the name of a topic"),
        (level("harrowmere/{reach}", "harrowmere/{basin}"), "there is no level `basin`"),
        (format!("{LEVEL}window = \"5m\""), "a window needs a statistic"),
        (format!("{LEVEL}statistic = \"median\"\nwindow = \"5m\""), "write one of: mean, least, greatest"),
        (format!("{LEVEL}cadence = \"5m\""), "write payload = \"record\""),
        (format!("{LEVEL}payload = \"json\""), "write one of: value, record"),
        (format!("{LEVEL}qos = 2"), "write 0 or 1"),
        (format!("{LEVEL}decimals = 10"), "0 to 9 decimals"),
        (format!("{LEVEL}dead-band = 0"), "above 0"),
        (format!("{LEVEL}dead-band = 1\non-change = false"), "only changes are published"),
        (format!("{LEVEL}factor = 0"), "write another number"),
        (FALL.replace("upper =", "Upper ="), "`Upper` is not a name for a source"),
        (FALL.replace("value = \"upper.m - lower.m\"\n", ""), "value = \"lower - upper\""),
        (level("name = \"level\"", "name = \"the level\""), "is not a name for a derived topic"),
        (twice, "two derived topics have the name `level`"),
    ] {
        let told = read(&[&entry]).err().unwrap_or_else(|| panic!("not refused: {entry}"));
        assert!(told.contains(words), "{entry}\n{told}");
    }
}

/// The schema that editors complete by, and the reader, take and refuse the same.
#[test]
fn the_schema_for_editors_knows_derived_topics() {
    let schema: serde_json::Value =
        serde_json::from_str(include_str!("../../../contract/blueprint.schema.json")).unwrap();
    let validator = jsonschema::validator_for(&schema).unwrap();
    let both = |entry: &str| {
        let text = format!("{LEVELS}[[derived]]\n{entry}");
        (validator.is_valid(&toml::from_str(&text).unwrap()), Blueprint::parse(&text).is_ok())
    };
    let all = "where = \"true\"\nfactor = 2\noffset = 1.5\ndecimals = 2\nstatistic = \"mean\"\nwindow = \"5m\"\ndead-band = 0.1\n\
               at-most-every = \"1s\"\ncadence = \"5m\"\npayload = \"record\"\nqos = 1\nretained = true\n";
    for entry in [FALL.to_owned(), format!("{LEVEL}{all}"), format!("{LEVEL}on-change = true")] {
        assert_eq!(both(&entry), (true, true), "{entry}");
    }
    for more in ["qos = 2", "decimals = 10", "dead-band = 0", "payload = \"json\"", "unit = \"m\"", "retained = 1"] {
        assert_eq!(both(&format!("{LEVEL}{more}")), (false, false), "{more}");
    }
    assert_eq!(both(&FALL.replace("upper =", "Upper =")), (false, false));
}

#[test]
fn derived_topics_that_go_round_are_refused_topic_by_topic() {
    let one = |name: &str, from: &str, to: &str| format!("name = \"{name}\"\nfrom = \"{from}\"\nto = \"{to}\"\n");
    for (entries, words) in [
        (
            vec![one("a", "x/{reach}", "y/{reach}"), one("b", "y/+", "x/{1}")],
            "x/gorge becomes y/gorge by a, which becomes x/gorge by b, which becomes y/gorge by a",
        ),
        (vec![one("a", "x/#", "x/y/#")], "x becomes x/y by a, which becomes x/y/y by a"),
    ] {
        let entries: Vec<&str> = entries.iter().map(String::as_str).collect();
        let told = read(&entries).unwrap_err();
        assert!(told.contains(&format!("derived topics go round: {words}")), "{told}");
    }
    let apart = [one("a", "x/{reach}", "y/{reach}"), one("b", "y/moor", "x/gorge")];
    assert!(read(&[&apart[0], &apart[1]]).is_ok(), "moor is no reach, so they never meet");
}

#[test]
fn what_is_probably_not_meant_is_warned_of() {
    let plan = "[[topics]]\npath = \"harrowmere/{reach}/{station}/stage\"\n[[derived]]\n";
    let joined = LEVEL.replace("values/{reach}/{station}/level", "values/level");
    let blueprint =
        Blueprint::parse(&format!("{LEVELS}{plan}{joined}[[derived]]\n{}", joined.replace("\"level\"", "\"other\"")));
    let told: String = blueprint.unwrap().lint().iter().map(|finding| format!("{finding}\n")).collect();
    for words in
        ["different topics become one", "`level` makes topics that are not planned", "may both make values/level"]
    {
        assert!(told.contains(words), "{told}");
    }
}

#[test]
fn a_change_is_told_field_by_field() {
    let (old, new) = (read(&[LEVEL]).unwrap(), read(&[&format!("{LEVEL}factor = 100")]).unwrap());
    let changes = diff(&old, &new);
    assert_eq!((changes[0].part.as_str(), changes[0].name.as_str()), ("derived", "level"));
    let field = &changes[0].fields[0];
    assert_eq!((field.field.as_str(), field.before.as_str(), field.after.as_str()), ("factor", "1", "100"));
}

proptest! {
    /// Whatever comes when: no two messages of a topic are nearer to each other than they may be, what is published last is the
    /// newest value in the end, and what is kept and restored at any moment goes on the same.
    #[test]
    fn the_newest_value_is_published_in_the_end_and_never_too_often(
        steps in proptest::collection::vec((0_u64..8, 0_u8..4, any::<bool>()), 1..60),
    ) {
        let entry = format!("{LEVEL}at-most-every = \"5s\"\non-change = true");
        let mut one = deriver(&[&entry]);
        let (mut now, mut published, mut newest) = (0, Vec::new(), 0);
        let note = |made: Vec<Made>, now: u64, published: &mut Vec<(u64, String)>| {
            for one in made {
                if let Outcome::Published(payload) = one.outcome {
                    published.push((now, String::from_utf8_lossy(&payload).into_owned()));
                }
            }
        };
        for (step, value, restarts) in steps {
            for _ in 0..step {
                now += 1;
                note(one.look(at(now), 10), now, &mut published);
            }
            newest = value;
            note(hear(&mut one, WEIR, &format!("{{\"m\": {value}}}"), now), now, &mut published);
            if restarts {
                let kept = one.take_new(10);
                let mut next = deriver(&[&entry]);
                for kept in &kept {
                    prop_assert!(next.restore(kept));
                }
                one = next;
            }
        }
        for _ in 0..6 {
            now += 1;
            note(one.look(at(now), 10), now, &mut published);
        }
        prop_assert!(published.windows(2).all(|two| two[1].0 - two[0].0 >= 5 && two[0].1 != two[1].1), "{:?}", published);
        prop_assert_eq!(published.last().map(|(_, value)| value.clone()), Some(newest.to_string()));
    }
}
