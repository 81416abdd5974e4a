//! Authorities that were given to the service, and sign the certificates of clients.

use std::sync::{
    Arc,
    atomic::{AtomicU64, Ordering},
};

use moorfall_store::{Author, AuthorityRecord, Deed, Store, StoreError};
use rustls::{
    RootCertStore,
    pki_types::{CertificateDer, pem::PemObject},
};
use tracing_mutex::parkinglot::RwLock;

/// The most authorities that are kept: each is offered to every client that connects.
const MOST: usize = 64;

/// The most certificates of one authority.
const CERTIFICATES: usize = 8;

/// The longest name, bytes.
const NAME: usize = 128;

/// The longest PEM text of one authority, bytes.
const LENGTH: usize = 64 * 1024;

/// Why an authority is not taken.
#[derive(Debug, thiserror::Error)]
pub enum AuthorityError {
    /// It is none.
    #[error(transparent)]
    Unusable(#[from] AuthorityFault),
    /// There is one of this name.
    #[error("There is already an authority {0}. Remove it first, or use another name.")]
    Taken(String),
    /// The database.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// What is wrong with an authority.
#[derive(Debug, thiserror::Error)]
pub enum AuthorityFault {
    /// Its name.
    #[error("The name of an authority has 1 to {NAME} bytes, without control characters.")]
    Name,
    /// There are as many as may be.
    #[error("The limit of {MOST} authorities is reached. Remove one first.")]
    TooMany,
    /// Its text is too long.
    #[error("The certificates of an authority have at most {LENGTH} bytes.")]
    TooLarge,
    /// A key has come with it.
    #[error("The file contains a private key, which only the authority should have. Send only the certificate.")]
    PrivateKey,
    /// There is no certificate.
    #[error("The file has no certificate in PEM format (-----BEGIN CERTIFICATE-----).")]
    NoCertificate,
    /// So many certificates.
    #[error("The file has {0} certificates; the limit is {CERTIFICATES}.")]
    TooManyCertificates(usize),
    /// A certificate is none.
    #[error("A certificate of the file can't be read: {0}.")]
    Unreadable(#[from] x509_parser::error::X509Error),
    /// The certificate of this subject signs nothing.
    #[error("The certificate of {0} is not an authority's, so it can't sign others.")]
    NotAnAuthority(String),
    /// The certificate of this subject has expired.
    #[error("The certificate of {0} has expired.")]
    Expired(String),
    /// The certificate of this subject is not one for TLS.
    #[error("The certificate of {0} can't be used: {1}.")]
    Unusable(String, #[source] rustls::Error),
}

/// All authorities.
#[derive(Debug)]
pub struct Authorities {
    store: Store,
    known: RwLock<Vec<Arc<AuthorityRecord>>>,
    removals: AtomicU64,
}

impl Authorities {
    /// All that are stored.
    pub async fn load(store: Store) -> Result<Self, StoreError> {
        let known = store.authorities().await?.into_iter().map(Arc::new).collect();
        Ok(Self { store, known: RwLock::new(known), removals: AtomicU64::new(0) })
    }

    /// All, by name.
    pub fn list(&self) -> Vec<Arc<AuthorityRecord>> {
        self.known.read().clone()
    }

    /// Counts a removal, once no listener trusts what was removed.
    pub fn note_removal(&self) {
        self.removals.fetch_add(1, Ordering::SeqCst);
    }

    /// How many were removed since the start. What was trusted at another number may be trusted no more.
    pub fn removals(&self) -> u64 {
        self.removals.load(Ordering::SeqCst)
    }

    /// The certificates of all.
    pub fn certificates(&self) -> Vec<CertificateDer<'static>> {
        // What is kept was checked when it was added.
        self.known.read().iter().flat_map(|authority| certificates(&authority.pem).unwrap_or_default()).collect()
    }

    /// Keeps an authority.
    pub async fn add(
        &self,
        name: &str,
        pem: &str,
        by: &Author,
        deed: impl FnOnce(&AuthorityRecord) -> Deed + Send,
    ) -> Result<Arc<AuthorityRecord>, AuthorityError> {
        check(name, pem)?;
        if self.known.read().len() >= MOST {
            return Err(AuthorityFault::TooMany.into());
        }
        let added = self.store.add_authority(name, pem, by, deed).await?;
        let record = Arc::new(added.ok_or_else(|| AuthorityError::Taken(name.into()))?);
        let mut known = self.known.write();
        known.push(Arc::clone(&record));
        known.sort_by(|one, other| one.name.cmp(&other.name));
        Ok(record)
    }

    /// Forgets an authority; gives whether there was one.
    pub async fn remove(
        &self,
        name: &str,
        by: &Author,
        deed: impl FnOnce(&AuthorityRecord) -> Deed + Send,
    ) -> Result<bool, StoreError> {
        let Some(known) = self.known.read().iter().find(|authority| authority.name == name).cloned() else {
            return Ok(false);
        };
        let is_gone = self.store.remove_authority(name, by, &deed(&known)).await?;
        self.known.write().retain(|authority| authority.name != name);
        Ok(is_gone)
    }
}

/// The certificates of a PEM text; `None` if one is not understood or there is none.
pub fn certificates(pem: &str) -> Option<Vec<CertificateDer<'static>>> {
    let certificates: Result<Vec<_>, _> = CertificateDer::pem_slice_iter(pem.as_bytes()).collect();
    certificates.ok().filter(|certificates| !certificates.is_empty())
}

/// Whether this can be an authority's name and certificates.
fn check(name: &str, pem: &str) -> Result<(), AuthorityFault> {
    if name.is_empty() || name.len() > NAME || name.chars().any(char::is_control) {
        return Err(AuthorityFault::Name);
    }
    if pem.len() > LENGTH {
        return Err(AuthorityFault::TooLarge);
    }
    if pem.contains("PRIVATE KEY") {
        return Err(AuthorityFault::PrivateKey);
    }
    let certificates = certificates(pem).ok_or(AuthorityFault::NoCertificate)?;
    if certificates.len() > CERTIFICATES {
        return Err(AuthorityFault::TooManyCertificates(certificates.len()));
    }
    let mut store = RootCertStore::empty();
    for certificate in certificates {
        let parsed = x509_parser::parse_x509_certificate(&certificate);
        let (_, parsed) = parsed.map_err(|error| AuthorityFault::Unreadable(error.into()))?;
        let subject = parsed.subject().to_string();
        if !parsed.is_ca() {
            return Err(AuthorityFault::NotAnAuthority(subject));
        }
        if parsed.validity().not_after.timestamp() < time::OffsetDateTime::now_utc().unix_timestamp() {
            return Err(AuthorityFault::Expired(subject));
        }
        store.add(certificate).map_err(|error| AuthorityFault::Unusable(subject, error))?;
    }
    Ok(())
}
