//! What strangers can make the broker do, hold and wait for is bounded.

use std::{
    io::{ErrorKind, Read, Write},
    net::{SocketAddr, TcpStream},
    time::Duration,
};

use moorfall_wire::*;
use reqwest::{Client, Method, StatusCode, header};
use serde_json::{Value, json};

use crate::{
    api::signed,
    harness::{Place, Ran, Service, wait},
    peer::{Peer, V5, V311, connect},
};

/// A service with limits and identities: `weir` with a secret that the broker made, `desk` with a password.
fn serve<'a>(place: &'a Place, limits: &str) -> (Service<'a>, String) {
    let config = place.write("moorfall.toml", &format!("hosts = [\"broker.harrowmere.example\"]\n[limits]\n{limits}"));
    let blueprint = place.write(
        "blueprint.toml",
        "name = \"hold\"\n[[rules]]\nname = \"all\"\nwho = \"everyone\"\nmay = [\"publish\", \"subscribe\"]\ntopics = \
         [\"harrowmere/#\"]\n",
    );
    let service = place.serve(&["--config", config.to_str().unwrap(), "--blueprint", blueprint.to_str().unwrap()]);
    service.identity("desk", &[]);
    let made = service.run(&["identities", "set", "weir", "--generate"]);
    assert!(made.err.contains("not shown again"), "{made:?}");
    let secret = made.ok().trim().to_owned();
    (service, secret)
}

pub(crate) fn signing_in(client_id: &str, name: &str, password: &str) -> Connect {
    Connect { user_name: Some(name.into()), password: Some(password.to_owned().into()), ..connect(V5, client_id) }
}

/// What CONNACK says.
pub(crate) fn answer(peer: &mut Peer) -> ConnAck {
    match peer.receive() {
        Some(Packet::ConnAck(connack)) => *connack,
        other => panic!("not answered: {other:?}"),
    }
}

pub(crate) fn is_unanswered(peer: &mut Peer) -> bool {
    let stream = (&mut *peer.stream as &mut dyn std::any::Any).downcast_mut::<TcpStream>().unwrap();
    stream.set_read_timeout(Some(Duration::from_millis(300))).unwrap();
    let read = stream.read(&mut [0; 1]);
    matches!(read, Err(error) if matches!(error.kind(), ErrorKind::WouldBlock | ErrorKind::TimedOut))
}

#[test]
fn guesses_side_by_side_are_as_slow_as_one_after_the_other() {
    let place = Place::with_talkative_log();
    let (service, secret) = serve(&place, "failed-sign-ins-per-minute = 3\nwaiting-sign-ins-per-address = 20\n");
    // Who signed in before is known again; it does not help against the guesses of its own address.
    Peer::open_with(service.mqtt, signing_in("desk-1", "desk", "ksed"));
    let mut guesses: Vec<Peer> = (0..24)
        .map(|n| Peer::begin(service.mqtt, signing_in(&format!("g-{n}"), "desk", &format!("guess {n}"))))
        .collect();
    // Three are looked at, about twenty wait, and the others are told.
    let told = wait("three are refused, and what is over is told that it can't wait", || {
        let log = service.log();
        let refused = log.matches("why=The user name or the password is wrong").count();
        assert!(refused <= 3, "{refused} guesses were looked at");
        let told = log.matches("The limit of 20 waiting sign-ins from one address").count();
        let waiting = 24 - refused - told;
        (refused == 3 && (17..=20).contains(&waiting)).then_some(told)
    });
    assert_eq!(guesses.iter_mut().filter_map(|peer| is_unanswered(peer).then_some(())).count(), 21 - told);
    // Secrets that the broker made are verified at once, whatever others of the address do; wrong ones are not.
    Peer::open_with(service.mqtt, signing_in("weir-1", "weir", &secret));
    let limits = service.run(&["status", "--limits"]);
    let line = limits.ok().lines().find(|line| line.contains("waiting-sign-ins-per-address")).unwrap().trim_end();
    assert!(line.ends_with(&format!(" {told}")), "{line}");
    drop(guesses);
}

