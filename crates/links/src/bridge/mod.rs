//! Bridges: one task for each, which keeps its link up and carries packets while it is.

mod all;
mod fault;
mod here;
mod link;
mod pace;
mod runner;
mod seen;
mod wish;

pub use self::{
    all::{Bridges, Waiting},
    fault::LinkFault,
    seen::{Flow, Phase, Seen, Standing},
    wish::Order,
};
