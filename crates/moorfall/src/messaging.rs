//! How messaging commands connect.

use std::{
    io::{self, IsTerminal},
    path::PathBuf,
    time::Duration,
};

use bytes::Bytes;
use clap::{Args, ValueEnum};
use moorfall_client::{Arrivals, Client, Options, Remote};
use moorfall_service::ADMINISTRATOR;
use moorfall_wire::ProtocolVersion;

use crate::{commands::parse_span, local::Which, output::Failure};

/// The environment's place for a password.
pub(crate) const PASSWORD: &str = "MOORFALL_PASSWORD";

/// A protocol version as it is typed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Protocol {
    /// MQTT 3.1.1
    #[value(name = "3.1.1")]
    V311,
    /// MQTT 5.0
    #[value(name = "5.0", alias = "5")]
    V5,
}

/// Where and how to connect.
#[derive(Clone, Debug, Args)]
#[command(next_help_heading = "Connection")]
pub(crate) struct Connection {
    /// Another broker: mqtt://[identity@]host[:port]
    ///
    /// Left out, it is the service on this machine, as its administrator.
    #[arg(long, value_name = "URL", env = "MOORFALL_REMOTE")]
    remote: Option<Remote>,
    /// Sign in to the service on this machine as this identity
    #[arg(long = "as", value_name = "IDENTITY", conflicts_with = "remote")]
    identity: Option<String>,
    /// File whose first line is the password
    ///
    /// Else it is taken from MOORFALL_PASSWORD, or asked for.
    #[arg(long, value_name = "FILE")]
    password_file: Option<PathBuf>,
    /// Version of MQTT
    #[arg(long, value_name = "VERSION", default_value = "5.0")]
    protocol: Protocol,
    /// Client identifier; left out, the broker assigns one
    #[arg(long, value_name = "ID", default_value = "", hide_default_value = true)]
    client_id: String,
    /// How long connecting may take, for example 5s
    #[arg(long, value_name = "TIME", default_value = "10s", value_parser = parse_span)]
    patience: Duration,
    #[command(flatten)]
    which: Which,
}

impl Connection {
    /// Connects and signs in.
    pub(crate) async fn open(&self) -> Result<(Client, Arrivals), Failure> {
        let (remote, password) = self.remote()?;
        let options = Options {
            password,
            client_id: self.client_id.clone(),
            version: match self.protocol {
                Protocol::V311 => ProtocolVersion::V311,
                Protocol::V5 => ProtocolVersion::V5,
            },
            patience: self.patience,
            ..Options::new(remote)
        };
        Ok(Client::connect(&options).await?)
    }

    fn remote(&self) -> Result<(Remote, Option<Bytes>), Failure> {
        if let Some(remote) = &self.remote {
            let password = remote.identity.as_deref().map(|identity| self.password(identity)).transpose()?;
            return Ok((remote.clone(), password));
        }
        let local = self.which.find()?;
        let Some(address) = local.service.mqtt else {
            return Err(Failure(
                "the service on this machine has no listener of plain TCP, which is all that commands speak yet; add one \
                 for them: mqtt = \"127.0.0.1:1883\" in moorfall.toml"
                    .into(),
            ));
        };
        let (host, port) = (address.ip().to_string(), address.port());
        let identity = self.identity.clone().unwrap_or_else(|| ADMINISTRATOR.to_owned());
        let password = match &self.identity {
            Some(identity) => self.password(identity)?,
            None => Bytes::from(local.secret),
        };
        Ok((Remote { identity: Some(identity), host, port }, Some(password)))
    }

    fn password(&self, identity: &str) -> Result<Bytes, Failure> {
        let prompt = format!("Password of {identity}: ");
        read_password(self.password_file.as_deref(), PASSWORD, "--password-file", &prompt)
    }
}

/// A secret from a file, else from an environment variable, else from the keyboard without echo. `option` is the one
/// that names the file.
pub(crate) fn read_password(
    file: Option<&std::path::Path>,
    variable: &str,
    option: &str,
    prompt: &str,
) -> Result<Bytes, Failure> {
    if let Some(path) = file {
        let text = std::fs::read_to_string(path)
            .map_err(|error| Failure(format!("{} can't be read: {error}", path.display())))?;
        return Ok(Bytes::from(text.lines().next().unwrap_or_default().to_owned()));
    }
    if let Ok(secret) = std::env::var(variable) {
        return Ok(Bytes::from(secret));
    }
    if !io::stdin().is_terminal() {
        return Err(Failure(format!(
            "a secret is needed and nobody can be asked; give it by {variable} or {option} FILE"
        )));
    }
    rpassword::prompt_password(prompt)
        .map(Bytes::from)
        .map_err(|error| Failure(format!("nothing can be read from the terminal: {error}")))
}
