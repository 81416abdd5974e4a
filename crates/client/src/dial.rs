//! A connection that is signed in and that no state machine of a client's looks after: for whoever carries packets on.

use std::io;

use bytes::{Buf, BytesMut};
use bytestring::ByteString;
use moorfall_core::{Remote, Scheme};
use moorfall_wire::{ConnAck, Connect, Frame, MAX_PACKET_SIZE, Packet, ReasonCode};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    time::{Instant, timeout_at},
};

use crate::{ConnectError, Options, transport};

pub use crate::transport::Layer;

/// Everything below MQTT, and how far it came is what `stage` says.
pub(crate) async fn reach(options: &Options, stage: &mut &'static str) -> Result<Box<dyn Layer>, ConnectError> {
    let remote = &options.remote;
    let addresses = transport::look_up(remote).await?;
    let stream = transport::dial(remote, &addresses).await?;
    if !remote.scheme.is_secure() {
        if !remote.scheme.is_web_socket() {
            return Ok(Box::new(stream));
        }
        *stage = "connected, but no WebSocket opened";
        return Ok(Box::new(transport::upgrade(remote, stream).await?));
    }
    *stage = "connected, but the TLS handshake did not finish";
    let stream = transport::secure(remote, &options.trust, stream, options.asked_by).await?;
    if !remote.scheme.is_web_socket() {
        return Ok(Box::new(stream));
    }
    *stage = "TLS established, but no WebSocket opened";
    Ok(Box::new(transport::upgrade(remote, stream).await?))
}

/// A connection that the broker has accepted.
pub struct Dialled {
    /// What carries packets.
    pub stream: Box<dyn Layer>,
    /// What the broker said.
    pub connack: ConnAck,
    /// What came right behind that.
    pub buffer: BytesMut,
}

impl std::fmt::Debug for Dialled {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Dialled").field("connack", &self.connack).finish_non_exhaustive()
    }
}

/// Reaches a broker and sends this CONNECT, in place of the one that the options would make.
///
/// # Errors
///
/// The broker can't be reached, does not let the client in, or takes longer than the options say.
pub async fn dial(options: &Options, connect: &Connect) -> Result<Dialled, ConnectError> {
    let deadline = Instant::now() + options.connect_within;
    let timed_out =
        |stage| ConnectError::TimedOut { address: options.remote.address(), after: options.connect_within, stage };
    let mut stage = "no connection";
    let reached = timeout_at(deadline, reach(options, &mut stage)).await;
    let stream = reached.map_err(|_| timed_out(stage))??;
    let signed_in = timeout_at(deadline, sign_in(stream, options, connect)).await;
    signed_in.map_err(|_| timed_out("connected, but no response to CONNECT"))?
}

/// The same over what leads to a broker already.
///
/// # Errors
///
/// The broker does not let the client in, or the connection ends.
pub async fn dial_over(stream: Box<dyn Layer>, options: &Options, connect: &Connect) -> Result<Dialled, ConnectError> {
    sign_in(stream, options, connect).await
}

/// Whether a broker can be reached, without signing in.
///
/// # Errors
///
/// It can't.
pub async fn reaches(options: &Options) -> Result<(), ConnectError> {
    let mut stage = "no connection";
    let reached = tokio::time::timeout(options.connect_within, reach(options, &mut stage)).await;
    let timed_out = || ConnectError::TimedOut {
        address: options.remote.address(),
        after: options.connect_within,
        stage: "no connection",
    };
    reached.map_err(|_| timed_out())?.map(drop)
}

async fn sign_in(mut stream: Box<dyn Layer>, options: &Options, connect: &Connect) -> Result<Dialled, ConnectError> {
    let (remote, version) = (&options.remote, connect.version);
    let mut bytes = BytesMut::new();
    Packet::Connect(Box::new(connect.clone())).encode(version, &mut bytes)?;
    let broke = |error: io::Error| broken(options, &error);
    while bytes.has_remaining() {
        stream.write_buf(&mut bytes).await.map_err(broke)?;
    }
    stream.flush().await.map_err(broke)?;
    let mut buffer = BytesMut::new();
    loop {
        if stream.read_buf(&mut buffer).await.map_err(broke)? == 0 {
            return Err(closed(remote));
        }
        let decoded = Frame::split(&mut buffer, MAX_PACKET_SIZE)
            .and_then(|frame| frame.map(|frame| Packet::decode(frame, version)).transpose());
        match decoded {
            Ok(None) => {}
            Ok(Some(Packet::ConnAck(connack))) if connack.reason.is_error() => {
                return Err(refused(options, connack.reason, connack.properties.reason_string));
            }
            Ok(Some(Packet::ConnAck(connack))) => return Ok(Dialled { stream, connack: *connack, buffer }),
            Ok(Some(other)) => return Err(not_accepted(remote, format!("it sent {} first", other.packet_type()))),
            Err(error) => return Err(not_accepted(remote, format!("it sent something else than MQTT ({error})"))),
        }
    }
}

/// What is said when something other than a refusal comes in place of CONNACK.
pub(crate) fn not_accepted(remote: &Remote, words: String) -> ConnectError {
    let remedy = match remote.scheme {
        Scheme::Mqtt => "Check that it is an MQTT port without TLS.",
        Scheme::Mqtts => "Check that it is an MQTT port.",
        Scheme::Ws | Scheme::Wss => "Check that this path serves MQTT.",
    };
    ConnectError::NotAccepted { address: remote.address(), words, remedy }
}

/// The connection breaks before CONNACK.
pub(crate) fn broken(options: &Options, error: &io::Error) -> ConnectError {
    let remote = &options.remote;
    match transport::tls_fault(error, &remote.host, options.asked_by) {
        Some(words) => ConnectError::Tls { address: remote.address(), words },
        None => not_accepted(remote, error.to_string()),
    }
}

/// The connection ends before CONNACK.
pub(crate) fn closed(remote: &Remote) -> ConnectError {
    not_accepted(remote, "it closed the connection without a response".into())
}

/// CONNACK refuses.
pub(crate) fn refused(options: &Options, reason: ReasonCode, reason_string: Option<ByteString>) -> ConnectError {
    let Options { remote, asked_by, .. } = options;
    let (address, identity) = (remote.address(), remote.identity.clone());
    ConnectError::Refused { address, identity, reason, reason_string, asked_by: *asked_by }
}
