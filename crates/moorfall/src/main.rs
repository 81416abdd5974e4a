//! `moorfall`: the service, its demo, and the command-line client.

mod config;
mod demo;
mod logging;
mod manual;
mod serve;

use std::{process::ExitCode, time::Duration};

use clap::{Parser, Subcommand};
use moorfall_cli::{commands, desk, output};

/// Messages are made by one thread and dropped by another, which is what this allocator is good at.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// What a command speaks to.
const WHERE: &str = "publish, subscribe, request, retained, desk and remote work with any standard broker.\n\
    status, sessions, identities, authorities, blueprint, topics, access, journey,\n\
    people and audit need a Moorfall service; `topics check` works without one.";

/// A publish-subscribe broker (MQTT 3.1.1 and 5.0) that answers why.
#[derive(Debug, Parser)]
#[command(name = "moorfall", version, max_term_width = 80, disable_help_subcommand = true, after_help = WHERE)]
struct Arguments {
    #[command(subcommand)]
    command: Command,
}

#[derive(Debug, Subcommand)]
enum Command {
    /// Run the broker, its API and its console
    Serve(serve::Arguments),
    /// Run the broker with the made-up Harrowmere catchment in it
    Demo(demo::Arguments),
    /// Send a message, to this service or to any standard broker
    Publish(commands::publish::Arguments),
    /// Print messages as they come, from this service or any standard broker
    Subscribe(commands::subscribe::Arguments),
    /// Send a message and wait for the answer to it
    Request(commands::request::Arguments),
    /// Hold several clients at once at a prompt, or by a script
    Desk(desk::Arguments),
    /// List, show, clear, export and import retained messages
    Retained(commands::retained::Arguments),
    /// Give other brokers names, and test them
    Remote(commands::remote::Arguments),
    /// Show the state of the service on this machine
    Status(commands::status::Arguments),
    /// List who is connected to the service on this machine
    Sessions(commands::sessions::Arguments),
    /// List, make, change and remove who may connect
    Identities(commands::identities::Arguments),
    /// List, add and remove who signs the certificates of clients
    Authorities(commands::authorities::Arguments),
    /// Check, compare, apply and take back the design
    Blueprint(commands::blueprint::Arguments),
    /// Look at the topic hierarchy: what is planned, what is live, what a filter catches
    Topics(commands::topics::Arguments),
    /// Say who may publish and subscribe to what, and why
    Access(commands::access::Arguments),
    /// Say what would become of a message: refused, sent, queued or withheld, and why
    Journey(commands::journey::Arguments),
    /// Record what becomes of live messages: who got them, when, or why not
    Recording(commands::recording::Arguments),
    /// List, make, change and remove who may run the broker
    People(commands::people::Arguments),
    /// List what was changed, by whom and from where
    Audit(commands::people::AuditArguments),
    /// Be a person to the service, in place of its administrator
    SignIn(commands::people::SignInArguments),
    /// End that
    SignOut(commands::people::SignOutArguments),
    /// Make a small authority and certificates for TLS
    Cert(commands::cert::Arguments),
    /// Print what a shell needs to complete these commands
    Completions(manual::CompletionsArguments),
    /// Write manual pages
    Manual(manual::ManualArguments),
    /// Break something on purpose, and check that no promise is broken with it
    Drill(commands::drill::Arguments),
}

/// How long what still runs aside may take when everything else has ended.
const LAST: Duration = Duration::from_secs(1);

fn main() -> ExitCode {
    let arguments = Arguments::parse();
    let runtime = match tokio::runtime::Builder::new_multi_thread().enable_all().build() {
        Ok(runtime) => runtime,
        Err(error) => {
            output::complain(&output::Failure(format!("no threads can be started: {error}")));
            return ExitCode::FAILURE;
        }
    };
    let done = runtime.block_on(run(arguments));
    // Work that nobody can end, as a proof over many identities, does not keep the process.
    runtime.shutdown_timeout(LAST);
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(failure) => {
            output::complain(&failure);
            ExitCode::FAILURE
        }
    }
}

async fn run(arguments: Arguments) -> output::Done {
    match arguments.command {
        Command::Serve(arguments) => serve::run(arguments).await,
        Command::Demo(arguments) => demo::run(arguments).await,
        Command::Publish(arguments) => commands::publish::run(arguments).await,
        Command::Subscribe(arguments) => commands::subscribe::run(arguments).await,
        Command::Request(arguments) => commands::request::run(arguments).await,
        Command::Desk(arguments) => desk::run(arguments).await,
        Command::Retained(arguments) => commands::retained::run(arguments).await,
        Command::Remote(arguments) => commands::remote::run(arguments).await,
        Command::Status(arguments) => commands::status::run(&arguments).await,
        Command::Sessions(arguments) => commands::sessions::run(&arguments).await,
        Command::Identities(arguments) => commands::identities::run(arguments).await,
        Command::Authorities(arguments) => commands::authorities::run(arguments).await,
        Command::Blueprint(arguments) => commands::blueprint::run(arguments).await,
        Command::Topics(arguments) => commands::topics::run(arguments).await,
        Command::Access(arguments) => commands::access::run(arguments).await,
        Command::Journey(arguments) => commands::journey::run(arguments).await,
        Command::Recording(arguments) => commands::recording::run(arguments).await,
        Command::People(arguments) => commands::people::run(arguments).await,
        Command::Audit(arguments) => commands::people::audit(arguments).await,
        Command::SignIn(arguments) => commands::people::sign_in(arguments).await,
        Command::SignOut(arguments) => commands::people::sign_out(arguments).await,
        Command::Cert(arguments) => commands::cert::run(&arguments),
        Command::Completions(arguments) => manual::completions::<Arguments>(&arguments),
        Command::Manual(arguments) => manual::manual::<Arguments>(&arguments),
        Command::Drill(arguments) => commands::drill::run(arguments).await,
    }
}
