//! The console's files, which are part of the program.

use axum::{
    http::{StatusCode, Uri, header},
    response::{IntoResponse, Response},
};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
#[allow_missing = true]
struct Files;

/// Said in place of the console by a program that was built without it.
const NOT_BUILT: &str = "This program was built without its console. Run `make console`, then build it again.\n";

/// A file of the console; the start page for `/`.
pub async fn file(uri: Uri) -> Response {
    let path = uri.path().trim_start_matches('/');
    let path = if path.is_empty() { "index.html" } else { path };
    let Some(file) = Files::get(path) else {
        let explanation = if path == "index.html" { NOT_BUILT } else { "File not found.\n" };
        return (StatusCode::NOT_FOUND, explanation).into_response();
    };
    // The names of built files hold a digest of their contents.
    let cache = if path.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
    let headers = [(header::CONTENT_TYPE, file.metadata.mimetype().to_owned()), (header::CACHE_CONTROL, cache.into())];
    (headers, file.data).into_response()
}
