//! Silent topics, looked for now and then.

use std::{sync::Arc, time::Duration};

use moorfall_broker::broker::Broker;
use moorfall_live::silence::{self, Silent};
use tokio::time::Instant;

use crate::http::apart::apart;

/// How long a walk for silent topics is good for at least, and how many times as long as it took: the console asks every
/// two seconds.
const GOOD_FOR_TIMES: u32 = 20;
const GOOD_FOR: Duration = Duration::from_secs(5);

/// Silent topics as they were found: until when that is good, under which revision, and what was found.
type Found = (Instant, i64, Arc<Vec<Silent>>);

/// Silent topics as they were found last.
#[derive(Debug, Default)]
pub struct Silences(tokio::sync::Mutex<Option<Found>>);

impl Silences {
    /// From memory for a while.
    pub async fn find(&self, broker: &Arc<Broker>) -> Arc<Vec<Silent>> {
        let mut known = self.0.lock().await;
        let revision = broker.design.in_force().revision;
        if let Some((until, of, silent)) = &*known
            && *of == revision
            && Instant::now() < *until
        {
            return Arc::clone(silent);
        }
        let (walked, began) = (Arc::clone(broker), Instant::now());
        let find = move || silence::find(&walked.live.topics, walked.design.policy().plan(), walked.now());
        let silent = Arc::new(apart(find).await);
        let until = Instant::now() + GOOD_FOR.max(began.elapsed() * GOOD_FOR_TIMES);
        *known = Some((until, revision, Arc::clone(&silent)));
        silent
    }
}
