//! The drill: a service of its own, killed again and again in the middle of traffic.

use crate::harness::Place;

#[test]
fn a_service_that_is_killed_in_the_middle_keeps_what_it_acknowledged() {
    let ran = Place::new().run(&["drill", "crash", "--rounds", "4", "--seed", "3"]);
    let out = ran.ok();
    assert!(out.contains("killed 4 times"), "{out}");
    nothing_lost(out);
    assert!(ran.err.contains("and PostgreSQL"), "{}", ran.err);
}

/// Each line says that nothing was lost, nor delivered twice where it may not be, of many messages.
fn nothing_lost(out: &str) {
    for (line, words) in out.lines().skip(1).zip(["extra copies", "0 delivered twice"].into_iter().cycle()) {
        assert!(line.contains(" 0 lost") && line.contains(words), "{out}");
        let behind = line.split_once(": ").unwrap().1;
        let acknowledged: String = behind.chars().take_while(|c| *c != ' ').filter(char::is_ascii_digit).collect();
        assert!(acknowledged.parse::<u64>().unwrap() > 50, "hardly any traffic: {out}");
    }
}

#[test]
fn a_bridge_that_is_broken_in_every_way_loses_nothing_and_brings_nothing_twice() {
    let ran = Place::new().run(&["drill", "bridge", "--rounds", "5", "--seed", "5"]);
    let out = ran.ok();
    assert!(out.contains("broken 5 times") && out.lines().count() == 5, "{out}");
    nothing_lost(out);
    for blow in ["the link was cut", "the remote was killed, and its PostgreSQL"] {
        assert!(ran.err.contains(blow), "{}", ran.err);
    }
}
