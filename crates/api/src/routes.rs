//! All calls, by the role that they need.

use axum::middleware;
use moorfall_contract::{people::Role, problem::Problem};
use utoipa::{
    Modify, OpenApi,
    openapi::security::{Http, HttpAuthScheme, SecurityScheme},
};
use utoipa_axum::{router::OpenApiRouter, routes};

use crate::{
    design::{explain, matrix, revisions, trial},
    http::{
        operator::{self},
        responses, sign_in,
    },
    identities::{authorities, directory, tokens},
    links::{bridges, demo_link, derived},
    run::{audit, people},
    state::App,
    watch::{
        alerts, busiest, draft_lines, drift, events, filter_match, history, inbox, ladders, owners, readings,
        recordings, rehearsal, retained, sessions, status, subscribers, topic, topics,
    },
    work::{desk, setups},
};

/// Calls that nobody has to be signed in for.
const OPEN: [&str; 3] = ["/console-session", "/console-token", "/blueprint/schema"];

#[derive(OpenApi)]
#[openapi(
    info(title = "Moorfall", description = "An MQTT broker: its state, its sessions, its identities, its blueprint."),
    components(schemas(Problem)),
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

pub(crate) fn routes() -> OpenApiRouter<App> {
    let open = OpenApiRouter::new()
        .routes(routes!(sign_in::sign_in))
        .routes(routes!(sign_in::token))
        .routes(routes!(sign_in::sign_out))
        .routes(routes!(revisions::schema));
    let role = |router: OpenApiRouter<App>, role: Role| {
        router.route_layer(middleware::from_fn(move |request, next| operator::at_least(role, request, next)))
    };
    let watch = OpenApiRouter::new()
        .routes(routes!(status::status))
        .routes(routes!(sessions::list))
        .routes(routes!(sessions::show))
        .routes(routes!(sessions::bans))
        .routes(routes!(history::history))
        .routes(routes!(readings::live))
        .routes(routes!(readings::measures))
        .routes(routes!(events::list))
        .routes(routes!(readings::now))
        .routes(routes!(busiest::list))
        .routes(routes!(alerts::list))
        .routes(routes!(alerts::show))
        .routes(routes!(rehearsal::rehearsal))
        .routes(routes!(alerts::notices))
        .routes(routes!(inbox::show))
        .routes(routes!(directory::list))
        .routes(routes!(directory::show))
        .routes(routes!(tokens::list))
        .routes(routes!(authorities::list))
        .routes(routes!(revisions::check))
        .routes(routes!(revisions::compare))
        .routes(routes!(revisions::list))
        .routes(routes!(revisions::show))
        .routes(routes!(explain::explain))
        .routes(routes!(trial::journey))
        .routes(routes!(recordings::list))
        .routes(routes!(recordings::show))
        .routes(routes!(recordings::journey))
        .routes(routes!(matrix::matrix))
        .routes(routes!(drift::refusals))
        .routes(routes!(topics::list))
        .routes(routes!(filter_match::matches))
        .routes(routes!(topic::show))
        .routes(routes!(owners::list))
        .routes(routes!(subscribers::list))
        .routes(routes!(drift::drift))
        .routes(routes!(draft_lines::draft))
        .routes(routes!(retained::list))
        .routes(routes!(retained::show))
        .routes(routes!(bridges::list))
        .routes(routes!(bridges::show))
        .routes(routes!(bridges::preview))
        .routes(routes!(derived::list))
        .routes(routes!(derived::show))
        .routes(routes!(derived::trial))
        .routes(routes!(people::me))
        .routes(routes!(audit::audit));
    let operate = OpenApiRouter::new()
        .routes(routes!(sessions::end))
        .routes(routes!(sessions::end_many))
        .routes(routes!(sessions::ban))
        .routes(routes!(sessions::lift))
        .routes(routes!(directory::put, directory::remove))
        .routes(routes!(directory::import))
        .routes(routes!(recordings::begin))
        .routes(routes!(desk::open))
        .routes(routes!(desk::close))
        .routes(routes!(desk::events))
        .routes(routes!(desk::subscribe))
        .routes(routes!(desk::unsubscribe))
        .routes(routes!(desk::publish))
        .routes(routes!(setups::list))
        .routes(routes!(setups::put, setups::remove))
        .routes(routes!(recordings::end))
        .routes(routes!(ladders::begin, ladders::list))
        .routes(routes!(ladders::show))
        .routes(routes!(ladders::end))
        .routes(routes!(ladders::export))
        .routes(routes!(alerts::test))
        .routes(routes!(inbox::set_faults))
        .routes(routes!(alerts::quiet, alerts::end_quiet))
        .routes(routes!(demo_link::set))
        .routes(routes!(bridges::pause))
        .routes(routes!(bridges::resume))
        .routes(routes!(bridges::drain))
        .routes(routes!(bridges::retry))
        .routes(routes!(retained::clear))
        .routes(routes!(retained::restore))
        .routes(routes!(tokens::make))
        .routes(routes!(tokens::revoke));
    let change = OpenApiRouter::new()
        .routes(routes!(revisions::apply))
        .routes(routes!(revisions::revert))
        .routes(routes!(bridges::set_secret, bridges::remove_secret));
    let own = OpenApiRouter::new()
        .routes(routes!(people::list))
        .routes(routes!(people::put, people::remove))
        .routes(routes!(authorities::add))
        .routes(routes!(authorities::remove));
    let closed =
        watch.merge(role(operate, Role::Operate)).merge(role(change, Role::Design)).merge(role(own, Role::Own));
    OpenApiRouter::with_openapi(Description::openapi())
        .nest("/api/v1", closed)
        .route_layer(middleware::from_fn(sign_in::signed_in))
        .nest("/api/v1", open)
}

/// The description of the interface, an OpenAPI document.
pub fn openapi() -> utoipa::openapi::OpenApi {
    described(routes().into_openapi())
}

/// With what every call can answer.
pub(crate) fn described(mut openapi: utoipa::openapi::OpenApi) -> utoipa::openapi::OpenApi {
    for (path, item) in &mut openapi.paths.paths {
        let is_open = OPEN.iter().any(|open| path.ends_with(open));
        let operations = [&mut item.get, &mut item.put, &mut item.post, &mut item.delete];
        operations.into_iter().flatten().for_each(|operation| responses::declare(operation, is_open));
    }
    openapi
}
