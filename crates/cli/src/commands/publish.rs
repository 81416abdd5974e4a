//! `moorfall publish`
use std::{
    io::{BufRead, Read},
    path::PathBuf,
    time::{Duration, Instant},
};

use bytes::Bytes;
use clap::Args;
use futures_util::{StreamExt, stream::FuturesUnordered};
use moorfall_client::{Answer, Client, ClientError};
use moorfall_wire::{ReasonCode, TopicName};
use rand::RngExt;
use serde_json::json;
use tokio::sync::mpsc;

use crate::{
    arguments::duration,
    envelope::Envelope,
    messaging::Connection,
    output::{self, Done, Failure, count, plural, printable},
    payload::{Encoding, fill},
    stop::Stop,
};

/// Messages that may wait for their acknowledgements.
const UNDER_WAY: usize = 200;

/// Refusals that are told one by one.
const TOLD: usize = 10;

/// What the command takes.
#[derive(Debug, Args)]
pub struct Arguments {
    /// Topic name
    topic: TopicName,
    /// Payload [default: empty]
    #[arg(conflicts_with = "file")]
    payload: Option<String>,
    /// Read the payload from a file; `-` is standard input
    #[arg(long, value_name = "FILE")]
    file: Option<PathBuf>,
    /// Publish each line of the file, or of standard input, as a message
    #[arg(long, conflicts_with = "payload")]
    lines: bool,
    #[command(flatten)]
    envelope: Envelope,
    /// Publish repeatedly, with this time in between
    ///
    /// %{count}, %{time}, %{random} and %{random 1.5..2.5} in the payload are replaced for each message.
    #[arg(long, value_name = "TIME", value_parser = duration)]
    every: Option<Duration>,
    /// Publish N times
    #[arg(long, value_name = "N", conflicts_with = "lines", value_parser = clap::value_parser!(u64).range(1..))]
    count: Option<u64>,
    /// Also print the time until the acknowledgement
    #[arg(long)]
    verbose: bool,
    /// Print JSON
    #[arg(long)]
    json: bool,
    #[command(flatten)]
    connection: Connection,
}

/// The payloads one after the other.
enum Source {
    One(String),
    /// So many times, or until it is stopped.
    Again(String, u64),
    Lines(mpsc::Receiver<std::io::Result<String>>),
    Bytes(Vec<u8>),
}

/// Carries out the command.
pub async fn run(arguments: Arguments) -> Done {
    let Arguments { topic, envelope, connection, every, verbose, json, .. } = &arguments;
    envelope.check(connection)?;
    let mut source = source(&arguments)?;
    // What is wrong with a payload is said before anything is sent.
    if let Source::One(text) = &source {
        envelope.encoding.read(text)?;
    }
    let (client, _arrivals) = connection.open().await?;
    let mut tally = Tally::default();
    let done = send(&client, topic, envelope, &mut source, *every, &mut tally).await;
    client.disconnect().await;
    let told = if *json { tally.json(topic) } else { tally.tell(topic, *verbose) };
    told.and(done)
}

fn source(arguments: &Arguments) -> Result<Source, Failure> {
    let file = arguments.file.as_ref().filter(|file| file.as_os_str() != "-");
    let wrong = |error: std::io::Error| {
        let name = file.map_or_else(|| "standard input".into(), |file| file.display().to_string());
        Failure(format!("{name} can't be read: {error}. Check the path and its permissions."))
    };
    if arguments.lines {
        let (lines, receiver) = mpsc::channel(UNDER_WAY);
        let mut reader: Box<dyn BufRead + Send> = match file {
            Some(file) => Box::new(std::io::BufReader::new(std::fs::File::open(file).map_err(wrong)?)),
            None => Box::new(std::io::BufReader::new(std::io::stdin())),
        };
        // A thread of its own, for which nobody waits at the end: it may hang on a keyboard.
        std::thread::spawn(move || {
            for line in reader.by_ref().lines() {
                if lines.blocking_send(line).is_err() {
                    return;
                }
            }
        });
        return Ok(Source::Lines(receiver));
    }
    let is_repeated = arguments.every.is_some() || arguments.count.is_some();
    let text = if arguments.file.is_some() {
        let mut bytes = Vec::new();
        match file {
            Some(file) => std::fs::File::open(file).and_then(|mut file| file.read_to_end(&mut bytes)).map_err(wrong)?,
            None => std::io::stdin().read_to_end(&mut bytes).map_err(wrong)?,
        };
        if arguments.envelope.encoding == Encoding::Text && !is_repeated {
            return Ok(Source::Bytes(bytes));
        }
        String::from_utf8(bytes)
            .map_err(|_| Failure("The file is not text. --encoding text publishes it as it is.".into()))?
    } else {
        arguments.payload.clone().unwrap_or_default()
    };
    Ok(if is_repeated { Source::Again(text, arguments.count.unwrap_or(u64::MAX)) } else { Source::One(text) })
}

impl Source {
    /// The next payload; `None` after the last.
    async fn next(&mut self, number: u64, encoding: Encoding) -> Result<Option<Bytes>, Failure> {
        let mut random = || rand::rng().random::<f64>();
        let text = match self {
            Self::One(_) | Self::Bytes(_) if number > 1 => return Ok(None),
            Self::Bytes(bytes) => return Ok(Some(Bytes::from(std::mem::take(bytes)))),
            Self::One(text) => text.clone(),
            Self::Again(_, last) if number > *last => return Ok(None),
            Self::Again(text, _) => fill(text, number, &mut random)?,
            Self::Lines(lines) => match lines.recv().await {
                None => return Ok(None),
                Some(line) => line.map_err(|error| Failure(format!("Line {number} can't be read: {error}.")))?,
            },
        };
        let place = if matches!(self, Self::Lines(_)) { format!("Line {number}: ") } else { String::new() };
        encoding.read(&text).map(Some).map_err(|error| Failure(format!("{place}{error}")))
    }
}

