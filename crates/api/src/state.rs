//! What the interface answers from.

use std::sync::Arc;

use axum::extract::FromRef;
use moorfall_broker::{
    broker::Broker,
    listeners::{
        gatekeeper::{PerAddress, Tickets},
        listener::Listener,
        origin::Reception,
    },
};
use moorfall_contract::running::RunningService;
use moorfall_links::{Inbox, WeakLink, bridge::Bridges, derived::DerivedTopics};
use moorfall_watch::{alerts::Alerts, sampler::Watch};
use time::OffsetDateTime;

use crate::{http::sign_ins::SignIns, watch::silences::Silences, work::held::Desk};

/// The process that the broker runs in.
#[derive(Debug)]
pub struct Process {
    /// When it was started.
    pub started_at: OffsetDateTime,
    /// Where it is.
    pub addresses: RunningService,
    /// Where MQTT clients connect, the path of the HTTP interface left out.
    pub listeners: Vec<Arc<Listener>>,
    /// The path of the HTTP interface at which MQTT is spoken.
    pub http_listener: Arc<Listener>,
    /// What all listeners share.
    pub reception: Arc<Reception>,
    /// Who may read what is measured as text for machines.
    pub scrapers: Scrapers,
    /// Connections of HTTP, by address.
    pub http_connections: Arc<PerAddress>,
    /// What is to be said of its having more rights than it needs.
    pub privileged: Option<String>,
    /// What a stand-in has received that belongs to the process.
    pub inbox: Option<Arc<Inbox>>,
    /// A link that can be cut; only the demo has one.
    pub weak_link: Option<Arc<WeakLink>>,
}

/// Who may read what is measured as text for machines.
#[derive(Debug, Default)]
pub enum Scrapers {
    /// Nobody.
    #[default]
    Nobody,
    /// Programs on the same machine.
    Loopback,
    /// Whoever brings the token with this hash (SHA-256).
    Token([u8; 32]),
}

/// Whoever looks at the broker and runs it.
#[derive(Debug)]
pub struct People {
    /// Who is signed in.
    pub sign_ins: SignIns,
    /// Checks of designs that are under way, by person.
    pub checks: Arc<Tickets<Arc<str>>>,
    /// Planned topics of which nothing comes, as they were found last.
    pub silences: Silences,
}

/// All of it.
#[derive(Clone, Debug)]
pub struct App {
    /// The broker of whoever asks.
    pub broker: Arc<Broker>,
    /// The process that it runs in.
    pub process: Arc<Process>,
    /// What was read of it lately.
    pub watch: Arc<Watch>,
    /// Alerts, and how they stand.
    pub alerts: Arc<Alerts>,
    /// Clients that people hold.
    pub desk: Arc<Desk>,
    /// Bridges to other brokers.
    pub bridges: Arc<Bridges>,
    /// Topics that are made of others.
    pub derived: Arc<DerivedTopics>,
    /// Whoever looks at it and runs it.
    pub people: Arc<People>,
}

impl FromRef<App> for Arc<DerivedTopics> {
    fn from_ref(app: &App) -> Self {
        Arc::clone(&app.derived)
    }
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

impl FromRef<App> for Arc<Alerts> {
    fn from_ref(app: &App) -> Self {
        Arc::clone(&app.alerts)
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

impl FromRef<App> for Arc<Bridges> {
    fn from_ref(app: &App) -> Self {
        Arc::clone(&app.bridges)
    }
}

impl FromRef<App> for Arc<Desk> {
    fn from_ref(app: &App) -> Self {
        Arc::clone(&app.desk)
    }
}
