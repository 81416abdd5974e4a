//! `moorfall authorities`

use std::path::PathBuf;

use clap::{Args, Subcommand};
use moorfall_contract::identities::AuthorityView;
use reqwest::Method;
use serde_json::json;

use crate::{
    local::{Local, Which},
    output::{self, Done, Failure, ago, printable, table},
};

/// What the command takes.
#[derive(Debug, Args)]
pub struct Arguments {
    #[command(subcommand)]
    verb: Verb,
    #[command(flatten)]
    which: Which,
}

#[derive(Debug, Subcommand)]
enum Verb {
    /// List authorities
    ///
    /// Listeners that use client certificates and name no authorities of their own in moorfall.toml trust these.
    List {
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Add an authority; it is trusted from the next connection on
    Add {
        /// Name
        name: String,
        /// File with its certificate in PEM format, for example authority.pem
        file: PathBuf,
    },
    /// Remove an authority; sessions authenticated with client certificates end, and clients of other authorities can return
    Remove {
        /// Name
        name: String,
    },
}

/// Carries out the command.
pub async fn run(arguments: Arguments) -> Done {
    let local = arguments.which.find()?;
    match arguments.verb {
        Verb::List { json } => list(&local, json).await,
        Verb::Add { name, file } => {
            let pem = std::fs::read_to_string(&file).map_err(|error| {
                Failure(format!("{} can't be read: {error}. Check the path and its permissions.", file.display()))
            })?;
            let added: AuthorityView = local.post(&["authorities"], &json!({ "name": name, "pem": pem })).await?;
            output::finish(output::line(format_args!(
                "{} added: trusted until {}, {}",
                printable(&added.name),
                added.ends.date(),
                printable(&added.subject)
            )))
        }
        Verb::Remove { name } => {
            local.change(Method::DELETE, &["authorities", &name], None::<&()>).await?;
            output::finish(output::line(format_args!("{} is no longer trusted", printable(&name))))
        }
    }
}

async fn list(local: &Local, as_json: bool) -> Done {
    let authorities: Vec<AuthorityView> = local.get(&["authorities"], &[]).await?;
    if as_json {
        return output::json(&authorities);
    }
    if authorities.is_empty() {
        return output::finish(output::line("No authorities. `moorfall authorities add NAME FILE` adds one."));
    }
    let rows = authorities.iter().map(|authority| {
        let short = authority.fingerprint.get(..16).unwrap_or_default();
        vec![
            authority.name.clone(),
            authority.subject.clone(),
            authority.ends.date().to_string(),
            ago(authority.added_at),
            format!("{short}…"),
        ]
    });
    output::finish(output::line(table(&["NAME", "SUBJECT", "EXPIRES", ">ADDED", "SHA-256"], rows.collect())))
}
