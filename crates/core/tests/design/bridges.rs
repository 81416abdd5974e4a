//! Bridges in a blueprint: what is read, what is refused and why, what changes.

use std::sync::Arc;

use moorfall_core::{
    Limits, LiveTraffic, QueuePolicy,
    access::{Policy, Request},
    blueprint::{Blueprint, Kind, Waiting, bridge_rights, diff, prove},
    bridge::{Direction, Mapped},
};
use moorfall_wire::{ProtocolVersion, QoS};

const TIDEWAY: &str = r#"
name = "Harrowmere rivers"

[levels.reach]
one-of = ["gorge", "tidal"]

[[rules]]
name = "levels go to the barrier"
who = { cohort = "bridges" }
may = ["subscribe"]
topics = ["river/#"]

[[rules]]
name = "the tide comes from the barrier"
who = { identity = "bridge:tideway" }
may = ["publish"]
topics = ["tide/#"]

[cohorts.bridges]
where = "attr.kind == 'bridge'"

[[proofs]]
name = "the barrier moves no gate"
who = { identity = "bridge:tideway" }
cannot = "publish"
topics = ["river/+/gate/target"]

[[bridges]]
name = "tideway"
purpose = "Levels for the barrier, the tide for us"
remotes = ["mqtts://harrowmere@tideway.example", "wss://harrowmere@tideway-2.example/mqtt"]
secret-file = "tideway.secret"
keep-alive = "20s"
status-there = "harrowmere/bridge"

[bridges.waiting]
messages = 5_000
age = "1d"
full = "drop-newest"
live = "beside"

[[bridges.push]]
filter = "river/{reach}/#"
as = "harrowmere/{reach}/#"
highest-qos = 1
where = "payload.quality == 'good'"
rate = "100/s"

[[bridges.pull]]
filter = "tide/#"
"#;

/// What is wrong with the bridge when this is changed in it.
fn wrong(from: &str, to: &str) -> String {
    assert!(TIDEWAY.contains(from), "{from}");
    let findings = Blueprint::parse(&TIDEWAY.replacen(from, to, 1)).err().unwrap_or_default();
    findings.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n")
}

#[test]
fn a_bridge_is_read_with_what_is_not_written() {
    let blueprint = Blueprint::parse(TIDEWAY).unwrap();
    assert_eq!(blueprint.lint(), []);
    let bridge = &blueprint.bridges[0];
    assert_eq!((bridge.remotes.len(), bridge.keep_alive, bridge.version), (2, 20, ProtocolVersion::V5));
    assert_eq!(
        (&*bridge.client_id, bridge.session_expiry, bridge.clean_start),
        ("harrowmere-rivers-tideway", 604_800, false)
    );
    assert_eq!((bridge.waiting.messages, bridge.waiting.full), (5_000, QueuePolicy::DropNewest));
    let limits = bridge.limits(&Limits::default());
    assert_eq!((limits.live_traffic, limits.queue_messages), (LiveTraffic::Beside, 5_000));
    assert_eq!(Waiting::default().live, LiveTraffic::Behind);
    assert_eq!((bridge.push[0].highest_qos, bridge.pull[0].highest_qos), (QoS::AtLeastOnce, QoS::ExactlyOnce));
    assert!(bridge.pull[0].retained && bridge.pull[0].clearing);
    let to = |direction, topic: &str| bridge.taken(direction, &topic.parse().unwrap());
    let expected = Mapped::To("harrowmere/gorge/level".parse().unwrap());
    assert_eq!(to(Direction::Push, "river/gorge/level"), Some((0, expected)));
    assert_eq!(to(Direction::Push, "river/meadows/level"), None);
    assert_eq!(to(Direction::Pull, "river/gorge/level"), None);
}

