//! The inbox of the demo: what its stand-in for mail servers and web hooks has received.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::kinds::{NoticeWay, StandInFault};

/// A letter, or a call of a web hook.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Received {
    /// From 1.
    pub number: u64,
    /// When it came.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// Which way.
    pub way: NoticeWay,
    /// Who sent it.
    pub from: String,
    /// To whom.
    pub to: String,
    /// What it is about, in a line.
    pub title: String,
    /// All of it.
    pub text: String,
    /// Of a call: whether its signature is right. Null for a letter.
    pub is_signed: Option<bool>,
}

/// How the stand-in behaves.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Faults {
    /// With letters.
    pub mail: StandInFault,
    /// With calls of web hooks.
    pub hook: StandInFault,
}

/// What has come, the newest first.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct InboxView {
    /// Letters and calls.
    pub received: Vec<Received>,
    /// How the stand-in behaves.
    pub faults: Faults,
}
