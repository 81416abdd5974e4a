//! Passwords that people chose: made and checked with Argon2id by a few threads of their own.
//!
//! Each hash takes a core for tens of milliseconds and 19 MiB, so there are as many at a time as there are threads,
//! whatever comes, and each thread uses its memory again. What waits stands in a [`Queue`]. A sign-in whose client went
//! away is not looked at. Who was right once is known again by a keyed digest until the identity changes.

use std::{
    net::{IpAddr, Ipv4Addr},
    sync::{
        Arc, OnceLock,
        atomic::{AtomicU64, Ordering},
    },
    thread::{Builder, available_parallelism},
    time::Duration,
};

use argon2::{
    Algorithm, Argon2, Block, Params, Version,
    password_hash::phc::{Output, ParamsString, PasswordHash, Salt},
};
use hmac::{Hmac, KeyInit, Mac};
use moorfall_core::Limits;
use moorfall_live::facts::Fact;
use parking_lot::{Condvar, Mutex};
use rand::Rng;
use sha2::Sha256;
use tokio::sync::oneshot;
use zeroize::Zeroizing;

use crate::{
    clock::Clock,
    identity::sign_in_queue::{Abandonable, Ask, Pick, Queue},
    listeners::gatekeeper::neighbourhood,
    notes,
};

/// The longest password that is taken, bytes: hashing is what a stranger can make the service work at.
pub const PASSWORD_LENGTH: usize = 1_024;

/// Threads that hash; others than these have the cores to themselves when there are more.
const THREADS: usize = 2;

/// How long the memory of a thread that has nothing to do is kept.
const IDLE: Duration = Duration::from_secs(10);

/// The most that a hash from elsewhere may cost: memory in KiB, passes, lanes.
pub const COSTS: (u32, u32, u32) = (64 * 1024, 10, 4);

/// Whose sign-ins are the service's own work: they wait for nobody else's.
const OWN: IpAddr = IpAddr::V4(Ipv4Addr::UNSPECIFIED);

/// The digest of a password that was right, for as long as what it was checked against stays.
#[derive(Clone, Debug, Default)]
pub struct KnownAgain(Arc<OnceLock<[u8; 32]>>);

/// Somebody who signs in.
pub struct Guess<'a> {
    /// Where the guess comes from.
    pub address: IpAddr,
    /// With what tells persons from identities.
    pub name: Arc<str>,
    /// What is guessed.
    pub password: &'a [u8],
    /// The hash in PHC form; without one the answer takes as long and is never right.
    pub stored: Option<&'a str>,
    /// What was right before, if it is remembered.
    pub known: Option<&'a KnownAgain>,
    /// Those of its listener.
    pub limits: &'a Limits,
}

/// What a sign-in came to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Checked {
    /// It is the password.
    Right,
    /// It is not.
    Wrong,
    /// As many of its address wait as may.
    TooMany,
}

/// Why a password could not be hashed.
#[derive(Debug, thiserror::Error)]
pub enum HashError {
    /// The service is stopping.
    #[error("The password could not be hashed: the service is stopping.")]
    Stopping,
    /// There is not enough memory for it, say.
    #[error("The password could not be hashed: {0}.")]
    Hash(#[from] argon2::Error),
    /// Its hash could not be written.
    #[error("The password could not be hashed: {0}.")]
    Format(#[from] argon2::password_hash::Error),
}

enum Job {
    Check {
        password: Zeroizing<Vec<u8>>,
        stored: Option<String>,
        known: Option<KnownAgain>,
        answer: oneshot::Sender<bool>,
    },
    Make {
        password: Zeroizing<String>,
        answer: oneshot::Sender<Result<String, HashError>>,
    },
}

impl Abandonable for Job {
    fn is_abandoned(&self) -> bool {
        match self {
            Self::Check { answer, .. } => answer.is_closed(),
            Self::Make { answer, .. } => answer.is_closed(),
        }
    }
}

struct Room {
    queue: Mutex<(Queue<Job>, bool)>,
    work: Condvar,
    clock: Clock,
    /// For the digests by which passwords are known again; new in each process.
    key: [u8; 32],
    /// Checked when there is nothing to check against, so that the answer takes as long.
    decoy: String,
    turned_away: AtomicU64,
}

/// The threads that hash.
pub struct Passwords(Arc<Room>);

impl std::fmt::Debug for Passwords {
    /// Leaves the key and what waits out.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Passwords").finish_non_exhaustive()
    }
}

impl Drop for Passwords {
    fn drop(&mut self) {
        self.0.queue.lock().1 = true;
        self.0.work.notify_all();
    }
}

impl Passwords {
    /// Starts the threads that hash.
    pub fn start(clock: Clock) -> Self {
        let mut key = [0; 32];
        rand::rng().fill_bytes(&mut key);
        let decoy = hash("nobody has this password", &mut Vec::new()).unwrap_or_default();
        let room =
            Room { queue: Mutex::default(), work: Condvar::new(), clock, key, decoy, turned_away: AtomicU64::new(0) };
        let room = Arc::new(room);
        for number in 0..THREADS.min(available_parallelism().map_or(1, usize::from)) {
            let room = Arc::clone(&room);
            let named = Builder::new().name(format!("passwords-{number}"));
            named.spawn(move || room.work()).expect("a thread can be started while the service starts");
        }
        Self(room)
    }

