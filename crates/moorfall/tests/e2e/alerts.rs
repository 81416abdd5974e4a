//! Alerts: told once when something is out and once when it is back, whatever breaks in between.

use std::sync::Arc;

use moorfall_contract::{
    inbox::{Faults, Received},
    kinds::{NoticeWay, StandInFault},
};
use moorfall_demo::stand_in::{StandIn, USER};
use moorfall_links::Inbox;
use moorfall_wire::*;
use serde_json::Value;
use tokio::runtime::Runtime;

use crate::{
    harness::{Place, Service, wait},
    peer::{Peer, V5, connect, publish},
};

pub(crate) const LEVEL: &str = "harrowmere/gorge/kettle-weir/stage/level";
const PASSWORD: &str = "low-water-mark";
const SECRET: &str = "a secret of more than sixteen bytes";

const ALERTS: &str = r#"
name = "harrowmere"
[contacts.duty-desk]
mail = ["duty@harrowmere.example"]
hook = "https://127.0.0.1:HOOK/duty"
topic = "harrowmere/alerts"
[[alerts]]
name = "gorge-high"
severity = "critical"
topics = "harrowmere/gorge/+/stage/level"
field = "m"
high = 2.4
text = "Close the footpath."
tell = ["duty-desk"]
[[alerts]]
name = "weir-silent"
topics = "harrowmere/gorge/kettle-weir/rain/depth"
silent = "1h"
tell = ["duty-desk"]
[[alerts]]
name = "forecast-silent"
session = "forecast"
silent = "1h"
[[alerts]]
name = "database"
measure = "database_up"
low = 1
tell = ["duty-desk"]
"#;

/// A stand-in for whoever is told.
pub(crate) struct Told {
    _runtime: Runtime,
    servers: StandIn,
}

impl Told {
    pub(crate) fn start() -> Self {
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().unwrap();
        let servers = runtime.block_on(StandIn::start(PASSWORD, SECRET.as_bytes(), 0)).unwrap();
        Self { _runtime: runtime, servers }
    }

    pub(crate) fn inbox(&self) -> &Arc<Inbox> {
        &self.servers.inbox
    }

    /// What has come this way, oldest first.
    pub(crate) fn received(&self, way: NoticeWay) -> Vec<Received> {
        let mut all = self.inbox().view().received;
        all.retain(|received| received.way == way);
        all.reverse();
        all
    }

    /// Titles of what has come this way once there are so many.
    #[track_caller]
    pub(crate) fn titles(&self, way: NoticeWay, count: usize) -> Vec<String> {
        let all = wait("notices have come", || Some(self.received(way)).filter(|all| all.len() >= count));
        all.into_iter().map(|received| received.title).collect()
    }

    /// Options of a service that tells it.
    fn options(&self, place: &Place) -> Vec<String> {
        let mail = self.servers.mail.port();
        let file = |name: &str, text: &str| place.write(name, text).display().to_string();
        let authority = file("authority.pem", &self.servers.authority);
        let config = format!(
            "[notices]\nprivate-addresses = true\nhook-authority = {authority:?}\n\
             hook-secrets = {{ duty-desk = {secret:?} }}\n\
             [notices.mail]\nserver = \"127.0.0.1\"\nport = {mail}\nuser = \"{USER}\"\npassword-file = {password:?}\n\
             from = \"Moorfall <moorfall@harrowmere.example>\"\nauthority = {authority:?}\n",
            secret = file("secret", SECRET),
            password = file("mail-password", PASSWORD),
        );
        let blueprint = ALERTS.replace("HOOK", &self.servers.hook.port().to_string());
        let options =
            ["--open", "--config", &file("told.toml", &config), "--blueprint", &file("alerts.toml", &blueprint)];
        options.map(str::to_owned).to_vec()
    }

    pub(crate) fn serve<'a>(&self, place: &'a Place) -> Service<'a> {
        let options = self.options(place);
        place.serve(&options.iter().map(String::as_str).collect::<Vec<_>>())
    }
}

pub(crate) fn level(peer: &mut Peer, metres: f64) {
    let payload = format!("{{\"m\": {metres}}}");
    peer.send(&Packet::Publish(publish(LEVEL, payload.into_bytes(), QoS::AtMostOnce)));
}

fn alert(service: &Service<'_>, name: &str) -> Value {
    service.run(&["alerts", "show", name, "--json"]).json()
}

