//! `moorfall publish`

use clap::Args;
use moorfall_wire::{Publish, QoS, ReasonCode, TopicName};

use super::qos;
use crate::{
    messaging::Connection,
    output::{self, Done, Failure, printable},
};

#[derive(Debug, Args)]
pub(crate) struct Arguments {
    /// Topic name
    topic: TopicName,
    /// Payload; left out, the message is empty
    #[arg(default_value = "", hide_default_value = true)]
    payload: String,
    /// Quality of service: 0 is not acknowledged, so a refusal is not seen
    #[arg(long, value_name = "0|1|2", default_value = "1", value_parser = qos)]
    qos: QoS,
    /// Keep the message for those who subscribe later; an empty one clears the topic
    #[arg(long)]
    retain: bool,
    #[command(flatten)]
    connection: Connection,
}

pub(crate) async fn run(arguments: Arguments) -> Done {
    let Arguments { topic, payload, qos, retain, connection } = arguments;
    let (client, _arrivals) = connection.open().await?;
    let name = printable(&topic);
    let publish = Publish { retain, ..Publish::new(topic, payload, qos) };
    let answer = client.publish(publish).await;
    client.disconnect().await;
    let Some(answer) = answer? else {
        output::remark(format_args!("sent to {name} at QoS 0: no acknowledgement, so a refusal would not be seen"));
        return Ok(());
    };
    let reason = answer.reasons.first().copied().unwrap_or(ReasonCode::Success);
    if reason.is_error() {
        let words = answer.words.map_or_else(|| format!("publishing to {name}"), |words| printable(&words));
        return Err(Failure(format!("the broker refused: {words}: {reason}")));
    }
    let who = if reason == ReasonCode::NoMatchingSubscribers { "; nobody subscribes to it" } else { "" };
    output::finish(output::line(format_args!("{name}: acknowledged{who}")))
}
