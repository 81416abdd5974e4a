//! Why a link is down, or why it does not carry as it should.

use std::{io, path::PathBuf, time::Duration};

use moorfall_client::ConnectError;
use moorfall_core::bridge::relay::{Over, Said};
use moorfall_wire::PacketType;

use crate::inside::NotInside;

/// Why a link is down.
#[derive(Debug, thiserror::Error)]
pub enum LinkFault {
    /// It could not be made.
    #[error(transparent)]
    Connect(#[from] ConnectError),
    /// The password can't be read.
    #[error("The secret file {path} can't be read: {error}. Put it there, and let the service read it.")]
    Secret {
        /// Which file.
        path: PathBuf,
        /// Why.
        #[source]
        error: io::Error,
    },
    /// The remote let the bridge in and closed the connection at once.
    #[error(
        "{remote} accepted the connection and closed it after {} ms without a reason. Perhaps another client there has the client identifier {client_id}, or the remote does not allow what the bridge asks for.",
        .after.as_millis()
    )]
    ClosedAtOnce {
        /// Where.
        remote: String,
        /// Our client identifier there.
        client_id: String,
        /// How long it was open.
        after: Duration,
    },
    /// The connection ended without a word.
    #[error("{remote} closed the connection.")]
    Closed {
        /// Where.
        remote: String,
    },
    /// The connection broke.
    #[error("The connection to {remote} broke: {error}.")]
    Broke {
        /// Where.
        remote: String,
        /// How.
        #[source]
        error: io::Error,
    },
    /// The remote said goodbye.
    #[error("{remote} ended the connection: {}.", in_words(.said))]
    Goodbye {
        /// Where.
        remote: String,
        /// What it said.
        said: Said,
    },
    /// It answers no ping.
    #[error("{remote} did not answer a ping for {} s. Check the network between.", .within.as_secs())]
    Silent {
        /// Where.
        remote: String,
        /// How long.
        within: Duration,
    },
    /// It breaks the protocol.
    #[error("{remote} sent {packet} where the protocol does not allow it.")]
    NotAllowed {
        /// Where.
        remote: String,
        /// What.
        packet: PacketType,
    },
    /// It breaks the protocol with an alias.
    #[error("{remote} used a topic alias that it never gave.")]
    Alias {
        /// Where.
        remote: String,
    },
    /// It sends what is no packet.
    #[error("{remote} sent something that is not MQTT: {words}.")]
    Malformed {
        /// Where.
        remote: String,
        /// What is wrong.
        words: String,
    },
    /// It did not answer SUBSCRIBE.
    #[error("{remote} did not answer SUBSCRIBE within {} s.", .within.as_secs())]
    NotSubscribed {
        /// Where.
        remote: String,
        /// How long was waited.
        within: Duration,
    },
    /// This broker ended the session of the bridge.
    #[error("This broker ended the session of the bridge: {0}")]
    Here(String),
    /// There is no room for the bridge's clients here.
    #[error("This broker has no room for the clients of the bridge. Raise `connections` in [limits] of moorfall.toml.")]
    NoRoom,
    /// What is known of the bridge can't be read or written.
    #[error("What is known of the bridge can't be read from the database: {0}")]
    Store(#[from] moorfall_store::StoreError),
}

impl From<NotInside> for LinkFault {
    fn from(error: NotInside) -> Self {
        match error {
            NotInside::NoRoom => Self::NoRoom,
            NotInside::Refused(error) => Self::Connect(error),
        }
    }
}

impl LinkFault {
    /// What a relay found.
    pub(super) fn of(over: Over, remote: &str, silence: Duration) -> Self {
        let remote = remote.to_owned();
        match over {
            Over::Goodbye(said) => Self::Goodbye { remote, said },
            Over::NotAllowed(packet) => Self::NotAllowed { remote, packet },
            Over::Alias => Self::Alias { remote },
            Over::Silent => Self::Silent { remote, within: silence },
        }
    }
}

/// A reason with its words.
pub(super) fn in_words(said: &Said) -> String {
    match &said.words {
        Some(words) => format!("{} ({})", words.trim_end_matches('.'), said.reason.coded()),
        None => said.reason.coded(),
    }
}
