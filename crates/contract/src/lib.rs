//! What a service and programs that use it agree on: what is said over the interface, how a running service is found,
//! how a design lies in files.

pub mod alerts;
pub mod blueprint_files;
pub mod bridges;
pub mod derived;
pub mod design;
pub mod desk;
pub mod effects;
pub mod events;
pub mod health;
pub mod history;
pub mod identities;
pub mod inbox;
pub mod journeys;
pub mod kinds;
pub mod ladders;
pub mod owners;
pub mod people;
pub mod problem;
pub mod readings;
pub mod retained;
pub mod running;
pub mod sessions;
pub mod status;
pub mod topics;
