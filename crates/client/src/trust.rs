//! Whom a client trusts, and how it proves who it is, where TLS carries MQTT.

use std::{path::PathBuf, sync::Arc};

use rustls::{
    ClientConfig, RootCertStore,
    crypto::ring::default_provider,
    pki_types::{CertificateDer, PrivateKeyDer, pem::PemObject},
};

use crate::ConnectError;

/// Chooses the cryptography of the process. HTTP clients are not made without it; to be called before the first one.
pub fn choose_cryptography() {
    // Whoever was first has chosen the same.
    let _ = default_provider().install_default();
}

/// Files of a client's TLS.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Trust {
    /// Certificates of the authorities that are trusted, PEM; without them, those that this machine trusts.
    pub authority: Option<PathBuf>,
    /// The client's own certificate and those between it and its authority, PEM.
    pub certificate: Option<PathBuf>,
    /// Its private key, PEM without a pass phrase.
    pub key: Option<PathBuf>,
}

impl Trust {
    /// Says what is wrong with the files, if something is.
    pub fn check(&self) -> Result<(), ConnectError> {
        self.config().map(drop)
    }

    /// A configuration for rustls.
    ///
    /// # Errors
    ///
    /// A file can't be read, or does not hold what it should.
    pub fn config(&self) -> Result<ClientConfig, ConnectError> {
        let builder = ClientConfig::builder_with_provider(Arc::new(default_provider()))
            .with_safe_default_protocol_versions()
            .map_err(|error| ConnectError::Files { words: error.to_string() })?
            .with_root_certificates(self.roots()?);
        let (certificate, key) = match (&self.certificate, &self.key) {
            (None, None) => return Ok(builder.with_no_client_auth()),
            (Some(certificate), Some(key)) => (certificate, key),
            _ => {
                let words = "A client certificate needs its key, and a key needs its certificate. Give both.".into();
                return Err(ConnectError::Files { words });
            }
        };
        let secret = PrivateKeyDer::from_pem_file(key).map_err(|error| ConnectError::Files {
            words: format!("{} has no readable private key: {error}.", key.display()),
        })?;
        builder.with_client_auth_cert(read(certificate)?, secret).map_err(|error| ConnectError::Files {
            words: format!("{} and {} can't be used together: {error}.", certificate.display(), key.display()),
        })
    }

    fn roots(&self) -> Result<RootCertStore, ConnectError> {
        let mut roots = RootCertStore::empty();
        if let Some(path) = &self.authority {
            for certificate in read(path)? {
                roots.add(certificate).map_err(|error| ConnectError::Files {
                    words: format!("{} can't be used as a certificate authority: {error}.", path.display()),
                })?;
            }
        } else {
            roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
        }
        Ok(roots)
    }
}

fn read(path: &PathBuf) -> Result<Vec<CertificateDer<'static>>, ConnectError> {
    let fault = |words: String| ConnectError::Files { words: format!("{}: {words}", path.display()) };
    let found: Result<Vec<_>, _> =
        CertificateDer::pem_file_iter(path).map_err(|error| fault(error.to_string()))?.collect();
    let found = found.map_err(|error| fault(error.to_string()))?;
    if found.is_empty() {
        return Err(fault("it has no certificate in PEM format".into()));
    }
    Ok(found)
}
