//! Requests for a WebSocket, at a listener of its own and at a path of the HTTP interface.

use std::{convert::Infallible, net::SocketAddr, sync::Arc};

use bytes::Bytes;
use http::{HeaderValue, Request, Response, StatusCode, header};
use http_body_util::Full;
use hyper::{body::Incoming, server::conn::http1, service::service_fn, upgrade::OnUpgrade};
use hyper_util::rt::{TokioIo, TokioTimer};
use moorfall_core::{Time, certificate::ClientCertificate};
use moorfall_live::facts::{Fact, NotSecured};

use crate::{
    listeners::{
        listener::Listener,
        origin::{Arrived, Origin, Reception},
        seats::Seat,
        stream::{Layer, Stream},
        tls_version::TlsVersion,
        websocket::{self, WebSocket},
    },
    notes,
};

/// A client that asks for a WebSocket.
pub(super) struct Visit {
    pub(super) reception: Arc<Reception>,
    pub(super) listener: Arc<Listener>,
    pub(super) address: SocketAddr,
    pub(super) certificate: Option<Arc<ClientCertificate>>,
    pub(super) tls: Option<TlsVersion>,
    pub(super) removals: u64,
    pub(super) began: Time,
    /// Taken by the one request that is answered with a WebSocket.
    pub(super) seat: parking_lot::Mutex<Option<Seat>>,
}

impl Visit {
    /// Answers requests until one is for a WebSocket; the connection goes on in a task of its own.
    pub(super) async fn shake_hands(&self, stream: Box<dyn Layer>) {
        let service = service_fn(|mut request: Request<Incoming>| {
            let response = match websocket::accept(&request, &self.listener.pages(&self.reception.doors)) {
                Err(declined) => declined_response(&declined),
                Ok(response) => {
                    if let Some(seat) = self.seat.lock().take() {
                        let upgrade = hyper::upgrade::on(&mut request);
                        let origin = Origin {
                            address: self.address,
                            listener: Arc::clone(&self.listener),
                            certificate: self.certificate.clone(),
                            tls: self.tls,
                            removals: self.removals,
                            at: self.began,
                            acting: None,
                        };
                        self.reception.common.tasks.spawn(upgraded(Arc::clone(&self.reception), upgrade, origin, seat));
                    }
                    response.map(|()| Full::default())
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
            let (address, listener) = (self.address, Arc::clone(&self.listener.name));
            notes::note(
                &self.reception.live,
                self.reception.common.clock.now(),
                &Fact::NotSecured { address, listener, why: NotSecured::WebSocket(error.to_string()) },
            );
        }
    }
}

fn declined_response(declined: &websocket::Declined) -> Response<Full<Bytes>> {
    let mut response = Response::new(Full::from(declined.words));
    *response.status_mut() = declined.status;
    response.headers_mut().insert(header::CONNECTION, HeaderValue::from_static("close"));
    response
}

async fn upgraded(reception: Arc<Reception>, upgrade: OnUpgrade, origin: Origin, seat: Seat) {
    match upgrade.await {
        Ok(stream) => {
            let stream = Stream::layered(Box::new(WebSocket::new(TokioIo::new(stream))));
            (reception.serve)(Arrived { stream, origin, seat }).await;
        }
        Err(error) => tracing::debug!(address = %origin.address, %error, "WebSocket upgrade failed"),
    }
}

/// The WebSocket at a path of the HTTP listener.
pub fn visit_by_http<B>(
    reception: &Arc<Reception>,
    listener: Arc<Listener>,
    mut request: Request<B>,
    address: SocketAddr,
) -> Response<Full<Bytes>> {
    match websocket::accept(&request, &listener.pages(&reception.doors)) {
        Err(declined) => declined_response(&declined),
        Ok(response) => {
            let at = reception.common.clock.now();
            let Ok(seat) = reception.seats.take(&listener, address.ip(), at) else {
                let status = StatusCode::SERVICE_UNAVAILABLE;
                let words = "The connection limit is reached.\n";
                return declined_response(&websocket::Declined { status, words });
            };
            let origin = Origin { address, listener, certificate: None, tls: None, removals: 0, at, acting: None };
            let upgrade = hyper::upgrade::on(&mut request);
            reception.common.tasks.spawn(upgraded(Arc::clone(reception), upgrade, origin, seat));
            response.map(|()| Full::default())
        }
    }
}
