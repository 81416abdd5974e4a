//! Placeholder while the ground is laid.
