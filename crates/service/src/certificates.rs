//! Tells in time that certificates of listeners end.

use std::{collections::HashSet, sync::Arc, time::Duration};

use moorfall_api::{state::Process, watch::warnings::ENDS_SOON};
use moorfall_broker::broker::Broker;
use moorfall_live::facts::Fact;
use time::OffsetDateTime;

/// Between two looks.
const EVERY: Duration = Duration::from_secs(3_600);

/// Looks until the service stops; of each certificate it is told once.
pub(crate) async fn watch(broker: Arc<Broker>, process: Arc<Process>) {
    let mut told = HashSet::new();
    loop {
        for listener in &process.listeners {
            let ends = listener.tls.as_ref().and_then(|tls| tls.ends());
            if let Some(at) = ends.filter(|at| *at < OffsetDateTime::now_utc() + ENDS_SOON)
                && told.insert((Arc::clone(&listener.name), at))
            {
                broker.live.note(&Fact::CertificateEnds { listener: Arc::clone(&listener.name), at }, broker.now());
            }
        }
        tokio::select! {
            () = tokio::time::sleep(EVERY) => {}
            () = broker.common.stopping.cancelled() => return,
        }
    }
}
