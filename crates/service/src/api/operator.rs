//! Who runs the broker, what they may do, and what is noted of it.

use std::{net::SocketAddr, sync::Arc};

use axum::{
    Extension, Json,
    extract::{ConnectInfo, Request, State},
    http::StatusCode,
    middleware::Next,
    response::Response,
};
use moorfall_store::{AuditRecord, Author, Deed, PersonRecord};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use time::OffsetDateTime;
use utoipa::{IntoParams, ToSchema};

use super::{
    problem::{Body, Problem},
    reading::{Limit, Path, Query},
    state::App,
};
use crate::{authenticator::ADMINISTRATOR, broker::Broker, sign_ins::SignedIn};

/// What a person may do; each may do what those before may.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Role {
    /// Look at everything.
    Watch,
    /// End sessions, make and change identities.
    Operate,
    /// Change the design.
    Design,
    /// Say who may run the broker.
    Own,
}

impl Role {
    /// As it is stored.
    pub(crate) fn parse(text: &str) -> Option<Self> {
        serde_json::from_value(Value::String(text.to_owned())).ok()
    }

    fn name(self) -> &'static str {
        match self {
            Self::Watch => "watch",
            Self::Operate => "operate",
            Self::Design => "design",
            Self::Own => "own",
        }
    }
}

/// Who makes a request.
#[derive(Clone, Debug)]
pub(crate) struct Operator {
    pub(crate) name: Arc<str>,
    pub(crate) role: Role,
    pub(crate) address: SocketAddr,
    /// Absent for whoever brings the administrator's secret itself.
    pub(crate) signed_in: Option<Arc<SignedIn>>,
}

impl Operator {
    pub(crate) fn new(name: &str, role: &str, address: SocketAddr) -> Self {
        Self { name: name.into(), role: Role::parse(role).unwrap_or(Role::Watch), address, signed_in: None }
    }

    /// Whoever has the administrator's secret.
    pub(crate) fn administrator(address: SocketAddr) -> Self {
        Self { name: ADMINISTRATOR.into(), role: Role::Own, address, signed_in: None }
    }

    /// Whoever is noted with a change.
    pub(crate) fn author(&self) -> Author {
        Author { person: Arc::clone(&self.name), address: self.address.ip().to_string() }
    }
}

/// Lets pass who has at least this role.
pub(crate) async fn at_least(role: Role, request: Request, next: Next) -> Result<Response, Problem> {
    match request.extensions().get::<Operator>() {
        Some(operator) if operator.role >= role => Ok(next.run(request).await),
        Some(operator) => {
            let detail = format!(
                "{} has the role {}; this needs {}. Somebody with the role own can change it",
                operator.name,
                operator.role.name(),
                role.name()
            );
            Err(Problem::new(StatusCode::FORBIDDEN, "role not sufficient", detail))
        }
        None => Err(Problem::not_signed_in()),
    }
}

/// The address that a request came from.
pub(crate) fn address(request: &Request) -> SocketAddr {
    let info = request.extensions().get::<ConnectInfo<SocketAddr>>();
    info.map_or_else(|| SocketAddr::from(([0, 0, 0, 0], 0)), |info| info.0)
}

/// Who is signed in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Me {
    /// The name.
    pub name: String,
    /// What they may do.
    pub role: Role,
}

/// Who is signed in.
#[utoipa::path(get, operation_id = "me", path = "/me", tag = "people", responses(
    (status = 200, body = Me),
    (status = 401, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn me(Extension(operator): Extension<Operator>) -> Json<Me> {
    Json(Me { name: operator.name.to_string(), role: operator.role })
}

/// A person who may run the broker.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct PersonView {
    /// The name.
    pub name: String,
    /// What they may do.
    pub role: Role,
    /// When they were made.
    #[serde(with = "time::serde::rfc3339")]
    pub created_at: OffsetDateTime,
    /// When they were last changed.
    #[serde(with = "time::serde::rfc3339")]
    pub changed_at: OffsetDateTime,
}

impl From<&PersonRecord> for PersonView {
    fn from(record: &PersonRecord) -> Self {
        let role = Role::parse(&record.role).unwrap_or(Role::Watch);
        Self { name: record.name.clone(), role, created_at: record.created_at, changed_at: record.changed_at }
    }
}

/// A person as they are to be.
#[derive(Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct PersonDraft {
    /// What they may do.
    role: Role,
    /// A new password, of at least ten characters; left out, an earlier one stays.
    #[serde(default)]
    password: Option<String>,
}

