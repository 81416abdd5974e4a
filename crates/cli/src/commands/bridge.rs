//! `moorfall bridge`

use std::{io, path::PathBuf};

use clap::{Args, Subcommand};
use moorfall_contract::{
    blueprint_files::blueprint_files,
    bridges::{
        BridgeFlow, BridgeList, BridgeMappingView, BridgePreview, BridgePreviewDraft, BridgePreviewSide, BridgeSecret,
        BridgeView, DemoLink,
    },
    kinds::{BridgeDirection, BridgePhase, LinkState, LiveTraffic},
};
use reqwest::Method;
use serde_json::json;
use time::OffsetDateTime;

use crate::{
    local::{Local, Which},
    messaging::read_password,
    output::{
        self, Done, FAINT, Failure, STRONG, WARN, ago, bytes, count, indented, plural, printable, since, span, table,
    },
};

/// From where the secret comes when no file is named.
const SECRET: &str = "MOORFALL_BRIDGE_SECRET";

/// What the command takes.
#[derive(Debug, Args)]
pub struct Arguments {
    #[command(subcommand)]
    verb: Verb,
    #[command(flatten)]
    which: Which,
}

#[derive(Debug, Args)]
struct Named {
    /// Name of the bridge
    name: String,
    /// Print JSON
    #[arg(long)]
    json: bool,
}

/// How the link of the demo can be.
#[derive(Clone, Copy, Debug, clap::ValueEnum)]
enum Link {
    /// It carries
    Open,
    /// It carries slowly
    Slow,
    /// It is cut
    Cut,
}

