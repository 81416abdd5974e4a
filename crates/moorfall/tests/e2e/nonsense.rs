//! Nonsense in every place where the HTTP interface takes something: told in words, and nothing falls over.

use std::collections::BTreeSet;

use reqwest::{Client, Method, RequestBuilder, StatusCode, header};
use serde_json::{Map, Value, json};

use crate::harness::{Place, Service};

const DESCRIPTION: &str = include_str!("../../../../docs/openapi.json");

/// In place of one text, number or time.
const TEXTS: [&str; 16] = [
    "",
    " ",
    "-1",
    "0",
    "99999999999999999999999999",
    "-9223372036854775809",
    "1e999",
    "NaN",
    "null",
    "\0",
    "..%2f..",
    "'; DROP TABLE event; --",
    "harrowmere/#/gauge",
    "Flut 💧 \u{202e}weir",
    "2026-02-30T25:61:00Z",
    "-262144-01-01T00:00:00Z",
];

/// What a message to somebody outside never has: names from inside.
const INSIDE: [&str; 8] = ["sqlx", "tokio", "panicked", "SELECT ", "INSERT ", "src/", "unwrap", "Some("];

/// One call of the description.
struct Operation<'a> {
    method: Method,
    path: &'a str,
    item: &'a Value,
}

impl Operation<'_> {
    /// Names, places and schemas of what the call takes beside its body.
    fn parameters(&self) -> impl Iterator<Item = (&str, &str, &Value)> {
        let all = self.item["parameters"].as_array().into_iter().flatten();
        all.map(|one| (one["name"].as_str().unwrap(), one["in"].as_str().unwrap(), &one["schema"]))
    }

    /// The schema of its body.
    fn body(&self) -> Option<&Value> {
        let content = self.item["requestBody"]["content"].as_object()?;
        content.get("application/json").map(|json| &json["schema"])
    }
}

/// Follows a reference, and takes the first of several choices that is not null.
fn resolved<'a>(description: &'a Value, schema: &'a Value) -> &'a Value {
    if let Some(place) = schema["$ref"].as_str() {
        return resolved(description, description.pointer(place.trim_start_matches('#')).unwrap());
    }
    let choices = ["oneOf", "anyOf", "allOf"].iter().find_map(|key| schema[*key].as_array());
    let choice = choices.and_then(|all| all.iter().find(|one| one["type"] != "null"));
    choice.map_or(schema, |choice| resolved(description, choice))
}

/// A value that a schema allows, as small as it can be.
fn plain(description: &Value, schema: &Value, depth: usize) -> Value {
    let schema = resolved(description, schema);
    if let Some(first) = schema["enum"].as_array().and_then(|all| all.first()) {
        return first.clone();
    }
    let kind = match &schema["type"] {
        Value::Array(kinds) => kinds.iter().find_map(|kind| kind.as_str().filter(|kind| *kind != "null")),
        kind => kind.as_str(),
    };
    match (kind, schema["format"].as_str()) {
        (_, Some("date-time")) => json!("2026-11-30T10:00:00Z"),
        (Some("string"), _) => json!("gauge"),
        (Some("integer" | "number"), _) => json!(1),
        (Some("boolean"), _) => json!(false),
        (Some("array"), _) if depth > 0 => json!([plain(description, &schema["items"], depth - 1)]),
        (Some("array"), _) => json!([]),
        _ => {
            let properties = schema["properties"].as_object().into_iter().flatten();
            let all = properties.map(|(name, one)| (name.clone(), plain(description, one, depth.saturating_sub(1))));
            Value::Object(all.collect::<Map<_, _>>())
        }
    }
}

/// What stands in place of a value of JSON.
fn values() -> Vec<Value> {
    let texts = TEXTS.iter().map(|text| json!(text));
    let others = [
        json!(null),
        json!(true),
        json!(-1),
        json!(0),
        json!(1.5e300),
        json!(u64::MAX),
        json!([]),
        json!({}),
        json!([[[{}]]]),
        json!("x".repeat(70_000)),
    ];
    texts.chain(others).collect()
}

/// Whole bodies that are none.
fn bodies() -> Vec<Vec<u8>> {
    let texts =
        ["", "{", "null", "[]", "\"gauge\"", "{\"a\": 1}", "{\"a\": 1, \"a\": 2}", "1e999", "{} {}", "\u{feff}{}"];
    let mut all: Vec<Vec<u8>> = texts.iter().map(|text| text.as_bytes().to_vec()).collect();
    all.push(vec![b'['; 100_000]);
    all.push(b"{\"name\": \"\xff\xfe\"}".to_vec());
    all
}

struct Asking<'a> {
    service: &'a Service<'a>,
    client: Client,
    secret: String,
    asked: usize,
    refused: usize,
    /// What calls were answered with, by their numbers.
    seen: BTreeSet<u16>,
}