#[tokio::test]
async fn people_are_guessed_at_no_faster() {
    let place = Place::new();
    let (service, _) = serve(&place, "failed-sign-ins-per-minute = 2\n");
    let wren = json!({ "role": "watch", "password": "ten-characters" });
    assert!(signed(&service, Method::PUT, "people/wren").json(&wren).send().await.unwrap().status().is_success());
    let guess = |password: String| {
        let body = json!({ "name": "wren", "password": password });
        Client::new().post(format!("{}/api/v1/console-token", service.http)).json(&body).send()
    };
    let guesses = futures_util::future::join_all((0..2).map(|n| guess(format!("guess {n}")))).await;
    assert!(guesses.into_iter().all(|answer| answer.unwrap().status() == StatusCode::UNAUTHORIZED));
    let next = tokio::time::timeout(Duration::from_millis(500), guess("ten-characters".into())).await;
    assert!(next.is_err(), "the right one waits too: {next:?}");
}

#[test]
fn connections_that_say_nothing_are_bounded_by_address() {
    let place = Place::new();
    let (service, secret) = serve(&place, "connecting-per-address = 3\n");
    let silent: Vec<TcpStream> = (0..3).map(|_| TcpStream::connect(service.mqtt).unwrap()).collect();
    let refused = wait("the three are counted", || {
        let mut peer = Peer::begin(service.mqtt, signing_in("weir-1", "weir", &secret));
        Some(answer(&mut peer)).filter(|connack| connack.reason.is_error())
    });
    assert_eq!(refused.reason, ReasonCode::QuotaExceeded);
    assert!(refused.properties.reason_string.unwrap().contains("have not sent CONNECT"));
    assert!(service.status()["turned_away"]["connecting_per_address"].as_u64().unwrap() >= 1);
    drop(silent);
    wait("there is room again", || {
        let mut peer = Peer::begin(service.mqtt, signing_in("weir-1", "weir", &secret));
        (answer(&mut peer).reason == ReasonCode::Success).then_some(())
    });
}

#[test]
fn a_large_connect_is_taken_or_told_why_not() {
    let place = Place::new();
    let (service, secret) = serve(&place, "connecting-bytes = 1048576\n");
    let mut large = signing_in("weir-1", "weir", &secret);
    let will = Publish::new("harrowmere/will".parse().unwrap(), vec![b'w'; 60_000], QoS::AtMostOnce);
    large.will = Some(Will {
        topic: will.topic,
        payload: will.payload,
        qos: QoS::AtMostOnce,
        retain: false,
        properties: WillProperties::default(),
    });
    Peer::open_with(service.mqtt, large.clone());
    for (version, reason) in [(V5, ReasonCode::PacketTooLarge), (V311, ReasonCode::ServerUnavailable)] {
        let mut peer = Peer::new(service.mqtt, version);
        let head = [&[0x10, 0x80, 0x80, 0x20][..], b"\0\x04MQTT", &[version.level(), 2, 0, 0]].concat();
        peer.stream.write_all(&head).unwrap();
        assert_eq!(answer(&mut peer).reason, reason);
    }
    service.wait_for_event("Malformed CONNECT");
    // Many who hold a part of a large one: together they hold no more than they may.
    let half = [&[0x10, 0xa0, 0x8d, 0x06][..], b"\0\x04MQTT", &[5, 2, 0, 0], &[0; 90_000]].concat();
    let mut halves: Vec<Peer> = (0..24)
        .map(|_| {
            let mut peer = Peer::new(service.mqtt, V5);
            peer.stream.write_all(&half).unwrap();
            peer
        })
        .collect();
    wait("some are turned away", || {
        service.status()["turned_away"]["connecting_bytes"].as_u64().filter(|count| *count > 0)
    });
    let told = halves.iter_mut().filter_map(|peer| (!is_unanswered(peer)).then_some(())).count();
    assert!((1..24).contains(&told), "{told} of 24");
    Peer::open_with(service.mqtt, signing_in("weir-2", "weir", &secret));
}

fn http(service: &Service<'_>) -> SocketAddr {
    service.http.trim_start_matches("http://").parse().unwrap()
}

/// Sends this, and gives what is answered until the end.
fn raw(service: &Service<'_>, text: &str) -> String {
    let mut stream = TcpStream::connect(http(service)).unwrap();
    stream.write_all(text.as_bytes()).unwrap();
    let mut answer = String::new();
    let _ = stream.read_to_string(&mut answer);
    answer
}

