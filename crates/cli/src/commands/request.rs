//! `moorfall request`

use std::time::{Duration, Instant};

use bytes::Bytes;
use clap::Args;
use moorfall_client::{Arrival, Arrivals, Client};
use moorfall_wire::{Publish, QoS, ReasonCode, Subscription, SubscriptionOptions, TopicName};
use rand::distr::{Alphanumeric, SampleString};
use tokio::time::timeout;

use crate::{
    arguments::parse_short_span,
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
    /// How long to wait for the answer
    #[arg(long, value_name = "TIME", default_value = "5s", value_parser = parse_short_span)]
    within: Duration,
    /// What is shown of the answer
    #[arg(long, value_name = "WHAT", default_value = "topic", conflicts_with = "json")]
    show: Show,
    /// How its payload is shown
    #[arg(long = "payload", value_name = "FORM", default_value = "auto")]
    answer_form: Shown,
    /// Print a JSON object: short for --show json
    #[arg(long)]
    json: bool,
    #[command(flatten)]
    connection: Connection,
}

/// Carries out the command.
pub async fn run(arguments: Arguments) -> Done {
    if !arguments.connection.is_v5() {
        return Err(Failure("requests and answers are MQTT 5.0; take --protocol 5.0".into()));
    }
    let payload = arguments.envelope.form.read(&arguments.payload).map_err(Failure)?;
    let (client, mut arrivals) = arguments.connection.open().await?;
    let answered = ask(&arguments, payload, &client, &mut arrivals).await;
    client.disconnect().await;
    let (answer, took) = answered?;
    let show = if arguments.json { Show::Json } else { arguments.show };
    output::remark(format_args!("answered after {:.1} ms", took.as_secs_f64() * 1_000.0));
    output::finish(View { show, payload: arguments.answer_form }.print(&answer))
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
        let words = granted.words.as_deref().map_or_else(String::new, |words| format!(" ({})", printable(words)));
        return Err(Failure(format!(
            "the broker refuses to subscribe to {}, where the answer was wanted: {reason}{words}; name another topic by \
             --response-topic",
            printable(&place)
        )));
    }
    let began = Instant::now();
    let sent = client.publish(envelope.message(&arguments.topic, payload)).await?;
    let reason = sent.as_ref().and_then(|answer| answer.reasons.first().copied()).unwrap_or(ReasonCode::Success);
    let name = printable(&arguments.topic);
    if reason.is_error() {
        let words = sent.and_then(|answer| answer.words).map_or_else(String::new, |words| printable(&words));
        return Err(Failure(format!("the broker refused the request to {name}: {words}: {reason}")));
    }
    if reason == ReasonCode::NoMatchingSubscribers {
        return Err(Failure(format!("nobody subscribes to {name}, so nobody will answer")));
    }
    let wait = async {
        loop {
            match arrivals.next().await {
                Some(Arrival::Message(message))
                    if message.properties.correlation_data.as_deref() == Some(correlation.as_bytes()) =>
                {
                    return Ok(*message);
                }
                Some(Arrival::Message(_)) => output::remark("an answer to something else came, and is left alone"),
                Some(Arrival::Closed { words, .. }) => return Err(Failure(format!("{words}, before the answer came"))),
                None => return Err(Failure("the connection ended before the answer came".into())),
            }
        }
    };
    let left = arguments.within.saturating_sub(began.elapsed());
    match timeout(left, wait).await {
        Ok(answer) => answer.map(|answer| (answer, began.elapsed())),
        Err(_) => Err(Failure(format!(
            "no answer came within {} s; the request was taken, so whoever reads {name} is slow, or does not answer",
            arguments.within.as_secs_f32()
        ))),
    }
}

/// Twelve small letters and digits.
fn random_text() -> String {
    Alphanumeric.sample_string(&mut rand::rng(), 12).to_lowercase()
}
