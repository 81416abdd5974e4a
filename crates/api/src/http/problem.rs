//! Errors of the interface, as problem documents (RFC 9457).
use axum::{
    Json,
    body::Bytes,
    extract::{FromRequest, Request, rejection::JsonRejection},
    http::{StatusCode, Uri, header},
    middleware::Next,
    response::{IntoResponse, Response},
};
use moorfall_broker::identity::checks::DirectoryError;
use moorfall_contract::problem::Problem;
use moorfall_store::StoreError;
use serde::de::DeserializeOwned;
use serde_json::Value;

/// What went wrong with a call, as its answer.
#[derive(Clone, Debug)]
pub struct Fault(pub Problem);

/// Bytes of a detail.
const LONGEST: usize = 1_000;

impl Fault {
    /// `detail` says what happened, to which thing, and what to do next.
    pub fn new(status: StatusCode, title: &str, detail: impl Into<String>) -> Self {
        let mut detail = detail.into();
        // What somebody has sent may stand in it.
        if detail.len() > LONGEST {
            detail.truncate(detail.floor_char_boundary(LONGEST));
            detail.push('…');
        }
        // What libraries say of a fault is no whole sentence.
        if !detail.ends_with(['.', '!', '?', '…']) {
            detail.push('.');
        }
        Self(Problem { status: status.as_u16(), title: title.into(), detail })
    }

    /// Nobody is signed in.
    pub fn not_signed_in() -> Self {
        Self::new(
            StatusCode::UNAUTHORIZED,
            "Not signed in",
            "Sign in to the console, or send the administrator's secret (the file administrator.secret in the data \
             folder) as a bearer token.",
        )
    }
}

impl IntoResponse for Fault {
    fn into_response(self) -> Response {
        let status = StatusCode::from_u16(self.0.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        (status, [(header::CONTENT_TYPE, "application/problem+json")], Json(self.0)).into_response()
    }
}

impl From<DirectoryError> for Fault {
    fn from(error: DirectoryError) -> Self {
        let detail = error.to_string();
        match error {
            DirectoryError::Name { .. }
            | DirectoryError::Password
            | DirectoryError::TwoSecrets
            | DirectoryError::TooLarge(_)
            | DirectoryError::Match(_)
            | DirectoryError::MatchTaken(..) => Self::new(StatusCode::UNPROCESSABLE_ENTITY, "Invalid identity", detail),
            DirectoryError::Hash(_) => Self::new(StatusCode::INTERNAL_SERVER_ERROR, "Hashing failed", detail),
            DirectoryError::Store(error) => error.into(),
        }
    }
}

impl From<StoreError> for Fault {
    fn from(error: StoreError) -> Self {
        if error.is_away() {
            let detail = "The database is unavailable; nothing was read or changed. Try again when the status shows it as healthy.";
            return Self::new(StatusCode::SERVICE_UNAVAILABLE, "Database unavailable", detail);
        }
        if let StoreError::TooMuch = error {
            return Self::new(StatusCode::UNPROCESSABLE_ENTITY, "Search too long", error.to_string());
        }
        if error.is_about_data() {
            let detail = "The request has text that the database can't store. Nothing was changed.";
            return Self::new(StatusCode::UNPROCESSABLE_ENTITY, "Invalid text", detail);
        }
        tracing::error!(%error, "the database refused a statement");
        let detail =
            "The database refused a statement, and nothing was changed. The log of the service has the details.";
        Self::new(StatusCode::INTERNAL_SERVER_ERROR, "Database error", detail)
    }
}

/// Whether a text stands anywhere in it that no call takes: one with U+0000.
fn holds_nul(value: &Value) -> bool {
    match value {
        Value::String(text) => text.contains('\0'),
        Value::Array(items) => items.iter().any(holds_nul),
        Value::Object(fields) => fields.iter().any(|(name, value)| name.contains('\0') || holds_nul(value)),
        _ => false,
    }
}

fn nul() -> Fault {
    let detail = "The request has text with the character U+0000, which is not allowed. Leave it out.";
    Fault::new(StatusCode::UNPROCESSABLE_ENTITY, "Invalid text", detail)
}

/// Refuses U+0000 in what a request asks for; [`Body`] does in what it brings.
pub async fn no_nul(request: Request, next: Next) -> Result<Response, Fault> {
    let uri = request.uri();
    if uri.path().contains("%00") || uri.query().is_some_and(|query| query.contains("%00")) {
        return Err(nul());
    }
    Ok(next.run(request).await)
}

/// A JSON body whose faults are told as a problem.
pub struct Body<T>(pub T);

impl<T: DeserializeOwned, S: Send + Sync> FromRequest<S> for Body<T> {
    type Rejection = Fault;

    async fn from_request(request: Request, state: &S) -> Result<Self, Fault> {
        let (head, body) = request.into_parts();
        let bytes = Bytes::from_request(Request::from_parts(head.clone(), body), state).await;
        let bytes =
            bytes.map_err(|rejection| Fault::new(rejection.status(), "Unreadable body", rejection.body_text()))?;
        // The escape is looked for first: it is rare, and reading JSON twice is not free.
        if memmem(&bytes, br"\u0000") && serde_json::from_slice(&bytes).is_ok_and(|value| holds_nul(&value)) {
            return Err(nul());
        }
        let request = Request::from_parts(head, axum::body::Body::from(bytes));
        match Json::<T>::from_request(request, state).await {
            Ok(Json(body)) => Ok(Self(body)),
            Err(rejection) => {
                let title = match rejection {
                    JsonRejection::MissingJsonContentType(_) => "Body not declared as JSON",
                    JsonRejection::JsonSyntaxError(_) => "Body is not JSON",
                    JsonRejection::JsonDataError(_) => "Invalid body",
                    _ => "Unreadable body",
                };
                let detail = rejection.body_text();
                // What the library puts before the colon of a fault in the data names its own call.
                let detail = match &rejection {
                    JsonRejection::JsonDataError(_) => detail.split_once(": ").map_or(&*detail, |(_, rest)| rest),
                    _ => &*detail,
                };
                Err(Fault::new(rejection.status(), title, detail))
            }
        }
    }
}

fn memmem(bytes: &[u8], wanted: &[u8]) -> bool {
    bytes.windows(wanted.len()).any(|window| window == wanted)
}

/// Anything under `/api` that does not exist.
pub async fn unknown_call(uri: Uri) -> Fault {
    let detail = format!("There is no {}. GET /api/v1/openapi.json lists all calls.", uri.path());
    Fault::new(StatusCode::NOT_FOUND, "Call not found", detail)
}

/// A known path with a method that it does not have.
pub async fn wrong_method(uri: Uri) -> Fault {
    let detail = format!("{} has other methods. GET /api/v1/openapi.json lists them.", uri.path());
    Fault::new(StatusCode::METHOD_NOT_ALLOWED, "Method not allowed", detail)
}
