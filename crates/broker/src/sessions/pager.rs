//! What sessions are to be sent next and is not in memory: they ask for it a page at a time.

use std::sync::Arc;

use moorfall_core::Page;
use tokio::sync::mpsc;
use tracing_mutex::parkinglot::Mutex;

use crate::sessions::record::SessionRecord;

/// A page that a session waits for.
pub(super) type Wanted = (Arc<SessionRecord>, Page);

/// Where sessions ask for pages. Each asks for one at a time, so no more wait than there are sessions.
#[derive(Debug)]
pub struct Pager {
    asked: mpsc::UnboundedSender<Wanted>,
    /// Until somebody reads.
    wanted: Mutex<Option<mpsc::UnboundedReceiver<Wanted>>>,
}

impl Default for Pager {
    fn default() -> Self {
        let (asked, wanted) = mpsc::unbounded_channel();
        Self { asked, wanted: Mutex::new(Some(wanted)) }
    }
}

impl Pager {
    /// A session is to be sent this next.
    pub fn ask(&self, record: &Arc<SessionRecord>, page: Page) {
        // Nobody reads any more when the service stops.
        let _is_read = self.asked.send((Arc::clone(record), page));
    }

    /// What is asked for; given once.
    pub(super) fn wanted(&self) -> Option<mpsc::UnboundedReceiver<Wanted>> {
        self.wanted.lock().take()
    }
}
