//! One broker: its identities, its design, its sessions and what goes on in it. What belongs to the process is not here.

use std::{collections::BTreeMap, sync::Arc};

use moorfall_core::{
    ADMINISTRATOR, ANONYMOUS, DERIVED, Identity, Limits, NameKey, Quota, Time,
    access::Policy,
    blueprint::Bridge,
    session::{Ended, NoEntry},
};
use moorfall_live::Live;
use moorfall_store::{LastUsed, Store, StoreError};

use crate::{
    bans::Bans,
    common::Common,
    design::in_force::Design,
    identity::Identities,
    judge::{Judge, Rights},
    random::random_text,
    sessions::Sessions,
};

/// By which other brokers know this one.
#[derive(Clone, Debug)]
pub struct BrokerName {
    /// As it is told.
    pub public: Arc<str>,
    /// Makes names of messages that nobody can guess.
    pub key: Arc<NameKey>,
}

impl BrokerName {
    /// The one that was given first. What the broker is called may change; this stays.
    async fn load(store: &Store, called: &str) -> Result<Self, StoreError> {
        let plain = called.split(|c: char| !c.is_ascii_alphanumeric()).filter(|part| !part.is_empty());
        let plain = plain.collect::<Vec<_>>().join("-").to_lowercase();
        let called = if plain.is_empty() { "moorfall" } else { &*plain };
        let new = (format!("{called}.{}", random_text(8)), random_text(32));
        let (public, secret) = store.broker_name((&new.0, &new.1)).await?;
        Ok(Self { public: public.into(), key: Arc::new(NameKey::of(&secret)) })
    }
}

/// A roof over the rooms.
#[derive(Debug)]
pub struct Broker {
    /// Limits of the service.
    pub limits: Arc<Limits>,
    /// By which other brokers know it.
    pub name: BrokerName,
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
        let name = BrokerName::load(&common.database.store, &design.policy().blueprint().name).await?;
        let live = Arc::new(Live::new(limits.hierarchy_bytes));
        live.ways.set_name(&name.public);
        let bans = Bans::load(common.database.store.clone()).await?;
        let identities = Arc::new(identities);
        let judgement =
            Judgement { limits: Arc::clone(&limits), identities: Arc::clone(&identities), design: Arc::clone(&design) };
        let sessions = Sessions::new(Arc::clone(&limits), common.clock, Arc::clone(&live), Arc::new(judgement), last);
        sessions.set_owned(design.policy().blueprint());
        Ok(Self { limits, name, common, live, identities, bans, design, sessions: Arc::new(sessions) })
    }

    /// The time of the process.
    pub fn now(&self) -> Time {
        self.common.clock.now()
    }

    /// Has everything that goes on end in order.
    pub fn stop(&self) {
        self.sessions.owned.stop();
        self.common.stopping.cancel();
        // A client that is accepted later finds that the service is stopping.
        for record in self.sessions.registry.all() {
            record.end(Ended::Stopping, false);
        }
    }

    /// The records.
    pub fn store(&self) -> &Store {
        &self.common.database.store
    }

    /// What an identity may do now by a client of this identifier.
    pub fn rights(&self, identity: &str, client_id: &str) -> Rights {
        self.sessions.judge.rights(identity, client_id)
    }

    /// All identities, as the rules see them, those of bridges among them.
    pub fn population(&self) -> BTreeMap<Arc<str>, Identity> {
        let policy = self.design.policy();
        let bridges = policy.blueprint().bridges.iter().map(Bridge::identity);
        let all = self.identities.directory.identities().into_iter().chain(bridges);
        all.map(|one| (Arc::clone(&one.name), one)).collect()
    }

    /// An identity, as the rules see it; of a bridge, if it is in the design in force.
    pub fn identity(&self, name: &str) -> Option<Identity> {
        identity(&self.identities, &self.design.policy(), name)
    }
}

fn identity(identities: &Identities, policy: &Policy, name: &str) -> Option<Identity> {
    match Identity::bridge_named(name) {
        Some(_) => bridge(policy, name).map(Bridge::identity),
        None => identities.directory.identity(name),
    }
}

/// The bridge whose identity this is.
fn bridge<'a>(policy: &'a Policy, identity: &str) -> Option<&'a Bridge> {
    let name = Identity::bridge_named(identity)?;
    policy.blueprint().bridges.iter().find(|bridge| bridge.name == name)
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
            // What derived topics hear and say stands in the blueprint.
            ADMINISTRATOR | DERIVED => return Rights::Unlimited,
            ANONYMOUS if self.identities.is_open() => return Rights::Unlimited,
            name if self.identities.is_open() && Identity::bridge_named(name).is_some() => return Rights::Unlimited,
            ANONYMOUS => Some(nobody()),
            name => self::identity(&self.identities, &self.design.policy(), name),
        };
        let Some(identity) = identity else { return Rights::None(NoEntry::Unknown) };
        match self.design.policy().bind(&identity, client_id) {
            Ok(access) => Rights::Bound(access),
            Err(error) => Rights::None(NoEntry::Unfit(error)),
        }
    }

    fn quota(&self, identity: &str) -> Quota {
        let policy = self.design.policy();
        let usual = match bridge(&policy, identity) {
            Some(bridge) => Quota::from(&bridge.limits(&self.limits)),
            None => Quota::from(&*self.limits),
        };
        let known = self::identity(&self.identities, &policy, identity);
        let nobody = || Identity { name: identity.into(), attributes: Default::default() };
        policy.quota(&known.unwrap_or_else(nobody), usual)
    }

    fn no_entry(&self, identity: &str) -> Option<NoEntry> {
        match Identity::bridge_named(identity) {
            None if identity == DERIVED => None,
            Some(_) => bridge(&self.design.policy(), identity).is_none().then_some(NoEntry::Unknown),
            None => self.identities.directory.no_entry(identity),
        }
    }

    fn is_tied(&self, client_id: &str, identity: &str) -> Option<bool> {
        if client_id.starts_with(DERIVED) {
            return Some(identity == DERIVED);
        }
        if Identity::bridge_named(client_id).is_some() {
            let mine = client_id.rsplit_once(':').map(|(owner, _)| owner);
            return Some(mine == Some(identity));
        }
        self.identities.directory.is_tied(client_id, identity)
    }
}
