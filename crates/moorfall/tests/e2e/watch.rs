//! The service on the whole terminal.

use moorfall_wire::{Packet, QoS};

use crate::{
    harness::Place,
    peer::{Peer, V5, publish},
    terminal::Terminal,
};

#[test]
fn the_service_is_watched_on_a_terminal_of_80_columns() {
    let place = Place::new();
    let service = place.serve_catchment();
    let mut terminal = Terminal::open(&place, &["watch"]);
    // What is blank already is not written: words come one by one.
    terminal.until("harrowmere,");
    terminal.until("Busiest topics by messages");
    terminal.until("q quit");
    // What happens is seen.
    service.identity("auditor", &["kind=person"]);
    terminal.until("changed");
    terminal.press("q");
    terminal.ends_well();
}

#[test]
fn keys_change_what_is_shown_and_the_window_may_have_any_size() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let mut weir = Peer::open(service.mqtt, V5, "weir");
    for _ in 0..50 {
        weir.send(&Packet::Publish(publish("harrowmere/gorge/kettle-weir/flow", b"7".to_vec(), QoS::AtMostOnce)));
    }
    let mut terminal = Terminal::open(&place, &["watch"]);
    let topic = |seen: &str| seen.contains("Busiest topics by messages") && seen.contains("kettle-weir/flow");
    terminal.until_seen(topic);
    terminal.press("b");
    terminal.until_seen(|seen| seen.contains("Busiest topics by bytes"));
    for of in ["branches", "sessions", "identities", "topics"] {
        terminal.press("\t");
        terminal.until_seen(|seen| seen.contains(&format!("Busiest {of} by bytes")));
    }
    terminal.press("b");
    terminal.until_seen(topic);
    // Drawn anew at any size, however small, and whole again when there is room.
    for (columns, rows) in [(132, 43), (20, 5), (2, 1)] {
        terminal.resize(columns, rows);
    }
    terminal.resize(100, 30);
    let seen =
        terminal.until_seen(|seen| topic(seen) && seen.lines().nth(29).is_some_and(|last| last.contains("q quit")));
    assert!(seen.lines().all(|line| line.chars().count() <= 100), "{seen}");
    // What is looked at in peace does not move.
    terminal.press("p");
    terminal.until_seen(|seen| seen.contains("paused"));
    service.run(&["identities", "set", "auditor"]).ok();
    terminal.press("p");
    terminal.until_seen(|seen| !seen.contains("paused") && seen.contains("auditor"));
    // A service that is gone is said, and what was known of it stays.
    drop(service);
    let last = terminal.until_seen(|seen| seen.contains("does not respond"));
    assert!(topic(&last), "{last}");
    terminal.press("q");
    terminal.ends_well();
}

#[test]
fn without_a_terminal_it_says_what_prints_into_pipes() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    Peer::open(service.mqtt, V5, "weir").publish(1, publish("weir", b"1".to_vec(), QoS::AtLeastOnce));
    assert!(service.run(&["watch"]).failed().contains("needs a terminal. `moorfall status`"));
}
