//! The design of a running broker: checked, compared, applied and taken back; and who may do that.

use std::path::{Path, PathBuf};

use moorfall_wire::*;
use serde_json::Value;

use crate::{
    harness::{BLUEPRINT, Place, Service},
    peer::{Peer, V5, V311, connect, publish},
};

const LEVEL: &str = "harrowmere/gorge/kettle-weir/stage/level";
const TARGET: &str = "harrowmere/gorge/kettle-weir/gate/target";

/// Everyone who stands in these tests.
fn people_of_the_river(service: &Service<'_>) {
    for (name, attributes) in [
        ("kettle-weir", &["kind=station", "reach=gorge"][..]),
        ("nine-arches", &["kind=station", "reach=gorge"]),
        ("duty-desk", &["kind=person"]),
        ("contractor-pumps", &["kind=contractor", "operator=fenwater"]),
        ("auditor", &[]),
    ] {
        service.identity(name, attributes);
    }
}

/// The password that the harness gives an identity is its name backwards.
fn sign_in(service: &Service<'_>, version: ProtocolVersion, name: &str) -> Peer {
    let password: String = name.chars().rev().collect();
    let connect = Connect { user_name: Some(name.into()), password: Some(password.into()), ..connect(version, name) };
    Peer::open_with(service.mqtt, connect)
}

/// The catchment's blueprint with this in place of that.
fn changed(place: &Place, from: &str, to: &str) -> PathBuf {
    assert!(BLUEPRINT.contains(from), "{from}");
    place.write("changed.toml", &BLUEPRINT.replace(from, to))
}

fn apply(service: &Service<'_>, file: &Path) {
    service.run(&["blueprint", "apply", file.to_str().unwrap(), "--message", "for a test"]).ok();
}

/// What a publish is answered.
fn answer(peer: &mut Peer, topic: &str, payload: &str) -> (ReasonCode, String) {
    peer.send(&Packet::Publish(Publish {
        packet_id: PacketId::new(7),
        ..publish(topic, payload.as_bytes().to_vec(), QoS::AtLeastOnce)
    }));
    match peer.receive() {
        Some(Packet::PubAck(ack)) => {
            (ack.reason, ack.properties.reason_string.map(|words| words.to_string()).unwrap_or_default())
        }
        other => panic!("{other:?}"),
    }
}

