//! Writes throughput samples to the database, several together, and keeps them while it is away.

use std::{sync::Arc, time::Duration};

use moorfall_store::{Asked, Database, Resolution, Sample, StoreError};
use tokio::{
    sync::mpsc::Receiver,
    time::{Instant, sleep, timeout},
};
use tokio_util::sync::CancellationToken;

/// Samples that wait for the writer, one hour's worth; beyond it the newest are lost and counted.
pub const KEPT: usize = 3_600;

/// How many samples make it worth writing.
const TOGETHER: usize = 5;

/// How long one write may take.
const ANSWER_TIME: Duration = Duration::from_secs(5);

/// Between two tries while the database is away.
const RETRY: Duration = Duration::from_secs(1);

/// Between two looks for samples that are old enough to be forgotten.
const FORGET_EVERY: Duration = Duration::from_secs(3_600);

/// Runs until the channel is closed; then what is left is written, or given up if the database is away.
pub async fn run(
    database: Arc<Database>,
    stopping: CancellationToken,
    audit_days: u32,
    mut samples: Receiver<(Resolution, Sample)>,
) {
    let mut waiting = Vec::new();
    let mut forgot = Instant::now();
    loop {
        let open = samples.recv_many(&mut waiting, KEPT).await > 0;
        if open && waiting.len() < TOGETHER {
            continue;
        }
        while let Err(why) = write(&database, &mut waiting).await {
            database.failed(Asked::Samples, &why).await;
            if stopping.is_cancelled() {
                return;
            }
            tokio::select! {
                () = sleep(RETRY) => {}
                () = stopping.cancelled() => {}
            }
        }
        database.carried_out(Asked::Samples);
        if !open {
            return;
        }
        if forgot.elapsed() > FORGET_EVERY {
            forgot = Instant::now();
            if let Err(error) = database.store.forget_old_samples().await {
                tracing::warn!(%error, "old throughput samples can't be removed");
            }
            if let Err(error) = database.store.forget_audits(audit_days).await {
                tracing::warn!(%error, "old audit entries can't be removed");
            }
        }
    }
}

/// Writes what waits. On failure it goes on waiting.
async fn write(database: &Database, waiting: &mut Vec<(Resolution, Sample)>) -> Result<(), StoreError> {
    for resolution in [Resolution::Second, Resolution::Minute] {
        let rows: Vec<Sample> =
            waiting.iter().filter(|(kind, _)| *kind == resolution).map(|(_, sample)| sample.clone()).collect();
        if rows.is_empty() {
            continue;
        }
        let written = timeout(ANSWER_TIME, database.store.add_samples(resolution, &rows)).await;
        written.unwrap_or(Err(StoreError::Silent))?;
        waiting.retain(|(kind, _)| *kind != resolution);
    }
    Ok(())
}
