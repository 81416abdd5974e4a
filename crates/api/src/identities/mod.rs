//! Identities and what they sign in with.

pub mod authorities;
/// Listing, changing and importing them.
pub mod directory;
pub mod tokens;
