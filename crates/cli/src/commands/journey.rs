//! `moorfall journey`

use anstyle::{AnsiColor, Style};
use clap::Args;
use moorfall_contract::journeys::{Journey, Outcome};
use moorfall_core::ADMINISTRATOR;
use moorfall_wire::{QoS, TopicName};
use serde_json::json;

use crate::{
    arguments::qos,
    local::Which,
    output::{self, Done, FAINT, count, indented, plural, printable, table},
};

const GOOD: Style = AnsiColor::Green.on_default().bold();
const BAD: Style = AnsiColor::Red.on_default().bold();

/// What the command takes.
#[derive(Debug, Args)]
pub struct Arguments {
    /// Topic name
    topic: TopicName,
    /// Payload; left out, the message is empty
    #[arg(default_value = "", hide_default_value = true)]
    payload: String,
    /// Whose message it is; left out, the administrator's, who may do everything
    #[arg(long = "as", value_name = "IDENTITY", default_value = ADMINISTRATOR, hide_default_value = true)]
    identity: String,
    /// Client identifier; left out, the identity's name
    #[arg(long, value_name = "ID", default_value = "", hide_default_value = true)]
    client_id: String,
    /// Quality of service
    #[arg(long, value_name = "0|1|2", default_value = "1", value_parser = qos)]
    qos: QoS,
    /// Whether it is to be retained
    #[arg(long)]
    retain: bool,
    /// Print JSON
    #[arg(long)]
    json: bool,
    #[command(flatten)]
    which: Which,
}

/// Carries out the command.
pub async fn run(arguments: Arguments) -> Done {
    let body = json!({
        "identity": arguments.identity,
        "client_id": arguments.client_id,
        "topic": &*arguments.topic,
        "payload": arguments.payload,
        "qos": arguments.qos.level(),
        "retain": arguments.retain,
    });
    let journey: Journey = arguments.which.find()?.post(&["journey"], &body).await?;
    if arguments.json {
        return output::json(&journey);
    }
    output::finish(print(&journey))
}

fn print(journey: &Journey) -> std::io::Result<()> {
    let step = |good: bool, name: &str, words: &str| {
        let (style, mark) = if good { (GOOD, "yes") } else { (BAD, "no") };
        let text = indented(&printable(words), 15);
        output::line(format_args!("{style}{mark:4}{style:#} {name:9} {}", text.trim_start()))
    };
    step(journey.access.allowed, "access", &journey.access.words)?;
    step(!journey.plan.refused, "plan", &journey.plan.words)?;
    if !journey.accepted {
        return output::line("the broker would refuse it, and nobody would receive it");
    }
    if !journey.retained.is_empty() {
        step(true, "retained", &journey.retained)?;
    }
    if journey.total == 0 {
        return output::line("nobody subscribes to it");
    }
    let rows = journey.recipients.iter().map(|recipient| {
        let outcome = format!("{:?}", recipient.outcome).to_lowercase();
        let outcome = if recipient.shared.is_empty() { outcome } else { format!("{outcome}, {}", recipient.shared) };
        let (client, identity) = (recipient.client_id.clone(), recipient.identity.clone());
        vec![client, identity, recipient.qos.to_string(), outcome, recipient.words.clone()]
    });
    output::line(table(&["CLIENT", "IDENTITY", ">QOS", "OUTCOME", "WHY"], rows.collect()))?;
    let number = |wanted: Outcome| journey.recipients.iter().filter(|one| one.outcome == wanted).count() as u64;
    let parts = [(Outcome::Sent, "sent"), (Outcome::Queued, "queued"), (Outcome::Withheld, "withheld")];
    let parts: Vec<String> = parts
        .into_iter()
        .filter(|(outcome, _)| number(*outcome) > 0)
        .map(|(outcome, word)| format!("{} {word}", count(number(outcome))))
        .collect();
    let all = plural(journey.total, "session", "sessions");
    output::line(format_args!(
        "{FAINT}{all}: {}. This is what would happen now; no message was published{FAINT:#}",
        parts.join(", ")
    ))
}
