//! The connections of HTTP: so many in all and of one address, none of which waits for ever. They have bounds of their
//! own, so that they never take the descriptors that MQTT clients need.

use std::{
    net::SocketAddr,
    pin::Pin,
    sync::Arc,
    task::{Context, Poll},
    time::Duration,
};

use axum::{
    Router,
    body::{Body, Bytes, HttpBody},
    extract::ConnectInfo,
    http::{Request, Response, StatusCode},
};
use http_body::{Frame, SizeHint};
use hyper::{body::Incoming, server::conn::http1, service::service_fn};
use hyper_util::rt::TokioIo;
use moorfall_broker::listeners::{
    descriptors,
    gatekeeper::{Held, neighbourhood},
};
use moorfall_core::Limits;
use tokio::net::{TcpListener, TcpStream};
use tokio_util::sync::CancellationToken;
use tower::ServiceExt;

use crate::{
    http::stream::{Answering, HttpStream, Phase, Waits},
    state::App,
};

/// What who is turned away is told, if it can be said at once.
const FULL: &[u8] =
    b"HTTP/1.1 503 Service Unavailable\r\nConnection: close\r\nRetry-After: 5\r\nContent-Length: 32\r\n\
    Content-Type: text/plain\r\n\r\nThe connection limit is reached.";

/// How long to wait when a connection can't be accepted.
const PAUSE: Duration = Duration::from_millis(100);

/// The largest headers of a request, bytes.
const HEADERS: usize = 32 * 1024;

/// Serves until `stop`.
pub async fn serve(app: App, listener: TcpListener, router: Router, stop: CancellationToken) {
    let App { broker, process, .. } = &app;
    let limits = &broker.limits;
    let most = descriptors::http_connections(limits);
    let (mut is_full, mut no_descriptor) = (false, false);
    loop {
        let accepted = tokio::select! {
            accepted = listener.accept() => accepted,
            () = stop.cancelled() => return,
        };
        match accepted {
            Ok((stream, address)) => {
                no_descriptor = false;
                let by = neighbourhood(address.ip());
                let ticket = process.http_connections.take(by, limits.http_connections_per_address, most);
                if ticket.is_none() && !is_full {
                    tracing::warn!(%address, "connections to the console and the API are refused: the limit is \
                                              reached");
                }
                is_full = ticket.is_none();
                match ticket {
                    Some(ticket) => {
                        let served =
                            serve_one(Arc::clone(limits), stream, address, router.clone(), stop.clone(), ticket);
                        broker.common.tasks.spawn(served);
                    }
                    None => drop(stream.try_write(FULL)),
                }
            }
            Err(error) => {
                if !std::mem::replace(&mut no_descriptor, true) {
                    tracing::error!(%error, "connections to the console and the API can't be accepted");
                }
                tokio::time::sleep(PAUSE).await;
            }
        }
    }
}

async fn serve_one(
    limits: Arc<Limits>,
    stream: TcpStream,
    address: SocketAddr,
    router: Router,
    stop: CancellationToken,
    _ticket: Held,
) {
    let _ = stream.set_nodelay(true);
    let seconds = |seconds: u32| Duration::from_secs(seconds.into());
    let waits = Waits { header: seconds(limits.http_header_seconds), idle: seconds(limits.http_idle_seconds) };
    let phase = Phase::default();
    let stream = HttpStream::new(stream, phase.clone(), waits);
    let service = service_fn(move |request: Request<Incoming>| {
        let answering = phase.answer();
        let (router, phase) = (router.clone(), phase.clone());
        async move {
            let mut request = request.map(Body::new);
            request.extensions_mut().insert(ConnectInfo(address));
            let response: Response<Body> = match router.oneshot(request).await {
                Ok(response) => response,
                Err(never) => match never {},
            };
            if response.status() == StatusCode::SWITCHING_PROTOCOLS {
                phase.hand_over();
            }
            let response = response.map(|inner| Body::new(Guarded { inner, _answering: answering }));
            Ok::<_, std::convert::Infallible>(response)
        }
    });
    let mut builder = http1::Builder::new();
    builder.max_buf_size(HEADERS);
    let connection = builder.serve_connection(TokioIo::new(stream), service).with_upgrades();
    let mut connection = std::pin::pin!(connection);
    let served = tokio::select! {
        served = connection.as_mut() => served,
        () = stop.cancelled() => {
            connection.as_mut().graceful_shutdown();
            connection.await
        }
    };
    if let Err(error) = served {
        tracing::debug!(%address, %error, "HTTP connection closed");
    }
}

/// A body that is being sent.
struct Guarded {
    inner: Body,
    _answering: Answering,
}

impl HttpBody for Guarded {
    type Data = Bytes;
    type Error = axum::Error;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, axum::Error>>> {
        Pin::new(&mut self.inner).poll_frame(context)
    }

    fn is_end_stream(&self) -> bool {
        self.inner.is_end_stream()
    }

    fn size_hint(&self) -> SizeHint {
        self.inner.size_hint()
    }
}
