//! How messaging commands connect.

use std::{
    io::{self, IsTerminal},
    path::PathBuf,
    time::Duration,
};

use bytes::Bytes;
use clap::{Args, ValueEnum};
use moorfall_client::{Arrivals, Client, Options, Remote, RemoteError, Scheme, Trust};
use moorfall_core::ADMINISTRATOR;
use moorfall_wire::ProtocolVersion;

use crate::{
    arguments::duration,
    local::{Local, Which},
    output::Failure,
    remotes::{Known, Remotes},
};

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

/// A name, or an address that can be one.
fn name_or_address(text: &str) -> Result<String, RemoteError> {
    if text.contains("://") {
        text.parse::<Remote>()?;
    }
    Ok(text.to_owned())
}

/// Where and how to connect.
#[derive(Clone, Debug, Args)]
#[command(next_help_heading = "Connection")]
pub(crate) struct Connection {
    /// Another broker: the name of a saved remote, or an address such as mqtts://[identity@]host[:port]
    ///
    /// Without it, the service on this machine, as its administrator.
    #[arg(long, value_name = "NAME|ADDRESS", env = "MOORFALL_REMOTE", value_parser = name_or_address)]
    remote: Option<String>,
    /// Certificates of the trusted authorities, PEM [default: those of this machine]
    #[arg(long, value_name = "FILE")]
    authority: Option<PathBuf>,
    /// Client certificate, PEM
    #[arg(long, value_name = "FILE", requires = "key")]
    certificate: Option<PathBuf>,
    /// Private key of the client certificate, PEM
    #[arg(long, value_name = "FILE", requires = "certificate")]
    key: Option<PathBuf>,
    /// Connect to the service on this machine as this identity
    #[arg(long = "as", value_name = "IDENTITY", conflicts_with = "remote")]
    identity: Option<String>,
    /// File whose first line is the password
    ///
    /// Otherwise it is taken from MOORFALL_PASSWORD, or asked for.
    #[arg(long, value_name = "FILE")]
    password_file: Option<PathBuf>,
    /// MQTT version
    #[arg(long, value_name = "VERSION", default_value = "5.0")]
    protocol: Protocol,
    /// Client identifier [default: assigned by the broker]
    #[arg(long, value_name = "ID", default_value = "", hide_default_value = true)]
    client_id: String,
    /// Time limit for connecting, for example 5s
    #[arg(long, value_name = "TIME", default_value = "10s", value_parser = duration)]
    connect_within: Duration,
    #[command(flatten)]
    which: Which,
}

impl Connection {
    /// Connects and signs in.
    pub(crate) async fn open(&self) -> Result<(Client, Arrivals), Failure> {
        Ok(Client::connect(&self.options()?).await?)
    }

    /// How to connect to what is meant.
    pub(crate) fn options(&self) -> Result<Options, Failure> {
        self.options_of(self.remote.as_deref())
    }

    /// Whether MQTT 5.0 is spoken.
    pub(crate) fn is_v5(&self) -> bool {
        self.protocol == Protocol::V5
    }

    /// The service on this machine, if it is meant and its administrator or a person asks.
    pub(crate) fn local(&self) -> Result<Option<Local>, Failure> {
        if self.remote.is_some() || self.identity.is_some() {
            return Ok(None);
        }
        self.which.find().map(Some)
    }

    /// How to connect to a remote of this name or address, or to the service on this machine.
    pub(crate) fn options_of(&self, name: Option<&str>) -> Result<Options, Failure> {
        let (remote, password, trust) = self.remote(name.or(self.remote.as_deref()))?;
        Ok(Options {
            password,
            trust,
            client_id: self.client_id.clone(),
            version: match self.protocol {
                Protocol::V311 => ProtocolVersion::V311,
                Protocol::V5 => ProtocolVersion::V5,
            },
            connect_within: self.connect_within,
            ..Options::new(remote)
        })
    }

    fn remote(&self, name: Option<&str>) -> Result<(Remote, Option<Bytes>, Trust), Failure> {
        if let Some(name) = name {
            let known = if name.contains("://") { None } else { Some(Remotes::load()?.get(name)?.clone()) };
            let remote: Remote = match &known {
                Some(known) => known.remote()?,
                None => name.parse()?,
            };
            let mut trust = known.as_ref().map(Known::trust).unwrap_or_default();
            trust.authority = self.authority.clone().or(trust.authority);
            trust.certificate = self.certificate.clone().or(trust.certificate);
            trust.key = self.key.clone().or(trust.key);
            let secret = known.and_then(|known| known.secret).filter(|_| self.password_file.is_none());
            let password = match (&remote.identity, secret) {
                (None, _) => None,
                (_, Some(secret)) => Some(Bytes::from(secret)),
                // The certificate says who it is.
                (Some(_), None) if trust.certificate.is_some() && self.password_file.is_none() => None,
                (Some(identity), None) => Some(self.password(identity)?),
            };
            return Ok((remote, password, trust));
        }
        let local = self.which.find()?;
        let identity = self.identity.clone().unwrap_or_else(|| ADMINISTRATOR.to_owned());
        let password = match &self.identity {
            Some(identity) => self.password(identity)?,
            None => Bytes::from(local.secret),
        };
        let remote = match local.service.mqtt {
            Some(address) => Remote::tcp(address.ip().to_string(), address.port(), Some(identity)),
            // Without a listener of plain TCP there is still the one of the API.
            None => Remote {
                scheme: Scheme::Ws,
                path: "/mqtt".into(),
                ..Remote::tcp(local.service.http.ip().to_string(), local.service.http.port(), Some(identity))
            },
        };
        Ok((remote, Some(password), Trust::default()))
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
        let text = std::fs::read_to_string(path).map_err(|error| {
            Failure(format!("{} can't be read: {error}. Check the path and its permissions.", path.display()))
        })?;
        return Ok(Bytes::from(text.lines().next().unwrap_or_default().to_owned()));
    }
    if let Ok(secret) = std::env::var(variable) {
        return Ok(Bytes::from(secret));
    }
    if !io::stdin().is_terminal() {
        return Err(Failure(format!("No terminal to ask for the password. Set {variable} or use {option} FILE.")));
    }
    rpassword::prompt_password(prompt)
        .map(Bytes::from)
        .map_err(|error| Failure(format!("The terminal can't be read: {error}.")))
}
