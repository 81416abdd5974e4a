//! A web hook that keeps calls, and looks whether they are signed as they should be.

use std::{io, net::SocketAddr, time::Duration};

use axum::{
    Router,
    body::Bytes,
    extract::State,
    http::{HeaderMap, StatusCode, Uri},
    routing::post,
};
use base64::{Engine, engine::general_purpose::STANDARD};
use hmac::{Hmac, KeyInit, Mac};
use moorfall_contract::kinds::{NoticeWay, StandInFault};
use serde_json::Value;
use sha2::Sha256;
use tokio::{
    net::{TcpListener, TcpStream},
    time::{sleep, timeout},
};
use tokio_rustls::server::TlsStream;

use super::Shared;

/// How long a handshake may take, and a call hangs.
const LONGEST: Duration = Duration::from_secs(30);

/// Accepts connections and secures them.
struct Secured {
    listener: TcpListener,
    shared: Shared,
}

impl axum::serve::Listener for Secured {
    type Io = TlsStream<TcpStream>;
    type Addr = SocketAddr;

    async fn accept(&mut self) -> (Self::Io, Self::Addr) {
        loop {
            let Ok((stream, address)) = self.listener.accept().await else { continue };
            let is_bad = self.shared.inbox.faults().hook == StandInFault::BadCertificate;
            let acceptor = if is_bad { &self.shared.bad } else { &self.shared.good };
            // One that does not come through is none.
            if let Ok(Ok(secured)) = timeout(LONGEST, acceptor.accept(stream)).await {
                return (secured, address);
            }
        }
    }

    fn local_addr(&self) -> io::Result<Self::Addr> {
        self.listener.local_addr()
    }
}

pub(super) async fn serve(listener: TcpListener, shared: Shared) {
    let stop = shared.stop.clone();
    let routes = Router::new().route("/{*path}", post(called)).with_state(shared.clone());
    let served = axum::serve(Secured { listener, shared }, routes).with_graceful_shutdown(stop.cancelled_owned());
    if let Err(error) = served.await {
        tracing::warn!(%error, "the stand-in for web hooks has ended");
    }
}

async fn called(State(shared): State<Shared>, uri: Uri, headers: HeaderMap, body: Bytes) -> (StatusCode, &'static str) {
    match shared.inbox.faults().hook {
        StandInFault::Refuses => return (StatusCode::SERVICE_UNAVAILABLE, "no calls are taken now"),
        StandInFault::Hangs => sleep(LONGEST).await,
        StandInFault::None | StandInFault::BadCertificate => {}
    }
    let header = |name: &str| headers.get(name).and_then(|value| value.to_str().ok()).unwrap_or_default();
    let signed = format!("{}.{}.", header("webhook-id"), header("webhook-timestamp"));
    let mut mac = Hmac::<Sha256>::new_from_slice(&shared.secret).expect("a key of any length is good");
    mac.update(signed.as_bytes());
    mac.update(&body);
    let wanted = format!("v1,{}", STANDARD.encode(mac.finalize().into_bytes()));
    let is_signed = header("webhook-signature").split(' ').any(|signature| signature == wanted);
    let json: Value = serde_json::from_slice(&body).unwrap_or_default();
    let title = json["text"].as_str().unwrap_or_default();
    let text = serde_json::to_string_pretty(&json).unwrap_or_default();
    shared.inbox.receive(NoticeWay::Hook, (header("user-agent"), uri.path()), (title, &text), Some(is_signed));
    if is_signed { (StatusCode::OK, "taken") } else { (StatusCode::UNAUTHORIZED, "the signature is wrong") }
}
