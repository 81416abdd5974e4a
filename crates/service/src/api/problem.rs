//! Errors of the interface, as problem documents (RFC 9457).

use axum::{
    Json,
    extract::{FromRequest, Request, rejection::JsonRejection},
    http::{StatusCode, Uri, header},
    response::{IntoResponse, Response},
};
use moorfall_store::StoreError;
use serde::{Deserialize, Serialize, de::DeserializeOwned};
use utoipa::ToSchema;

use crate::directory::DirectoryError;

/// What went wrong with a call.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// The HTTP status.
    pub status: u16,
    /// What is wrong, in a few words that never change for one cause.
    pub title: String,
    /// What happened, to which thing, and what to do next.
    pub detail: String,
}

impl Problem {
    pub(crate) fn new(status: StatusCode, title: &str, detail: impl Into<String>) -> Self {
        Self { status: status.as_u16(), title: title.into(), detail: detail.into() }
    }

    pub(crate) fn not_signed_in() -> Self {
        Self::new(
            StatusCode::UNAUTHORIZED,
            "not signed in",
            "send the administrator's secret (the file administrator.secret in the data folder) as a bearer token, \
             or sign in to the console",
        )
    }
}

impl IntoResponse for Problem {
    fn into_response(self) -> Response {
        let status = StatusCode::from_u16(self.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        (status, [(header::CONTENT_TYPE, "application/problem+json")], Json(self)).into_response()
    }
}

impl From<DirectoryError> for Problem {
    fn from(error: DirectoryError) -> Self {
        let detail = error.to_string();
        match error {
            DirectoryError::Name { .. } | DirectoryError::Password | DirectoryError::Certificate(_) => {
                Self::new(StatusCode::UNPROCESSABLE_ENTITY, "identity not acceptable", detail)
            }
            DirectoryError::Hash(_) => Self::new(StatusCode::INTERNAL_SERVER_ERROR, "hashing failed", detail),
            DirectoryError::Store(_) => Self::database(&detail),
        }
    }
}

impl From<StoreError> for Problem {
    fn from(error: StoreError) -> Self {
        Self::database(&error.to_string())
    }
}

impl Problem {
    pub(crate) fn database(detail: &str) -> Self {
        let detail = format!("{detail}; nothing was changed; try again when the status shows the database healthy");
        Self::new(StatusCode::SERVICE_UNAVAILABLE, "database away", detail)
    }
}

/// A JSON body whose faults are told as a problem.
pub(crate) struct Body<T>(pub(crate) T);

impl<T: DeserializeOwned, S: Send + Sync> FromRequest<S> for Body<T> {
    type Rejection = Problem;

    async fn from_request(request: Request, state: &S) -> Result<Self, Problem> {
        match Json::<T>::from_request(request, state).await {
            Ok(Json(body)) => Ok(Self(body)),
            Err(rejection) => {
                let title = match rejection {
                    JsonRejection::MissingJsonContentType(_) => "body is not declared as JSON",
                    JsonRejection::JsonSyntaxError(_) => "body is not JSON",
                    JsonRejection::JsonDataError(_) => "body has the wrong fields",
                    _ => "body can't be read",
                };
                Err(Problem::new(rejection.status(), title, rejection.body_text()))
            }
        }
    }
}

/// Anything under `/api` that does not exist.
pub(crate) async fn unknown_call(uri: Uri) -> Problem {
    let detail = format!("there is no {}; /api/v1/openapi.json lists what there is", uri.path());
    Problem::new(StatusCode::NOT_FOUND, "no such call", detail)
}

/// A known path with a method that it does not have.
pub(crate) async fn wrong_method(uri: Uri) -> Problem {
    let detail = format!("{} has other methods; /api/v1/openapi.json lists them", uri.path());
    Problem::new(StatusCode::METHOD_NOT_ALLOWED, "method not allowed", detail)
}
