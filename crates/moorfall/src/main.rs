//! `moorfall`: the service, its demo, and the command-line client.

mod config;
mod demo;
mod logging;
mod manual;
mod serve;

use std::{process::ExitCode, time::Duration};

use clap::{Parser, Subcommand};
use moorfall_cli::{commands, desk, output, watch};

/// Messages are made by one thread and dropped by another, which is what this allocator is good at.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// What a command works with.
const WHERE: &str = "With any MQTT broker: publish, subscribe, request, desk, retained and remote.\n\
    With a Moorfall service: status, watch, measures, busiest, history,\n\
    alerts, events, sessions, ladder, subscribers, identities, authorities, blueprint, topics, access, journey, recording, people, audit, sign-in and sign-out.\n\
    With neither: serve, demo, cert, completions, manual, drill and `topics check`.";

/// MQTT 3.1.1 and 5.0 broker that tells you why
#[derive(Debug, Parser)]
#[command(name = "moorfall", version, max_term_width = 80, disable_help_subcommand = true, after_help = WHERE)]
struct Arguments {
    #[command(subcommand)]
    command: Command,
}

#[derive(Debug, Subcommand)]
enum Command {
    /// Run the broker with its API and web console
    Serve(serve::Arguments),
    /// Run the broker with the simulated Harrowmere catchment
    Demo(demo::Arguments),
    /// Publish messages to this service or any MQTT broker
    Publish(commands::publish::Arguments),
    /// Print messages as they arrive, from this service or any broker
    Subscribe(commands::subscribe::Arguments),
    /// Publish a request and wait for the response
    Request(commands::request::Arguments),
    /// Work with several clients at a prompt, or run a script
    Desk(desk::Arguments),
    /// List, show, clear, export and import retained messages
    Retained(commands::retained::Arguments),
    /// Save and test connections to other brokers
    Remote(commands::remote::Arguments),
    /// Show the state of the local service
    Status(commands::status::Arguments),
    /// Watch the service on the whole terminal
    Watch(watch::Arguments),
    /// Show what is measured: counts, rates, times, resources
    Measures(commands::measures::Arguments),
    /// List the busiest sessions, identities, topics or branches
    Busiest(commands::busiest::Arguments),
    /// Show a measure over time, and compare two ranges
    History(commands::history::Arguments),
    /// Show and test alerts, and the notices sent of them
    Alerts(commands::alerts::Arguments),
    /// List what happened: connections, sign-ins, changes
    Events(commands::events::Arguments),
    /// Show the packets of a client, both ways over time
    Ladder(commands::ladder::Arguments),
    /// List, end and ban sessions
    Sessions(commands::sessions::Arguments),
    /// List who receives from a topic or filter
    Subscribers(commands::subscribers::Arguments),
    /// Manage the people and devices that can connect
    Identities(commands::identities::Arguments),
    /// Manage the authorities that sign client certificates
    Authorities(commands::authorities::Arguments),
    /// Check, compare, apply and revert the blueprint
    Blueprint(commands::blueprint::Arguments),
    /// Show, preview, pause and drain bridges to other brokers
    Bridge(commands::bridge::Arguments),
    /// List, show and try topics that are made of others
    Derived(commands::derived::Arguments),
    /// Explore topics: planned, live, and matched by a filter
    Topics(commands::topics::Arguments),
    /// Explain who can publish and subscribe to what, and why
    Access(commands::access::Arguments),
    /// Preview what would happen to a message, without publishing it
    Journey(commands::journey::Arguments),
    /// Record what happens to live messages
    Recording(commands::recording::Arguments),
    /// Manage the people who run the broker
    People(commands::people::Arguments),
    /// List changes: who made them, when and from where
    Audit(commands::people::AuditArguments),
    /// Sign in to the service under your own name
    SignIn(commands::people::SignInArguments),
    /// Sign out; commands act as the administrator again
    SignOut(commands::people::SignOutArguments),
    /// Create a certificate authority and certificates
    Cert(commands::cert::Arguments),
    /// Print a shell completion script
    Completions(manual::CompletionsArguments),
    /// Write the manual pages
    Manual(manual::ManualArguments),
    /// Break a test service and check that nothing acknowledged is lost
    Drill(commands::drill::Arguments),
}

/// How long what still runs aside may take when everything else has ended.
const LAST: Duration = Duration::from_secs(1);

fn main() -> ExitCode {
    moorfall_client::choose_cryptography();
    let arguments = Arguments::parse();
    let runtime = match tokio::runtime::Builder::new_multi_thread().enable_all().build() {
        Ok(runtime) => runtime,
        Err(error) => {
            output::complain(&output::Failure(format!("No threads can be started: {error}.")));
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
        Command::Watch(arguments) => watch::run(&arguments).await,
        Command::Measures(arguments) => commands::measures::run(&arguments).await,
        Command::Busiest(arguments) => commands::busiest::run(&arguments).await,
        Command::History(arguments) => commands::history::run(&arguments).await,
        Command::Alerts(arguments) => commands::alerts::run(arguments).await,
        Command::Bridge(arguments) => commands::bridge::run(arguments).await,
        Command::Derived(arguments) => commands::derived::run(arguments).await,
        Command::Events(arguments) => commands::events::run(&arguments).await,
        Command::Ladder(arguments) => commands::ladder::run(arguments).await,
        Command::Sessions(arguments) => commands::sessions::run(arguments).await,
        Command::Subscribers(arguments) => commands::subscribers::run(&arguments).await,
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
