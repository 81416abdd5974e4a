//! From a socket to a stream of bytes with an origin and a seat. What is spoken on it is not known here.

pub mod accept;
pub mod bind;
pub mod descriptors;
pub mod doors;
pub mod gatekeeper;
pub mod inbox;
pub mod listener;
pub mod origin;
pub mod seats;
pub mod settings;
pub mod stream;
pub mod tls;
pub mod tls_version;
pub mod trust;
pub mod upgrade;
pub mod websocket;
