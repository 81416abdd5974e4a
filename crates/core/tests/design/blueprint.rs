//! What is read, what is wrong, and what changes.

use moorfall_core::blueprint::{Blueprint, Kind, Severity, Source, SourceFile, Verdict, Who, diff};

use super::CATCHMENT;

/// What is wrong with the catchment when this is changed in it.
fn wrong(from: &str, to: &str) -> Vec<String> {
    assert!(CATCHMENT.contains(from), "{from}");
    let findings = Blueprint::parse(&CATCHMENT.replacen(from, to, 1)).err().unwrap_or_default();
    findings.iter().map(ToString::to_string).collect()
}

#[test]
fn a_whole_blueprint_is_read() {
    let blueprint = Blueprint::parse(CATCHMENT).unwrap();
    assert_eq!((&*blueprint.name, blueprint.levels.len(), blueprint.topics.len()), ("harrowmere", 3, 4));
    assert_eq!(blueprint.rules[0].who, Who::Cohort("stations".into()));
    assert_eq!(blueprint.rules[5].verdict, Verdict::Deny);
    assert_eq!(blueprint.topics[0].cadence.unwrap().as_secs(), 900);
    assert_eq!(blueprint.rules[3].limits.rate.unwrap().to_string(), "2/m");
    assert_eq!(blueprint.lint(), []);
}

#[test]
fn faults_are_pointed_at() {
    for (from, to, message, pointed) in [
        (
            "{ cohort = \"stations\" }\nmay = [\"publish\"]",
            "{ cohort = \"pumps\" }\nmay = [\"publish\"]",
            "there is no cohort `pumps`; this blueprint has: gorge-stations, stations",
            "{ cohort",
        ),
        (
            "who = { identity = \"duty-desk\" }\nmay = [\"subscribe\"]",
            "who = \"all\"\nmay = [\"subscribe\"]",
            "`all` does not name anybody; write { identity",
            "\"all\"",
        ),
        (
            "{ identity = \"contractor-pumps\" }",
            "{ identity = \"x\", cohort = \"stations\" }",
            "must name one identity",
            "{ id",
        ),
        ("{ identity = \"contractor-pumps\" }", "{ person = \"x\" }", "`person` is not allowed here", "{ person"),
        (
            "{identity}/gate/target",
            "{name}/gate/target",
            "`{name}` is unknown; write {identity}, {client_id}, {attr.NAME} or a level: {pump}, {reach}, {station}",
            "\"harrowmere/{attr",
        ),
        (
            "{pump}/power\"]",
            "x-{pump}/power\"]",
            "`{pump}` is a named level, so it must be alone",
            "\"harrowmere/meadows",
        ),
        ("meadows/{station}/{pump}/power\"]", "meadows/#/{pump}\"]", "is not a topic filter", "\"harrowmere/meadows"),
        (
            "measure = \"queued\"",
            "measure = \"queues\"",
            "there is no measure `queues`; `moorfall measures`",
            "\"queues",
        ),
        ("high = 10_000", "high = 1\nlow = 2.5", "low is 2.5 and high is 1: nothing lies between", "2.5"),
        ("high = 10_000", "text = \"\"", "the alert `queues` has no band; write low, high or both", "\"queues"),
        ("high = 10_000", "silent = \"1m\"\nhigh = 1", "silence has no band", "1"),
        ("silent = \"cadence\"", "silent = \"long\"", "`long` is not a time", "\"long"),
        ("silent = \"1h\"", "silent = \"cadence\"", "only topics have a planned cadence", "\"cadence"),
        ("silent = \"1h\"", "text = \"\"", "an alert on an identity or a session is about its silence", "\"forecast"),
        ("identity = \"forecast\"", "identity = \"x\"\nsession = \"y\"", "watches several things", "\"forecast-silent"),
        ("measure = \"queued\"\n", "", "the alert `queues` watches nothing; write one of", "\"queues"),
        (
            "{station}/stage/level\"\nfield",
            "{identity}/stage/level\"\nfield",
            "has a value of a session in it",
            "\"harrow",
        ),
        ("measure = \"queued\"", "measure = \"queued\"\nfield = \"m\"", "`field` is only for numbers in", "\"m"),
        (
            "5m\"\ntell = [\"duty-desk\"]",
            "5m\"\ntell = [\"desk\"]",
            "there is no contact `desk`; this blueprint has: duty",
            "\"desk",
        ),
        ("duty@harrowmere.example", "duty at harrowmere", "is not an address of e-mail", "\"duty at"),
        ("https://duty", "ftp://duty", "is not the address of a web hook; write for example https", "\"ftp"),
        ("\"harrowmere/alerts\"", "\"harrowmere/+\"", "`harrowmere/+` is not a topic", "\"harrow"),
        ("severity = \"critical\"", "severity = \"high\"", "unknown variant `high`", "\"high"),
        ("[\"publish\", \"subscribe\"]", "[\"write\"]", "unknown variant `write`", "\"write\""),
        ("may = [\"publish\", \"subscribe\"]", "may = []", "`may` is empty", "[]"),
        ("may = [\"publish\", \"subscribe\"]", "might = []", "unknown field `might`", "might"),
        ("attr.kind == \"station\"'", "attr.kind = \"station\"'", "compare with ==", "="),
        ("pattern = \"[a-z]+(-[a-z]+)*\"", "pattern = \"[a-z\"", "not a regular expression: unclosed", "\"[a-z"),
        ("one-of = [\"pump-1\", \"pump-2\"]", "one-of = []", "`one-of` is empty", "[]"),
        ("one-of = [\"pump-1\", \"pump-2\"]", "one-of = [\"a/b\"]", "`a/b` is not a valid topic level", "["),
        ("{reach}/{station}/status", "{stretch}/{station}/status", "there is no level `stretch`", "\"harrow"),
        ("harrowmere/{reach}/{station}/status", "harrowmere/+/status", "is not a valid path", "\"harrow"),
        ("type = \"object\"", "type = \"thing\"", "invalid JSON Schema", "{ type"),
        ("payload = \"number\"", "payload = \"xml\"", "`xml` is not a payload type; write json", "\"xml\""),
        ("qos = 1", "qos = 3", "there is no QoS 3; write 0, 1 or 2", "3"),
        ("cadence = \"15m\"", "cadence = \"often\"", "`often` is not a time; write a number with s, m", "\"often"),
        ("rate = \"2/m\"", "rate = \"2\"", "`2` is not a rate", "\"2\""),
        ("never = ", "rate = \"1/s\"\nnever = ", "a rule that denies has no highest QoS", "\"1/s"),
        ("never = ", "effect = \"deny\"\nmay = ", "write `never` instead of `may`", "\"deny"),
        ("never = ", "may = [\"publish\"]\nnever = ", "can't have both `may` and `never`", "["),
        (
            "can = \"subscribe\"",
            "can = \"subscribe\"\ncannot = \"publish\"",
            "needs either `can` or `cannot`",
            "\"the-desk",
        ),
        (
            "name = \"stations-obey\"",
            "name = \"stations-report\"",
            "two rules have the name `stations-report`",
            "\"stations-report",
        ),
        ("name = \"harrowmere\"", "", "the blueprint has no name", ""),
    ] {
        let findings = wrong(from, to);
        let found = findings.iter().find(|finding| finding.contains(message));
        let found = found.unwrap_or_else(|| panic!("{message:?} is not among {findings:#?}"));
        let lines: Vec<&str> = found.lines().collect();
        let at = lines[2].find('^').unwrap();
        assert!(lines[1][at..].starts_with(pointed), "{found}");
        assert!(found.starts_with("blueprint.toml, line "), "{found}");
    }
}

