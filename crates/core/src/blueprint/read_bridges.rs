//! Bridges of a blueprint from its text.

use moorfall_wire::{ProtocolVersion, QoS, TopicName};
use serde::Deserialize;
use toml::Spanned;

use super::{
    Blueprint, Bridge, BridgeFiles, BridgeMapping, Span, Waiting,
    reader::{Reader, rate},
};
use crate::{
    Condition, LiveTraffic, QueuePolicy, Remote,
    bridge::{Mapping, find_cycle},
};

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct BridgeEntry {
    name: Spanned<String>,
    #[serde(default)]
    purpose: String,
    remotes: Spanned<Vec<Spanned<String>>>,
    fail_back: Option<Spanned<String>>,
    secret_file: Option<Spanned<String>>,
    authority_file: Option<Spanned<String>>,
    certificate_file: Option<Spanned<String>>,
    key_file: Option<Spanned<String>>,
    protocol: Option<Spanned<String>>,
    client_id: Option<Spanned<String>>,
    keep_alive: Option<Spanned<String>>,
    #[serde(default)]
    clean_start: bool,
    session_expiry: Option<Spanned<String>>,
    status_there: Option<Spanned<String>>,
    #[serde(default)]
    waiting: WaitingEntry,
    retained_rate: Option<Spanned<String>>,
    #[serde(default)]
    push: Vec<MappingEntry>,
    #[serde(default)]
    pull: Vec<MappingEntry>,
}

#[derive(Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct WaitingEntry {
    messages: Option<Spanned<usize>>,
    bytes: Option<Spanned<usize>>,
    age: Option<Spanned<String>>,
    full: Option<Spanned<QueuePolicy>>,
    live: Option<LiveTraffic>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct MappingEntry {
    filter: Spanned<String>,
    r#as: Option<Spanned<String>>,
    #[serde(default)]
    purpose: String,
    highest_qos: Option<Spanned<u8>>,
    #[serde(default = "yes")]
    retained: bool,
    clearing: Option<Spanned<bool>>,
    r#where: Option<Spanned<String>>,
    rate: Option<Spanned<String>>,
}

fn yes() -> bool {
    true
}

/// The longest name of a bridge, bytes.
const NAME: usize = 64;

/// Addresses of one remote.
const REMOTES: usize = 16;

/// Mappings of one direction.
const MAPPINGS: usize = 200;

/// Messages and bytes that may wait for one bridge.
const WAITING: (usize, usize) = (10_000_000, 64 * 1024 * 1024 * 1024);

/// The keep alive if none is written, seconds.
const KEEP_ALIVE: u16 = 30;

/// Seconds that the session there is kept if nothing is written: a week.
const SESSION_EXPIRY: u32 = 7 * 24 * 3_600;

/// Seconds after which the first address is tried again if nothing is written.
const FAIL_BACK: u64 = 300;

/// Retained messages in a second if nothing is written.
const RETAINED_RATE: u32 = 1_000;

impl Reader {
    pub(super) fn bridges(&mut self, blueprint: &mut Blueprint, entries: Vec<BridgeEntry>) {
        for entry in entries {
            let at = self.span(entry.name.span());
            let name = entry.name.get_ref().clone();
            let is_plain = |c: char| c.is_ascii_alphanumeric() || c == '-' || c == '_';
            if name.is_empty() || name.len() > NAME || !name.chars().all(is_plain) {
                let message = format!("`{name}` is not a name for a bridge");
                self.wrong(&at, message, format!("use up to {NAME} letters, digits and hyphens"));
            }
            let remotes = self.remotes(&entry.remotes);
            let version = self.version(entry.protocol);
            let keep_alive = self.seconds(entry.keep_alive, u64::from(u16::MAX));
            let expiry = self.seconds(entry.session_expiry.clone(), u64::from(u32::MAX));
            if let (true, Some(written)) = (entry.clean_start, &entry.session_expiry) {
                let span = self.span(written.span());
                self.wrong(&span, "a clean start keeps no session there", "remove clean-start or session-expiry");
            }
            let fail_back = self.time(entry.fail_back);
            let files = BridgeFiles {
                secret: self.file_name(entry.secret_file),
                authority: self.file_name(entry.authority_file),
                certificate: self.file_name(entry.certificate_file),
                key: self.file_name(entry.key_file),
            };
            if files.certificate.is_some() != files.key.is_some() {
                self.wrong(&at, "a client certificate needs its key, and a key its certificate", "write both files");
            }
            let client_id = entry.client_id.map(Spanned::into_inner);
            let client_id = client_id.unwrap_or_else(|| format!("{}-{name}", slug(&blueprint.name)));
            let status_there = self.topic(entry.status_there);
            let waiting = self.waiting(entry.waiting);
            let retained_rate = self.per_second(entry.retained_rate);
            let push = self.mappings(&at, entry.push);
            let pull = self.mappings(&at, entry.pull);
            if push.is_empty() && pull.is_empty() {
                self.wrong(
                    &at,
                    format!("the bridge `{name}` takes nothing"),
                    "add [[bridges.push]] or [[bridges.pull]]",
                );
            }
            self.no_cycle(&at, &push, &pull);
            blueprint.bridges.push(Bridge {
                at,
                name,
                purpose: entry.purpose,
                remotes,
                fail_back: fail_back.unwrap_or(std::time::Duration::from_secs(FAIL_BACK)),
                files,
                version,
                client_id,
                keep_alive: keep_alive.and_then(|seconds| u16::try_from(seconds).ok()).unwrap_or(KEEP_ALIVE),
                clean_start: entry.clean_start,
                session_expiry: expiry.and_then(|seconds| u32::try_from(seconds).ok()).unwrap_or(SESSION_EXPIRY),
                status_there,
                waiting,
                retained_rate: retained_rate.unwrap_or(RETAINED_RATE),
                push,
                pull,
            });
        }
    }

