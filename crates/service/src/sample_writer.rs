//! Writes throughput samples to the database, several together, and keeps them while it is away.

use std::{sync::Arc, time::Duration};

use moorfall_store::{Resolution, Sample};
use tokio::{
    sync::mpsc::Receiver,
    time::{Instant, sleep, timeout},
};

use crate::{broker::Broker, database_health::Asked};

/// Samples that wait for the writer, one hour's worth; beyond it the newest are lost and counted.
pub(crate) const KEPT: usize = 3_600;

/// How many samples make it worth writing.
const TOGETHER: usize = 5;

/// How long one write may take.
const PATIENCE: Duration = Duration::from_secs(5);

/// Between two tries while the database is away.
const RETRY: Duration = Duration::from_secs(1);

/// Between two looks for samples that are old enough to be forgotten.
const FORGET_EVERY: Duration = Duration::from_secs(3_600);

/// Runs until the channel is closed; then what is left is written, or given up if the database is away.
pub(crate) async fn run(broker: Arc<Broker>, mut samples: Receiver<(Resolution, Sample)>) {
    let mut waiting = Vec::new();
    let mut forgot = Instant::now();
    loop {
        let open = samples.recv_many(&mut waiting, KEPT).await > 0;
        if open && waiting.len() < TOGETHER {
            continue;
        }
        while let Err(words) = write(&broker, &mut waiting).await {
            broker.database.note(Asked::Samples, Some(words));
            if let Some(database) = &broker.private_database {
                database.revive().await;
            }
            if broker.stopping.is_cancelled() {
                return;
            }
            tokio::select! {
                () = sleep(RETRY) => {}
                () = broker.stopping.cancelled() => {}
            }
        }
        broker.database.note(Asked::Samples, None);
        if !open {
            return;
        }
        if forgot.elapsed() > FORGET_EVERY {
            forgot = Instant::now();
            if let Err(error) = broker.store.forget_old_samples().await {
                tracing::warn!(%error, "old throughput samples could not be removed");
            }
            if let Err(error) = broker.store.forget_audits(broker.limits.audit_days).await {
                tracing::warn!(%error, "old entries of the record of changes could not be removed");
            }
        }
    }
}

/// Writes what waits. On failure it goes on waiting.
async fn write(broker: &Broker, waiting: &mut Vec<(Resolution, Sample)>) -> Result<(), String> {
    for resolution in [Resolution::Second, Resolution::Minute] {
        let rows: Vec<Sample> =
            waiting.iter().filter(|(kind, _)| *kind == resolution).map(|(_, sample)| sample.clone()).collect();
        if rows.is_empty() {
            continue;
        }
        match timeout(PATIENCE, broker.store.add_samples(resolution, &rows)).await {
            Ok(Ok(())) => waiting.retain(|(kind, _)| *kind != resolution),
            Ok(Err(error)) => return Err(error.to_string()),
            Err(_) => return Err("it does not answer".into()),
        }
    }
    Ok(())
}
