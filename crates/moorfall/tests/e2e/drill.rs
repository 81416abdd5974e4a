//! The drill: a service of its own, killed again and again in the middle of traffic.

use crate::harness::Place;

#[test]
fn a_service_that_is_killed_in_the_middle_keeps_what_it_acknowledged() {
    let ran = Place::new().run(&["drill", "crash", "--rounds", "4", "--seed", "3"]);
    let out = ran.ok();
    assert!(out.contains("killed 4 times"), "{out}");
    for (line, words) in out.lines().skip(1).zip(["extra copies", "0 delivered twice"]) {
        assert!(line.contains(" 0 lost") && line.contains(words), "{out}");
        let acknowledged: String = line[7..].chars().take_while(|c| *c != ' ').filter(char::is_ascii_digit).collect();
        assert!(acknowledged.parse::<u64>().unwrap() > 50, "hardly any traffic: {out}");
    }
    assert!(ran.err.contains("and PostgreSQL"), "{}", ran.err);
}
