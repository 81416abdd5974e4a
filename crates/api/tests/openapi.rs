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