    /// Sign-ins that were turned away because as many of their address waited as may.
    pub fn turned_away(&self) -> u64 {
        self.0.turned_away.load(Ordering::Relaxed)
    }

    /// Hashes a password.
    pub async fn make(&self, password: String) -> Result<String, HashError> {
        let (answer, made) = oneshot::channel();
        let ask = Ask { address: OWN, name: "".into(), failures_per_minute: 0, paid: true };
        let job = Job::Make { password: Zeroizing::new(password), answer };
        self.push(ask, job, usize::MAX);
        made.await.unwrap_or(Err(HashError::Stopping))
    }

    /// Checks a password. Dropping the future gives the turn to others.
    pub async fn check(&self, guess: Guess<'_>) -> Checked {
        let Guess { address, name, password, stored, known, limits } = guess;
        let mut ask = Ask {
            address: neighbourhood(address),
            name,
            failures_per_minute: limits.failed_sign_ins_per_minute,
            paid: false,
        };
        let is_short = password.len() <= PASSWORD_LENGTH;
        let password = &password[..password.len().min(PASSWORD_LENGTH)];
        let room = &self.0;
        if let Some(digest) = known.and_then(|known| known.0.get()) {
            let now = room.clock.now();
            let mut queue = room.queue.lock();
            if queue.0.reserve(&ask, now) {
                let is_right = is_short && *digest == room.digest(&ask.name, password);
                queue.0.settle(&ask, is_right);
                if is_right {
                    return Checked::Right;
                }
                // It takes as long as one that is not known.
                ask.paid = true;
            }
        }
        let (answer, checked) = oneshot::channel();
        let job = Job::Check {
            password: Zeroizing::new(password.to_vec()),
            stored: stored.filter(|_| is_short && !ask.paid).map(str::to_owned),
            known: known.cloned(),
            answer,
        };
        if !self.push(ask, job, limits.waiting_sign_ins_per_address) {
            room.turned_away.fetch_add(1, Ordering::Relaxed);
            return Checked::TooMany;
        }
        if checked.await.unwrap_or(false) { Checked::Right } else { Checked::Wrong }
    }

    fn push(&self, ask: Ask, job: Job, most: usize) -> bool {
        let taken = self.0.queue.lock().0.push(ask, job, most).is_ok();
        self.0.work.notify_one();
        taken
    }
}

impl Room {
    fn digest(&self, name: &str, password: &[u8]) -> [u8; 32] {
        let mut mac = Hmac::<Sha256>::new_from_slice(&self.key).expect("a key of any length will do");
        mac.update(&(name.len() as u64).to_le_bytes());
        mac.update(name.as_bytes());
        mac.update(password);
        mac.finalize().into_bytes().into()
    }

    /// What a thread does until the service ends.
    fn work(&self) {
        let mut memory = Vec::new();
        let mut queue = self.queue.lock();
        while !queue.1 {
            let picked = queue.0.pick(self.clock.now());
            let waits = queue.0.take_waits();
            if !waits.is_empty() {
                parking_lot::MutexGuard::unlocked(&mut queue, || {
                    for address in waits {
                        notes::write(&Fact::SignInsFail { address });
                    }
                });
            }
            match picked {
                Pick::Job(ask, job) => {
                    drop(queue);
                    self.carry_out(&ask, job, &mut memory);
                    queue = self.queue.lock();
                }
                Pick::At(time) => {
                    let wait = (time - self.clock.now()).max(Duration::from_millis(1));
                    self.rest(&mut queue, wait.min(IDLE), &mut memory);
                }
                Pick::Nothing if memory.is_empty() => self.work.wait(&mut queue),
                Pick::Nothing => self.rest(&mut queue, IDLE, &mut memory),
            }
        }
    }

