//! Tokens: what identities sign in with in place of a password. A token is a secret of 200 bits that is shown once; what
//! is kept is its digest. It ends by itself, and at once when it is revoked.

use std::{collections::HashMap, sync::Arc};

use foldhash::fast::RandomState;
use hmac::{Hmac, KeyInit, Mac};
use moorfall_store::{Author, Deed, NewToken, Store, StoreError, TokenRecord};
use sha2::{Digest, Sha256};
use time::{Duration, OffsetDateTime};
use tracing_mutex::parkinglot::RwLock;

use crate::random::random_text;

/// What a token begins with, so that people and programs know one when they see it.
const PREFIX: &str = "moor-";

/// The longest life of a token.
pub const LONGEST: Duration = Duration::days(3_660);

/// Characters of the secret part, five bits each.
const SECRET: usize = 40;

/// All tokens.
#[derive(Debug)]
pub struct Tokens {
    store: Store,
    known: RwLock<HashMap<String, Arc<TokenRecord>, RandomState>>,
}

/// The secret part of a token as tokens were before: signed by a key for this identity.
fn signed(key: &[u8], id: &str, identity: &str) -> String {
    let mut mac = Hmac::<Sha256>::new_from_slice(key).expect("a key of any length will do");
    mac.update(id.as_bytes());
    mac.update(b"\0");
    mac.update(identity.as_bytes());
    hex::encode(mac.finalize().into_bytes())
}

impl Tokens {
    /// All that are stored.
    pub async fn load(store: Store) -> Result<Self, StoreError> {
        if let Some(key) = store.signing_key().await? {
            let old = store.tokens().await?.into_iter().filter(|token| token.digest.is_none());
            let digest = |token: TokenRecord| {
                let secret = signed(&key, &token.id, &token.identity);
                (token.id, Sha256::digest(secret.as_bytes()).to_vec())
            };
            store.forget_signing_key(&old.map(digest).collect::<Vec<_>>()).await?;
        }
        let known = store.tokens().await?.into_iter().map(|token| (token.id.clone(), Arc::new(token)));
        let known = RwLock::new(known.collect());
        Ok(Self { store, known })
    }

    /// Makes a token; `None` if the identity has one of this name, or there is no such identity.
    pub async fn make(
        &self,
        identity: &str,
        name: &str,
        life: Duration,
        by: &Author,
        deed: impl FnOnce(&TokenRecord) -> Deed + Send,
    ) -> Result<Option<(String, Arc<TokenRecord>)>, StoreError> {
        let (id, secret) = (random_text(16), random_text(SECRET));
        let ends = OffsetDateTime::now_utc() + life;
        let digest = Sha256::digest(secret.as_bytes());
        let token = NewToken { id: &id, identity, name, expires_at: ends, digest: &digest };
        let added = self.store.add_token(&token, by, deed).await?;
        let Some(record) = added else { return Ok(None) };
        let record = Arc::new(record);
        self.known.write().insert(id.clone(), Arc::clone(&record));
        Ok(Some((format!("{PREFIX}{id}.{secret}"), record)))
    }

    /// The tokens of an identity that have not ended, by name.
    pub fn of(&self, identity: &str) -> Vec<Arc<TokenRecord>> {
        let now = OffsetDateTime::now_utc();
        let known = self.known.read();
        let mut own: Vec<_> =
            known.values().filter(|token| token.identity == identity && token.expires_at > now).cloned().collect();
        own.sort_by(|one, other| one.name.cmp(&other.name));
        own
    }

    /// Revokes a token; gives its identifier if there was one.
    pub async fn revoke(&self, identity: &str, name: &str, by: &Author) -> Result<Option<String>, StoreError> {
        let found = self.of(identity).into_iter().find(|token| token.name == name);
        let Some(token) = found else { return Ok(None) };
        let deed = Deed::new("revoke", "token", format!("{name} of {identity}"));
        self.store.remove_token(&token.id, by, &deed).await?;
        self.known.write().remove(&token.id);
        Ok(Some(token.id.clone()))
    }

    /// Forgets the tokens of an identity that is removed; the database does by itself.
    pub fn forget_identity(&self, identity: &str) {
        self.known.write().retain(|_, token| token.identity != identity);
    }

    /// Whether a token of this identifier is good now.
    pub fn is_good(&self, id: &str) -> bool {
        self.known.read().get(id).is_some_and(|token| token.expires_at > OffsetDateTime::now_utc())
    }

    /// Whether a password looks like a token.
    pub fn is_token(password: &[u8]) -> bool {
        password.starts_with(PREFIX.as_bytes())
    }

    /// The identifier of a token that is known, this identity's, and has not ended.
    pub fn check(&self, identity: &str, password: &[u8]) -> Option<String> {
        let text = std::str::from_utf8(password).ok()?.strip_prefix(PREFIX)?;
        let (id, secret) = text.split_once('.')?;
        let known = self.known.read();
        let token = known.get(id)?;
        // Digests are compared, so the time taken tells nothing of the secret.
        let is_right = token.digest.as_deref() == Some(&Sha256::digest(secret.as_bytes())[..]);
        (is_right && token.identity == identity && token.expires_at > OffsetDateTime::now_utc()).then(|| id.to_owned())
    }
}
