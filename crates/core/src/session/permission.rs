//! What the client may publish, remembered by topic, and what of it the plan does not say.
use moorfall_wire::Publish;

use super::{
    checks::check_size,
    machine::{Phase, Session},
    permissions::Drift,
    refusal::Reason,
};
use crate::Time;

impl Session {
    pub(super) fn may_publish(&mut self, now: Time, publish: &Publish) -> Result<(), Reason> {
        let open = self.phase.opened_mut();
        if !open.permissions.knows(&publish.topic) {
            check_size(&publish.topic, &self.limits)?;
        }
        open.permissions.0.get_or_insert_default().check(&open.access, publish, now)
    }

    /// What broke the plan since the last call. To be called after each batch of packets.
    pub fn take_drift(&mut self) -> Vec<Drift> {
        match &mut self.phase {
            Phase::Open(open) if open.permissions.drifts() > 0 => {
                let remembered = open.permissions.0.get_or_insert_default();
                remembered.drift.drain().map(|(_, drift)| drift).collect()
            }
            _ => Vec::new(),
        }
    }
}
