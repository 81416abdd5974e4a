//! Bridges of a blueprint: another broker, and which topics go which way under which names.

use std::{sync::Arc, time::Duration};

use moorfall_wire::{ProtocolVersion, QoS, TopicName};

use super::{Rate, Span};
use crate::{
    BRIDGE, Condition, Identity, Limits, LiveTraffic, QueuePolicy, Remote,
    bridge::{Direction, Mapped, Mapping},
};

/// A bridge to another broker.
#[derive(Clone, Debug)]
pub struct Bridge {
    /// Where it stands.
    pub at: Span,
    /// Its name.
    pub name: String,
    /// What it is for.
    pub purpose: String,
    /// Where the other broker is, and as whom to sign in there: the first address that takes the bridge.
    pub remotes: Vec<Remote>,
    /// How long after a fail-over the first address is tried again.
    pub fail_back: Duration,
    /// Files of its secrets, by name, in the service's folder for them.
    pub files: BridgeFiles,
    /// The version that is spoken.
    pub version: ProtocolVersion,
    /// The client identifier there.
    pub client_id: String,
    /// Longest silence, seconds.
    pub keep_alive: u16,
    /// Whether no session is kept there.
    pub clean_start: bool,
    /// Seconds that the session there outlives its connection (5.0).
    pub session_expiry: u32,
    /// A topic there that says whether the bridge is up.
    pub status_there: Option<TopicName>,
    /// What waits here while the link is down.
    pub waiting: Waiting,
    /// Retained messages that a new subscription brings, in a second at most.
    pub retained_rate: u32,
    /// What goes from here to there. The first one that takes a topic has it.
    pub push: Vec<BridgeMapping>,
    /// What comes from there.
    pub pull: Vec<BridgeMapping>,
}

/// Names of files.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct BridgeFiles {
    /// The password; the one that the service was told if absent.
    pub secret: Option<String>,
    /// Authorities that are trusted; those of the machine if absent.
    pub authority: Option<String>,
    /// The client certificate.
    pub certificate: Option<String>,
    /// Its key.
    pub key: Option<String>,
}

/// What waits while the link is down.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Waiting {
    /// Messages at most.
    pub messages: usize,
    /// Bytes at most.
    pub bytes: usize,
    /// How long one waits at most; for ever if absent.
    pub age: Option<Duration>,
    /// What happens at these bounds.
    pub full: QueuePolicy,
    /// How what comes now goes while it waits.
    pub live: LiveTraffic,
}

impl Default for Waiting {
    fn default() -> Self {
        Self {
            messages: 100_000,
            bytes: 64 * 1024 * 1024,
            age: None,
            full: QueuePolicy::DropOldest,
            live: LiveTraffic::Behind,
        }
    }
}

/// What a bridge takes in one direction.
#[derive(Clone, Debug)]
pub struct BridgeMapping {
    /// Where it stands.
    pub at: Span,
    /// What it is for.
    pub purpose: String,
    /// Which topics, and what they become.
    pub names: Mapping,
    /// The highest QoS.
    pub highest_qos: QoS,
    /// Whether retained messages stay retained.
    pub retained: bool,
    /// Whether a retained message that is cleared on one side is cleared on the other.
    pub clearing: bool,
    /// Which messages; all if absent.
    pub condition: Option<Arc<Condition>>,
    /// How many; others are left out.
    pub rate: Option<Rate>,
}

impl Bridge {
    /// Who it is here, as rules see it: its name behind `bridge:`, and `kind` is `bridge`.
    pub fn identity(&self) -> Identity {
        Identity::of_bridge(&self.name)
    }

    /// The client identifiers of its sessions here: of the one that receives what is pushed, and of the one that
    /// publishes what is pulled.
    pub fn client_id(&self, direction: Direction) -> String {
        format!("{BRIDGE}{}:{direction}", self.name)
    }

    /// Its mappings of one direction.
    pub fn mappings(&self, direction: Direction) -> &[BridgeMapping] {
        match direction {
            Direction::Push => &self.push,
            Direction::Pull => &self.pull,
        }
    }

    /// The mapping that takes a topic, and what it becomes.
    pub fn taken(&self, direction: Direction, topic: &TopicName) -> Option<(usize, Mapped)> {
        let mapped = self.mappings(direction).iter().map(|mapping| mapping.names.apply(topic)).enumerate();
        mapped.into_iter().find(|(_, mapped)| *mapped != Mapped::NotTaken)
    }

    /// The limits of its sessions here.
    pub fn limits(&self, usual: &Limits) -> Limits {
        Limits {
            queue_messages: self.waiting.messages,
            queue_bytes: self.waiting.bytes,
            queue_bytes_per_identity: self.waiting.bytes,
            queue_policy: self.waiting.full,
            live_traffic: self.waiting.live,
            session_expiry_seconds: u32::MAX,
            ..usual.clone()
        }
    }
}
