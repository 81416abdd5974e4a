//! Changes of identities and what they do to sessions.

use std::{collections::HashSet, sync::Arc};

use moorfall_contract::identities::{IdentityDraft, IdentityImport, IdentityView};
use moorfall_core::session::Ended;
use moorfall_live::facts::Fact;
use moorfall_store::Author;
use time::OffsetDateTime;

use crate::{
    broker::Broker,
    identity::{
        checks::DirectoryError,
        directory::{Impact, ManyPut},
    },
    notes,
    sessions::record::SignedInBy,
};

impl Broker {
    /// Makes or replaces an identity. Its sessions end when it may no longer connect or has another password; other
    /// attributes take effect on them at once.
    pub async fn put_identity(
        &self,
        name: &str,
        draft: IdentityDraft,
        by: &Author,
    ) -> Result<(IdentityView, Option<String>), DirectoryError> {
        let (view, secret, impact) = self.identities.directory.put(name, draft, by).await?;
        match impact {
            Impact::None => {}
            Impact::OtherRights => self.sessions.rebind(|record| *record.identity == *name),
            Impact::SignInAgain => self.sessions.end_identity(name, &Ended::IdentityChanged, false),
        }
        self.note_changed(name, by);
        Ok((view, secret))
    }

    /// Makes or replaces many identities; live sessions are treated as by [`Broker::put_identity`]. Gives the secrets that
    /// were made, with the names of their identities.
    pub async fn put_identities(
        &self,
        records: &[IdentityImport],
        by: &Author,
    ) -> Result<Vec<(String, String)>, DirectoryError> {
        let ManyPut { secrets, impacts } = self.identities.directory.put_many(records, by).await?;
        let of = |wanted: Impact| -> HashSet<&str> {
            impacts.iter().filter(|(_, impact)| *impact == wanted).map(|(name, _)| name.as_str()).collect()
        };
        let (rebind, end) = (of(Impact::OtherRights), of(Impact::SignInAgain));
        if !rebind.is_empty() {
            self.sessions.rebind(|record| rebind.contains(&*record.identity));
        }
        for name in end {
            self.sessions.end_identity(name, &Ended::IdentityChanged, false);
        }
        records.iter().for_each(|record| self.note_changed(&record.name, by));
        Ok(secrets)
    }

    fn note_changed(&self, name: &str, by: &Author) {
        let changed = Fact::IdentityChanged { name: name.to_owned(), by: Arc::clone(&by.person) };
        notes::note(&self.live, self.now(), &changed);
    }

    /// Removes an identity and ends its sessions; gives whether there was one.
    pub async fn remove_identity(&self, name: &str, by: &Author) -> Result<bool, DirectoryError> {
        let removed = self.identities.directory.remove(name, by).await?;
        self.identities.tokens.forget_identity(name);
        self.sessions.end_identity(name, &Ended::IdentityRemoved, true);
        if removed {
            let gone = Fact::IdentityRemoved { name: name.to_owned(), by: Arc::clone(&by.person) };
            notes::note(&self.live, self.now(), &gone);
        }
        Ok(removed)
    }

    /// Ends sessions whose clients have shown a token or a certificate that is not good any more.
    pub fn end_by_credential(&self) {
        let now = OffsetDateTime::now_utc();
        for record in self.sessions.registry.all() {
            let Some(link) = record.link() else { continue };
            if matches!(&link.by, SignedInBy::Token(id) if !self.identities.tokens.is_good(id)) {
                record.end(Ended::TokenOver, false);
            } else if link.certificate.as_ref().is_some_and(|certificate| certificate.ends < now) {
                record.end(Ended::CertificateExpired, false);
            }
        }
    }

    /// Ends sessions whose clients have shown a certificate to a listener that trusts the authorities given to the
    /// service: one of them was removed, and whoever has another's certificate is accepted again.
    pub fn end_by_authority(&self) {
        self.identities.authorities.note_removal();
        for record in self.sessions.registry.all() {
            if record.link().is_some_and(|link| link.certificate.is_some() && link.trusts_given) {
                record.end(Ended::AuthorityRemoved, false);
            }
        }
    }
}
