//! Who runs the broker, what they may do, and what is noted of it.
use std::{net::SocketAddr, sync::Arc};

use axum::{
    extract::{ConnectInfo, Request},
    http::StatusCode,
    middleware::Next,
    response::Response,
};
use moorfall_contract::people::Role;
use moorfall_core::ADMINISTRATOR;
use moorfall_store::Author;

use crate::http::{problem::Fault, sign_ins::SignedIn};

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
pub async fn at_least(role: Role, request: Request, next: Next) -> Result<Response, Fault> {
    match request.extensions().get::<Operator>() {
        Some(operator) if operator.role >= role => Ok(next.run(request).await),
        Some(operator) => {
            let detail = format!(
                "{} has the `{}` role; this needs `{}`. People with the `own` role can change roles.",
                operator.name,
                operator.role.name(),
                role.name()
            );
            Err(Fault::new(StatusCode::FORBIDDEN, "Role not sufficient", detail))
        }
        None => Err(Fault::not_signed_in()),
    }
}

/// The address that a request came from.
pub fn address(request: &Request) -> SocketAddr {
    let info = request.extensions().get::<ConnectInfo<SocketAddr>>();
    info.map_or_else(|| SocketAddr::from(([0, 0, 0, 0], 0)), |info| info.0)
}
