//! Who a client is, and what it may do.

use std::{collections::BTreeMap, sync::Arc, time::Duration};

use moorfall_core::{
    Identity,
    access::{Access, Policy},
    session::{Credentials, Verdict},
};
use moorfall_wire::ReasonCode;
use sha2::{Digest, Sha256};
use tokio::time::timeout;

use crate::{
    directory::{Directory, SignIn},
    tokens::Tokens,
};

/// The name under which the owner of the data folder may do everything; its password is the administrator's secret.
pub const ADMINISTRATOR: &str = "administrator";

/// The name shown for clients without identity on an open broker.
pub(crate) const ANONYMOUS: &str = "anonymous";

/// Names that no identity can have.
pub(crate) const BUILT_IN: [&str; 2] = [ADMINISTRATOR, ANONYMOUS];

/// How long a check may wait for its turn.
const PATIENCE: Duration = Duration::from_secs(8);

/// Checks credentials.
pub(crate) struct Authenticator {
    secret: [u8; 32],
    open: bool,
}

impl std::fmt::Debug for Authenticator {
    /// Leaves the secret out.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Authenticator").field("open", &self.open).finish_non_exhaustive()
    }
}

impl Authenticator {
    pub(crate) fn new(secret: &str, open: bool) -> Self {
        Self { secret: digest(secret.as_bytes()), open }
    }

    /// Whether clients without identity may do everything.
    pub(crate) fn is_open(&self) -> bool {
        self.open
    }

    /// Whether this is the administrator's secret. Digests are compared, so the time taken tells nothing of the secret.
    pub(crate) fn is_secret(&self, given: &[u8]) -> bool {
        digest(given) == self.secret
    }

    /// Finds out who a client is, and by which token if by one. `anonymous` says that one without identity is let in,
    /// under the rules.
    pub(crate) async fn check(
        &self,
        credentials: &Credentials,
        anonymous: bool,
        directory: &Directory,
        tokens: &Tokens,
        policy: &Arc<Policy>,
    ) -> (Verdict, Option<String>) {
        let password = credentials.password.as_deref().unwrap_or_default();
        let Some(name) = credentials.user_name.as_deref() else {
            let verdict = match &credentials.password {
                None if self.open => Verdict::Known(Access::unrestricted(ANONYMOUS)),
                None if anonymous => {
                    let nobody = Identity { name: ANONYMOUS.into(), attributes: BTreeMap::new() };
                    bind(policy, &nobody, credentials)
                }
                Some(_) => refused(ReasonCode::BadUserNameOrPassword, "a password came without a user name"),
                None => refused(
                    ReasonCode::NotAuthorized,
                    "nobody is let in without an identity; sign in with a user name and a password",
                ),
            };
            return (verdict, None);
        };
        if name == ADMINISTRATOR {
            let verdict = if self.is_secret(password) {
                Verdict::Known(Access::unrestricted(ADMINISTRATOR))
            } else {
                refused(ReasonCode::BadUserNameOrPassword, "the user name or the password is wrong")
            };
            return (verdict, None);
        }
        let mut token = None;
        let sign_in = if Tokens::is_token(password) {
            token = tokens.check(name, password);
            if token.is_some() { directory.by_token(name) } else { SignIn::Wrong }
        } else if let Ok(sign_in) = timeout(PATIENCE, directory.sign_in(name, password)).await {
            sign_in
        } else {
            return (refused(ReasonCode::ServerBusy, "too many clients are signing in; try again later"), None);
        };
        let tied = directory.client_id_of(name).filter(|tied| *tied != *credentials.client_id);
        let verdict = match sign_in {
            // Told only to whoever has the credential.
            SignIn::Known(_) if let Some(tied) = tied => refused(
                ReasonCode::ClientIdentifierNotValid,
                &format!("{name} may only use the client identifier {tied}"),
            ),
            SignIn::Known(identity) => bind(policy, &identity, credentials),
            SignIn::Disabled => refused(ReasonCode::NotAuthorized, &format!("the identity {name} is disabled")),
            SignIn::Wrong => refused(ReasonCode::BadUserNameOrPassword, "the user name or the password is wrong"),
        };
        (verdict, token)
    }
}

fn bind(policy: &Arc<Policy>, identity: &Identity, credentials: &Credentials) -> Verdict {
    match policy.bind(identity, &credentials.client_id) {
        Ok(access) => Verdict::Known(access),
        Err(error) => refused(ReasonCode::NotAuthorized, &error.to_string()),
    }
}

fn refused(reason: ReasonCode, words: &str) -> Verdict {
    Verdict::Refused { reason, words: words.to_owned() }
}

fn digest(secret: &[u8]) -> [u8; 32] {
    Sha256::digest(secret).into()
}
