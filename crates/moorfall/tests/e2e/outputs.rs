//! What commands print: nothing wider than a terminal, no colours in a pipe, JSON for every list, and help that is whole.

use moorfall_wire::{ProtocolVersion, QoS};

use crate::{
    harness::{BLUEPRINT, Place, Ran, Service, wait},
    peer::{Peer, connect, publish},
};

const LEVEL: &str = "harrowmere/gorge/kettle-weir/stage/level";
const UNPLANNED: &str = "harrowmere/gorge/a-station-with-a-rather-long-name/a/b/c/d/e/f";
const TARGET: &str = "harrowmere/gorge/kettle-weir/gate/target";

/// Commands that list or show something, each with whether it has `--json`.
const SHOWS: [(&[&str], bool); 36] = [
    (&["status"], true),
    (&["status", "--limits"], true),
    (&["measures"], true),
    (&["measures", "messages_in", "journal_commit"], true),
    (&["busiest"], true),
    (&["busiest", "branches", "--by", "bytes"], true),
    (&["history", "messages_in", "--against", "1d"], true),
    (&["history", "sessions_connected", "--from", "7d"], true),
    (&["history", "messages_in", "--table", "--against", "1h"], false),
    (&["sessions"], true),
    (&["sessions", "kettle-weir"], true),
    (&["events"], true),
    (&["subscribers", "harrowmere/#"], true),
    (&["identities", "list"], true),
    (&["identities", "tokens", "list", "kettle-weir"], true),
    (&["authorities", "list"], true),
    (&["people", "list"], true),
    (&["audit"], true),
    (&["remote", "list"], true),
    (&["retained", "list"], true),
    (&["retained", "show", "harrowmere/gorge/kettle-weir/status"], true),
    (&["topics", "tree"], true),
    (&["topics", "tree", "harrowmere/gorge", "--flat"], true),
    (&["topics", "match", "harrowmere/+/kettle-weir/stage/level"], true),
    (&["topics", "show", LEVEL], true),
    (&["topics", "drift"], true),
    (&["topics", "draft", UNPLANNED], false),
    (&["access", "matrix"], true),
    (&["access", "matrix", "--identities"], true),
    (&["access", "refusals"], true),
    (&["access", "explain", "--as", "kettle-weir", "publish", LEVEL], true),
    (&["blueprint", "history"], true),
    (&["blueprint", "show"], false),
    (&["recording", "list"], true),
    (&["journey", LEVEL, "1.83", "--as", "kettle-weir"], true),
    (&["journey", TARGET, "90", "--as", "contractor-pumps"], true),
];

/// A catchment in which something has happened.
fn busy(place: &Place) -> (Service<'_>, Vec<Peer>) {
    let service = place.serve_catchment();
    let attributes: [(&str, &[&str]); 4] = [
        ("kettle-weir", &["kind=station", "reach=gorge", "operator=rivers-trust"]),
        ("nine-arches", &["kind=station", "reach=gorge", "operator=rivers-trust"]),
        ("contractor-pumps", &["kind=contractor", "operator=fenwater"]),
        ("duty-desk", &["kind=person", "operator=rivers-trust"]),
    ];
    for (name, attributes) in attributes {
        service.identity(name, attributes);
    }
    service.run(&["identities", "tokens", "make", "kettle-weir", "spring-works", "--days", "90"]).ok();
    let password = place.write("pumps", "spmup-rotcartnoc");
    let sign_in = |name: &str| {
        let mut asked = connect(ProtocolVersion::V5, name);
        asked.user_name = Some(name.into());
        asked.password = Some(name.chars().rev().collect::<String>().into());
        Peer::open_with(service.mqtt, asked)
    };
    let mut weir = sign_in("kettle-weir");
    let mut desk = sign_in("duty-desk");
    desk.subscribe("harrowmere/#", QoS::AtLeastOnce);
    let reading = br#"{"m": 1.83, "at": "2031-03-02T06:15:00Z", "quality": "good"}"#;
    weir.publish(1, publish(LEVEL, reading.to_vec(), QoS::AtLeastOnce));
    // One that the plan does not have, one that a rule denies.
    service.run(&["publish", UNPLANNED, "1"]).ok();
    service
        .run(&["publish", TARGET, "90", "--as", "contractor-pumps", "--password-file", password.to_str().unwrap()])
        .failed();
    service.run(&["publish", "harrowmere/gorge/kettle-weir/status", "online", "--retain"]).ok();
    (service, vec![weir, desk])
}

