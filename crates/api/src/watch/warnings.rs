//! What is to be warned of.

use std::{
    sync::{Arc, atomic::Ordering},
    time::Duration,
};

use moorfall_broker::{
    broker::Broker,
    listeners::{descriptors, listener::Listener},
};
use moorfall_contract::status::Health;
use time::OffsetDateTime;

use crate::state::{App, Process};

pub(crate) fn warnings(App { broker, process, .. }: &App, database: &Health) -> Vec<String> {
    let mut warnings = Vec::new();
    if broker.identities.is_open() {
        warnings.push(OPEN_WARNING.to_owned());
    }
    let design = broker.design.in_force();
    if design.revision == 0 && !broker.identities.is_open() {
        warnings.push("There is no blueprint, so only the administrator can publish and subscribe.".into());
    }
    if broker.design.start_differs.load(Ordering::Relaxed) {
        let revision = design.revision;
        warnings.push(format!(
            "The service was started with another blueprint than revision {revision}, which is in \
                               force. Apply it with `moorfall blueprint apply`, or start the service without it."
        ));
    }
    warnings.extend(exposed(process));
    warnings.extend(descriptors::warning(&broker.limits));
    warnings.extend(process.privileged.clone());
    warnings.extend(unreachable(process));
    warnings.extend(ending(process));
    if !database.healthy {
        warnings.push(format!(
            "The database is unavailable. {} Messages for persistent sessions stay in memory, and their acknowledgements \
             wait until it is back.",
            database.trouble
        ));
    }
    warnings
}

/// What crosses the network unprotected because of where the service listens.
pub fn exposed(process: &Process) -> Vec<String> {
    let addresses = &process.addresses;
    let mut warnings = Vec::new();
    for listener in &process.listeners {
        if !listener.address.ip().is_loopback() && !listener.transport.is_secure() {
            let Listener { name, address, .. } = &**listener;
            warnings
                .push(format!("Listener {name} on {address} is without TLS: passwords cross the network unencrypted."));
        }
    }
    if !addresses.http.ip().is_loopback() {
        let explanation = "the console and the API are without TLS: passwords cross the network unencrypted.";
        warnings.push(format!("On {} {explanation}", addresses.http));
    }
    warnings
}

/// An open broker is warned of once in so long.
const WARN_EVERY: Duration = Duration::from_secs(600);

/// Warns of an open broker in the log, now and then, until the service stops.
pub async fn warn_of_open(broker: Arc<Broker>) {
    while broker.identities.is_open() && !broker.common.stopping.is_cancelled() {
        tracing::warn!("{OPEN_WARNING}");
        tokio::select! {
            () = tokio::time::sleep(WARN_EVERY) => {}
            () = broker.common.stopping.cancelled() => {}
        }
    }
}

/// Said in the log, the status and the console for as long as it is so.
const OPEN_WARNING: &str = "The broker is open: anonymous clients can publish and subscribe to everything.";

/// Listeners to which nobody can connect, for their clients need a certificate that nobody is trusted to sign.
fn unreachable(process: &Process) -> Vec<String> {
    let tls = |listener: &Arc<Listener>| {
        listener.tls.as_ref().is_some_and(|tls| tls.requires_certificate() && tls.trusts_nobody())
    };
    let closed = process.listeners.iter().filter(|listener| tls(listener));
    closed
        .map(|listener| {
            let name = &listener.name;
            format!(
                "Nobody can connect to listener {name}: it requires client certificates, and no authority is trusted \
                 to sign them. Add one with `moorfall authorities add`."
            )
        })
        .collect()
}

/// A certificate is warned of when it ends within this time.
pub const ENDS_SOON: time::Duration = time::Duration::days(14);

/// Certificates that end soon, or have ended.
fn ending(process: &Process) -> Vec<String> {
    let now = OffsetDateTime::now_utc();
    let ends = process.listeners.iter().filter_map(|listener| Some((listener, listener.tls.as_ref()?.ends()?)));
    ends.filter(|(_, at)| *at - now < ENDS_SOON)
        .map(|(listener, at)| {
            let verb = if at < now { "ended" } else { "ends" };
            format!("The certificate of {} {verb} on {}. Clients refuse it after that.", listener.name, at.date())
        })
        .collect()
}
