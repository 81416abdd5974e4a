//! Journeys of messages, tried and recorded.

use moorfall_core::plan::Agreement;
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::{
    derived::DerivedTrialOutcome,
    design::AccessAnswer,
    owners::{NotOwnerView, OwnerTrial},
    topics::DriftKind,
};

/// What the plan says of a message.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PlanVerdict {
    /// Whether anything is planned.
    pub has_plan: bool,
    /// The planned path of the topic; empty if it is not planned.
    pub path: String,
    /// What the message breaks of the plan; null if nothing.
    pub breach: Option<DriftKind>,
    /// Whether the message is refused for that.
    pub refused: bool,
    /// All of that in a sentence.
    pub explanation: String,
}

/// What a session gets of a message.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Outcome {
    /// It is sent at once, or as soon as what waits before it; of a recorded message, it was sent.
    Sent,
    /// It waits until the client is back, or has taken what comes before it.
    Queued,
    /// The client has said that it has it. Only of a recorded message.
    Acknowledged,
    /// The client has said that it does not take it. Only of a recorded message.
    Refused,
    /// It is not sent.
    Withheld,
}

impl std::fmt::Display for Outcome {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Self::Sent => "sent",
            Self::Queued => "queued",
            Self::Acknowledged => "acknowledged",
            Self::Refused => "refused",
            Self::Withheld => "withheld",
        })
    }
}

/// One session that a message leads to.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RecipientView {
    /// Its client identifier.
    pub client_id: String,
    /// Whose it is.
    pub identity: String,
    /// By which shared subscription; empty if it is not by one. Of a message that was not published, one of how many.
    pub shared: String,
    /// The quality of service of the delivery.
    pub qos: u8,
    /// What it gets.
    pub outcome: Outcome,
    /// Why, in a sentence.
    pub explanation: String,
    /// What it becomes on the other side of a bridge, whose session this is; null of other sessions.
    pub becomes: Option<String>,
    /// Milliseconds from the broker's taking the message to its sending it; null if it was not sent.
    pub sent_after: Option<f64>,
    /// Milliseconds from then to the client's answer; null if there was none.
    pub answered_after: Option<f64>,
}

/// What would become of a message.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Journey {
    /// Whether the broker would accept it.
    pub accepted: bool,
    /// The verdict in a sentence.
    pub explanation: String,
    /// Whether it may be published, and by which rule.
    pub access: AccessAnswer,
    /// What the plan says.
    pub plan: PlanVerdict,
    /// Whether its publisher would be heard; null if its topic has no owners.
    pub owned: Option<OwnerTrial>,
    /// What it would do to the retained message of its topic; empty if nothing.
    pub retained: String,
    /// How many sessions it leads to.
    pub total: u64,
    /// The first thousand of them.
    pub recipients: Vec<RecipientView>,
    /// What derived topics of the design would make of it.
    pub makes: Vec<DerivedTrialOutcome>,
}

impl From<Agreement> for PlanVerdict {
    fn from(agreement: Agreement) -> Self {
        let breach = match &agreement {
            Agreement::Breaks(_, broken) => Some(broken.fault.breach().into()),
            Agreement::Unplanned => Some(DriftKind::Unplanned),
            Agreement::NoPlan | Agreement::AsPlanned(_) => None,
        };
        Self {
            has_plan: agreement != Agreement::NoPlan,
            path: agreement.path().unwrap_or_default().to_owned(),
            breach,
            refused: agreement.is_refused(),
            explanation: agreement.to_string(),
        }
    }
}

/// A recording of live messages. At most 500 of them are held, the newest, and at most 100 of each second.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RecordingView {
    /// Its number, from 1.
    pub number: u64,
    /// Messages whose topics this filter matches.
    pub filter: String,
    /// Who asked for it.
    pub by: String,
    /// When it began.
    #[serde(with = "time::serde::rfc3339")]
    pub began_at: OffsetDateTime,
    /// When it ends, or has ended.
    #[serde(with = "time::serde::rfc3339")]
    pub ends_at: OffsetDateTime,
    /// Whether it goes on.
    pub running: bool,
    /// Messages that the filter matched.
    pub seen: u64,
    /// How many of them were not recorded, because they were too many in their second.
    pub left_out: u64,
    /// How many are held.
    pub held: u64,
}

/// A recorded message.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RecordedMessage {
    /// Its number.
    pub number: u64,
    /// When the broker took it.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// Its topic.
    pub topic: String,
    /// Whose it is.
    pub identity: String,
    /// The client identifier of its publisher; empty if no client published it.
    pub client_id: String,
    /// The publisher's quality of service.
    pub qos: u8,
    /// Whether it was to be retained.
    pub retain: bool,
    /// Bytes of its payload.
    pub bytes: u64,
    /// The beginning of its payload; null if that is no text.
    pub preview: Option<String>,
    /// Whether the payload goes on after that.
    pub more: bool,
    /// Why the broker did not take it; empty if it did.
    pub refused: String,
    /// Why nobody gets it; null unless another client owns its topic.
    pub not_owner: Option<NotOwnerView>,
    /// What the rules say of it; empty of what no client publishes now, such as a Will Message.
    pub access: String,
    /// What the plan says; null of a will, and of what the service itself publishes.
    pub plan: Option<PlanVerdict>,
    /// Sessions that it leads to.
    pub recipients: u64,
    /// Of the first hundred of them, how many wait for it.
    pub queued: u64,
    /// How many it was sent to that have not acknowledged it, or need not.
    pub sent: u64,
    /// How many have acknowledged it.
    pub acknowledged: u64,
    /// How many do not get it, or do not take it.
    pub withheld: u64,
}

/// A recording and the messages that it holds.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RecordingDetails {
    /// The recording.
    pub recording: RecordingView,
    /// The newest of its messages first.
    pub messages: Vec<RecordedMessage>,
}

/// What became of a recorded message.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RecordedJourney {
    /// The message.
    pub message: RecordedMessage,
    /// The first hundred sessions that it leads to.
    pub recipients: Vec<RecipientView>,
}
