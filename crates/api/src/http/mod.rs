//! How the interface is reached: who may, how requests are read, how faults are said.

pub mod apart;
pub mod console;
pub mod fields;
pub mod mqtt;
pub mod operator;
pub mod preview;
pub mod problem;
pub mod reading;
pub mod responses;
pub mod server;
pub mod sign_in;
pub mod sign_ins;
pub mod stream;
