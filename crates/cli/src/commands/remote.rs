//! `moorfall remote`: brokers known by name.

use std::{
    path::{Path, PathBuf},
    time::Duration,
};

use anstyle::{AnsiColor, Style};
use clap::{Args, Subcommand};
use moorfall_client::{Examination, Remote, examine};
use serde_json::json;

use crate::{
    arguments::Misread,
    messaging::{Connection, PASSWORD, read_password},
    output::{self, Done, Failure, indented, plural, printable, table},
    remotes::{Known, Remotes},
};

const GOOD: Style = AnsiColor::Green.on_default().bold();
const BAD: Style = AnsiColor::Red.on_default().bold();

/// What the command takes.
#[derive(Debug, Args)]
pub struct Arguments {
    #[command(subcommand)]
    verb: Verb,
}

#[derive(Debug, Subcommand)]
enum Verb {
    /// Save a broker under a name, for `--remote NAME`; replaces one of the same name
    ///
    /// Credentials are stored in a file that only you can read, and are never printed.
    Set {
        /// Name
        #[arg(value_parser = name)]
        name: String,
        /// mqtt://, mqtts://, ws:// or wss://[identity@]host[:port][/path]
        address: Remote,
        /// Certificates of the trusted authorities, PEM [default: those of this machine]
        #[arg(long, value_name = "FILE")]
        authority: Option<PathBuf>,
        /// Client certificate, PEM
        #[arg(long, value_name = "FILE", requires = "key")]
        certificate: Option<PathBuf>,
        /// Private key of the client certificate, PEM
        #[arg(long, value_name = "FILE", requires = "certificate")]
        key: Option<PathBuf>,
        /// File whose first line is the password
        ///
        /// Otherwise it is taken from MOORFALL_PASSWORD, or asked for.
        #[arg(long, value_name = "FILE")]
        password_file: Option<PathBuf>,
        /// Do not store a password; it is asked for each time
        #[arg(long, conflicts_with = "password_file")]
        no_password: bool,
    },
    /// List saved brokers
    List {
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Remove a saved broker with its credentials
    Remove {
        /// Name
        name: String,
    },
    /// Test a broker step by step: name, port, TLS, credentials, features, round trip
    Test {
        /// Print JSON
        #[arg(long)]
        json: bool,
        /// Name or address [default: the service on this machine]
        name: Option<String>,
        #[command(flatten)]
        connection: Connection,
    },
}

/// A name that is no address.
fn name(text: &str) -> Result<String, Misread> {
    let good = !text.is_empty() && text.len() <= 64 && text.chars().all(|c| c.is_alphanumeric() || "-_.".contains(c));
    if good { Ok(text.to_owned()) } else { Err("write up to 64 letters, digits, - _ and .".into()) }
}

/// Carries out the command.
pub async fn run(arguments: Arguments) -> Done {
    match arguments.verb {
        Verb::Set { name, address, authority, certificate, key, password_file, no_password } => {
            let mut remotes = Remotes::load()?;
            let secret = match &address.identity {
                Some(identity) if !no_password && (certificate.is_none() || password_file.is_some()) => {
                    let prompt = format!("Password of {identity}: ");
                    let bytes = read_password(password_file.as_deref(), PASSWORD, "--password-file", &prompt)?;
                    Some(
                        String::from_utf8(bytes.to_vec())
                            .map_err(|_| Failure("The password is not UTF-8 text.".into()))?,
                    )
                }
                _ => None,
            };
            let known = Known {
                address: address.to_string(),
                authority: authority.as_deref().map(absolute).transpose()?,
                certificate: certificate.as_deref().map(absolute).transpose()?,
                key: key.as_deref().map(absolute).transpose()?,
                secret,
            };
            known.trust().check()?;
            let is_near = ["localhost", "127.0.0.1", "::1"].contains(&address.host.as_str());
            if known.secret.is_some() && !address.scheme.is_secure() && !is_near {
                output::remark("without TLS the password crosses the network unencrypted; use mqtts:// or wss://");
            }
            remotes.known.insert(name.clone(), known);
            remotes.save()?;
            output::finish(output::line(format_args!(
                "{name} saved as {address}; `moorfall remote test {name}` tests it"
            )))
        }
        Verb::List { json } => list(json),
        Verb::Remove { name } => {
            let mut remotes = Remotes::load()?;
            remotes.get(&name)?;
            remotes.known.remove(&name);
            remotes.save()?;
            output::finish(output::line(format_args!("{} removed", printable(&name))))
        }
        Verb::Test { name, json, connection } => {
            let options = connection.options_of(name.as_deref())?;
            let found = examine(&options).await;
            let told =
                if json { as_json(&options.remote, &found) } else { output::finish(print(&options.remote, &found)) };
            told?;
            let failed = found.steps.iter().find(|step| step.found.is_err());
            failed.map_or(Ok(()), |step| Err(Failure(format!("{} failed at: {}.", options.remote, step.stage))))
        }
    }
}

/// The same file wherever a later command is run.
fn absolute(path: &Path) -> Result<PathBuf, Failure> {
    path.canonicalize().map_err(|error| {
        Failure(format!("{} can't be read: {error}. Check the path and its permissions.", path.display()))
    })
}

fn list(as_json: bool) -> Done {
    let remotes = Remotes::load()?;
    let signs_in = |known: &Known| match (&known.secret, &known.certificate) {
        (Some(_), None) => "password",
        (None, Some(_)) => "certificate",
        (Some(_), Some(_)) => "password, certificate",
        (None, None) => "",
    };
    if as_json {
        let all: Vec<_> = remotes
            .known
            .iter()
            .map(|(name, known)| {
                json!({
                    "name": name,
                    "address": known.address,
                    "authority": known.authority,
                    "certificate": known.certificate,
                    "has_password": known.secret.is_some(),
                })
            })
            .collect();
        return output::json(&all);
    }
    if remotes.known.is_empty() {
        return output::finish(output::line("No remotes saved yet. `moorfall remote set NAME ADDRESS` saves one."));
    }
    let rows = remotes
        .known
        .iter()
        .map(|(name, known)| vec![name.clone(), known.address.clone(), signs_in(known).to_owned()])
        .collect();
    output::finish(output::line(table(&["NAME", "ADDRESS", "CREDENTIALS"], rows)))
}

fn millis(took: Option<Duration>) -> String {
    took.map_or_else(String::new, |took| format!(" ({:.1} ms)", took.as_secs_f64() * 1_000.0))
}

fn print(remote: &Remote, found: &Examination) -> std::io::Result<()> {
    output::line(format_args!("{remote}"))?;
    for step in &found.steps {
        let (style, mark, words) = match &step.found {
            Ok(found) => (GOOD, "passed", found.to_string()),
            Err(why) => (BAD, "failed", why.to_string()),
        };
        let took = millis(step.took);
        let text = indented(&format!("{}{took}", printable(&words)), 22);
        output::line(format_args!("  {style}{mark:6}{style:#}  {:12}{}", step.stage, text.trim_start()))?;
    }
    let good = found.steps.iter().filter(|step| step.found.is_ok()).count();
    output::line(format_args!("{} passed", plural(good as u64, "step", "steps")))
}

fn as_json(remote: &Remote, found: &Examination) -> Done {
    let steps: Vec<_> = found
        .steps
        .iter()
        .map(|step| {
            let words = step.found.as_ref().map_or_else(ToString::to_string, ToString::to_string);
            let millis = step.took.map(|took| took.as_secs_f64() * 1_000.0);
            json!({ "step": step.stage.to_string(), "passed": step.found.is_ok(), "explanation": words, "milliseconds": millis })
        })
        .collect();
    output::json(&json!({ "address": remote.to_string(), "passed": found.passed(), "steps": steps }))
}
