//! Who somebody is, and what they show for it.

pub mod authenticator;
pub mod authorities;
pub mod checks;
pub mod directory;
pub mod generated_secret;
pub mod passwords;
pub mod sign_in_queue;
pub mod tokens;

use std::sync::Arc;

use moorfall_store::{Store, StoreError};

use crate::{
    clock::Clock,
    identity::{authenticator::Authenticator, authorities::Authorities, directory::Directory, tokens::Tokens},
};

/// The identities of one broker, their tokens, and the authorities that sign their certificates.
#[derive(Debug)]
pub struct Identities {
    /// All identities.
    pub directory: Directory,
    /// Their tokens.
    pub tokens: Tokens,
    /// Who signs their certificates.
    pub authorities: Arc<Authorities>,
    /// Who checks what clients show.
    pub authenticator: Authenticator,
}

impl Identities {
    /// All that are stored.
    pub async fn load(
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
    pub fn is_open(&self) -> bool {
        self.authenticator.is_open()
    }
}