/// What became of the messages.
#[derive(Default)]
struct Tally {
    sent: u64,
    acknowledged: u64,
    unheard: u64,
    refused: Vec<(u64, ReasonCode, Option<String>)>,
    refusals: u64,
    took: Vec<Duration>,
}

async fn send(
    client: &Client,
    topic: &TopicName,
    envelope: &Envelope,
    source: &mut Source,
    every: Option<Duration>,
    tally: &mut Tally,
) -> Done {
    let mut stop = Stop::listen()?;
    let mut waiting = FuturesUnordered::new();
    let mut clock = every.map(tokio::time::interval);
    let mut done = Ok(());
    for number in 1.. {
        let next = async {
            if let Some(clock) = &mut clock {
                clock.tick().await;
            }
            source.next(number, envelope.encoding).await
        };
        let next = tokio::select! {
            next = next => next,
            () = stop.wait() => break,
        };
        let payload = match next {
            Ok(Some(payload)) => payload,
            Ok(None) => break,
            // What was sent before is still accounted for.
            Err(failure) => {
                done = Err(failure);
                break;
            }
        };
        let began = Instant::now();
        let pending = client.start_publish(envelope.message(topic, payload)).await?;
        tally.sent += 1;
        waiting.push(async move { (number, pending.answer().await, began.elapsed()) });
        while waiting.len() >= UNDER_WAY
            && let Some(answered) = waiting.next().await
        {
            tally.note(answered)?;
        }
    }
    while let Some(answered) = waiting.next().await {
        tally.note(answered)?;
    }
    done
}

impl Tally {
    fn note(&mut self, answered: (u64, Result<Option<Answer>, ClientError>, Duration)) -> Done {
        let (number, answer, took) = answered;
        let Some(answer) = answer? else { return Ok(()) };
        let reason = answer.reasons.first().copied().unwrap_or(ReasonCode::Success);
        self.took.push(took);
        if reason.is_error() {
            self.refusals += 1;
            if self.refused.len() < TOLD {
                self.refused.push((number, reason, answer.reason_string.map(|words| words.to_string())));
            }
        } else {
            self.acknowledged += 1;
            self.unheard += u64::from(reason == ReasonCode::NoMatchingSubscribers);
        }
        Ok(())
    }

    /// The least, the middle and the greatest time of an acknowledgement, milliseconds.
    fn times(&mut self) -> Option<[f64; 3]> {
        self.took.sort_unstable();
        let millis = |took: &Duration| took.as_secs_f64() * 1_000.0;
        let (first, last) = (self.took.first()?, self.took.last()?);
        Some([millis(first), millis(&self.took[self.took.len() / 2]), millis(last)])
    }

    fn tell(&mut self, topic: &TopicName, verbose: bool) -> Done {
        let name = printable(topic);
        let times = self.times().filter(|_| verbose);
        if self.sent == 1 && self.refusals == 1 {
            let (_, reason, words) = &self.refused[0];
            let words =
                words.as_ref().map_or_else(|| format!("Publishing to {name} was refused."), |words| printable(words));
            return Err(Failure(format!("Refused ({}). {words}", reason.coded())));
        }
        if self.sent > 0 && self.acknowledged + self.refusals == 0 {
            let what = if self.sent == 1 { String::new() } else { format!("{} messages ", count(self.sent)) };
            output::remark(format_args!(
                "{what}sent to {name} at QoS 0; without an acknowledgement, a refusal is not seen"
            ));
            return Ok(());
        }
        if self.sent == 1 {
            let who = if self.unheard > 0 { ", no subscribers" } else { "" };
            let time = times.map_or_else(String::new, |[took, ..]| format!(" in {took:.1} ms"));
            return output::finish(output::line(format_args!("{name}: acknowledged{time}{who}")));
        }
        let unheard =
            if self.unheard > 0 { format!(", {} without subscribers", count(self.unheard)) } else { String::new() };
        let refused = if self.refusals > 0 { format!(", {} refused", count(self.refusals)) } else { String::new() };
        let time = times.map_or_else(String::new, |[least, middle, most]| {
            format!("; {least:.1} / {middle:.1} / {most:.1} ms (least / median / greatest)")
        });
        output::finish(output::line(format_args!(
            "{name}: {} of {} acknowledged{unheard}{refused}{time}",
            count(self.acknowledged),
            plural(self.sent, "message", "messages"),
        )))?;
        for (number, reason, words) in &self.refused {
            let words = words.as_deref().map_or_else(String::new, |words| format!(" ({})", printable(words)));
            output::finish(output::line(format_args!("  message {number}: {reason}{words}")))?;
        }
        match self.refusals {
            0 => Ok(()),
            refusals => Err(Failure(format!("Refused: {}", plural(refusals, "message", "messages")))),
        }
    }

    fn json(&mut self, topic: &TopicName) -> Done {
        let times =
            self.times().map(|[least, middle, most]| json!({ "least": least, "median": middle, "greatest": most }));
        let refused: Vec<_> = self
            .refused
            .iter()
            .map(|(number, reason, words)| {
                json!({ "message": number, "reason_code": *reason as u8, "reason": reason.to_string(), "reason_string": words })
            })
            .collect();
        output::json(&json!({
            "topic": &**topic,
            "sent": self.sent,
            "acknowledged": self.acknowledged,
            "without_subscribers": self.unheard,
            "refused": self.refusals,
            "first_refusals": refused,
            "milliseconds": times,
        }))?;
        match self.refusals {
            0 => Ok(()),
            refusals => Err(Failure(format!("Refused: {}", plural(refusals, "message", "messages")))),
        }
    }
}
