//! `moorfall authorities`

use std::path::PathBuf;

use clap::{Args, Subcommand};
use moorfall_contract::identities::AuthorityView;
use reqwest::Method;
use serde_json::json;

use crate::{
    local::{Local, Which},
    output::{self, Done, Failure, printable, since, table},
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
    /// List the authorities that were given to the service
    ///
    /// Listeners that ask for client certificates and name no authorities of their own in moorfall.toml trust them.
    List {
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Trust an authority, from the next connection on
    Add {
        /// What to call it
        name: String,
        /// File with its certificate in PEM form, such as authority.pem
        file: PathBuf,
    },
    /// Trust an authority no more; sessions that rest on client certificates end, and those of others may return
    Remove {
        /// Its name
        name: String,
    },
}

/// Carries out the command.
pub async fn run(arguments: Arguments) -> Done {
    let local = arguments.which.find()?;
    match arguments.verb {
        Verb::List { json } => list(&local, json).await,
        Verb::Add { name, file } => {
            let pem = std::fs::read_to_string(&file)
                .map_err(|error| Failure(format!("{} can't be read: {error}", file.display())))?;
            let added: AuthorityView = local.post(&["authorities"], &json!({ "name": name, "pem": pem })).await?;
            output::finish(output::line(format_args!(
                "{}: trusted until {}, {}",
                printable(&added.name),
                added.ends.date(),
                printable(&added.subject)
            )))
        }
        Verb::Remove { name } => {
            local.change(Method::DELETE, &["authorities", &name], None::<&()>).await?;
            output::finish(output::line(format_args!("{} is trusted no more", printable(&name))))
        }
    }
}

async fn list(local: &Local, as_json: bool) -> Done {
    let authorities: Vec<AuthorityView> = local.get(&["authorities"], &[]).await?;
    if as_json {
        return output::json(&authorities);
    }
    if authorities.is_empty() {
        return output::finish(output::line("none yet; `moorfall authorities add NAME FILE` trusts one"));
    }
    let rows = authorities.iter().map(|authority| {
        let short = authority.fingerprint.get(..16).unwrap_or_default();
        vec![
            authority.name.clone(),
            authority.subject.clone(),
            authority.ends.date().to_string(),
            since(authority.added_at),
            format!("{short}…"),
        ]
    });
    output::finish(output::line(table(&["NAME", "SUBJECT", "ENDS", ">ADDED AGO", "SHA-256"], rows.collect())))
}
