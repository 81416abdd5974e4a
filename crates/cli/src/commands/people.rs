//! `moorfall people`, `moorfall audit`, `moorfall sign-in` and `moorfall sign-out`

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};
use moorfall_contract::people::{self, AuditView, PersonView, Token};
use reqwest::Method;
use serde_json::{Value, json};

use crate::{
    local::{SignIn, Which},
    messaging::{PASSWORD, read_password},
    output::{self, Done, Failure, ago, indented, printable, table},
};

/// What the command takes.
#[derive(Debug, Args)]
pub struct Arguments {
    #[command(subcommand)]
    verb: Verb,
    #[command(flatten)]
    which: Which,
}

/// What a person may do; each may do what those before may.
#[derive(Clone, Copy, Debug, ValueEnum)]
enum Role {
    /// View everything
    Watch,
    /// Also end sessions, clear retained messages, manage identities
    Operate,
    /// Also apply blueprints
    Design,
    /// Also manage people and authorities
    Own,
}

impl From<Role> for people::Role {
    fn from(role: Role) -> Self {
        match role {
            Role::Watch => Self::Watch,
            Role::Operate => Self::Operate,
            Role::Design => Self::Design,
            Role::Own => Self::Own,
        }
    }
}

#[derive(Debug, Subcommand)]
enum Verb {
    /// List people
    List {
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Create a person, or change their role or password
    Set {
        /// Name
        name: String,
        /// Role
        #[arg(long)]
        role: Role,
        /// Ask for a new password, or take it from MOORFALL_PASSWORD
        #[arg(long)]
        password: bool,
        /// File whose first line is the new password
        #[arg(long, value_name = "FILE")]
        password_file: Option<PathBuf>,
    },
    /// Remove a person; their sign-ins end at once
    Remove {
        /// Name
        name: String,
    },
}

/// Carries out the command.
pub async fn run(arguments: Arguments) -> Done {
    let local = arguments.which.find()?;
    match arguments.verb {
        Verb::List { json } => {
            let people: Vec<PersonView> = local.get(&["people"], &[]).await?;
            if json {
                return output::json(&people);
            }
            if people.is_empty() {
                let words = "No people yet. Only the administrator can sign in, with the secret in the data folder. \
                             `moorfall people set NAME --role watch --password` creates a person.";
                return output::finish(output::line(indented(words, 0)));
            }
            let rows = people
                .iter()
                .map(|person| vec![person.name.clone(), person.role.name().to_owned(), ago(person.changed_at)]);
            output::finish(output::line(table(&["NAME", "ROLE", ">CHANGED"], rows.collect())))
        }
        Verb::Set { name, role, password, password_file } => {
            let mut body = json!({ "role": people::Role::from(role) });
            if password || password_file.is_some() {
                let prompt = format!("New password of {name}: ");
                let password = read_password(password_file.as_deref(), PASSWORD, "--password-file", &prompt)?;
                let text = std::str::from_utf8(&password)
                    .map_err(|_| Failure("The password is not UTF-8 text. Use another one.".into()))?;
                body["password"] = text.into();
            }
            local.change(Method::PUT, &["people", &name], Some(&body)).await?;
            output::finish(output::line(format_args!("{} can sign in", printable(&name))))
        }
        Verb::Remove { name } => {
            local.change(Method::DELETE, &["people", &name], None::<&()>).await?;
            output::finish(output::line(format_args!("{} removed", printable(&name))))
        }
    }
}

/// `moorfall sign-in`
/// What the command takes.
#[derive(Debug, Args)]
pub struct SignInArguments {
    /// Your name
    name: String,
    /// File whose first line is the password
    #[arg(long, value_name = "FILE")]
    password_file: Option<PathBuf>,
    #[command(flatten)]
    which: Which,
}

/// Carries out the command.
pub async fn sign_in(arguments: SignInArguments) -> Done {
    let local = arguments.which.find_service()?;
    let prompt = format!("Password of {}: ", arguments.name);
    let password = read_password(arguments.password_file.as_deref(), PASSWORD, "--password-file", &prompt)?;
    let text = String::from_utf8(password.to_vec()).map_err(|_| Failure("The password is not UTF-8 text.".into()))?;
    let body = json!({ "name": arguments.name, "password": text });
    let token: Token = local.sign_in(&body).await?;
    SignIn::keep(&local.service, &token.token)?;
    let days = token.seconds / 86_400;
    output::finish(output::line(format_args!(
        "signed in as {} for {days} days, or until `moorfall sign-out`",
        printable(&arguments.name)
    )))
}

/// `moorfall sign-out`
/// What the command takes.
#[derive(Debug, Args)]
pub struct SignOutArguments {
    #[command(flatten)]
    which: Which,
}

/// Carries out the command.
pub async fn sign_out(arguments: SignOutArguments) -> Done {
    let local = arguments.which.find_service()?;
    if !SignIn::forget(&local.service)? {
        return Err(Failure("Nobody is signed in to this service on this machine.".into()));
    }
    // The token is not here any more; the service forgets it, too, if it answers.
    local.change(Method::DELETE, &["console-session"], None::<&()>).await?;
    output::finish(output::line("signed out"))
}

/// `moorfall audit`
/// What the command takes.
#[derive(Debug, Args)]
pub struct AuditArguments {
    /// Only changes that hold this text in who, what or which
    #[arg(default_value = "", hide_default_value = true)]
    search: String,
    /// Show at most N
    #[arg(long, value_name = "N", default_value_t = 50)]
    limit: u32,
    /// Print JSON
    #[arg(long)]
    json: bool,
    #[command(flatten)]
    which: Which,
}

/// Carries out the command.
pub async fn audit(arguments: AuditArguments) -> Done {
    let limit = arguments.limit.to_string();
    let query = [("search", arguments.search.as_str()), ("limit", &limit)];
    let audits: Vec<AuditView> = arguments.which.find()?.get(&["audit"], &query).await?;
    if arguments.json {
        return output::json(&audits);
    }
    if audits.is_empty() {
        return output::finish(output::line("No changes match your search."));
    }
    let rows = audits.iter().map(|audit| {
        vec![
            ago(audit.at),
            audit.person.clone(),
            audit.address.clone(),
            format!("{} {} {}", audit.act, audit.kind, audit.name),
            differences(audit),
        ]
    });
    output::finish(output::line(table(&[">TIME", "PERSON", "ADDRESS", "CHANGE", "VALUES"], rows.collect())))
}

/// The fields that differ, in a line.
fn differences(audit: &AuditView) -> String {
    let fields = |value: &Option<Value>| value.as_ref().and_then(Value::as_object).cloned().unwrap_or_default();
    let (before, after) = (fields(&audit.before), fields(&audit.after));
    let plain = |value: Option<&Value>| match value {
        None => "nothing".to_owned(),
        Some(Value::String(text)) => text.clone(),
        Some(other) => other.to_string(),
    };
    let mut words = Vec::new();
    for name in after.keys().chain(before.keys().filter(|name| !after.contains_key(*name))) {
        let (old, new) = (before.get(name), after.get(name));
        if old != new && !matches!(name.as_str(), "changed_at" | "created_at") {
            words.push(match (audit.before.is_some(), audit.after.is_some()) {
                (true, true) => format!("{name}: {} -> {}", plain(old), plain(new)),
                (_, true) => format!("{name}: {}", plain(new)),
                _ => format!("{name} was {}", plain(old)),
            });
        }
    }
    let text = words.join("; ");
    let short: String = text.chars().take(160).collect();
    if short.len() < text.len() { format!("{short}…") } else { short }
}
