//! Tokens of identities.
use std::sync::Arc;

use axum::{Extension, Json, extract::State, http::StatusCode};
use moorfall_broker::{broker::Broker, identity::tokens};
use moorfall_contract::identities::{NewToken, TokenView};
use moorfall_store::{Deed, TokenRecord};
use serde::Deserialize;
use serde_json::json;
use time::Duration;
use utoipa::ToSchema;

use crate::http::{
    operator::Operator,
    problem::{Body, Fault},
    reading::Path,
    responses::{Conflict, NotFound},
};

fn view(record: &TokenRecord) -> TokenView {
    TokenView { name: record.name.clone(), created_at: record.created_at, expires_at: record.expires_at }
}

/// A token to be made.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TokenDraft {
    /// What it is called; each identity has one of a name.
    name: String,
    /// Seconds until it ends.
    seconds: i64,
}

fn unknown(name: &str) -> Fault {
    let detail = format!("There is no identity {name}. GET /api/v1/identities lists all.");
    Fault::new(StatusCode::NOT_FOUND, "Identity not found", detail)
}

/// List the tokens of an identity
///
/// Those that have not expired.
#[utoipa::path(get, operation_id = "list_tokens", path = "/identities/{name}/tokens", tag = "identities", params(("name" = String, Path)), responses(
    (status = 200, body = Vec<TokenView>),
    NotFound,
))]
pub async fn list(State(broker): State<Arc<Broker>>, Path(name): Path<String>) -> Result<Json<Vec<TokenView>>, Fault> {
    broker.identities.directory.get(&name).ok_or_else(|| unknown(&name))?;
    Ok(Json(broker.identities.tokens.of(&name).iter().map(|token| view(token)).collect()))
}

/// Create a token
///
/// The response is the only time that it is shown.
#[utoipa::path(post, operation_id = "make_token", path = "/identities/{name}/tokens", tag = "identities", params(("name" = String, Path)),
    request_body = TokenDraft, responses(
    (status = 201, body = NewToken),
    NotFound,
    Conflict,
))]
pub async fn make(
    State(broker): State<Arc<Broker>>,
    Extension(operator): Extension<Operator>,
    Path(identity): Path<String>,
    Body(TokenDraft { name, seconds }): Body<TokenDraft>,
) -> Result<(StatusCode, Json<NewToken>), Fault> {
    broker.identities.directory.get(&identity).ok_or_else(|| unknown(&identity))?;
    let wrong = |detail: String| Fault::new(StatusCode::UNPROCESSABLE_ENTITY, "Invalid token", detail);
    if name.is_empty() || name.len() > 128 || name.chars().any(char::is_control) {
        return Err(wrong("The name of a token has 1 to 128 bytes, without control characters.".into()));
    }
    let life = Duration::seconds(seconds);
    if life < Duration::MINUTE || life > tokens::LONGEST {
        return Err(wrong(format!("A token is valid for 1 minute to {} days.", tokens::LONGEST.whole_days())));
    }
    let deed = |record: &TokenRecord| Deed {
        after: Some(json!(view(record))),
        ..Deed::new("make", "token", format!("{name} of {identity}"))
    };
    let made = broker.identities.tokens.make(&identity, &name, life, &operator.author(), deed).await?;
    let Some((token, record)) = made else {
        let detail = format!("{identity} already has a token {name}. Revoke it first, or use another name.");
        return Err(Fault::new(StatusCode::CONFLICT, "Token exists", detail));
    };
    Ok((StatusCode::CREATED, Json(NewToken { token, expires_at: record.expires_at })))
}

/// Revoke a token
///
/// Sessions authenticated with it end.
#[utoipa::path(delete, operation_id = "revoke_token", path = "/identities/{name}/tokens/{token}", tag = "identities",
    params(("name" = String, Path), ("token" = String, Path)), responses(
    (status = 204, description = "Revoked"),
    NotFound,
))]
pub async fn revoke(
    State(broker): State<Arc<Broker>>,
    Extension(operator): Extension<Operator>,
    Path((identity, name)): Path<(String, String)>,
) -> Result<StatusCode, Fault> {
    if broker.identities.tokens.revoke(&identity, &name, &operator.author()).await?.is_none() {
        let detail = format!("{identity} has no token {name}.");
        return Err(Fault::new(StatusCode::NOT_FOUND, "Token not found", detail));
    }
    broker.end_by_credential();
    Ok(StatusCode::NO_CONTENT)
}