#[test]
fn what_is_wrong_is_pointed_at() {
    for (from, to, words) in [
        (
            "where = \"payload.quality == 'good'\"",
            "where = \"payload.m != before.m\"",
            "does not know the message before",
        ),
        ("name = \"tideway\"", "name = \"tide way\"", "`tide way` is not a name for a bridge"),
        ("mqtts://harrowmere@tideway.example\"", "tideway.example\"", "does not begin with mqtt://"),
        ("harrowmere@tideway.example", "harrowmere:secret@tideway.example", "A password is not allowed in the address"),
        ("tideway.secret", "../tideway.secret", "is not the name of a file in the service's folder for bridges"),
        ("tideway.secret", ".secret", "is not the name of a file"),
        ("secret-file = \"tideway.secret\"", "key-file = \"tideway.key\"", "a client certificate needs its key"),
        ("keep-alive = \"20s\"", "keep-alive = \"20h\"", "the protocol has room for 65535 s"),
        ("keep-alive = \"20s\"", "protocol = \"4\"", "write \"5.0\" or \"3.1.1\""),
        ("keep-alive = \"20s\"", "clean-start = true\nsession-expiry = \"1h\"", "a clean start keeps no session there"),
        ("harrowmere/bridge\"", "harrowmere/+\"", "is not a topic"),
        ("messages = 5_000", "messages = 0", "it must be from 1 to 10000000"),
        ("drop-newest", "end-session", "the session of a bridge does not end"),
        ("as = \"harrowmere/{reach}/#\"", "as = \"harrowmere/{station}/#\"", "it catches {1}, {reach}"),
        ("payload.quality ==", "payload.quality =", "compare with =="),
        ("rate = \"100/s\"", "rate = \"often\"", "`often` is not a rate"),
        ("rate = \"100/s\"", "retained = false\nclearing = true", "only retained messages are cleared"),
        ("[[bridges.pull]]\nfilter = \"tide/#\"", "[[bridges.pull]]\nfilter = \"tide/#/x\"", "is not a topic filter"),
        (
            "[[bridges.pull]]\nfilter = \"tide/#\"",
            "[[bridges.pull]]\nfilter = \"harrowmere/#\"\nas = \"river/#\"",
            "messages can go round: river/gorge is pushed as harrowmere/gorge, which is pulled as river/gorge, which is \
             pushed as harrowmere/gorge; give what is pulled a name that is not pushed",
        ),
        ("remotes = [", "remote = [", "unknown field `remote`"),
    ] {
        let found = wrong(from, to);
        assert!(found.contains(words), "{to}: {found}");
    }
    let twice = TIDEWAY.split_once("[[bridges]]").unwrap().1;
    let findings = Blueprint::parse(&format!("{TIDEWAY}\n[[bridges]]\n{twice}")).unwrap_err();
    assert!(findings[0].message.contains("two bridges have the name `tideway`"), "{findings:?}");
    let nothing = TIDEWAY.split("[[bridges.push]]").next().unwrap();
    let findings = Blueprint::parse(nothing).unwrap_err();
    assert!(findings[0].message.contains("the bridge `tideway` takes nothing"), "{findings:?}");
}

#[test]
fn what_is_probably_not_meant_is_warned_of() {
    for (from, to, words) in [
        ("mqtts://harrowmere@tideway.example\"", "mqtt://harrowmere@tideway.example\"", "is reached without TLS"),
        ("as = \"harrowmere/{reach}/#\"", "as = \"harrowmere/#\"", "different topics become one"),
        (
            "[[bridges.pull]]",
            "[[bridges.push]]\nfilter = \"river/gorge/level\"\n[[bridges.pull]]",
            "take all of `river/gorge/level`, so it is never used",
        ),
        (
            "[[bridges.pull]]",
            "[[bridges.push]]\nfilter = \"lake/{reach}/#\"\nas = \"harrowmere/{reach}/#\"\n[[bridges.pull]]",
            "may give different topics one name, for example harrowmere/gorge, there",
        ),
    ] {
        let blueprint = Blueprint::parse(&TIDEWAY.replacen(from, to, 1)).unwrap();
        let found: Vec<String> = blueprint.lint().into_iter().map(|finding| finding.message).collect();
        assert!(found.iter().any(|message| message.contains(words)), "{to}: {found:?}");
    }
}

#[test]
fn rules_and_proofs_speak_of_bridges() {
    let policy = |text: &str| Arc::new(Policy::new(Arc::new(Blueprint::parse(text).unwrap())));
    let good = policy(TIDEWAY);
    assert_eq!(bridge_rights(&good), []);
    assert!(prove(&good, &Default::default()).iter().all(|proof| proof.holds && proof.identities == 1));
    let narrow = policy(&TIDEWAY.replace("topics = [\"tide/#\"]", "topics = [\"tide/+\"]"));
    let found = bridge_rights(&narrow);
    assert!(
        found[0].message.contains("no rule allows bridge:tideway to publish retained at QoS 2 to tide"),
        "{found:?}"
    );
    let wide = policy(&TIDEWAY.replace("topics = [\"tide/#\"]", "topics = [\"tide/#\", \"river/#\"]"));
    let proof = &prove(&wide, &Default::default())[0];
    assert!(!proof.holds, "{proof:?}");
}

