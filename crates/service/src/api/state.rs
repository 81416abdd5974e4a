//! What the interface answers from.

use std::{net::SocketAddr, path::PathBuf, sync::Arc};

use axum::extract::FromRef;
use time::OffsetDateTime;

use super::topics::Silences;
use crate::{
    bench::Bench,
    broker::Broker,
    gatekeeper::{PerAddress, Tickets},
    listener::Listener,
    origin::Reception,
    sampler::Watch,
    sign_ins::SignIns,
};

/// Where the service is.
#[derive(Clone, Debug)]
pub(crate) struct Addresses {
    /// The first listener of plain TCP, if there is one: what commands on this machine use.
    pub(crate) mqtt: Option<SocketAddr>,
    pub(crate) http: SocketAddr,
    pub(crate) data: PathBuf,
}

/// The process that the broker runs in.
#[derive(Debug)]
pub(crate) struct Process {
    pub(crate) started_at: OffsetDateTime,
    pub(crate) addresses: Addresses,
    pub(crate) listeners: Vec<Arc<Listener>>,
    /// The path of the HTTP interface at which MQTT is spoken.
    pub(crate) http_listener: Arc<Listener>,
    pub(crate) reception: Arc<Reception>,
    pub(crate) http_connections: Arc<PerAddress>,
}

/// Whoever looks at the broker and runs it.
#[derive(Debug)]
pub(crate) struct People {
    pub(crate) sign_ins: SignIns,
    /// Checks of designs that are under way, by person.
    pub(crate) checks: Arc<Tickets<Arc<str>>>,
    pub(crate) silences: Silences,
}

/// All of it.
#[derive(Clone, Debug)]
pub(crate) struct App {
    pub(crate) broker: Arc<Broker>,
    pub(crate) process: Arc<Process>,
    pub(crate) watch: Arc<Watch>,
    pub(crate) desk: Arc<Bench>,
    pub(crate) people: Arc<People>,
}

impl FromRef<App> for Arc<Broker> {
    fn from_ref(app: &App) -> Self {
        Arc::clone(&app.broker)
    }
}

impl FromRef<App> for Arc<Watch> {
    fn from_ref(app: &App) -> Self {
        Arc::clone(&app.watch)
    }
}

impl FromRef<App> for Arc<Process> {
    fn from_ref(app: &App) -> Self {
        Arc::clone(&app.process)
    }
}

impl FromRef<App> for Arc<People> {
    fn from_ref(app: &App) -> Self {
        Arc::clone(&app.people)
    }
}

impl FromRef<App> for Arc<Bench> {
    fn from_ref(app: &App) -> Self {
        Arc::clone(&app.desk)
    }
}
