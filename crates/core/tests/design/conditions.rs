//! Conditions: how the blueprint declares them, what it refuses, and whom they concern.

use std::sync::Arc;

use moorfall_core::{
    AttributeValue, Identity,
    access::Policy,
    blueprint::{Blueprint, diff},
};

const HEAD: &str = "name = \"harrowmere\"\n[levels]\nreach = { one-of = [\"gorge\", \"tidal\"] }\n\
                    [cohorts]\nboards = { where = \"attr.kind == 'board'\" }\n[[conditions]]\n";

const HIGH: &str = "name = \"high\"\nwho = { cohort = \"boards\" }\ntopics = [\"harrowmere/{attr.reach}/+/level\", \"tide/#\"]\n\
                    where = \"payload.m > 2.5\"\n";

fn read(entries: &str) -> Result<Blueprint, String> {
    Blueprint::parse(&format!("{HEAD}{entries}"))
        .map_err(|findings| findings.iter().map(|finding| format!("{finding}\n")).collect())
}

fn identity(name: &str, attributes: &[(&str, &str)]) -> Identity {
    let attributes =
        attributes.iter().map(|(name, value)| ((*name).to_owned(), AttributeValue::Text((*value).to_owned())));
    Identity { name: name.into(), attributes: attributes.collect() }
}

#[test]
fn a_condition_concerns_those_whom_it_names_and_their_topics() {
    let everyone =
        "[[conditions]]\nname = \"all\"\nwho = \"everyone\"\ntopics = [\"status/{identity}\"]\nwhere = \"retained\"\n";
    let policy = Arc::new(Policy::new(Arc::new(read(&format!("{HIGH}{everyone}")).unwrap())));
    let of = |identity: &Identity| {
        let conditions = policy.bind(identity, "client").unwrap().conditions();
        let all = conditions.iter().flat_map(|all| all.iter());
        all.map(|one| {
            let topics: Vec<_> = one.topics.iter().map(ToString::to_string).collect();
            format!("{} {} {}", one.name, topics.join(" "), one.condition)
        })
        .collect::<Vec<_>>()
    };
    let board = identity("board", &[("kind", "board"), ("reach", "gorge")]);
    assert_eq!(of(&board), ["high harrowmere/gorge/+/level tide/# payload.m > 2.5", "all status/board retained"]);
    let elsewhere = identity("other", &[("kind", "board")]);
    assert_eq!(of(&elsewhere)[0], "high tide/# payload.m > 2.5", "of a topic that it lacks an attribute for nothing");
    assert_eq!(of(&identity("gauge", &[("kind", "station")])), ["all status/gauge retained"]);
    let conditions = policy.bind(&board, "client").unwrap().conditions().unwrap();
    assert!(
        conditions[0].is_about("harrowmere/gorge/weir/level") && !conditions[0].is_about("harrowmere/tidal/weir/level")
    );
}

#[test]
fn what_is_wrong_is_told_with_its_place_and_remedy() {
    for (from, to, words) in [
        ("payload.m > 2.5", "payload.m > ", "not complete"),
        ("payload.m > 2.5", "payload.m", ""),
        ("payload.m > 2.5", "payload.m + 1", "must be true or false"),
        ("payload.m > 2.5", "level.reach == 'gorge'", "`level` is unknown here; write topic"),
        ("\"boards\"", "\"bords\"", "bords"),
        ("where = \"payload.m > 2.5\"\n", "", "missing field `where`"),
        ("{attr.reach}", "{basin}", "basin"),
        ("\"high\"", "\"\"", "a condition needs a name"),
    ] {
        let told = read(&HIGH.replace(from, to)).err().unwrap_or_default();
        assert_eq!(told.is_empty(), words.is_empty(), "{to}: {told}");
        assert!(told.contains(words), "{to}: {told}");
    }
    let twice = read(&format!("{HIGH}[[conditions]]\n{HIGH}")).unwrap_err();
    assert!(twice.contains("two conditions have the name `high`"), "{twice}");
}

#[test]
fn the_schema_for_editors_knows_conditions() {
    let schema: serde_json::Value =
        serde_json::from_str(include_str!("../../../contract/blueprint.schema.json")).unwrap();
    let validator = jsonschema::validator_for(&schema).unwrap();
    for (entry, is_taken) in [
        (HIGH.to_owned(), true),
        (format!("{HIGH}purpose = \"a board shows what is high\"\n"), true),
        (format!("{HIGH}qos = 1\n"), false),
        (HIGH.replace("where = \"payload.m > 2.5\"\n", ""), false),
    ] {
        let text = format!("{HEAD}{entry}");
        let by_schema = validator.is_valid(&toml::from_str(&text).unwrap());
        assert_eq!((by_schema, Blueprint::parse(&text).is_ok()), (is_taken, is_taken), "{entry}");
    }
}

#[test]
fn a_change_is_told_field_by_field() {
    let (old, new) = (read(HIGH).unwrap(), read(&HIGH.replace("2.5", "3")).unwrap());
    let changes = diff(&old, &new);
    assert_eq!((changes.len(), changes[0].part.as_str(), changes[0].name.as_str()), (1, "condition", "high"));
    let field = &changes[0].fields[0];
    assert_eq!((field.field.as_str(), field.after.as_str()), ("where", "payload.m > 3"));
}
