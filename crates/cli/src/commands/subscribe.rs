//! `moorfall subscribe`
use std::{collections::HashMap, future::pending, time::Duration};

use bytes::Bytes;
use clap::{Args, ValueEnum};
use moorfall_client::{Arrival, Arrivals, Client, ConnectError, Options};
use moorfall_core::{Condition, Judged, Judging};
use moorfall_wire::{Publish, QoS, ReasonCode, RetainHandling, Subscription, SubscriptionOptions};
use serde_json::json;
use tokio::time::{Instant, sleep, sleep_until};

use crate::{
    arguments::{Wanted, condition, duration, qos, wanted},
    messaging::Connection,
    output::{self, Done, FAINT, Failure, count, plural, printable},
    payload::Shown,
    stop::Stop,
    view::{Show, View, rate},
};

/// How long nothing comes before the retained messages are taken to be complete.
const QUIET: Duration = Duration::from_millis(700);

/// Between two tries to connect again: the first, and the longest.
const AGAIN: (Duration, Duration) = (Duration::from_secs(1), Duration::from_secs(30));

/// Between two lines of a summary.
const SUMMARY: Duration = Duration::from_secs(2);

/// Topics that a summary names.
const BUSIEST: usize = 5;

/// Topics that a summary keeps apart; those beyond are counted together.
const TOPICS: usize = 100_000;

/// Messages in a second that nobody can read.
const TOO_MANY: u64 = 200;

/// Which messages are wanted of those that were there before.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Only {
    /// Retained messages; the command stops when all have arrived
    Retained,
    /// Messages that are published from now on
    New,
}

/// What the command takes.
#[derive(Debug, Args)]
pub struct Arguments {
    /// Topic filters; + matches one level, # all remaining levels
    ///
    /// :0, :1 or :2 at the end of a filter sets its QoS: 'harrowmere/+/+/status:2'.
    #[arg(required = true, value_name = "FILTER[:QOS]", value_parser = wanted)]
    filters: Vec<Wanted>,
    /// Maximum quality of service
    #[arg(long, value_name = "0|1|2", default_value = "1", value_parser = qos)]
    qos: QoS,
    /// Stop after N messages
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..))]
    take: Option<u64>,
    /// Stop after this time, for example 30s or 5m
    #[arg(long = "for", value_name = "TIME", value_parser = duration)]
    time: Option<Duration>,
    /// Receive only retained, or only new messages
    #[arg(long, value_name = "WHICH")]
    only: Option<Only>,
    /// Receive only messages that match this expression (Common Expression Language)
    ///
    /// Available are topic, levels (from 0), payload (its fields if it is JSON, otherwise its text), before (the same of the
    /// message before on the topic; null if there is none), qos and retained: 'payload.m > 2.5 && levels[1] == "gorge"'.
    /// A broker that can is asked to send no others; else they are left out as they come.
    #[arg(long = "where", value_name = "EXPRESSION", value_parser = condition)]
    condition: Option<Condition>,
    /// What to print of a message
    #[arg(long, value_name = "WHAT", default_value = "topic", conflicts_with = "json")]
    show: Show,
    /// How to print payloads
    #[arg(long, value_name = "FORM", default_value = "auto")]
    payload_as: Shown,
    /// Print rates every two seconds instead of messages
    #[arg(long)]
    summary: bool,
    /// Print one JSON object per line, same as --show json
    #[arg(long)]
    json: bool,
    /// Stop when the connection breaks, instead of connecting again
    #[arg(long)]
    no_reconnect: bool,
    /// Have the broker keep the session for this time while this command is away, so that messages wait
    ///
    /// Messages of QoS 1 and 2 wait, and come when the command is run again with the same client identifier. By MQTT 3.1.1
    /// it is the broker that says for how long.
    #[arg(long, value_name = "TIME", value_parser = duration, requires = "client_id")]
    session_expiry: Option<Duration>,
    #[command(flatten)]
    connection: Connection,
}

