//! The product as its users meet it: the program started, and driven through its command line, its API, raw sockets
//! and the console in a browser.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod alerts;
mod api;
mod bridge_remotes;
mod bridges;
mod bursts;
mod capture;
mod certificates;
mod client;
mod cluster;
mod conditions;
mod conformance;
mod console;
mod couriers;
mod demo;
mod derived;
mod design;
mod desk;
mod desk_api;
mod drill;
mod durable;
mod endings;
mod events;
mod harness;
mod hold;
mod industrial;
mod journey;
mod ladder;
mod log;
mod messaging;
mod nonsense;
mod outputs;
mod owned;
mod peer;
mod quotas;
mod readings;
mod recordings;
mod retained;
mod roles;
mod service;
mod sessions;
mod sockets;
mod terminal;
mod topics;
mod transports;
mod watch;
