//! The service on the whole terminal.

use moorfall_wire::QoS;

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
fn without_a_terminal_it_says_what_prints_into_pipes() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    Peer::open(service.mqtt, V5, "weir").publish(1, publish("weir", b"1".to_vec(), QoS::AtLeastOnce));
    assert!(service.run(&["watch"]).failed().contains("needs a terminal. `moorfall status`"));
}
