//! What a ban does to those who are connected.

use std::{net::IpAddr, time::Duration};

use moorfall_core::session::Ended;
use moorfall_store::Author;
use time::OffsetDateTime;

use crate::{
    bans::{Ban, Banned, NotBanned},
    broker::Broker,
    random::random_text,
    sessions::record::SessionRecord,
};

impl Broker {
    /// Bans an identity or an address for a time, and ends the connections that it has. Sessions that outlive their
    /// connections stay.
    pub async fn ban(&self, who: Banned, time: Duration, note: String, by: &Author) -> Result<Ban, NotBanned> {
        let until = OffsetDateTime::now_utc() + time;
        let ban = Ban { id: random_text(10), who, until, note, by: by.person.to_string() };
        self.bans.add(ban.clone(), by).await?;
        for record in self.sessions.registry.all() {
            if let Some(link) = record.link()
                && ban.holds(&record.identity, Some(link.address.ip()))
            {
                record.end(Ended::Banned, false);
            }
        }
        Ok(ban)
    }

    /// Whether the client of a session is banned since it was let in.
    pub(crate) fn is_banned(&self, record: &SessionRecord, address: IpAddr) -> bool {
        self.bans.refusal(&record.identity, Some(address)).is_some()
    }
}
