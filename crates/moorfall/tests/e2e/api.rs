//! The HTTP interface.

use reqwest::{Client, Method, RequestBuilder, Response, StatusCode, header};
use serde_json::{Value, json};
use time::{OffsetDateTime, format_description::well_known::Rfc3339};

use crate::harness::{Place, Service};

fn call(service: &Service<'_>, method: Method, path: &str) -> RequestBuilder {
    Client::new().request(method, format!("{}/api/v1/{path}", service.http))
}

pub(crate) fn signed(service: &Service<'_>, method: Method, path: &str) -> RequestBuilder {
    call(service, method, path).bearer_auth(service.secret())
}

async fn problem(answer: Response) -> (StatusCode, Value) {
    let status = answer.status();
    assert_eq!(answer.headers()[header::CONTENT_TYPE], "application/problem+json");
    let problem: Value = answer.json().await.unwrap();
    assert_eq!(problem["status"], status.as_u16());
    (status, problem)
}

#[tokio::test]
async fn every_call_but_signing_in_needs_the_secret() {
    let place = Place::new();
    let service = place.serve(&[]);
    let description: Value = call(&service, Method::GET, "openapi.json").send().await.unwrap().json().await.unwrap();
    let paths = description["paths"].as_object().unwrap();
    assert!(paths.len() >= 8);
    for (path, methods) in paths {
        for method in methods.as_object().unwrap().keys() {
            if ["/console-session", "/console-token", "/blueprint/schema"].iter().any(|open| path.ends_with(open)) {
                continue;
            }
            let path = path
                .replace("{name}", "x")
                .replace("{client_id}", "x")
                .replace("{number}", "1")
                .replace("{token}", "x")
                .replace("{id}", "x");
            let url = format!("{}{path}", service.http);
            let method = Method::from_bytes(method.to_uppercase().as_bytes()).unwrap();
            let answer = Client::new().request(method.clone(), url).json(&json!({})).send().await.unwrap();
            let (status, problem) = problem(answer).await;
            assert_eq!(
                (status, &problem["title"]),
                (StatusCode::UNAUTHORIZED, &"Not signed in".into()),
                "{method} {path}"
            );
        }
    }
    let wrong = call(&service, Method::GET, "status").bearer_auth("guess").send().await.unwrap();
    assert_eq!(problem(wrong).await.0, StatusCode::UNAUTHORIZED);
}

