//! Bridges: how their links are, and what passes.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::{
    design::BlueprintFile,
    kinds::{BridgeDirection, BridgePhase, LinkState, LiveTraffic, QueuePolicy},
};

/// Something that went wrong with a link.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct BridgeTrouble {
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// What, why, and what to do.
    pub words: String,
}

/// What waits here for a bridge.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct BridgeWaiting {
    /// Messages that wait to be sent.
    pub messages: u64,
    /// Their bytes.
    pub bytes: u64,
    /// When the one was accepted that waits longest; null if none waits.
    #[serde(with = "time::serde::rfc3339::option")]
    pub oldest_at: Option<OffsetDateTime>,
    /// Messages that were sent and are not acknowledged.
    pub in_flight: u64,
}

/// How much may wait for a bridge.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct BridgeRoom {
    /// Messages at most.
    pub messages: u64,
    /// Bytes at most.
    pub bytes: u64,
    /// Seconds that one waits at most; null is for ever.
    pub age_seconds: Option<u64>,
    /// What happens at these bounds.
    pub full: QueuePolicy,
    /// How what comes now goes while much waits.
    pub live: LiveTraffic,
}

/// What passed in one direction since the service started, or since the design of the bridge changed.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct BridgeFlow {
    /// Messages that were carried to the other side.
    pub messages: u64,
    /// Bytes of their payloads.
    pub bytes: u64,
    /// QoS 1 and 2 messages that the other side has acknowledged.
    pub acknowledged: u64,
    /// Messages a second, over the last 10 s.
    pub rate: f64,
    /// Messages that were not carried on, by reason.
    pub not_carried: BTreeMap<String, u64>,
}

/// A mapping of a bridge.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct BridgeMappingView {
    /// Which way it carries.
    pub direction: BridgeDirection,
    /// Which topics, as the blueprint says it.
    pub filter: String,
    /// What they are called on the other side, as the blueprint says it; null if they keep their names.
    pub new_name: Option<String>,
    /// What it is for.
    pub purpose: String,
    /// The highest QoS.
    pub highest_qos: u8,
    /// Whether retained messages stay retained.
    pub retained: bool,
    /// Whether clearing a retained message is carried.
    pub clearing: bool,
    /// Which messages; all if null.
    pub condition: Option<String>,
    /// How many messages in which time; any if null.
    pub limit: Option<String>,
    /// What passed by it.
    pub flow: BridgeFlow,
    /// When a message passed last.
    #[serde(with = "time::serde::rfc3339::option")]
    pub last_at: Option<OffsetDateTime>,
    /// What keeps it from carrying as it should; empty if nothing does.
    pub troubles: Vec<String>,
}

/// A bridge.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct BridgeView {
    /// Its name.
    pub name: String,
    /// What it is for.
    pub purpose: String,
    /// How its link is.
    pub phase: BridgePhase,
    /// Since when.
    #[serde(with = "time::serde::rfc3339")]
    pub since: OffsetDateTime,
    /// The address that it is connected to, or tries now.
    pub remote: Option<String>,
    /// All of its addresses.
    pub remotes: Vec<String>,
    /// The version of MQTT that is spoken.
    pub version: String,
    /// Its client identifier there.
    pub client_id: String,
    /// Whether the remote went on with a session; null while the link is down.
    pub session_present: Option<bool>,
    /// How long the remote took to answer a ping, microseconds.
    pub round_trip_us: Option<u64>,
    /// Attempts that failed since the link was up last.
    pub failed_attempts: u64,
    /// When the next attempt is made, if one is.
    #[serde(with = "time::serde::rfc3339::option")]
    pub next_attempt_at: Option<OffsetDateTime>,
    /// What went wrong last.
    pub trouble: Option<BridgeTrouble>,
    /// What waits here.
    pub waiting: BridgeWaiting,
    /// How much may wait.
    pub room: BridgeRoom,
    /// Messages that waited and were dropped, by reason.
    pub dropped: BTreeMap<String, u64>,
    /// What went to the remote.
    pub pushed: BridgeFlow,
    /// What came from it.
    pub pulled: BridgeFlow,
    /// Its mappings, as they stand in the blueprint.
    pub mappings: Vec<BridgeMappingView>,
    /// Whether a password is kept for it here.
    pub has_secret: bool,
    /// Its identity here, for rules.
    pub identity: String,
}

/// All bridges.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct BridgeList {
    /// By name.
    pub bridges: Vec<BridgeView>,
    /// By which other brokers know this one.
    pub broker: String,
    /// How the link of the demo is that can be cut; null elsewhere.
    pub demo_link: Option<LinkState>,
}

/// The link between the brokers of the demo.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DemoLink {
    /// How it is.
    pub state: LinkState,
}

/// What becomes of a topic.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct BridgePreviewLine {
    /// The topic, on the side that it comes from.
    pub topic: String,
    /// What it becomes on the other side; null if it is not carried.
    pub becomes: Option<String>,
    /// Which mapping takes it, from 0 among those of its direction; null if none does.
    pub mapping: Option<u64>,
    /// Why it is not carried; empty if it is.
    pub why_not: String,
}

/// What becomes of the topics of one direction.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct BridgePreviewSide {
    /// Which way.
    pub direction: BridgeDirection,
    /// Topics and what they become: those first that are carried.
    pub topics: Vec<BridgePreviewLine>,
    /// Topics that were looked at.
    pub looked_at: u64,
    /// Those of them that are carried.
    pub carried: u64,
}

/// What a bridge would do to the topics that there are.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct BridgePreview {
    /// Live topics here, and what they become there.
    pub push: BridgePreviewSide,
    /// Topics there as far as they were named, and what they become here.
    pub pull: BridgePreviewSide,
    /// Mappings whose names may meet, and other things that are probably not meant.
    pub warnings: Vec<String>,
}

/// Which topics are looked at.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct BridgePreviewDraft {
    /// A blueprint that is not in force; the one in force if absent.
    #[serde(default)]
    pub files: Option<Vec<BlueprintFile>>,
    /// Topics here; all live ones if empty.
    #[serde(default)]
    pub topics: Vec<String>,
    /// Topics there.
    #[serde(default)]
    pub remote_topics: Vec<String>,
}

/// A password that a bridge shows to its remote. It is kept, and never shown.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct BridgeSecret {
    /// The password.
    pub secret: String,
}

impl std::fmt::Debug for BridgeSecret {
    /// Leaves the secret out.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("BridgeSecret").finish_non_exhaustive()
    }
}
