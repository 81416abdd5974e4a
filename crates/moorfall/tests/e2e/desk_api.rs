//! Clients that people hold at the console, through the API that the console uses.

use base64::{Engine, engine::general_purpose::STANDARD};
use reqwest::{Client, Method, StatusCode};
use serde_json::{Value, json};

use crate::harness::{Place, Service};

const LEVEL: &str = "harrowmere/gorge/kettle-weir/stage/level";
const STATUS: &str = "harrowmere/gorge/kettle-weir/status";

/// Somebody who works at the desk.
struct Person<'a> {
    service: &'a Service<'a>,
    token: String,
}

impl<'a> Person<'a> {
    fn administrator(service: &'a Service<'a>) -> Self {
        Self { service, token: service.secret() }
    }

    /// One of this role.
    async fn of(service: &'a Service<'a>, name: &str, role: &str) -> Self {
        Self { service, token: service.person(name, role).await }
    }

    async fn call(&self, method: Method, path: &str, body: Value) -> (StatusCode, Value) {
        let url = format!("{}/api/v1/desk/{path}", self.service.http);
        let mut request = Client::new().request(method.clone(), url).bearer_auth(&self.token);
        if method != Method::GET && method != Method::DELETE {
            request = request.json(&body);
        }
        let answer = request.send().await.unwrap();
        (answer.status(), serde_json::from_slice(&answer.bytes().await.unwrap()).unwrap_or(Value::Null))
    }

    async fn open(&self, order: Value) -> String {
        let (status, opened) = self.call(Method::POST, "clients", order).await;
        assert_eq!(status, StatusCode::CREATED, "{opened}");
        opened["id"].as_str().unwrap().to_owned()
    }

    async fn post(&self, path: &str, body: Value) -> Value {
        let (status, answer) = self.call(Method::POST, path, body).await;
        assert_eq!(status, StatusCode::OK, "{answer}");
        answer
    }

    /// What happened to a client after a happening; there must be something.
    async fn happened(&self, id: &str, after: u64) -> Value {
        let (status, answer) = self.call(Method::GET, &format!("events?of={id}.{after}&wait=25"), json!({})).await;
        assert_eq!((status, &answer[0]["open"]), (StatusCode::OK, &true.into()), "{answer}");
        answer[0]["events"][0].clone()
    }
}

fn message(topic: &str, payload: &[u8]) -> Value {
    json!({ "topic": topic, "payload": STANDARD.encode(payload), "qos": 1 })
}