#[track_caller]
fn wait_for_phase(service: &Service<'_>, name: &str, phase: &str) -> Value {
    wait(&format!("{name} is {phase}"), || Some(alert(service, name)).filter(|alert| alert["phase"] == *phase))
}

/// Waits until alerts are watched: what is published before is missed.
pub(crate) fn watched(service: &Service<'_>) {
    wait("alerts are watched", || {
        let list = service.run(&["alerts", "list", "--json"]).json();
        (list["alerts"].as_array().unwrap().len() == 4).then_some(())
    });
}

#[test]
fn out_and_back_are_told_once_each_even_if_the_service_is_killed_in_between() {
    let (place, told) = (Place::new(), Told::start());
    let service = told.serve(&place);
    watched(&service);
    let mut desk = Peer::open(service.mqtt, V5, "desk");
    desk.subscribe("harrowmere/alerts", QoS::AtLeastOnce);
    let mut weir = Peer::open(service.mqtt, V5, "weir");
    level(&mut weir, 2.61);
    let mail = told.titles(NoticeWay::Mail, 1);
    assert_eq!(mail, ["harrowmere, critical: gorge-high: harrowmere/gorge/kettle-weir/stage/level is 2.61"]);
    let letter = &told.received(NoticeWay::Mail)[0];
    assert_eq!((&*letter.from, &*letter.to), ("moorfall@harrowmere.example", "duty@harrowmere.example"));
    assert!(
        letter.text.contains("The band is at most 2.4.") && letter.text.contains("Close the footpath."),
        "{letter:?}"
    );
    assert_eq!(told.titles(NoticeWay::Hook, 1), mail);
    assert!(told.received(NoticeWay::Hook)[0].is_signed.unwrap());
    let message: Value = serde_json::from_slice(&desk.message().payload).unwrap();
    assert_eq!((&message["kind"], &message["subjects"][0]["value"]), (&"raised".into(), &2.61.into()), "{message}");
    wait("it is written that it was told", || {
        (service.run(&["alerts", "history", "gorge-high", "--waiting", "--json"]).json()["notices"]
            == Value::Array(vec![]))
        .then_some(())
    });
    service.crash();

    let service = told.serve(&place);
    let found = wait_for_phase(&service, "gorge-high", "raised");
    assert_eq!(
        (&found["standings"][0]["told"], &found["standings"][0]["value"]),
        (&true.into(), &Value::Null),
        "{found}"
    );
    watched(&service);
    let mut weir = Peer::open(service.mqtt, V5, "weir");
    level(&mut weir, 2.7);
    level(&mut weir, 1.9);
    let mail = told.titles(NoticeWay::Mail, 2);
    assert_eq!(mail[1], "harrowmere, back: gorge-high: harrowmere/gorge/kettle-weir/stage/level is 1.9");
    assert!(told.received(NoticeWay::Mail)[1].text.contains("it was out for"), "{:?}", told.received(NoticeWay::Mail));
    assert_eq!(told.titles(NoticeWay::Hook, 2).len(), 2);
    wait_for_phase(&service, "gorge-high", "ok");
    // Another one begins anew, so nothing came beside the two.
    level(&mut weir, 2.5);
    assert_eq!(told.titles(NoticeWay::Mail, 3).len(), 3);
    service.wait_for_event("Alert gorge-high was raised");
    service.wait_for_event("Alert gorge-high was cleared");
    let list = service.run(&["alerts", "list"]);
    assert!(list.ok().starts_with("ALERT") && list.ok().contains("gorge-high"), "{list:?}");
    assert_eq!(service.status()["raised_alerts"], 1);
}

