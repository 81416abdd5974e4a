//! Who may use the interface.
use std::{net::SocketAddr, sync::Arc};

use axum::{
    Extension, Json,
    extract::{ConnectInfo, Request, State},
    http::{HeaderMap, StatusCode, header, uri::Authority},
    middleware::Next,
    response::{IntoResponse, Response},
};
use axum_extra::extract::cookie::{Cookie, CookieJar, SameSite};
use moorfall_broker::{
    identity::{
        directory::SignIn as Outcome,
        passwords::{Checked, Guess},
    },
    listeners::doors::is_from_elsewhere,
};
use moorfall_contract::people::Token;
use moorfall_core::ADMINISTRATOR;
use serde::Deserialize;
use utoipa::ToSchema;

use crate::{
    http::{
        operator::{Operator, address},
        problem::{Body, Fault},
        responses::{TooMany, Wrong},
        sign_ins::{LIFE, SignedIn},
    },
    state::{App, People, Process},
};

const COOKIE: &str = "moorfall_console";

/// The administrator's secret, a person's name and password, or what a link says that signs in once.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SignIn {
    /// The administrator's secret.
    #[serde(default)]
    secret: Option<String>,
    /// A person's name.
    #[serde(default)]
    name: Option<String>,
    /// Their password.
    #[serde(default)]
    password: Option<String>,
    /// The end of a link that signs in once.
    #[serde(default)]
    link: Option<String>,
}

/// Sign in to the console
///
/// The response sets a cookie that no script can read.
#[utoipa::path(post, path = "/console-session", tag = "console", request_body = SignIn, responses(
    (status = 204, description = "Signed in"),
    Wrong,
    TooMany,
), security(()))]
pub async fn sign_in(
    State(app): State<App>,
    ConnectInfo(address): ConnectInfo<SocketAddr>,
    headers: HeaderMap,
    jar: CookieJar,
    Body(body): Body<SignIn>,
) -> Result<impl IntoResponse, Fault> {
    let token = begin(&app, body, address).await?;
    // The page came by TLS, which a proxy brings: the browser never sends the cookie without.
    let is_secure = headers.get(header::ORIGIN).is_some_and(|origin| origin.as_bytes().starts_with(b"https://"));
    let cookie = Cookie::build((COOKIE, token)).path("/").http_only(true).same_site(SameSite::Strict).max_age(LIFE);
    let cookie = cookie.secure(is_secure);
    Ok((StatusCode::NO_CONTENT, jar.add(cookie)))
}

/// Sign in from a program
///
/// The response has a token, to be sent as a bearer token.
#[utoipa::path(post, path = "/console-token", tag = "console", request_body = SignIn, responses(
    (status = 200, body = Token),
    Wrong,
    TooMany,
), security(()))]
pub async fn token(
    State(app): State<App>,
    ConnectInfo(address): ConnectInfo<SocketAddr>,
    Body(body): Body<SignIn>,
) -> Result<Json<Token>, Fault> {
    let token = begin(&app, body, address).await?;
    Ok(Json(Token { token, seconds: LIFE.whole_seconds() }))
}

/// Checks who signs in, and gives a new token.
async fn begin(App { broker, people, .. }: &App, body: SignIn, address: SocketAddr) -> Result<String, Fault> {
    let person = match body {
        SignIn { secret: Some(secret), name: None, password: None, link: None } => {
            if !broker.identities.authenticator.is_secret(secret.trim().as_bytes()) {
                return Err(
                    match broker.identities.directory.wrong(ADMINISTRATOR, address.ip(), &broker.limits).await {
                        Outcome::TooMany => too_many(),
                        _ => Fault::new(
                            StatusCode::UNAUTHORIZED,
                            "Wrong secret",
                            "This is not the administrator's secret, which is in the file administrator.secret in the \
                             data folder.",
                        ),
                    },
                );
            }
            None
        }
        SignIn { secret: None, name: Some(name), password: Some(password), link: None } => {
            let known = broker.store().person(&name).await?;
            // As for clients: wrong ones are paid for, by address and by name.
            let guess = Guess {
                address: address.ip(),
                name: format!("person {name}").into(),
                password: password.as_bytes(),
                stored: known.as_ref().map(|person| &*person.password_hash),
                known: None,
                limits: &broker.limits,
            };
            let checked = broker.identities.directory.passwords.check(guess).await;
            match known {
                _ if checked == Checked::TooMany => return Err(too_many()),
                Some(person) if checked == Checked::Right => Some(person),
                _ => {
                    tracing::info!(%address, "sign-in to the console failed");
                    let detail = "The name or the password is wrong.";
                    return Err(Fault::new(StatusCode::UNAUTHORIZED, "Wrong name or password", detail));
                }
            }
        }
        SignIn { secret: None, name: None, password: None, link: Some(link) } => {
            if !people.sign_ins.take_link(&link) {
                return Err(
                    match broker.identities.directory.wrong(ADMINISTRATOR, address.ip(), &broker.limits).await {
                        Outcome::TooMany => too_many(),
                        _ => Fault::new(
                            StatusCode::UNAUTHORIZED,
                            "Link expired",
                            "A sign-in link works once, within an hour. This one has been used or is too old. Sign in \
                             with the secret, which is in the file administrator.secret in the data folder.",
                        ),
                    },
                );
            }
            None
        }
        _ => {
            let detail = "Send either the administrator's secret, or a name and a password.";
            return Err(Fault::new(StatusCode::UNPROCESSABLE_ENTITY, "Invalid sign-in", detail));
        }
    };
    let operator = match &person {
        None => Operator::administrator(address),
        Some(person) => Operator::new(&person.name, &person.role, address),
    };
    let person = person.as_ref().map(|person| (&*person.name, &*person.role));
    Ok(people.sign_ins.add(person, &operator.author()).await?)
}

