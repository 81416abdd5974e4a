//! TLS for listeners: certificates, keys and authorities from files, read again when they change.

use std::{
    io::Read,
    path::{Path, PathBuf},
    sync::Arc,
    time::{Duration, SystemTime},
};

use arc_swap::ArcSwap;
use pkcs8::EncryptedPrivateKeyInfoRef;
use rustls::{
    ProtocolVersion, RootCertStore, ServerConfig,
    crypto::ring::default_provider,
    pki_types::{CertificateDer, PrivateKeyDer, PrivatePkcs8KeyDer, pem::PemObject},
    server::{NoServerSessionStorage, WebPkiClientVerifier},
};
use serde::{Deserialize, Serialize};
use tokio_rustls::TlsAcceptor;
use tokio_util::sync::CancellationToken;
use zeroize::Zeroizing;

use crate::listeners::tls_version::TlsVersion;

/// Between two looks at the files.
const LOOK: Duration = Duration::from_secs(2);

/// The largest file that is read, bytes.
const FILE: u64 = 1024 * 1024;

/// Whether clients show a certificate of their own.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ClientCertificates {
    /// None is asked for.
    #[default]
    Off,
    /// One is asked for; a client may have none, but a wrong one is refused.
    Optional,
    /// A client without one that an authority has signed is refused.
    Required,
}

/// Files of one listener's TLS.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct TlsSettings {
    /// The certificate and those between it and its authority, PEM.
    pub certificate: PathBuf,
    /// Its private key, PEM: PKCS#8, PKCS#8 with a pass phrase, PKCS#1 or SEC1.
    pub key: PathBuf,
    /// File whose first line is the key's pass phrase.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key_passphrase_file: Option<PathBuf>,
    /// Environment variable that holds the key's pass phrase.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key_passphrase_variable: Option<String>,
    /// Whether clients show certificates.
    #[serde(default)]
    pub client_certificates: ClientCertificates,
    /// Certificates of the authorities that sign those of clients, PEM. If it names none, those that were given to the
    /// service are trusted.
    #[serde(default)]
    pub client_authorities: Vec<PathBuf>,
}

/// Why TLS can't be offered.
#[derive(Debug, thiserror::Error)]
pub enum TlsError {
    /// A file can't be read.
    #[error("{} can't be read: {error}. Check its path and its permissions.", path.display())]
    Read {
        /// Which file.
        path: PathBuf,
        /// Why.
        error: std::io::Error,
    },
    /// A file holds no certificate.
    #[error("{} has no certificate in PEM format (-----BEGIN CERTIFICATE-----).", path.display())]
    NoCertificate {
        /// Which file.
        path: PathBuf,
    },
    /// A file holds no key that is understood.
    #[error("{} has no usable private key: {words}.", path.display())]
    Key {
        /// Which file.
        path: PathBuf,
        /// Why, and the remedy.
        words: String,
    },
    /// The pass phrase is missing or wrong.
    #[error("The key {} is protected by a passphrase: {words}.", path.display())]
    PassPhrase {
        /// Which file.
        path: PathBuf,
        /// Why, and the remedy.
        words: String,
    },
    /// Certificate and key don't belong together, or something else that rustls says.
    #[error("{} and its key can't be used for TLS: {error}.", path.display())]
    Unusable {
        /// The certificate.
        path: PathBuf,
        /// Why.
        error: rustls::Error,
    },
    /// An authority can't be used.
    #[error("{} can't be used as a certificate authority: {words}.", path.display())]
    Authority {
        /// Which file.
        path: PathBuf,
        /// Why.
        words: String,
    },
}

/// One listener's TLS as it is now.
#[derive(Debug)]
pub struct Tls {
    settings: TlsSettings,
    /// Authorities that were given to the service.
    given: ArcSwap<Vec<CertificateDer<'static>>>,
    config: ArcSwap<ServerConfig>,
    /// When the certificate ends.
    ends: ArcSwap<Option<time::OffsetDateTime>>,
}

impl Tls {
    /// Reads the files.
    pub fn open(settings: TlsSettings) -> Result<Self, TlsError> {
        let (config, ends) = read(&settings, &[])?;
        let (config, ends) = (ArcSwap::from_pointee(config), ArcSwap::from_pointee(ends));
        Ok(Self { settings, given: ArcSwap::default(), config, ends })
    }

    /// Whether clients have to show a certificate.
    pub fn requires_certificate(&self) -> bool {
        self.settings.client_certificates == ClientCertificates::Required
    }

    /// Whether the authorities that were given to the service are trusted: certificates are asked for, and the settings
    /// name nobody who signs them.
    pub fn trusts_given(&self) -> bool {
        self.settings.client_certificates != ClientCertificates::Off && self.settings.client_authorities.is_empty()
    }

