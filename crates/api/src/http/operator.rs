//! Who runs the broker, what they may do, and what is noted of it.
use crate::http::problem::Problem;
use crate::http::sign_ins::SignedIn;
use axum::{
    extract::{ConnectInfo, Request},
    http::StatusCode,
    middleware::Next,
    response::Response,
};
use moorfall_broker::identity::authenticator::ADMINISTRATOR;
use moorfall_store::Author;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::{net::SocketAddr, sync::Arc};
use utoipa::ToSchema;

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
    pub fn parse(text: &str) -> Option<Self> {
        serde_json::from_value(Value::String(text.to_owned())).ok()
    }

    pub(crate) fn name(self) -> &'static str {
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
pub struct Operator {
    /// Their name; that of the built-in administrator for the secret's owner.
    pub name: Arc<str>,
    /// What they may do.
    pub role: Role,
    /// Where the request came from.
    pub address: SocketAddr,
    /// Absent for whoever brings the administrator's secret itself.
    pub signed_in: Option<Arc<SignedIn>>,
}

impl Operator {
    /// Somebody with a role as it is stored; one that is not understood may only look.
    pub fn new(name: &str, role: &str, address: SocketAddr) -> Self {
        Self { name: name.into(), role: Role::parse(role).unwrap_or(Role::Watch), address, signed_in: None }
    }

    /// Whoever has the administrator's secret.
    pub fn administrator(address: SocketAddr) -> Self {
        Self { name: ADMINISTRATOR.into(), role: Role::Own, address, signed_in: None }
    }

    /// Whoever is noted with a change.
    pub fn author(&self) -> Author {
        Author { person: Arc::clone(&self.name), address: self.address.ip().to_string() }
    }
}

/// Lets pass who has at least this role.
pub async fn at_least(role: Role, request: Request, next: Next) -> Result<Response, Problem> {
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
pub fn address(request: &Request) -> SocketAddr {
    let info = request.extensions().get::<ConnectInfo<SocketAddr>>();
    info.map_or_else(|| SocketAddr::from(([0, 0, 0, 0], 0)), |info| info.0)
}
