//! What can go wrong for a client, in sentences that say what to try.

use std::time::Duration;

use bytestring::ByteString;
use moorfall_core::client::WishError;
use moorfall_wire::{EncodeError, ReasonCode};

/// Why there is no connection.
#[derive(Debug, thiserror::Error)]
pub enum ConnectError {
    /// The name stands for no address.
    #[error("the host {host} is not known; check the spelling, or use its address")]
    UnknownHost {
        /// The name.
        host: String,
    },
    /// The machine answered that nobody listens there.
    #[error("nothing listens on {address}; check the port, and whether the broker runs")]
    NothingListening {
        /// Host and port.
        address: String,
    },
    /// No answer in time.
    #[error(
        "{address} did not answer within {} s ({stage}); check the address, and whether a firewall is between",
        .after.as_secs_f32()
    )]
    TimedOut {
        /// Host and port.
        address: String,
        /// How long was waited.
        after: Duration,
        /// How far it came.
        stage: &'static str,
    },
    /// The network refused in another way.
    #[error("{address} can't be reached: {error}")]
    Unreachable {
        /// Host and port.
        address: String,
        /// Why.
        #[source]
        error: std::io::Error,
    },
    /// Files that TLS needs are wrong.
    #[error("{words}")]
    Files {
        /// What is wrong.
        words: String,
    },
    /// There is no TLS with the broker.
    #[error("there is no TLS with {address}: {words}")]
    Tls {
        /// Host and port.
        address: String,
        /// Why, and the remedy.
        words: String,
    },
    /// The broker opens no WebSocket.
    #[error("{address} opens no WebSocket: {words}")]
    WebSocket {
        /// Host and port.
        address: String,
        /// Why, and the remedy.
        words: String,
    },
    /// The broker does not let this client in.
    #[error("{}", refusal(.address, .identity.as_deref(), *.reason, .words.as_deref()))]
    Refused {
        /// Host and port.
        address: String,
        /// As whom.
        identity: Option<String>,
        /// Why, for a program.
        reason: ReasonCode,
        /// Why, for a person, if the broker said so.
        words: Option<ByteString>,
    },
    /// Something listens, but it does not speak this protocol, or it hung up.
    #[error("{address} did not accept the connection: {words}; {remedy}")]
    NotAccepted {
        /// Host and port.
        address: String,
        /// What happened.
        words: String,
        /// What to look at.
        remedy: &'static str,
    },
    /// CONNECT can't be written.
    #[error("the connection can't be asked for: {0}")]
    Encode(#[from] EncodeError),
}

fn refusal(address: &str, identity: Option<&str>, reason: ReasonCode, words: Option<&str>) -> String {
    let who = identity.unwrap_or("a client without identity");
    let said = words.map_or_else(String::new, |words| format!(" (it says: {words})"));
    match reason {
        ReasonCode::BadUserNameOrPassword => {
            format!(
                "{address} refused {who}: bad user name or password{said}; check both, and that the identity exists"
            )
        }
        ReasonCode::NotAuthorized => {
            format!("{address} refused {who}: not authorized{said}; sign in as an identity that may connect")
        }
        ReasonCode::UnsupportedProtocolVersion => {
            format!("{address} does not speak this version of MQTT{said}; try --protocol 3.1.1")
        }
        reason => format!("{address} refused {who}: {reason}{said}"),
    }
}

/// Why a request came to nothing.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ClientError {
    /// The connection is over.
    #[error("{words}, before the answer came")]
    Closed {
        /// Why.
        words: String,
    },
    /// The request can't be made.
    #[error(transparent)]
    Wish(#[from] WishError),
}

impl ClientError {
    pub(crate) fn no_answer() -> Self {
        Self::Closed { words: "the connection is closed".into() }
    }
}
