//! Who a client is, and what it may do.
use std::{collections::BTreeMap, net::IpAddr};

use moorfall_core::{
    ADMINISTRATOR, ANONYMOUS, Identity, Limits,
    access::Access,
    certificate::ClientCertificate,
    session::{Credentials, NoEntry, NotAccepted, Verdict},
};
use moorfall_store::Author;
use sha2::{Digest, Sha256};

use crate::{
    design::in_force::Design,
    identity::{
        directory::{Directory, SignIn, Whose},
        tokens::Tokens,
    },
    sessions::record::SignedInBy,
};

/// Who is noted with a deed of the service itself.
pub fn own(person: &str) -> Author {
    Author { person: person.into(), address: String::new() }
}

/// What a client that wants in has said and shown.
pub struct Asking<'a> {
    /// What CONNECT says.
    pub credentials: &'a Credentials,
    /// An authority that is trusted has signed it.
    pub certificate: Option<&'a ClientCertificate>,
    /// Whether anonymous clients are accepted, under the rules.
    pub anonymous: bool,
    /// The rules are those in force when the check is done.
    pub design: &'a Design,
    /// Where the client is; wrong passwords are counted by it.
    pub address: IpAddr,
    /// Those of its listener.
    pub limits: &'a Limits,
}

/// Checks credentials.
pub struct Authenticator {
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
    /// `secret` is the administrator's.
    pub fn new(secret: &str, open: bool) -> Self {
        Self { secret: digest(secret.as_bytes()), open }
    }

    /// Whether anonymous clients may do everything.
    pub fn is_open(&self) -> bool {
        self.open
    }

    /// Whether this is the administrator's secret. Digests are compared, so the time taken tells nothing of the secret.
    pub fn is_secret(&self, given: &[u8]) -> bool {
        digest(given) == self.secret
    }

    /// Finds out who a client is, and what it has shown for it. A user name with a password counts before a certificate:
    /// a device may carry the sign-in of whoever uses it.
    pub async fn check(&self, asking: &Asking<'_>, directory: &Directory, tokens: &Tokens) -> (Verdict, SignedInBy) {
        let nothing = SignedInBy::Nothing;
        let password = asking.credentials.password.as_deref();
        let Some(name) = asking.credentials.user_name.as_deref() else {
            return match password {
                Some(_) => (Verdict::Refused(NotAccepted::NoUserName), nothing),
                None => self.check_unnamed(asking, directory),
            };
        };
        if name == ADMINISTRATOR {
            if self.is_secret(password.unwrap_or_default()) {
                return (Verdict::Known(Access::unrestricted(ADMINISTRATOR)), SignedInBy::Secret);
            }
            let sign_in = directory.wrong(name, asking.address, asking.limits).await;
            return (settle(asking, directory, name, sign_in), nothing);
        }
        let (sign_in, by) = match password {
            None if asking
                .certificate
                .is_some_and(|shown| directory.by_certificate(shown) == Whose::Of(name.into())) =>
            {
                (directory.by_proof(name), SignedInBy::Certificate)
            }
            Some(password) if Tokens::is_token(password) => match tokens.check(name, password) {
                Some(token) => (directory.by_proof(name), SignedInBy::Token(token)),
                None => (directory.wrong(name, asking.address, asking.limits).await, nothing),
            },
            password => {
                let Asking { address, limits, .. } = *asking;
                let sign_in = directory.sign_in(name, password.unwrap_or_default(), address, limits).await;
                (sign_in, SignedInBy::Password)
            }
        };
        (settle(asking, directory, name, sign_in), by)
    }

    /// Accepts a client by which a person acts as an identity.
    pub fn admit_acting(asking: &Asking<'_>, name: &str, directory: &Directory) -> Verdict {
        if name == ADMINISTRATOR {
            return Verdict::Known(Access::unrestricted(ADMINISTRATOR));
        }
        match directory.by_proof(name) {
            SignIn::Wrong => no_entry(name, NoEntry::Unknown),
            sign_in => settle(asking, directory, name, sign_in),
        }
    }

    /// The bridge of this name, if it is in the design. It may do everything where everybody may.
    pub fn admit_bridge(&self, asking: &Asking<'_>, name: &str) -> Verdict {
        let policy = asking.design.policy();
        match policy.blueprint().bridges.iter().find(|bridge| bridge.name == name) {
            Some(bridge) if self.open => Verdict::Known(Access::unrestricted(&bridge.identity().name)),
            Some(bridge) => bind(asking, &bridge.identity()),
            None => no_entry(&Identity::of_bridge(name).name, NoEntry::Unknown),
        }
    }

    /// One that gives no name: by its certificate, or anonymous.
    fn check_unnamed(&self, asking: &Asking<'_>, directory: &Directory) -> (Verdict, SignedInBy) {
        let nothing = SignedInBy::Nothing;
        let whose = asking.certificate.map(|shown| (directory.by_certificate(shown), shown));
        match whose {
            Some((Whose::Of(name), _)) => {
                let sign_in = directory.by_proof(&name);
                (settle(asking, directory, &name, sign_in), SignedInBy::Certificate)
            }
            Some((Whose::Both(one, other), _)) => {
                (Verdict::Refused(NotAccepted::AmbiguousCertificate(one, other)), nothing)
            }
            _ if self.open => (Verdict::Known(Access::unrestricted(ANONYMOUS)), nothing),
            _ if asking.anonymous => {
                let nobody = Identity { name: ANONYMOUS.into(), attributes: BTreeMap::new() };
                (bind(asking, &nobody), nothing)
            }
            Some((Whose::Nobody, certificate)) => (
                Verdict::Refused(NotAccepted::UnknownCertificate(certificate.matches.iter().cloned().collect())),
                nothing,
            ),
            None => (Verdict::Refused(NotAccepted::Anonymous), nothing),
        }
    }
}

/// What becomes of someone who has shown something good, or has not.
fn settle(asking: &Asking<'_>, directory: &Directory, name: &str, sign_in: SignIn) -> Verdict {
    let tied = directory.client_id_of(name).filter(|tied| *tied != *asking.credentials.client_id);
    match sign_in {
        // Told only to whoever has the credential.
        SignIn::Known(_) if let Some(tied) = tied => {
            Verdict::Refused(NotAccepted::ClientIdOther { identity: name.to_owned(), tied })
        }
        SignIn::Known(identity) => bind(asking, &identity),
        SignIn::Disabled => no_entry(name, NoEntry::Disabled),
        SignIn::Wrong => Verdict::Refused(NotAccepted::WrongCredentials),
        SignIn::TooMany => Verdict::Refused(NotAccepted::SignInsWaiting(asking.limits.waiting_sign_ins_per_address)),
    }
}

/// By the rules that are in force when the check is done, however long it waited.
fn bind(asking: &Asking<'_>, identity: &Identity) -> Verdict {
    match asking.design.policy().bind(identity, &asking.credentials.client_id) {
        Ok(access) => Verdict::Known(access),
        Err(error) => no_entry(&identity.name, NoEntry::Unfit(error)),
    }
}

fn no_entry(identity: &str, why: NoEntry) -> Verdict {
    Verdict::Refused(NotAccepted::NoEntry { identity: identity.to_owned(), why })
}

fn digest(secret: &[u8]) -> [u8; 32] {
    Sha256::digest(secret).into()
}