impl Asking<'_> {
    /// A request with plain values, but for one that is replaced.
    fn request(
        &self,
        description: &Value,
        operation: &Operation<'_>,
        replaced: Option<(&str, &str)>,
    ) -> RequestBuilder {
        let mut path = operation.path.to_owned();
        let mut query = Vec::new();
        for (name, place, schema) in operation.parameters() {
            let value = match plain(description, schema, 0) {
                Value::String(text) => text,
                other => other.to_string(),
            };
            let wanted = replaced.filter(|(wanted, _)| *wanted == name);
            match (place, wanted) {
                ("path", wanted) => {
                    let value = wanted.map_or(value, |(_, text)| text.to_owned());
                    let mut url = reqwest::Url::parse("http://moorfall.example").unwrap();
                    url.path_segments_mut().unwrap().push(&value);
                    path = path.replace(&format!("{{{name}}}"), url.path().trim_start_matches('/'));
                }
                (_, Some((_, text))) => query.push((name, text.to_owned())),
                _ => {}
            }
        }
        let mut url = reqwest::Url::parse(&format!("{}{path}", self.service.http)).unwrap();
        if !query.is_empty() {
            url.query_pairs_mut().extend_pairs(&query);
        }
        self.client.request(operation.method.clone(), url).bearer_auth(&self.secret)
    }

    /// Asks, and holds the answer to what every answer is.
    async fn ask(&mut self, request: RequestBuilder, operation: &Operation<'_>, what: &str) {
        self.asked += 1;
        let answer = request.send().await.unwrap_or_else(|error| panic!("{what}: {error:?}"));
        let status = answer.status();
        self.seen.insert(status.as_u16());
        assert!(!status.is_server_error(), "{what}: {status}: {}", answer.text().await.unwrap());
        if !status.is_client_error() {
            return;
        }
        self.refused += 1;
        let kind = answer.headers().get(header::CONTENT_TYPE).cloned();
        let text = answer.text().await.unwrap();
        // Some calls say what is wrong in a form of their own, which is described.
        let described = &operation.item["responses"][status.as_str()]["content"];
        if kind.as_ref().is_some_and(|kind| kind == "application/json") && described["application/json"].is_object() {
            return;
        }
        assert_eq!(kind.unwrap(), "application/problem+json", "{what}: {status}: {text}");
        let problem: Value = serde_json::from_str(&text).unwrap();
        let detail = problem["detail"].as_str().unwrap_or_default();
        assert!(detail.ends_with(['.', '…']) && detail.len() > 10, "{what}: {text}");
        assert!(!INSIDE.iter().any(|inside| detail.contains(inside)), "{what}: {text}");
        assert!(detail.len() < 2_000, "{what}: {} bytes of detail", detail.len());
        assert_eq!(problem["status"], status.as_u16(), "{what}");
    }
}

#[tokio::test]
async fn nonsense_in_any_place_is_told_in_words_and_nothing_falls_over() {
    let place = Place::new();
    let service = place.serve_catchment();
    let description: Value = serde_json::from_str(DESCRIPTION).unwrap();
    let client = Client::builder().redirect(reqwest::redirect::Policy::none()).build().unwrap();
    let secret = service.secret();
    let mut asking = Asking { service: &service, client, secret, asked: 0, refused: 0, seen: BTreeSet::new() };
    for (path, item) in description["paths"].as_object().unwrap() {
        // Guesses at the secret are slowed down, which has a test of its own.
        if path.contains("/console-") {
            continue;
        }
        for (method, item) in item.as_object().unwrap() {
            let Ok(method) = Method::from_bytes(method.to_uppercase().as_bytes()) else { continue };
            let operation = Operation { method, path, item };
            let name = format!("{} {path}", operation.method);
            let schema = operation.body();
            let whole = schema.map(|schema| plain(&description, schema, 2));
            for (parameter, ..) in operation.parameters() {
                for text in TEXTS {
                    let mut request = asking.request(&description, &operation, Some((parameter, text)));
                    if let Some(whole) = &whole {
                        request = request.json(whole);
                    }
                    asking.ask(request, &operation, &format!("{name} with {parameter} = {text:?}")).await;
                }
            }
            let Some(whole) = whole else { continue };
            for property in whole.as_object().into_iter().flatten().map(|(property, _)| property) {
                for value in values() {
                    let mut body = whole.clone();
                    body[property] = value.clone();
                    let request = asking.request(&description, &operation, None).json(&body);
                    let value = value.to_string().chars().take(60).collect::<String>();
                    asking.ask(request, &operation, &format!("{name} with {property}: {value}")).await;
                }
            }
            for body in bodies() {
                let what = format!("{name} with {:?}", String::from_utf8_lossy(&body[..body.len().min(40)]));
                let request = asking.request(&description, &operation, None);
                let request = request.header(header::CONTENT_TYPE, "application/json").body(body);
                asking.ask(request, &operation, &what).await;
            }
            let request = asking.request(&description, &operation, None);
            let request = request.header(header::CONTENT_TYPE, "text/plain").body("{}");
            asking.ask(request, &operation, &format!("{name} with plain text")).await;
        }
    }
    let Asking { asked, refused, seen, .. } = asking;
    assert!(asked > 2_000 && refused > 1_000, "{asked} calls, {refused} of them refused: {seen:?}");
    assert!([400, 404, 422].iter().all(|status| seen.contains(status)), "{seen:?}");
    // It is as it was.
    let status = Client::new().get(format!("{}/health/ready", service.http)).send().await.unwrap();
    assert_eq!(status.status(), StatusCode::OK, "{}", status.text().await.unwrap());
    let log = service.log();
    assert!(!log.contains("panicked"), "{log}");
}
