//! Who may use the interface.

use std::{net::SocketAddr, sync::Arc};

use axum::{
    Extension, Json,
    extract::{ConnectInfo, Request, State},
    http::{HeaderMap, Method, StatusCode, header},
    middleware::Next,
    response::{IntoResponse, Response},
};
use axum_extra::extract::cookie::{Cookie, CookieJar, SameSite};
use moorfall_store::{PersonRecord, SignedIn};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{
    operator::{Operator, Role, address},
    problem::{Body, Problem},
};
use crate::{broker::Broker, data_folder::random_text};

const COOKIE: &str = "moorfall_console";
const LIFE: time::Duration = time::Duration::days(7);

/// The administrator's secret, or a person's name and password.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct SignIn {
    /// The administrator's secret.
    #[serde(default)]
    secret: Option<String>,
    /// A person's name.
    #[serde(default)]
    name: Option<String>,
    /// Their password.
    #[serde(default)]
    password: Option<String>,
}

/// A sign-in by a program.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct Token {
    /// To be sent as a bearer token.
    pub token: String,
    /// Seconds that it is good for.
    pub seconds: i64,
}

/// Sign in to the console: the answer sets a cookie that no script can read.
#[utoipa::path(post, path = "/console-session", tag = "console", request_body = SignIn, responses(
    (status = 204, description = "Signed in"),
    (status = 401, body = Problem, content_type = "application/problem+json"),
), security(()))]
pub(crate) async fn sign_in(
    State(broker): State<Arc<Broker>>,
    headers: HeaderMap,
    ConnectInfo(address): ConnectInfo<SocketAddr>,
    jar: CookieJar,
    Body(body): Body<SignIn>,
) -> Result<impl IntoResponse, Problem> {
    same_origin(&headers)?;
    let token = begin(&broker, body, address).await?;
    let cookie = Cookie::build((COOKIE, token)).path("/").http_only(true).same_site(SameSite::Strict).max_age(LIFE);
    Ok((StatusCode::NO_CONTENT, jar.add(cookie)))
}

/// Sign in by a program: the answer holds a token, to be sent as a bearer token.
#[utoipa::path(post, path = "/console-token", tag = "console", request_body = SignIn, responses(
    (status = 200, body = Token),
    (status = 401, body = Problem, content_type = "application/problem+json"),
), security(()))]
pub(crate) async fn token(
    State(broker): State<Arc<Broker>>,
    headers: HeaderMap,
    ConnectInfo(address): ConnectInfo<SocketAddr>,
    Body(body): Body<SignIn>,
) -> Result<Json<Token>, Problem> {
    same_origin(&headers)?;
    let token = begin(&broker, body, address).await?;
    Ok(Json(Token { token, seconds: LIFE.whole_seconds() }))
}

/// Checks who signs in, and gives a new token.
async fn begin(broker: &Broker, body: SignIn, address: SocketAddr) -> Result<String, Problem> {
    let (operator, person) = match body {
        SignIn { secret: Some(secret), name: None, password: None } => {
            if !broker.authenticator.is_secret(secret.trim().as_bytes()) {
                return Err(wrong(
                    "wrong secret",
                    "that is not the administrator's secret; it stands in the file \
                    administrator.secret in the data folder",
                )
                .await);
            }
            (Operator::administrator(address), None)
        }
        SignIn { secret: None, name: Some(name), password: Some(password) } => {
            // As for clients: an address whose sign-ins fail too often waits before the next one is looked at.
            let (gatekeeper, limits) = (&broker.gatekeeper, &broker.limits);
            tokio::time::sleep(gatekeeper.wait(address.ip(), broker.clock.now(), limits)).await;
            let known = broker.store.person(&name).await?;
            let hash = known.as_ref().map(|person| person.password_hash.clone());
            let matches = broker.directory.verify(password.into_bytes(), hash).await;
            let Some(person) = known.filter(|_| matches) else {
                gatekeeper.note_failure(address.ip(), broker.clock.now(), limits);
                tracing::info!(%address, "a sign-in to the console failed");
                return Err(wrong("wrong name or password", "the name or the password is wrong").await);
            };
            (operator_of(&person, address), Some(person.name))
        }
        _ => {
            let detail = "send either the administrator's secret, or a name and a password";
            return Err(Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "sign-in not understood", detail));
        }
    };
    let token = random_text(40);
    broker.store.add_console_session(&token, person.as_deref(), LIFE).await?;
    operator.note(broker, "sign-in", "person", &operator.name, None, None).await;
    Ok(token)
}

/// Guessing is made slow for everyone who guesses at a time.
async fn wrong(title: &str, detail: &str) -> Problem {
    tokio::time::sleep(std::time::Duration::from_millis(500)).await;
    Problem::new(StatusCode::UNAUTHORIZED, title, detail)
}

fn operator_of(person: &PersonRecord, address: SocketAddr) -> Operator {
    let role = Role::parse(&person.role).unwrap_or(Role::Watch);
    Operator { name: person.name.as_str().into(), role, address }
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
    let token = jar.get(COOKIE).map(Cookie::value).or(bearer(&headers));
    if let Some(token) = token {
        broker.store.remove_console_session(token).await?;
    }
    Ok((StatusCode::NO_CONTENT, jar.remove(Cookie::build(COOKIE).path("/"))))
}

/// Lets a request pass that brings the secret, the token of a sign-in, or the console's cookie.
pub(crate) async fn signed_in(
    Extension(broker): Extension<Arc<Broker>>,
    jar: CookieJar,
    mut request: Request,
    next: Next,
) -> Result<Response, Problem> {
    let address = address(&request);
    let operator = if let Some(token) = bearer(request.headers()) {
        if broker.authenticator.is_secret(token.as_bytes()) {
            Some(Operator::administrator(address))
        } else {
            let known = by_token(&broker, token, address).await?;
            if known.is_none() {
                tokio::time::sleep(std::time::Duration::from_millis(500)).await;
            }
            known
        }
    } else {
        let cookie = jar.get(COOKIE).ok_or_else(Problem::not_signed_in)?;
        if !matches!(*request.method(), Method::GET | Method::HEAD) {
            same_origin(request.headers())?;
        }
        by_token(&broker, cookie.value(), address).await?
    };
    request.extensions_mut().insert(operator.ok_or_else(Problem::not_signed_in)?);
    Ok(next.run(request).await)
}

async fn by_token(broker: &Broker, token: &str, address: SocketAddr) -> Result<Option<Operator>, Problem> {
    Ok(broker.store.console_session(token).await?.map(|signed_in| match signed_in {
        SignedIn::Administrator => Operator::administrator(address),
        SignedIn::Person(person) => operator_of(&person, address),
    }))
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
