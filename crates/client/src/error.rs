//! What can go wrong for a client, in sentences that say what to try.

use std::time::Duration;

use bytestring::ByteString;
use moorfall_core::client::WishError;
use moorfall_wire::{EncodeError, ReasonCode};

/// Who connects: remedies are told in their terms.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum AskedBy {
    /// Somebody at a command line.
    #[default]
    Command,
    /// A bridge, by its blueprint.
    Bridge,
}

impl AskedBy {
    pub(crate) fn authority(self) -> &'static str {
        match self {
            Self::Command => "give its certificate with --authority FILE",
            Self::Bridge => "put its certificate into the service's folder for bridges, and name it as authority-file",
        }
    }

    pub(crate) fn certificate(self) -> &'static str {
        match self {
            Self::Command => "given with --certificate FILE --key FILE",
            Self::Bridge => "named as certificate-file and key-file",
        }
    }

    fn version(self) -> &'static str {
        match self {
            Self::Command => "Try --protocol 3.1.1.",
            Self::Bridge => "Write protocol = \"3.1.1\" in the bridge.",
        }
    }
}

/// Why there is no connection.
#[derive(Debug, thiserror::Error)]
pub enum ConnectError {
    /// The name stands for no address.
    #[error("Unknown host {host}. Check the spelling, or use its address.")]
    UnknownHost {
        /// The name.
        host: String,
    },
    /// The machine answered that nobody listens there.
    #[error("Nothing listens on {address}. Check the port, and that the broker runs.")]
    NothingListening {
        /// Host and port.
        address: String,
    },
    /// No answer in time.
    #[error(
        "{address} did not respond within {} s ({stage}). Check the address, and whether a firewall blocks it.",
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
    #[error("{address} can't be reached: {error}. Check the address and the network.")]
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
    #[error("TLS with {address} failed: {words}.")]
    Tls {
        /// Host and port.
        address: String,
        /// Why, and the remedy.
        words: String,
    },
    /// The broker opens no WebSocket.
    #[error("{address} did not open a WebSocket: {words}.")]
    WebSocket {
        /// Host and port.
        address: String,
        /// Why, and the remedy.
        words: String,
    },
    /// The broker does not let this client in.
    #[error("{}", refusal(.address, .identity.as_deref(), (*.reason, .reason_string.as_deref()), *.asked_by))]
    Refused {
        /// Host and port.
        address: String,
        /// As whom.
        identity: Option<String>,
        /// Why, for a program.
        reason: ReasonCode,
        /// Why, for a person, if the broker said so.
        reason_string: Option<ByteString>,
        /// Who wanted in.
        asked_by: AskedBy,
    },
    /// Something listens, but it does not speak this protocol, or it hung up.
    #[error("{address} did not accept the connection: {words}. {remedy}")]
    NotAccepted {
        /// Host and port.
        address: String,
        /// What happened.
        words: String,
        /// What to look at.
        remedy: &'static str,
    },
    /// CONNECT can't be written.
    #[error("The connection request is invalid: {0}.")]
    Encode(#[from] EncodeError),
}

fn refusal(
    address: &str,
    identity: Option<&str>,
    (reason, reason_string): (ReasonCode, Option<&str>),
    asked_by: AskedBy,
) -> String {
    let who = identity.unwrap_or("an anonymous client");
    let said = reason_string.map_or_else(String::new, |words| format!(" {words}"));
    match reason {
        ReasonCode::BadUserNameOrPassword => {
            format!(
                "{address} refused {who} (Bad User Name or Password, 0x86).{said} Check both, and that the identity \
                 exists."
            )
        }
        ReasonCode::NotAuthorized => {
            format!("{address} refused {who} (Not authorized, 0x87).{said} Connect as an identity that is allowed to.")
        }
        ReasonCode::UnsupportedProtocolVersion => {
            format!("{address} does not support this version of MQTT.{said} {}", asked_by.version())
        }
        reason => format!("{address} refused {who} ({}).{said}", reason.coded()),
    }
}

/// Why a request came to nothing.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ClientError {
    /// The connection is over.
    #[error("{words} No response arrived before that.")]
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
        Self::Closed { words: "The connection is closed.".into() }
    }
}
