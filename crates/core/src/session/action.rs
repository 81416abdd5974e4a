//! What a session asks for, and what it is answered.

use std::sync::Arc;

use bytes::Bytes;
use bytestring::ByteString;
use moorfall_wire::{PacketId, ReasonCode, TopicFilter};

use super::{ended::Ended, not_accepted::NotAccepted, refusal::Refusal};
use crate::{Delivery, Granted, Message, access::Access, owned::NotOwner, retained::RetainedFull};

/// What a client says of itself, for checking.
#[derive(Clone)]
pub struct Credentials {
    /// Its client identifier, or the one that it is assigned.
    pub client_id: ByteString,
    /// User name, if given.
    pub user_name: Option<ByteString>,
    /// Password, if given.
    pub password: Option<Bytes>,
}

impl std::fmt::Debug for Credentials {
    /// Leaves the password out.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Credentials")
            .field("client_id", &self.client_id)
            .field("user_name", &self.user_name)
            .finish_non_exhaustive()
    }
}

/// The answer to [`Action::Authenticate`].
#[derive(Clone, Debug)]
pub enum Verdict {
    /// It is who it says, and may do this.
    Known(Access),
    /// It is not accepted, for this reason.
    Refused(NotAccepted),
}

/// Something that a session which outlives its connection has to keep on disk.
#[derive(Clone, Debug)]
pub enum Keep {
    /// A QoS 2 message of the client was released, so its identifier is free.
    Forget(PacketId),
    /// A message goes out under this identifier.
    Assign(PacketId, Delivery),
    /// The client has the QoS 2 message; PUBREL follows.
    Release(PacketId, Delivery),
    /// The message is done with: acknowledged, or withheld.
    Done(Delivery),
}

/// What the session wants done, in order.
#[derive(Debug)]
#[must_use]
pub enum Action {
    /// Find out who this is; answer with [`Session::handle_verdict`].
    Authenticate(Box<Credentials>),
    /// End an earlier connection of this client identifier and wait until it is gone, find the session or begin one;
    /// then [`Session::handle_admitted`], or [`Session::handle_not_admitted`] if that can't be.
    Admit {
        /// The client identifier.
        client_id: ByteString,
        /// Whose client it is.
        identity: Arc<str>,
        /// Whether an earlier session is discarded.
        clean_start: bool,
        /// Seconds that the session outlives its connection.
        expiry: u32,
    },
    /// Keep (if it is to be retained) and route this message. If there is a packet identifier answer with
    /// [`Session::handle_routed`] once what that promises is safe; a QoS 2 identifier is part of it.
    Route {
        /// The message.
        message: Arc<Message>,
        /// Present when the publisher waits for an acknowledgement.
        packet_id: Option<PacketId>,
    },
    /// Put this subscription into the index, then send the retained messages if asked.
    Subscribe {
        /// Which topics.
        filter: TopicFilter,
        /// How they are delivered.
        granted: Granted,
        /// Whether retained messages are to be sent.
        send_retained: bool,
    },
    /// Take this subscription out of the index.
    Unsubscribe(TopicFilter),
    /// Keep this on disk. Only of sessions that outlive their connection.
    Keep(Keep),
    /// Answer with [`Session::handle_committed`] once everything that earlier actions asked to be kept is safe.
    Commit(u64),
    /// Something was refused.
    Refused(Box<Refusal>),
    /// The client has answered a message whose journey is recorded: it has it, or says why it does not take it.
    Acknowledged {
        /// The journey's number.
        journey: u64,
        /// The client's reason code; success of 3.1.1, which has none.
        reason: ReasonCode,
    },
    /// Write what is outgoing, close the connection, and take [`Session::part`].
    Close(Box<Ended>),
}

/// How an accepted message was routed.
#[derive(Clone, Debug, PartialEq)]
pub enum Routed {
    /// To this many sessions.
    To(usize),
    /// To some, none of which had room for it in its queue.
    QueuesFull,
    /// Not at all: it was to be retained and there is no room.
    RetainedFull(RetainedFull),
    /// Not at all: another client owns the topic.
    NotOwner(NotOwner),
}