#[test]
fn through_kills_at_any_moment_each_excursion_is_told_once_out_and_once_back() {
    const STATIONS: [&str; 3] = ["kettle-weir", "otter-pool", "nine-arches"];
    let (place, told) = (Place::new(), Told::start());
    let topic = |station: &str| format!("harrowmere/gorge/{station}/stage/level");
    let mut service = told.serve(&place);
    watched(&service);
    let mut began = 0;
    for (round, metres) in [2.5, 1.5, 2.6, 1.6].into_iter().enumerate() {
        let phase = if metres > 2.4 { "raised" } else { "ok" };
        // Each time a little later after the first value: before, while and after it is judged, written and told.
        for kill_after in [Some(17 * round as u64), Some(130 + 90 * round as u64), None] {
            let mut stations = Peer::open(service.mqtt, V5, "stations");
            let send = |stations: &mut Peer| {
                for station in STATIONS {
                    let payload = format!("{{\"m\": {metres}}}").into_bytes();
                    stations.publish(1, publish(&topic(station), payload, QoS::AtLeastOnce));
                }
            };
            send(&mut stations);
            if let Some(millis) = kill_after {
                std::thread::sleep(std::time::Duration::from_millis(millis));
                service.crash();
                began += 1;
                service = told.serve(&place);
                watched(&service);
                continue;
            }
            wait(&format!("all are {phase}"), || {
                let found = alert(&service, "gorge-high");
                let standings = found["standings"].as_array().unwrap().clone();
                (standings.len() == STATIONS.len() && standings.iter().all(|one| one["phase"] == phase)).then_some(())
            });
        }
    }
    assert_eq!(began, 8);
    // What was told of each station alternates, as its levels did.
    let notices = wait("everything is delivered", || {
        let list = service.run(&["alerts", "history", "gorge-high", "--limit", "1000", "--json"]).json();
        (list["waiting"] == 0).then(|| list["notices"].as_array().unwrap().clone())
    });
    for station in STATIONS {
        for way in ["mail", "hook", "topic"] {
            let mut told: Vec<(i64, &str)> = notices
                .iter()
                .filter(|notice| notice["way"] == way)
                .filter(|notice| {
                    notice["subjects"].as_array().unwrap().iter().any(|one| one["name"] == *topic(station))
                })
                .map(|notice| (notice["number"].as_i64().unwrap(), notice["kind"].as_str().unwrap()))
                .collect();
            told.sort_unstable();
            let kinds: Vec<&str> = told.iter().map(|(_, kind)| *kind).collect();
            assert_eq!(kinds, ["raised", "cleared"].repeat(2), "{station} by {way}: {notices:#?}");
        }
    }
    // A letter may come twice if the service was killed before it had written that it was taken; then it is the same.
    let mut letters: Vec<String> = told.received(NoticeWay::Mail).into_iter().map(|letter| letter.text).collect();
    letters.sort();
    letters.dedup();
    let written = notices.iter().filter(|notice| notice["way"] == "mail").count();
    assert_eq!(letters.len(), written, "{letters:#?}");
}

#[test]
fn notices_that_can_t_be_delivered_wait_and_say_why() {
    let (place, told) = (Place::new(), Told::start());
    let service = told.serve(&place);
    watched(&service);
    told.inbox().set_faults(Faults { mail: StandInFault::Refuses, hook: StandInFault::BadCertificate });
    let mut weir = Peer::open(service.mqtt, V5, "weir");
    level(&mut weir, 2.61);
    service.wait_for_event("could not be delivered to duty@harrowmere.example");
    // A test need not wait behind what can't be delivered, and is tried once.
    let test = service.run(&["alerts", "test", "gorge-high"]);
    assert!(test.failed().contains("2 notices were not delivered"), "{test:?}");
    assert!(test.out.contains("no letters are taken now") && test.out.contains("invalid peer certificate"), "{test:?}");
    assert!(test.out.contains("topic harrowmere/alerts"), "{test:?}");
    let waiting = service.run(&["alerts", "history", "--waiting", "--json"]).json();
    assert_eq!(waiting["waiting"], 2, "{waiting}");
    told.inbox().set_faults(Faults { mail: StandInFault::None, hook: StandInFault::Refuses });
    assert!(told.titles(NoticeWay::Mail, 1)[0].contains("critical: gorge-high"));
    let refused = wait("the hook has refused", || {
        let list = service.run(&["alerts", "history", "--waiting", "--json"]).json();
        list.to_string().contains("503 Service Unavailable: no calls are taken now").then_some(list)
    });
    assert!(refused["notices"][0]["tries"].as_u64().unwrap() >= 2, "{refused}");
    told.inbox().set_faults(Faults::default());
    assert!(told.titles(NoticeWay::Hook, 1)[0].contains("critical: gorge-high"));
    assert!(service.run(&["alerts", "test", "gorge-low"]).failed().contains("There is no alert gorge-low"));
    let nobody = service.run(&["alerts", "test", "forecast-silent"]);
    assert!(nobody.failed().contains("tells nobody"), "{nobody:?}");
}

