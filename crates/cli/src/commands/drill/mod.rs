//! `moorfall drill`: a deliberate fault in a running system, with a check that nothing acknowledged was lost.

mod bridge;
mod crash;
mod passage;
mod traffic;
mod victim;

use std::{path::PathBuf, time::Duration};

use clap::{Args, Subcommand};

use crate::output::{Done, Failure};

/// What the command takes.
#[derive(Debug, Args)]
pub struct Arguments {
    #[command(subcommand)]
    what: What,
}

/// How often, and when.
#[derive(Debug, Args)]
struct Course {
    /// Number of rounds
    #[arg(long, value_name = "N", default_value_t = 10, value_parser = clap::value_parser!(u32).range(1..=100_000))]
    rounds: u32,
    /// Seed of the random moments; the same seed gives the same moments
    #[arg(long, value_name = "NUMBER", default_value_t = 7)]
    seed: u64,
}

#[derive(Debug, Subcommand)]
enum What {
    /// Kill a test service repeatedly under traffic, and check that no acknowledged message is lost
    ///
    /// Publishers and subscribers use QoS 1 and 2 and persistent sessions; in every other round PostgreSQL is killed
    /// too. No running service is needed, and nothing is left behind.
    Crash(Course),
    /// Break a bridge between two test services in every way, and check that no acknowledged message is lost
    ///
    /// Messages go both ways at QoS 1 and 2. By turns the link is cut, either service is killed, and its PostgreSQL
    /// with it. No running service is needed, and nothing is left behind.
    Bridge(Course),
}

/// How long a service may take to start, and what was acknowledged to arrive at the end.
const LONGEST: Duration = Duration::from_secs(60);

/// Carries out the command.
pub async fn run(arguments: Arguments) -> Done {
    let folder = std::env::temp_dir().join(format!("moorfall-drill-{}", std::process::id()));
    let wrong = |error: std::io::Error| Failure(format!("{} can't be used: {error}.", folder.display()));
    // PostgreSQL may run as another user, who must be able to pass through.
    std::fs::create_dir(&folder).map_err(wrong)?;
    let done = match arguments.what {
        What::Crash(Course { rounds, seed }) => crash::drill(&folder, rounds, seed).await,
        What::Bridge(Course { rounds, seed }) => bridge::drill(&folder, rounds, seed).await,
    };
    match done {
        Ok(true) => {
            let _ = std::fs::remove_dir_all(&folder);
            Ok(())
        }
        Ok(false) => Err(kept(&folder, "An acknowledged message was lost or delivered twice, see above.")),
        Err(Failure(words)) => Err(kept(&folder, &words)),
    }
}

fn kept(folder: &std::path::Path, words: &str) -> Failure {
    Failure(format!("{words} The folder and the log of the service are in {}.", folder.display()))
}

/// A folder of a drill's folder.
fn below(folder: &std::path::Path, name: &str) -> Result<PathBuf, Failure> {
    let path = folder.join(name);
    let made = std::fs::create_dir_all(&path);
    made.map_err(|error| Failure(format!("{} can't be used: {error}.", path.display())))?;
    Ok(path)
}
