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
    /// List who may connect
    List {
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Make an identity, or change one
    ///
    /// What is not said stays as it is.
    Set {
        /// Its name, which a client gives as its user name
        name: String,
        /// Something that the access rules may look at, for example reach=gorge
        ///
        /// `NAME=` removes an attribute. Numbers, true and false are taken as such.
        #[arg(long = "attribute", value_name = "NAME=VALUE")]
        attributes: Vec<String>,
        /// Ask for a new password, or take it from MOORFALL_PASSWORD
        #[arg(long)]
        password: bool,
        /// File whose first line is the new password
        #[arg(long, value_name = "FILE")]
        password_file: Option<PathBuf>,
        /// Have the broker make a secret in place of the password, and print it this once
        ///
        /// It is what a device should sign in with: nobody guesses it, and it is verified in microseconds.
        #[arg(long, conflicts_with_all = ["password", "password_file"])]
        generate: bool,
        /// A note for people
        #[arg(long, value_name = "TEXT")]
        note: Option<String>,
        /// Tie it to this client identifier; an empty one unties it
        #[arg(long, value_name = "ID")]
        client_id: Option<String>,
        /// What a client certificate of it is known by, such as dns:kettle-weir.example or sha256:…
        ///
        /// May be given several times; all earlier ones are replaced, and an empty one takes all away. `moorfall cert
        /// show` prints what a certificate may be known by.
        #[arg(long = "certificate", value_name = "MARK")]
        certificates: Vec<String>,
        /// Let it connect again
        #[arg(long, conflicts_with = "disable")]
        enable: bool,
        /// Keep it, but let it connect no more; its sessions end at once
        #[arg(long)]
        disable: bool,
    },
    /// List, make and revoke tokens, with which an identity signs in in place of a password
    Tokens {
        #[command(subcommand)]
        verb: TokenVerb,
    },
    /// Make and change many identities from a file
    ///
    /// CSV with a heading (name, enabled, note, client-id, certificates, password-hash, and attr.NAME for each attribute),
    /// or JSON lines with the fields name, attributes, enabled, note, client_id, certificates and password_hash. In CSV
    /// several certificates are divided by semicolons; without the column, or the field, those that there are stay. Numbers, true and false are taken as such.
    /// Identities that the file does not name stay. The whole file is checked first; with a fault nothing is changed.
    Import {
        /// The file; its ending says which, .csv or .jsonl
        file: PathBuf,
        /// Have secrets made for those that have no password, and write them to this new file, as CSV
        #[arg(long, value_name = "FILE")]
        generate: Option<PathBuf>,
        /// Only say what would change
        #[arg(long)]
        dry_run: bool,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Write all identities to a file that can be imported again; without credentials
    Export {
        /// The file; its ending says which, .csv or .jsonl. It is not overwritten
        file: PathBuf,
    },
    /// Remove an identity; its sessions end at once
    Remove {
        /// Its name
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
    /// Make a token, and print it this once
    Make {
        /// The identity
        identity: String,
        /// What the token is called
        name: String,
        /// When it ends
        #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=3_660))]
        days: u32,
    },
    /// Revoke a token; sessions that rest on it end at once
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
                return output::finish(output::line(format_args!("{} has no token", printable(&identity))));
            }
            let rows = tokens
                .iter()
                .map(|token| vec![token.name.clone(), since(token.created_at), token.expires_at.date().to_string()]);
            output::finish(output::line(table(&["TOKEN", ">MADE AGO", "ENDS"], rows.collect())))
        }
        TokenVerb::Make { identity, name, days } => {
            let body = json!({ "name": name, "seconds": i64::from(days) * 86_400 });
            let made: NewToken = local.post(&["identities", &identity, "tokens"], &body).await?;
            output::remark(format_args!("it is not shown again; it ends on {}", made.expires_at.date()));
            output::finish(output::line(made.token))
        }
        TokenVerb::Revoke { identity, name } => {
            local.change(Method::DELETE, &["identities", &identity, "tokens", &name], None::<&()>).await?;
            let (name, identity) = (printable(&name), printable(&identity));
            output::finish(output::line(format_args!("the token {name} of {identity} is revoked")))
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
            output::finish(output::line(format_args!("{} is removed", printable(&name))))
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
                    .map_err(|_| Failure("the password is not UTF-8 text; choose another".into()))?;
                draft.password = Some(text.to_owned());
            }
            draft.note = note.unwrap_or(draft.note);
            if let Some(id) = client_id {
                draft.client_id = Some(id).filter(|id| !id.is_empty());
            }
            // None are said: those that there are stay.
            let certificates: Option<Vec<&String>> =
                (!certificates.is_empty()).then(|| certificates.iter().filter(|mark| !mark.is_empty()).collect());
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
                output::remark(format_args!("{} is {done}; its secret is not shown again", printable(&name)));
                return output::finish(output::line(secret));
            }
            output::finish(output::line(format_args!("{} is {done}", printable(&name))))
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
        let (name, value) = parts.ok_or_else(|| {
            Failure(format!("`{text}` is not an attribute; write NAME=VALUE, for example reach=gorge"))
        })?;
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
        return output::finish(output::line("nobody yet; `moorfall identities set NAME --password` makes an identity"));
    }
    let rows = identities.iter().map(|identity| {
        let attributes: Vec<String> =
            identity.attributes.iter().map(|(name, value)| format!("{name}={value}")).collect();
        let by = [(identity.has_password, "password"), (!identity.certificates.is_empty(), "certificate")];
        let by: Vec<&str> = by.into_iter().filter(|(has, _)| *has).map(|(_, by)| by).collect();
        let state = match (identity.enabled, by.is_empty()) {
            (false, _) => "disabled".to_owned(),
            (true, false) => by.join(", "),
            (true, true) => "no credential".to_owned(),
        };
        let tied = identity.client_id.as_ref().map(|id| format!(", only as {id}")).unwrap_or_default();
        vec![identity.name.clone(), format!("{state}{tied}"), attributes.join(" "), identity.note.clone()]
    });
    output::finish(output::line(table(&["NAME", "SIGN-IN", "ATTRIBUTES", "NOTE"], rows.collect())))
}
