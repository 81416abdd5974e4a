//! Who somebody is, and what they show for it.

use std::sync::Arc;

use moorfall_store::{Store, StoreError};

use crate::{
    authenticator::Authenticator, authorities::Authorities, clock::Clock, directory::Directory, tokens::Tokens,
};

/// The identities of one broker, their tokens, and the authorities that sign their certificates.
#[derive(Debug)]
pub(crate) struct Identities {
    pub(crate) directory: Directory,
    pub(crate) tokens: Tokens,
    pub(crate) authorities: Arc<Authorities>,
    pub(crate) authenticator: Authenticator,
}

impl Identities {
    pub(crate) async fn load(
        store: &Store,
        clock: Clock,
        authorities: Arc<Authorities>,
        authenticator: Authenticator,
    ) -> Result<Self, StoreError> {
        Ok(Self {
            directory: Directory::load(store.clone(), clock).await?,
            tokens: Tokens::load(store.clone()).await?,
            authorities,
            authenticator,
        })
    }

    /// Whether clients without identity may do everything.
    pub(crate) fn is_open(&self) -> bool {
        self.authenticator.is_open()
    }
}