    fn rest(
        &self,
        queue: &mut parking_lot::MutexGuard<'_, (Queue<Job>, bool)>,
        wait: Duration,
        memory: &mut Vec<Block>,
    ) {
        if self.work.wait_for(queue, wait).timed_out() && wait >= IDLE {
            *memory = Vec::new();
        }
    }

    fn carry_out(&self, ask: &Ask, job: Job, memory: &mut Vec<Block>) {
        match job {
            Job::Make { password, answer } => {
                let _gone = answer.send(hash(&password, memory));
            }
            Job::Check { password, stored, known, answer } => {
                // It may have become known while it waited: many clients of one identity come back at once.
                let digest = known.as_ref().and_then(|known| known.0.get()).copied();
                let ours = || self.digest(&ask.name, &password);
                let is_right = stored.is_some()
                    && match digest {
                        Some(digest) if digest == ours() => true,
                        _ => verify(&password, stored.as_deref().unwrap_or_default(), memory),
                    };
                if stored.is_none() {
                    verify(&password, &self.decoy, memory);
                }
                if is_right && let Some(known) = &known {
                    let _first = known.0.set(ours());
                }
                self.queue.lock().0.settle(ask, is_right);
                let _gone = answer.send(is_right);
            }
        }
    }
}

fn hash(password: &str, memory: &mut Vec<Block>) -> Result<String, HashError> {
    let params = Params::default();
    let (salt, mut out) = (Salt::generate(), [0; Params::DEFAULT_OUTPUT_LEN]);
    fill(&Argon2::default(), &params, password.as_bytes(), &salt, &mut out, memory)?;
    let made = PasswordHash {
        algorithm: Algorithm::default().ident(),
        version: Some(Version::default().into()),
        params: ParamsString::try_from(&params)?,
        salt: Some(salt),
        hash: Some(Output::new(&out).map_err(argon2::password_hash::Error::from)?),
    };
    Ok(made.to_string())
}

fn fill(
    argon: &Argon2<'_>,
    params: &Params,
    password: &[u8],
    salt: &[u8],
    out: &mut [u8],
    memory: &mut Vec<Block>,
) -> Result<(), argon2::Error> {
    let blocks = params.block_count();
    if memory.len() < blocks {
        memory.resize(blocks, Block::default());
    }
    argon.hash_password_into_with_memory(password, salt, out, &mut memory[..blocks])
}

/// The costs of a hash in PHC form, if it is one of Argon2id.
pub fn read_hash(text: &str) -> Option<(PasswordHash, Params)> {
    let hash = PasswordHash::new(text).ok().filter(|hash| hash.algorithm.as_str() == "argon2id")?;
    let params = Params::try_from(&hash).ok()?;
    (hash.salt.is_some() && hash.hash.is_some()).then_some((hash, params))
}

/// Why a hash from elsewhere is not taken.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum HashFault {
    /// It is none.
    #[error("is not an Argon2id hash in PHC string format")]
    Format,
    /// It costs more than a sign-in may.
    #[error(
        "costs m={memory}, t={passes}, p={lanes} at each sign-in; the limit is m={} (KiB), t={}, p={}",
        COSTS.0, COSTS.1, COSTS.2
    )]
    Costs {
        /// KiB.
        memory: u32,
        /// Passes.
        passes: u32,
        /// Lanes.
        lanes: u32,
    },
}

/// What keeps a hash from elsewhere from being taken.
pub fn hash_fault(text: &str) -> Option<HashFault> {
    let Some((_, params)) = read_hash(text) else { return Some(HashFault::Format) };
    let (memory, passes, lanes) = (params.m_cost(), params.t_cost(), params.p_cost());
    let is_dear = memory > COSTS.0 || passes > COSTS.1 || lanes > COSTS.2;
    is_dear.then_some(HashFault::Costs { memory, passes, lanes })
}

