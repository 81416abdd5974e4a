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
    arguments::parse_span,
    local::{Local, Which},
    output::{self, Done, FAINT, Failure, STRONG, WARN, count, indented, plural, printable, since, span, table},
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
    /// Record live messages for a while, and show what becomes of them
    ///
    /// Each message is shown a second after it came, with what each session got of it. Ctrl-C ends the recording.
    Start {
        /// Messages whose topics this filter matches
        filter: TopicFilter,
        /// For how long: a number and s, m or h; an hour at most
        #[arg(long = "for", value_name = "TIME", default_value = "1m", value_parser = parse_span)]
        time: Duration,
        /// Leave the recording to the service, and return
        #[arg(long)]
        background: bool,
        /// Print JSON, a line for each message
        #[arg(long)]
        json: bool,
    },
    /// List the recordings that the service holds
    List {
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Show the messages of a recording, the newest first
    Show {
        /// The recording's number
        recording: u64,
        /// At most so many
        #[arg(long, value_name = "N", default_value_t = 20)]
        limit: u32,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Show what became of one recorded message
    Message {
        /// The message's number
        message: u64,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// End a recording; what it holds stays
    End {
        /// The recording's number
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
        Verb::End { recording } => {
            let ended: RecordingView = local.post(&["recordings", &recording.to_string(), "end"], &json!({})).await?;
            output::finish(output::line(format_args!("recording {recording} has ended: {}", amount(&ended))))
        }
    }
}

async fn start(local: &Local, filter: &TopicFilter, time: Duration, background: bool, as_json: bool) -> Done {
    let mut stop = Stop::listen()?;
    let order = json!({ "filter": filter.to_string(), "seconds": time.as_secs() });
    let begun: RecordingView = local.post(&["recordings"], &order).await?;
    let number = begun.number.to_string();
    let lasts = span(time.as_secs());
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
        output::remark(format_args!("recording {number} runs for {lasts}; Ctrl-C ends it"));
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
            local.change(Method::POST, &["recordings", &number, "end"], None::<&()>).await?;
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
                    return local.change(Method::POST, &["recordings", &number, "end"], None::<&()>).await;
                }
                Err(error) => return Err(error.into()),
            }
        }
        if last {
            if !as_json {
                output::remark(format_args!("recording {number} has ended: {}", amount(&recording)));
            }
            return Ok(());
        }
    }
}

fn amount(recording: &RecordingView) -> String {
    let seen = plural(recording.seen, "message", "messages");
    let left_out = match recording.left_out {
        0 => String::new(),
        left_out => format!(", {} of them not recorded: more than 100 in their second", count(left_out)),
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
        return output::finish(output::line(
            "nothing was recorded since the service started; `moorfall recording start FILTER` records",
        ));
    }
    let rows = recordings.iter().map(|recording| {
        let now = OffsetDateTime::now_utc();
        let state = if recording.running {
            let left = (recording.ends_at - now).whole_seconds();
            format!("runs, {} left", span(u64::try_from(left).unwrap_or(0)))
        } else {
            format!("ended {} ago", since(recording.ends_at))
        };
        let (held, seen) = (count(recording.held), count(recording.seen));
        vec![recording.number.to_string(), recording.filter.clone(), state, recording.by.clone(), held, seen]
    });
    let headings = [">NUMBER", "FILTER", "STATE", "BY", ">HELD", ">MESSAGES"];
    output::finish(output::line(table(&headings, rows.collect())))
}

async fn show(local: &Local, number: u64, limit: u32, as_json: bool) -> Done {
    let limit = limit.to_string();
    let details: RecordingDetails = local.get(&["recordings", &number.to_string()], &[("limit", &limit)]).await?;
    if as_json {
        return output::json(&details);
    }
    let RecordingDetails { recording, messages } = details;
    let state = if recording.running { "runs" } else { "has ended" };
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
    let headings = [">MESSAGE", "AT", "TOPIC", "BY", ">QOS", "BECAME"];
    output::finish(output::line(table(&headings, rows.collect())))?;
    output::finish(output::line(format_args!("{FAINT}`moorfall recording message NUMBER` shows one{FAINT:#}")))
}

/// What became of a message, in a few words.
fn fate(message: &RecordedMessage) -> String {
    if !message.refused.is_empty() {
        return "refused".into();
    }
    if message.recipients == 0 {
        return "nobody subscribes".into();
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
    let bytes = plural(message.bytes, "byte", "bytes");
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
        output::line(indented(&printable(&plan.words), 2))?;
    }
    if journey.recipients.is_empty() {
        return output::line("  nobody subscribes to it");
    }
    let rows = journey.recipients.iter().map(row);
    output::line(textwrap::indent(&table(&["CLIENT", ">QOS", "OUTCOME", "HOW"], rows.collect()), "  "))?;
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
    let by = if recipient.shared.is_empty() { String::new() } else { format!("; its turn in {}", recipient.shared) };
    let words = recipient.words.strip_prefix(&format!("{outcome} ")).unwrap_or(&recipient.words);
    vec![recipient.client_id.clone(), recipient.qos.to_string(), outcome.to_owned(), format!("{words}{by}")]
}