    fn remotes(&mut self, written: &Spanned<Vec<Spanned<String>>>) -> Vec<Remote> {
        let count = written.get_ref().len();
        if count == 0 || count > REMOTES {
            let span = self.span(written.span());
            let message = format!("a bridge has 1 to {REMOTES} addresses");
            self.wrong(&span, message, "write for example remotes = [\"mqtts://harrowmere@tideway.example\"]");
        }
        let mut remotes = Vec::new();
        for text in written.get_ref() {
            match text.get_ref().parse::<Remote>() {
                Ok(remote) => remotes.push(remote),
                Err(error) => {
                    let span = self.span(text.span());
                    self.wrong(&span, error.to_string().trim_end_matches('.'), "");
                }
            }
        }
        remotes
    }

    fn version(&mut self, protocol: Option<Spanned<String>>) -> ProtocolVersion {
        match protocol.as_ref().map(|text| text.get_ref().as_str()) {
            None | Some("5.0") => ProtocolVersion::V5,
            Some("3.1.1") => ProtocolVersion::V311,
            Some(other) => {
                let message = format!("`{other}` is not a version of the protocol");
                let span = self.span(protocol.as_ref().map_or(0..0, Spanned::span));
                self.wrong(&span, message, "write \"5.0\" or \"3.1.1\"");
                ProtocolVersion::V5
            }
        }
    }

    fn seconds(&mut self, text: Option<Spanned<String>>, most: u64) -> Option<u64> {
        let span = self.span(text.as_ref()?.span());
        let seconds = self.time(text)?.as_secs();
        if seconds > most {
            self.wrong(&span, format!("the protocol has room for {most} s"), "write a shorter time");
            return None;
        }
        Some(seconds)
    }

    /// A name without a way to elsewhere: whoever writes blueprints must not read any file of the machine.
    fn file_name(&mut self, text: Option<Spanned<String>>) -> Option<String> {
        let text = text?;
        let name = text.get_ref();
        if name.is_empty() || name.contains(['/', '\\', '\0']) || name.starts_with('.') {
            let span = self.span(text.span());
            let message = format!("`{name}` is not the name of a file in the service's folder for bridges");
            self.wrong(&span, message, "put the file there, and write its name without a folder");
            return None;
        }
        Some(text.into_inner())
    }

    fn topic(&mut self, text: Option<Spanned<String>>) -> Option<TopicName> {
        let text = text?;
        let parsed = text.get_ref().parse::<TopicName>();
        if let Err(error) = &parsed {
            let span = self.span(text.span());
            self.wrong(&span, format!("`{}` is not a topic: {error}", text.get_ref()), "");
        }
        parsed.ok()
    }

    fn waiting(&mut self, entry: WaitingEntry) -> Waiting {
        let usual = Waiting::default();
        for (written, most) in [(&entry.messages, WAITING.0), (&entry.bytes, WAITING.1)] {
            if let Some(written) = written.as_ref().filter(|written| !(1..=most).contains(written.get_ref())) {
                let span = self.span(written.span());
                self.wrong(&span, format!("it must be from 1 to {most}"), "");
            }
        }
        if let Some(full) = entry.full.as_ref().filter(|full| *full.get_ref() == QueuePolicy::EndSession) {
            let span = self.span(full.span());
            self.wrong(&span, "the session of a bridge does not end", "write drop-oldest or drop-newest");
        }
        Waiting {
            messages: entry.messages.map_or(usual.messages, Spanned::into_inner),
            bytes: entry.bytes.map_or(usual.bytes, Spanned::into_inner),
            age: self.time(entry.age),
            full: entry.full.map_or(usual.full, Spanned::into_inner),
            live: entry.live.unwrap_or(usual.live),
        }
    }

