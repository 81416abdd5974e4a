//! Settings from the command line, the environment, `moorfall.toml` and the defaults, in this order.

use std::{collections::BTreeMap, io::ErrorKind, net::SocketAddr, path::PathBuf};

use clap::Args;
use moorfall_broker::listeners::settings::ListenerSettings;
use moorfall_cli::output::Failure;
use moorfall_service::{HistorySettings, NoticeSettings, ReadingsSettings, Settings};
use serde::Deserialize;

use crate::logging::LogFormat;

/// Settings of the service. Each can be set in the configuration file under the same name.
#[derive(Clone, Default, Args, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub(crate) struct ServiceOptions {
    /// Data folder of the service
    #[arg(long, value_name = "DIR", env = "MOORFALL_DATA")]
    pub(crate) data: Option<PathBuf>,
    /// Address for MQTT clients, plain TCP [default: 127.0.0.1:1883, unless the file names listeners]
    #[arg(long, value_name = "ADDRESS", env = "MOORFALL_MQTT")]
    pub(crate) mqtt: Option<SocketAddr>,
    /// Address of the console and the API [default: 127.0.0.1:7070]
    #[arg(long, value_name = "ADDRESS", env = "MOORFALL_HTTP")]
    pub(crate) http: Option<SocketAddr>,
    /// Use this PostgreSQL database instead of a private one
    #[arg(long, value_name = "URL", env = "MOORFALL_DATABASE", hide_env_values = true)]
    pub(crate) database: Option<String>,
    /// Blueprint of the broker: a file, or a folder of files
    #[arg(long, value_name = "FILE", env = "MOORFALL_BLUEPRINT")]
    pub(crate) blueprint: Option<PathBuf>,
    /// Let anonymous clients do everything; only on loopback addresses
    #[arg(long, env = "MOORFALL_OPEN", num_args = 0..=1, default_missing_value = "true", require_equals = true,
        value_parser = clap::builder::BoolishValueParser::new())]
    pub(crate) open: Option<bool>,
    /// When started as root: run as this user once the ports are open; it becomes the owner of the data folder
    #[arg(long, value_name = "NAME", env = "MOORFALL_USER")]
    pub(crate) user: Option<String>,
    /// Format of the log on standard error [default: text]
    #[arg(long, value_name = "FORMAT", env = "MOORFALL_LOG_FORMAT")]
    pub(crate) log_format: Option<LogFormat>,
    /// Names by which browsers reach the console, only from the file.
    #[arg(skip)]
    #[serde(default)]
    pub(crate) hosts: Vec<String>,
    /// Listeners, only from the file.
    #[arg(skip)]
    #[serde(default)]
    pub(crate) listeners: Vec<ListenerSettings>,
    /// Limits by name, only from the file.
    #[arg(skip)]
    #[serde(default)]
    pub(crate) limits: toml::Table,
    /// Who is told what is measured, only from the file.
    #[arg(skip)]
    #[serde(default)]
    pub(crate) readings: ReadingsSettings,
    /// For how long what was measured is kept, only from the file.
    #[arg(skip)]
    #[serde(default)]
    pub(crate) history: HistorySettings,
    /// Where files lie that bridges name, only from the file.
    #[arg(skip)]
    #[serde(default)]
    pub(crate) bridge_files: Option<PathBuf>,
    /// How notices of alerts are sent, only from the file.
    #[arg(skip)]
    #[serde(default)]
    pub(crate) notices: NoticeSettings,
}

impl std::fmt::Debug for ServiceOptions {
    /// Leaves the database address out: it may hold a password.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("ServiceOptions").field("data", &self.data).finish_non_exhaustive()
    }
}

/// The name of the configuration file in the data folder.
const FILE: &str = "moorfall.toml";

impl ServiceOptions {
    /// Fills what is missing from the file: the one that is named, or `moorfall.toml` in the data folder.
    pub(crate) fn with_file(self, file: Option<PathBuf>) -> Result<Self, Failure> {
        let named = file.is_some();
        let path = file.unwrap_or_else(|| self.data.clone().unwrap_or_else(default_data).join(FILE));
        let text = match std::fs::read_to_string(&path) {
            Ok(text) => text,
            Err(error) if !named && matches!(error.kind(), ErrorKind::NotFound | ErrorKind::NotADirectory) => {
                return Ok(self);
            }
            Err(error) => {
                return Err(Failure(format!(
                    "The configuration {} can't be read: {error}. Check the path and its permissions, or give another \
                     with --config FILE.",
                    path.display()
                )));
            }
        };
        let other: Self = toml::from_str(&text)
            .map_err(|error| Failure(format!("The configuration {} has an error: {error}", path.display())))?;
        if let Some((line, words)) = limit_fault(&text) {
            let path = path.display();
            return Err(Failure(format!("The configuration {path} has an error: line {line}, limits: {words}.")));
        }
        Ok(Self {
            data: self.data.or(other.data),
            mqtt: self.mqtt.or(other.mqtt),
            http: self.http.or(other.http),
            database: self.database.or(other.database),
            blueprint: self.blueprint.or(other.blueprint),
            open: self.open.or(other.open),
            user: self.user.or(other.user),
            log_format: self.log_format.or(other.log_format),
            hosts: other.hosts,
            listeners: other.listeners,
            limits: other.limits,
            readings: other.readings,
            history: other.history,
            notices: other.notices,
            bridge_files: other.bridge_files,
        })
    }

