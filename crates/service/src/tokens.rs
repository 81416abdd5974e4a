//! Tokens: what identities sign in with in place of a password. A token is signed and shown once; what is kept is only
//! that it was made. It ends by itself, and at once when it is revoked.

use std::{collections::HashMap, sync::Arc};

use foldhash::fast::RandomState;
use hmac::{Hmac, KeyInit, Mac};
use moorfall_store::{Store, StoreError, TokenRecord};
use parking_lot::RwLock;
use sha2::Sha256;
use time::{Duration, OffsetDateTime};

use crate::data_folder::random_text;

/// What a token begins with, so that people and programs know one when they see it.
const PREFIX: &str = "moor-";

/// The longest life of a token.
pub(crate) const LONGEST: Duration = Duration::days(3_660);

/// All tokens.
pub(crate) struct Tokens {
    store: Store,
    key: Vec<u8>,
    known: RwLock<HashMap<String, Arc<TokenRecord>, RandomState>>,
}

impl std::fmt::Debug for Tokens {
    /// Leaves the key out.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Tokens").field("known", &self.known.read().len()).finish_non_exhaustive()
    }
}

impl Tokens {
    pub(crate) async fn load(store: Store) -> Result<Self, StoreError> {
        let key = store.signing_key(random_text(40).as_bytes()).await?;
        let known = store.tokens().await?.into_iter().map(|token| (token.id.clone(), Arc::new(token)));
        let known = RwLock::new(known.collect());
        Ok(Self { store, key, known })
    }

    /// The signature of a token, which holds for this identity only.
    fn signature(&self, id: &str, identity: &str) -> Hmac<Sha256> {
        let mut mac = Hmac::<Sha256>::new_from_slice(&self.key).expect("a key of any length will do");
        mac.update(id.as_bytes());
        mac.update(b"\0");
        mac.update(identity.as_bytes());
        mac
    }

    /// Makes a token; `None` if the identity has one of this name, or there is no such identity.
    pub(crate) async fn make(
        &self,
        identity: &str,
        name: &str,
        life: Duration,
    ) -> Result<Option<(String, Arc<TokenRecord>)>, StoreError> {
        let id = random_text(16);
        let Some(record) = self.store.add_token(&id, identity, name, OffsetDateTime::now_utc() + life).await? else {
            return Ok(None);
        };
        let record = Arc::new(record);
        self.known.write().insert(id.clone(), Arc::clone(&record));
        let signature = self.signature(&id, identity).finalize().into_bytes();
        let hex: String = signature.iter().map(|byte| format!("{byte:02x}")).collect();
        Ok(Some((format!("{PREFIX}{id}.{hex}"), record)))
    }

    /// The tokens of an identity that have not ended, by name.
    pub(crate) fn of(&self, identity: &str) -> Vec<Arc<TokenRecord>> {
        let now = OffsetDateTime::now_utc();
        let known = self.known.read();
        let mut own: Vec<_> =
            known.values().filter(|token| token.identity == identity && token.expires_at > now).cloned().collect();
        own.sort_by(|one, other| one.name.cmp(&other.name));
        own
    }

    /// Revokes a token; gives its identifier if there was one.
    pub(crate) async fn revoke(&self, identity: &str, name: &str) -> Result<Option<String>, StoreError> {
        let found = self.of(identity).into_iter().find(|token| token.name == name);
        let Some(token) = found else { return Ok(None) };
        self.store.remove_token(&token.id).await?;
        self.known.write().remove(&token.id);
        Ok(Some(token.id.clone()))
    }

    /// Forgets the tokens of an identity that is removed; the database does by itself.
    pub(crate) fn forget_identity(&self, identity: &str) {
        self.known.write().retain(|_, token| token.identity != identity);
    }

    /// Whether a token of this identifier is good now.
    pub(crate) fn is_good(&self, id: &str) -> bool {
        self.known.read().get(id).is_some_and(|token| token.expires_at > OffsetDateTime::now_utc())
    }

    /// Whether a password looks like a token.
    pub(crate) fn is_token(password: &[u8]) -> bool {
        password.starts_with(PREFIX.as_bytes())
    }

    /// The identifier of a token that is signed, known, this identity's, and has not ended.
    pub(crate) fn check(&self, identity: &str, password: &[u8]) -> Option<String> {
        let text = std::str::from_utf8(password).ok()?.strip_prefix(PREFIX)?;
        let (id, hex) = text.split_once('.')?;
        let digits = |at: usize| u8::from_str_radix(hex.get(at..at + 2)?, 16).ok();
        let given: Vec<u8> = (0..hex.len() / 2).map(|index| digits(2 * index)).collect::<Option<_>>()?;
        // Takes as long for every signature that is wrong.
        self.signature(id, identity).verify_slice(&given).ok()?;
        let known = self.known.read();
        let token = known.get(id)?;
        (token.identity == identity && token.expires_at > OffsetDateTime::now_utc()).then(|| id.to_owned())
    }
}
