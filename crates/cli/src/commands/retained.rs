//! `moorfall retained`: what brokers keep for those who subscribe later.

use std::{
    collections::BTreeSet,
    io::{BufRead, BufReader, IsTerminal, Write},
    path::{Path, PathBuf},
    time::Duration,
};

use base64::{Engine, engine::general_purpose::STANDARD};
use bytes::Bytes;
use clap::{Args, Subcommand, ValueEnum};
use futures_util::{StreamExt, stream::FuturesUnordered};
use indicatif::ProgressBar;
use moorfall_client::{Arrival, Arrivals, Client};
use moorfall_contract::retained::{ClearedView, RetainedList};
use moorfall_wire::{
    Publish, PublishProperties, QoS, ReasonCode, Subscription, SubscriptionOptions, TopicFilter, TopicName,
    UserProperty,
};
use serde::{Deserialize, Serialize};
use serde_json::json;
use tokio::time::{Instant, timeout_at};

use crate::{
    arguments::{Misread, duration, filter},
    messaging::Connection,
    output::{self, Done, FAINT, Failure, bytes, count, plural, printable, since, span, table},
    payload::Shown,
    view::{Show, View},
};

/// Topics that are cleared or published to at a time.
const CHUNK: usize = 5_000;

/// Publishings that may wait for their acknowledgements.
const UNDER_WAY: usize = 200;

/// Topics that are listed before it is asked.
const LISTED: usize = 40;

/// What the command takes.
#[derive(Debug, Args)]
pub struct Arguments {
    #[command(subcommand)]
    verb: Verb,
}

/// Which retained messages, and of which broker.
#[derive(Debug, Args)]
struct Scope {
    /// Without a Moorfall service: the list is complete when no message has arrived for this time
    #[arg(long, value_name = "TIME", default_value = "700ms", value_parser = duration)]
    settle: Duration,
    #[command(flatten)]
    connection: Connection,
}

/// The order of a list.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
enum Order {
    /// By topic
    #[default]
    Topic,
    /// Largest first
    Size,
    /// Oldest first; only a Moorfall service knows ages
    Age,
}

#[derive(Debug, Subcommand)]
enum Verb {
    /// List retained messages
    ///
    /// For a Moorfall service on this machine, the list is the service's own, with ages and plan. For any other broker it is
    /// what a subscription receives.
    List {
        /// Only topics that match this filter
        #[arg(default_value = "#", value_parser = filter)]
        filter: TopicFilter,
        /// Order
        #[arg(long, value_name = "ORDER", default_value = "topic")]
        sort: Order,
        /// Show at most N messages
        #[arg(long, value_name = "N", default_value_t = 500)]
        limit: usize,
        /// Print JSON
        #[arg(long)]
        json: bool,
        #[command(flatten)]
        scope: Scope,
    },
    /// Show one retained message with its properties
    Show {
        /// Topic name
        topic: TopicName,
        /// How to print its payload
        #[arg(long, value_name = "FORM", default_value = "auto")]
        payload_as: Shown,
        /// Print JSON
        #[arg(long)]
        json: bool,
        #[command(flatten)]
        scope: Scope,
    },
    /// Clear retained messages, after listing them and asking
    Clear {
        /// Topics that match this filter
        #[arg(value_parser = filter)]
        filter: TopicFilter,
        /// Do not ask
        #[arg(long, conflicts_with = "dry_run")]
        yes: bool,
        /// Only list what would be cleared
        #[arg(long)]
        dry_run: bool,
        /// Print JSON
        #[arg(long)]
        json: bool,
        #[command(flatten)]
        scope: Scope,
    },
    /// Write retained messages to a file as JSON lines
    Export {
        /// File, which is not overwritten; `-` is standard output
        file: PathBuf,
        /// Only topics that match this filter
        #[arg(default_value = "#", value_parser = filter)]
        filter: TopicFilter,
        #[command(flatten)]
        scope: Scope,
    },
    /// Publish retained messages from a file of JSON lines
    Import {
        /// The file
        file: PathBuf,
        /// Only show what is in it
        #[arg(long)]
        dry_run: bool,
        #[command(flatten)]
        scope: Scope,
    },
}

/// A retained message in a list.
struct Entry {
    topic: String,
    qos: u8,
    bytes: u64,
    age: Option<String>,
    expires_in: Option<u32>,
    preview: String,
}

