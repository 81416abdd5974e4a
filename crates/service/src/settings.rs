//! What the service needs to know to start.

use std::{
    collections::BTreeMap,
    net::{Ipv4Addr, SocketAddr},
    num::NonZeroU16,
    path::PathBuf,
    sync::Arc,
    time::Duration,
};

use moorfall_api::state::Scrapers;
use moorfall_broker::listeners::settings::{DEFAULT_LISTENER, ListenerSettings};
use moorfall_links::{
    Courier, CourierSettings, HookSettings, Inbox, MailSecurity, MailSettings, SettingsError, WeakLink,
};
use moorfall_watch::history::Keep;
use serde::Deserialize;
use sha2::{Digest, Sha256};

/// Settings of the process. Everything has a default but the data folder.
#[derive(Clone)]
pub struct Settings {
    /// The folder with everything that the service keeps.
    pub data: PathBuf,
    /// Where MQTT clients connect.
    pub listeners: Vec<ListenerSettings>,
    /// Where the console and the API are; port 0 takes any.
    pub http: SocketAddr,
    /// Names by which browsers reach the service, besides those of loopback and addresses: `console.example`, or with a
    /// scheme where a proxy brings TLS, `https://console.example`.
    pub hosts: Vec<String>,
    /// A PostgreSQL server to use instead of a private one; it may hold a password.
    pub database: Option<String>,
    /// A file or a folder of files, which become the first revision of the design. Later ones are applied.
    pub blueprint: Option<PathBuf>,
    /// Whether clients without identity may do everything.
    pub open: bool,
    /// Who the process becomes once its ports are open, when it is started as root.
    pub user: Option<String>,
    /// Limits that differ from the defaults, by name.
    pub limits: toml::Table,
    /// Who is told what is measured, and how.
    pub readings: ReadingsSettings,
    /// For how long what was measured is kept.
    pub history: HistorySettings,
    /// How notices of alerts are sent.
    pub notices: NoticeSettings,
    /// Where files lie that bridges of the blueprint name; `bridges` in the data folder if absent.
    pub bridge_files: Option<PathBuf>,
    /// The inbox of a stand-in that the console shows; only the demo has one.
    pub inbox: Option<Arc<Inbox>>,
    /// A link to another broker that can be cut; only the demo has one.
    pub weak_link: Option<Arc<WeakLink>>,
    /// Whether commands find the service without being told its data folder.
    pub is_announced: bool,
}

/// Who is told what is measured, and how: the section `[readings]` of the configuration.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(default, rename_all = "kebab-case", deny_unknown_fields)]
pub struct ReadingsSettings {
    /// Seconds between two times that everything is published under `$SYS/moorfall`; 0 is never.
    pub topic_seconds: u32,
    /// Who may read the page for machines, `/metrics`.
    pub page: Page,
    /// A file with the token that the page asks for.
    pub token_file: Option<PathBuf>,
}

impl Default for ReadingsSettings {
    fn default() -> Self {
        Self { topic_seconds: 10, page: Page::Off, token_file: None }
    }
}

/// Who may read the page for machines.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Page {
    /// Nobody.
    #[default]
    Off,
    /// Programs on the same machine.
    Loopback,
    /// Whoever has the token.
    Token,
}

/// For how long what was measured is kept: the section `[history]` of the configuration.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(default, rename_all = "kebab-case", deny_unknown_fields)]
pub struct HistorySettings {
    /// Days that spans of ten seconds are kept.
    pub ten_second_days: NonZeroU16,
    /// Days that minutes are kept.
    pub minute_days: NonZeroU16,
    /// Days that quarters of an hour are kept.
    pub quarter_hour_days: NonZeroU16,
    /// Days that events are kept.
    pub event_days: NonZeroU16,
}

impl Default for HistorySettings {
    fn default() -> Self {
        let days = |days| NonZeroU16::new(days).unwrap_or(NonZeroU16::MIN);
        Self { ten_second_days: days(2), minute_days: days(14), quarter_hour_days: days(400), event_days: days(14) }
    }
}

impl HistorySettings {
    /// How long events are kept.
    pub(crate) fn events(&self) -> Duration {
        Duration::from_secs(u64::from(self.event_days.get()) * 86_400)
    }
}

impl From<HistorySettings> for Keep {
    fn from(settings: HistorySettings) -> Self {
        let days = |days: NonZeroU16| Duration::from_secs(u64::from(days.get()) * 86_400);
        Self {
            ten_seconds: days(settings.ten_second_days),
            minutes: days(settings.minute_days),
            quarter_hours: days(settings.quarter_hour_days),
        }
    }
}

/// How notices of alerts are sent: the section `[notices]` of the configuration.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(default, rename_all = "kebab-case", deny_unknown_fields)]
pub struct NoticeSettings {
    /// The server that takes e-mail.
    pub mail: Option<MailServer>,
    /// Files with the secrets that web hooks are signed with, by contact.
    pub hook_secrets: BTreeMap<String, PathBuf>,
    /// Certificates of the authorities that web hooks are trusted by, PEM.
    pub hook_authority: Option<PathBuf>,
    /// Whether web hooks may be in private networks.
    pub private_addresses: bool,
}

