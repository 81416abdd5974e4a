//! Secrets that the broker makes. They hold 160 bits by chance, so nobody guesses one, and they need no slow hash: they
//! are verified in microseconds. What is kept is a digest under a key of its own.

use base64::{Engine, engine::general_purpose::STANDARD_NO_PAD};
use hmac::{Hmac, KeyInit, Mac};
use sha2::Sha256;

use crate::random::random_text;

/// Characters of a secret, five bits each.
const LENGTH: usize = 32;

/// What the kept form begins with.
const KIND: &str = "$generated$hmac-sha256$";

/// A secret that was made, to be shown once.
pub struct GeneratedSecret {
    /// To be shown once.
    pub text: String,
    /// What is kept of it.
    pub kept: String,
}

impl GeneratedSecret {
    /// A new one of 160 random bits.
    pub fn make() -> Self {
        let (text, key) = (random_text(LENGTH), random_text(26));
        let digest = STANDARD_NO_PAD.encode(digest(&key, text.as_bytes()).finalize().into_bytes());
        Self { kept: format!("{KIND}{key}${digest}"), text }
    }
}

fn digest(key: &str, secret: &[u8]) -> Hmac<Sha256> {
    let mut mac = Hmac::<Sha256>::new_from_slice(key.as_bytes()).expect("a key of any length will do");
    mac.update(secret);
    mac
}

/// Whether this is what is kept of a generated secret, and not of a password that somebody chose.
pub fn is_generated(kept: &str) -> bool {
    kept.starts_with(KIND)
}

/// Whether `given` is the secret of which `kept` is kept. It takes as long for every one that is wrong.
pub fn is_right(kept: &str, given: &[u8]) -> bool {
    let parts = kept.strip_prefix(KIND).and_then(|rest| rest.split_once('$'));
    let Some((key, expected)) = parts else { return false };
    STANDARD_NO_PAD.decode(expected).is_ok_and(|expected| digest(key, given).verify_slice(&expected).is_ok())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_secret_is_known_by_what_is_kept_of_it() {
        let (one, other) = (GeneratedSecret::make(), GeneratedSecret::make());
        assert!(one.text.len() * 5 >= 128 && one.text != other.text && !one.kept.contains(&one.text));
        assert!(is_generated(&one.kept) && is_right(&one.kept, one.text.as_bytes()));
        assert!(!is_right(&one.kept, other.text.as_bytes()) && !is_right(&one.kept, b""));
        assert!(!is_generated("$argon2id$v=19$m=19456,t=2,p=1$c2FsdA$aGFzaA"));
        assert!(!is_right("$generated$hmac-sha256$", b"") && !is_right("", b""));
    }
}