/// Carries out the command.
pub async fn run(arguments: Arguments) -> Done {
    let mut stop = Stop::listen()?;
    // Once: nobody is asked for the password again when the connection breaks.
    let mut options = arguments.connection.options()?;
    if let Some(time) = arguments.session_expiry {
        options.clean_start = false;
        options.session_expiry = u32::try_from(time.as_secs()).unwrap_or(u32::MAX);
    }
    let (mut client, mut arrivals) = Client::connect(&options).await?;
    let mut reader = Reader::new(&arguments);
    loop {
        let ended = reader.follow(&client, &mut arrivals, &mut stop).await;
        let words = match ended {
            Ok(Ended::Done) => {
                client.disconnect().await;
                return reader.close();
            }
            Ok(Ended::Closed(words)) if arguments.no_reconnect => {
                reader.close()?;
                return Err(Failure(format!("{words} Run the command again to continue.")));
            }
            Ok(Ended::Closed(words)) => words,
            Err(failure) => {
                client.disconnect().await;
                return Err(failure);
            }
        };
        let meanwhile = match arguments.session_expiry {
            Some(_) => "messages of QoS 1 and 2 that are sent meanwhile wait",
            None => "messages sent meanwhile are missed",
        };
        output::remark(format_args!("{words} Connecting again; {meanwhile}."));
        match again(&options, &mut stop, reader.deadline).await? {
            Some(connected) => (client, arrivals) = connected,
            None => return reader.close(),
        }
    }
}

/// Connects again, for as long as it takes; `None` when it is to end instead.
async fn again(
    options: &Options,
    stop: &mut Stop,
    deadline: Option<Instant>,
) -> Result<Option<(Client, Arrivals)>, Failure> {
    let (mut pause, longest) = AGAIN;
    loop {
        tokio::select! {
            () = sleep(pause) => {}
            () = stop.wait() => return Ok(None),
            () = until(deadline) => return Ok(None),
        }
        match Client::connect(options).await {
            Ok(connected) => {
                output::remark("connected again");
                return Ok(Some(connected));
            }
            // Asking again would only fail again.
            Err(error) if matches!(&error, ConnectError::Refused { reason, .. } if !is_passing(*reason)) => {
                return Err(error.into());
            }
            Err(error) => {
                pause = (pause * 2).min(longest);
                output::remark(format_args!("{error} Trying again in {} s.", pause.as_secs()));
            }
        }
    }
}

/// Whether a broker that refuses for this reason may let the client in later.
fn is_passing(reason: ReasonCode) -> bool {
    use ReasonCode as Reason;
    matches!(
        reason,
        Reason::ServerUnavailable | Reason::ServerBusy | Reason::QuotaExceeded | Reason::ConnectionRateExceeded
    )
}

async fn until(deadline: Option<Instant>) {
    match deadline {
        Some(deadline) => sleep_until(deadline).await,
        None => pending().await,
    }
}

/// How reading from a connection ended.
enum Ended {
    /// There was enough.
    Done,
    /// The connection is over.
    Closed(String),
}

struct Reader<'a> {
    arguments: &'a Arguments,
    view: View,
    left: Option<u64>,
    deadline: Option<Instant>,
    summary: Option<Summary>,
    busy: Busy,
    /// Whether something was printed or counted.
    has_matched: bool,
    /// Whether the broker leaves out what is not wanted.
    is_judged: bool,
    /// Of topics the payload before, if the condition asks for it and the broker does not judge.
    before: HashMap<String, Bytes>,
}

impl<'a> Reader<'a> {
    fn new(arguments: &'a Arguments) -> Self {
        let show = if arguments.json { Show::Json } else { arguments.show };
        Self {
            arguments,
            view: View { show, payload: arguments.payload_as },
            left: arguments.take,
            deadline: arguments.time.map(|time| Instant::now() + time),
            summary: arguments.summary.then(Summary::new),
            busy: Busy { since: Instant::now(), messages: 0, told: false },
            has_matched: false,
            is_judged: false,
            before: HashMap::new(),
        }
    }

    fn wants_only_retained(&self) -> bool {
        self.arguments.only == Some(Only::Retained)
    }

    async fn subscribe(&mut self, client: &Client) -> Done {
        let retain_handling = match self.arguments.only {
            // Version 3.1.1 has no such wish; what comes is left out as it comes.
            _ if !self.arguments.connection.is_v5() => RetainHandling::Always,
            Some(Only::New) => RetainHandling::Never,
            // A session that goes on has had them.
            None if self.arguments.session_expiry.is_some() => RetainHandling::IfNew,
            _ => RetainHandling::Always,
        };
        let options = |wanted: &Wanted| SubscriptionOptions {
            qos: wanted.qos.unwrap_or(self.arguments.qos),
            retain_handling,
            ..SubscriptionOptions::default()
        };
        let filters = &self.arguments.filters;
        let subscriptions = filters
            .iter()
            .map(|wanted| Subscription { filter: wanted.filter.clone(), options: options(wanted) })
            .collect();
        let answer = match &self.arguments.condition {
            Some(condition) if self.arguments.connection.is_v5() => {
                client.subscribe_where(subscriptions, condition.text()).await?
            }
            _ => client.subscribe(subscriptions).await?,
        };
        self.is_judged = answer.is_judged();
        let mut refused = Vec::new();
        for (Wanted { filter, .. }, reason) in filters.iter().zip(&answer.reasons) {
            if reason.is_error() {
                refused.push(format!("{}: {reason}", printable(filter)));
            } else {
                output::remark(format_args!("subscribed to {} at QoS {}", printable(filter), *reason as u8));
            }
        }
        if refused.is_empty() {
            return Ok(());
        }
        let words = answer.reason_string.map_or_else(String::new, |words| format!(" ({})", printable(&words)));
        Err(Failure(format!("Refused: {}{words}", refused.join(", "))))
    }