fn verify(password: &[u8], stored: &str, memory: &mut Vec<Block>) -> bool {
    let Some((hash, params)) = read_hash(stored) else { return false };
    let (Some(salt), Some(expected)) = (hash.salt, hash.hash) else { return false };
    let version = hash.version.map_or(Some(Version::default()), |version| Version::try_from(version).ok());
    let Some(version) = version else { return false };
    let mut out = vec![0; expected.len()];
    let argon = Argon2::new(Algorithm::Argon2id, version, params.clone());
    // Outputs are compared in a time that tells nothing.
    fill(&argon, &params, password, &salt, &mut out, memory).is_ok()
        && Output::new(&out).is_ok_and(|out| out == expected)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn limits() -> Limits {
        Limits { failed_sign_ins_per_minute: 3, waiting_sign_ins_per_address: 4, ..Limits::default() }
    }

    fn guess<'a>(password: &'a [u8], stored: Option<&'a str>, limits: &'a Limits) -> Guess<'a> {
        let address = "192.0.2.1".parse().unwrap();
        Guess { address, name: "weir".into(), password, stored, known: None, limits }
    }

    #[test]
    fn a_hash_is_checked_in_memory_that_is_used_again() {
        let mut memory = Vec::new();
        let made = hash("moor-water", &mut memory).unwrap();
        let blocks = memory.len();
        assert!(verify(b"moor-water", &made, &mut memory) && !verify(b"moor-wine", &made, &mut memory));
        assert_eq!(memory.len(), blocks);
        assert!(!verify(b"moor-water", "$argon2id$nonsense", &mut memory));
    }

    #[test]
    fn hashes_from_elsewhere_cost_no_more_than_they_may() {
        let of = |costs: &str| hash_fault(&format!("$argon2id$v=19${costs}$c2FsdHNhbHQ$aGFzaGhhc2hoYXNoaGFzaA"));
        assert_eq!(of("m=65536,t=10,p=4"), None);
        for (dear, memory, passes, lanes) in [
            ("m=65537,t=1,p=1", 65_537, 1, 1),
            ("m=65536,t=11,p=1", 65_536, 11, 1),
            ("m=65536,t=1,p=5", 65_536, 1, 5),
            ("m=4194304,t=1,p=1", 4_194_304, 1, 1),
        ] {
            assert_eq!(of(dear), Some(HashFault::Costs { memory, passes, lanes }), "{dear}");
        }
        assert!(hash_fault("$argon2i$v=19$m=4096,t=3,p=1$c2FsdHNhbHQ$aGFzaGhhc2hoYXNoaGFzaA").is_some());
        assert!(hash_fault("secret").is_some());
    }

    #[tokio::test]
    async fn who_was_right_is_known_again_until_the_hash_changes() {
        let passwords = Passwords::start(Clock::start());
        let limits = limits();
        let stored = passwords.make("moor-water".into()).await.unwrap();
        let known = KnownAgain::default();
        let again = |password: &'static [u8]| {
            let plain = guess(password, Some(&stored), &limits);
            passwords.check(Guess { known: Some(&known), ..plain })
        };
        assert_eq!(again(b"moor-water").await, Checked::Right);
        assert!(known.0.get().is_some());
        assert_eq!(again(b"moor-wine").await, Checked::Wrong);
        assert_eq!(again(b"moor-water").await, Checked::Right);
        let long = [b"moor-water".to_vec(), vec![0; PASSWORD_LENGTH]].concat();
        let long = Guess { known: Some(&known), ..guess(&long, Some(&stored), &limits) };
        assert_eq!(passwords.check(long).await, Checked::Wrong);
        assert_eq!(passwords.check(guess(b"moor-water", None, &limits)).await, Checked::Wrong);
    }

    #[tokio::test]
    async fn what_waits_of_one_address_is_bounded_and_who_went_away_is_not_hashed() {
        let passwords = Passwords::start(Clock::start());
        let limits = limits();
        let wrong = || passwords.check(guess(b"x", None, &limits));
        // Three are wrong at once; the next have to wait for 20 s.
        assert_eq!(futures_util::future::join_all((0..3).map(|_| wrong())).await, [Checked::Wrong; 3]);
        let mut waiting: Vec<_> = (0..4).map(|_| Box::pin(wrong())).collect();
        for one in &mut waiting {
            assert!(futures_util::poll!(one.as_mut()).is_pending());
        }
        assert_eq!(wrong().await, Checked::TooMany);
        assert_eq!(passwords.turned_away(), 1);
        waiting.pop();
        let mut next = Box::pin(wrong());
        assert!(futures_util::poll!(next.as_mut()).is_pending(), "the place of one who went away is free");
    }
}
