//! One service, killed again and again.

use std::{net::SocketAddr, path::Path, time::Duration};

use rand::{RngExt, SeedableRng};
use tokio::time::sleep;

use super::{
    traffic::{Traffic, Way},
    victim::Victim,
};
use crate::output::{self, Failure, count, plural};

/// Gives whether all went well.
pub(super) async fn drill(folder: &Path, rounds: u32, seed: u64) -> Result<bool, Failure> {
    let mut random = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
    let mut victim = Victim::start(folder, SocketAddr::from(([127, 0, 0, 1], 0)), None).await?;
    let mqtt = victim.mqtt;
    let root = "harrowmere/drill";
    let traffic = Traffic::begin(&Way { name: "crash", from: (mqtt, root), to: (mqtt, root) }).await;
    for round in 0..rounds {
        sleep(Duration::from_millis(random.random_range(200..1_000))).await;
        let database = round % 2 == 1;
        victim.kill(folder, database).await;
        output::remark(format_args!(
            "round {} of {rounds}: the service was killed{}; {} acknowledged",
            round + 1,
            if database { ", and PostgreSQL" } else { "" },
            count(traffic.acknowledged())
        ));
        victim = Victim::start(folder, mqtt, None).await?;
    }
    // After the last restart everybody comes back and goes on for a while.
    sleep(Duration::from_millis(500)).await;
    let tally = traffic.end().await?;
    victim.stop().await;
    let times = plural(rounds.into(), "time", "times");
    output::finish(output::line(format_args!("the service was killed {times}")).and_then(|()| tally.print("")))?;
    Ok(tally.is_good())
}
