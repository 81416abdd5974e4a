//! Identities and addresses that are not let in for a time.

use std::{net::IpAddr, sync::Arc, time::Duration};

use arc_swap::ArcSwap;
use ipnet::IpNet;
use moorfall_core::session::NotAccepted;
use moorfall_store::{Author, BanRecord, Deed, Store, StoreError};
use serde_json::json;
use time::{OffsetDateTime, format_description::well_known::Rfc3339};

/// Bans at a time.
pub const MOST: usize = 1_000;

/// Who is banned.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Banned {
    /// An identity, by its name.
    Identity(String),
    /// An address, or all of a network.
    Address(IpNet),
}

/// A ban.
#[derive(Clone, Debug)]
pub struct Ban {
    /// By which it is named.
    pub id: String,
    /// Who is banned.
    pub who: Banned,
    /// Until when.
    pub until: OffsetDateTime,
    /// Why.
    pub note: String,
    /// By whom.
    pub by: String,
}

/// All bans. Looking is cheap: it is done for each connection.
#[derive(Debug)]
pub struct Bans {
    store: Store,
    all: ArcSwap<Vec<Ban>>,
}

/// Why nobody was banned.
#[derive(Debug, thiserror::Error)]
pub enum NotBanned {
    /// There are as many as may be.
    #[error("there are {MOST} bans already; lift some first")]
    TooMany,
    /// It could not be kept.
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl Ban {
    /// Whether it concerns a client of this identity from this address.
    pub(crate) fn holds(&self, identity: &str, address: Option<IpAddr>) -> bool {
        match &self.who {
            Banned::Identity(name) => *name == *identity,
            Banned::Address(net) => address.is_some_and(|address| net.contains(&address.to_canonical())),
        }
    }

    /// What the refused are told.
    fn refusal(&self, now: OffsetDateTime) -> NotAccepted {
        NotAccepted::Banned(Duration::try_from(self.until - now).unwrap_or_default())
    }

    /// How it is stored.
    fn record(&self) -> BanRecord {
        let (kind, name) = match &self.who {
            Banned::Identity(name) => ("identity", name.clone()),
            Banned::Address(net) => ("address", net.to_string()),
        };
        BanRecord {
            id: self.id.clone(),
            kind: kind.into(),
            name,
            until: self.until,
            note: self.note.clone(),
            person: self.by.clone(),
        }
    }
}

/// An address or a network, such as `192.0.2.7` or `192.0.2.0/24`.
pub fn network(text: &str) -> Option<IpNet> {
    let one = |address: IpAddr| IpNet::from(address.to_canonical());
    text.parse::<IpNet>().map(|net| net.trunc()).ok().or_else(|| text.parse().ok().map(one))
}

impl Bans {
    /// Those that are stored.
    pub async fn load(store: Store) -> Result<Self, StoreError> {
        let read = |record: BanRecord| {
            let who = match record.kind.as_str() {
                "identity" => Banned::Identity(record.name),
                _ => Banned::Address(network(&record.name)?),
            };
            Some(Ban { id: record.id, who, until: record.until, note: record.note, by: record.person })
        };
        let all = store.bans().await?.into_iter().filter_map(read).collect();
        Ok(Self { store, all: ArcSwap::from_pointee(all) })
    }

    /// Those that are in force, the next to end first.
    pub fn list(&self) -> Vec<Ban> {
        let now = OffsetDateTime::now_utc();
        let mut bans: Vec<Ban> = self.all.load().iter().filter(|ban| ban.until > now).cloned().collect();
        bans.sort_by_key(|ban| ban.until);
        bans
    }

    /// Why an address is not let in; `None` if it may be.
    pub fn address(&self, address: IpAddr) -> Option<NotAccepted> {
        self.refusal("", Some(address))
    }

    /// Why a client of this identity from this address is not let in; `None` if it may be.
    pub fn refusal(&self, identity: &str, address: Option<IpAddr>) -> Option<NotAccepted> {
        let all = self.all.load();
        if all.is_empty() {
            return None;
        }
        let now = OffsetDateTime::now_utc();
        let held = all.iter().filter(|ban| ban.until > now && ban.holds(identity, address));
        held.max_by_key(|ban| ban.until).map(|ban| ban.refusal(now))
    }

    pub(crate) async fn add(&self, ban: Ban, by: &Author) -> Result<(), NotBanned> {
        let mut all = self.list();
        // A longer or shorter one takes the place of what there is.
        all.retain(|known| known.who != ban.who);
        if all.len() >= MOST {
            return Err(NotBanned::TooMany);
        }
        let record = ban.record();
        let after = json!({ "until": ban.until.format(&Rfc3339).unwrap_or_default(), "note": ban.note });
        let deed = Deed { after: Some(after), ..Deed::new("ban", record_kind(&ban), record.name.clone()) };
        self.store.put_ban(&record, by, &deed).await?;
        all.push(ban);
        self.all.store(Arc::new(all));
        Ok(())
    }

    /// Lifts a ban; gives whether there was one.
    pub async fn lift(&self, id: &str, by: &Author) -> Result<bool, StoreError> {
        let mut all = self.list();
        let Some(place) = all.iter().position(|ban| ban.id == id) else { return Ok(false) };
        let ban = all.remove(place);
        self.store.remove_ban(id, by, &Deed::new("lift ban of", record_kind(&ban), ban.record().name)).await?;
        self.all.store(Arc::new(all));
        Ok(true)
    }
}

fn record_kind(ban: &Ban) -> &'static str {
    match ban.who {
        Banned::Identity(_) => "identity",
        Banned::Address(_) => "address",
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn networks_are_read_and_hold_their_addresses() {
        let ban = |text: &str| Ban {
            id: String::new(),
            who: Banned::Address(network(text).expect("a network")),
            until: OffsetDateTime::UNIX_EPOCH,
            note: String::new(),
            by: String::new(),
        };
        let from = |address: &str| address.parse::<IpAddr>().ok();
        assert!(ban("192.0.2.7").holds("", from("192.0.2.7")));
        assert!(ban("192.0.2.7").holds("", from("::ffff:192.0.2.7")), "however the socket writes it");
        assert!(!ban("192.0.2.7").holds("", from("192.0.2.8")));
        assert!(ban("192.0.2.77/24").holds("", from("192.0.2.8")));
        assert!(ban("2001:db8::/32").holds("", from("2001:db8:7::1")));
        assert!(network("192.0.2.0/33").is_none() && network("weir").is_none());
        let weir = Ban { who: Banned::Identity("weir".into()), ..ban("192.0.2.7") };
        assert!(weir.holds("weir", None) && !weir.holds("mill", from("192.0.2.7")));
    }
}
