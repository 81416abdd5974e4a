//! `moorfall request`

use std::time::{Duration, Instant};

use bytes::Bytes;
use clap::Args;
use moorfall_client::{Arrival, Arrivals, Client};
use moorfall_wire::{Publish, QoS, ReasonCode, Subscription, SubscriptionOptions, TopicName};
use rand::distr::{Alphanumeric, SampleString};
use tokio::time::timeout;

use crate::{
    arguments::duration,
    envelope::Envelope,
    messaging::Connection,
    output::{self, Done, Failure, printable},
    payload::Shown,
    view::{Show, View},
};

/// What the command takes.
#[derive(Debug, Args)]
pub struct Arguments {
    /// Topic name
    topic: TopicName,
    /// Payload
    #[arg(default_value = "", hide_default_value = true)]
    payload: String,
    #[command(flatten)]
    envelope: Envelope,
    /// Time limit for the response
    #[arg(long, value_name = "TIME", default_value = "5s", value_parser = duration)]
    within: Duration,
    /// What to print of the response
    #[arg(long, value_name = "WHAT", default_value = "topic", conflicts_with = "json")]
    show: Show,
    /// How to print its payload
    #[arg(long, value_name = "FORM", default_value = "auto")]
    payload_as: Shown,
    /// Print a JSON object, same as --show json
    #[arg(long)]
    json: bool,
    #[command(flatten)]
    connection: Connection,
}

/// Carries out the command.
pub async fn run(arguments: Arguments) -> Done {
    if !arguments.connection.is_v5() {
        return Err(Failure("Requests and responses need MQTT 5.0. Use --protocol 5.0.".into()));
    }
    let payload = arguments.envelope.encoding.read(&arguments.payload)?;
    let (client, mut arrivals) = arguments.connection.open().await?;
    let answered = ask(&arguments, payload, &client, &mut arrivals).await;
    client.disconnect().await;
    let (answer, took) = answered?;
    let show = if arguments.json { Show::Json } else { arguments.show };
    output::remark(format_args!("response after {:.1} ms", took.as_secs_f64() * 1_000.0));
    output::finish(View { show, payload: arguments.payload_as }.print(&answer))
}

/// Publishes, and waits for the message that carries the same correlation to where the answer was wanted (§4.10).
async fn ask(
    arguments: &Arguments,
    payload: Bytes,
    client: &Client,
    arrivals: &mut Arrivals,
) -> Result<(Publish, Duration), Failure> {
    let mut envelope = arguments.envelope.clone();
    let correlation = envelope.correlation.get_or_insert_with(random_text).clone();
    let place = match &envelope.response_topic {
        Some(topic) => topic.clone(),
        None => format!("answers/{}", random_text()).parse()?,
    };
    envelope.response_topic = Some(place.clone());
    let options = SubscriptionOptions { qos: QoS::AtLeastOnce, ..SubscriptionOptions::default() };
    let filter = place.parse()?;
    let granted = client.subscribe(vec![Subscription { filter, options }]).await?;
    if let Some(reason) = granted.reasons.iter().find(|reason| reason.is_error()) {
        let words =
            granted.reason_string.as_deref().map_or_else(String::new, |words| format!(" ({})", printable(words)));
        return Err(Failure(format!(
            "The broker refused the subscription to the Response Topic {} ({reason}).{words} Use another topic with \
             --response-topic.",
            printable(&place)
        )));
    }
    let began = Instant::now();
    let sent = client.publish(envelope.message(&arguments.topic, payload)).await?;
    let reason = sent.as_ref().and_then(|answer| answer.reasons.first().copied()).unwrap_or(ReasonCode::Success);
    let name = printable(&arguments.topic);
    if reason.is_error() {
        let words = sent.and_then(|answer| answer.reason_string).map_or_else(String::new, |words| printable(&words));
        return Err(Failure(format!("Refused ({}). {words}", reason.coded())));
    }
    if reason == ReasonCode::NoMatchingSubscribers {
        return Err(Failure(format!("{name} has no subscribers, so there will be no response.")));
    }
    let wait = async {
        loop {
            match arrivals.next().await {
                Some(Arrival::Message(message))
                    if message.properties.correlation_data.as_deref() == Some(correlation.as_bytes()) =>
                {
                    return Ok(*message);
                }
                Some(Arrival::Message(_)) => output::remark("ignored a response to another request"),
                Some(Arrival::Closed { words, .. }) => {
                    return Err(Failure(format!("{words} No response arrived before that.")));
                }
                None => return Err(Failure("The connection closed before the response arrived.".into())),
            }
        }
    };
    let left = arguments.within.saturating_sub(began.elapsed());
    match timeout(left, wait).await {
        Ok(answer) => answer.map(|answer| (answer, began.elapsed())),
        Err(_) => Err(Failure(format!(
            "No response within {} s. The broker accepted the request, and {name} has subscribers, but none responded \
             in time. Allow more time with --within, or check the responder.",
            arguments.within.as_secs_f32()
        ))),
    }
}

/// Twelve small letters and digits.
fn random_text() -> String {
    Alphanumeric.sample_string(&mut rand::rng(), 12).to_lowercase()
}
