//! The description of the API that the console's client is generated from is the one that the service serves.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

use std::path::Path;

#[test]
fn the_committed_description_is_the_served_one() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/openapi.json");
    let served = format!("{}\n", moorfall_api::openapi().to_pretty_json().unwrap());
    if std::env::var_os("MOORFALL_UPDATE").is_some() {
        std::fs::write(&path, &served).unwrap();
    }
    let committed = std::fs::read_to_string(&path).unwrap_or_default();
    assert!(
        committed == served,
        "docs/openapi.json is not what the service serves; run `make api` and commit both files"
    );
}

#[test]
fn every_response_is_described_and_every_summary_says_what_the_call_does() {
    let served: serde_json::Value = serde_json::to_value(moorfall_api::openapi()).unwrap();
    let paths = served["paths"].as_object().unwrap();
    let operations = paths.iter().flat_map(|(path, item)| {
        item.as_object().unwrap().iter().map(move |(method, operation)| (format!("{method} {path}"), operation))
    });
    let mut count = 0;
    for (call, operation) in operations {
        let summary = operation["summary"].as_str().unwrap_or_else(|| panic!("{call} has no summary"));
        assert!(!summary.ends_with('.') && summary.len() < 60, "{call}: {summary}");
        for (status, response) in operation["responses"].as_object().unwrap() {
            assert_ne!(response["description"].as_str().unwrap_or_default(), "", "{call} {status}");
        }
        count += 1;
    }
    assert!(count > 50, "{count} calls");
}