    /// Whether no client certificate can be good, for nobody is trusted to sign them.
    pub fn trusts_nobody(&self) -> bool {
        self.trusts_given() && self.given.load().is_empty()
    }

    /// Trusts these authorities from the next connection on.
    pub fn trust(&self, given: Vec<CertificateDer<'static>>) -> Result<(), TlsError> {
        self.given.store(Arc::new(given));
        if self.trusts_given() { self.reload() } else { Ok(()) }
    }

    /// With what is in force now.
    pub fn acceptor(&self) -> TlsAcceptor {
        TlsAcceptor::from(self.config.load_full())
    }

    /// When the certificate ends, as far as it can be read.
    pub fn ends(&self) -> Option<time::OffsetDateTime> {
        **self.ends.load()
    }

    fn reload(&self) -> Result<(), TlsError> {
        let (config, ends) = read(&self.settings, &self.given.load())?;
        self.config.store(Arc::new(config));
        self.ends.store(Arc::new(ends));
        Ok(())
    }

    fn files(&self) -> impl Iterator<Item = &PathBuf> {
        let TlsSettings { certificate, key, key_passphrase_file, client_authorities, .. } = &self.settings;
        [certificate, key].into_iter().chain(key_passphrase_file).chain(client_authorities)
    }

    /// When each file was last changed, and its size.
    fn stamp(&self) -> Vec<Option<(SystemTime, u64)>> {
        self.files()
            .map(|path| std::fs::metadata(path).ok().and_then(|about| Some((about.modified().ok()?, about.len()))))
            .collect()
    }
}

/// Reads files again when they change, until the service stops. Connections that there are keep what they have; a
/// mistake leaves the certificate in force that was.
pub async fn follow(stopping: CancellationToken, name: Arc<str>, tls: Arc<Tls>) {
    let mut known = tls.stamp();
    let mut pending = None;
    loop {
        tokio::select! {
            () = tokio::time::sleep(LOOK) => {}
            () = stopping.cancelled() => return,
        }
        let now = tls.stamp();
        if now == known {
            continue;
        }
        // Files are replaced one by one: what is still changing is left for the next look.
        if pending.replace(now.clone()).is_none_or(|before| before != now) {
            continue;
        }
        match tls.reload() {
            Ok(()) => tracing::info!(listener = %name, "certificate changed"),
            Err(error) => {
                tracing::error!(listener = %name, %error, "the changed certificate can't be used; the previous one \
                                                           stays");
            }
        }
        known = now;
        pending = None;
    }
}

/// The version, if it is one that is spoken here.
pub(super) fn version(version: Option<ProtocolVersion>) -> Option<TlsVersion> {
    match version? {
        ProtocolVersion::TLSv1_2 => Some(TlsVersion::V1_2),
        ProtocolVersion::TLSv1_3 => Some(TlsVersion::V1_3),
        _ => None,
    }
}

fn read(
    settings: &TlsSettings,
    given: &[CertificateDer<'static>],
) -> Result<(ServerConfig, Option<time::OffsetDateTime>), TlsError> {
    let certificates = read_certificates(&settings.certificate)?;
    let ends = certificates.first().and_then(|certificate| end_of(certificate));
    let key = read_key(settings)?;
    let provider = Arc::new(default_provider());
    let unusable = |error| TlsError::Unusable { path: settings.certificate.clone(), error };
    let builder = ServerConfig::builder_with_provider(Arc::clone(&provider))
        .with_safe_default_protocol_versions()
        .map_err(unusable)?;
    let authorities = read_authorities(settings, given)?;
    let builder = match settings.client_certificates {
        ClientCertificates::Off => builder.with_no_client_auth(),
        // Nobody's certificate would be good, so none is asked for; who needs one is turned away after the handshake.
        _ if authorities.is_empty() => builder.with_no_client_auth(),
        wanted => {
            let verifier = WebPkiClientVerifier::builder_with_provider(Arc::new(authorities), provider);
            let verifier =
                if wanted == ClientCertificates::Optional { verifier.allow_unauthenticated() } else { verifier };
            let verifier = verifier.build().map_err(|error| TlsError::Authority {
                path: settings.client_authorities.first().cloned().unwrap_or_default(),
                words: error.to_string(),
            })?;
            builder.with_client_cert_verifier(verifier)
        }
    };
    let mut config = builder.with_single_cert(certificates, key).map_err(unusable)?;
    // A session that is resumed would be accepted by a certificate of an authority that was taken away meanwhile.
    if settings.client_certificates != ClientCertificates::Off {
        config.session_storage = Arc::new(NoServerSessionStorage {});
        config.send_tls13_tickets = 0;
    }
    Ok((config, ends))
}

fn contents(path: &Path) -> Result<Zeroizing<Vec<u8>>, TlsError> {
    let wrong = |error| TlsError::Read { path: path.to_owned(), error };
    let mut bytes = Zeroizing::new(Vec::new());
    std::fs::File::open(path).map_err(wrong)?.take(FILE).read_to_end(&mut bytes).map_err(wrong)?;
    Ok(bytes)
}

fn read_certificates(path: &Path) -> Result<Vec<CertificateDer<'static>>, TlsError> {
    let bytes = contents(path)?;
    let certificates: Result<Vec<_>, _> = CertificateDer::pem_slice_iter(&bytes).collect();
    certificates
        .ok()
        .filter(|certificates| !certificates.is_empty())
        .ok_or_else(|| TlsError::NoCertificate { path: path.to_owned() })
}