#[tokio::test]
async fn mistakes_are_problems_in_words() {
    let place = Place::new();
    let service = place.serve(&[]);
    let put = |body: &'static str| {
        signed(&service, Method::PUT, "identities/x").header(header::CONTENT_TYPE, "application/json").body(body)
    };
    for (request, status, words) in [
        (signed(&service, Method::GET, "weather"), 404, "There is no /api/v1/weather"),
        (signed(&service, Method::POST, "status"), 405, "has other methods"),
        (signed(&service, Method::GET, "sessions/nobody"), 404, "no session with the client identifier nobody"),
        (signed(&service, Method::DELETE, "identities/nobody"), 404, "There is no identity nobody"),
        (signed(&service, Method::GET, "history?series=messages_in&points=0"), 422, "it must be from 1 to"),
        (signed(&service, Method::GET, "history?series=mesages_in"), 422, "There is no measure"),
        (signed(&service, Method::GET, "history?series=descriptors_limit"), 422, "with a history"),
        (
            signed(&service, Method::GET, "history?series=queued&from=2026-11-02T00:00:00Z&to=2026-11-01T00:00:00Z"),
            422,
            "must end after it begins",
        ),
        (signed(&service, Method::GET, "history?series=queued&from=yesterday"), 422, "is not a time"),
        (put("{"), 400, "EOF"),
        (put(r#"{"pasword": "x"}"#), 422, "unknown field `pasword`"),
        (put(r#"{"password": ""}"#), 422, "1 to 1024 bytes"),
        (signed(&service, Method::PUT, "identities/a%2Fb").json(&json!({})), 422, "names are used in topic levels"),
    ] {
        let (got, problem) = problem(request.send().await.unwrap()).await;
        assert_eq!(got.as_u16(), status, "{problem}");
        assert!(problem["detail"].as_str().unwrap().contains(words), "{problem}");
    }
}

#[tokio::test]
async fn the_console_s_cookie_opens_the_interface_until_signing_out_and_only_to_itself() {
    let place = Place::new();
    let service = place.serve(&[]);
    let sign_in = |secret: String| call(&service, Method::POST, "console-session").json(&json!({ "secret": secret }));
    let refused = sign_in("guess".into()).send().await.unwrap();
    assert_eq!(problem(refused).await.1["title"], "Wrong secret");
    let foreign = sign_in(service.secret()).header(header::ORIGIN, "http://elsewhere.example").send().await.unwrap();
    assert_eq!(problem(foreign).await.0, StatusCode::FORBIDDEN);

    let answer = sign_in(service.secret()).send().await.unwrap();
    assert_eq!(answer.status(), StatusCode::NO_CONTENT);
    let set = answer.headers()[header::SET_COOKIE].to_str().unwrap().to_owned();
    assert!(set.contains("HttpOnly") && set.contains("SameSite=Strict"), "{set}");
    assert!(!set.contains(&service.secret()));
    let cookie = set.split(';').next().unwrap().to_owned();
    let with = |method, path| call(&service, method, path).header(header::COOKIE, &cookie);
    assert_eq!(with(Method::GET, "status").send().await.unwrap().status(), StatusCode::OK);
    let forged = with(Method::DELETE, "identities/x").header(header::ORIGIN, "http://elsewhere.example");
    assert_eq!(problem(forged.send().await.unwrap()).await.1["title"], "Foreign origin");

    assert_eq!(with(Method::DELETE, "console-session").send().await.unwrap().status(), StatusCode::NO_CONTENT);
    assert_eq!(with(Method::GET, "status").send().await.unwrap().status(), StatusCode::UNAUTHORIZED);
}

#[tokio::test]
async fn live_readings_come_each_second_and_are_kept() {
    let place = Place::new();
    let service = place.serve(&["--open"]);
    let mut live = signed(&service, Method::GET, "live").send().await.unwrap();
    assert_eq!(live.headers()[header::CONTENT_TYPE], "text/event-stream");
    for number in 0..5 {
        service.run(&["publish", "harrowmere/count", &number.to_string()]).ok();
    }
    let mut text = String::new();
    let mut seen = 0.0;
    while seen < 4.9 {
        text.push_str(std::str::from_utf8(&live.chunk().await.unwrap().unwrap()).unwrap());
        seen = text
            .lines()
            .filter_map(|line| serde_json::from_str::<Value>(line.strip_prefix("data: ")?).ok())
            .map(|reading| reading["rates"]["messages_in"].as_f64().unwrap())
            .sum();
    }
    assert!(text.starts_with("event: reading\n"), "{text}");
    // The past reaches up to the newest span, whether or not it is written yet.
    let past = async || {
        let answer = signed(&service, Method::GET, "history?series=messages_in,messages_in/1,sessions_connected");
        let past: Value = answer.send().await.unwrap().json().await.unwrap();
        past
    };
    let sum = |past: &Value, series: usize| -> f64 {
        let points = past["series"][series]["points"].as_array().unwrap();
        points.iter().map(|point| point["sum"].as_f64().unwrap()).sum()
    };
    let mut last = past().await;
    while sum(&last, 0) < 4.9 {
        live.chunk().await.unwrap();
        last = past().await;
    }
    // Later it is read from the database: it is the same, each span once.
    for _ in 0..12 {
        live.chunk().await.unwrap();
        last = past().await;
        assert!((4.9..5.1).contains(&sum(&last, 0)), "{last}");
    }
    assert_eq!((&last["resolution_seconds"], &last["step_seconds"]), (&10.into(), &10.into()));
    assert!((4.9..5.1).contains(&sum(&last, 1)), "all of them were of QoS 1: {last}");
    let (counter, gauge) = (&last["series"][0], &last["series"][2]);
    assert_eq!((&counter["kind"], &counter["unit"]), (&"counter".into(), &"messages".into()));
    assert!(gauge["points"][0]["sum"].is_null() && gauge["points"][0]["maximum"].is_number(), "{gauge}");
    let time = |point: &Value| OffsetDateTime::parse(point["at"].as_str().unwrap(), &Rfc3339).unwrap();
    let points = counter["points"].as_array().unwrap();
    assert!(points.windows(2).all(|pair| (time(&pair[1]) - time(&pair[0])).whole_seconds() == 10), "{last}");
}

#[tokio::test]
async fn a_session_can_be_ended() {
    let place = Place::new();
    let service = place.serve(&[]);
    let client = service.spawn(&["subscribe", "#", "--client-id", "desk/one"], "subscribed");
    let shown: Value = signed(&service, Method::GET, "sessions/desk%2Fone").send().await.unwrap().json().await.unwrap();
    assert_eq!(shown["subscriptions"], 1);
    let ended = signed(&service, Method::DELETE, "sessions/desk%2Fone").send().await.unwrap();
    assert_eq!(ended.status(), StatusCode::NO_CONTENT);
    assert!(client.finish().failed().contains("The session was ended by an administrator"));
    assert_eq!(service.status()["sessions"], 0, "it is gone when the answer comes");
}

#[tokio::test]
async fn pages_come_with_headers_that_keep_foreign_code_out() {
    let place = Place::new();
    let service = place.serve(&[]);
    let page = Client::new().get(&service.http).send().await.unwrap();
    assert_eq!(page.status(), StatusCode::OK, "the console is part of the program");
    let policy = page.headers()[header::CONTENT_SECURITY_POLICY].to_str().unwrap();
    assert!(policy.contains("default-src 'self'") && !policy.contains("unsafe"), "{policy}");
    assert_eq!(page.headers()[header::X_CONTENT_TYPE_OPTIONS], "nosniff");
    let missing = Client::new().get(format!("{}/../etc/passwd", service.http)).send().await.unwrap();
    assert_eq!(missing.status(), StatusCode::NOT_FOUND);
}

#[tokio::test]
async fn identities_are_searched_by_name_note_and_attribute() {
    let place = Place::new();
    let service = place.serve(&[]);
    for (name, reach, note) in
        [("kettle-weir", "gorge", "has a gate"), ("nine-arches", "gorge", ""), ("ferry-stage", "tidal", "")]
    {
        let body = json!({ "attributes": { "kind": "station", "reach": reach }, "note": note });
        let put = signed(&service, Method::PUT, &format!("identities/{name}")).json(&body).send().await.unwrap();
        assert_eq!(put.status(), StatusCode::OK);
    }
    for (query, expected) in [
        ("", &["ferry-stage", "kettle-weir", "nine-arches"][..]),
        ("?search=reach%3Dgorge", &["kettle-weir", "nine-arches"]),
        ("?search=gate", &["kettle-weir"]),
        ("?search=nine", &["nine-arches"]),
        ("?search=nobody", &[]),
        ("?limit=1", &["ferry-stage"]),
        ("?search=gorge&limit=1", &["kettle-weir"]),
    ] {
        let call = format!("identities{query}");
        let found: Value = signed(&service, Method::GET, &call).send().await.unwrap().json().await.unwrap();
        let names: Vec<_> = found.as_array().unwrap().iter().map(|one| one["name"].as_str().unwrap()).collect();
        assert_eq!(names, expected, "{query}");
    }
}

#[tokio::test]
async fn questions_that_make_no_sense_are_told_why() {
    let place = Place::new();
    let service = place.serve(&[]);
    for (method, call, body, status, words) in [
        (Method::POST, "journey", json!({ "identity": "administrator", "topic": "a/#" }), 422, "a/#"),
        (Method::POST, "journey", json!({ "identity": "administrator", "topic": "a", "qos": 3 }), 422, "no QoS 3"),
        (Method::POST, "journey", json!({ "identity": "nobody", "topic": "a" }), 404, "nobody can't connect"),
        (Method::GET, "retained?filter=a%2F%23%2Fb", Value::Null, 422, "is not a valid topic filter"),
        (Method::GET, "retained/message?topic=a", Value::Null, 404, "a has no retained message"),
        (Method::GET, "retained/message?topic=a%2F%23", Value::Null, 422, "is not a valid topic name"),
        (Method::POST, "retained/restore", json!({ "restore_key": "x" }), 404, "can no longer be restored"),
        (Method::POST, "authorities", json!({ "name": "", "pem": "" }), 422, "1 to 128 bytes"),
        (Method::POST, "authorities", json!({ "name": "a", "pem": "nonsense" }), 422, "no certificate in PEM format"),
        (Method::DELETE, "authorities/a", Value::Null, 404, "no authority a"),
        (Method::PUT, "identities/a", json!({ "certificates": ["weir"] }), 422, "is not a valid certificate match"),
    ] {
        let mut request = signed(&service, method, call);
        if !body.is_null() {
            request = request.json(&body);
        }
        let (told, problem) = problem(request.send().await.unwrap()).await;
        assert_eq!(told.as_u16(), status, "{call}: {problem}");
        assert!(problem["detail"].as_str().unwrap().contains(words), "{call}: {problem}");
    }
}
