//! Random text.

use rand::Rng;

/// Random text of letters and digits that are not mistaken for each other; five bits a character.
pub fn random_text(length: usize) -> String {
    const LETTERS: &[u8; 32] = b"abcdefghijkmnpqrstuvwxyz23456789";
    let mut bytes = vec![0; length];
    rand::rng().fill_bytes(&mut bytes);
    bytes.iter().map(|byte| char::from(LETTERS[usize::from(byte & 31)])).collect()
}