fn too_many() -> Fault {
    let detail = "The limit of waiting sign-ins from this address is reached. Try again later.";
    Fault::new(StatusCode::TOO_MANY_REQUESTS, "Too many sign-ins", detail)
}

fn operator_of(signed_in: Arc<SignedIn>, address: SocketAddr) -> Operator {
    let operator = match &signed_in.person {
        None => Operator::administrator(address),
        Some(person) => Operator::new(person, &signed_in.role, address),
    };
    Operator { signed_in: Some(signed_in), ..operator }
}

/// Sign out of the console
#[utoipa::path(delete, path = "/console-session", tag = "console", responses(
    (status = 204, description = "Signed out"),
), security(()))]
pub async fn sign_out(
    State(people): State<Arc<People>>,
    headers: HeaderMap,
    jar: CookieJar,
) -> Result<impl IntoResponse, Fault> {
    let token = jar.get(COOKIE).map(Cookie::value).or(bearer(&headers));
    if let Some(token) = token {
        people.sign_ins.remove(token).await?;
    }
    Ok((StatusCode::NO_CONTENT, jar.remove(Cookie::build(COOKIE).path("/"))))
}

/// Lets a request pass that brings the secret, the token of a sign-in, or the console's cookie.
pub async fn signed_in(
    Extension(App { broker, people, .. }): Extension<App>,
    jar: CookieJar,
    mut request: Request,
    next: Next,
) -> Result<Response, Fault> {
    let address = address(&request);
    let operator = if let Some(token) = bearer(request.headers()) {
        if broker.identities.authenticator.is_secret(token.as_bytes()) {
            Some(Operator::administrator(address))
        } else {
            let known = people.sign_ins.get(token);
            if known.is_none() {
                tokio::time::sleep(std::time::Duration::from_millis(500)).await;
            }
            known.map(|signed_in| operator_of(signed_in, address))
        }
    } else {
        let cookie = jar.get(COOKIE).ok_or_else(Fault::not_signed_in)?;
        people.sign_ins.get(cookie.value()).map(|signed_in| operator_of(signed_in, address))
    };
    request.extensions_mut().insert(operator.ok_or_else(Fault::not_signed_in)?);
    Ok(next.run(request).await)
}

fn bearer(headers: &HeaderMap) -> Option<&str> {
    headers.get(header::AUTHORIZATION)?.to_str().ok()?.strip_prefix("Bearer ")
}

/// Lets a request pass that asks for a name of this service, and of the API only what no other page asks: browsers say
/// where a request was made.
pub async fn at_home(
    Extension(process): Extension<Arc<Process>>,
    request: Request,
    next: Next,
) -> Result<Response, Fault> {
    let headers = request.headers();
    let text = |name| headers.get(name).and_then(|value| value.to_str().ok());
    let host = text(header::HOST).or(request.uri().authority().map(Authority::as_str)).unwrap_or_default();
    if !process.reception.doors.is_own_host(host) {
        let detail = format!(
            "The request is for the host \"{host}\", which is not a name of this service. Use localhost or an \
             address, or add the name to `hosts` in moorfall.toml."
        );
        return Err(Fault::new(StatusCode::MISDIRECTED_REQUEST, "Unknown host name", detail));
    }
    if request.uri().path().starts_with("/api/") {
        let origin = headers.get(header::ORIGIN).map(|origin| origin.to_str().unwrap_or("null"));
        let is_foreign = origin.is_some_and(|origin| !process.reception.doors.is_own_origin(headers, origin, false));
        if is_foreign || is_from_elsewhere(headers) {
            let page = origin.unwrap_or("another site");
            let detail = format!("The request came from a page of {page}. Use the console of this service.");
            return Err(Fault::new(StatusCode::FORBIDDEN, "Foreign origin", detail));
        }
    }
    Ok(next.run(request).await)
}
