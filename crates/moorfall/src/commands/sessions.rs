//! `moorfall sessions`

use clap::Args;
use moorfall_service::api_types::{SessionList, SessionView};

use crate::{
    local::Which,
    output::{self, Done, FAINT, count, printable, since, table},
};

#[derive(Debug, Args)]
pub(crate) struct Arguments {
    /// Only those whose client identifier, identity or address holds this text
    #[arg(default_value = "", hide_default_value = true)]
    search: String,
    /// At most so many
    #[arg(long, value_name = "N", default_value_t = 500)]
    limit: u32,
    /// Print JSON
    #[arg(long)]
    json: bool,
    #[command(flatten)]
    which: Which,
}

pub(crate) async fn run(arguments: &Arguments) -> Done {
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
        return output::line("no session matches");
    }
    let rows = list.sessions.iter().map(row).collect();
    let headings = ["CLIENT", "IDENTITY", "ADDRESS", "MQTT", ">SINCE", ">IN", ">OUT", ">QUEUE"];
    output::line(table(&headings, rows))?;
    let shown = list.sessions.len() as u64;
    if shown < list.total {
        output::line(format_args!("{FAINT}{shown} of {} shown; --limit N shows more{FAINT:#}", count(list.total)))?;
    }
    for session in list.sessions.iter().filter(|session| session.refused + session.dropped + session.withheld > 0) {
        let client = printable(&session.client_id);
        if session.refused > 0 {
            let times = if session.refused == 1 { "once" } else { &format!("{} times", count(session.refused)) };
            let last = printable(&session.last_refusal);
            output::line(format_args!("{FAINT}{client} was refused {times}, last: {last}{FAINT:#}"))?;
        }
        if session.dropped + session.withheld > 0 {
            let (dropped, withheld) = (count(session.dropped), count(session.withheld));
            output::line(format_args!(
                "{FAINT}{client} missed {dropped} messages to a full queue and {withheld} for other reasons{FAINT:#}"
            ))?;
        }
    }
    Ok(())
}

fn row(session: &SessionView) -> Vec<String> {
    vec![
        session.client_id.clone(),
        session.identity.clone(),
        session.address.clone(),
        session.version.clone(),
        since(session.connected_at),
        count(session.messages_in),
        count(session.messages_out),
        count(session.queue),
    ]
}
