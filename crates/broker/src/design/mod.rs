//! The design in force, and what is to take its place.

pub mod draft;
pub mod in_force;