/// Carries out the command.
pub async fn run(arguments: Arguments) -> Done {
    match arguments.verb {
        Verb::List { filter, sort, limit, json, scope } => list(&scope, &filter, sort, limit, json).await,
        Verb::Show { topic, payload_as, json, scope } => {
            let filter: TopicFilter = topic.parse()?;
            let mut found = scope.gather(&filter).await?;
            let Some(message) = found.pop() else {
                let topic = printable(&topic);
                return Err(Failure(format!(
                    "{topic} has no retained message. `moorfall retained list` shows the topics that have one."
                )));
            };
            let show = if json { Show::Json } else { Show::All };
            output::finish(View { show, payload: payload_as }.print(&message))
        }
        Verb::Clear { filter, yes, dry_run, json, scope } => clear(&scope, &filter, yes, dry_run, json).await,
        Verb::Export { file, filter, scope } => export(&scope, &file, &filter).await,
        Verb::Import { file, dry_run, scope } => import(&scope, &file, dry_run).await,
    }
}

/// Retained messages that the service lists at a time.
const PAGE: usize = 10_000;

impl Scope {
    /// What a subscription brings, by topic: it ends when nothing has come for a while.
    async fn gather(&self, filter: &TopicFilter) -> Result<Vec<Publish>, Failure> {
        let (client, mut arrivals) = self.connection.open().await?;
        let gathered = gather(&client, &mut arrivals, filter, self.settle).await;
        client.disconnect().await;
        gathered
    }

    /// The service's own list, if the service on this machine is meant.
    async fn own_list(&self, filter: &TopicFilter, sort: Order, limit: usize) -> Result<Option<RetainedList>, Failure> {
        let Some(local) = self.connection.local()? else { return Ok(None) };
        let by_topic = sort == Order::Topic;
        let sort = match sort {
            Order::Topic => "topic",
            Order::Size => "size",
            Order::Age => "age",
        };
        let mut all: Option<RetainedList> = None;
        // By topic they come page by page; other orders have one page.
        loop {
            let known = all.as_ref().map_or(0, |all| all.retained.len());
            let (page, after) = ((limit - known).clamp(1, PAGE), all.as_ref().and_then(|all| all.retained.last()));
            let (page, after) = (page.to_string(), after.map(|last| last.topic.clone()));
            let mut query = vec![("filter", &**filter), ("sort", sort), ("limit", &page)];
            query.extend(after.as_deref().map(|after| ("after", after)));
            let mut list: RetainedList = local.get(&["retained"], &query).await?;
            let came = list.retained.len();
            if let Some(all) = &mut all {
                all.retained.append(&mut list.retained);
            } else {
                all = Some(list);
            }
            if !by_topic || came < PAGE || known + came >= limit {
                return Ok(all);
            }
        }
    }
}

async fn gather(
    client: &Client,
    arrivals: &mut Arrivals,
    filter: &TopicFilter,
    settle: Duration,
) -> Result<Vec<Publish>, Failure> {
    let options = SubscriptionOptions { qos: QoS::ExactlyOnce, ..SubscriptionOptions::default() };
    let answer = client.subscribe(vec![Subscription { filter: filter.clone(), options }]).await?;
    if let Some(reason) = answer.reasons.iter().find(|reason| reason.is_error()) {
        let words = answer.reason_string.map_or_else(String::new, |words| format!(" ({})", printable(&words)));
        return Err(Failure(format!(
            "The broker refused the subscription to {} ({reason}).{words}",
            printable(filter)
        )));
    }
    let bar = ProgressBar::new_spinner();
    let mut found = Vec::new();
    let mut until = Instant::now() + settle;
    loop {
        match timeout_at(until, arrivals.next()).await {
            Err(_) => break,
            Ok(Some(Arrival::Message(message))) => {
                // What is new is no retained message, and says nothing of whether all have come.
                if message.retain {
                    found.push(*message);
                    bar.set_message(format!("{} retained messages", count(found.len() as u64)));
                    bar.tick();
                    until = Instant::now() + settle;
                    if !filter.has_wildcard() {
                        break;
                    }
                }
            }
            Ok(Some(Arrival::Closed { words, .. })) => return Err(Failure(words)),
            Ok(None) => return Err(Failure("The connection is closed.".into())),
        }
    }
    bar.finish_and_clear();
    found.sort_by(|one, other| one.topic.cmp(&other.topic));
    // A topic of several filters of one subscription may come more than once.
    found.dedup_by(|one, other| one.topic == other.topic);
    Ok(found)
}

