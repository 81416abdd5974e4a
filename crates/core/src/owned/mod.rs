//! Owned topics: of several that publish to one, the strongest is heard and the messages of the others are withheld.
//! When its session ends, or it was silent beyond its time, the next one is the owner at once; a stronger one takes over
//! when it publishes. Of equal ones the first stays.

mod claim;
mod owners;
mod paths;
mod topic;

pub use self::{
    claim::{Change, Claim, Claimant, NotOwner, Publishing, Why},
    owners::{Kept, Most, Owners, Said, Seen},
    paths::OwnedPaths,
};