    /// The settings, with defaults for what nobody said.
    pub(crate) fn settings(self) -> Settings {
        let defaults = Settings::new(self.data.unwrap_or_else(default_data));
        let plain = self
            .mqtt
            .map(|address| ListenerSettings::tcp(moorfall_broker::listeners::settings::DEFAULT_LISTENER, address));
        let mut listeners: Vec<_> = plain.into_iter().chain(self.listeners).collect();
        if listeners.is_empty() {
            listeners = defaults.listeners;
        }
        Settings {
            listeners,
            http: self.http.unwrap_or(defaults.http),
            hosts: self.hosts,
            database: self.database,
            blueprint: self.blueprint,
            open: self.open.unwrap_or(defaults.open),
            user: self.user,
            limits: self.limits,
            readings: self.readings,
            history: self.history,
            bridge_files: self.bridge_files,
            notices: self.notices,
            data: defaults.data,
            inbox: defaults.inbox,
            weak_link: defaults.weak_link,
            is_announced: defaults.is_announced,
        }
    }
}

/// The limits of a configuration file, where each stands.
#[derive(Default, Deserialize)]
#[serde(default)]
struct Placed {
    limits: BTreeMap<toml::Spanned<String>, toml::Value>,
    listeners: Vec<Placed>,
}

/// The first limit of the file that can't be: the line and what is wrong.
fn limit_fault(text: &str) -> Option<(usize, String)> {
    let placed: Placed = toml::from_str(text).ok()?;
    let all = std::iter::once(&placed).chain(&placed.listeners).flat_map(|place| &place.limits);
    all.filter_map(|(name, value)| {
        let words = moorfall_broker::listeners::settings::limit_fault(name.get_ref(), value)?;
        Some((text[..name.span().start].matches('\n').count() + 1, words))
    })
    .min()
}

/// `/var/lib/moorfall` for root; else `$XDG_DATA_HOME/moorfall`, by default below `~/.local/share`.
pub(crate) fn default_data() -> PathBuf {
    if nix::unistd::Uid::effective().is_root() {
        return PathBuf::from("/var/lib/moorfall");
    }
    let share = std::env::var_os("XDG_DATA_HOME").filter(|path| !path.is_empty()).map(PathBuf::from);
    let share = share.or_else(|| Some(PathBuf::from(std::env::var_os("HOME")?).join(".local/share")));
    share.map_or_else(|| PathBuf::from("/var/lib/moorfall"), |share| share.join("moorfall"))
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test may panic")]

    use moorfall_broker::listeners::settings::{limits_of, service_limits};

    use super::*;

    #[test]
    fn what_is_said_wins_over_the_file_and_the_file_over_the_defaults() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("other.toml");
        std::fs::write(&file, "mqtt = \"127.0.0.1:2883\"\nhttp = \"127.0.0.1:8070\"\nlog-format = \"json\"\n").unwrap();
        let said = ServiceOptions { mqtt: Some("127.0.0.1:3883".parse().unwrap()), ..ServiceOptions::default() };
        let options = said.with_file(Some(file)).unwrap();
        assert_eq!(options.log_format, Some(LogFormat::Json));
        let settings = options.settings();
        assert_eq!((settings.listeners[0].address.port(), settings.http.port(), settings.open), (3883, 8070, false));
    }

    #[test]
    fn listeners_and_limits_are_read_from_the_file() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("other.toml");
        let text = r#"
            [limits]
            packet-bytes = 65536
            [[listeners]]
            name = "field"
            address = "127.0.0.1:8883"
            transport = "tls"
            anonymous = true
            limits = { connections = 50, queue-policy = "drop-oldest" }
            tls = { certificate = "field.pem", key = "field.key", client-certificates = "required" }
        "#;
        std::fs::write(&file, text).unwrap();
        let settings = ServiceOptions::default().with_file(Some(file)).unwrap().settings();
        assert_eq!(settings.listeners.len(), 1, "the usual one is not opened beside it");
        let limits = limits_of(&settings.listeners[0], &settings.limits).unwrap();
        assert_eq!((limits.connections, limits.packet_bytes), (50, 65_536));
        assert_eq!(service_limits(&settings.limits).unwrap().connections, 10_000);
        for (wrong, words) in [
            ("conections = 1", "unknown field `conections`"),
            ("connections = 0", "connections is 0; it must be from 1 to 100,000,000"),
            ("queue-policy = \"drop\"", "unknown variant `drop`"),
        ] {
            let limits = toml::from_str(wrong).unwrap();
            let error = service_limits(&limits).unwrap_err().to_string();
            assert!(error.contains(words), "{error}");
        }
    }

    #[test]
    fn a_fault_in_the_file_is_pointed_at() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join(FILE), "http = \"127.0.0.1:8070\"\nmqqt = \"127.0.0.1:1883\"\n").unwrap();
        let said = ServiceOptions { data: Some(folder.path().into()), ..ServiceOptions::default() };
        let failure = said.with_file(None).unwrap_err();
        assert!(failure.0.contains("line 2") && failure.0.contains("mqqt"), "{}", failure.0);
        let listener = "[[listeners]]\nname = \"field\"\naddress = \"127.0.0.1:0\"\n";
        for (text, line, words) in [
            ("[limits]\nsessions = 5\nconections = 1\n".to_owned(), "line 3", "unknown field `conections`"),
            ("[limits]\nconnections = 0\n".to_owned(), "line 2", "connections is 0; it must be from 1 to 100,000,000"),
            (format!("{listener}limits = {{ queue-policy = \"drop\" }}\n"), "line 4", "unknown variant `drop`"),
            (format!("{listener}[listeners.limits]\nsesions = 1\n"), "line 5", "unknown field `sesions`"),
        ] {
            std::fs::write(folder.path().join(FILE), text).unwrap();
            let said = ServiceOptions { data: Some(folder.path().into()), ..ServiceOptions::default() };
            let failure = said.with_file(None).unwrap_err().0;
            assert!(failure.contains(FILE) && failure.contains(line) && failure.contains(words), "{failure}");
        }
    }
}