fn entry_of(message: &Publish) -> Entry {
    Entry {
        topic: message.topic.to_string(),
        qos: message.qos.level(),
        bytes: message.payload.len() as u64,
        age: None,
        expires_in: message.properties.message_expiry_interval,
        preview: Shown::Auto.write_of(&message.topic, &message.payload),
    }
}

/// What there is: how many, their bytes if known, and the first of them.
async fn entries(
    scope: &Scope,
    filter: &TopicFilter,
    sort: Order,
    limit: usize,
) -> Result<(u64, u64, Vec<Entry>), Failure> {
    if let Some(list) = scope.own_list(filter, sort, limit).await? {
        let entries = list.retained.into_iter().map(|view| Entry {
            age: Some(since(view.received_at)),
            preview: match view.preview {
                Some(text) => printable(&text),
                None => format!("(binary, {})", view.bytes),
            },
            topic: view.topic,
            qos: view.qos,
            bytes: view.bytes,
            expires_in: view.expires_in,
        });
        return Ok((list.total, list.bytes, entries.collect()));
    }
    if sort == Order::Age {
        return Err(Failure("Other brokers do not report the age of retained messages. Sort by topic or size.".into()));
    }
    let mut found = scope.gather(filter).await?;
    if sort == Order::Size {
        found.sort_by_key(|message| std::cmp::Reverse(message.payload.len()));
    }
    let weight = found.iter().map(|message| (message.payload.len() + message.topic.len()) as u64).sum();
    Ok((found.len() as u64, weight, found.iter().take(limit).map(entry_of).collect()))
}

async fn list(scope: &Scope, filter: &TopicFilter, sort: Order, limit: usize, as_json: bool) -> Done {
    if as_json && let Some(list) = scope.own_list(filter, sort, limit).await? {
        return output::json(&list);
    }
    let (total, weight, entries) = entries(scope, filter, sort, limit).await?;
    if as_json {
        let retained: Vec<_> = entries
            .iter()
            .map(|entry| {
                json!({
                    "topic": entry.topic,
                    "qos": entry.qos,
                    "bytes": entry.bytes,
                    "expires_in": entry.expires_in,
                    "preview": entry.preview,
                })
            })
            .collect();
        return output::json(&json!({ "total": total, "bytes": weight, "retained": retained }));
    }
    if entries.is_empty() {
        return output::finish(output::line(format_args!("no retained messages match {}", printable(filter))));
    }
    output::finish(print(&entries).and_then(|()| {
        let shown = entries.len() as u64;
        let more = if shown < total { format!("{} of ", count(shown)) } else { String::new() };
        let all = plural(total, "retained message", "retained messages");
        output::line(format_args!("{FAINT}{more}{all}, {}{FAINT:#}", bytes(weight as f64)))
    }))
}

fn print(entries: &[Entry]) -> std::io::Result<()> {
    let ages = entries.iter().any(|entry| entry.age.is_some());
    let lives = entries.iter().any(|entry| entry.expires_in.is_some());
    let mut headings = vec!["TOPIC", ">QOS", ">SIZE"];
    if ages {
        headings.push(">AGE");
    }
    if lives {
        headings.push(">EXPIRES IN");
    }
    headings.push("PAYLOAD");
    // Topics are what one looks for: payloads are cut short before a topic is.
    let topics = entries.iter().map(|entry| entry.topic.chars().count()).max().unwrap_or(0);
    let others = 12 + 8 * usize::from(ages) + 12 * usize::from(lives);
    let room = 79_usize.saturating_sub(topics + others).clamp(8, 40);
    let rows = entries.iter().map(|entry| {
        let mut row = vec![entry.topic.clone(), entry.qos.to_string(), bytes(entry.bytes as f64)];
        if ages {
            row.push(entry.age.clone().unwrap_or_default());
        }
        if lives {
            row.push(entry.expires_in.map_or_else(String::new, |seconds| span(seconds.into())));
        }
        let short: String = entry.preview.chars().take(room - 1).collect();
        row.push(if short.len() < entry.preview.len() { format!("{short}…") } else { short });
        row
    });
    output::line(table(&headings, rows.collect()))
}

