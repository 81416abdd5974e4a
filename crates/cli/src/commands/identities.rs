//! `moorfall identities`

use std::{collections::BTreeMap, path::PathBuf};

use clap::{Args, Subcommand};
use moorfall_contract::identities::{IdentityPut, IdentityView, NewToken, TokenView};
use moorfall_core::AttributeValue;
use reqwest::Method;
use serde_json::json;

use super::bulk;
use crate::{
    local::{Local, Which},
    messaging::{PASSWORD, read_password},
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
    /// List identities
    List {
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Create or change an identity
    ///
    /// What is not given stays as it is.
    Set {
        /// Name, which clients send as their user name
        name: String,
        /// Attribute for cohorts and rules, for example reach=gorge
        ///
        /// `NAME=` removes an attribute. Numbers, true and false are stored as such.
        #[arg(long = "attribute", value_name = "NAME=VALUE")]
        attributes: Vec<String>,
        /// Ask for a new password, or take it from MOORFALL_PASSWORD
        #[arg(long)]
        password: bool,
        /// File whose first line is the new password
        #[arg(long, value_name = "FILE")]
        password_file: Option<PathBuf>,
        /// Generate a secret instead of a password, and print it once
        ///
        /// Recommended for devices: nobody can guess it, and it is verified in microseconds.
        #[arg(long, conflicts_with_all = ["password", "password_file"])]
        generate: bool,
        /// Note for people
        #[arg(long, value_name = "TEXT")]
        note: Option<String>,
        /// Allow only this client identifier; an empty one allows any
        #[arg(long, value_name = "ID")]
        client_id: Option<String>,
        /// Certificate match, for example dns:kettle-weir.example or sha256:…
        ///
        /// Can be repeated; replaces all earlier ones, and an empty one removes all. `moorfall cert show FILE` prints the
        /// matches of a certificate.
        #[arg(long = "certificate", value_name = "MATCH")]
        certificates: Vec<String>,
        /// Enable it: it can connect again
        #[arg(long, conflicts_with = "disable")]
        enable: bool,
        /// Disable it: it can no longer connect, and its sessions end at once
        #[arg(long)]
        disable: bool,
    },
    /// Manage tokens, which replace a password until they expire
    Tokens {
        #[command(subcommand)]
        verb: TokenVerb,
    },
    /// Create and change many identities from a file
    ///
    /// CSV with a heading (name, enabled, note, client-id, certificates, password-hash, and attr.NAME for each attribute),
    /// or JSON lines with the fields name, attributes, enabled, note, client_id, certificates and password_hash. In CSV
    /// several certificate matches are separated by semicolons. Without the column, or the field, the existing ones stay.
    /// Numbers, true and false are stored as such. Identities that are not in the file stay. The whole file is checked
    /// first; if it has an error, nothing is changed.
    Import {
        /// File, ending in .csv or .jsonl
        file: PathBuf,
        /// Generate secrets for identities without a password, and write them to this new file, as CSV
        #[arg(long, value_name = "FILE")]
        generate: Option<PathBuf>,
        /// Only show what would change
        #[arg(long)]
        dry_run: bool,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Write all identities, without credentials, to a file for import
    Export {
        /// File, ending in .csv or .jsonl; not overwritten
        file: PathBuf,
    },
    /// Remove an identity; its sessions end at once
    Remove {
        /// Name
        name: String,
    },
}

#[derive(Debug, Subcommand)]
enum TokenVerb {
    /// List an identity's tokens
    List {
        /// The identity
        identity: String,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Create a token, which is printed only once
    Make {
        /// The identity
        identity: String,
        /// Name of the token
        name: String,
        /// Days until it expires
        #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=3_660))]
        days: u32,
    },
    /// Revoke a token; sessions that authenticated with it end at once
    Revoke {
        /// The identity
        identity: String,
        /// The token's name
        name: String,
    },
}

async fn tokens(local: &Local, verb: TokenVerb) -> Done {
    match verb {
        TokenVerb::List { identity, json } => {
            let tokens: Vec<TokenView> = local.get(&["identities", &identity, "tokens"], &[]).await?;
            if json {
                return output::json(&tokens);
            }
            if tokens.is_empty() {
                return output::finish(output::line(format_args!("{} has no tokens", printable(&identity))));
            }
            let rows = tokens
                .iter()
                .map(|token| vec![token.name.clone(), ago(token.created_at), token.expires_at.date().to_string()]);
            output::finish(output::line(table(&["TOKEN", ">CREATED", "EXPIRES"], rows.collect())))
        }
        TokenVerb::Make { identity, name, days } => {
            let body = json!({ "name": name, "seconds": i64::from(days) * 86_400 });
            let made: NewToken = local.post(&["identities", &identity, "tokens"], &body).await?;
            output::remark(format_args!("Copy it now; it is not shown again. It expires {}.", made.expires_at.date()));
            output::finish(output::line(made.token))
        }
        TokenVerb::Revoke { identity, name } => {
            local.change(Method::DELETE, &["identities", &identity, "tokens", &name], None::<&()>).await?;
            let (name, identity) = (printable(&name), printable(&identity));
            output::finish(output::line(format_args!("token {name} of {identity} revoked")))
        }
    }
}

/// Carries out the command.
pub async fn run(arguments: Arguments) -> Done {
    let local = arguments.which.find()?;
    match arguments.verb {
        Verb::List { json } => list(&local, json).await,
        Verb::Tokens { verb } => tokens(&local, verb).await,
        Verb::Import { file, generate, dry_run, json } => {
            bulk::import(&local, &file, generate.as_deref(), dry_run, json).await
        }
        Verb::Export { file } => bulk::export(&local, &file).await,
        Verb::Remove { name } => {
            local.change(Method::DELETE, &["identities", &name], None::<&()>).await?;
            output::finish(output::line(format_args!("{} removed", printable(&name))))
        }
        Verb::Set {
            name,
            attributes,
            password,
            password_file,
            generate,
            note,
            client_id,
            certificates,
            enable,
            disable,
        } => {
            let all: Vec<IdentityView> = local.get_all(&["identities"]).await?;
            let known = all.into_iter().find(|identity| identity.name == name);
            let is_new = known.is_none();
            let mut draft = known.map_or_else(Draft::default, Draft::from);
            for attribute in &attributes {
                draft.set_attribute(attribute)?;
            }
            if password || password_file.is_some() {
                let prompt = format!("New password of {name}: ");
                let password = read_password(password_file.as_deref(), PASSWORD, "--password-file", &prompt)?;
                let text = std::str::from_utf8(&password)
                    .map_err(|_| Failure("The password is not UTF-8 text. Use another one.".into()))?;
                draft.password = Some(text.to_owned());
            }
            draft.note = note.unwrap_or(draft.note);
            if let Some(id) = client_id {
                draft.client_id = Some(id).filter(|id| !id.is_empty());
            }
            // None are said: those that there are stay.
            let certificates: Option<Vec<&String>> =
                (!certificates.is_empty()).then(|| certificates.iter().filter(|one| !one.is_empty()).collect());
            draft.enabled = enable || (draft.enabled && !disable);
            let body = json!({
                "attributes": draft.attributes,
                "password": draft.password,
                "generate": generate,
                "enabled": draft.enabled,
                "note": draft.note,
                "client_id": draft.client_id,
                "certificates": certificates,
            });
            let put: IdentityPut = local.put(&["identities", &name], &body).await?;
            let done = if is_new { "made" } else { "changed" };
            if let Some(secret) = put.secret {
                output::remark(format_args!("{} {done}; copy its secret now, it is not shown again", printable(&name)));
                return output::finish(output::line(secret));
            }
            output::finish(output::line(format_args!("{} {done}", printable(&name))))
        }
    }
}

struct Draft {
    attributes: BTreeMap<String, AttributeValue>,
    password: Option<String>,
    enabled: bool,
    note: String,
    client_id: Option<String>,
}

impl Default for Draft {
    fn default() -> Self {
        Self { attributes: BTreeMap::new(), password: None, enabled: true, note: String::new(), client_id: None }
    }
}

impl From<IdentityView> for Draft {
    fn from(known: IdentityView) -> Self {
        Self {
            attributes: known.attributes,
            password: None,
            enabled: known.enabled,
            note: known.note,
            client_id: known.client_id,
        }
    }
}

impl Draft {
    fn set_attribute(&mut self, text: &str) -> Result<(), Failure> {
        let parts = text.split_once('=').filter(|(name, _)| !name.is_empty());
        let (name, value) = parts
            .ok_or_else(|| Failure(format!("`{text}` is not an attribute; use NAME=VALUE, for example reach=gorge")))?;
        if value.is_empty() {
            self.attributes.remove(name);
            return Ok(());
        }
        let value = bulk::value(value);
        self.attributes.insert(name.to_owned(), value);
        Ok(())
    }
}

async fn list(local: &Local, as_json: bool) -> Done {
    let identities: Vec<IdentityView> = local.get_all(&["identities"]).await?;
    if as_json {
        return output::json(&identities);
    }
    if identities.is_empty() {
        return output::finish(output::line(
            "No identities yet. `moorfall identities set NAME --password` creates one.",
        ));
    }
    let rows = identities.iter().map(|identity| {
        let attributes: Vec<String> =
            identity.attributes.iter().map(|(name, value)| format!("{name}={value}")).collect();
        let by = [(identity.has_password, "password"), (!identity.certificates.is_empty(), "certificate")];
        let by: Vec<&str> = by.into_iter().filter(|(has, _)| *has).map(|(_, by)| by).collect();
        let state = match (identity.enabled, by.is_empty()) {
            (false, _) => "disabled".to_owned(),
            (true, false) => by.join(", "),
            (true, true) => "no credentials".to_owned(),
        };
        let tied = identity.client_id.as_ref().map(|id| format!(", only as {id}")).unwrap_or_default();
        vec![identity.name.clone(), format!("{state}{tied}"), attributes.join(" "), identity.note.clone()]
    });
    output::finish(output::line(table(&["NAME", "CREDENTIALS", "ATTRIBUTES", "NOTE"], rows.collect())))
}
