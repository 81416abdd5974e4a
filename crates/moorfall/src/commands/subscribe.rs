//! `moorfall subscribe`

use std::{fmt::Write as _, io, time::Duration};

use clap::Args;
use moorfall_client::{Arrival, Arrivals, Client};
use moorfall_wire::{Publish, QoS, Subscription, SubscriptionOptions, TopicFilter};
use serde_json::json;
use time::{OffsetDateTime, format_description::well_known::Rfc3339};
use tokio::time::{Instant, sleep_until};

use super::{parse_span, qos, serve::Stop};
use crate::{
    messaging::Connection,
    output::{self, Done, Failure, printable},
};

#[derive(Debug, Args)]
pub(crate) struct Arguments {
    /// Topic filters; + stands for one level, # for all that follow
    #[arg(required = true, value_name = "FILTER", value_parser = filter)]
    filters: Vec<TopicFilter>,
    /// Highest quality of service to receive with
    #[arg(long, value_name = "0|1|2", default_value = "1", value_parser = qos)]
    qos: QoS,
    /// End after so many messages
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..))]
    take: Option<u64>,
    /// End after this time, for example 30s or 5m
    #[arg(long = "for", value_name = "TIME", value_parser = parse_span)]
    time: Option<Duration>,
    /// Print the payload alone, as it came, one message a line
    #[arg(long, conflicts_with = "json")]
    payload_only: bool,
    /// Print a JSON object a line
    #[arg(long)]
    json: bool,
    #[command(flatten)]
    connection: Connection,
}

/// A filter, or what is wrong with it with the character pointed at.
fn filter(text: &str) -> Result<TopicFilter, String> {
    text.parse::<TopicFilter>().map_err(|error| match error.at() {
        None => error.to_string(),
        Some(at) => {
            let before = text.get(..at).map_or(0, |before| before.chars().count());
            format!("{error}\n  {}\n  {}^", printable(text), " ".repeat(before))
        }
    })
}

pub(crate) async fn run(arguments: Arguments) -> Done {
    let mut stop = Stop::listen()?;
    let (client, mut arrivals) = arguments.connection.open().await?;
    let done = receive(&arguments, &client, &mut arrivals, &mut stop).await;
    client.disconnect().await;
    done
}

async fn receive(arguments: &Arguments, client: &Client, arrivals: &mut Arrivals, stop: &mut Stop) -> Done {
    let options = SubscriptionOptions { qos: arguments.qos, ..SubscriptionOptions::default() };
    let subscriptions =
        arguments.filters.iter().map(|filter| Subscription { filter: filter.clone(), options }).collect();
    let answer = client.subscribe(subscriptions).await?;
    let mut refused = Vec::new();
    for (filter, reason) in arguments.filters.iter().zip(&answer.reasons) {
        if reason.is_error() {
            refused.push(format!("{}: {reason}", printable(filter)));
        } else {
            output::remark(format_args!("subscribed to {} at QoS {}", printable(filter), *reason as u8));
        }
    }
    if !refused.is_empty() {
        let words = answer.words.map_or_else(String::new, |words| format!(" ({})", printable(&words)));
        return Err(Failure(format!("the broker refused {}{words}", refused.join(", "))));
    }
    let deadline = arguments.time.map(|time| Instant::now() + time);
    let mut left = arguments.take;
    while left != Some(0) {
        let arrival = tokio::select! {
            arrival = arrivals.next() => arrival,
            () = stop.wait() => return Ok(()),
            () = sleep_until(deadline.unwrap_or_else(Instant::now)), if deadline.is_some() => return Ok(()),
        };
        match arrival {
            Some(Arrival::Message(message)) => {
                if let Err(error) = print(arguments, &message) {
                    return output::finish(Err(error));
                }
                left = left.map(|left| left - 1);
            }
            Some(Arrival::Closed(words)) => return Err(Failure(format!("{words}; run the command again to go on"))),
            None => return Ok(()),
        }
    }
    Ok(())
}

fn print(arguments: &Arguments, message: &Publish) -> io::Result<()> {
    if arguments.json {
        return output::line(as_json(message));
    }
    if arguments.payload_only {
        let mut out = io::stdout().lock();
        io::Write::write_all(&mut out, &message.payload)?;
        return io::Write::write_all(&mut out, b"\n").and_then(|()| io::Write::flush(&mut out));
    }
    let retained = if message.retain { " (retained)" } else { "" };
    output::line(format_args!("{}{retained} {}", printable(&message.topic), payload(message)))
}

/// Text as text; anything else as its length and first bytes.
fn payload(message: &Publish) -> String {
    match std::str::from_utf8(&message.payload) {
        Ok(text) => printable(text),
        Err(_) => {
            let mut hex = String::new();
            for byte in message.payload.iter().take(24) {
                let _ = write!(hex, " {byte:02x}");
            }
            let more = if message.payload.len() > 24 { " …" } else { "" };
            format!("({} bytes:{hex}{more})", message.payload.len())
        }
    }
}

fn as_json(message: &Publish) -> serde_json::Value {
    let mut object = json!({
        "received_at": OffsetDateTime::now_utc().format(&Rfc3339).unwrap_or_default(),
        "topic": &*message.topic,
        "qos": message.qos.level(),
        "retained": message.retain,
    });
    match std::str::from_utf8(&message.payload) {
        Ok(text) => object["payload"] = text.into(),
        Err(_) => {
            let hex: String = message.payload.iter().map(|byte| format!("{byte:02x}")).collect();
            object["payload_hex"] = hex.into();
        }
    }
    object
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_wrong_filter_is_pointed_at() {
        let words = filter("harrowmere/#/level").unwrap_err();
        let lines: Vec<&str> = words.lines().collect();
        assert_eq!(lines[1].as_bytes()[lines[2].find('^').unwrap_or(0)], b'#', "{words}");
    }
}