async fn clear(scope: &Scope, filter: &TopicFilter, yes: bool, dry_run: bool, as_json: bool) -> Done {
    let (total, _, entries) = entries(scope, filter, Order::Topic, usize::MAX).await?;
    if entries.is_empty() {
        if as_json {
            return output::json(&json!({ "cleared": 0, "came_back": [] }));
        }
        return output::finish(output::line(format_args!("no retained messages match {}", printable(filter))));
    }
    let all = plural(total, "retained message", "retained messages");
    if !as_json {
        let listed = if dry_run { entries.len() } else { entries.len().min(LISTED) };
        output::finish(print(&entries[..listed]))?;
        if listed < entries.len() {
            let more = count((entries.len() - listed) as u64);
            output::remark(format_args!("and {more} more; --dry-run lists all"));
        }
    }
    if dry_run {
        if as_json {
            let topics: Vec<&str> = entries.iter().map(|entry| entry.topic.as_str()).collect();
            return output::json(&json!({ "would_clear": topics }));
        }
        return output::finish(output::line(format_args!("{all} would be cleared")));
    }
    if !yes && !asked(&format!("Clear {all}? [y/N] "))? {
        return Err(Failure("nothing was cleared".into()));
    }
    let topics: Vec<String> = entries.into_iter().map(|entry| entry.topic).collect();
    let cleared = match scope.connection.local()? {
        Some(local) => {
            let mut cleared = 0;
            for chunk in topics.chunks(CHUNK) {
                let view: ClearedView = local.post(&["retained", "clear"], &json!({ "topics": chunk })).await?;
                cleared += view.topics.len() as u64;
            }
            cleared
        }
        None => {
            let empty = |topic: &String| {
                let message = Publish::new(topic.parse()?, Bytes::new(), QoS::AtLeastOnce);
                Ok(Publish { retain: true, ..message })
            };
            let messages: Result<Vec<Publish>, Failure> = topics.iter().map(empty).collect();
            publish_all(scope, messages?).await?
        }
    };
    let gone: BTreeSet<&str> = topics.iter().map(String::as_str).collect();
    let (_, _, left) = self::entries(scope, filter, Order::Topic, usize::MAX).await?;
    let back: Vec<&str> = left.iter().map(|entry| entry.topic.as_str()).filter(|topic| gone.contains(topic)).collect();
    if as_json {
        return output::json(&json!({ "cleared": cleared, "came_back": back }));
    }
    output::finish(output::line(format_args!("{} cleared", plural(cleared, "retained message", "retained messages"))))?;
    if !back.is_empty() {
        let words = plural(back.len() as u64, "topic has a new one now", "topics have a new one now");
        output::finish(output::line(format_args!("{words}:")))?;
        for topic in back.iter().take(LISTED) {
            output::finish(output::line(format_args!("  {}", printable(topic))))?;
        }
    }
    Ok(())
}

/// Whether the person at the keyboard says yes.
fn asked(question: &str) -> Result<bool, Failure> {
    if !std::io::stdin().is_terminal() {
        return Err(Failure("No terminal to confirm on. Use --yes to clear, or --dry-run to preview.".into()));
    }
    anstream::eprint!("{question}");
    std::io::stderr().flush()?;
    let mut answer = String::new();
    std::io::stdin().read_line(&mut answer)?;
    Ok(matches!(answer.trim().to_lowercase().as_str(), "y" | "yes"))
}

/// Publishes messages; gives how many were acknowledged. The first that is refused ends it.
async fn publish_all(scope: &Scope, messages: Vec<Publish>) -> Result<u64, Failure> {
    let (client, _arrivals) = scope.connection.open().await?;
    let bar = ProgressBar::new(messages.len() as u64);
    let mut waiting = FuturesUnordered::new();
    let mut done = 0;
    let mut refused = None;
    let mut messages = messages.into_iter();
    while refused.is_none() {
        if waiting.len() < UNDER_WAY
            && let Some(message) = messages.next()
        {
            let topic = message.topic.clone();
            let pending = client.start_publish(message).await?;
            waiting.push(async move { (topic, pending.answer().await) });
            continue;
        }
        let Some((topic, answer)) = waiting.next().await else { break };
        let answer = answer?;
        let reason = answer.as_ref().and_then(|answer| answer.reasons.first().copied()).unwrap_or(ReasonCode::Success);
        if reason.is_error() {
            let words =
                answer.and_then(|answer| answer.reason_string).map_or_else(String::new, |words| printable(&words));
            refused = Some(Failure(format!(
                "Refused: {} ({reason}). {words} {} before it.",
                printable(&topic),
                plural(done, "message was accepted", "messages were accepted")
            )));
        } else {
            done += 1;
            bar.inc(1);
        }
    }
    bar.finish_and_clear();
    client.disconnect().await;
    refused.map_or(Ok(done), Err)
}

