//! The HTTP interface: `/api/v1` as JSON, live data as server-sent events, and the console.
//!
//! Every call under `/api/v1` but signing in and the description of the interface needs the administrator's secret as
//! a bearer token, or the console's cookie.

mod access;
mod authorities;
mod bench;
mod bench_setups;
mod console;
mod design;
mod design_types;
mod explain;
mod identities;
mod journey;
mod live;
mod operator;
mod problem;
mod reading;
mod recordings;
mod retained;
mod sessions;
mod state;
mod status;
mod throughput;
mod tokens;
mod topic;
mod topics;
pub mod types;

use std::{net::SocketAddr, sync::Arc};

use axum::{
    Router,
    extract::{ConnectInfo, DefaultBodyLimit, Request, State},
    middleware,
    response::Response,
    routing::get,
};
use tokio::net::TcpListener;
use tokio_util::sync::CancellationToken;
use utoipa::{
    Modify, OpenApi,
    openapi::security::{Http, HttpAuthScheme, SecurityScheme},
};
use utoipa_axum::{router::OpenApiRouter, routes};

pub use self::live::LiveReading;
use self::operator::Role;
pub(crate) use self::{
    state::{Addresses, App, People, Process},
    status::{exposed, warn_of_open},
};
use crate::{http_server, upgrade};

/// The largest body of a request, bytes.
const BODY: usize = 4 * 1024 * 1024;

/// Calls that nobody has to be signed in for.
const OPEN: [&str; 3] = ["/console-session", "/console-token", "/blueprint/schema"];

#[derive(OpenApi)]
#[openapi(
    info(title = "Moorfall", description = "A publish-subscribe broker: its state, its sessions, its identities."),
    modifiers(&Security),
    security(("secret" = []))
)]
struct Description;

struct Security;

impl Modify for Security {
    fn modify(&self, openapi: &mut utoipa::openapi::OpenApi) {
        let scheme = SecurityScheme::Http(Http::new(HttpAuthScheme::Bearer));
        openapi.components.get_or_insert_default().add_security_scheme("secret", scheme);
    }
}

/// The beginning of a payload as text, perhaps cut through within a character; `None` if it is no text.
fn preview(bytes: &[u8]) -> Option<String> {
    match std::str::from_utf8(bytes) {
        Ok(text) => Some(text.to_owned()),
        Err(error) if error.error_len().is_none() => {
            Some(String::from_utf8_lossy(&bytes[..error.valid_up_to()]).into_owned())
        }
        Err(_) => None,
    }
}

fn routes() -> OpenApiRouter<App> {
    let open = OpenApiRouter::new()
        .routes(routes!(access::sign_in))
        .routes(routes!(access::token))
        .routes(routes!(access::sign_out))
        .routes(routes!(design::schema));
    let role = |router: OpenApiRouter<App>, role: Role| {
        router.route_layer(middleware::from_fn(move |request, next| operator::at_least(role, request, next)))
    };
    let watch = OpenApiRouter::new()
        .routes(routes!(status::status))
        .routes(routes!(sessions::list))
        .routes(routes!(sessions::show))
        .routes(routes!(throughput::throughput))
        .routes(routes!(live::live))
        .routes(routes!(identities::list))
        .routes(routes!(identities::show))
        .routes(routes!(tokens::list))
        .routes(routes!(authorities::list))
        .routes(routes!(design::check))
        .routes(routes!(design::compare))
        .routes(routes!(design::list))
        .routes(routes!(design::show))
        .routes(routes!(explain::explain))
        .routes(routes!(journey::journey))
        .routes(routes!(recordings::list))
        .routes(routes!(recordings::show))
        .routes(routes!(recordings::journey))
        .routes(routes!(explain::matrix))
        .routes(routes!(topics::refusals))
        .routes(routes!(topics::list))
        .routes(routes!(topics::matches))
        .routes(routes!(topic::show))
        .routes(routes!(topics::drift))
        .routes(routes!(topics::plan))
        .routes(routes!(retained::list))
        .routes(routes!(retained::show))
        .routes(routes!(operator::me))
        .routes(routes!(operator::audit));
    let operate = OpenApiRouter::new()
        .routes(routes!(sessions::end))
        .routes(routes!(identities::put, identities::remove))
        .routes(routes!(identities::import))
        .routes(routes!(recordings::begin))
        .routes(routes!(bench::open))
        .routes(routes!(bench::close))
        .routes(routes!(bench::happenings))
        .routes(routes!(bench::subscribe))
        .routes(routes!(bench::unsubscribe))
        .routes(routes!(bench::publish))
        .routes(routes!(bench_setups::list))
        .routes(routes!(bench_setups::put, bench_setups::remove))
        .routes(routes!(recordings::end))
        .routes(routes!(retained::clear))
        .routes(routes!(retained::restore))
        .routes(routes!(tokens::make))
        .routes(routes!(tokens::revoke));
    let change = OpenApiRouter::new().routes(routes!(design::apply)).routes(routes!(design::revert));
    let own = OpenApiRouter::new()
        .routes(routes!(operator::list))
        .routes(routes!(operator::put, operator::remove))
        .routes(routes!(authorities::add))
        .routes(routes!(authorities::remove));
    let closed =
        watch.merge(role(operate, Role::Operate)).merge(role(change, Role::Design)).merge(role(own, Role::Own));
    OpenApiRouter::with_openapi(Description::openapi())
        .nest("/api/v1", closed)
        .route_layer(middleware::from_fn(access::signed_in))
        .nest("/api/v1", open)
}

/// The description of the interface, an OpenAPI document.
pub fn openapi() -> utoipa::openapi::OpenApi {
    described(routes().into_openapi())
}

/// With what every call can answer.
fn described(mut openapi: utoipa::openapi::OpenApi) -> utoipa::openapi::OpenApi {
    for (path, item) in &mut openapi.paths.paths {
        let is_open = OPEN.iter().any(|open| path.ends_with(open));
        let operations = [&mut item.get, &mut item.put, &mut item.post, &mut item.delete];
        operations.into_iter().flatten().for_each(|operation| reading::declare(operation, is_open));
    }
    openapi
}

/// Serves until `stop`.
pub(crate) async fn serve(app: App, listener: TcpListener, stop: CancellationToken) {
    let (router, description) = routes().split_for_parts();
    let description = described(description);
    let router: Router = router
        .route("/api/v1/openapi.json", get(move || std::future::ready(axum::Json(description))))
        .route("/mqtt", get(mqtt))
        .route("/api/{*rest}", axum::routing::any(problem::unknown_call))
        .fallback_service(get(console::file).fallback(problem::wrong_method))
        .method_not_allowed_fallback(problem::wrong_method)
        .layer(DefaultBodyLimit::max(BODY))
        .layer(middleware::from_fn(problem::no_nul))
        .layer(middleware::from_fn(access::at_home))
        .layer(middleware::from_fn(console::security_headers))
        .layer(axum::Extension(Arc::clone(&app.process)))
        .layer(axum::Extension(app.clone()))
        .with_state(app.clone());
    http_server::serve(app, listener, router, stop).await;
}

/// MQTT over WebSocket, at a path of this interface.
async fn mqtt(
    State(process): State<Arc<Process>>,
    ConnectInfo(address): ConnectInfo<SocketAddr>,
    request: Request,
) -> Response {
    upgrade::visit_by_http(&process.reception, Arc::clone(&process.http_listener), request, address)
}
