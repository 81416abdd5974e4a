//! The log, on standard error.

use std::io::IsTerminal;

use clap::ValueEnum;
use serde::Deserialize;
use tracing_subscriber::{EnvFilter, fmt};

/// How the log is written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum LogFormat {
    /// A line of text for each event
    #[default]
    Text,
    /// A JSON object on a line for each event
    Json,
}

/// Starts the log. `MOORFALL_LOG` chooses what is logged, for example `debug` or `moorfall_broker=debug`.
pub(crate) fn start(format: LogFormat, default: &str) {
    let filter =
        EnvFilter::try_from_env("MOORFALL_LOG").unwrap_or_else(|_| EnvFilter::new(format!("{default},sqlx=warn")));
    let colour = std::io::stderr().is_terminal() && std::env::var_os("NO_COLOR").is_none();
    let log = fmt().with_env_filter(filter).with_writer(std::io::stderr).with_target(false);
    match format {
        LogFormat::Text => log.with_ansi(colour).init(),
        LogFormat::Json => log.json().flatten_event(true).init(),
    }
}
