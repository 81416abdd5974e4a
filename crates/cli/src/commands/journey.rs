//! `moorfall journey`

use anstyle::{AnsiColor, Style};
use clap::Args;
use moorfall_contract::{
    journeys::{Journey, Outcome, RecipientView},
    owners::{NotOwnerView, OwnerTrial},
};
use moorfall_core::ADMINISTRATOR;
use moorfall_wire::{QoS, TopicName};
use serde_json::json;

use crate::{
    arguments::qos,
    commands::derived::became,
    local::Which,
    output::{self, Done, FAINT, count, indented, plural, printable, table},
};

const GOOD: Style = AnsiColor::Green.on_default().bold();
const BAD: Style = AnsiColor::Red.on_default().bold();
const ODD: Style = AnsiColor::Yellow.on_default().bold();

/// What the command takes.
#[derive(Debug, Args)]
pub struct Arguments {
    /// Topic name
    topic: TopicName,
    /// Payload [default: empty]
    #[arg(default_value = "", hide_default_value = true)]
    payload: String,
    /// Publisher [default: the administrator, who can do everything]
    #[arg(long = "as", value_name = "IDENTITY", default_value = ADMINISTRATOR, hide_default_value = true)]
    identity: String,
    /// Client identifier [default: the name of the identity]
    #[arg(long, value_name = "ID", default_value = "", hide_default_value = true)]
    client_id: String,
    /// Quality of service
    #[arg(long, value_name = "0|1|2", default_value = "1", value_parser = qos)]
    qos: QoS,
    /// With the retain flag
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
    let step = |(style, mark): (Style, &str), name: &str, words: &str| {
        let text = indented(&printable(words), 15);
        output::line(format_args!("{style}{mark:4}{style:#} {name:9} {}", text.trim_start()))
    };
    let (yes, no) = ((GOOD, "yes"), (BAD, "no"));
    step(if journey.access.allowed { yes } else { no }, "access", &journey.access.explanation)?;
    // What does not match the plan may be published all the same.
    let plan = match (journey.plan.breach, journey.plan.refused) {
        (None, _) => yes,
        (Some(_), false) => (ODD, "but"),
        (Some(_), true) => no,
    };
    step(plan, "plan", &journey.plan.explanation)?;
    if !journey.accepted {
        return output::line("The broker would refuse the message, so there are no recipients.");
    }
    if let Some(owned) = &journey.owned {
        match &owned.not_owner {
            Some(not_owner) => {
                step(no, "owner", &kept_back(not_owner))?;
                return output::line("Nobody would get the message: it would be withheld.");
            }
            None => step(yes, "owner", &heard(owned))?,
        }
    }
    if !journey.retained.is_empty() {
        step(yes, "retained", &journey.retained)?;
    }
    for one in &journey.makes {
        step(yes, "derived", &format!("by {}: {}", one.derived, one.topic))?;
        output::line(indented(&printable(&became(one)), 17))?;
    }
    if journey.total == 0 {
        return output::line("No subscribers.");
    }
    let rows = journey.recipients.iter().map(|recipient| {
        let outcome = recipient.outcome.to_string();
        let outcome = if recipient.shared.is_empty() { outcome } else { format!("{outcome}, {}", recipient.shared) };
        let (client, identity) = (recipient.client_id.clone(), recipient.identity.clone());
        vec![client, identity, recipient.qos.to_string(), outcome, explained(recipient)]
    });
    output::line(table(&["CLIENT", "IDENTITY", ">QOS", "OUTCOME", "REASON"], rows.collect()))?;
    let number = |wanted: Outcome| journey.recipients.iter().filter(|one| one.outcome == wanted).count() as u64;
    let parts = [(Outcome::Sent, "sent"), (Outcome::Queued, "queued"), (Outcome::Withheld, "withheld")];
    let parts: Vec<String> = parts
        .into_iter()
        .filter(|(outcome, _)| number(*outcome) > 0)
        .map(|(outcome, word)| format!("{} {word}", count(number(outcome))))
        .collect();
    let all = plural(journey.total, "session", "sessions");
    output::line(format_args!(
        "{FAINT}{all}: {}. This is a preview; no message was published.{FAINT:#}",
        parts.join(", ")
    ))
}

/// Why nobody gets a message, as another client owns its topic.
pub(super) fn kept_back(why: &NotOwnerView) -> String {
    match &why.client_id {
        Some(owner) => format!("The topic is owned by {owner}, {}.", strong(why.strength)),
        None => "As many topics are owned as may be, and this one has no owner.".into(),
    }
}

/// How strong somebody is, in words.
pub(super) fn strong(strength: Option<f64>) -> String {
    strength.map_or_else(|| "no strength".into(), |strength| format!("strength {strength}"))
}

fn heard(OwnerTrial { strength, owner, .. }: &OwnerTrial) -> String {
    match owner {
        None => format!("Nobody owns the topic; the client would ({}).", strong(*strength)),
        Some(owner) => {
            format!(
                "The client owns the topic, or would take it from {} ({}).",
                owner.client_id,
                strong(owner.strength)
            )
        }
    }
}

/// Why a session gets what it gets, and what that becomes across a bridge.
pub(super) fn explained(recipient: &RecipientView) -> String {
    match &recipient.becomes {
        Some(name) => format!("{}; across the bridge {}", recipient.explanation, printable(name)),
        None => recipient.explanation.clone(),
    }
}
