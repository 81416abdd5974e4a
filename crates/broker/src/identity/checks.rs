//! What identities may be called and hold: it is kept in memory, listed and recorded, so all of it is bounded.

use std::collections::BTreeMap;

use moorfall_core::{
    AttributeValue, BRIDGE, BUILT_IN, DERIVED,
    certificate::{self, MatchError},
    names::NameFault,
};
use moorfall_store::StoreError;

use crate::identity::passwords::{HashError, HashFault, PASSWORD_LENGTH};

/// Attributes of one identity, and its matches.
const ATTRIBUTES: usize = 64;
const MATCHES: usize = 16;

/// Bytes of an identity's name, of an attribute's name and value, of a note and of a client identifier.
const NAME: usize = 128;
const ATTRIBUTE_NAME: usize = 64;
const ATTRIBUTE: usize = 1_024;
const NOTE: usize = 2_048;
const CLIENT_ID: usize = 256;

/// What can be wrong with a change of an identity.
#[derive(Debug, thiserror::Error)]
pub enum DirectoryError {
    /// The name can't be one.
    #[error("\"{name}\" is not a valid name for an identity: {why}.")]
    Name {
        /// The name.
        name: String,
        /// Why.
        why: Unfit,
    },
    /// The password can't be one.
    #[error("A password has 1 to {PASSWORD_LENGTH} bytes.")]
    Password,
    /// Something of it is larger than it may be.
    #[error(transparent)]
    TooLarge(#[from] TooLarge),
    /// A password and a secret to be made.
    #[error("Give either a password or `generate`, not both.")]
    TwoSecrets,
    /// The password could not be hashed.
    #[error(transparent)]
    Hash(#[from] HashError),
    /// What its certificates are to be known by is none of it.
    #[error(transparent)]
    Match(#[from] MatchError),
    /// Another identity's certificates are known by this.
    #[error("{0} is already a certificate match of {1}. Remove it there first.")]
    MatchTaken(String, String),
    /// The database.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// Why a name can't be an identity's.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Unfit {
    /// It is empty.
    #[error("it is empty")]
    Empty,
    /// It is too long.
    #[error("it has more than {NAME} bytes")]
    TooLong,
    /// It is this service's own.
    #[error("it is a built-in name")]
    BuiltIn,
    /// It is kept for a bridge.
    #[error("names that begin with {BRIDGE} belong to bridges")]
    Bridge,
    /// It is kept for a derived topic.
    #[error("names that begin with {DERIVED} belong to derived topics")]
    Derived,
    /// It could not be a level of a topic.
    #[error("names are used in topic levels, so they can't contain / + # or control characters")]
    Level,
    /// It would be taken for another.
    #[error(transparent)]
    Misleading(#[from] NameFault),
}

/// What of an identity is larger than it may be.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum TooLarge {
    /// So many attributes.
    #[error("An identity has at most {ATTRIBUTES} attributes; {0} were given.")]
    Attributes(usize),
    /// The name of an attribute.
    #[error("The name of an attribute has 1 to {ATTRIBUTE_NAME} bytes.")]
    AttributeName,
    /// The value of an attribute.
    #[error("An attribute has at most {ATTRIBUTE} bytes.")]
    Attribute,
    /// The note.
    #[error("A note has at most {NOTE} bytes.")]
    Note,
    /// The client identifier.
    #[error("A client identifier has at most {CLIENT_ID} bytes.")]
    ClientId,
    /// The certificate matches.
    #[error("An identity has at most {MATCHES} certificate matches.")]
    Matches,
}

/// What is wrong with one record of an import.
#[derive(Debug, thiserror::Error)]
pub enum ImportFault {
    /// It can't be an identity.
    #[error(transparent)]
    Identity(#[from] DirectoryError),
    /// It can't be this identity.
    #[error("{0}: {1}")]
    Of(String, DirectoryError),
    /// Its name stands there twice.
    #[error("{0} appears twice in the import.")]
    Twice(String),
    /// Its password hash can't be one.
    #[error("The password hash of {0} {1}.")]
    Hash(String, HashFault),
}

/// Whether what people write of an identity stays within its bounds.
pub(super) fn check_size(
    attributes: &BTreeMap<String, AttributeValue>,
    note: &str,
    client_id: Option<&str>,
) -> Result<(), TooLarge> {
    if attributes.len() > ATTRIBUTES {
        return Err(TooLarge::Attributes(attributes.len()));
    }
    if attributes.keys().any(|name| name.is_empty() || name.len() > ATTRIBUTE_NAME) {
        return Err(TooLarge::AttributeName);
    }
    if attributes.values().any(|value| matches!(value, AttributeValue::Text(text) if text.len() > ATTRIBUTE)) {
        return Err(TooLarge::Attribute);
    }
    if note.len() > NOTE {
        return Err(TooLarge::Note);
    }
    if client_id.is_some_and(|id| id.len() > CLIENT_ID) {
        return Err(TooLarge::ClientId);
    }
    Ok(())
}

/// Whether an identity may have this name.
pub(super) fn check_name(name: &str) -> Result<(), DirectoryError> {
    let why = if name.is_empty() {
        Unfit::Empty
    } else if name.len() > NAME {
        Unfit::TooLong
    } else if BUILT_IN.contains(&name) {
        Unfit::BuiltIn
    } else if name.starts_with(BRIDGE) {
        Unfit::Bridge
    } else if name.starts_with(DERIVED) {
        Unfit::Derived
    } else if name.chars().any(|c| c.is_control() || matches!(c, '/' | '+' | '#')) {
        Unfit::Level
    } else {
        return Ok(());
    };
    Err(DirectoryError::Name { name: name.into(), why })
}

/// Matches in the one way that certificates are looked up by, each once.
pub(super) fn read_matches(texts: &[String]) -> Result<Vec<String>, DirectoryError> {
    if texts.len() > MATCHES {
        return Err(TooLarge::Matches.into());
    }
    let mut matches = Vec::with_capacity(texts.len());
    for text in texts {
        let one = certificate::read_match(text)?;
        if !matches.contains(&one) {
            matches.push(one);
        }
    }
    Ok(matches)
}