#[test]
fn a_change_of_a_bridge_is_told_field_by_field() {
    let old = Blueprint::parse(TIDEWAY).unwrap();
    let new = TIDEWAY.replace("highest-qos = 1", "highest-qos = 0").replace("keep-alive = \"20s\"\n", "");
    let changes = diff(&old, &Blueprint::parse(&new).unwrap());
    assert_eq!(changes.len(), 1, "{changes:?}");
    assert_eq!((changes[0].kind, &*changes[0].part, &*changes[0].name), (Kind::Changed, "bridge", "tideway"));
    let fields: Vec<&str> = changes[0].fields.iter().map(|field| field.field.as_str()).collect();
    assert_eq!(fields, ["keep-alive", "push"]);
    assert!(changes[0].fields[1].added[0].contains("river/{reach}/# as harrowmere/{reach}/#, QoS 0 at most"));
}

#[test]
fn a_bridge_gets_the_part_of_a_filter_that_it_may_have() {
    let text = TIDEWAY.replace("topics = [\"river/#\"]", "topics = [\"river/{reach}/+\"]");
    let policy = Arc::new(Policy::new(Arc::new(Blueprint::parse(&text).unwrap())));
    let bridge = &policy.blueprint().bridges[0];
    let access = policy.bind(&bridge.identity(), &bridge.client_id(Direction::Push)).unwrap();
    let filter = |text: &str| text.parse().unwrap();
    let subscribes = |text: &str| access.decide(Request::Subscribe { filter: &filter(text) }).is_allowed();
    // Named levels can't stand in a filter, so what is subscribed to is wider than what is taken.
    assert!(subscribes("river/+/#") && !subscribes("lake/#"));
    let withholds = |text: &str| access.withholds(&text.parse().unwrap());
    assert!(!withholds("river/gorge/level") && withholds("river/meadows/level") && withholds("river/gorge/weir/level"));
    // What is said of it is not wider.
    let found = bridge_rights(&policy);
    assert!(
        found[0].message.contains("no rule allows bridge:tideway to subscribe to river/gorge, so it is not pushed"),
        "{found:?}"
    );
}

/// The schema that editors complete by, and the reader, take and refuse the same of bridges.
#[test]
fn the_schema_for_editors_knows_bridges() {
    let schema: serde_json::Value =
        serde_json::from_str(include_str!("../../../contract/blueprint.schema.json")).unwrap();
    let validator = jsonschema::validator_for(&schema).unwrap();
    let takes = |text: &str| validator.is_valid(&toml::from_str(text).unwrap());
    let alert = "[[alerts]]\nname = \"down\"\nbridge = \"tideway\"\nfigure = \"down\"\nhigh = 120\n";
    assert!(takes(&format!("{TIDEWAY}{alert}")) && Blueprint::parse(&format!("{TIDEWAY}{alert}")).is_ok());
    for (from, to) in [
        ("mqtts://harrowmere", "https://harrowmere"),
        ("secret-file = \"tideway", "secret-file = \"../tideway"),
        ("live = \"beside\"", "live = \"before\""),
        ("full = \"drop-newest\"", "full = \"end-session\""),
        ("messages = 5_000", "messages = 0"),
        ("highest-qos = 1", "highest-qos = 3"),
        ("rate = \"100/s\"", "rate = \"fast\""),
        ("status-there = \"harrowmere/bridge\"", "status-there = \"harrowmere/#\""),
        ("filter = \"tide/#\"", "topics = \"tide/#\""),
        ("keep-alive", "keep-living"),
    ] {
        assert!(TIDEWAY.contains(from), "{from}");
        let text = TIDEWAY.replacen(from, to, 1);
        assert!(!takes(&text), "the schema takes {to}");
        assert!(Blueprint::parse(&text).is_err(), "the reader takes {to}");
    }
    for (from, to) in [("figure = \"down\"", "figure = \"up\""), ("high = 120", ""), ("figure = \"down\"\n", "")] {
        let text = format!("{TIDEWAY}{}", alert.replacen(from, to, 1));
        assert!(!takes(&text) && Blueprint::parse(&text).is_err(), "{to}");
    }
}