#[test]
fn what_is_not_configured_is_said_and_private_networks_are_closed() {
    let place = Place::new();
    let blueprint = place.write("alerts.toml", &ALERTS.replace("HOOK", "1"));
    let blueprint = blueprint.to_str().unwrap();
    let service = place.serve(&["--open", "--blueprint", blueprint]);
    let test = service.run(&["alerts", "test", "gorge-high"]);
    assert!(test.out.contains("no mail server is configured; add [notices.mail] to"), "{test:?}");
    assert!(test.out.contains("no secret is configured for the hook of duty-desk"), "{test:?}");
    drop(service);
    let secret = place.write("secret", SECRET);
    let config = place.write("told.toml", &format!("[notices]\nhook-secrets = {{ duty-desk = {secret:?} }}\n"));
    let service = place.serve(&["--open", "--blueprint", blueprint, "--config", config.to_str().unwrap()]);
    let test = service.run(&["alerts", "test", "gorge-high"]);
    assert!(test.out.contains("127.0.0.1 is in a private network; private-addresses = true"), "{test:?}");
    drop(service);
    place.write("short", "short");
    let config = place.write("told.toml", "[notices]\nhook-secrets = { duty-desk = \"short\" }\n");
    let ran = place.run(&["serve", "--data", place.data().to_str().unwrap(), "--config", config.to_str().unwrap()]);
    assert!(ran.failed().contains("Section `[notices]`"), "{ran:?}");
}

#[test]
fn of_what_is_quiet_nobody_is_told_until_it_is_over() {
    let (place, told) = (Place::new(), Told::start());
    let service = told.serve(&place);
    watched(&service);
    assert!(service.run(&["alerts", "quiet", "gorge-high", "--for", "1h"]).ok().contains("for 60 min"));
    let mut weir = Peer::open(service.mqtt, V5, "weir");
    level(&mut weir, 2.61);
    let found = wait_for_phase(&service, "gorge-high", "raised");
    assert_eq!(found["quiet"]["by"], "administrator", "{found}");
    // Up and down and up again is nobody's matter meanwhile.
    level(&mut weir, 1.0);
    wait_for_phase(&service, "gorge-high", "ok");
    level(&mut weir, 2.62);
    wait_for_phase(&service, "gorge-high", "raised");
    assert!(told.received(NoticeWay::Mail).is_empty());
    service.run(&["alerts", "quiet", "gorge-high", "--end"]).ok();
    assert_eq!(told.titles(NoticeWay::Mail, 1).len(), 1);
    let audit = service.run(&["audit"]);
    assert!(audit.ok().contains("quiet") && audit.ok().contains("gorge-high"), "{audit:?}");
    assert_eq!(service.run(&["alerts", "quiet", "gorge-high"]).code, Some(2));
}

#[test]
fn a_band_is_tried_over_the_past_and_now_and_nobody_is_told() {
    let (place, told) = (Place::new(), Told::start());
    let service = told.serve(&place);
    watched(&service);
    let tried = |more: &[&str]| service.run(&[&["alerts", "try"], more].concat());
    // Of topics there is no history; what they say now is held against the band.
    let mut weir = Peer::open(service.mqtt, V5, "weir");
    level(&mut weir, 1.5);
    let tries = ["gorge-high", "--high", "1.2", "--json"];
    let now = wait("the level is known", || Some(tried(&tries).json()).filter(|told| told["known_now"] == 1));
    assert_eq!((&now["out_now"], &now["now"][0]["subject"]), (&1.into(), &LEVEL.into()));
    assert_eq!((&now["step_seconds"], &now["high"]), (&Value::Null, &1.2.into()));
    let printed = tried(&["gorge-high", "--high", "1.2"]);
    assert!(printed.ok().contains("gorge-high  at most 1.2") && printed.out.contains("Now 1 of 1 value would be out."));
    assert!(printed.out.contains("No history is kept of what it watches"), "{printed:?}");
    let inside = tried(&["gorge-high", "--out-for", "30s"]);
    assert!(inside.ok().contains("at most 2.4, out for 30 s") && inside.out.contains("Now 0 of 1 value"), "{inside:?}");
    let silent = tried(&["weir-silent", "--high", "60"]);
    assert!(silent.ok().contains("at most 60 s"), "{silent:?}");

    // Of a measure, the past is gone through as if the alert had been watching.
    let past = wait("something is measured", || {
        let told = tried(&["database", "--low", "2", "--out-for", "0s", "--json"]).json();
        (told["measured_seconds"].as_u64().unwrap() > 0 && told["known_now"] == 1).then_some(told)
    });
    assert_eq!((&past["raised"], &past["step_seconds"], &past["out_now"]), (&1.into(), &10.into(), &1.into()));
    let spell = &past["spells"][0];
    assert_eq!((&spell["worst"], &spell["cleared_at"]), (&1.0.into(), &Value::Null));
    let printed = tried(&["database", "--low", "2"]);
    assert!(printed.ok().contains("raised once in the last 24 h") && printed.out.contains("still out"), "{printed:?}");
    assert!(tried(&["database"]).ok().contains("raised 0 times in the last 24 h; values are known for"));
    assert!(tried(&["database", "--from", "3d", "--to", "2d"]).ok().contains("Nothing was measured in 24 h until"));

    // Nothing has come of it.
    assert_eq!(alert(&service, "database")["phase"], "ok");
    assert!(service.run(&["alerts", "history"]).ok().contains("No notices."));
    assert_eq!(told.inbox().view().received.len(), 0);
    for (arguments, said) in [
        (&["gorge-low"][..], "There is no alert gorge-low"),
        (&["gorge-high", "--low", "3"], "The low end of the band, 3, is above its high end, 2.4."),
        (&["weir-silent", "--low", "3"], "is about silence, which has no low end"),
        (&["database", "--out-for", "40days"], "at most 2592000 seconds"),
        (&["database", "--from", "1h", "--to", "2h"], "The range must end after it begins"),
    ] {
        assert!(tried(arguments).failed().contains(said), "{arguments:?}");
    }
}

