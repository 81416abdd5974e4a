//! Two services and a bridge between them, broken in every way.

use std::{net::SocketAddr, path::Path, time::Duration};

use rand::{RngExt, SeedableRng};
use tokio::time::sleep;

use super::{
    below,
    passage::Passage,
    traffic::{Traffic, Way},
    victim::Victim,
};
use crate::output::{self, Failure, count, plural};

/// What is done to it, by turns.
#[derive(Clone, Copy, Debug)]
enum Blow {
    Link,
    Here { database: bool },
    There { database: bool },
}

const BLOWS: [Blow; 5] = [
    Blow::Link,
    Blow::Here { database: false },
    Blow::There { database: false },
    Blow::Here { database: true },
    Blow::There { database: true },
];

impl Blow {
    fn words(self) -> &'static str {
        match self {
            Self::Link => "the link was cut",
            Self::Here { database: false } => "the service with the bridge was killed",
            Self::Here { database: true } => "the service with the bridge was killed, and its PostgreSQL",
            Self::There { database: false } => "the remote was killed",
            Self::There { database: true } => "the remote was killed, and its PostgreSQL",
        }
    }
}

/// Gives whether all went well.
pub(super) async fn drill(folder: &Path, rounds: u32, seed: u64) -> Result<bool, Failure> {
    let mut random = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
    let any = SocketAddr::from(([127, 0, 0, 1], 0));
    let (here_folder, there_folder) = (below(folder, "here")?, below(folder, "there")?);
    let mut there = Victim::start(&there_folder, any, None).await?;
    let passage = Passage::to(there.mqtt).await;
    let passage = passage.map_err(|error| Failure(format!("No port can be opened: {error}.")))?;
    let blueprint = folder.join("bridge.toml");
    std::fs::write(&blueprint, design(passage.address))
        .map_err(|error| Failure(format!("{} can't be written: {error}.", blueprint.display())))?;
    let mut here = Victim::start(&here_folder, any, Some(&blueprint)).await?;
    let (near, far) = (here.mqtt, there.mqtt);
    let push = Traffic::begin(&Way { name: "push", from: (near, "river"), to: (far, "harrowmere/river") }).await;
    let pull = Traffic::begin(&Way { name: "pull", from: (far, "tide"), to: (near, "tideway/tide") }).await;
    for round in 0..rounds {
        let mut pause = |longest| Duration::from_millis(random.random_range(200..longest));
        let (before, down) = (pause(1_000), pause(600));
        sleep(before).await;
        let blow = BLOWS[round as usize % BLOWS.len()];
        match blow {
            Blow::Link => passage.cut(),
            Blow::Here { database } => {
                here.kill(&here_folder, database).await;
                here = Victim::start(&here_folder, near, Some(&blueprint)).await?;
            }
            Blow::There { database } => {
                there.kill(&there_folder, database).await;
                there = Victim::start(&there_folder, far, None).await?;
            }
        }
        output::remark(format_args!(
            "round {} of {rounds}: {}; {} acknowledged",
            round + 1,
            blow.words(),
            count(push.acknowledged() + pull.acknowledged())
        ));
        if matches!(blow, Blow::Link) {
            sleep(down).await;
            passage.restore();
        }
    }
    // After the last blow everybody comes back and goes on for a while.
    sleep(Duration::from_millis(1_500)).await;
    let (pushed, pulled) = (push.end().await?, pull.end().await?);
    here.stop().await;
    there.stop().await;
    let times = plural(rounds.into(), "time", "times");
    let told = output::line(format_args!("the bridge was broken {times}"));
    output::finish(told.and_then(|()| pushed.print("pushed at ")).and_then(|()| pulled.print("pulled at ")))?;
    Ok(pushed.is_good() && pulled.is_good())
}

/// A bridge to what begins at this address. Everything may wait.
fn design(remote: SocketAddr) -> String {
    format!(
        "name = \"drill\"\n[[bridges]]\nname = \"tideway\"\nremotes = [\"mqtt://{remote}\"]\n\
         [bridges.waiting]\nmessages = 1_000_000\nbytes = 1_000_000_000\n\
         [[bridges.push]]\nfilter = \"river/#\"\nas = \"harrowmere/river/#\"\n\
         [[bridges.pull]]\nfilter = \"tide/#\"\nas = \"tideway/tide/#\"\n"
    )
}
