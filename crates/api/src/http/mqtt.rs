//! MQTT over WebSocket, at a path of this interface.

use std::{net::SocketAddr, sync::Arc};

use axum::{
    extract::{ConnectInfo, Request, State},
    response::{IntoResponse, Response},
};
use moorfall_broker::listeners::upgrade;

use crate::state::Process;

/// MQTT over WebSocket, at a path of this interface.
pub async fn mqtt(
    State(process): State<Arc<Process>>,
    ConnectInfo(address): ConnectInfo<SocketAddr>,
    request: Request,
) -> Response {
    upgrade::visit_by_http(&process.reception, Arc::clone(&process.http_listener), request, address).into_response()
}
