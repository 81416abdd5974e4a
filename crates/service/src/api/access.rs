//! Who may use the interface.

use std::sync::Arc;

use axum::{
    Extension,
    extract::{Request, State},
    http::{HeaderMap, Method, StatusCode, header},
    middleware::Next,
    response::{IntoResponse, Response},
};
use axum_extra::extract::cookie::{Cookie, CookieJar, SameSite};
use serde::Deserialize;
use utoipa::ToSchema;

use super::problem::{Body, Problem};
use crate::{broker::Broker, data_folder::random_text};

const COOKIE: &str = "moorfall_console";
const LIFE: time::Duration = time::Duration::days(7);

/// The administrator's secret.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct SignIn {
    secret: String,
}

/// Sign in to the console: the answer sets a cookie that no script can read.
#[utoipa::path(post, path = "/console-session", tag = "console", request_body = SignIn, responses(
    (status = 204, description = "Signed in"),
    (status = 401, body = Problem, content_type = "application/problem+json"),
), security(()))]
pub(crate) async fn sign_in(
    State(broker): State<Arc<Broker>>,
    headers: HeaderMap,
    jar: CookieJar,
    Body(body): Body<SignIn>,
) -> Result<impl IntoResponse, Problem> {
    same_origin(&headers)?;
    if !broker.authenticator.is_secret(body.secret.trim().as_bytes()) {
        // Guessing is made slow for everyone who guesses at a time.
        tokio::time::sleep(std::time::Duration::from_millis(500)).await;
        return Err(Problem::new(
            StatusCode::UNAUTHORIZED,
            "wrong secret",
            "that is not the administrator's secret; it stands in the file administrator.secret in the data folder",
        ));
    }
    let token = random_text(40);
    broker.store.add_console_session(&token, LIFE).await.map_err(|error| Problem::database(&error.to_string()))?;
    let cookie = Cookie::build((COOKIE, token)).path("/").http_only(true).same_site(SameSite::Strict).max_age(LIFE);
    Ok((StatusCode::NO_CONTENT, jar.add(cookie)))
}

/// Sign out of the console.
#[utoipa::path(delete, path = "/console-session", tag = "console", responses(
    (status = 204, description = "Signed out"),
), security(()))]
pub(crate) async fn sign_out(
    State(broker): State<Arc<Broker>>,
    headers: HeaderMap,
    jar: CookieJar,
) -> Result<impl IntoResponse, Problem> {
    same_origin(&headers)?;
    if let Some(cookie) = jar.get(COOKIE) {
        let removed = broker.store.remove_console_session(cookie.value()).await;
        removed.map_err(|error| Problem::database(&error.to_string()))?;
    }
    Ok((StatusCode::NO_CONTENT, jar.remove(Cookie::build(COOKIE).path("/"))))
}

/// Lets a request pass that brings the secret or a known cookie.
pub(crate) async fn signed_in(
    Extension(broker): Extension<Arc<Broker>>,
    jar: CookieJar,
    request: Request,
    next: Next,
) -> Result<Response, Problem> {
    if let Some(secret) = bearer(request.headers()) {
        if broker.authenticator.is_secret(secret.as_bytes()) {
            return Ok(next.run(request).await);
        }
        tokio::time::sleep(std::time::Duration::from_millis(500)).await;
        return Err(Problem::not_signed_in());
    }
    let cookie = jar.get(COOKIE).ok_or_else(Problem::not_signed_in)?;
    if !matches!(*request.method(), Method::GET | Method::HEAD) {
        same_origin(request.headers())?;
    }
    let known = broker.store.has_console_session(cookie.value()).await;
    if known.map_err(|error| Problem::database(&error.to_string()))? {
        Ok(next.run(request).await)
    } else {
        Err(Problem::not_signed_in())
    }
}

fn bearer(headers: &HeaderMap) -> Option<&str> {
    headers.get(header::AUTHORIZATION)?.to_str().ok()?.strip_prefix("Bearer ")
}

/// A change by cookie must come from the console itself: browsers say where a request was made.
fn same_origin(headers: &HeaderMap) -> Result<(), Problem> {
    let text = |name| headers.get(name).and_then(|value| value.to_str().ok());
    let Some(origin) = text(header::ORIGIN) else { return Ok(()) };
    let host = text(header::HOST).unwrap_or_default();
    if origin.split_once("://").is_some_and(|(_, authority)| authority == host) {
        return Ok(());
    }
    let detail = format!("the request came from a page of {origin}; use the console of this service itself");
    Err(Problem::new(StatusCode::FORBIDDEN, "foreign origin", detail))
}
