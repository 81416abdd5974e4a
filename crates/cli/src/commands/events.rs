//! `moorfall events`

use std::time::Duration;

use clap::Args;
use moorfall_contract::{events::EventView, kinds::EventKind};
use time::{OffsetDateTime, format_description::well_known::Rfc3339, macros::format_description};

use crate::{
    arguments::{When, when},
    local::{Local, Which},
    output::{self, Done, FAINT, Failure, STRONG, count},
    stop::Stop,
};

/// Between two looks for what is new.
const EVERY: Duration = Duration::from_millis(700);

/// Events that are fetched at a time when they are followed.
const TOGETHER: &str = "1000";

/// What the command takes.
#[derive(Debug, Args)]
pub struct Arguments {
    /// Only these kinds, such as connected or refused; with commas between several
    #[arg(long, value_name = "KIND", value_delimiter = ',')]
    kind: Vec<String>,
    /// Only those about this identity
    #[arg(long, value_name = "NAME")]
    identity: Option<String>,
    /// Only those by the client of this identifier
    #[arg(long, value_name = "ID")]
    client_id: Option<String>,
    /// Only those from this address
    #[arg(long, value_name = "ADDRESS")]
    address: Option<String>,
    /// Only those that hold this text
    #[arg(long, value_name = "TEXT")]
    text: Option<String>,
    /// Only those since this time: 2h (ago), 2026-11-20 or 2026-11-20T09:30 (in UTC)
    #[arg(long, value_name = "TIME", value_parser = when)]
    since: Option<When>,
    /// Print so many of the newest
    #[arg(long, value_name = "COUNT", default_value_t = 50, value_parser = clap::value_parser!(u64).range(1..=5_000))]
    limit: u64,
    /// Go on with what comes, until Ctrl-C
    #[arg(long)]
    follow: bool,
    /// Print JSON; with --follow an object on each line
    #[arg(long)]
    json: bool,
    #[command(flatten)]
    which: Which,
}

impl Arguments {
    /// What is asked for, as the interface takes it.
    fn asked(&self) -> Vec<(&'static str, String)> {
        let since = self.since.map(|since| since.seen_from(OffsetDateTime::now_utc()));
        let since = since.and_then(|since| since.format(&Rfc3339).ok());
        let kinds = Some(self.kind.join(",")).filter(|kinds| !kinds.is_empty());
        [
            ("kind", kinds),
            ("identity", self.identity.clone()),
            ("client_id", self.client_id.clone()),
            ("address", self.address.clone()),
            ("text", self.text.clone()),
            ("since", since),
        ]
        .into_iter()
        .filter_map(|(name, value)| Some((name, value?)))
        .collect()
    }
}

async fn get(service: &Local, asked: &[(&str, String)], more: &[(&str, &str)]) -> Result<Vec<EventView>, Failure> {
    let asked = asked.iter().map(|(name, value)| (*name, value.as_str()));
    service.get(&["events"], &asked.chain(more.iter().copied()).collect::<Vec<_>>()).await
}

/// Carries out the command.
pub async fn run(arguments: &Arguments) -> Done {
    let service = arguments.which.find()?;
    let asked = arguments.asked();
    let limit = arguments.limit.to_string();
    let mut events = get(&service, &asked, &[("limit", &limit)]).await?;
    events.reverse();
    if !arguments.follow {
        if arguments.json {
            return output::json(&events);
        }
        if events.is_empty() {
            return output::finish(output::line("No events match."));
        }
        return output::finish(events.iter().try_for_each(print));
    }
    let mut stop = Stop::listen()?;
    let mut last = match events.last() {
        Some(last) => last.id,
        None => get(&service, &[], &[("limit", "1")]).await?.first().map_or(0, |newest| newest.id),
    };
    loop {
        for event in &events {
            let printed = match arguments.json {
                true => output::line(serde_json::to_string(event)?),
                false => print(event),
            };
            if printed.is_err() {
                return output::finish(printed);
            }
            last = event.id;
        }
        tokio::select! {
            () = tokio::time::sleep(EVERY) => {}
            () = stop.wait() => return Ok(()),
        }
        let after = last.to_string();
        events = get(&service, &asked, &[("after", &after), ("limit", TOGETHER)]).await?;
    }
}

/// A line of who and what, and the sentence below it.
fn print(event: &EventView) -> std::io::Result<()> {
    let EventView { at, kind, identity, client_id, address, explanation, count: times, subject, .. } = event;
    let at = at.format(format_description!("[year]-[month]-[day] [hour]:[minute]:[second]")).unwrap_or_default();
    let client = if client_id == identity { "" } else { client_id.as_str() };
    // Whoever was not let in has only said who it is.
    let unknown = matches!(kind, EventKind::Refused | EventKind::Unfinished) && !subject.is_empty();
    let said = if unknown { format!("as \"{}\"", output::printable(subject)) } else { String::new() };
    let who = [identity.as_str(), client, said.as_str(), address.as_str()];
    let who: Vec<&str> = who.into_iter().filter(|text| !text.is_empty()).collect();
    let times = if *times > 1 { format!(" × {}", count(*times)) } else { String::new() };
    let head = format!("{kind}{times}");
    let who = who.join(", ");
    let who = match at.len() + head.len() + who.chars().count() + 2 {
        _ if who.is_empty() => who,
        0..80 => format!(" {who}"),
        _ => format!("\n  {}", output::indented(&who, 2).trim_start()),
    };
    output::line(format_args!("{FAINT}{at}{FAINT:#} {STRONG}{head}{STRONG:#}{who}"))?;
    output::line(format_args!("  {}", output::indented(explanation, 2).trim_start()))
}