#[derive(Debug, Subcommand)]
enum Verb {
    /// List bridges: their links, what waits, and what passes
    List {
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Show a bridge, its mappings, and what keeps them from carrying
    Show(Named),
    /// Show what topics become on the other side, without sending anything
    ///
    /// Without topics, all live ones here are looked at, and an example of each filter there.
    Preview {
        /// Name of the bridge
        name: String,
        /// Topics of this broker
        topics: Vec<String>,
        /// Topics of the remote; may be given several times
        #[arg(long = "there", value_name = "TOPIC")]
        remote_topics: Vec<String>,
        /// By this blueprint instead of the one in force: a file, or a folder of .toml files
        #[arg(long, value_name = "FILE")]
        blueprint: Option<PathBuf>,
        /// Print at most N topics each way
        #[arg(long, value_name = "N", default_value_t = 20)]
        limit: usize,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Close the link until it is resumed; what is to be pushed waits
    Pause(Named),
    /// Open the link again
    Resume(Named),
    /// Take nothing new, send what waits, and then rest
    Drain(Named),
    /// Connect anew at once, beginning with the first address
    Retry(Named),
    /// Cut, slow or restore the link between the brokers of the demo
    DemoLink {
        /// How the link is from now on
        state: Link,
    },
    /// Set the password that a bridge shows to its remote
    ///
    /// It is kept by the service and never shown. It is asked for, or taken from MOORFALL_BRIDGE_SECRET.
    Secret {
        /// Name of the bridge
        name: String,
        /// File with the password
        #[arg(long, value_name = "FILE", conflicts_with = "remove")]
        secret_file: Option<PathBuf>,
        /// Forget the one that is kept
        #[arg(long)]
        remove: bool,
    },
}

/// Carries out the command.
pub async fn run(arguments: Arguments) -> Done {
    let local = arguments.which.find()?;
    match arguments.verb {
        Verb::List { json } => {
            let list: BridgeList = local.get(&["bridges"], &[]).await?;
            if json { output::json(&list) } else { output::finish(print_list(&list)) }
        }
        Verb::Show(Named { name, json }) => shown(local.get(&["bridges", &name], &[]).await?, json),
        Verb::Preview { name, topics, remote_topics, blueprint, limit, json } => {
            let files = blueprint.map(|path| read(&path)).transpose()?;
            let draft = BridgePreviewDraft { files, topics, remote_topics };
            let path = ["bridges", &name, "preview"];
            let preview: BridgePreview = local.post(&path, &draft).await?;
            if json { output::json(&preview) } else { output::finish(print_preview(&preview, limit)) }
        }
        Verb::Pause(named) => order(&local, named, "pause").await,
        Verb::Resume(named) => order(&local, named, "resume").await,
        Verb::Drain(named) => order(&local, named, "drain").await,
        Verb::Retry(named) => order(&local, named, "retry").await,
        Verb::DemoLink { state } => demo_link(&local, state).await,
        Verb::Secret { name, secret_file, remove } => secret(&local, &name, secret_file, remove).await,
    }
}

fn read(path: &std::path::Path) -> Result<Vec<moorfall_contract::design::BlueprintFile>, Failure> {
    let files = blueprint_files(path).map_err(|error| {
        Failure(format!("{} can't be read: {error}. Check the path and its permissions.", path.display()))
    })?;
    Ok(files.iter().map(Into::into).collect())
}

fn shown(bridge: BridgeView, as_json: bool) -> Done {
    if as_json { output::json(&bridge) } else { output::finish(print_bridge(&bridge)) }
}

async fn order(local: &Local, Named { name, json }: Named, verb: &str) -> Done {
    let bridge: BridgeView = local.post(&["bridges", &name, verb], &json!({})).await?;
    if json {
        return output::json(&bridge);
    }
    let words = match verb {
        "pause" => "rests until it is resumed; what is to be pushed waits",
        "drain" => "takes nothing new, sends what waits, and then rests",
        _ => "connects",
    };
    output::finish(output::line(format_args!(
        "{} {words}. `moorfall bridge show {0}` tells how it goes.",
        printable(&name)
    )))
}

async fn demo_link(local: &Local, state: Link) -> Done {
    let state = match state {
        Link::Open => LinkState::Open,
        Link::Slow => LinkState::Slow,
        Link::Cut => LinkState::Cut,
    };
    let link: DemoLink = local.put(&["demo", "link"], &DemoLink { state }).await?;
    let words = match link.state {
        LinkState::Open => "The link carries again.",
        LinkState::Slow => "The link carries slowly.",
        LinkState::Cut => "The link is cut. `moorfall bridge list` shows what waits.",
    };
    output::finish(output::line(words))
}

async fn secret(local: &Local, name: &str, file: Option<PathBuf>, remove: bool) -> Done {
    let path = ["bridges", name, "secret"];
    if remove {
        local.change(Method::DELETE, &path, None::<&()>).await?;
        return output::finish(output::line(format_args!("No secret is kept for {} any more.", printable(name))));
    }
    let prompt = format!("Secret of the bridge {name}: ");
    let read = read_password(file.as_deref(), SECRET, "--secret-file", &prompt)?;
    let secret = String::from_utf8(read.to_vec()).map_err(|_| {
        Failure("The secret is not text. Put it into a file, and name that as secret-file in the blueprint.".into())
    })?;
    local.change(Method::PUT, &path, Some(&BridgeSecret { secret })).await?;
    output::finish(output::line(format_args!(
        "The secret of {} is kept; the bridge connects with it.",
        printable(name)
    )))
}

/// When a link that is down is tried next; empty if at once, or if it is not down.
fn next(bridge: &BridgeView) -> String {
    let next = bridge.next_attempt_at.filter(|_| bridge.phase == BridgePhase::Down);
    match next.map(|at| (at - OffsetDateTime::now_utc()).whole_seconds()) {
        Some(left) if left > 0 => format!(", next in {}", span(left.unsigned_abs())),
        _ => String::new(),
    }
}

fn rate(flow: &BridgeFlow) -> String {
    if flow.rate > 0.0 && flow.rate < 10.0 { format!("{:.1}/s", flow.rate) } else { format!("{:.0}/s", flow.rate) }
}

fn print_list(list: &BridgeList) -> io::Result<()> {
    if list.bridges.is_empty() {
        return output::line("There are no bridges. Add [[bridges]] to the blueprint; docs/BRIDGES.md tells how.");
    }
    let row = |bridge: &BridgeView| {
        let oldest = bridge.waiting.oldest_at.map(since).unwrap_or_default();
        vec![
            printable(&bridge.name),
            format!("{}{}", bridge.phase, next(bridge)),
            since(bridge.since),
            rate(&bridge.pushed),
            rate(&bridge.pulled),
            count(bridge.waiting.messages),
            oldest,
            count(bridge.dropped.values().sum()),
        ]
    };
    let headings = ["BRIDGE", "STATE", ">FOR", ">PUSHED", ">PULLED", ">WAITING", ">OLDEST", ">DROPPED"];
    output::line(table(&headings, list.bridges.iter().map(row).collect()))?;
    for bridge in list.bridges.iter().filter(|bridge| bridge.phase == BridgePhase::Down) {
        if let Some(trouble) = &bridge.trouble {
            output::line(format_args!("{WARN}{}{WARN:#}", printable(&bridge.name)))?;
            output::line(indented(&printable(&trouble.words), 2))?;
        }
    }
    Ok(())
}

fn print_bridge(bridge: &BridgeView) -> io::Result<()> {
    let mark = if bridge.phase == BridgePhase::Down { WARN } else { STRONG };
    output::line(format_args!(
        "{STRONG}{}{STRONG:#}  {mark}{}{mark:#} for {}{}",
        printable(&bridge.name),
        bridge.phase,
        since(bridge.since),
        next(bridge)
    ))?;
    if !bridge.purpose.is_empty() {
        output::line(indented(&printable(&bridge.purpose), 2))?;
    }
    let field = |label: &str, value: &str| output::line(format_args!("  {label:11} {}", printable(value)));
    let others: Vec<&str> = bridge.remotes.iter().map(String::as_str).collect();
    field("remote", &others.join(", "))?;
    if let (Some(remote), true) = (&bridge.remote, others.len() > 1) {
        field("address", remote)?;
    }
    let session = match bridge.session_present {
        Some(true) => ", its session there continued",
        Some(false) => ", with a new session there",
        None => "",
    };
    field("speaks", &format!("MQTT {} as {}{session}", bridge.version, bridge.client_id))?;
    field("identity", &format!("{} here", bridge.identity))?;
    if let Some(micros) = bridge.round_trip_us {
        field("round trip", &format!("{:.1} ms", micros as f64 / 1e3))?;
    }
    let (waiting, room) = (&bridge.waiting, &bridge.room);
    let oldest = waiting.oldest_at.map_or_else(String::new, |at| format!(", the oldest for {}", since(at)));
    let age = room.age_seconds.map_or_else(String::new, |age| format!(" and {}", span(age)));
    field(
        "waiting",
        &format!(
            "{} ({}){oldest}; {} in flight",
            plural(waiting.messages, "message", "messages"),
            bytes(waiting.bytes as f64),
            count(waiting.in_flight)
        ),
    )?;
    field(
        "room",
        &format!("{} messages, {}{age}; then {}", count(room.messages), bytes(room.bytes as f64), room.full),
    )?;
    field(
        "live",
        match room.live {
            LiveTraffic::Behind => "behind all that waits",
            LiveTraffic::Beside => "beside what waits of other topics",
        },
    )?;
    for (reason, number) in &bridge.dropped {
        output::line(format_args!("  {WARN}dropped{WARN:#}     {} ({reason})", count(*number)))?;
    }
    if bridge.failed_attempts > 0 {
        field("attempts", &format!("{} failed", count(bridge.failed_attempts)))?;
    }
    if let Some(trouble) = &bridge.trouble {
        output::line(format_args!("  {WARN}last error{WARN:#}  {}", ago(trouble.at)))?;
        output::line(indented(&printable(&trouble.words), 4))?;
    }
    for mapping in &bridge.mappings {
        print_mapping(mapping)?;
    }
    Ok(())
}

fn print_mapping(mapping: &BridgeMappingView) -> io::Result<()> {
    let arrow = match mapping.direction {
        BridgeDirection::Push => "push",
        BridgeDirection::Pull => "pull",
    };
    let to = mapping.new_name.as_ref().map_or_else(String::new, |name| format!(" as {}", printable(name)));
    let names = indented(&format!("{}{to}", printable(&mapping.filter)), arrow.len() + 1);
    output::line(format_args!("{STRONG}{arrow}{STRONG:#} {}", names.trim_start()))?;
    let mut terms = vec![format!("QoS {} at most", mapping.highest_qos)];
    terms.extend(mapping.condition.as_ref().map(|condition| format!("where {}", printable(condition))));
    terms.extend(mapping.limit.as_ref().map(|limit| format!("{limit} at most")));
    if !mapping.retained {
        terms.push("nothing retained".into());
    } else if !mapping.clearing {
        terms.push("not cleared".into());
    }
    output::line(format_args!("  {FAINT}{}{FAINT:#}", terms.join(", ")))?;
    let flow = &mapping.flow;
    let last = mapping.last_at.map_or_else(String::new, |at| format!(", last {}", ago(at)));
    output::line(format_args!(
        "  {} ({}), {} acknowledged, {}{last}",
        plural(flow.messages, "message", "messages"),
        bytes(flow.bytes as f64),
        count(flow.acknowledged),
        rate(flow)
    ))?;
    for (reason, number) in &flow.not_carried {
        output::line(format_args!("  not carried: {} ({})", count(*number), reason.replace('-', " ")))?;
    }
    for trouble in &mapping.troubles {
        output::line(format_args!("  {WARN}note{WARN:#}"))?;
        output::line(indented(&printable(trouble), 4))?;
    }
    Ok(())
}

fn print_preview(preview: &BridgePreview, limit: usize) -> io::Result<()> {
    print_side(&preview.push, limit)?;
    print_side(&preview.pull, limit)?;
    for warning in &preview.warnings {
        output::line(format_args!("{WARN}warning{WARN:#}"))?;
        output::line(indented(&printable(warning), 2))?;
    }
    Ok(())
}

fn print_side(side: &BridgePreviewSide, limit: usize) -> io::Result<()> {
    let (verb, from) = match side.direction {
        BridgeDirection::Push => ("push", "here"),
        BridgeDirection::Pull => ("pull", "there"),
    };
    let topics = plural(side.looked_at, "topic", "topics");
    output::line(format_args!("{STRONG}{verb}{STRONG:#}  {} of {topics} {from}", count(side.carried)))?;
    let mut left = limit;
    for carried in [true, false] {
        let lines: Vec<_> = side.topics.iter().filter(|line| line.becomes.is_some() == carried).collect();
        for line in lines.iter().take(left) {
            let end = match &line.becomes {
                Some(name) if *name == line.topic => "the same name".to_owned(),
                Some(name) => printable(name),
                None => line.why_not.clone(),
            };
            let mark = if carried { STRONG } else { FAINT };
            output::line(format_args!("  {}", printable(&line.topic)))?;
            output::line(format_args!(
                "    {mark}{}{mark:#}",
                if carried { format!("→ {end}") } else { format!("✗ {end}") }
            ))?;
        }
        left = left.saturating_sub(lines.len());
    }
    let told = side.topics.len().min(limit) as u64;
    if side.looked_at > told {
        output::line(format_args!("  {FAINT}{} more; --limit N prints more{FAINT:#}", count(side.looked_at - told)))?;
    }
    Ok(())
}
