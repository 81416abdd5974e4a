//! `moorfall sessions`

use clap::Args;
use moorfall_contract::sessions::{SessionList, SessionView};

use crate::{
    local::Which,
    output::{self, Done, FAINT, count, since, table},
};

/// What the command takes.
#[derive(Debug, Args)]
pub struct Arguments {
    /// Only sessions whose client identifier, identity or address contains this text
    #[arg(default_value = "", hide_default_value = true)]
    search: String,
    /// Show at most N sessions
    #[arg(long, value_name = "N", default_value_t = 500, value_parser = clap::value_parser!(u32).range(1..=10_000))]
    limit: u32,
    /// Print JSON
    #[arg(long)]
    json: bool,
    #[command(flatten)]
    which: Which,
}

/// Carries out the command.
pub async fn run(arguments: &Arguments) -> Done {
    let limit = arguments.limit.to_string();
    let query = [("search", arguments.search.as_str()), ("limit", &limit)];
    let list: SessionList = arguments.which.find()?.get(&["sessions"], &query).await?;
    if arguments.json {
        return output::json(&list);
    }
    output::finish(print(&list))
}

fn print(list: &SessionList) -> std::io::Result<()> {
    if list.sessions.is_empty() {
        return output::line("No sessions match.");
    }
    let rows = list.sessions.iter().map(row).collect();
    let headings = ["CLIENT", "IDENTITY", "ADDRESS", "MQTT", ">FOR", ">IN", ">OUT", ">QUEUED"];
    output::line(table(&headings, rows))?;
    let shown = list.sessions.len() as u64;
    if shown < list.total {
        output::line(format_args!("{FAINT}{shown} of {} shown; --limit N shows more{FAINT:#}", count(list.total)))?;
    }
    let troubles: Vec<_> = list.sessions.iter().filter_map(trouble).collect();
    if troubles.is_empty() {
        return Ok(());
    }
    output::line("")?;
    output::line(table(&["CLIENT", ">REFUSED", ">DROPPED", ">WITHHELD", "LAST REFUSAL"], troubles))
}

/// What went wrong for a session, if anything did.
fn trouble(session: &SessionView) -> Option<Vec<String>> {
    (session.refused + session.dropped + session.withheld > 0).then(|| {
        vec![
            session.client_id.clone(),
            count(session.refused),
            count(session.dropped),
            count(session.withheld),
            session.last_refusal.clone(),
        ]
    })
}

fn row(session: &SessionView) -> Vec<String> {
    vec![
        session.client_id.clone(),
        session.identity.clone(),
        if session.connected { session.address.clone() } else { "away".into() },
        session.version.clone(),
        since(session.since),
        count(session.messages_in),
        count(session.messages_out),
        count(session.queue),
    ]
}
