//! Where MQTT clients connect: accepting them, and what lies between TCP and MQTT.

use std::{
    convert::Infallible,
    net::SocketAddr,
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    },
    time::Duration,
};

use axum::{
    body::Body,
    http::{HeaderValue, Request, Response, header},
};
use hyper::{body::Incoming, server::conn::http1, service::service_fn, upgrade::OnUpgrade};
use hyper_util::rt::{TokioIo, TokioTimer};
use moorfall_core::{Limits, Time};
use tokio::{
    net::{TcpListener, TcpStream},
    time::{sleep, timeout_at},
};

use crate::{
    broker::Broker,
    certificate::ClientCertificate,
    connection::{self, Origin},
    seats::Seat,
    settings::{ListenerSettings, Transport},
    stream::{Layer, Stream},
    tls::Tls,
    websocket::{self, WebSocket},
};

/// One place where clients connect.
#[derive(Debug)]
pub(crate) struct Listener {
    pub(crate) name: Arc<str>,
    /// Where it really is.
    pub(crate) address: SocketAddr,
    pub(crate) transport: Transport,
    pub(crate) tls: Option<Arc<Tls>>,
    /// Whether clients without identity are let in.
    pub(crate) anonymous: bool,
    pub(crate) origins: Vec<String>,
    pub(crate) limits: Arc<Limits>,
    pub(crate) connections: AtomicUsize,
}

impl Listener {
    pub(crate) fn new(settings: &ListenerSettings, address: SocketAddr, tls: Option<Arc<Tls>>, limits: Limits) -> Self {
        Self {
            name: settings.name.as_str().into(),
            address,
            transport: settings.transport,
            tls,
            anonymous: settings.anonymous,
            origins: settings.origins.clone(),
            limits: Arc::new(limits),
            connections: AtomicUsize::new(0),
        }
    }

    /// Its address with the scheme.
    pub(crate) fn url(&self) -> String {
        format!("{}://{}", self.transport.scheme(), self.address)
    }

    /// Which pages may open a WebSocket here.
    fn pages<'a>(&'a self, broker: &'a Broker) -> websocket::Pages<'a> {
        websocket::Pages { origins: &self.origins, doors: &broker.doors, is_secure: self.transport.is_secure() }
    }

    /// Connections at present.
    pub(crate) fn count(&self) -> usize {
        self.connections.load(Ordering::Relaxed)
    }
}

/// Accepts until the service stops; each connection is a task of its own.
pub(crate) async fn accept(broker: Arc<Broker>, listener: Arc<Listener>, socket: TcpListener) {
    // Each is said once for each time that it begins, not for each connection: a flood shall not fill the log too.
    let mut turned_away = None;
    let mut no_descriptor = false;
    loop {
        let accepted = tokio::select! {
            accepted = socket.accept() => accepted,
            () = broker.stopping.cancelled() => return,
        };
        match accepted {
            Ok((stream, address)) => {
                if std::mem::take(&mut no_descriptor) {
                    tracing::info!(listener = %listener.name, "connections are accepted again");
                }
                let began = broker.clock.now();
                let seat = broker.seats.take(&listener, address.ip(), began);
                let refusal = seat.as_ref().map_or_else(|refusal| Some(*refusal), |seat| seat.refusal);
                if let Some(refusal) = refusal
                    && turned_away.is_none()
                {
                    tracing::warn!(%address, listener = %listener.name, "connections are refused: {refusal}");
                }
                turned_away = refusal;
                // A hand-shake of TLS is more than who is turned away may cost.
                if let Ok(seat) = seat
                    && (refusal.is_none() || listener.tls.is_none())
                {
                    broker.tasks.spawn(begin(Arc::clone(&broker), Arc::clone(&listener), stream, address, began, seat));
                }
            }
            Err(error) => {
                // Out of descriptors or memory: waiting is all that helps.
                if !std::mem::replace(&mut no_descriptor, true) {
                    tracing::error!(%error, listener = %listener.name, "connections can't be accepted now");
                }
                sleep(Duration::from_millis(100)).await;
            }
        }
    }
}