/// The shortest password of a person, characters.
const PASSWORD: usize = 10;

/// Everyone who may run the broker, by name. Whoever has the administrator's secret may, too.
#[utoipa::path(get, operation_id = "list_people", path = "/people", tag = "people", responses(
    (status = 200, body = Vec<PersonView>),
    (status = 401, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn list(State(broker): State<Arc<Broker>>) -> Result<Json<Vec<PersonView>>, Problem> {
    Ok(Json(broker.store().people().await?.iter().map(PersonView::from).collect()))
}

/// Make or change a person. With another password or role all their sign-ins end.
#[utoipa::path(put, operation_id = "put_person", path = "/people/{name}", tag = "people", params(("name" = String, Path)),
    request_body = PersonDraft, responses(
    (status = 200, body = PersonView),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn put(
    State(App { broker, people, .. }): State<App>,
    Extension(operator): Extension<Operator>,
    Path(name): Path<String>,
    Body(draft): Body<PersonDraft>,
) -> Result<Json<PersonView>, Problem> {
    let wrong = |detail: &str| Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "person not acceptable", detail);
    if name.is_empty() || name.len() > 128 || name.chars().any(char::is_control) || name == ADMINISTRATOR {
        return Err(wrong("a name has from 1 to 128 bytes without control characters, and is not administrator"));
    }
    if draft.password.as_ref().is_some_and(|password| password.chars().count() < PASSWORD || password.len() > 1_024) {
        return Err(wrong("a person's password has at least ten characters, and 1,024 bytes at most"));
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
    let record = put.await?.ok_or_else(|| wrong("a new person needs a password"))?;
    if ends_sign_ins {
        people.sign_ins.forget(&name);
    }
    Ok(Json(PersonView::from(&record)))
}

/// Remove a person, and end all their sign-ins.
#[utoipa::path(delete, operation_id = "remove_person", path = "/people/{name}", tag = "people", params(("name" = String, Path)), responses(
    (status = 204, description = "Removed"),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn remove(
    State(App { broker, people, .. }): State<App>,
    Extension(operator): Extension<Operator>,
    Path(name): Path<String>,
) -> Result<StatusCode, Problem> {
    let before = broker.store().person(&name).await?;
    let before = before.map(|record| json!({ "role": record.role }));
    let deed = Deed { before, ..Deed::new("remove", "person", &*name) };
    if !broker.store().remove_person(&name, &operator.author(), &deed).await? {
        let detail = format!("there is no person {name}; /api/v1/people lists all");
        return Err(Problem::new(StatusCode::NOT_FOUND, "no such person", detail));
    }
    people.sign_ins.forget(&name);
    Ok(StatusCode::NO_CONTENT)
}

/// A change that was made.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct AuditView {
    /// Its place in the order of changes.
    pub id: i64,
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// Who.
    pub person: String,
    /// From which address.
    pub address: String,
    /// What was done.
    pub act: String,
    /// To what kind of thing.
    pub kind: String,
    /// To which.
    pub name: String,
    /// How it was; null if it was not there.
    pub before: Option<Value>,
    /// How it is; null if it is gone.
    pub after: Option<Value>,
}

impl From<AuditRecord> for AuditView {
    fn from(record: AuditRecord) -> Self {
        let AuditRecord { id, at, person, address, act, kind, name, before, after } = record;
        Self { id, at, person, address, act, kind, name, before, after }
    }
}

/// Which changes are asked for.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Wanted {
    /// Only those that hold this text in who, what or which.
    #[serde(default)]
    search: String,
    /// At most so many.
    #[serde(default)]
    #[param(value_type = u64, default = 200, minimum = 1, maximum = 5_000)]
    limit: Limit<200, 5_000>,
    /// Only those before this one in the order of changes: the last one of the page before.
    #[param(nullable = false)]
    before: Option<i64>,
}

/// What was changed, by whom and from where, newest first.
#[utoipa::path(get, operation_id = "list_audit", path = "/audit", tag = "people", params(Wanted), responses(
    (status = 200, body = Vec<AuditView>),
    (status = 401, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn audit(
    State(broker): State<Arc<Broker>>,
    Query(wanted): Query<Wanted>,
) -> Result<Json<Vec<AuditView>>, Problem> {
    let records = broker.store().audits(&wanted.search, wanted.before, wanted.limit.0 as i64).await?;
    Ok(Json(records.into_iter().map(Into::into).collect()))
}
