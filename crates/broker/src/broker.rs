//! One broker: its identities, its design, its sessions and what goes on in it. What belongs to the process is not here.

use std::{collections::BTreeMap, sync::Arc};

use moorfall_core::{ADMINISTRATOR, ANONYMOUS, Identity, Limits, Quota, Time, session::NoEntry};
use moorfall_live::Live;
use moorfall_store::{Store, StoreError};

use crate::{
    bans::Bans,
    common::Common,
    design::in_force::Design,
    identity::Identities,
    judge::{Judge, Rights},
    sessions::{LastUsed, Sessions},
};

/// A roof over the rooms.
#[derive(Debug)]
pub struct Broker {
    /// Limits of the service.
    pub limits: Arc<Limits>,
    /// What it shares with the rest of the process.
    pub common: Arc<Common>,
    /// What goes on in it.
    pub live: Arc<Live>,
    /// Who may connect.
    pub identities: Arc<Identities>,
    /// Who is not let in for a time.
    pub bans: Bans,
    /// What they may do.
    pub design: Arc<Design>,
    /// Their sessions.
    pub sessions: Arc<Sessions>,
}

impl Broker {
    /// What the database holds of identities and design; the sessions are restored by [`crate::sessions::restore`].
    pub async fn load(
        common: Arc<Common>,
        limits: Arc<Limits>,
        identities: Identities,
        last: LastUsed,
    ) -> Result<Self, StoreError> {
        let design = Arc::new(Design::load(common.database.store.clone()).await?);
        let live = Arc::new(Live::new(limits.hierarchy_bytes));
        let bans = Bans::load(common.database.store.clone()).await?;
        let identities = Arc::new(identities);
        let judgement =
            Judgement { limits: Arc::clone(&limits), identities: Arc::clone(&identities), design: Arc::clone(&design) };
        let sessions = Sessions::new(Arc::clone(&limits), common.clock, Arc::clone(&live), Arc::new(judgement), last);
        Ok(Self { limits, common, live, identities, bans, design, sessions: Arc::new(sessions) })
    }

    /// The time of the process.
    pub fn now(&self) -> Time {
        self.common.clock.now()
    }

    /// The records.
    pub fn store(&self) -> &Store {
        &self.common.database.store
    }

    /// What an identity may do now by a client of this identifier.
    pub fn rights(&self, identity: &str, client_id: &str) -> Rights {
        self.sessions.judge.rights(identity, client_id)
    }

    /// All identities, as the rules see them.
    pub fn population(&self) -> BTreeMap<Arc<str>, Identity> {
        self.identities.directory.identities().into_iter().map(|one| (Arc::clone(&one.name), one)).collect()
    }
}

/// What identities may do, by the design in force.
#[derive(Debug)]
struct Judgement {
    limits: Arc<Limits>,
    identities: Arc<Identities>,
    design: Arc<Design>,
}

impl Judge for Judgement {
    fn rights(&self, identity: &str, client_id: &str) -> Rights {
        let nobody = || Identity { name: identity.into(), attributes: Default::default() };
        let identity = match identity {
            ADMINISTRATOR => return Rights::Unlimited,
            ANONYMOUS if self.identities.is_open() => return Rights::Unlimited,
            ANONYMOUS => Some(nobody()),
            name => self.identities.directory.identity(name),
        };
        let Some(identity) = identity else { return Rights::None(NoEntry::Unknown) };
        match self.design.policy().bind(&identity, client_id) {
            Ok(access) => Rights::Bound(access),
            Err(error) => Rights::None(NoEntry::Unfit(error)),
        }
    }

    fn quota(&self, identity: &str) -> Quota {
        let usual = Quota::from(&*self.limits);
        let known = self.identities.directory.identity(identity);
        let nobody = || Identity { name: identity.into(), attributes: Default::default() };
        self.design.policy().quota(&known.unwrap_or_else(nobody), usual)
    }

    fn no_entry(&self, identity: &str) -> Option<NoEntry> {
        self.identities.directory.no_entry(identity)
    }

    fn is_tied(&self, client_id: &str, identity: &str) -> Option<bool> {
        self.identities.directory.is_tied(client_id, identity)
    }
}
