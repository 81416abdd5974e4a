//! `moorfall busiest`

use clap::{Args, ValueEnum};
use moorfall_contract::readings::{Busiest, Busy};

use crate::{
    local::Which,
    output::{self, Done, bytes, count, printable, table},
};

/// Of what.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
enum Of {
    /// Sessions: what they sent and were sent
    #[default]
    Sessions,
    /// Identities: what all their sessions sent and were sent
    Identities,
    /// Topics: what was published to them
    Topics,
    /// Levels right above topics: what was published below
    Branches,
}

/// What makes busy.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
enum In {
    /// The number of messages
    #[default]
    Messages,
    /// Their bytes
    Bytes,
}

/// What the command takes.
#[derive(Debug, Args)]
pub struct Arguments {
    /// Of what
    #[arg(default_value = "sessions")]
    of: Of,
    /// By what
    #[arg(long, default_value = "messages")]
    by: In,
    /// Print so many at most
    #[arg(long, value_name = "COUNT", default_value_t = 10, value_parser = clap::value_parser!(u64).range(1..=512))]
    limit: u64,
    /// Print JSON
    #[arg(long)]
    json: bool,
    #[command(flatten)]
    which: Which,
}

fn name(value: &impl ValueEnum) -> String {
    value.to_possible_value().map(|value| value.get_name().to_owned()).unwrap_or_default()
}

/// Carries out the command.
pub async fn run(arguments: &Arguments) -> Done {
    let (of, by, limit) = (name(&arguments.of), name(&arguments.by), arguments.limit.to_string());
    let found: Busiest = arguments.which.find()?.get(&["busiest", &of], &[("by", &by), ("limit", &limit)]).await?;
    if arguments.json {
        return output::json(&found);
    }
    if found.busiest.is_empty() {
        return output::finish(output::line("Nothing was sent in the last two minutes."));
    }
    let in_bytes = arguments.by == In::Bytes;
    let amount = |number: u64| if in_bytes { bytes(number as f64) } else { count(number) };
    let row = |busy: &Busy| {
        let rate = if in_bytes { bytes(busy.rate) } else { format!("{:.1}", busy.rate) };
        let too_many = if busy.too_many == 0 { String::new() } else { format!("at most {}", amount(busy.too_many)) };
        vec![printable(&busy.name), amount(busy.count), rate, too_many]
    };
    let first = match arguments.of {
        Of::Sessions => "CLIENT",
        Of::Identities => "IDENTITY",
        Of::Topics => "TOPIC",
        Of::Branches => "BRANCH",
    };
    let second = if in_bytes { ">BYTES" } else { ">MESSAGES" };
    let rows = found.busiest.iter().map(row).collect();
    output::finish(
        output::line(table(&[first, second, ">PER SECOND", ">TOO MANY"], rows))
            .and_then(|()| output::line(format_args!("Counted over the last {:.0} s.", found.seconds))),
    )
}