/// A server that takes e-mail: the section `[notices.mail]` of the configuration.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct MailServer {
    /// Its name.
    pub server: String,
    /// Its port; by default that of the way in which it is secured.
    pub port: Option<u16>,
    /// How it is secured.
    #[serde(default)]
    pub security: Security,
    /// The name to sign in with.
    pub user: Option<String>,
    /// A file with the password.
    pub password_file: Option<PathBuf>,
    /// Who writes.
    pub from: String,
    /// Certificates of the authorities that it is trusted by, PEM.
    pub authority: Option<PathBuf>,
}

/// How a server that takes e-mail is secured.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Security {
    /// The connection is secured before anything is said (RFC 3207).
    #[default]
    Starttls,
    /// TLS from the first byte on (RFC 8314).
    Tls,
}

impl From<&MailServer> for MailSettings {
    fn from(settings: &MailServer) -> Self {
        // RFC 6409 §3.1, RFC 8314 §7.3.
        let (security, usual) = match settings.security {
            Security::Starttls => (MailSecurity::Starttls, 587),
            Security::Tls => (MailSecurity::Tls, 465),
        };
        Self {
            server: settings.server.clone(),
            port: settings.port.unwrap_or(usual),
            security,
            user: settings.user.clone(),
            password_file: settings.password_file.clone(),
            from: settings.from.clone(),
            authority: settings.authority.clone(),
        }
    }
}

impl NoticeSettings {
    /// Whoever brings notices.
    pub(crate) fn courier(&self) -> Result<Courier, SettingsError> {
        Courier::new(&CourierSettings {
            mail: self.mail.as_ref().map(MailSettings::from),
            hooks: HookSettings {
                secrets: self.hook_secrets.clone(),
                private_addresses: self.private_addresses,
                authority: self.hook_authority.clone(),
            },
        })
    }
}

/// The least length of a token, bytes.
const TOKEN: usize = 16;

/// Why the page for machines can't be offered.
#[derive(Debug, thiserror::Error)]
pub enum ReadingsError {
    /// No file is named.
    #[error("Section `[readings]`: `page = \"token\"` needs `token-file`, a file with the token.")]
    NoFile,
    /// The file can't be read.
    #[error("Section `[readings]`: the token file {path} can't be read: {error}. Check the path and its permissions.")]
    File {
        /// Which.
        path: PathBuf,
        /// Why.
        #[source]
        error: std::io::Error,
    },
    /// The token is easily guessed.
    #[error("Section `[readings]`: the token in {0} has fewer than {TOKEN} characters. Use a longer one.")]
    Short(PathBuf),
}

impl ReadingsSettings {
    /// Who may read the page.
    pub(crate) fn scrapers(&self) -> Result<Scrapers, ReadingsError> {
        let path = match (self.page, &self.token_file) {
            (Page::Off, _) => return Ok(Scrapers::Nobody),
            (Page::Loopback, _) => return Ok(Scrapers::Loopback),
            (Page::Token, Some(path)) => path.clone(),
            (Page::Token, None) => return Err(ReadingsError::NoFile),
        };
        match std::fs::read_to_string(&path) {
            Ok(text) if text.trim().len() < TOKEN => Err(ReadingsError::Short(path)),
            Ok(text) => Ok(Scrapers::Token(Sha256::digest(text.trim().as_bytes()).into())),
            Err(error) => Err(ReadingsError::File { path, error }),
        }
    }
}

impl Settings {
    /// The default port of MQTT (registered with IANA).
    pub const MQTT_PORT: u16 = 1883;
    /// The default port of the console and the API.
    pub const HTTP_PORT: u16 = 7070;
    /// The defaults, on loopback.
    pub fn new(data: PathBuf) -> Self {
        let mqtt = SocketAddr::from((Ipv4Addr::LOCALHOST, Self::MQTT_PORT));
        Self {
            data,
            listeners: vec![ListenerSettings::tcp(DEFAULT_LISTENER, mqtt)],
            http: SocketAddr::from((Ipv4Addr::LOCALHOST, Self::HTTP_PORT)),
            hosts: Vec::new(),
            database: None,
            blueprint: None,
            open: false,
            user: None,
            limits: toml::Table::new(),
            readings: ReadingsSettings::default(),
            history: HistorySettings::default(),
            notices: NoticeSettings::default(),
            bridge_files: None,
            inbox: None,
            weak_link: None,
            is_announced: true,
        }
    }
}

impl std::fmt::Debug for Settings {
    /// Leaves the database address out: it may hold a password.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Settings")
            .field("data", &self.data)
            .field("listeners", &self.listeners)
            .field("http", &self.http)
            .field("hosts", &self.hosts)
            .field("blueprint", &self.blueprint)
            .field("open", &self.open)
            .field("user", &self.user)
            .field("limits", &self.limits)
            .field("readings", &self.readings)
            .field("history", &self.history)
            .field("notices", &self.notices)
            .finish_non_exhaustive()
    }
}