    /// Reads until there is enough or the connection is over.
    async fn follow(&mut self, client: &Client, arrivals: &mut Arrivals, stop: &mut Stop) -> Result<Ended, Failure> {
        self.subscribe(client).await?;
        let mut quiet = self.wants_only_retained().then(|| Instant::now() + QUIET);
        while self.left != Some(0) {
            let due = self.summary.as_ref().map(|summary| summary.due);
            let arrival = tokio::select! {
                arrival = arrivals.next() => arrival,
                () = stop.wait() => return Ok(Ended::Done),
                () = until(self.deadline) => return Ok(Ended::Done),
                () = until(quiet) => return Ok(Ended::Done),
                () = until(due) => {
                    if let Some(summary) = &mut self.summary
                        && !summary.print(self.view.show == Show::Json)?
                    {
                        return Ok(Ended::Done);
                    }
                    continue;
                }
            };
            match arrival {
                Some(Arrival::Message(message)) => {
                    if quiet.is_some() && message.retain {
                        quiet = Some(Instant::now() + QUIET);
                    }
                    if !self.take(&message)? {
                        return Ok(Ended::Done);
                    }
                }
                Some(Arrival::Closed { words, reason }) => {
                    // To connect again would push out whoever has taken over, or undo what somebody did on purpose.
                    let meant = [ReasonCode::SessionTakenOver, ReasonCode::AdministrativeAction];
                    return match reason {
                        Some(reason) if meant.contains(&reason) => Err(Failure(words)),
                        _ => Ok(Ended::Closed(words)),
                    };
                }
                None => return Ok(Ended::Done),
            }
        }
        Ok(Ended::Done)
    }

    /// Whether the condition is true of a message, unless the broker has judged that.
    fn is_wanted(&mut self, message: &Publish) -> bool {
        let Some(condition) = self.arguments.condition.as_ref().filter(|_| !self.is_judged) else { return true };
        let before = match condition.looks_back() && self.before.len() < TOPICS {
            true => self.before.insert(message.topic.to_string(), message.payload.clone()),
            false => None,
        };
        let flags = (message.qos.level(), message.retain);
        let judging = Judging::new(&message.topic, &message.payload, flags, before.as_deref());
        judging.judge_once(condition) == Judged::True
    }

    /// Prints or counts a message, if it is wanted; gives whether anybody reads on.
    fn take(&mut self, message: &Publish) -> Result<bool, Failure> {
        let unwanted = match self.arguments.only {
            Some(Only::Retained) => !message.retain,
            // Version 3.1.1 sends them all the same.
            Some(Only::New) => message.retain,
            None => false,
        };
        if unwanted || !self.is_wanted(message) {
            return Ok(true);
        }
        self.has_matched = true;
        self.left = self.left.map(|left| left - 1);
        if let Some(summary) = &mut self.summary {
            summary.note(message);
            return Ok(true);
        }
        self.busy.note();
        heard(self.view.print(message))
    }

    fn close(&mut self) -> Done {
        if self.arguments.condition.is_some() && !self.has_matched {
            output::remark("no message matched the condition; `moorfall journey TOPIC PAYLOAD` tries one");
        }
        match &mut self.summary {
            Some(summary) => summary.print(self.view.show == Show::Json).map(drop),
            None => Ok(()),
        }
    }
}

/// Whether whoever reads the output is still there; that they are not is no failure.
fn heard(written: std::io::Result<()>) -> Result<bool, Failure> {
    let gone = matches!(&written, Err(error) if error.kind() == std::io::ErrorKind::BrokenPipe);
    output::finish(written).map(|()| !gone)
}