#[tokio::test]
async fn clients_at_the_desk_have_the_rights_of_their_identities() {
    let place = Place::new();
    let service = place.serve_catchment();
    service.identity("kettle-weir", &["kind=station", "reach=gorge"]);
    service.identity("auditor", &["kind=person"]);
    let person = Person::administrator(&service);
    let desk = person.open(json!({ "identity": "auditor", "client_id": "desk-desk" })).await;
    let weir = person.open(json!({ "identity": "kettle-weir", "version": "3.1.1" })).await;
    let sessions = service.run(&["sessions", "--json"]).json();
    let seen = sessions["sessions"].as_array().unwrap().iter().find(|one| one["client_id"] == "desk-desk").unwrap();
    assert_eq!((&seen["identity"], &seen["signed_in_by"]), (&"auditor".into(), &"person".into()), "{seen}");

    let granted =
        person.post(&format!("clients/{desk}/subscribe"), json!({ "filter": "harrowmere/#", "qos": 1 })).await;
    assert_eq!((&granted["accepted"], &granted["reason"]), (&true.into(), &1.into()), "{granted}");
    let refused = person.post(&format!("clients/{desk}/publish"), message(LEVEL, b"1.83")).await;
    assert_eq!(refused["accepted"], false, "{refused}");
    assert!(refused["explanation"].as_str().unwrap().contains("auditor is not allowed to publish"), "{refused}");

    // What 3.1.1 and QoS 0 do not tell is told here.
    let old = person.open(json!({ "identity": "auditor", "client_id": "desk-old", "version": "3.1.1" })).await;
    let quick = json!({ "topic": LEVEL, "payload": "" });
    for (path, body) in
        [("publish", message(LEVEL, b"1.83")), ("publish", quick), ("subscribe", json!({ "filter": "#" }))]
    {
        let answer = person.post(&format!("clients/{old}/{path}"), body).await;
        assert_eq!(answer["accepted"], false, "{answer}");
        assert!(answer["explanation"].as_str().unwrap().contains("auditor is not allowed to"), "{answer}");
    }
    let allowed = person.post(&format!("clients/{old}/subscribe"), json!({ "filter": "harrowmere/#" })).await;
    assert_eq!(allowed["accepted"], true, "an earlier refusal is not this one's: {allowed}");
    let sent = person.post(&format!("clients/{weir}/publish"), message(LEVEL, br#"{"m": 1.83}"#)).await;
    assert_eq!(sent["accepted"], true, "{sent}");
    let first = person.happened(&desk, 0).await;
    assert_eq!((&first["message"]["topic"], &first["message"]["payload"]), (&LEVEL.into(), &r#"{"m": 1.83}"#.into()));
    let properties = json!({ "topic": STATUS, "payload": STANDARD.encode([0, 255]), "retain": true, "expiry": 60,
        "content_type": "application/octet-stream", "user": [{ "name": "sensor", "value": "2" }] });
    let newer = person.open(json!({ "identity": "kettle-weir", "client_id": "desk-weir" })).await;
    person.post(&format!("clients/{newer}/publish"), properties).await;
    let second = person.happened(&desk, 1).await;
    assert_eq!((&second["message"]["payload"], &second["message"]["payload_base64"]), (&Value::Null, &"AP8=".into()));
    let named = second["message"]["properties"].to_string();
    assert!(["sensor", "octet-stream", "60 s"].iter().all(|part| named.contains(part)), "{second}");

    let none = person.post(&format!("clients/{desk}/unsubscribe"), json!({ "filter": "harrowmere/#" })).await;
    assert_eq!(none["accepted"], true, "{none}");
    // What happens to the identity happens to its client here.
    service.run(&["identities", "remove", "auditor"]).ok();
    let over = person.happened(&desk, 2).await;
    assert!(over["closed"].as_str().unwrap().contains("removed"), "{over}");
    assert_eq!(person.call(Method::DELETE, &format!("clients/{desk}"), json!({})).await.0, StatusCode::NO_CONTENT);
    let gone = person.call(Method::GET, &format!("events?of={weir}.0,{desk}.3&wait=25"), json!({})).await.1;
    assert_eq!((&gone[0]["open"], &gone[1]["open"]), (&true.into(), &false.into()), "told at once: {gone}");
    assert!(service.run(&["audit", "--json"]).ok().contains("act as"));
}

#[tokio::test]
async fn a_client_that_goes_away_abruptly_leaves_its_will() {
    let place = Place::new();
    let service = place.serve(&[]);
    let person = Person::administrator(&service);
    let desk = person.open(json!({ "identity": "administrator" })).await;
    person.post(&format!("clients/{desk}/subscribe"), json!({ "filter": "#", "qos": 2 })).await;
    for (abruptly, left) in [(false, false), (true, true)] {
        let weir = person.open(json!({ "identity": "administrator", "will": message(STATUS, b"offline") })).await;
        person.call(Method::DELETE, &format!("clients/{weir}?abruptly={abruptly}"), json!({})).await;
        let other = person.open(json!({ "identity": "administrator", "version": "3.1.1", "clean_start": true })).await;
        person.post(&format!("clients/{other}/publish"), message("after", b"")).await;
        let mut seen = Vec::new();
        let after = if abruptly { 1 } else { 0 };
        while seen.len() < 1 + usize::from(left) {
            seen.push(person.happened(&desk, after + seen.len() as u64).await["message"]["topic"].clone());
        }
        seen.sort_by_key(ToString::to_string);
        let wanted: Vec<Value> = if left { vec!["after".into(), STATUS.into()] } else { vec!["after".into()] };
        assert_eq!(seen, wanted);
    }
}

#[tokio::test]
async fn the_desk_is_for_those_who_may_operate_and_each_holds_their_own() {
    let place = Place::new();
    let service = place.serve_catchment();
    service.identity("auditor", &["kind=person"]);
    let watcher = Person::of(&service, "wren", "watch").await;
    let operator = Person::of(&service, "teal", "operate").await;
    let other = Person::of(&service, "snipe", "operate").await;
    let order = json!({ "identity": "auditor" });
    assert_eq!(watcher.call(Method::POST, "clients", order.clone()).await.0, StatusCode::FORBIDDEN);
    let all = operator.call(Method::POST, "clients", json!({ "identity": "administrator" })).await;
    assert_eq!(all.0, StatusCode::FORBIDDEN, "{}", all.1);
    let client = operator.open(order).await;
    let path = format!("clients/{client}");
    let (_, none) = other.call(Method::GET, &format!("events?of={client}.0"), json!({})).await;
    assert_eq!(none[0]["open"], false, "{none}");
    let (status, problem) = other.call(Method::GET, "events?of=x", json!({})).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{problem}");
    assert_eq!(other.call(Method::DELETE, &path, json!({})).await.0, StatusCode::NOT_FOUND);
    let (status, problem) = operator.call(Method::POST, "clients", json!({ "identity": "nobody" })).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(problem["detail"].as_str().unwrap().contains("There is no identity nobody"), "{problem}");
    for (path, body, words) in [
        ("clients", json!({ "identity": "auditor", "version": "4" }), "Use 3.1.1 or 5.0"),
        (&format!("{path}/subscribe"), json!({ "filter": "a/#/b" }), "is not a valid topic filter"),
        (&format!("{path}/subscribe"), json!({ "filter": "a", "qos": 3 }), "There is no QoS 3"),
        (&format!("{path}/publish"), json!({ "topic": "a/+", "payload": "" }), "is not a valid topic name"),
        (&format!("{path}/publish"), json!({ "topic": "a", "payload": "?" }), "not Base64"),
    ] {
        let (status, problem) = operator.call(Method::POST, path, body).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{path}");
        assert!(problem["detail"].as_str().unwrap().contains(words), "{problem}");
    }

    // Set-ups are everyone's.
    let panes = json!([{ "identity": "auditor", "filters": ["harrowmere/#"] }]);
    let (status, kept) = operator.call(Method::PUT, "setups/gate%20trial", panes.clone()).await;
    assert_eq!((status, &kept["changed_by"]), (StatusCode::OK, &"teal".into()), "{kept}");
    let (_, list) = other.call(Method::GET, "setups", json!({})).await;
    assert_eq!((&list[0]["name"], &list[0]["clients"]), (&"gate trial".into(), &panes));
    let large = json!(["x".repeat(70_000)]);
    assert_eq!(operator.call(Method::PUT, "setups/large", large).await.0, StatusCode::UNPROCESSABLE_ENTITY);
    assert_eq!(other.call(Method::DELETE, "setups/gate%20trial", json!({})).await.0, StatusCode::NO_CONTENT);
    assert_eq!(other.call(Method::DELETE, "setups/gate%20trial", json!({})).await.0, StatusCode::NOT_FOUND);
}
