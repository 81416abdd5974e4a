//! `moorfall subscribers`

use clap::Args;
use moorfall_contract::topics::{SubscriptionList, SubscriptionView};
use moorfall_wire::TopicFilter;

use crate::{
    arguments::filter,
    local::Which,
    output::{self, Done, count, indented, plural, printable, table},
};

/// What the command takes.
#[derive(Debug, Args)]
pub struct Arguments {
    /// A topic, or a filter: then whoever receives from any topic of it
    #[arg(value_name = "TOPIC|FILTER", value_parser = filter)]
    filter: TopicFilter,
    /// Print so many subscriptions at most
    #[arg(long, value_name = "COUNT", default_value_t = 100, value_parser = clap::value_parser!(u64).range(1..=10_000))]
    limit: u64,
    /// Print JSON
    #[arg(long)]
    json: bool,
    #[command(flatten)]
    which: Which,
}

/// Carries out the command.
pub async fn run(arguments: &Arguments) -> Done {
    let limit = arguments.limit.to_string();
    let asked = [("filter", &*arguments.filter), ("limit", &limit)];
    let found: SubscriptionList = arguments.which.find()?.get(&["subscribers"], &asked).await?;
    if arguments.json {
        return output::json(&found);
    }
    if found.total == 0 {
        return output::finish(output::line(format_args!("Nobody subscribes to {}.", arguments.filter)));
    }
    let row = |one: &SubscriptionView| {
        let SubscriptionView { client_id, identity, filter, qos, group, connected, queue, .. } = one;
        let place = if *connected { "connected" } else { "away" };
        vec![
            client_id.clone(),
            identity.clone(),
            filter.clone(),
            qos.to_string(),
            group.clone(),
            place.to_owned(),
            count(*queue),
        ]
    };
    let headings = ["CLIENT", "IDENTITY", "FILTER", ">QOS", "GROUP", "CLIENT IS", ">QUEUED"];
    let rows = found.subscriptions.iter().map(row).collect();
    let conditions = found.subscriptions.iter().filter_map(|one| Some((one, one.condition.as_ref()?)));
    let conditions: Vec<String> = conditions
        .map(|(one, condition)| format!("{} receives of {} only where {condition}", one.client_id, one.filter))
        .collect();
    let left = found.total - found.subscriptions.len() as u64;
    let printed = output::line(table(&headings, rows)).and_then(|()| match left {
        0 => Ok(()),
        left => {
            let more = plural(left, "subscription", "subscriptions");
            output::line(format_args!("{more} more; --limit prints up to 10,000"))
        }
    });
    let printed =
        printed.and_then(|()| conditions.iter().try_for_each(|words| output::line(indented(&printable(words), 2))));
    output::finish(printed)
}