#[test]
fn half_open_http_is_closed_and_bounded() {
    let place = Place::new();
    let limits = "http-connections-per-address = 8\nhttp-header-seconds = 1\nhttp-idle-seconds = 2\n";
    let (service, secret) = serve(&place, limits);
    let mut half: Vec<TcpStream> = (0..8).map(|_| TcpStream::connect(http(&service)).unwrap()).collect();
    half.iter_mut().for_each(|stream| stream.write_all(b"GET /api/v1/status HTTP/1.1\r\nHost: ").unwrap());
    let full = wait("the eight are counted", || {
        let mut stream = TcpStream::connect(http(&service)).unwrap();
        let mut text = String::new();
        let _ = stream.read_to_string(&mut text);
        Some(text).filter(|text| text.contains("503"))
    });
    assert!(full.contains("The connection limit is reached"), "{full}");
    Peer::open_with(service.mqtt, signing_in("weir-1", "weir", &secret));
    for stream in &mut half {
        let mut text = Vec::new();
        stream.set_read_timeout(Some(Duration::from_secs(30))).unwrap();
        let closed = stream.read_to_end(&mut text);
        assert!(closed.is_ok() || closed.is_err_and(|error| error.kind() == ErrorKind::ConnectionReset));
    }
    assert!(service.status()["turned_away"]["http_connections"].as_u64().unwrap() >= 1);
    // One that is idle after its request is closed, too.
    let idle = raw(&service, "GET / HTTP/1.1\r\nHost: localhost\r\n\r\n");
    assert!(idle.starts_with("HTTP/1.1 200") || idle.starts_with("HTTP/1.1 404"), "{idle}");
}

#[test]
fn other_names_and_other_pages_are_not_let_in() {
    let place = Place::new();
    let (service, _) = serve(&place, "");
    let ask = |path: &str, headers: &str| {
        let answer = raw(&service, &format!("GET {path} HTTP/1.1\r\nConnection: close\r\n{headers}\r\n"));
        answer.split(' ').nth(1).unwrap_or_default().to_owned()
    };
    let own = http(&service);
    for (path, headers, status) in [
        ("/api/v1/openapi.json", format!("Host: {own}\r\n"), "200"),
        ("/api/v1/openapi.json", "Host: localhost:7070\r\n".into(), "200"),
        ("/api/v1/openapi.json", "Host: broker.harrowmere.example\r\n".into(), "200"),
        ("/api/v1/openapi.json", "Host: rebound.example\r\n".into(), "421"),
        ("/mqtt", format!("Host: rebound.example:{}\r\n", own.port()), "421"),
        ("/", "Host: rebound.example\r\n".into(), "421"),
        ("/api/v1/openapi.json", String::new(), "400"),
        ("/api/v1/openapi.json", format!("Host: {own}\r\nOrigin: http://{own}\r\n"), "200"),
        ("/api/v1/openapi.json", format!("Host: {own}\r\nOrigin: https://{own}\r\n"), "403"),
        ("/api/v1/openapi.json", format!("Host: {own}\r\nSec-Fetch-Site: cross-site\r\n"), "403"),
        ("/api/v1/openapi.json", format!("Host: {own}\r\nSec-Fetch-Site: same-origin\r\n"), "200"),
    ] {
        let got = ask(path, &headers);
        assert!(got == status || status == "400" && got == "421", "{path} {headers:?}: {got}");
    }
    let answer =
        raw(&service, &format!("GET /api/v1/openapi.json HTTP/1.1\r\nConnection: close\r\nHost: {own}\r\n\r\n"));
    assert!(answer.to_lowercase().contains("cache-control: no-store"), "{answer}");
    let answer =
        raw(&service, &format!("POST / HTTP/1.1\r\nConnection: close\r\nHost: {own}\r\nContent-Length: 0\r\n\r\n"));
    assert!(answer.starts_with("HTTP/1.1 405"), "{answer}");
}

#[tokio::test]
async fn texts_with_nul_are_refused_and_no_trouble_of_the_database() {
    let place = Place::new();
    let (service, _) = serve(&place, "");
    let sign_in = json!({ "name": "wr\0en", "password": "ten-characters" });
    let sign_in = Client::new().post(format!("{}/api/v1/console-session", service.http)).json(&sign_in);
    for request in [
        sign_in,
        signed(&service, Method::PUT, "identities/x").json(&json!({ "note": "a\0b" })),
        signed(&service, Method::PUT, "identities/x").json(&json!({ "attributes": { "a\0b": 1 } })),
        signed(&service, Method::GET, "identities/a%00b"),
        signed(&service, Method::GET, "audit?search=a%00"),
    ] {
        let answer = request.send().await.unwrap();
        assert_eq!(answer.status(), StatusCode::UNPROCESSABLE_ENTITY);
        assert_eq!(answer.headers()[header::CONTENT_TYPE], "application/problem+json");
        let problem: Value = answer.json().await.unwrap();
        assert!(problem["detail"].as_str().unwrap().contains("U+0000"), "{problem}");
    }
    let escaped = signed(&service, Method::PUT, "identities/x").json(&json!({ "note": "a backslash: \\u0000" }));
    assert!(escaped.send().await.unwrap().status().is_success());
    assert_eq!(service.status()["database"]["healthy"], true);
}