#[test]
fn silence_of_a_topic_and_of_a_session_is_told() {
    let (place, told) = (Place::new(), Told::start());
    let options = told.options(&place);
    let blueprint = std::fs::read_to_string(options.last().unwrap()).unwrap();
    place.write("alerts.toml", &blueprint.replace("silent = \"1h\"", "silent = \"2s\""));
    let service = place.serve(&options.iter().map(String::as_str).collect::<Vec<_>>());
    // It is named in full, so it is waited for although nothing ever came.
    let mail = told.titles(NoticeWay::Mail, 1);
    assert!(mail[0].contains("weir-silent: harrowmere/gorge/kettle-weir/rain/depth is silent for"), "{mail:?}");
    wait_for_phase(&service, "forecast-silent", "raised");
    let mut forecast = Peer::open_with(service.mqtt, connect(V5, "forecast"));
    let mut id = 0;
    wait("whoever speaks is not silent", || {
        id += 1;
        let mut rain = publish("harrowmere/gorge/kettle-weir/rain/depth", b"0.4".to_vec(), QoS::AtLeastOnce);
        rain.packet_id = PacketId::new(id);
        forecast.publish(id, rain);
        let phases = [alert(&service, "weir-silent"), alert(&service, "forecast-silent")];
        phases.iter().all(|alert| alert["phase"] == "ok").then_some(())
    });
    assert!(told.titles(NoticeWay::Mail, 2)[1].contains("back: weir-silent"), "{:?}", told.titles(NoticeWay::Mail, 2));
}

#[test]
fn it_is_told_that_the_database_is_away_while_it_is() {
    let (place, told) = (Place::with_private_servers(), Told::start());
    let options = told.options(&place);
    let guest = place.serve_as_guest(&options.iter().map(String::as_str).collect::<Vec<_>>());
    wait_for_phase(&guest.service, "database", "ok");
    guest.stop_database();
    let mail = wait("the letter comes without the database", || {
        let all = told.received(NoticeWay::Mail);
        all.into_iter().find(|letter| letter.title.contains("database: database_up is 0"))
    });
    assert!(mail.text.contains("The band is at least 1."), "{mail:?}");
    assert_eq!(alert(&guest.service, "database")["phase"], "raised");
}

#[test]
fn what_is_wrong_with_an_alert_is_pointed_at() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let good = ALERTS.replace("HOOK", "1");
    for (from, to, words) in [
        ("measure = \"database_up\"", "measure = \"database\"", "there is no measure `database`"),
        ("high = 2.4", "high = 2.4\nlow = 3", "low is 3 and high is 2.4: nothing lies between"),
        ("https://127.0.0.1:1/duty", "duty.harrowmere.example", "is not the address of a web hook"),
    ] {
        let file = place.write("wrong.toml", &good.replace(from, to));
        let check = service.run(&["blueprint", "check", file.to_str().unwrap()]);
        assert_ne!(check.code, Some(0), "{check:?}");
        let said = format!("{}{}", check.out, check.err).replace('\n', " ");
        let said = said.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(said.contains(words) && said.contains("line "), "{words}: {said}");
    }
}
