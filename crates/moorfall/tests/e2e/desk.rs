//! The desk: by script, and at a terminal.

use std::{io::Write, os::unix::fs::PermissionsExt, process::Stdio};

use crate::{
    harness::{Place, Ran, Service},
    terminal::Terminal,
};

const LEVEL: &str = "harrowmere/gorge/kettle-weir/stage/level";

#[test]
fn a_script_does_what_can_be_typed() {
    let place = Place::new();
    let service = place.serve_catchment();
    service.identity("auditor", &["kind=person"]);
    let password = place.write("password", "rotidua");
    let script = format!(
        "# two clients, one of them an auditor\nopen weir\nopen auditor --as auditor --password-file {}\n\
         subscribe harrowmere/#:2 --background\nuse weir\npublish {LEVEL} '{{\"m\": 1.83}}' --qos 2 --encoding json\n\
         publish harrowmere/gorge/kettle-weir/status online --retain\n\
         subscribe harrowmere/+/+/status --take 1 --show all\nclients --json\nclose auditor\n",
        password.display()
    );
    let script = place.write("catchment.desk", &script);
    let done = service.run(&["desk", script.to_str().unwrap()]);
    assert!(done.ok().contains(&format!("auditor: {LEVEL} {{\"m\": 1.83}}")), "{done:?}");
    assert!(done.out.contains("(QoS 1, retained, 6 B)"), "{done:?}");
    assert!(done.err.contains("auditor is closed"), "{done:?}");
    let json = &done.out[done.out.find("[\n").unwrap()..];
    let clients: serde_json::Value = serde_json::from_str(&json[..json.rfind(']').unwrap() + 1]).unwrap();
    assert_eq!(clients[0]["subscriptions"], serde_json::json!([{ "filter": "harrowmere/#", "qos": 2, "messages": 2 }]));
    assert_eq!((&clients[1]["name"], &clients[1]["in_use"]), (&"weir".into(), &true.into()));
}

#[test]
fn a_script_stops_at_the_line_that_fails() {
    let place = Place::new();
    let service = place.serve_catchment();
    let run = |text: &str, more: &[&str]| {
        let file = place.write("lines.desk", text);
        service.run(&[&["desk", file.to_str().unwrap()][..], more].concat())
    };
    for (text, words) in [
        ("publish a b\n", "line 1: No client is open"),
        ("open one\nopen one\n", "line 2: There is already a client one"),
        ("open one\n\n# nothing\nuse two\n", "line 4: There is no client two. Open are one"),
        ("open one\nsubscribe a/#/b\n", "`#` at byte 2 is not the last level"),
        ("open one\npublish a \"b\n", "A quotation mark is not closed"),
        ("open one\nunsubscribe a/#\n", "one is not subscribed to a/#"),
        ("open one\npublish a {{ --encoding json\n", "The payload is not JSON"),
        ("open one\nsubscribe nothing/here --take 1 --for 200ms\n", "1 message did not arrive in time"),
        ("fly\n", "unrecognized subcommand 'fly'"),
        ("open one --remote mqtt://127.0.0.1:1\n", "Nothing listens on 127.0.0.1:1"),
    ] {
        let failed = run(text, &[]);
        assert!(failed.failed().contains(words), "{text}: {failed:?}");
    }
    let further = run("open one\nuse two\npublish a b\nuse three\n", &["--keep-going"]);
    assert!(further.failed().contains("2 lines failed") && further.err.contains("a: acknowledged"), "{further:?}");
    let mut typed =
        place.program(&["desk"]).stdin(Stdio::piped()).stderr(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
    typed.stdin.take().unwrap().write_all(b"open one\nclients\nleave\nuse nobody\n").unwrap();
    let ended = Ran::from(typed.wait_with_output().unwrap());
    assert!(
        ended.ok().contains("one"),
        "without a terminal the lines come from standard input, up to `leave`: {ended:?}"
    );
}

#[test]
fn a_client_whose_broker_goes_away_is_said_to_be_away() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let mut desk = Terminal::open(&place, &["desk"]);
    desk.until("desk> ");
    desk.press("open weir\r");
    desk.until("weir> ");
    service.terminate();
    desk.until("Server shutting down");
    desk.press("publish a b\r");
    desk.until("weir is no longer connected");
    desk.press("clients\r");
    desk.until("no longer connected");
    desk.press("close\r");
    desk.until("weir is closed");
    let again = place.serve(&["--open"]);
    desk.press("open weir\r");
    desk.until("weir is connected to");
    desk.until("weir> ");
    // Closed by Ctrl-D as by `leave`.
    desk.press("\u{4}");
    desk.ends_well();
    again.wait_for("nobody to be left", |status| status["sessions"] == 0);
}

fn publish(service: &Service<'_>, payload: &str) {
    service.run(&["publish", LEVEL, payload]).ok();
}

#[test]
fn at_a_terminal_messages_appear_above_the_line_that_is_typed() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let mut desk = Terminal::open(&place, &["desk"]);
    desk.until("desk> ");
    desk.press("open weir\r");
    desk.until("weir is connected to");
    desk.until("weir> ");
    desk.press("subscribe harrowmere/# --background\r");
    desk.until("weir is subscribed to harrowmere/# in the background");
    desk.until("weir> ");

    // While a line is half typed a message comes: it stands on a line of its own, and the line is drawn again.
    desk.press("publish har");
    desk.until("publish har");
    publish(&service, "1.83");
    desk.until(&format!("weir: {LEVEL} 1.83"));
    desk.until("weir> publish har");
    // The rest of the topic is completed from what came, level by level.
    desk.press("\t\t\t\t\t\t\t\t\t\t");
    desk.until("level");
    desk.press(" 1.85\r");
    desk.until(&format!("weir: {LEVEL} 1.85"));
    desk.press("\r");
    desk.until("weir> ");

    // A busy background is counted.
    service.run(&["publish", LEVEL, "%{count}", "--count", "500"]).ok();
    let shown = desk.until("in one second, on 1 topic");
    assert!(shown.contains("more messages"), "{shown}");

    // The foreground ends by Ctrl-C, the desk does not.
    desk.press("subscribe harrowmere/gorge/kettle-weir/status\r");
    desk.until("press Ctrl-C to stop");
    service.run(&["publish", "harrowmere/gorge/kettle-weir/status", "online"]).ok();
    desk.until("harrowmere/gorge/kettle-weir/status online");
    desk.press("\u{3}");
    desk.until("weir> ");
    desk.press("\u{3}");
    desk.until("`leave` closes the desk");
    desk.press("nonsense\r");
    desk.until("unrecognized subcommand");
    desk.until("weir> ");
    // What was typed before comes back.
    desk.press("\u{1b}[A");
    desk.until("nonsense");
    desk.press("\u{15}leave\r");
    desk.ends_well();
    let history = place.path().join("state/moorfall/desk-history");
    assert!(std::fs::read_to_string(&history).unwrap().contains("open weir"));
    assert_eq!(std::fs::metadata(&history).unwrap().permissions().mode() & 0o777, 0o600);
}
