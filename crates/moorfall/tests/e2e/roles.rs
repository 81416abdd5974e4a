//! Who may call what: each call of the committed description, by everybody who may less than it needs.

use reqwest::{Client, Method, StatusCode};
use serde_json::{Value, json};

use crate::harness::{Place, Service};

/// The description of the interface.
const DESCRIPTION: &str = include_str!("../../../../docs/openapi.json");

/// Calls that anybody may make.
const OPEN: [&str; 3] = ["/console-session", "/console-token", "/blueprint/schema"];

/// Calls that change nothing, though they carry a body.
const QUESTIONS: [&str; 7] = [
    "/bridges/{name}/preview",
    "/derived/{name}/trial",
    "/access/explain",
    "/journey",
    "/blueprint/check",
    "/blueprint/compare",
    "/topics/draft",
];

/// Calls that only who owns the broker may make, and those of who changes the design.
const OWN: [&str; 4] = ["/people", "/people/{name}", "/authorities", "/authorities/{name}"];
const DESIGN: [&str; 3] = ["/bridges/{name}/secret", "/blueprint/revisions", "/blueprint/revisions/{number}/revert"];

/// All calls, as the description has them.
fn calls() -> Vec<(Method, String)> {
    let description: Value = serde_json::from_str(DESCRIPTION).unwrap();
    let mut calls = Vec::new();
    for (path, item) in description["paths"].as_object().unwrap() {
        for method in item.as_object().unwrap().keys() {
            let method = match method.as_str() {
                "get" => Method::GET,
                "put" => Method::PUT,
                "post" => Method::POST,
                "delete" => Method::DELETE,
                _ => continue,
            };
            calls.push((method, path.trim_start_matches("/api/v1").to_owned()));
        }
    }
    calls
}

/// How much a call needs, in the order of the roles: watch, operate, design, own.
fn needs(method: &Method, path: &str) -> usize {
    match path {
        _ if QUESTIONS.contains(&path) => 0,
        _ if OWN.contains(&path) && (*method != Method::GET || path == "/people") => 3,
        _ if DESIGN.contains(&path) && *method != Method::GET => 2,
        _ if *method != Method::GET || path.starts_with("/desk") || path.starts_with("/ladders") => 1,
        _ => 0,
    }
}

async fn call(service: &Service<'_>, method: &Method, path: &str, token: Option<&str>) -> StatusCode {
    let path = path.replace("{number}", "1").replace(['{', '}'], "");
    let mut request = Client::new().request(method.clone(), format!("{}/api/v1{path}", service.http));
    if let Some(token) = token {
        request = request.bearer_auth(token);
    }
    if *method == Method::POST || *method == Method::PUT {
        // Never what the call wants: whoever may make it is told so, and nothing is changed.
        request = request.json(&json!({ "nothing": "of it" }));
    }
    request.send().await.unwrap().status()
}

#[tokio::test]
async fn every_call_needs_its_role_and_no_more() {
    let place = Place::new();
    let service = place.serve_catchment();
    let roles = ["watch", "operate", "design", "own"];
    let mut tokens = Vec::new();
    for role in roles {
        tokens.push(service.person(&format!("{role}-person"), role).await);
    }
    let all = calls();
    assert!(all.len() > 45, "{} calls", all.len());
    for (method, path) in &all {
        if OPEN.contains(&path.as_str()) {
            continue;
        }
        let stranger = call(&service, method, path, None).await;
        assert_eq!(stranger, StatusCode::UNAUTHORIZED, "{method} {path} without a sign-in");
        // The live readings go on until somebody hangs up, and what people do with a DELETE may be done.
        if path == "/live" || *method == Method::DELETE && needs(method, path) < 3 {
            let below = needs(method, path);
            for (token, role) in tokens.iter().zip(roles).take(below) {
                let refused = call(&service, method, path, Some(token)).await;
                assert_eq!(refused, StatusCode::FORBIDDEN, "{method} {path} as {role}");
            }
            continue;
        }
        for (place, (token, role)) in tokens.iter().zip(roles).enumerate() {
            let status = call(&service, method, path, Some(token)).await;
            let is_refused = status == StatusCode::FORBIDDEN;
            assert_eq!(is_refused, place < needs(method, path), "{method} {path} as {role}: {status}");
        }
    }
}
