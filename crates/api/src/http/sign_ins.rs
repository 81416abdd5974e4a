//! Who is signed in to the console, or by the command line: held in memory so that it is known while the database is
//! away, and written to the database first.

use std::{collections::HashMap, sync::Arc};

use foldhash::fast::RandomState;
use moorfall_broker::{listeners::gatekeeper::Tickets, random::random_text};
use moorfall_store::{Author, Store, StoreError, StoredSignIn};
use parking_lot::{Mutex, RwLock};
use sha2::{Digest, Sha256};
use time::{Duration, OffsetDateTime};
use tokio_util::sync::CancellationToken;

/// How long a sign-in holds.
pub const LIFE: Duration = Duration::days(7);

/// How long a link waits to be used.
pub const LINK_LIFE: Duration = Duration::hours(1);

/// Sign-ins of one person at a time; the oldest ends for one more.
const PER_PERSON: usize = 100;

type Hash = [u8; 32];

/// One sign-in.
#[derive(Debug)]
pub struct SignedIn {
    /// Absent for whoever had the administrator's secret.
    pub person: Option<Arc<str>>,
    /// The person's role, as it is stored.
    pub role: String,
    /// When it ends by itself.
    pub expires_at: OffsetDateTime,
    /// Cancelled when it is over before its time.
    pub ended: CancellationToken,
}

impl SignedIn {
    fn new(person: Option<&str>, role: &str, expires_at: OffsetDateTime) -> Self {
        Self { person: person.map(Into::into), role: role.into(), expires_at, ended: CancellationToken::new() }
    }

    fn is_over(&self) -> bool {
        self.expires_at <= OffsetDateTime::now_utc()
    }

    /// Waits until it is over.
    pub async fn end(&self) {
        let left = (self.expires_at - OffsetDateTime::now_utc()).try_into().unwrap_or_default();
        let _over = tokio::time::timeout(left, self.ended.cancelled()).await;
    }
}

/// All sign-ins, and the live streams that rest on them.
#[derive(Debug)]
pub struct SignIns {
    store: Store,
    known: RwLock<HashMap<Hash, Arc<SignedIn>, RandomState>>,
    /// Links that sign in once and have not been used: until when.
    links: Mutex<HashMap<Hash, OffsetDateTime, RandomState>>,
    /// By person; the administrator's under no name.
    pub streams: Arc<Tickets<Arc<str>>>,
}

fn hash(token: &str) -> Hash {
    Sha256::digest(token.as_bytes()).into()
}

impl SignIns {
    /// All that are stored.
    pub async fn load(store: Store) -> Result<Self, StoreError> {
        let stored = store.sign_ins().await?.into_iter().filter_map(|stored| {
            let StoredSignIn { token_hash, person, role, expires_at } = stored;
            let signed_in = SignedIn::new(person.as_deref(), role.as_deref().unwrap_or_default(), expires_at);
            Some((token_hash.try_into().ok()?, Arc::new(signed_in)))
        });
        let known = RwLock::new(stored.collect());
        Ok(Self { store, known, links: Mutex::default(), streams: Arc::default() })
    }

    /// What signs the administrator in once, within [`LINK_LIFE`]. Made by whoever started the service, and by nobody who
    /// only reaches it.
    pub fn offer_link(&self) -> String {
        let token = random_text(26);
        self.links.lock().insert(hash(&token), OffsetDateTime::now_utc() + LINK_LIFE);
        token
    }

    /// Whether this signs in; from now on it does not.
    pub fn take_link(&self, token: &str) -> bool {
        let until = self.links.lock().remove(&hash(token));
        until.is_some_and(|until| OffsetDateTime::now_utc() < until)
    }

    /// Signs a person in, or the administrator; gives the token.
    pub async fn add(&self, person: Option<(&str, &str)>, by: &Author) -> Result<String, StoreError> {
        let token = random_text(40);
        let hash = hash(&token);
        let expires_at = OffsetDateTime::now_utc() + LIFE;
        let name = person.map(|(name, _)| name);
        self.store.add_sign_in(&hash, name, expires_at, by).await?;
        let signed_in = SignedIn::new(name, person.map_or("", |(_, role)| role), expires_at);
        let oldest = {
            let mut known = self.known.write();
            known.retain(|_, signed_in| !signed_in.is_over());
            let own = known.iter().filter(|(_, signed_in)| signed_in.person.as_deref() == name);
            let mut own: Vec<_> = own.map(|(hash, signed_in)| (signed_in.expires_at, *hash)).collect();
            own.sort_unstable();
            let oldest = own.first().filter(|_| own.len() >= PER_PERSON).map(|(_, hash)| *hash);
            known.insert(hash, Arc::new(signed_in));
            oldest
        };
        if let Some(oldest) = oldest {
            self.remove_hash(&oldest).await?;
        }
        Ok(token)
    }

    /// Whose a token is, unless it has ended.
    pub fn get(&self, token: &str) -> Option<Arc<SignedIn>> {
        self.known.read().get(&hash(token)).filter(|signed_in| !signed_in.is_over()).cloned()
    }

    /// Ends one sign-in.
    pub async fn remove(&self, token: &str) -> Result<(), StoreError> {
        self.remove_hash(&hash(token)).await
    }

    async fn remove_hash(&self, hash: &Hash) -> Result<(), StoreError> {
        if let Some(gone) = self.known.write().remove(hash) {
            gone.ended.cancel();
        }
        self.store.remove_sign_in(hash).await
    }

    /// Forgets all sign-ins of a person, whose records the database no longer has.
    pub fn forget(&self, person: &str) {
        self.known.write().retain(|_, signed_in| {
            let goes = signed_in.person.as_deref() == Some(person);
            if goes {
                signed_in.ended.cancel();
            }
            !goes
        });
    }
}
