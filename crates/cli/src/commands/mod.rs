//! One module for each command.

pub mod access;
pub mod alerts;
pub mod authorities;
pub mod blueprint;
pub mod bridge;
mod bulk;
pub mod busiest;
pub mod cert;
pub mod derived;
pub mod drill;
pub mod events;
pub mod history;
pub mod identities;
pub mod journey;
pub mod ladder;
pub mod measures;
pub mod people;
pub mod publish;
pub mod recording;
pub mod remote;
pub mod request;
pub mod retained;
pub mod sessions;
pub mod status;
pub mod subscribe;
pub mod subscribers;
pub mod topics;
