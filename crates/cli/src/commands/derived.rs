//! `moorfall derived`

use std::io;

use clap::{Args, Subcommand};
use moorfall_contract::{
    derived::{
        DerivedDetails, DerivedList, DerivedTopicView, DerivedTrial, DerivedTrialOutcome, DerivedTrialResult,
        DerivedView,
    },
    kinds::{DerivedForm, DerivedOutcome, Quality},
};
use time::OffsetDateTime;

use crate::{
    local::Which,
    output::{self, Done, FAINT, STRONG, WARN, ago, count, indented, plural, printable, since, span, table},
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
    /// List derived topics: what they make, and how much
    List {
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Show a derived topic, what became of messages, and the topics that it makes
    Show {
        /// Name of the derived topic
        name: String,
        /// Print at most N topics
        #[arg(long, value_name = "N", default_value_t = 20)]
        limit: usize,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Show what would become of a message; nothing is published
    Try {
        /// Name of the derived topic
        name: String,
        /// Topic of the message
        topic: String,
        /// Its payload
        payload: String,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
}

/// Carries out the command.
pub async fn run(arguments: Arguments) -> Done {
    let local = arguments.which.find()?;
    match arguments.verb {
        Verb::List { json } => {
            let list: DerivedList = local.get(&["derived"], &[]).await?;
            if json { output::json(&list) } else { output::finish(print_list(&list)) }
        }
        Verb::Show { name, limit, json } => {
            let limit = limit.to_string();
            let details: DerivedDetails = local.get(&["derived", &name], &[("limit", &limit)]).await?;
            if json { output::json(&details) } else { output::finish(print_details(&details)) }
        }
        Verb::Try { name, topic, payload, json } => {
            let trial = DerivedTrial { topic, payload };
            let result: DerivedTrialResult = local.post(&["derived", &name, "trial"], &trial).await?;
            if json { output::json(&result) } else { output::finish(print_trial(&name, &trial.topic, &result)) }
        }
    }
}

fn print_list(list: &DerivedList) -> io::Result<()> {
    if let Some(trouble) = &list.trouble {
        output::line(format_args!("{WARN}No derived topics are made now.{WARN:#}"))?;
        output::line(indented(&printable(trouble), 2))?;
    }
    if list.derived.is_empty() {
        return output::line(
            "There are no derived topics. Add [[derived]] to the blueprint; docs/STREAMS.md tells how.",
        );
    }
    let row = |one: &DerivedView| {
        vec![
            printable(&one.name),
            count(one.topics),
            count(one.counts.heard),
            count(one.counts.published),
            count(one.counts.failed),
            one.published_at.map(ago).unwrap_or_default(),
        ]
    };
    let headings = ["DERIVED", ">TOPICS", ">HEARD", ">PUBLISHED", ">FAILED", ">LAST"];
    output::line(table(&headings, list.derived.iter().map(row).collect()))?;
    for one in &list.derived {
        print_failure(one)?;
    }
    Ok(())
}

fn print_failure(one: &DerivedView) -> io::Result<()> {
    let Some(failure) = &one.failure else { return Ok(()) };
    output::line(format_args!(
        "{WARN}{} made no value of {} {}{WARN:#}",
        printable(&one.name),
        plural(one.counts.failed, "message", "messages"),
        ago(failure.at)
    ))?;
    output::line(indented(&printable(&failure.topic), 2))?;
    output::line(indented(&printable(&failure.payload), 2))?;
    output::line(indented(&format!("{}.", printable(&failure.words)), 4))
}

fn print_details(DerivedDetails { derived, topics }: &DerivedDetails) -> io::Result<()> {
    output::line(format_args!("{STRONG}{}{STRONG:#}", printable(&derived.name)))?;
    if !derived.purpose.is_empty() {
        output::line(indented(&printable(&derived.purpose), 2))?;
    }
    let field = |label: &str, value: &str| -> io::Result<()> {
        let text = indented(&printable(value), 14);
        output::line(format_args!("  {label:11} {}", text.trim_start()))
    };
    for source in &derived.from {
        let name = if source.name.is_empty() { String::new() } else { format!("{}: ", source.name) };
        field("from", &format!("{name}{}", source.filter))?;
    }
    field("to", &derived.to)?;
    if let Some(condition) = &derived.condition {
        field("where", condition)?;
    }
    field("value", &derived.value)?;
    let mut scale = String::new();
    if derived.factor.to_bits() != 1.0_f64.to_bits() {
        scale += &format!("times {}", derived.factor);
    }
    if derived.offset != 0.0 {
        scale += &format!("{}{} more", if scale.is_empty() { "" } else { ", " }, derived.offset);
    }
    if let Some(decimals) = derived.decimals {
        scale +=
            &format!("{}{}", if scale.is_empty() { "" } else { ", " }, plural(decimals.into(), "decimal", "decimals"));
    }
    if !scale.is_empty() {
        field("number", &scale)?;
    }
    if let Some(window) = &derived.window {
        field("window", &format!("{} over {}", window.statistic, span(window.seconds)))?;
    }
    field("publishes", &when(derived))?;
    let form = match derived.payload {
        DerivedForm::Value => "the value alone",
        DerivedForm::Record => "value, time and quality",
    };
    let retained = if derived.retained { ", retained" } else { "" };
    field("messages", &format!("{form}, QoS {}{retained}", derived.qos))?;
    let counts = &derived.counts;
    output::line(format_args!(
        "  {} heard, {} published, on {}",
        count(counts.heard),
        count(counts.published),
        plural(derived.topics, "topic", "topics")
    ))?;
    for (number, words) in [
        (counts.not_true, "the condition was not true"),
        (counts.unchanged, "like the value before"),
        (counts.waited, "too soon after the one before; the newest of them waits"),
        (counts.incomplete, "other sources had said nothing yet"),
        (counts.failed, "no value could be made"),
        (counts.refused, "the plan refuses them"),
        (counts.full, "no room for one more topic"),
    ] {
        if number > 0 {
            output::line(format_args!("  {FAINT}{} not published: {words}{FAINT:#}", count(number)))?;
        }
    }
    print_failure(derived)?;
    if topics.is_empty() {
        return Ok(());
    }
    let row = |one: &DerivedTopicView| {
        let quality = match (one.quality, one.waits) {
            (Some(Quality::Stale), _) => "stale",
            (_, true) => "waits",
            _ => "",
        };
        let value = one.value.clone().unwrap_or_else(|| "-".into());
        let age = one.made_at.map(since).unwrap_or_default();
        vec![printable(&value), age, quality.to_owned(), printable(&one.topic)]
    };
    output::line(table(&[">VALUE", ">AGE", "", "TOPIC"], topics.iter().map(row).collect()))?;
    let shown = topics.len() as u64;
    if shown < derived.topics {
        let all = count(derived.topics);
        output::line(format_args!("{FAINT}{shown} of {all} shown; --limit N shows more{FAINT:#}"))?;
    }
    Ok(())
}

/// When it publishes, in words.
fn when(derived: &DerivedView) -> String {
    let mut words = match (derived.dead_band, derived.on_change) {
        (Some(band), _) => format!("when it has changed by {band}"),
        (None, true) => "when it has changed".to_owned(),
        (None, false) => "each value".to_owned(),
    };
    if let Some(seconds) = derived.at_most_every_seconds {
        words += &format!(", at most every {}", span(seconds));
    }
    if let Some(seconds) = derived.cadence_seconds {
        words += &format!("; stale after {}", span(seconds));
    }
    words
}

fn print_trial(name: &str, topic: &str, result: &DerivedTrialResult) -> io::Result<()> {
    if result.outcomes.is_empty() {
        return output::line(format_args!(
            "{} does not hear {}. `moorfall derived show {0}` tells what it hears.",
            printable(name),
            printable(topic)
        ));
    }
    for one in &result.outcomes {
        output::line(format_args!("{STRONG}{}{STRONG:#}", printable(&one.topic)))?;
        output::line(indented(&printable(&became(one)), 2))?;
    }
    Ok(())
}

/// What would become of a message, in words.
pub(super) fn became(one: &DerivedTrialOutcome) -> String {
    match one.outcome {
        DerivedOutcome::Published => one.payload.clone().unwrap_or_default(),
        DerivedOutcome::Unchanged => "Nothing is published: the value is like the one before.".into(),
        DerivedOutcome::Waits => {
            let left = one.until.map_or(0, |until| (until - OffsetDateTime::now_utc()).whole_seconds().max(0));
            format!("It waits for {} more, unless a newer value comes.", span(left.unsigned_abs()))
        }
        DerivedOutcome::NotTrue => "Nothing is published: the condition is not true.".into(),
        DerivedOutcome::Incomplete => {
            let have = if one.missing.len() == 1 { "has" } else { "have" };
            format!("Nothing is published until {} {have} said something, too.", one.missing.join(" and "))
        }
        DerivedOutcome::OneAlone => "Nothing is published: a rate needs a second value.".into(),
        DerivedOutcome::Failed => format!("No value can be made: {}.", one.words),
        DerivedOutcome::Full => "Nothing is published: as many topics are made as there may be.".into(),
    }
}
