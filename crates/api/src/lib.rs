//! The HTTP interface: `/api/v1` as JSON, live data as server-sent events, and the console.
//!
//! Every call under `/api/v1` but signing in and the description of the interface needs the administrator's secret as
//! a bearer token, or the console's cookie.

pub mod design;
pub mod http;
pub mod identities;
pub mod links;
mod routes;
pub mod run;
pub mod state;
pub mod watch;
pub mod work;

use std::sync::Arc;

use axum::{
    Router,
    extract::DefaultBodyLimit,
    http::{HeaderName, HeaderValue, header},
    middleware,
    routing::get,
};
use tokio::net::TcpListener;
use tokio_util::sync::CancellationToken;
use tower_http::{compression::CompressionLayer, set_header::SetResponseHeaderLayer};

use self::{
    http::{console, mqtt::mqtt, problem, server, sign_in},
    state::App,
    watch::health,
};

pub use self::routes::openapi;

/// The largest body of a request, bytes.
const BODY: usize = 4 * 1024 * 1024;

/// What a browser may do with the console, which is what the console does.
const POLICY: &str =
    "default-src 'self'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'";

/// A header of every response.
fn said(name: HeaderName, value: &'static str) -> SetResponseHeaderLayer<HeaderValue> {
    SetResponseHeaderLayer::overriding(name, HeaderValue::from_static(value))
}

/// Serves until `stop`.
pub async fn serve(app: App, listener: TcpListener, stop: CancellationToken) {
    let (router, description) = routes::routes().split_for_parts();
    let description = routes::described(description);
    let router: Router = router
        .route("/api/v1/openapi.json", get(move || std::future::ready(axum::Json(description))))
        .route("/metrics", get(health::metrics))
        .route("/health/live", get(health::live))
        .route("/health/ready", get(health::ready))
        .route("/api/{*rest}", axum::routing::any(problem::unknown_call))
        .layer(said(header::CACHE_CONTROL, "no-store"))
        .route("/mqtt", get(mqtt))
        .fallback_service(get(console::file).fallback(problem::wrong_method).layer(CompressionLayer::new()))
        .method_not_allowed_fallback(problem::wrong_method)
        .layer(DefaultBodyLimit::max(BODY))
        .layer(middleware::from_fn(problem::no_nul))
        .layer(middleware::from_fn(sign_in::at_home))
        .layer(said(header::CONTENT_SECURITY_POLICY, POLICY))
        .layer(said(header::X_CONTENT_TYPE_OPTIONS, "nosniff"))
        .layer(said(header::REFERRER_POLICY, "no-referrer"))
        .layer(axum::Extension(Arc::clone(&app.process)))
        .layer(axum::Extension(app.clone()))
        .with_state(app.clone());
    server::serve(app, listener, router, stop).await;
}