#[test]
fn all_faults_are_told_at_once() {
    let text = CATCHMENT.replace("qos = 1\n", "qos = 7\n").replace("rate = \"2/m\"", "rate = \"x\"");
    assert_eq!(Blueprint::parse(&text).unwrap_err().len(), 3, "highest-qos, too");
}

#[test]
fn a_folder_of_files_is_one_blueprint() {
    let (levels, rest) = CATCHMENT.split_once("[[topics]]").unwrap();
    let rest = format!("[[topics]]{rest}");
    let file = |name: &str, text: &str| SourceFile { name: name.into(), text: text.into() };
    let source = Source::new([file("2-rest.toml", &rest), file("1-levels.toml", levels)]);
    let blueprint = Blueprint::read(source).unwrap();
    assert_eq!(diff(&Blueprint::parse(CATCHMENT).unwrap(), &blueprint), []);
    let broken = Source::new([file("2-rest.toml", &rest.replace("2/m", "2")), file("1-levels.toml", levels)]);
    let findings = Blueprint::read(broken).unwrap_err();
    assert_eq!(findings[0].file, "2-rest.toml");
    let twice = Source::new([file("a.toml", CATCHMENT), file("b.toml", levels)]);
    let findings = Blueprint::read(twice).unwrap_err();
    assert!(findings.iter().any(|finding| finding.message == "the blueprint already has a name"), "{findings:?}");
    assert!(findings.iter().any(|finding| finding.message == "the level `reach` is defined twice"), "{findings:?}");
}