/// A retained message in a file.
#[derive(Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
struct Line {
    topic: String,
    qos: u8,
    /// The payload, if it is text.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    payload: Option<String>,
    /// Else its bytes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    payload_base64: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    content_type: Option<String>,
    /// What is left of its life.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    expiry_seconds: Option<u32>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    response_topic: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    correlation_base64: Option<String>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    user: Vec<(String, String)>,
}

impl Line {
    fn of(message: &Publish) -> Self {
        let text = std::str::from_utf8(&message.payload).ok().map(str::to_owned);
        let all = &message.properties;
        Self {
            topic: message.topic.to_string(),
            qos: message.qos.level(),
            payload_base64: text.is_none().then(|| STANDARD.encode(&message.payload)),
            payload: text,
            content_type: all.content_type.as_ref().map(ToString::to_string),
            expiry_seconds: all.message_expiry_interval,
            response_topic: all.response_topic.as_ref().map(ToString::to_string),
            correlation_base64: all.correlation_data.as_ref().map(|data| STANDARD.encode(data)),
            user: all.user_properties.iter().map(|one| (one.name.to_string(), one.value.to_string())).collect(),
        }
    }

    fn message(self) -> Result<Publish, Misread> {
        let decode = |text: String| {
            STANDARD.decode(text).map_err(|error| Misread(format!("payload_base64 is not Base64: {error}.")))
        };
        let payload = match (self.payload, self.payload_base64) {
            (Some(text), None) => text.into_bytes(),
            (None, Some(text)) => decode(text)?,
            _ => return Err("Give either payload or payload_base64.".into()),
        };
        if payload.is_empty() {
            return Err("The payload is empty, which would clear the topic.".into());
        }
        let topic: TopicName =
            self.topic.parse().map_err(|error: moorfall_wire::TopicError| Misread(error.to_string()))?;
        let qos = crate::arguments::qos(&self.qos.to_string())?;
        let user = |(name, value): (String, String)| UserProperty { name: name.into(), value: value.into() };
        let properties = PublishProperties {
            content_type: self.content_type.map(Into::into),
            message_expiry_interval: self.expiry_seconds,
            response_topic: self.response_topic.map(Into::into),
            correlation_data: self.correlation_base64.map(decode).transpose()?.map(Bytes::from),
            user_properties: self.user.into_iter().map(user).collect(),
            ..PublishProperties::default()
        };
        Ok(Publish { retain: true, properties, ..Publish::new(topic, payload, qos) })
    }
}

async fn export(scope: &Scope, file: &Path, filter: &TopicFilter) -> Done {
    let messages = scope.gather(filter).await?;
    let mut text = Vec::new();
    for message in &messages {
        serde_json::to_writer(&mut text, &Line::of(message))?;
        text.push(b'\n');
    }
    if file.as_os_str() == "-" {
        return output::finish(output::raw(&text));
    }
    let wrong = |error: std::io::Error| {
        Failure(format!("{} can't be written: {error}. Check the path and its permissions.", file.display()))
    };
    let mut opened = std::fs::OpenOptions::new().create_new(true).write(true).open(file).map_err(wrong)?;
    opened.write_all(&text).map_err(wrong)?;
    let all = plural(messages.len() as u64, "retained message", "retained messages");
    output::finish(output::line(format_args!("{all} in {}", file.display())))
}

async fn import(scope: &Scope, file: &Path, dry_run: bool) -> Done {
    let wrong = |line: usize, words: String| Failure(format!("{}, line {line}: {words}", file.display()));
    let opened = std::fs::File::open(file).map_err(|error| Failure(format!("{}: {error}", file.display())))?;
    let mut messages = Vec::new();
    for (place, text) in (1..).zip(BufReader::new(opened).lines()) {
        let text = text.map_err(|error| wrong(place, error.to_string()))?;
        if text.trim().is_empty() {
            continue;
        }
        let line: Line = serde_json::from_str(&text).map_err(|error| wrong(place, error.to_string()))?;
        messages.push(line.message().map_err(|error| wrong(place, error.to_string()))?);
    }
    let all = plural(messages.len() as u64, "retained message", "retained messages");
    if dry_run {
        return output::finish(output::line(format_args!("{all} would be published")));
    }
    let done = publish_all(scope, messages).await?;
    output::finish(output::line(format_args!("{} of {all} published", count(done))))
}
