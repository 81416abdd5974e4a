//! `moorfall topics`

use std::{path::PathBuf, sync::Arc};

use clap::{Args, Subcommand};
use moorfall_contract::{
    blueprint_files::blueprint_files,
    kinds::{Quality, Severity},
    topics::{DraftLines, DriftView, Match, NearMiss, TopicDetails, TopicList, TopicView},
};
use moorfall_core::{
    access::Policy,
    blueprint::{Blueprint, Source, bridge_rights},
};
use moorfall_wire::TopicName;

use crate::{
    commands::owners,
    local::{Local, Which},
    output::{self, Done, FAINT, Failure, STRONG, WARN, ago, count, indented, plural, printable, since, span, table},
};

/// What the command takes.
#[derive(Debug, Args)]
pub struct Arguments {
    #[command(subcommand)]
    verb: Verb,
    #[command(flatten)]
    which: Which,
}

#[derive(Debug, Subcommand)]
enum Verb {
    /// Find likely mistakes in the hierarchy and rules of a blueprint
    ///
    /// Works without a service. The exit code is 1 if there are findings.
    Check {
        /// Blueprint: a file, or a folder of .toml files
        blueprint: PathBuf,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Show what a filter matches, and near misses
    Match {
        /// Topic filter
        filter: String,
        /// Show at most N of each
        #[arg(long, value_name = "N", default_value_t = 12)]
        limit: u32,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Show the live hierarchy, level by level
    Tree {
        /// Show the levels directly below this one
        #[arg(default_value = "", hide_default_value = true)]
        prefix: String,
        /// Busiest first
        #[arg(long)]
        busiest: bool,
        /// Whole topics, at any depth
        #[arg(long)]
        flat: bool,
        /// Show at most N levels
        #[arg(long, value_name = "N", default_value_t = 200)]
        limit: u32,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Show a topic: last value, plan, rules and subscribers
    Show {
        /// Topic name
        topic: TopicName,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Show drift: differences between live traffic and the plan
    Drift {
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Show who owns topics that have one owner at a time
    Owners {
        /// Topic filter [default: all]
        #[arg(default_value = "#", hide_default_value = true)]
        filter: String,
        /// Show at most N topics
        #[arg(long, value_name = "N", default_value_t = 100)]
        limit: u32,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Print blueprint lines for a topic that is not planned yet
    Draft {
        /// Topic name
        topic: String,
    },
}

/// Carries out the command.
pub async fn run(arguments: Arguments) -> Done {
    match arguments.verb {
        Verb::Check { blueprint, json } => check(&blueprint, json),
        Verb::Match { filter, limit, json } => matches(&arguments.which.find()?, &filter, limit, json).await,
        Verb::Tree { prefix, busiest, flat, limit, json } => {
            let (limit, flat) = (limit.to_string(), flat.to_string());
            let sort = if busiest { "rate" } else { "name" };
            let mut query = vec![("sort", sort), ("limit", &limit), ("flat", &flat)];
            if !prefix.is_empty() {
                query.push(("prefix", &prefix));
            }
            let list: TopicList = arguments.which.find()?.get(&["topics"], &query).await?;
            if json { output::json(&list) } else { output::finish(print_tree(&list, &prefix, flat == "true")) }
        }
        Verb::Show { topic, json } => {
            let details: TopicDetails = arguments.which.find()?.get(&["topics", "topic"], &[("topic", &topic)]).await?;
            if json { output::json(&details) } else { output::finish(print_topic(&topic, &details)) }
        }
        Verb::Drift { json } => drift(&arguments.which.find()?, json).await,
        Verb::Owners { filter, limit, json } => owners::run(&arguments.which.find()?, &filter, limit, json).await,
        Verb::Draft { topic } => draft(&arguments.which.find()?, &topic).await,
    }
}

fn check(path: &std::path::Path, as_json: bool) -> Done {
    let files = blueprint_files(path).map_err(|error| {
        Failure(format!("{} can't be read: {error}. Check the path and its permissions.", path.display()))
    })?;
    let (findings, is_blueprint) = match Blueprint::read(Source::new(files)) {
        Ok(blueprint) => {
            let mut findings = blueprint.lint();
            findings.extend(bridge_rights(&Arc::new(Policy::new(Arc::new(blueprint)))));
            (findings, true)
        }
        Err(findings) => (findings, false),
    };
    if as_json {
        output::json(&findings)?;
    } else {
        for finding in &findings {
            let severity = Severity::from(finding.severity);
            let (file, line, column) = (&finding.file, finding.line, finding.column);
            output::finish(output::line(format_args!(
                "{WARN}{severity}{WARN:#} in {file}, line {line}, column {column}"
            )))?;
            output::finish(output::line(indented(&printable(&finding.message), 2)))?;
            for line in finding.excerpt.lines() {
                output::finish(output::line(format_args!("  {}", printable(line))))?;
            }
            if !finding.remedy.is_empty() {
                output::finish(output::line(indented(&format!("Remedy: {}", finding.remedy), 2)))?;
            }
        }
    }
    match findings.len() {
        0 if as_json => Ok(()),
        0 => output::finish(output::line("no findings")),
        _ if !is_blueprint => Err(Failure("The blueprint has errors.".into())),
        1 => Err(Failure("1 finding.".into())),
        several => Err(Failure(format!("{several} findings."))),
    }
}

async fn matches(local: &Local, filter: &str, limit: u32, as_json: bool) -> Done {
    let limit = limit.to_string();
    let found: Match = local.get(&["topics", "match"], &[("filter", filter), ("limit", &limit)]).await?;
    if as_json {
        return output::json(&found);
    }
    output::finish(print_match(&found))
}

fn print_match(found: &Match) -> std::io::Result<()> {
    let list = |title: &str, topics: &[String], total: u64| {
        output::line(format_args!("{STRONG}{title}{STRONG:#} ({})", count(total)))?;
        for topic in topics {
            output::line(format_args!("  {}", printable(topic)))?;
        }
        let more = total - topics.len() as u64;
        if more > 0 { output::line(format_args!("  {FAINT}and {} more{FAINT:#}", count(more))) } else { Ok(()) }
    };
    list("Planned topics that match", &found.planned, found.planned.len() as u64)?;
    list("Live topics that match", &found.live, found.live_total)?;
    let misses = |title: &str, misses: &[NearMiss]| {
        if misses.is_empty() {
            return Ok(());
        }
        output::line(format_args!("{STRONG}{title}{STRONG:#}"))?;
        for miss in misses {
            output::line(format_args!("  {}", printable(&miss.topic)))?;
            output::line(indented(&format!("level {}: {}", miss.level, printable(&miss.explanation)), 4))?;
        }
        Ok(())
    };
    misses("Planned topics that nearly match", &found.planned_misses)?;
    misses("Live topics that nearly match", &found.live_misses)
}

fn rate(rate: f64) -> String {
    match rate {
        0.0 => "0".into(),
        rate if rate < 10.0 => format!("{rate:.2}"),
        rate => format!("{rate:.0}"),
    }
}

fn print_tree(list: &TopicList, prefix: &str, flat: bool) -> std::io::Result<()> {
    if list.levels.is_empty() {
        return output::line(if prefix.is_empty() {
            "No messages have been published since the service started."
        } else {
            "No levels below."
        });
    }
    let row = |view: &TopicView| {
        let name = if flat { &view.path } else { &view.level };
        let plan = match (view.is_topic, list.has_plan, view.planned.is_empty()) {
            (true, true, true) => "not planned",
            (true, true, false) => "planned",
            _ => "",
        };
        let retained = if view.retained { "yes" } else { "" };
        let subscribers = if view.is_topic { count(view.subscribers) } else { String::new() };
        if flat {
            // Paths are long.
            return vec![rate(view.rate), ago(view.last), retained.into(), plan.into(), subscribers, name.clone()];
        }
        let name = if view.has_children { format!("{name}/") } else { name.clone() };
        let topics = count(view.topics);
        vec![name, topics, rate(view.rate), ago(view.last), retained.into(), plan.into(), subscribers]
    };
    let rows = list.levels.iter().map(row).collect();
    output::line(if flat {
        table(&[">MESSAGES/S", ">LAST", "RETAINED", "PLAN", ">SUBSCRIBERS", "TOPIC"], rows)
    } else {
        table(&["LEVEL", ">TOPICS", ">MESSAGES/S", ">LAST", "RETAINED", "PLAN", ">SUBSCRIBERS"], rows)
    })?;
    let shown = list.levels.len() as u64;
    if shown < list.count {
        output::line(format_args!("{FAINT}{shown} of {} shown; --limit N shows more{FAINT:#}", count(list.count)))?;
    }
    if list.unfollowed > 0 {
        let messages = plural(list.unfollowed, "message", "messages");
        output::line(format_args!("{WARN}{messages} on topics beyond the limit of the hierarchy{WARN:#}"))?;
    }
    let total = &list.total;
    output::line(format_args!("{}, {} messages/s", plural(total.topics, "topic", "topics"), rate(total.rate)))
}

async fn drift(local: &Local, as_json: bool) -> Done {
    let drift: Vec<DriftView> = local.get_all(&["topics", "drift"]).await?;
    if as_json {
        return output::json(&drift);
    }
    if drift.is_empty() {
        return output::finish(output::line(
            "No drift: live traffic matches the plan, or the blueprint has no planned topics.",
        ));
    }
    for entry in &drift {
        let times =
            if entry.count == 0 { String::new() } else { format!(", {}", plural(entry.count, "message", "messages")) };
        let refused = if entry.refused == 0 { String::new() } else { format!(", {} refused", count(entry.refused)) };
        let who = if entry.identity.is_empty() { String::new() } else { format!(", last by {}", entry.identity) };
        let head = format!("{} ({}{times}{refused}{who}, {} ago)", entry.topic, entry.kind, since(entry.last));
        output::finish(output::line(indented(&printable(&head), 0)))?;
        output::finish(output::line(indented(&printable(&entry.explanation), 4)))?;
        if !entry.sample.is_empty() {
            let sample: String = entry.sample.chars().take(66).collect();
            output::finish(output::line(format_args!("    {FAINT}{}{FAINT:#}", printable(&sample))))?;
        }
    }
    Ok(())
}

/// What is known of an unplanned topic, as lines that can be added to a blueprint.
async fn draft(local: &Local, topic: &str) -> Done {
    let lines: DraftLines = local.get(&["topics", "draft"], &[("topic", topic)]).await?;
    output::finish(output::line(lines.text.trim_end()))
}

fn print_topic(topic: &str, details: &TopicDetails) -> std::io::Result<()> {
    let part = |name: &str, words: &str| {
        output::line(format_args!("{FAINT}{name:12}{FAINT:#}{}", indented(&printable(words), 12).trim_start()))
    };
    output::line(format_args!("{STRONG}{}{STRONG:#}", printable(topic)))?;
    match &details.about {
        None => part("last", "no messages since the service started")?,
        Some(about) => {
            let value = about.value.clone().unwrap_or_else(|| "(binary)".into());
            let more = if value.len() as u64 >= about.value_bytes { "" } else { " …" };
            part("last", &format!("{value}{more}"))?;
            let ago = since(about.last);
            part("", &format!("{} from {}, {ago} ago", output::bytes(about.value_bytes as f64), about.publisher))?;
            let messages = plural(about.messages, "message", "messages");
            let retained = if about.retained { ", retained" } else { "" };
            part(
                "traffic",
                &format!("{messages} since the service started, {:.1} messages/s now{retained}", about.rate),
            )?;
        }
    }
    match &details.plan {
        Some(plan) => {
            part("plan", &plan.path)?;
            let qos = plan.qos.map(|qos| format!(", QoS {qos}")).unwrap_or_default();
            let cadence = plan.cadence.map(|seconds| format!(", at least every {}", span(seconds))).unwrap_or_default();
            part("", &format!("{}: {}{qos}, retained: {}{cadence}", plan.purpose, plan.payload, plan.retained))?;
        }
        None if details.has_plan => part("plan", "not planned")?,
        None => part("plan", "the blueprint has no planned topics")?,
    }
    if let Some(owned) = &details.owned {
        for (index, words) in owners::ownership(owned).iter().enumerate() {
            part(if index == 0 { "owner" } else { "" }, words)?;
        }
    }
    for made in &details.made_by {
        let stale = if made.quality == Some(Quality::Stale) { ", which is stale" } else { "" };
        part("made by", &format!("{}{stale}, of", made.derived))?;
        for source in &made.sources {
            part("", source)?;
        }
    }
    for (index, made) in details.makes.iter().enumerate() {
        part(if index == 0 { "makes" } else { "" }, &format!("{} by {}", made.topic, made.derived))?;
    }
    for (index, rule) in details.rules.iter().enumerate() {
        let acts = match (rule.publish, rule.subscribe) {
            (true, true) => "publish and subscribe",
            (true, false) => "publish",
            _ => "subscribe",
        };
        let words = format!("{}: {} {} to {acts}", rule.rule, rule.verdict, rule.who);
        part(if index == 0 { "rules" } else { "" }, &words)?;
    }
    if details.subscribers.is_empty() {
        return part("subscribers", "none");
    }
    let rows = details.subscribers.iter().map(|one| {
        let state = if one.connected { "connected" } else { "away" };
        let shared =
            if one.shared.is_empty() { String::new() } else { format!(", shared subscription {}", one.shared) };
        let only = one.conditions.iter().map(|condition| format!(", where {condition}")).collect::<String>();
        vec![one.client_id.clone(), one.qos.to_string(), count(one.queue), format!("{state}{shared}{only}")]
    });
    output::line(table(&["SUBSCRIBER", ">QOS", ">QUEUED", "STATE"], rows.collect()))?;
    match details.subscribers_total.saturating_sub(details.subscribers.len() as u64) {
        0 => Ok(()),
        more => output::line(format_args!("{FAINT}and {} more{FAINT:#}", plural(more, "session", "sessions"))),
    }
}
