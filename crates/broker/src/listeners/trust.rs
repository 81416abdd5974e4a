//! Whom the listeners trust to sign the certificates of clients.

use std::sync::Arc;

use crate::{identity::authorities::Authorities, listeners::listener::Listener};

/// Has the listeners trust the authorities that there are now; gives the names of those that can't, because their own
/// files are wrong at the moment, and go on with what they trusted before.
pub fn trust<'a>(listeners: &'a [Arc<Listener>], authorities: &Authorities) -> Vec<&'a str> {
    let certificates = authorities.certificates();
    let mut failed = Vec::new();
    for listener in listeners {
        if let Some(tls) = &listener.tls
            && let Err(error) = tls.trust(certificates.clone())
        {
            tracing::error!(listener = %listener.name, %error, "certificate authorities can't be read; the previous \
                                                                ones stay trusted");
            failed.push(&*listener.name);
        }
    }
    failed
}