/// Goes through the layers of a new connection, and serves it.
async fn begin(
    broker: Arc<Broker>,
    listener: Arc<Listener>,
    stream: TcpStream,
    address: SocketAddr,
    began: Time,
    seat: Seat,
) {
    // Small packets must not wait for more; without it they only come later.
    let _ = stream.set_nodelay(true);
    let deadline = broker.clock.instant(began + listener.limits.connect_time);
    let not_let_in = |words: &str| {
        tracing::info!(%address, listener = %listener.name, "not let in: {words}");
    };
    let mut certificate = None;
    let removals = broker.authorities.removals();
    let layered: Box<dyn Layer> = match &listener.tls {
        None if listener.transport == Transport::Tcp => {
            let origin = Origin { address, listener, certificate, removals, at: began, acting: None };
            return connection::serve(broker, Stream::Tcp(stream), origin, seat).await;
        }
        None => Box::new(stream),
        Some(tls) => match timeout_at(deadline, tls.acceptor().accept(stream)).await {
            Ok(Ok(stream)) => {
                let shown = stream.get_ref().1.peer_certificates().and_then(|chain| chain.first());
                certificate = shown.and_then(|shown| ClientCertificate::read(shown)).map(Arc::new);
                if tls.trusts_nobody() && tls.requires_certificate() {
                    return not_let_in(
                        "no authority is known that signs client certificates; `moorfall authorities add` makes one known",
                    );
                }
                if certificate.is_none() && tls.requires_certificate() {
                    return not_let_in("the client's certificate can't be read");
                }
                Box::new(stream)
            }
            Ok(Err(error)) => return not_let_in(&format!("the TLS hand-shake failed: {error}")),
            Err(_) => return not_let_in("the TLS hand-shake took too long"),
        },
    };
    if listener.transport == Transport::Tls {
        let origin = Origin { address, listener, certificate, removals, at: began, acting: None };
        return connection::serve(broker, Stream::Layered(layered), origin, seat).await;
    }
    let name = Arc::clone(&listener.name);
    let visit =
        Visit { broker, listener, address, certificate, removals, began, seat: parking_lot::Mutex::new(Some(seat)) };
    let shaken = timeout_at(deadline, visit.shake_hands(layered)).await;
    if shaken.is_err() {
        tracing::info!(%address, listener = %name, "not let in: the WebSocket hand-shake took too long");
    }
}

/// A client that asks for a WebSocket.
struct Visit {
    broker: Arc<Broker>,
    listener: Arc<Listener>,
    address: SocketAddr,
    certificate: Option<Arc<ClientCertificate>>,
    removals: u64,
    began: Time,
    /// Taken by the one request that is answered with a WebSocket.
    seat: parking_lot::Mutex<Option<Seat>>,
}

impl Visit {
    /// Answers requests until one is for a WebSocket; the connection goes on in a task of its own.
    async fn shake_hands(&self, stream: Box<dyn Layer>) {
        let service = service_fn(|mut request: Request<Incoming>| {
            let response = match websocket::accept(&request, &self.listener.pages(&self.broker)) {
                Err(declined) => declined_response(&declined),
                Ok(response) => {
                    if let Some(seat) = self.seat.lock().take() {
                        let upgrade = hyper::upgrade::on(&mut request);
                        let origin = Origin {
                            address: self.address,
                            listener: Arc::clone(&self.listener),
                            certificate: self.certificate.clone(),
                            removals: self.removals,
                            at: self.began,
                            acting: None,
                        };
                        self.broker.tasks.spawn(upgraded(Arc::clone(&self.broker), upgrade, origin, seat));
                    }
                    response.map(|()| Body::empty())
                }
            };
            std::future::ready(Ok::<_, Infallible>(response))
        });
        let mut builder = http1::Builder::new();
        builder.timer(TokioTimer::new()).header_read_timeout(self.listener.limits.connect_time);
        // Whoever is declined is told to go in the answer; to have hyper say so would add `close` to the answer of who is
        // not, which some clients do not understand.
        builder.max_buf_size(self.listener.limits.first_packet_bytes.max(8 * 1024));
        let served = builder.serve_connection(TokioIo::new(stream), service).with_upgrades().await;
        if let Err(error) = served {
            let (address, listener) = (self.address, &self.listener.name);
            tracing::info!(%address, %listener, "not let in: the WebSocket hand-shake failed: {error}");
        }
    }
}

fn declined_response(declined: &websocket::Declined) -> Response<Body> {
    let mut response = Response::new(Body::from(declined.words));
    *response.status_mut() = declined.status;
    response.headers_mut().insert(header::CONNECTION, HeaderValue::from_static("close"));
    response
}

async fn upgraded(broker: Arc<Broker>, upgrade: OnUpgrade, origin: Origin, seat: Seat) {
    match upgrade.await {
        Ok(stream) => {
            let stream = Stream::Layered(Box::new(WebSocket::new(TokioIo::new(stream))));
            connection::serve(broker, stream, origin, seat).await;
        }
        Err(error) => tracing::debug!(address = %origin.address, %error, "the WebSocket was not taken up"),
    }
}

/// The WebSocket at a path of the HTTP listener.
pub(crate) fn visit_by_http(broker: &Arc<Broker>, mut request: Request<Body>, address: SocketAddr) -> Response<Body> {
    let listener = Arc::clone(&broker.http_listener);
    match websocket::accept(&request, &listener.pages(broker)) {
        Err(declined) => declined_response(&declined),
        Ok(response) => {
            let at = broker.clock.now();
            let Ok(seat) = broker.seats.take(&listener, address.ip(), at) else {
                let status = axum::http::StatusCode::SERVICE_UNAVAILABLE;
                let words = "There are as many connections as may be.\n";
                return declined_response(&websocket::Declined { status, words });
            };
            let origin = Origin { address, listener, certificate: None, removals: 0, at, acting: None };
            let upgrade = hyper::upgrade::on(&mut request);
            broker.tasks.spawn(upgraded(Arc::clone(broker), upgrade, origin, seat));
            response.map(|()| Body::empty())
        }
    }
}
