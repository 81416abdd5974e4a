//! One broker: its identities, its design, its sessions and what goes on in it. What belongs to the process is not here.

use std::{collections::BTreeMap, sync::Arc};

use moorfall_core::{Identity, Limits, Quota, Time};
use moorfall_store::{Store, StoreError};

use crate::{
    authenticator::{ADMINISTRATOR, ANONYMOUS},
    common::Common,
    design::Design,
    identities::Identities,
    judge::{Judge, NoEntry, Rights},
    live::Live,
    sessions::{LastUsed, Sessions},
};

/// A roof over the rooms.
#[derive(Debug)]
pub(crate) struct Broker {
    pub(crate) limits: Arc<Limits>,
    pub(crate) common: Arc<Common>,
    pub(crate) live: Arc<Live>,
    pub(crate) identities: Arc<Identities>,
    pub(crate) design: Arc<Design>,
    pub(crate) sessions: Arc<Sessions>,
}

impl Broker {
    pub(crate) async fn load(
        common: Arc<Common>,
        limits: Arc<Limits>,
        identities: Identities,
        last: LastUsed,
    ) -> Result<Self, StoreError> {
        let design = Arc::new(Design::load(common.database.store.clone()).await?);
        let live = Arc::new(Live::new(limits.hierarchy_bytes));
        let identities = Arc::new(identities);
        let judgement =
            Judgement { limits: Arc::clone(&limits), identities: Arc::clone(&identities), design: Arc::clone(&design) };
        let sessions = Sessions::new(Arc::clone(&limits), common.clock, Arc::clone(&live), Arc::new(judgement), last);
        Ok(Self { limits, common, live, identities, design, sessions: Arc::new(sessions) })
    }

    pub(crate) fn now(&self) -> Time {
        self.common.clock.now()
    }

    pub(crate) fn store(&self) -> &Store {
        &self.common.database.store
    }

    /// What an identity may do now by a client of this identifier.
    pub(crate) fn rights(&self, identity: &str, client_id: &str) -> Rights {
        self.sessions.judge.rights(identity, client_id)
    }

    /// All identities, as the rules see them.
    pub(crate) fn population(&self) -> BTreeMap<Arc<str>, Identity> {
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
            Err(error) => Rights::None(NoEntry::Unfit(error.to_string())),
        }
    }

    fn quota(&self, identity: &str) -> Quota {
        let usual = Quota::from(&*self.limits);
        let known = self.identities.directory.identity(identity);
        let nobody = || Identity { name: identity.into(), attributes: Default::default() };
        self.design.policy().quota(&known.unwrap_or_else(nobody), usual)
    }

    fn may_connect(&self, identity: &str) -> bool {
        self.identities.directory.may_connect(identity)
    }

    fn is_tied(&self, client_id: &str, identity: &str) -> Option<bool> {
        self.identities.directory.is_tied(client_id, identity)
    }
}
