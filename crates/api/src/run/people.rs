//! Who runs the broker.
use std::sync::Arc;

use axum::{Extension, Json, extract::State, http::StatusCode};
use moorfall_broker::broker::Broker;
use moorfall_contract::people::{Me, PersonView, Role};
use moorfall_core::ADMINISTRATOR;
use moorfall_store::{Deed, PersonRecord};
use serde::Deserialize;
use serde_json::json;
use utoipa::ToSchema;

use crate::{
    http::{
        operator::Operator,
        problem::{Body, Fault},
        reading::Path,
        responses::NotFound,
    },
    state::App,
};

/// Get the signed-in person
#[utoipa::path(get, operation_id = "me", path = "/me", tag = "people", responses(
    (status = 200, body = Me),
))]
pub async fn me(Extension(operator): Extension<Operator>) -> Json<Me> {
    Json(Me { name: operator.name.to_string(), role: operator.role })
}

fn view(record: &PersonRecord) -> PersonView {
    let role = Role::parse(&record.role).unwrap_or(Role::Watch);
    PersonView { name: record.name.clone(), role, created_at: record.created_at, changed_at: record.changed_at }
}

/// A person as they are to be.
#[derive(Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PersonDraft {
    /// What they may do.
    role: Role,
    /// A new password, of at least 10 characters; omit it to keep the earlier one.
    #[serde(default)]
    password: Option<String>,
}

/// The shortest password of a person, characters.
const PASSWORD: usize = 10;

/// List people
///
/// By name. Whoever has the secret of the administrator can sign in, too.
#[utoipa::path(get, operation_id = "list_people", path = "/people", tag = "people", responses(
    (status = 200, body = Vec<PersonView>),
))]
pub async fn list(State(broker): State<Arc<Broker>>) -> Result<Json<Vec<PersonView>>, Fault> {
    Ok(Json(broker.store().people().await?.iter().map(view).collect()))
}

/// Create or change a person
///
/// With another password or role, all their sign-ins end.
#[utoipa::path(put, operation_id = "put_person", path = "/people/{name}", tag = "people", params(("name" = String, Path)),
    request_body = PersonDraft, responses(
    (status = 200, body = PersonView),
))]
pub async fn put(
    State(App { broker, people, .. }): State<App>,
    Extension(operator): Extension<Operator>,
    Path(name): Path<String>,
    Body(draft): Body<PersonDraft>,
) -> Result<Json<PersonView>, Fault> {
    let wrong = |detail: &str| Fault::new(StatusCode::UNPROCESSABLE_ENTITY, "Invalid person", detail);
    if name.is_empty() || name.len() > 128 || name.chars().any(char::is_control) || name == ADMINISTRATOR {
        return Err(wrong("A name has 1 to 128 bytes, without control characters, and is not `administrator`."));
    }
    if draft.password.as_ref().is_some_and(|password| password.chars().count() < PASSWORD || password.len() > 1_024) {
        return Err(wrong("A password has at least 10 characters and at most 1,024 bytes."));
    }
    let before = broker.store().person(&name).await?;
    let hash = match draft.password {
        Some(password) => Some(broker.identities.directory.hash(password).await?),
        None => None,
    };
    let role = draft.role.name();
    let ends_sign_ins = before.as_ref().is_some_and(|before| before.role != role || hash.is_some());
    let deed = Deed {
        before: before.as_ref().map(|record| json!({ "role": record.role })),
        after: Some(json!({ "role": role, "new_password": hash.is_some() })),
        ..Deed::new("put", "person", &*name)
    };
    let by = operator.author();
    let put = broker.store().put_person(&name, hash.as_deref(), role, ends_sign_ins, &by, |_| deed);
    let record = put.await?.ok_or_else(|| wrong("A new person needs a password."))?;
    if ends_sign_ins {
        people.sign_ins.forget(&name);
    }
    Ok(Json(view(&record)))
}

/// Remove a person
///
/// All their sign-ins end.
#[utoipa::path(delete, operation_id = "remove_person", path = "/people/{name}", tag = "people", params(("name" = String, Path)), responses(
    (status = 204, description = "Removed"),
    NotFound,
))]
pub async fn remove(
    State(App { broker, people, .. }): State<App>,
    Extension(operator): Extension<Operator>,
    Path(name): Path<String>,
) -> Result<StatusCode, Fault> {
    let before = broker.store().person(&name).await?;
    let before = before.map(|record| json!({ "role": record.role }));
    let deed = Deed { before, ..Deed::new("remove", "person", &*name) };
    if !broker.store().remove_person(&name, &operator.author(), &deed).await? {
        let detail = format!("There is no person {name}. GET /api/v1/people lists all.");
        return Err(Fault::new(StatusCode::NOT_FOUND, "Person not found", detail));
    }
    people.sign_ins.forget(&name);
    Ok(StatusCode::NO_CONTENT)
}