    fn per_second(&mut self, text: Option<Spanned<String>>) -> Option<u32> {
        let text = text?;
        let read = rate(text.get_ref()).filter(|rate| rate.every.as_secs() == 1);
        if read.is_none() {
            let span = self.span(text.span());
            self.wrong(&span, format!("`{}` is not a rate per second", text.get_ref()), "write for example 1000/s");
        }
        read.map(|rate| rate.messages)
    }

    fn mappings(&mut self, bridge: &Span, entries: Vec<MappingEntry>) -> Vec<BridgeMapping> {
        if entries.len() > MAPPINGS {
            self.wrong(bridge, format!("a bridge has at most {MAPPINGS} mappings each way"), "use wider filters");
            return Vec::new();
        }
        entries.into_iter().filter_map(|entry| self.mapping(entry)).collect()
    }

    fn mapping(&mut self, entry: MappingEntry) -> Option<BridgeMapping> {
        let at = self.span(entry.filter.span());
        let to = entry.r#as.as_ref().map(|to| to.get_ref().as_str());
        let names = match Mapping::parse(entry.filter.get_ref(), to, &self.levels) {
            Ok(names) => Some(names),
            Err(error) => {
                let is_of_name = error.is_of_name();
                let place = entry.r#as.as_ref().filter(|_| is_of_name).map_or(entry.filter.span(), Spanned::span);
                let span = self.span(place);
                self.wrong(&span, error.to_string(), "");
                None
            }
        };
        if let Some(clearing) = entry.clearing.as_ref().filter(|clearing| *clearing.get_ref() && !entry.retained) {
            let span = self.span(clearing.span());
            self.wrong(&span, "only retained messages are cleared", "remove clearing, or carry retained messages");
        }
        let condition = entry.r#where.and_then(|text| match Condition::shared(text.get_ref()) {
            Ok(condition) if condition.looks_back() => {
                let span = self.inside(text.span(), text.get_ref().find("before").unwrap_or(0));
                let remedy = "say it in [[conditions]] for the identity of the bridge";
                self.wrong(&span, "a mapping does not know the message before", remedy);
                None
            }
            Ok(condition) => Some(condition),
            Err(error) => {
                let span = self.inside(text.span(), error.at);
                self.wrong(&span, error.message, "");
                None
            }
        });
        let limit = entry.rate.and_then(|text| {
            let read = rate(text.get_ref());
            if read.is_none() {
                let span = self.span(text.span());
                self.wrong(&span, format!("`{}` is not a rate", text.get_ref()), "write for example 10/s or 600/m");
            }
            read
        });
        let highest_qos = self.qos(entry.highest_qos).unwrap_or(QoS::ExactlyOnce);
        let clearing = entry.clearing.map_or(entry.retained, Spanned::into_inner);
        let (purpose, retained) = (entry.purpose, entry.retained);
        Some(BridgeMapping { at, purpose, names: names?, highest_qos, retained, clearing, condition, rate: limit })
    }

    fn no_cycle(&mut self, at: &Span, push: &[BridgeMapping], pull: &[BridgeMapping]) {
        let names = |mappings: &[BridgeMapping]| mappings.iter().map(|one| one.names.clone()).collect::<Vec<_>>();
        let (push_names, pull_names) = (names(push), names(pull));
        match find_cycle(&push_names, &pull_names) {
            Ok(None) => {}
            Ok(Some(cycle)) => {
                let first = cycle.passages.first().map_or(0, |passage| passage.mapping);
                let at = push.get(first).map_or(at, |mapping| &mapping.at);
                let message = format!("messages can go round: {cycle}");
                self.wrong(at, message, "give what is pulled a name that is not pushed");
            }
            Err(undecided) => {
                self.wrong(at, undecided.to_string(), "use fewer, or narrower filters");
            }
        }
    }
}

/// A text as it may stand in a client identifier.
fn slug(text: &str) -> String {
    let plain = text.chars().map(|c| if c.is_ascii_alphanumeric() { c.to_ascii_lowercase() } else { '-' });
    let joined: String = plain.collect();
    joined.split('-').filter(|part| !part.is_empty()).collect::<Vec<_>>().join("-")
}
