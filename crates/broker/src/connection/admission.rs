//! How a client is accepted.

use std::sync::{Arc, atomic::Ordering};

use futures_util::{FutureExt, future::BoxFuture};
use moorfall_core::{
    DERIVED,
    access::Access,
    session::{Credentials, Ended, Verdict},
};
use moorfall_live::facts::Fact;
use moorfall_store::SessionRow;

use super::{Checked, Connection, Walking};
use crate::{
    identity::{
        Identities,
        authenticator::{Asking, Authenticator},
        directory::Whose,
    },
    listeners::origin::Acting,
    notes,
    sessions::{
        record::{Link, LinkOrigin, SignedInBy},
        registry::Newcomer,
    },
};

impl Connection {
    /// Finds out who the client is. The wait for it is no task's own: who goes away meanwhile is forgotten.
    pub(super) fn authenticate(&mut self, credentials: Credentials) -> BoxFuture<'static, Checked> {
        self.user_name = credentials.user_name.as_deref().unwrap_or_default().to_owned();
        self.seat.has_said_connect();
        if let Some(refusal) = self.seat.refusal {
            return std::future::ready((Verdict::Refused(refusal.into()), SignedInBy::Nothing)).boxed();
        }
        let broker = Arc::clone(&self.broker);
        let listener = Arc::clone(&self.origin.listener);
        let certificate = self.origin.certificate.clone();
        let (address, acting) = (self.origin.address.ip(), self.origin.acting.clone());
        let from = if acting.is_none() { Some(address) } else { None };
        if let Some(banned) = from.and_then(|address| self.broker.bans.address(address)) {
            return std::future::ready((Verdict::Refused(banned), SignedInBy::Nothing)).boxed();
        }
        async move {
            let asking = Asking {
                credentials: &credentials,
                certificate: certificate.as_deref(),
                anonymous: listener.anonymous,
                design: &broker.design,
                address,
                limits: &listener.limits,
            };
            let Identities { authenticator, directory, tokens, .. } = &*broker.identities;
            let (verdict, by) = match acting {
                Some(Acting::Person { identity, person }) => {
                    (Authenticator::admit_acting(&asking, &identity, directory), SignedInBy::Person(person))
                }
                // What it may hear the blueprint says.
                Some(Acting::Derived { .. }) => (Verdict::Known(Access::unrestricted(DERIVED)), SignedInBy::Derived),
                Some(Acting::Bridge { name, .. }) => (authenticator.admit_bridge(&asking, &name), SignedInBy::Bridge),
                None => authenticator.check(&asking, directory, tokens).await,
            };
            // Told only to whoever has the credential.
            match verdict {
                Verdict::Known(access) => match broker.bans.refusal(access.name(), from) {
                    Some(banned) => (Verdict::Refused(banned), by),
                    None => (Verdict::Known(access), by),
                },
                refused @ Verdict::Refused(_) => (refused, by),
            }
        }
        .boxed()
    }

    pub(super) async fn admit(&mut self, client_id: String, identity: Arc<str>, clean_start: bool, expiry: u32) {
        let origin = LinkOrigin {
            address: self.origin.address,
            listener: Arc::clone(&self.origin.listener.name),
            certificate: self.origin.certificate.clone(),
            trusts_given: self.trusts_given(),
            tls: self.origin.tls,
        };
        let link = Link::new(origin, self.session.version(), self.signed_in_by.clone());
        let link = Arc::new(link);
        let limits = Arc::clone(&self.origin.listener.limits);
        let newcomer = Newcomer { client_id, identity, clean_start, expiry, limits, link: Arc::clone(&link) };
        let (record, parked) = match self.broker.sessions.admit(&newcomer).await {
            Ok(admitted) => admitted,
            Err(why) => return self.session.handle_not_admitted(why),
        };
        self.link = Some(link);
        let connected = Fact::Connected {
            client: record.named(),
            address: self.origin.address,
            listener: Arc::clone(&self.origin.listener.name),
            version: self.session.version(),
            resumed: parked.is_some(),
        };
        notes::note(&self.broker.live, self.broker.now(), &connected);
        let was_kept = parked.is_some();
        let state = parked.map(|parked| {
            self.retained_due = parked.retained_due;
            if let Some(walk) = parked.walk {
                self.walking = Some(Box::new(Walking { of: walk.of, place: walk.place, retained: None }));
                self.held = walk.left.len();
                self.pending = walk.left;
            }
            parked.state
        });
        let now = self.broker.now();
        if let Some(handover) = &self.handover {
            handover.begin(&record);
        }
        self.session.handle_admitted(now, record.key, state);
        if let Some(link) = &self.link {
            link.keep_alive.store(self.session.keep_alive(), Ordering::Relaxed);
            link.heard.store(now.as_micros(), Ordering::Relaxed);
        }
        self.session.hold_for(Arc::clone(&record.holding));
        if let Some(access) = self.session.access() {
            record.set_access(access);
        }
        if expiry > 0 || was_kept {
            let row = SessionRow {
                client_id: record.client_id.clone(),
                identity: Arc::clone(&record.identity),
                expiry,
                away_since: None,
                began_at: record.began_at.as_micros(),
                will: self.session.will(now),
            };
            self.broker.sessions.journal.open().put_session(record.key, row);
        }
        // Between the check and this moment the identity may have been removed or disabled; from now on such a change
        // finds the session in the registry.
        if let Some(why) = self.broker.sessions.judge.no_entry(&record.identity) {
            self.session.end(now, Ended::NoEntry(why), false);
        }
        if self.origin.acting.is_none() && self.broker.is_banned(&record, self.origin.address.ip()) {
            self.session.end(now, Ended::Banned, false);
        }
        if !self.is_credential_good(&record.identity) {
            self.session.end(now, Ended::CredentialsOver, false);
        }
        if self.broker.common.stopping.is_cancelled() {
            self.session.end(now, Ended::Stopping, false);
        }
        // Nor does a change of the design.
        record.set_stale();
        if self.tap.is_open() {
            self.tap.decide(&self.broker.live.ladders, Some(super::known(&record)), now);
        }
        self.record = Some(record);
        self.count_subscriptions();
    }

    /// Whether the token or the certificate that let the client in was taken away, or given to another, since.
    fn is_credential_good(&self, identity: &str) -> bool {
        let token = match &self.signed_in_by {
            SignedInBy::Token(id) => self.broker.identities.tokens.is_good(id),
            SignedInBy::Certificate => self.origin.certificate.as_ref().is_some_and(|shown| {
                self.broker.identities.directory.by_certificate(shown) == Whose::Of(identity.to_owned())
            }),
            _ => true,
        };
        let was_removed = self.origin.removals != self.broker.identities.authorities.removals();
        token && !(self.trusts_given() && was_removed && self.origin.certificate.is_some())
    }

    fn trusts_given(&self) -> bool {
        self.origin.listener.tls.as_ref().is_some_and(|tls| tls.trusts_given())
    }
}