#[test]
fn a_change_acts_on_live_sessions_at_once_and_ends_only_those_that_it_concerns() {
    let place = Place::new();
    let service = place.serve_catchment();
    people_of_the_river(&service);
    let mut weir = sign_in(&service, V5, "kettle-weir");
    let mut desk = sign_in(&service, V5, "duty-desk");
    let mut auditor = sign_in(&service, V5, "auditor");
    desk.subscribe("harrowmere/#", QoS::AtMostOnce);
    auditor.subscribe("harrowmere/#", QoS::AtMostOnce);
    assert_eq!(answer(&mut weir, LEVEL, r#"{"m": 1.8}"#).0, ReasonCode::Success);

    let rule = "name = \"auditor-reads-all\"\nwho = { identity = \"auditor\" }\nmay = [\"subscribe\"]\ntopics = \
                [\"harrowmere/#\"]";
    let narrow = rule.replace("harrowmere/#", "harrowmere/+/+/stage/level");
    let file = changed(&place, rule, &narrow);
    let shown = service.run(&["blueprint", "diff", file.to_str().unwrap(), "--json"]).json();
    assert_eq!(shown["changes"][0]["name"], "auditor-reads-all", "{shown}");
    let lost = &shown["effects"]["lost_subscriptions"];
    assert_eq!((lost.as_array().unwrap().len(), &lost[0]["client_id"]), (1, &"auditor".into()), "{shown}");
    apply(&service, &file);
    // The auditor is told; the others go on.
    auditor.message();
    let Some(Packet::Disconnect(goodbye)) = auditor.receive() else { panic!("not told") };
    assert_eq!(goodbye.reason, ReasonCode::NotAuthorized);
    assert!(
        goodbye
            .properties
            .reason_string
            .unwrap()
            .starts_with("The rules have changed. auditor is not allowed to subscribe")
    );
    desk.message();
    assert_eq!(answer(&mut weir, LEVEL, r#"{"m": 1.9}"#).0, ReasonCode::Success);
    desk.message();

    // Publishing is decided anew as soon as the command is done.
    let file = changed(&place, "    \"harrowmere/{attr.reach}/{identity}/{gauge}/level\",\n", "");
    let ran = service.run(&["blueprint", "apply", file.to_str().unwrap()]);
    assert!(ran.failed().contains("a proof fails") && ran.failed().contains("Nothing was changed"), "{ran:?}");
    assert!(ran.out.contains("fails  stations-report-their-levels"), "{ran:?}");
    let without = BLUEPRINT.replace("    \"harrowmere/{attr.reach}/{identity}/{gauge}/level\",\n", "");
    let proof = without.find("[[proofs]]\nname = \"stations-report-their-levels\"").unwrap();
    let end = proof + 1 + without[proof + 1..].find("[[proofs]]").unwrap();
    apply(&service, &place.write("changed.toml", &format!("{}{}", &without[..proof], &without[end..])));
    let (reason, words) = answer(&mut weir, LEVEL, r#"{"m": 2.0}"#);
    assert_eq!(reason, ReasonCode::NotAuthorized);
    assert!(words.contains("no rule allows it. kettle-weir can publish"), "{words}");

    service.run(&["blueprint", "revert", "1"]).ok();
    assert_eq!(answer(&mut weir, LEVEL, r#"{"m": 2.1}"#).0, ReasonCode::Success);
    let history = service.run(&["blueprint", "history", "--json"]).json();
    let told: Vec<_> = history.as_array().unwrap().iter().map(|revision| &revision["number"]).collect();
    assert_eq!(told, [4, 3, 2, 1]);
    assert_eq!((&history[0]["in_force"], &history[0]["message"]), (&true.into(), &"Revert to revision 1".into()));
    assert_eq!(service.status()["revision"], 4);
}

#[test]
fn whoever_comes_second_is_told_and_nothing_is_lost() {
    let place = Place::new();
    let service = place.serve_catchment();
    people_of_the_river(&service);
    let first = changed(&place, "cadence = \"2m\"", "cadence = \"1m\"");
    apply(&service, &first);
    let second = place.write("second.toml", &BLUEPRINT.replace("rate = \"10/m\"", "rate = \"5/m\""));
    let late = service.run(&["blueprint", "apply", second.to_str().unwrap(), "--base", "1"]);
    assert!(
        late.failed().contains("Revision 2 is in force now, and your draft is based on an earlier one"),
        "{late:?}"
    );
    assert!(service.run(&["blueprint", "show"]).ok().contains("cadence = \"1m\""));
    service.run(&["blueprint", "apply", second.to_str().unwrap(), "--base", "2"]).ok();
    // Every revision stays, across a restart.
    service.terminate();
    let service = place.serve(&[]);
    assert_eq!(service.status()["revision"], 3);
    assert!(service.run(&["blueprint", "show", "2"]).ok().contains("cadence = \"1m\""));
    let folder = place.path().join("exported");
    service.run(&["blueprint", "export", folder.to_str().unwrap(), "--revision", "1"]).ok();
    assert_eq!(std::fs::read_to_string(folder.join("blueprint.toml")).unwrap(), BLUEPRINT);
    let again = service.run(&["blueprint", "export", folder.to_str().unwrap(), "--revision", "1"]);
    assert!(again.failed().contains("File exists"), "nothing is overwritten: {again:?}");
    let missing = service.run(&["blueprint", "show", "9"]);
    assert!(missing.failed().contains("There is no revision 9"), "{missing:?}");
}

#[test]
fn the_limits_of_rules_and_the_plan_hold_on_the_wire() {
    let place = Place::new();
    let service = place.serve_catchment();
    people_of_the_river(&service);
    let mut desk = sign_in(&service, V5, "duty-desk");
    // The plan refuses what is no percentage, and counts what has another QoS.
    let (reason, words) = answer(&mut desk, TARGET, "open");
    assert_eq!(reason, ReasonCode::PayloadFormatInvalid);
    assert!(
        words.contains("does not match the plan for harrowmere/gorge/kettle-weir/gate/target: the payload is not JSON"),
        "{words}"
    );
    for _ in 0..9 {
        assert!(!answer(&mut desk, TARGET, "40").0.is_error());
    }
    let (reason, words) = answer(&mut desk, TARGET, "40");
    assert_eq!(reason, ReasonCode::QuotaExceeded, "ten in a minute, the refused one too");
    assert!(words.contains("(10/m)"), "{words}");
    let mut retained = publish(TARGET, b"40".to_vec(), QoS::AtMostOnce);
    retained.retain = true;
    desk.send(&Packet::Publish(retained));
    // In 3.1.1 the message is acknowledged, dropped, and in the session's record.
    let mut weir = sign_in(&service, V311, "kettle-weir");
    weir.publish(1, publish("harrowmere/gorge/nine-arches/status", b"x".to_vec(), QoS::AtLeastOnce));
    weir.publish(2, publish(LEVEL, b"1.83".to_vec(), QoS::AtLeastOnce));
    let sessions = service.run(&["sessions", "kettle-weir", "--json"]).json();
    let refusal = sessions["sessions"][0]["last_refusal"].as_str().unwrap().to_owned();
    assert!(refusal.contains("is not allowed to publish to harrowmere/gorge/nine-arches/status"), "{sessions}");
    // A subscription is granted no more than its rules grant.
    let text = format!(
        "{BLUEPRINT}\n[[rules]]\nname = \"arches-listen\"\nwho = {{ identity = \"nine-arches\" }}\nmay = \
         [\"subscribe\"]\n\
         topics = [\"harrowmere/gorge/#\"]\nhighest-qos = 1\n"
    );
    apply(&service, &place.write("changed.toml", &text));
    let mut arches = sign_in(&service, V5, "nine-arches");
    assert_eq!(arches.try_subscribe("harrowmere/gorge/+/stage/level", QoS::ExactlyOnce), [ReasonCode::GrantedQoS1]);

    let refusals = service.run(&["access", "refusals", "--json"]).json();
    let wanted =
        |refusal: &&Value| refusal["explanation"].as_str().unwrap().contains("does not allow retained messages");
    let retained = refusals.as_array().unwrap().iter().find(wanted);
    assert_eq!(retained.unwrap()["identity"], "duty-desk", "{refusals}");
}

#[test]
fn attributes_act_at_once_and_a_session_goes_on() {
    let place = Place::new();
    let service = place.serve_catchment();
    people_of_the_river(&service);
    let mut weir = sign_in(&service, V5, "kettle-weir");
    assert!(!answer(&mut weir, LEVEL, r#"{"m": 1}"#).0.is_error());
    service.run(&["identities", "set", "kettle-weir", "--attribute", "reach=tidal"]).ok();
    assert_eq!(answer(&mut weir, LEVEL, r#"{"m": 1}"#).0, ReasonCode::NotAuthorized);
    assert!(!answer(&mut weir, &LEVEL.replace("gorge", "tidal"), r#"{"m": 1}"#).0.is_error());
    service.run(&["identities", "set", "kettle-weir", "--attribute", "reach=a/b"]).ok();
    let Some(Packet::Disconnect(goodbye)) = weir.receive() else { panic!("not told") };
    let words = goodbye.properties.reason_string.unwrap();
    assert!(words.contains("the value of {attr.reach} contains '/'"), "{words}");
}

#[test]
fn an_explanation_is_that_of_the_live_decision() {
    let place = Place::new();
    let service = place.serve_catchment();
    people_of_the_river(&service);
    let explain = |more: &[&str]| service.run(&[&["access", "explain", "--as"][..], more].concat());
    let refused = explain(&["contractor-pumps", "publish", TARGET]);
    assert_eq!(refused.code, Some(1));
    assert!(refused.out.contains("contractor-leaves-gates-alone deny    decides"), "{refused:?}");
    let mut contractor = sign_in(&service, V5, "contractor-pumps");
    let (_, words) = answer(&mut contractor, TARGET, "90");
    let said = explain(&["contractor-pumps", "publish", TARGET, "--json"]);
    let said: Value = serde_json::from_str(&said.out).unwrap();
    assert_eq!(said["explanation"], words, "the same words as on the wire");
    assert_eq!((&said["allowed"], said["rules"].as_array().unwrap().len()), (&false.into(), 13));
    assert!(explain(&["duty-desk", "subscribe", "harrowmere/+/+/stage/level"]).ok().contains("`desk-sees-all`"));
    assert!(
        explain(&["nobody", "publish", "a"]).failed().contains("nobody can't connect. The identity no longer exists")
    );
    assert!(explain(&["auditor", "subscribe", "a/#/b"]).failed().contains("is not the last level"));

    let matrix = service.run(&["access", "matrix", "--identities", "--csv"]);
    let lines: Vec<&str> = matrix.ok().lines().collect();
    assert_eq!(lines[0], "identity,topic,publish,subscribe");
    for line in [
        "duty-desk,harrowmere/{reach}/{station}/gate/target,all,all",
        "kettle-weir,harrowmere/{reach}/{station}/{gauge}/level,some,none",
        "auditor,harrowmere/{reach}/{station}/status,none,all",
        "contractor-pumps,harrowmere/{reach}/{station}/{pump}/power,none,some",
    ] {
        assert!(lines.contains(&line), "{line} is not in {lines:#?}");
    }
    let table = service.run(&["access", "matrix"]);
    assert!(table.ok().lines().all(|line| line.chars().count() <= 80), "{table:?}");
}

#[test]
fn the_live_hierarchy_shows_what_was_published_and_where_the_plan_is_broken() {
    let place = Place::new();
    let service = place.serve_catchment();
    people_of_the_river(&service);
    // Whoever has the administrator's secret publishes without rules, and is not measured by the plan.
    service.run(&["publish", "harrowmere/gorge/kettle-weir/stage/levle", "1.8"]).ok();
    let mut weir = sign_in(&service, V5, "kettle-weir");
    for _ in 0..3 {
        weir.publish(1, publish(LEVEL, b"1.83".to_vec(), QoS::AtLeastOnce));
    }
    let mut desk = sign_in(&service, V5, "duty-desk");
    let text = format!(
        "{BLUEPRINT}\n[[rules]]\nname = \"desk-writes-notes\"\nwho = {{ identity = \"duty-desk\" }}\nmay = \
         [\"publish\"]\n\
         topics = [\"harrowmere/notes\"]\nretained = false\n"
    );
    apply(&service, &place.write("changed.toml", &text));
    let mut status = publish("harrowmere/gorge/kettle-weir/status", b"online".to_vec(), QoS::AtLeastOnce);
    status.retain = true;
    weir.publish(2, status);
    weir.publish(3, publish(LEVEL, b"1.83".to_vec(), QoS::AtLeastOnce));
    desk.publish(4, publish("harrowmere/notes", br#"{"by": "night shift"}"#.to_vec(), QoS::AtLeastOnce));
    desk.subscribe("harrowmere/#", QoS::AtMostOnce);

    let tree = |more: &[&str]| service.run(&[&["topics", "tree", "--json"][..], more].concat()).json();
    let top = tree(&[]);
    assert_eq!((&top["levels"][0]["level"], &top["levels"][0]["topics"]), (&"harrowmere".into(), &4.into()), "{top}");
    let below = tree(&["harrowmere/gorge/kettle-weir"]);
    let seen = |level: &str| below["levels"].as_array().unwrap().iter().find(|one| one["level"] == level).unwrap();
    assert_eq!((&seen("status")["retained"], &seen("status")["publisher"]), (&true.into(), &"kettle-weir".into()));
    assert_eq!((&seen("stage")["messages"], &seen("stage")["has_children"]), (&5.into(), &true.into()), "{below}");
    assert_eq!(seen("status")["subscribers"], 1);
    let whole = tree(&["--flat", "harrowmere/gorge"]);
    assert_eq!(whole["count"], 3, "{whole}");
    assert!(
        service
            .run(&["topics", "tree", "harrowmere/nowhere"])
            .failed()
            .contains("No messages have been published at or below")
    );

    let drift = service.run(&["topics", "drift", "--json"]).json();
    let told: Vec<_> = drift
        .as_array()
        .unwrap()
        .iter()
        .map(|one| (one["kind"].as_str().unwrap(), one["topic"].as_str().unwrap()))
        .collect();
    assert!(told.contains(&("payload", LEVEL)) && told.contains(&("unplanned", "harrowmere/notes")), "{drift}");
    let payload = drift.as_array().unwrap().iter().find(|one| one["kind"] == "payload").unwrap();
    assert_eq!((&payload["count"], &payload["identity"]), (&1.into(), &"kettle-weir".into()), "since this revision");
    assert_eq!(payload["sample"], "1.83");
    assert!(told.contains(&("silent", "harrowmere/{reach}/{station}/rain/depth")), "{drift}");
    let plan = service.run(&["topics", "draft", "harrowmere/notes"]);
    assert!(plan.ok().contains("path = \"harrowmere/notes\"") && plan.ok().contains("payload = \"json\""), "{plan:?}");

    let found = service.run(&["topics", "match", "harrowmere/+/kettle-weir/stage/level", "--json"]).json();
    assert_eq!(found["planned"], serde_json::json!(["harrowmere/{reach}/{station}/{gauge}/level"]));
    assert_eq!(found["live"], serde_json::json!([LEVEL]));
    let miss = &found["live_misses"][0];
    assert_eq!((&miss["topic"], &miss["level"]), (&LEVEL.replace("level", "levle").into(), &5.into()), "{found}");
    assert_eq!(miss["explanation"], "expected level, found levle");
    let short = service.run(&["topics", "match", "harrowmere/gorge/kettle-weir"]);
    assert!(short.ok().contains("the topic has one more level (stage); `/#` would match it"), "{short:?}");
}

#[test]
fn what_is_not_meant_is_found_without_a_service() {
    let place = Place::new();
    let file = changed(
        &place,
        "\"harrowmere/{attr.reach}/{identity}/rain/depth\"",
        "\"harrowmere/{identity}/{attr.reach}/rain/depth\"",
    );
    let ran = place.run(&["topics", "check", file.to_str().unwrap()]);
    assert!(ran.failed().contains("1 finding"), "{ran:?}");
    assert!(ran.out.contains("warning in changed.toml, line 119, column 5"), "{ran:?}");
    assert!(ran.out.contains("Remedy: use {identity} where the plan has the name"), "{ran:?}");
    let good = place.write("good.toml", BLUEPRINT);
    assert_eq!(place.run(&["topics", "check", good.to_str().unwrap()]).ok(), "no findings\n");
    let schema = place.run(&["blueprint", "schema"]).json();
    assert_eq!(schema["title"], "Moorfall blueprint");
}

#[test]
fn people_have_roles_and_what_they_change_is_noted() {
    let place = Place::new();
    let service = place.serve_catchment();
    people_of_the_river(&service);
    let password = place.write("password", "a-long-night\n");
    let password = password.to_str().unwrap();
    let short = place.write("short", "short\n");
    let refused =
        service.run(&["people", "set", "wren", "--role", "watch", "--password-file", short.to_str().unwrap()]);
    assert!(refused.failed().contains("at least 10 characters"), "{refused:?}");
    service.run(&["people", "set", "wren", "--role", "watch", "--password-file", password]).ok();
    let wrong = service.run(&["sign-in", "wren", "--password-file", short.to_str().unwrap()]);
    assert!(wrong.failed().contains("The name or the password is wrong"), "{wrong:?}");
    service.run(&["sign-in", "wren", "--password-file", password]).ok();
    let not = service.run(&["identities", "remove", "auditor"]);
    assert!(not.failed().contains("wren has the `watch` role; this needs `operate`"), "{not:?}");
    let not = service.run(&["blueprint", "revert", "1"]);
    assert!(not.failed().contains("this needs `design`"), "{not:?}");
    let not = service.run(&["people", "list"]);
    assert!(not.failed().contains("this needs `own`"), "{not:?}");
    service.run(&["sign-out"]).ok();

    service.run(&["people", "set", "wren", "--role", "design"]).ok();
    service.run(&["sign-in", "wren", "--password-file", password]).ok();
    let file = changed(&place, "cadence = \"2m\"", "cadence = \"1m\"");
    apply(&service, &file);
    service.run(&["identities", "set", "auditor", "--note", "until spring"]).ok();
    let audit = service.run(&["audit", "--json"]).json();
    let told: Vec<String> = audit
        .as_array()
        .unwrap()
        .iter()
        .take(2)
        .map(|one| format!("{} {} {} {}", one["person"], one["act"], one["kind"], one["name"]).replace('"', ""))
        .collect();
    assert_eq!(told, ["wren put identity auditor", "wren apply design 2"]);
    assert_eq!(audit[0]["address"], "127.0.0.1");
    assert_eq!((&audit[0]["before"]["note"], &audit[0]["after"]["note"]), (&"".into(), &"until spring".into()));
    assert!(!audit.to_string().contains("a-long-night") && !audit.to_string().contains("argon2"), "{audit}");
    let history = service.run(&["blueprint", "history", "--json"]).json();
    assert_eq!(history[0]["author"], "wren");
    // Who is removed is out at once.
    let found = service.run(&["audit", "person"]);
    assert!(found.ok().contains("put person wren"), "{found:?}");
    service.run(&["sign-out"]).ok();
    service.run(&["people", "remove", "wren"]).ok();
    let gone = service.run(&["sign-in", "wren", "--password-file", password]);
    assert!(gone.failed().contains("wrong"), "{gone:?}");
}

#[test]
fn the_blueprint_of_the_first_start_stays_until_another_is_applied() {
    let place = Place::new();
    let broken = changed(
        &place,
        "who = { identity = \"auditor\" }\nmay = [\"subscribe\"]",
        "who = { cohort = \"auditors\" }\nmay = [\"subscribe\"]",
    );
    let data = place.data();
    let ran = place.run(&["serve", "--data", data.to_str().unwrap(), "--blueprint", broken.to_str().unwrap()]);
    assert!(
        ran.failed().contains("there is no cohort `auditors`; this blueprint has: meadow-pumps, stations"),
        "{ran:?}"
    );
    // A later start with another file keeps what is in force, and says so.
    place.serve_catchment().terminate();
    let other = changed(&place, "cadence = \"2m\"", "cadence = \"1m\"");
    let service = place.serve(&["--blueprint", other.to_str().unwrap()]);
    let status = service.status();
    assert_eq!(status["revision"], 1);
    let warnings = status["warnings"].to_string();
    assert!(warnings.contains("started with another blueprint than revision 1"), "{warnings}");
}

#[test]
fn many_identities_come_from_a_file_and_go_to_one() {
    let place = Place::new();
    let service = place.serve_catchment();
    service.identity("kettle-weir", &["kind=station", "reach=gorge"]);
    let mut weir = sign_in(&service, V5, "kettle-weir");
    let csv = "name,attr.kind,attr.reach,attr.sensors,enabled,note\n\
               kettle-weir,station,tidal,2,true,moved\n\
               nine-arches,station,gorge,1,,\"below, the old bridge\"\n\
               sallow-head,station,high-moor,,false,\n";
    let file = place.write("stations.csv", csv);
    let file = file.to_str().unwrap();
    let import = |more: &[&str]| service.run(&[&["identities", "import", file][..], more].concat());
    assert_eq!(import(&["--dry-run"]).ok(), "2 would be created, 1 would be changed, 0 unchanged\n");
    assert_eq!(service.status()["identities"], 1, "nothing was changed");
    assert_eq!(import(&[]).ok(), "2 created, 1 changed, 0 unchanged\n");
    assert_eq!(import(&["--json"]).json()["unchanged"], 3);
    // It acts on live sessions, whose password stays.
    assert_eq!(answer(&mut weir, LEVEL, r#"{"m": 1}"#).0, ReasonCode::NotAuthorized);
    assert!(!answer(&mut weir, &LEVEL.replace("gorge", "tidal"), r#"{"m": 1}"#).0.is_error());
    let exported = place.path().join("all.csv");
    let exported = exported.to_str().unwrap();
    service.run(&["identities", "export", exported]).ok();
    let text = std::fs::read_to_string(exported).unwrap();
    assert!(text.starts_with("name,enabled,note,client-id,certificates,attr.kind,attr.reach,attr.sensors\n"), "{text}");
    assert!(text.contains("nine-arches,true,\"below, the old bridge\",,,station,gorge,1\n"), "{text}");
    assert!(!text.contains("argon2"), "{text}");
    let lines = place.path().join("all.jsonl");
    service.run(&["identities", "export", lines.to_str().unwrap()]).ok();
    for file in [exported, lines.to_str().unwrap()] {
        assert_eq!(
            service.run(&["identities", "import", file, "--dry-run"]).ok(),
            "0 would be created, 0 would be changed, 3 unchanged\n"
        );
    }
    assert!(service.run(&["identities", "export", exported]).failed().contains("File exists"));

    for (name, text, words) in [
        ("a.csv", "name,attr.kind\nriver/bank,station\n", "line 2: \"river/bank\" is not a valid name for an identity"),
        ("b.csv", "name,kind\nbank,station\n", "line 2: unknown column `kind`; use name, enabled"),
        ("c.csv", "name,enabled\nbank,maybe\n", "line 2: the column `enabled` must be true or false, not `maybe`"),
        ("d.csv", "kind\nstation\n", "line 1: there is no column `name`"),
        ("e.csv", "name\nbank\nbank\n", "line 3: bank is already on line 2"),
        ("f.jsonl", "{\"name\": \"bank\"}\n{\"nam\": \"x\"}\n", "line 2: unknown field `nam`"),
        (
            "g.jsonl",
            "{\"name\": \"bank\", \"password_hash\": \"secret\"}\n",
            "line 1: The password hash of bank is not an Argon2id hash",
        ),
        ("h.txt", "", ".csv or .jsonl"),
    ] {
        let file = place.write(name, text);
        let ran = service.run(&["identities", "import", file.to_str().unwrap()]);
        ran.failed();
        assert!(format!("{}{}", ran.out, ran.err).contains(words), "{name}: {ran:?}");
    }
    assert_eq!(service.status()["identities"], 3);
    let audit = service.run(&["audit", "import", "--json"]).json();
    assert_eq!((audit.as_array().unwrap().len(), &audit[0]["name"]), (1, &"3 of them".into()), "{audit}");
}

#[test]
fn an_identity_may_be_tied_to_a_client_identifier() {
    let place = Place::new();
    let service = place.serve_catchment();
    people_of_the_river(&service);
    let try_as = |client_id: &str, password: &str| {
        let sign_in = Connect {
            user_name: Some("kettle-weir".into()),
            password: Some(password.to_owned().into()),
            ..connect(V5, client_id)
        };
        let mut peer = Peer::begin(service.mqtt, sign_in);
        match peer.receive() {
            Some(Packet::ConnAck(ack)) => {
                (ack.reason, ack.properties.reason_string.unwrap_or_default().to_string(), peer)
            }
            other => panic!("{other:?}"),
        }
    };
    let (_, _, mut other) = try_as("desk-9", "riew-elttek");
    service.run(&["identities", "set", "kettle-weir", "--client-id", "weir-1"]).ok();
    assert!(matches!(other.receive(), Some(Packet::Disconnect(_))), "it signs in again");
    let (reason, words, _) = try_as("desk-9", "riew-elttek");
    assert_eq!(
        (reason, &*words),
        (ReasonCode::ClientIdentifierNotValid, "kettle-weir can only use the client identifier weir-1.")
    );
    let (reason, words, _) = try_as("desk-9", "guess");
    assert_eq!(reason, ReasonCode::BadUserNameOrPassword);
    assert!(!words.contains("weir-1"), "a stranger is not told: {words}");
    assert_eq!(try_as("weir-1", "riew-elttek").0, ReasonCode::Success);
    let listed = service.run(&["identities", "list", "--json"]).json();
    assert_eq!(
        listed.as_array().unwrap().iter().find(|one| one["name"] == "kettle-weir").unwrap()["client_id"],
        "weir-1"
    );
    service.run(&["identities", "set", "kettle-weir", "--client-id", ""]).ok();
    assert_eq!(try_as("desk-9", "riew-elttek").0, ReasonCode::Success);
}

#[test]
fn a_token_opens_until_it_is_revoked_and_to_its_own_identity_only() {
    let place = Place::new();
    let service = place.serve_catchment();
    people_of_the_river(&service);
    let make = |more: &[&str]| service.run(&[&["identities", "tokens", "make"][..], more].concat());
    let made = make(&["contractor-pumps", "spring-works", "--days", "90"]);
    let token = made.ok().trim().to_owned();
    assert!(token.starts_with("moor-") && made.err.contains("it is not shown again. It expires 2"), "{made:?}");
    assert!(make(&["contractor-pumps", "spring-works", "--days", "1"]).failed().contains("Revoke it first"));
    assert!(make(&["nobody", "x", "--days", "1"]).failed().contains("There is no identity nobody"));
    let open = |name: &str, token: &str| {
        let connect = Connect {
            user_name: Some(name.to_owned().into()),
            password: Some(token.to_owned().into()),
            ..connect(V5, name)
        };
        let mut peer = Peer::begin(service.mqtt, connect);
        match peer.receive() {
            Some(Packet::ConnAck(ack)) => (ack.reason, peer),
            other => panic!("{other:?}"),
        }
    };
    let (reason, mut contractor) = open("contractor-pumps", &token);
    assert_eq!(reason, ReasonCode::Success);
    assert!(!answer(&mut contractor, "harrowmere/meadows/withy-drain/pump-1/target", "{}").0.is_error());
    // Nobody else's, and not when a letter is changed.
    let last = if token.ends_with('0') { "1" } else { "0" };
    for (name, token) in
        [("duty-desk", token.clone()), ("contractor-pumps", format!("{}{last}", &token[..token.len() - 1]))]
    {
        assert_eq!(open(name, &token).0, ReasonCode::BadUserNameOrPassword);
    }
    let listed = service.run(&["identities", "tokens", "list", "contractor-pumps"]);
    assert!(listed.ok().contains("spring-works"), "{listed:?}");
    assert!(!service.run(&["audit", "--json"]).ok().contains(&token), "it is shown once");

    service.run(&["identities", "tokens", "revoke", "contractor-pumps", "spring-works"]).ok();
    let Some(Packet::Disconnect(goodbye)) = contractor.receive() else { panic!("not told") };
    assert_eq!(
        goodbye.properties.reason_string.as_deref(),
        Some("The token has expired or has been revoked. Connect with a valid one.")
    );
    assert_eq!(open("contractor-pumps", &token).0, ReasonCode::BadUserNameOrPassword);
    let again = service.run(&["identities", "tokens", "revoke", "contractor-pumps", "spring-works"]);
    assert!(again.failed().contains("contractor-pumps has no token spring-works"), "{again:?}");
    // It survives a restart, and goes with its identity.
    let token = make(&["contractor-pumps", "summer", "--days", "1"]).ok().trim().to_owned();
    service.terminate();
    let service = place.serve(&[]);
    let sign_in = Connect {
        user_name: Some("contractor-pumps".into()),
        password: Some(token.clone().into()),
        ..connect(V5, "contractor-pumps")
    };
    drop(Peer::open_with(service.mqtt, sign_in.clone()));
    service.run(&["identities", "remove", "contractor-pumps"]).ok();
    service.identity("contractor-pumps", &[]);
    let mut peer = Peer::begin(service.mqtt, sign_in);
    assert!(matches!(peer.receive(), Some(Packet::ConnAck(ack)) if ack.reason == ReasonCode::BadUserNameOrPassword));
}