fn assert_narrow(what: &[&str], ran: &Ran) {
    for line in ran.out.lines() {
        assert!(line.chars().count() <= 80, "{what:?} prints {} columns: {line}", line.chars().count());
        assert!(!line.contains('\u{1b}'), "{what:?} prints colours into a pipe: {line:?}");
    }
}

#[test]
fn nothing_is_wider_than_a_terminal_and_every_list_is_json_too() {
    let place = Place::new();
    let (service, _peers) = busy(&place);
    wait("it is counted", || service.run(&["topics", "show", LEVEL]).out.contains("kettle-weir").then_some(()));
    for (command, has_json) in SHOWS {
        let shown = service.run(command);
        assert!(matches!(shown.code, Some(0 | 1)), "{command:?}: {shown:?}");
        assert!(!shown.out.trim().is_empty() || !shown.err.trim().is_empty(), "{command:?} says nothing");
        // A design is text of the user's own.
        if command != ["blueprint", "show"] {
            assert_narrow(command, &shown);
        }
        if has_json {
            let json = service.run(&[command, &["--json"]].concat());
            let parsed: Result<serde_json::Value, _> = serde_json::from_str(&json.out);
            assert!(parsed.is_ok(), "{command:?} --json: {json:?}");
        }
    }
}

#[test]
fn the_help_of_every_command_is_whole_and_narrow() {
    let place = Place::new();
    let mut waiting = vec![Vec::<String>::new()];
    let mut seen = 0;
    while let Some(command) = waiting.pop() {
        let mut arguments: Vec<&str> = command.iter().map(String::as_str).collect();
        arguments.push("--help");
        let help = place.run(&arguments);
        help.ok();
        seen += 1;
        for line in help.out.lines() {
            assert!(line.chars().count() <= 120, "{arguments:?}: {line}");
        }
        let described = help.out.lines().next().unwrap_or_default();
        assert!(described.chars().next().is_some_and(char::is_uppercase), "{arguments:?} begins with {described:?}");
        assert!(!help.out.contains("TODO") && !help.out.contains("todo!"), "{arguments:?}");
        let Some(list) = help.out.split("\nCommands:\n").nth(1) else { continue };
        for line in list.lines().take_while(|line| !line.is_empty()) {
            let mut words = line.split_whitespace();
            let name = words.next().unwrap();
            // A description that went over the line goes on further in.
            if !line.starts_with("   ") && name != "help" {
                assert!(words.next().is_some(), "{arguments:?}: {name} has no description");
                waiting.push([&command[..], &[name.to_owned()]].concat());
            }
        }
    }
    assert!(seen > 50, "{seen} commands");
}

#[test]
fn a_pipe_that_closes_early_is_no_failure() {
    let place = Place::new();
    let service = place.serve_catchment();
    let data = service.data.to_str().unwrap();
    let binary = env!("CARGO_BIN_EXE_moorfall");
    let state = place.path().join("state");
    let script = format!("{binary} status --limits --data {data} | head -n 1");
    let ran = std::process::Command::new("sh").args(["-c", &script]).env("XDG_STATE_HOME", state).output().unwrap();
    let ran = Ran::from(ran);
    assert!(
        ran.ok().starts_with("LIMIT") && !ran.err.contains("panicked") && !ran.err.contains("Broken pipe"),
        "{ran:?}"
    );
}

#[test]
fn a_design_is_printed_as_it_was_applied() {
    let place = Place::new();
    let service = place.serve_catchment();
    let shown = service.run(&["blueprint", "show"]);
    assert!(shown.ok().contains("name = \"harrowmere\""), "{shown:?}");
    let folder = place.path().join("exported");
    service.run(&["blueprint", "export", folder.to_str().unwrap()]).ok();
    let files: Vec<_> = std::fs::read_dir(&folder).unwrap().flatten().collect();
    assert_eq!(files.len(), 1);
    assert_eq!(std::fs::read_to_string(files[0].path()).unwrap(), BLUEPRINT, "to the letter");
}
