//! What Moorfall costs, beside what could not cost less.
//!
//! Every figure is measured beside a limit in the same run, in rounds that take turns: message passing beside a *lean
//! relay*, which keeps the same connections and writes PUBLISH frames to their subscribers without looking into them;
//! committed messages beside PostgreSQL's own insert of the same rows. See the README beside this for what the numbers
//! mean and what they leave out.

mod beside;
mod bridged;
mod committed;
mod conditions;
mod decisions;
mod floods;
mod history;
mod hostile;
mod idle;
mod lean_relay;
mod lean_websocket;
mod load;
mod observed;
mod passing;
mod process;
mod relay;
mod report;
mod restart;
mod routes;
mod rules;
mod sign_in;
mod tree;
mod watching;

use std::{path::PathBuf, time::Duration};

use clap::{Parser, Subcommand};

/// What went wrong; a bench is a program for developers, so a text will do.
pub(crate) type Failure = Box<dyn std::error::Error + Send + Sync>;

#[derive(Debug, Parser)]
struct Arguments {
    #[command(subcommand)]
    command: Command,
}

#[derive(Debug, Subcommand)]
enum Command {
    /// Run benches and print what they measured
    Run(Plan),
    /// The bare relay: prints its address and runs until it is killed
    #[command(hide = true)]
    Relay,
    /// The lean relay, in the same way
    #[command(hide = true)]
    LeanRelay(lean_relay::Secured),
}

/// What is measured, and for how long.
#[derive(Clone, Debug, clap::Args)]
pub(crate) struct Plan {
    /// The program to measure
    #[arg(long, value_name = "FILE", default_value = "target/dist/moorfall")]
    pub(crate) program: PathBuf,
    /// Only benches whose name holds this text
    #[arg(default_value = "")]
    pub(crate) filter: String,
    /// Rounds of each, in turns with the limit
    #[arg(long, default_value_t = 3)]
    pub(crate) rounds: usize,
    /// Seconds of one round
    #[arg(long, default_value_t = 1.0)]
    seconds: f64,
    /// Measure message passing beside the bare relay, too, which wakes a task for each recipient
    #[arg(long)]
    pub(crate) bare: bool,
    /// Connections that are held at once
    #[arg(long, default_value_t = 19_000)]
    pub(crate) connections: usize,
}

impl Plan {
    pub(crate) fn time(&self) -> Duration {
        Duration::from_secs_f64(self.seconds)
    }

    fn wants(&self, name: &str) -> bool {
        name.contains(&self.filter)
    }
}

#[tokio::main]
async fn main() -> Result<(), Failure> {
    moorfall_client::choose_cryptography();
    match Arguments::parse().command {
        Command::Relay => relay::run().await,
        Command::LeanRelay(secured) => lean_relay::run(secured).await,
        Command::Run(plan) => run(&plan).await,
    }
}

async fn run(plan: &Plan) -> Result<(), Failure> {
    if plan.wants("conditions") {
        conditions::run();
    }
    if plan.wants("routes") {
        routes::run();
    }
    if plan.wants("decisions") {
        decisions::run();
    }
    for scenario in passing::SCENARIOS {
        if plan.wants(scenario.name) {
            passing::run(plan, scenario).await?;
        }
    }
    if plan.wants("rules") {
        rules::run(plan).await?;
    }
    if plan.wants("observed") {
        observed::run(plan).await?;
    }
    bridged::run(plan).await?;
    if plan.wants("committed") {
        committed::run(plan).await?;
    }
    if plan.wants("idle") {
        idle::run(plan).await?;
    }
    // Before those whose clients choose the address that they come from: their ports are not free for a minute.
    if plan.wants("crowd") {
        beside::crowd(plan).await?;
    }
    if plan.wants("subscriptions") {
        idle::subscriptions(plan).await?;
    }
    if plan.wants("tree") {
        tree::run(plan).await?;
    }
    if plan.wants("watching") {
        watching::run(plan).await?;
    }
    if plan.wants("history") {
        history::run(plan).await?;
    }
    if plan.wants("sign-in") {
        sign_in::run(plan).await?;
    }
    if plan.wants("hostile") {
        hostile::run(plan).await?;
    }
    if plan.wants("walk") {
        beside::walk(plan).await?;
    }
    if plan.wants("stuck") {
        beside::stuck(plan).await?;
    }
    if plan.wants("floods") {
        floods::run(plan).await?;
    }
    if plan.wants("restart") {
        restart::run(plan).await?;
    }
    report::print_table();
    Ok(())
}