#[test]
fn secrets_are_made_for_an_import_and_kept_by_nobody_else() {
    let place = Place::new();
    let (service, _) = serve(&place, "");
    let file = place.write("identities.csv", "name,attr.kind\ngauge-1,gauge\ngauge-2,gauge\ndesk,person\n");
    let secrets = place.path().join("secrets.csv");
    let arguments = ["identities", "import", file.to_str().unwrap(), "--generate", secrets.to_str().unwrap()];
    let done = service.run(&arguments);
    assert!(done.ok().contains("2 created, 1 changed") && done.err.contains("2 secrets in"), "{done:?}");
    let text = std::fs::read_to_string(&secrets).unwrap();
    let mut rows = text.lines().skip(1).map(|line| line.split_once(',').unwrap());
    let (name, secret) = rows.next().unwrap();
    assert_eq!((name, secret.len(), rows.count()), ("gauge-1", 32, 1), "desk has a password");
    Peer::open_with(service.mqtt, signing_in("gauge-1", "gauge-1", secret));
    Peer::open_with(service.mqtt, signing_in("desk", "desk", "ksed"));
    let again: Ran = service.run(&arguments);
    assert!(again.failed().contains("Nothing was changed"), "an earlier file is not written over: {again:?}");
    let dear = place.write(
        "dear.jsonl",
        "{\"name\": \"dear\", \"password_hash\": \
         \"$argon2id$v=19$m=4194304,t=1,p=1$c2FsdHNhbHQ$aGFzaGhhc2hoYXNoaGFzaA\"}\n",
    );
    let refused = service.run(&["identities", "import", dear.to_str().unwrap()]);
    assert!(refused.out.contains("the limit is m=65536 (KiB)"), "{refused:?}");
    refused.failed();
}

#[tokio::test]
async fn whoever_may_look_can_make_no_check_cost_much() {
    let place = Place::new();
    let (service, _) = serve(&place, "");
    let wren = json!({ "role": "watch", "password": "ten-characters" });
    assert!(signed(&service, Method::PUT, "people/wren").json(&wren).send().await.unwrap().status().is_success());
    let sign_in = json!({ "name": "wren", "password": "ten-characters" });
    let url = format!("{}/api/v1/console-token", service.http);
    let token: Value = Client::new().post(url).json(&sign_in).send().await.unwrap().json().await.unwrap();
    let doubling = (0..30).fold("size(x) > 0".to_owned(), |inner, _| format!("['a'].map(x, x + x).exists(x, {inner})"));
    let nested = (0..12).fold("true".to_owned(), |inner, _| format!("[1,2,3,4,5,6,7,8].all(identity, {inner})"));
    for text in [doubling, nested] {
        let blueprint = format!("name = \"a\"\n[cohorts.c]\nwhere = \"\"\"{text}\"\"\"\n");
        let body = json!({ "files": [{ "name": "a.toml", "text": blueprint }] });
        let url = format!("{}/api/v1/blueprint/check", service.http);
        let answer =
            Client::new().post(url).bearer_auth(token["token"].as_str().unwrap()).json(&body).send().await.unwrap();
        assert_eq!(answer.status(), StatusCode::OK);
        let check: Value = answer.json().await.unwrap();
        assert!(check["findings"][0]["message"].is_string() && check["findings"][0]["line"] == 3, "{check}");
    }
    let (took, _) = service.terminate();
    assert!(took < Duration::from_secs(20), "{took:?}");
}