#[test]
fn what_is_probably_not_meant_is_said() {
    for (from, to, message, remedy) in [
        ("{station}/status\"\npayload", "{station}/status/\"\npayload", "create an empty level", "extra slash"),
        ("{station}/gate/target\"\n\n", "{station}/gate target\"\n\n", "contains a space", "hyphen"),
        (
            "\"harrowmere/{reach}/{station}/gate/target\"\n\n",
            "\"$harrowmere/{reach}/{station}/gate/target\"\n\n",
            "begin with $",
            "another first level",
        ),
        ("5m\"\ntell = [\"duty-desk\"]", "5m\"", "the alert `queues` tells nobody", "name contacts in `tell`"),
        (
            "[contacts.duty-desk]",
            "[contacts.x]\ntopic = \"x\"\n[contacts.duty-desk]",
            "no alert tells the contact",
            "remove",
        ),
        ("https://duty", "http://duty", "the hook of `duty-desk` is called without TLS", "write https"),
        (
            "gorge/{station}/stage/level\"\nfield",
            "gorge/{station}/level\"\nfield",
            "no planned topic matches",
            "plan it",
        ),
        (
            "cadence = \"15m\"\n",
            "",
            "none of the topics that `gauges-silent` watches has a planned cadence",
            "how long",
        ),
        ("{station}/gate/target\"\n\n", "{station}/a/b/c/d/e/f/g/h/i/j\"\n\n", "13 levels", "12 should be enough"),
        ("[levels.pump]", "[levels.sluice]\n[levels.pump]", "uses the level `sluice`", "remove it"),
        (
            "[cohorts.stations]",
            "[cohorts.models]\nwhere = 'true'\n[cohorts.stations]",
            "uses the cohort `models`",
            "use it",
        ),
        (
            "[[topics]]\npath = \"harrowmere/{reach}/{station}/gate/target\"",
            "[[topics]]\npath = \"harrowmere/{reach}/{station}/{pump}/position\"\n[[topics]]\npath = \
             \"harrowmere/{reach}/{station}/pump-1/{station}\"",
            "covers some of the same topics, for example harrowmere/gorge/{station}/pump-1/p",
            "planned once",
        ),
        (
            "[[topics]]\npath = \"harrowmere/{reach}/{station}/gate/target\"",
            "[levels.main-pump]\none-of = [\"pump-1\"]\n[[topics]]\npath = \
             \"harrowmere/{reach}/{station}/{main-pump}/power\"\n[[topics]]\npath = \
             \"harrowmere/{reach}/{station}/gate/target\"",
            "covers all of this, so it is never used",
            "remove one of them",
        ),
        (
            "\"harrowmere/{attr.reach}/{identity}/gate/target\"",
            "\"harrowmere/{attr.reach}/{identity}/Gate/target\"",
            "`Gate` is spelled `gate` elsewhere",
            "use one spelling",
        ),
        (
            "\"harrowmere/{attr.reach}/{identity}/gate/target\"",
            "\"harrowmere/{attr.reach}/{identity}/sluice/target\"",
            "no planned topic matches",
            "missing or misspelled",
        ),
        (
            "\"harrowmere/{attr.reach}/{identity}/status\"",
            "\"harrowmere/{identity}/{attr.reach}/status\"",
            "the identity at level 2, where the plan has {reach}",
            "use {identity} where",
        ),
        (
            "\"harrowmere/{attr.reach}/{identity}/status\"",
            "\"harrowmere/{attr.reach}/{identity}/#\"",
            "also allows publishing to topics that are not planned, for example harrowmere/anything/anything",
            "with {identity}",
        ),
        (
            "who = { identity = \"contractor-pumps\" }\nmay = [\"publish\", \"subscribe\"]\ntopics = \
             [\"harrowmere/meadows/{station}/{pump}/power\"]",
            "who = \"everyone\"\nmay = [\"publish\"]\ntopics = [\"#\"]",
            "allows everybody to use every topic",
            "name the topics",
        ),
    ] {
        assert!(CATCHMENT.contains(from), "{from}");
        let blueprint = Blueprint::parse(&CATCHMENT.replacen(from, to, 1)).unwrap_or_else(|f| panic!("{}", f[0]));
        let findings = blueprint.lint();
        let found = findings.iter().find(|finding| finding.message.contains(message));
        let found = found.unwrap_or_else(|| panic!("{message:?} is not among {findings:#?}"));
        assert!(found.remedy.contains(remedy), "{found}");
        assert!(found.line > 0 && found.severity == Severity::Warning);
    }
}