/// Sees when there are more messages than a person reads.
struct Busy {
    since: Instant,
    messages: u64,
    told: bool,
}

impl Busy {
    fn note(&mut self) {
        use std::io::IsTerminal;
        self.messages += 1;
        if self.since.elapsed() >= Duration::from_secs(1) {
            if self.messages > TOO_MANY && !self.told && std::io::stdout().is_terminal() {
                self.told = true;
                output::remark("more messages than a person can read; --summary prints their rates instead");
            }
            (self.since, self.messages) = (Instant::now(), 0);
        }
    }
}

/// What came since the last line.
struct Summary {
    began: Instant,
    since: Instant,
    due: Instant,
    total: u64,
    messages: u64,
    bytes: u64,
    topics: HashMap<String, u64>,
    /// Messages of topics beyond those that are kept apart.
    others: u64,
}

impl Summary {
    fn new() -> Self {
        let now = Instant::now();
        Self {
            began: now,
            since: now,
            due: now + SUMMARY,
            total: 0,
            messages: 0,
            bytes: 0,
            topics: HashMap::new(),
            others: 0,
        }
    }

    fn note(&mut self, message: &Publish) {
        self.total += 1;
        self.messages += 1;
        self.bytes += message.payload.len() as u64;
        if let Some(number) = self.topics.get_mut(&*message.topic) {
            *number += 1;
        } else if self.topics.len() < TOPICS {
            self.topics.insert(message.topic.to_string(), 1);
        } else {
            self.others += 1;
        }
    }

    /// Prints what came, and begins anew; gives whether anybody reads on.
    fn print(&mut self, as_json: bool) -> Result<bool, Failure> {
        let time = self.since.elapsed();
        let mut busiest: Vec<(&String, &u64)> = self.topics.iter().collect();
        busiest.sort_by(|one, other| other.1.cmp(one.1).then_with(|| one.0.cmp(other.0)));
        busiest.truncate(BUSIEST);
        let written = if as_json {
            let busiest: Vec<_> =
                busiest.iter().map(|(topic, number)| json!({ "topic": topic, "messages": number })).collect();
            output::line(json!({
                "seconds": time.as_secs_f64(),
                "messages": self.messages,
                "payload_bytes": self.bytes,
                "topics": self.topics.len(),
                "busiest": busiest,
                "total": self.total,
            }))
        } else {
            let since = output::span(self.began.elapsed().as_secs());
            let more = if self.others > 0 { "more than " } else { "" };
            output::line(format_args!(
                "{} messages/s, {}/s of payload, on {more}{}; {} in {since}",
                rate(self.messages, time),
                output::bytes(self.bytes as f64 / time.as_secs_f64().max(0.001)),
                plural(self.topics.len() as u64, "topic", "topics"),
                count(self.total),
            ))
            .and_then(|()| {
                busiest.iter().try_for_each(|(topic, number)| {
                    output::line(format_args!("{FAINT}{:>10}/s{FAINT:#}  {}", rate(**number, time), printable(topic)))
                })
            })
        };
        let now = Instant::now();
        (self.since, self.due) = (now, now + SUMMARY);
        (self.messages, self.bytes, self.others) = (0, 0, 0);
        self.topics.clear();
        heard(written)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_wrong_filter_is_pointed_at() {
        let words = crate::arguments::filter("harrowmere/#/level").unwrap_err();
        let lines: Vec<&str> = words.0.lines().collect();
        assert_eq!(lines[1].as_bytes()[lines[2].find('^').unwrap_or(0)], b'#', "{words}");
    }

    #[test]
    fn a_filter_may_have_a_qos_of_its_own() {
        let read = |text: &str| wanted(text).map(|wanted| (wanted.filter.to_string(), wanted.qos));
        assert_eq!(read("harrowmere/#:2"), Ok(("harrowmere/#".into(), Some(QoS::ExactlyOnce))));
        assert_eq!(read("harrowmere/+"), Ok(("harrowmere/+".into(), None)));
        assert_eq!(read("weir:9"), Ok(("weir:9".into(), None)), "that is part of the topic");
        assert_eq!(read("weir:1:0"), Ok(("weir:1".into(), Some(QoS::AtMostOnce))));
    }

    #[test]
    fn a_wrong_condition_is_pointed_at() {
        assert!(condition("payload.m > 2.5 && levels[1] == 'gorge'").is_ok());
        let words = condition("payload.m = 2").unwrap_err();
        assert!(words.0.contains("compare with ==") && words.0.ends_with("            ^"), "{words}");
    }
}
