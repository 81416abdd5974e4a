//! `moorfall recording`

use std::time::Duration;

use clap::{Args, Subcommand};
use moorfall_contract::journeys::{
    Outcome, RecipientView, RecordedJourney, RecordedMessage, RecordingDetails, RecordingView,
};
use moorfall_wire::TopicFilter;
use reqwest::Method;
use serde_json::json;
use time::OffsetDateTime;
use tokio::time::{Instant, sleep_until};

use crate::{
    arguments::{duration, whole_seconds},
    commands::journey::{explained, kept_back},
    local::{Local, Which},
    output::{self, Done, FAINT, Failure, STRONG, WARN, ago, count, indented, plural, printable, span, table},
    stop::Stop,
};

/// How long acknowledgements are waited for before a message is shown.
const SETTLES: Duration = Duration::from_secs(1);

/// How often the service is asked for what is new.
const LOOKS: Duration = Duration::from_millis(400);

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
    /// Record live messages for a while, and show what happens to them
    ///
    /// Each message is printed one second after it arrived, with the outcome for each session. Ctrl-C stops the recording.
    Start {
        /// Topics that match this filter
        filter: TopicFilter,
        /// Duration, for example 30s or 5m; at most 1h
        #[arg(long = "for", value_name = "TIME", default_value = "1m", value_parser = duration)]
        time: Duration,
        /// Return at once; the service continues to record
        #[arg(long)]
        background: bool,
        /// Print one JSON object per message
        #[arg(long)]
        json: bool,
    },
    /// List recordings
    List {
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Show the messages of a recording, newest first
    Show {
        /// Number of the recording
        recording: u64,
        /// Show at most N messages
        #[arg(long, value_name = "N", default_value_t = 20)]
        limit: u32,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Show the journey of one recorded message
    Message {
        /// Number of the message
        message: u64,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Stop a recording; its messages stay
    Stop {
        /// Number of the recording
        recording: u64,
    },
}

/// Carries out the command.
pub async fn run(arguments: Arguments) -> Done {
    let local = arguments.which.find()?;
    match arguments.verb {
        Verb::Start { filter, time, background, json } => start(&local, &filter, time, background, json).await,
        Verb::List { json } => list(&local, json).await,
        Verb::Show { recording, limit, json } => show(&local, recording, limit, json).await,
        Verb::Message { message, json } => {
            let journey = journey(&local, message).await?;
            if json { output::json(&journey) } else { output::finish(print_journey(&journey)) }
        }
        Verb::Stop { recording } => {
            let ended: RecordingView = local.post(&["recordings", &recording.to_string(), "stop"], &json!({})).await?;
            output::finish(output::line(format_args!("recording {recording} stopped: {}", amount(&ended))))
        }
    }
}

async fn start(local: &Local, filter: &TopicFilter, time: Duration, background: bool, as_json: bool) -> Done {
    let mut stop = Stop::listen()?;
    let order = json!({ "filter": filter.to_string(), "seconds": whole_seconds(time) });
    let begun: RecordingView = local.post(&["recordings"], &order).await?;
    let number = begun.number.to_string();
    let lasts = span(whole_seconds(time).into());
    if background {
        if as_json {
            return output::json(&begun);
        }
        return output::finish(output::line(format_args!(
            "recording {number} of {} runs for {lasts}; `moorfall recording show {number}` shows it",
            printable(&begun.filter)
        )));
    }
    if !as_json {
        output::remark(format_args!("recording {number} runs for {lasts}; press Ctrl-C to stop it"));
    }
    let (mut after, mut next, mut asked) = (0, Instant::now(), false);
    loop {
        next += LOOKS;
        if !asked {
            tokio::select! {
                () = sleep_until(next) => {}
                () = stop.wait() => asked = true,
            }
        }
        if asked {
            local.change(Method::POST, &["recordings", &number, "stop"], None::<&()>).await?;
            // What was under way when it ended shall settle too.
            sleep_until(Instant::now() + SETTLES).await;
        }
        let query = [("after", after.to_string()), ("limit", "500".to_owned())];
        let query = query.each_ref().map(|(name, value)| (*name, value.as_str()));
        let RecordingDetails { recording, mut messages } = local.get(&["recordings", &number], &query).await?;
        let last = asked || !recording.running && OffsetDateTime::now_utc() > recording.ends_at + SETTLES;
        messages.reverse();
        for message in messages {
            if !last && OffsetDateTime::now_utc() < message.at + SETTLES {
                break;
            }
            after = message.number;
            let journey = journey(local, message.number).await?;
            let written = if as_json {
                output::line(serde_json::to_string(&journey)?)
            } else {
                print_journey(&journey).and_then(|()| output::line(""))
            };
            match written {
                Ok(()) => {}
                Err(error) if error.kind() == std::io::ErrorKind::BrokenPipe => {
                    return local.change(Method::POST, &["recordings", &number, "stop"], None::<&()>).await;
                }
                Err(error) => return Err(error.into()),
            }
        }
        if last {
            if !as_json {
                output::remark(format_args!("recording {number} stopped: {}", amount(&recording)));
            }
            return Ok(());
        }
    }
}

fn amount(recording: &RecordingView) -> String {
    let seen = plural(recording.seen, "message", "messages");
    let left_out = match recording.left_out {
        0 => String::new(),
        left_out => format!(", {} of them not recorded: more than 100 in one second", count(left_out)),
    };
    format!("{seen}{left_out}")
}

async fn journey(local: &Local, message: u64) -> Result<RecordedJourney, Failure> {
    local.get(&["recordings", "messages", &message.to_string()], &[]).await
}

async fn list(local: &Local, as_json: bool) -> Done {
    let recordings: Vec<RecordingView> = local.get(&["recordings"], &[]).await?;
    if as_json {
        return output::json(&recordings);
    }
    if recordings.is_empty() {
        return output::finish(output::line("No recordings yet. `moorfall recording start FILTER` starts one."));
    }
    let rows = recordings.iter().map(|recording| {
        let now = OffsetDateTime::now_utc();
        let state = if recording.running {
            let left = (recording.ends_at - now).whole_seconds();
            format!("running, {} left", span(u64::try_from(left).unwrap_or(0)))
        } else {
            format!("stopped {}", ago(recording.ends_at))
        };
        let (held, seen) = (count(recording.held), count(recording.seen));
        vec![recording.number.to_string(), recording.filter.clone(), state, recording.by.clone(), held, seen]
    });
    let headings = [">NUMBER", "FILTER", "STATE", "STARTED BY", ">HELD", ">MESSAGES"];
    output::finish(output::line(table(&headings, rows.collect())))
}

async fn show(local: &Local, number: u64, limit: u32, as_json: bool) -> Done {
    let limit = limit.to_string();
    let details: RecordingDetails = local.get(&["recordings", &number.to_string()], &[("limit", &limit)]).await?;
    if as_json {
        return output::json(&details);
    }
    let RecordingDetails { recording, messages } = details;
    let state = if recording.running { "runs" } else { "stopped" };
    let filter = printable(&recording.filter);
    let head = format!("recording {number} of {filter} {state}: {}", amount(&recording));
    output::finish(output::line(head))?;
    if messages.is_empty() {
        return Ok(());
    }
    let rows = messages.iter().map(|message| {
        let RecordedMessage { number, topic, qos, .. } = message;
        let time = time_of(message.at);
        vec![number.to_string(), time, topic.clone(), message.identity.clone(), qos.to_string(), fate(message)]
    });
    let headings = [">MESSAGE", "TIME", "TOPIC", "PUBLISHER", ">QOS", "OUTCOME"];
    output::finish(output::line(table(&headings, rows.collect())))?;
    output::finish(output::line(format_args!("{FAINT}`moorfall recording message NUMBER` shows one{FAINT:#}")))
}

/// What became of a message, in a few words.
fn fate(message: &RecordedMessage) -> String {
    if !message.refused.is_empty() {
        return "refused".into();
    }
    if message.not_owner.is_some() {
        return "withheld".into();
    }
    if message.recipients == 0 {
        return "no subscribers".into();
    }
    let parts = [
        (message.acknowledged, "acknowledged"),
        (message.sent, "sent"),
        (message.queued, "queued"),
        (message.withheld, "withheld"),
    ];
    let parts: Vec<String> = parts
        .into_iter()
        .filter(|(number, _)| *number > 0)
        .map(|(number, word)| format!("{} {word}", count(number)))
        .collect();
    parts.join(", ")
}

/// Time of day (UTC), to the millisecond.
fn time_of(at: OffsetDateTime) -> String {
    format!("{:02}:{:02}:{:02}.{:03}", at.hour(), at.minute(), at.second(), at.millisecond())
}

fn print_journey(journey: &RecordedJourney) -> std::io::Result<()> {
    let message = &journey.message;
    let topic = printable(&message.topic);
    let retained = if message.retain { ", retained" } else { "" };
    output::line(format_args!("{STRONG}{topic}{STRONG:#}"))?;
    let bytes = output::bytes(message.bytes as f64);
    let whose = match (message.identity.as_str(), message.client_id.as_str()) {
        (identity, "") => identity.to_owned(),
        (identity, client) if identity == client => identity.to_owned(),
        (identity, client) => format!("{identity}'s client {client}"),
    };
    let head = format!(
        "message {} at {} UTC from {}, QoS {}, {bytes}{retained}",
        message.number,
        time_of(message.at),
        printable(&whose),
        message.qos
    );
    output::line(indented(&head, 2))?;
    if let Some(preview) = message.preview.as_deref().filter(|preview| !preview.is_empty()) {
        let shown: String = printable(preview).chars().take(200).collect();
        let more = if message.more || preview.chars().count() > 200 { " …" } else { "" };
        output::line(format_args!("{FAINT}{}{more}{FAINT:#}", indented(&shown, 2)))?;
    }
    if !message.refused.is_empty() {
        return output::line(format_args!(
            "  {WARN}refused{WARN:#} {}",
            indented(&printable(&message.refused), 10).trim_start()
        ));
    }
    output::line(indented(&printable(&message.access), 2))?;
    if let Some(plan) = message.plan.as_ref().filter(|plan| plan.has_plan) {
        output::line(indented(&printable(&plan.explanation), 2))?;
    }
    if let Some(why) = &message.not_owner {
        let words = kept_back(why);
        return output::line(format_args!(
            "  {WARN}withheld{WARN:#} {}",
            indented(&printable(&words), 11).trim_start()
        ));
    }
    if journey.recipients.is_empty() {
        return output::line("  no subscribers");
    }
    let rows = journey.recipients.iter().map(row);
    output::line(textwrap::indent(&table(&["CLIENT", ">QOS", "OUTCOME", "REASON"], rows.collect()), "  "))?;
    match message.recipients.saturating_sub(journey.recipients.len() as u64) {
        0 => Ok(()),
        more => output::line(format_args!("  {FAINT}and {} more{FAINT:#}", plural(more, "session", "sessions"))),
    }
}

fn row(recipient: &RecipientView) -> Vec<String> {
    let outcome = match recipient.outcome {
        Outcome::Sent => "sent",
        Outcome::Queued => "queued",
        Outcome::Acknowledged => "acknowledged",
        Outcome::Refused => "refused",
        Outcome::Withheld => "withheld",
    };
    let by = if recipient.shared.is_empty() { String::new() } else { format!("; selected in {}", recipient.shared) };
    let explained = explained(recipient);
    let words = explained.strip_prefix(&format!("{outcome} ")).unwrap_or(&explained);
    vec![recipient.client_id.clone(), recipient.qos.to_string(), outcome.to_owned(), format!("{words}{by}")]
}