#[test]
fn changes_are_told_in_the_design_s_own_terms() {
    let old = Blueprint::parse(CATCHMENT).unwrap();
    let text = CATCHMENT
        .replace("cadence = \"15m\"", "cadence = \"5m\"")
        .replace("rate = \"2/m\"\n", "")
        .replace("out-for = \"30s\"", "out-for = \"90s\"")
        .replace("high = 10_000", "high = 10_000\nlow = -1")
        .replace("gorge-stations", "moor-stations");
    let changes = diff(&old, &Blueprint::parse(&text).unwrap());
    let told: Vec<_> = changes.iter().map(|change| (change.kind, &*change.part, &*change.name)).collect();
    assert_eq!(
        told,
        [
            (Kind::Changed, "topic", "harrowmere/{reach}/{station}/stage/level"),
            (Kind::Added, "cohort", "moor-stations"),
            (Kind::Removed, "cohort", "gorge-stations"),
            (Kind::Changed, "rule", "desk-moves-gates"),
            (Kind::Changed, "proof", "the-gorge-ends-somewhere"),
            (Kind::Changed, "alert", "gorge-high"),
            (Kind::Changed, "alert", "queues"),
        ]
    );
    let field = |change: usize| {
        let field = &changes[change].fields[0];
        (&*field.field, &*field.before, &*field.after)
    };
    assert_eq!(field(0), ("cadence", "15 min", "5 min"));
    assert_eq!(field(3), ("rate", "2/m", ""));
    assert_eq!(field(5), ("out-for", "30s", "1m 30s"));
    assert_eq!(field(6), ("band", "at most 10000", "-1 to 10000"));
    let limited = CATCHMENT.replace("name = \"stations-obey\"", "name = \"stations-obey\"\nhighest-qos = 1");
    let changes = diff(&old, &Blueprint::parse(&limited).unwrap());
    assert_eq!((&*changes[0].fields[0].before, &*changes[0].fields[0].after), ("", "1"), "a field that was not there");
    let moved = CATCHMENT.replace("[levels.reach]", "# Nothing but its place has changed.\n\n[levels.reach]");
    assert_eq!(diff(&old, &Blueprint::parse(&moved).unwrap()), []);
}

/// The schema that editors complete by, and the reader, take and refuse the same.
#[test]
fn the_schema_for_editors_says_what_the_reader_does() {
    let schema: serde_json::Value =
        serde_json::from_str(include_str!("../../../contract/blueprint.schema.json")).unwrap();
    let validator = jsonschema::validator_for(&schema).unwrap();
    let takes = |text: &str| {
        let document: serde_json::Value = toml::from_str(text).unwrap();
        validator.validate(&document).map_err(|error| format!("{}: {error}", error.instance_path()))
    };
    for text in
        [CATCHMENT, include_str!("../../../../demo/blueprint.toml"), include_str!("../../../../demo/derived.toml")]
    {
        assert_eq!(takes(text), Ok(()));
    }
    for (from, to) in [
        ("measure = \"queued\"\n", ""),
        ("high = 10_000", "text = \"\""),
        ("silent = \"1h\"", "text = \"\""),
        ("silent = \"1h\"", "silent = \"1h\"\nhigh = 1"),
        ("measure = \"queued\"", "measure = \"queued\"\nidentity = \"x\"\nsilent = \"1m\""),
        ("severity = \"critical\"", "severity = \"high\""),
        ("duty@harrowmere.example", "duty at harrowmere"),
        ("https://duty", "ftp://duty"),
        ("may = [\"publish\", \"subscribe\"]", "may = []"),
        ("may = [\"publish\", \"subscribe\"]", "might = []"),
        ("who = { identity = \"contractor-pumps\" }", "who = { person = \"x\" }"),
        ("who = { identity = \"contractor-pumps\" }", "who = \"all\""),
        ("one-of = [\"pump-1\", \"pump-2\"]", "one-of = []"),
        ("payload = \"number\"", "payload = \"xml\""),
        ("qos = 1", "qos = 3"),
        ("cadence = \"15m\"", "cadence = \"often\""),
        ("rate = \"2/m\"", "rate = \"2\""),
        ("can = \"subscribe\"", "can = \"subscribe\"\ncannot = \"publish\""),
        ("retained = \"never\"", "retained = \"perhaps\""),
        ("[cohorts.stations]\nwhere", "[cohorts.stations]\nwith"),
    ] {
        assert!(CATCHMENT.contains(from), "{from}");
        let text = CATCHMENT.replacen(from, to, 1);
        assert!(takes(&text).is_err(), "the schema takes {to}");
        assert!(Blueprint::parse(&text).is_err(), "the reader takes {to}");
    }
}