fn end_of(certificate: &CertificateDer<'_>) -> Option<time::OffsetDateTime> {
    let (_, parsed) = x509_parser::parse_x509_certificate(certificate).ok()?;
    time::OffsetDateTime::from_unix_timestamp(parsed.validity().not_after.timestamp()).ok()
}

fn read_authorities(settings: &TlsSettings, given: &[CertificateDer<'static>]) -> Result<RootCertStore, TlsError> {
    let mut store = RootCertStore::empty();
    if settings.client_authorities.is_empty() {
        store.add_parsable_certificates(given.iter().cloned());
    }
    for path in &settings.client_authorities {
        for certificate in read_certificates(path)? {
            store
                .add(certificate)
                .map_err(|error| TlsError::Authority { path: path.clone(), words: error.to_string() })?;
        }
    }
    Ok(store)
}

fn read_key(settings: &TlsSettings) -> Result<PrivateKeyDer<'static>, TlsError> {
    let path = &settings.key;
    let bytes = contents(path)?;
    let text = String::from_utf8_lossy(&bytes);
    let fault = |words: &str| TlsError::Key { path: path.clone(), words: words.into() };
    if text.contains("Proc-Type: 4,ENCRYPTED") {
        return Err(fault("it uses an outdated encryption; convert it with `openssl pkcs8 -topk8 -in FILE -out NEW`"));
    }
    if let Some(sealed) = pem_section(&text, "ENCRYPTED PRIVATE KEY") {
        return open_sealed(settings, &sealed);
    }
    PrivateKeyDer::from_pem_slice(&bytes).map_err(|_| {
        fault("supported are PEM files with PRIVATE KEY, ENCRYPTED PRIVATE KEY, RSA PRIVATE KEY or EC PRIVATE KEY")
    })
}

/// One section of a PEM file with its frame.
fn pem_section(text: &str, label: &str) -> Option<String> {
    let start = text.find(&format!("-----BEGIN {label}-----"))?;
    let end_mark = format!("-----END {label}-----");
    let end = text[start..].find(&end_mark)? + start + end_mark.len();
    Some(text[start..end].to_owned())
}

fn open_sealed(settings: &TlsSettings, pem: &str) -> Result<PrivateKeyDer<'static>, TlsError> {
    let path = &settings.key;
    let wrong = |words: String| TlsError::PassPhrase { path: path.clone(), words };
    let pass_phrase = pass_phrase(settings)?;
    let (_, document) = pkcs8::SecretDocument::from_pem(pem)
        .map_err(|error| TlsError::Key { path: path.clone(), words: error.to_string() })?;
    let sealed = EncryptedPrivateKeyInfoRef::try_from(document.as_bytes())
        .map_err(|error| TlsError::Key { path: path.clone(), words: error.to_string() })?;
    let opened = sealed.decrypt(pass_phrase.as_bytes()).map_err(|error| match error {
        pkcs8::Error::EncryptedPrivateKey(pkcs8::pkcs5::Error::UnsupportedAlgorithm { oid }) => {
            wrong(format!("its algorithm {oid} is not supported; convert it to AES-256"))
        }
        _ => wrong("the passphrase is wrong".into()),
    })?;
    Ok(PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(opened.as_bytes().to_vec())))
}

fn pass_phrase(settings: &TlsSettings) -> Result<Zeroizing<String>, TlsError> {
    let path = &settings.key;
    let wrong = |words: String| TlsError::PassPhrase { path: path.clone(), words };
    if let Some(file) = &settings.key_passphrase_file {
        let bytes = contents(file)?;
        let text = String::from_utf8_lossy(&bytes);
        return Ok(Zeroizing::new(text.lines().next().unwrap_or_default().to_owned()));
    }
    let Some(name) = &settings.key_passphrase_variable else {
        return Err(wrong("set its passphrase with `key-passphrase-file` or `key-passphrase-variable`".into()));
    };
    std::env::var(name).map(Zeroizing::new).map_err(|_| wrong(format!("the environment variable {name} is not set")))
}
