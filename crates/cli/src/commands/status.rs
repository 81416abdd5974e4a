//! `moorfall status`

use clap::Args;
use moorfall_contract::status::{Limits, Status};
use moorfall_core::session::NEVER;
use serde_json::{Map, Value};

use crate::{
    local::Which,
    output::{self, Done, WARN, bytes, count, plural, span, table},
};

/// What the command takes.
#[derive(Debug, Args)]
pub struct Arguments {
    /// Show the limits in force, by their keys in moorfall.toml
    #[arg(long)]
    limits: bool,
    /// Print JSON
    #[arg(long)]
    json: bool,
    #[command(flatten)]
    which: Which,
}

/// Carries out the command.
pub async fn run(arguments: &Arguments) -> Done {
    let status: Status = arguments.which.find()?.get(&["status"], &[]).await?;
    if arguments.json {
        return output::json(&status);
    }
    if arguments.limits {
        return output::finish(print_limits(&status));
    }
    output::finish(print(&status))
}

/// A row for each limit: the service's, and a listener's where it differs.
fn print_limits(status: &Status) -> std::io::Result<()> {
    let values = |limits: &Limits| match serde_json::to_value(limits) {
        Ok(Value::Object(fields)) => fields,
        _ => Map::new(),
    };
    let service = values(&status.limits);
    let others: Vec<_> = status
        .listeners
        .iter()
        .filter(|one| one.limits != status.limits)
        .map(|one| (&one.name, values(&one.limits)))
        .collect();
    let headings: Vec<String> = ["LIMIT".into(), ">SERVICE".into(), ">TURNED AWAY".into()]
        .into_iter()
        .chain(others.iter().map(|(name, _)| format!(">{}", name.to_uppercase())))
        .collect();
    let shown = |value: Option<&Value>| match value {
        Some(Value::Number(number)) if number.as_u64() == Some(NEVER.into()) => "never".to_owned(),
        Some(Value::Number(number)) => number.as_u64().map_or_else(|| number.to_string(), count),
        Some(Value::String(text)) => text.clone(),
        _ => String::new(),
    };
    let rows = service.iter().map(|(name, value)| {
        let differing = others.iter().map(|(_, fields)| {
            let other = fields.get(name);
            if other == Some(value) { String::new() } else { shown(other) }
        });
        let turned_away = status.turned_away.get(name).copied().map(count).unwrap_or_default();
        [name.replace('_', "-"), shown(Some(value)), turned_away].into_iter().chain(differing).collect()
    });
    let headings: Vec<&str> = headings.iter().map(String::as_str).collect();
    output::line(table(&headings, rows.collect()))
}

fn print(status: &Status) -> std::io::Result<()> {
    for warning in &status.warnings {
        output::line(format_args!("{WARN}warning:{WARN:#} {}", output::indented(warning, 9).trim_start()))?;
    }
    let rates = &status.rates;
    let blueprint = if status.blueprint.is_empty() { "none" } else { &status.blueprint };
    let database = if status.database.healthy { "healthy" } else { &status.database.trouble };
    let mut rows = vec![
        ("Moorfall", format!("{}, up {}", status.version, span(status.uptime_seconds))),
        ("Console", status.http.clone()),
        ("Data", status.data.display().to_string()),
        ("Blueprint", blueprint.to_owned()),
        ("Database", database.to_owned()),
        ("Identities", count(status.identities)),
        ("Sessions", format!("{} connected, {} disconnected", count(status.sessions), count(status.sessions_away))),
        ("Subscriptions", count(status.subscriptions)),
        (
            "Retained",
            format!("{}, {}", plural(status.retained, "message", "messages"), bytes(status.retained_bytes as f64)),
        ),
        ("In", format!("{:.1} messages/s, {}/s", rates.messages_in, bytes(rates.bytes_in))),
        ("Out", format!("{:.1} messages/s, {}/s", rates.messages_out, bytes(rates.bytes_out))),
        ("Since start", format!("{} in, {} out", count(status.totals.messages_in), count(status.totals.messages_out))),
        (
            "Not delivered",
            format!(
                "{} withheld, {} refused",
                count(status.totals.withheld),
                plural(status.totals.refused, "attempt", "attempts")
            ),
        ),
    ];
    let turned_away: u64 = status.turned_away.values().sum();
    if turned_away > 0 {
        let words = format!("{} by limits; `moorfall status --limits` shows which", count(turned_away));
        rows.push(("Turned away", words));
    }
    // Listeners stand behind the console, each on a line of its own.
    for (number, listener) in status.listeners.iter().enumerate() {
        let most = count(listener.limits.connections);
        let value = format!("{}  {}, {} of {most}", listener.url, listener.name, count(listener.connections));
        rows.insert(2 + number, (if number == 0 { "Listeners" } else { "" }, value));
    }
    rows.iter().try_for_each(|(name, value)| output::line(format_args!("{name:<14} {value}")))
}
