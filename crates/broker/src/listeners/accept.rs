//! Accepting clients, and TLS before whatever they speak.

use std::{sync::Arc, time::Duration};

use moorfall_core::{
    certificate::ClientCertificate,
    measure::Measure,
    session::{Ended, NotAccepted, NotAcceptedKind},
};
use moorfall_live::facts::{Fact, NotSecured};
use tokio::{
    net::{TcpListener, TcpStream},
    time::{sleep, timeout_at},
};

use crate::{
    listeners::{
        listener::Listener,
        origin::{Arrived, Origin, Reception},
        seats::Seat,
        settings::Transport,
        stream::{Layer, Stream},
        tls,
        upgrade::Visit,
    },
    notes,
};

/// Accepts until the service stops; each connection is a task of its own.
pub async fn accept(reception: Arc<Reception>, listener: Arc<Listener>, socket: TcpListener) {
    // Each is said once for each time that it begins, not for each connection: a flood shall not fill the log too.
    let mut turned_away = None;
    let mut no_descriptor = false;
    loop {
        let accepted = tokio::select! {
            accepted = socket.accept() => accepted,
            () = reception.common.stopping.cancelled() => return,
        };
        match accepted {
            Ok((stream, address)) => {
                if std::mem::take(&mut no_descriptor) {
                    notes::note(
                        &reception.live,
                        reception.common.clock.now(),
                        &Fact::Accepting { listener: Arc::clone(&listener.name) },
                    );
                }
                let began = reception.common.clock.now();
                // Without TLS it is told in CONNACK; a handshake is more than who is banned may cost.
                if listener.tls.is_some()
                    && let Some(banned) = (reception.banned)(address.ip())
                {
                    let why = Ended::NotAccepted(banned);
                    let fact = Fact::NotAccepted { user_name: String::new(), address, why };
                    notes::note(&reception.live, began, &fact);
                    continue;
                }
                let seat = reception.seats.take(&listener, address.ip(), began);
                let refusal = seat.as_ref().map_or_else(|refusal| Some(*refusal), |seat| seat.refusal);
                if let Some(refusal) = refusal
                    && turned_away.is_none()
                {
                    notes::note(
                        &reception.live,
                        began,
                        &Fact::Refusing { address, listener: Arc::clone(&listener.name), why: refusal.into() },
                    );
                }
                turned_away = refusal;
                // A TLS handshake is more than who is turned away may cost.
                let seat = seat.ok().filter(|_| refusal.is_none() || listener.tls.is_none());
                if let (None, Some(refusal)) = (&seat, refusal) {
                    let kind = NotAcceptedKind::from(&NotAccepted::from(refusal));
                    reception.live.counters.count_by(Measure::ConnectionsRefused, kind, 1);
                }
                let Some(seat) = seat else { continue };
                // Small packets must not wait for more; without it they only come later.
                let _ = stream.set_nodelay(true);
                let (removals, listener) = ((reception.removals)(), Arc::clone(&listener));
                let origin =
                    Origin { address, listener, certificate: None, tls: None, removals, at: began, acting: None };
                if origin.listener.tls.is_none() && origin.listener.transport == Transport::Tcp {
                    let arrived = Arrived { stream: Stream::Tcp(stream), origin, seat };
                    reception.common.tasks.spawn((reception.serve)(arrived));
                } else {
                    reception.common.tasks.spawn(begin(Arc::clone(&reception), stream, origin, seat));
                }
            }
            Err(error) => {
                // Out of descriptors or memory: waiting is all that helps.
                if !std::mem::replace(&mut no_descriptor, true) {
                    tracing::error!(%error, listener = %listener.name, "connections can't be accepted");
                }
                sleep(Duration::from_millis(100)).await;
            }
        }
    }
}

/// Goes through the layers of a new connection, and has it served: by a task of its own, for what a handshake takes is not to
/// be held as long as the connection lasts.
async fn begin(reception: Arc<Reception>, stream: TcpStream, mut origin: Origin, seat: Seat) {
    let (listener, address) = (Arc::clone(&origin.listener), origin.address);
    let deadline = reception.common.clock.instant(origin.at + listener.limits.connect_time);
    let name = Arc::clone(&listener.name);
    let (live, clock) = (Arc::clone(&reception.live), reception.common.clock);
    let not_secured =
        |why| notes::note(&live, clock.now(), &Fact::NotSecured { address, listener: Arc::clone(&name), why });
    let layered: Box<dyn Layer> = match &listener.tls {
        None => Box::new(stream),
        Some(tls) => match timeout_at(deadline, tls.acceptor().accept(stream)).await {
            Ok(Ok(stream)) => {
                origin.tls = tls::version(stream.get_ref().1.protocol_version());
                let shown = stream.get_ref().1.peer_certificates().and_then(|chain| chain.first());
                origin.certificate = shown.and_then(|shown| ClientCertificate::read(shown)).map(Arc::new);
                if tls.trusts_nobody() && tls.requires_certificate() {
                    return not_secured(NotSecured::NoAuthority);
                }
                if origin.certificate.is_none() && tls.requires_certificate() {
                    return not_secured(NotSecured::Certificate);
                }
                Box::new(stream)
            }
            Ok(Err(error)) => return not_secured(NotSecured::Tls(error.to_string())),
            Err(_) => return not_secured(NotSecured::TlsTimeout),
        },
    };
    if listener.transport == Transport::Tls {
        let arrived = Arrived { stream: Stream::layered(layered), origin, seat };
        reception.common.tasks.spawn((reception.serve)(arrived));
        return;
    }
    let Origin { certificate, tls, removals, at: began, .. } = origin;
    let visit = Visit {
        reception,
        listener,
        address,
        certificate,
        tls,
        removals,
        began,
        seat: parking_lot::Mutex::new(Some(seat)),
    };
    let shaken = timeout_at(deadline, visit.shake_hands(layered)).await;
    if shaken.is_err() {
        not_secured(NotSecured::WebSocketTimeout);
    }
}