#[test]
fn while_the_database_does_not_answer_who_is_signed_in_goes_on() {
    let place = Place::with_private_servers();
    let (service, secret) = serve(&place, "");
    let body = json!({ "secret": service.secret() });
    let call = |method: Method, token: &str, path: &str| {
        let url = format!("{}/api/v1/{path}", service.http);
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let request = Client::builder()
                .timeout(Duration::from_secs(30))
                .build()
                .unwrap()
                .request(method, url)
                .bearer_auth(token);
            let answer = request.send().await.unwrap();
            (answer.status(), answer.json::<Value>().await.unwrap_or_default())
        })
    };
    let client = |token: &str, path: &str| call(Method::GET, token, path);
    let token = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap().block_on(async {
        let url = format!("{}/api/v1/console-token", service.http);
        let answer: Value = Client::new().post(url).json(&body).send().await.unwrap().json().await.unwrap();
        answer["token"].as_str().unwrap().to_owned()
    });
    let server = crate::harness::database_pid(&service.data).unwrap();
    // Its processes lead groups of their own. Those that end meanwhile need not be reached.
    let processes = || {
        let all =
            std::fs::read_dir("/proc").unwrap().filter_map(|entry| entry.unwrap().file_name().to_str()?.parse().ok());
        let of_server = |pid: &i32| {
            let stat = std::fs::read_to_string(format!("/proc/{pid}/stat")).unwrap_or_default();
            let parent = stat.rsplit(')').next().and_then(|rest| rest.split_whitespace().nth(1)?.parse().ok());
            parent == Some(server.as_raw())
        };
        all.filter(of_server).map(nix::unistd::Pid::from_raw).chain([server]).collect::<Vec<_>>()
    };
    let signal = |signal| {
        processes().into_iter().for_each(|pid| {
            let _gone = nix::sys::signal::kill(pid, signal);
        });
    };
    signal(nix::sys::signal::Signal::SIGSTOP);
    let away = wait("the status says so", || {
        let (status, body) = client(&token, "status");
        assert_eq!(status, StatusCode::OK, "{body}");
        Some(body).filter(|body| body["database"]["healthy"] == false)
    });
    assert!(away["warnings"].to_string().contains("The database is unavailable"), "{away}");
    for path in ["sessions", "topics", "access/refusals", "identities", "me"] {
        assert_eq!(client(&token, path).0, StatusCode::OK, "{path}");
    }
    assert_eq!(client("moor-none", "me").0, StatusCode::UNAUTHORIZED);
    let _weir = Peer::open_with(service.mqtt, signing_in("weir-1", "weir", &secret));
    assert_eq!(call(Method::DELETE, &token, "sessions/weir-1").0, StatusCode::NO_CONTENT);
    signal(nix::sys::signal::Signal::SIGCONT);
    wait("it is back", || (client(&token, "status").1["database"]["healthy"] == true).then_some(()));
    wait("what was done meanwhile is noted", || {
        let entries = client(&token, "audit?search=weir-1").1;
        (entries[0]["act"] == "end" && entries[0]["kind"] == "session").then_some(())
    });
    wait("and that is said", || service.log().contains("database available again").then_some(()));
    assert!(service.log().matches("database available again").count() <= 1, "once: {}", service.log());
}

#[tokio::test]
async fn lists_come_in_pages_and_take_no_larger_bite_than_they_say() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let call = async |path: &str| {
        let url = format!("{}/api/v1/{path}", service.http);
        Client::new().get(url).bearer_auth(service.secret()).send().await.unwrap()
    };
    for path in [
        "sessions?limit=10001",
        "identities?limit=10001",
        "retained?limit=10001",
        "topics?limit=5001",
        "audit?limit=5001",
        "access/refusals?limit=10001",
        "topics/drift?limit=0",
        "history?series=queued&points=2001",
        "identities?limit=many",
    ] {
        let refused = call(path).await;
        assert_eq!(refused.status(), StatusCode::UNPROCESSABLE_ENTITY, "{path}");
        assert_eq!(refused.headers()[header::CONTENT_TYPE], "application/problem+json", "{path}");
        let detail = refused.json::<Value>().await.unwrap()["detail"].as_str().unwrap().to_owned();
        assert!(detail.contains("limit") || detail.contains("points"), "{path}: {detail}");
    }
    // Every page leads to the next one, until there is none.
    for number in 0..5 {
        service.run(&["identities", "set", &format!("gauge-{number}")]).ok();
    }
    let (mut next, mut seen) = (Some("identities?limit=2".to_owned()), Vec::new());
    while let Some(path) = next {
        let page = call(&path).await;
        assert_eq!(page.status(), StatusCode::OK, "{path}");
        let link = page.headers().get(header::LINK).map(|link| link.to_str().unwrap().to_owned());
        next = link.map(|link| {
            let query = link.trim_start_matches('<').split('>').next().unwrap().to_owned();
            assert!(link.ends_with("rel=\"next\""), "{link}");
            format!("identities{query}")
        });
        let page: Value = page.json().await.unwrap();
        let identities = page.as_array().unwrap();
        assert!(identities.len() <= 2 && seen.len() < 5, "{page}");
        seen.extend(identities.iter().map(|identity| identity["name"].as_str().unwrap().to_owned()));
    }
    assert_eq!(seen, ["gauge-0", "gauge-1", "gauge-2", "gauge-3", "gauge-4"]);
}
