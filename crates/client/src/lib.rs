//! An MQTT client for Tokio: what the command line, the simulated fleet and the tests use.
//!
//! [`Client::connect`] gives a handle for requests and a stream of what arrives. A task of its own keeps the
//! connection alive; it ends when the connection does, or when the handle and the stream are dropped.

mod connection;
mod dial;
mod error;
mod examine;
mod transport;
mod trust;

use std::time::Duration;

use bytes::Bytes;
use bytestring::ByteString;
use moorfall_wire::{
    ConnAck, Connect, ConnectProperties, PacketId, ProtocolVersion, Publish, ReasonCode, SubscribeProperties,
    Subscription, TopicFilter, UserProperty, Will,
};
use tokio::{
    io::{AsyncRead, AsyncWrite},
    sync::{mpsc, oneshot},
};

use self::connection::{Command, Desk, Request};

use moorfall_core::{JUDGED, ONLY_WHERE};
pub use moorfall_core::{Remote, RemoteError, Scheme, client::ClientState};

pub use self::{
    dial::{Dialled, Layer, dial, dial_over, reaches},
    error::{AskedBy, ClientError, ConnectError},
    examine::{Examination, Failed, Found, Stage, Step, examine},
    trust::{Trust, choose_cryptography},
};

/// How to connect.
#[derive(Clone)]
pub struct Options {
    /// Where, and as whom.
    pub remote: Remote,
    /// Whom to trust, where TLS carries MQTT.
    pub trust: Trust,
    /// The password, if one is needed.
    pub password: Option<Bytes>,
    /// The protocol version.
    pub version: ProtocolVersion,
    /// Client identifier; empty asks the broker for one.
    pub client_id: String,
    /// Longest silence, seconds; 0 switches the check off.
    pub keep_alive: u16,
    /// Whether an earlier session of this client identifier is discarded.
    pub clean_start: bool,
    /// Seconds that the session outlives its connection; `u32::MAX` is for ever. In 3.1.1 it is kept for ever or, with
    /// a clean start, not at all.
    pub session_expiry: u32,
    /// The message that the broker publishes if the connection breaks.
    pub will: Option<Will>,
    /// How long connecting may take in all.
    pub connect_within: Duration,
    /// Who connects.
    pub asked_by: AskedBy,
}

impl Options {
    /// MQTT 5.0, a client identifier by the broker, a keep alive of 30 s, ten seconds to connect.
    pub fn new(remote: Remote) -> Self {
        Self {
            remote,
            trust: Trust::default(),
            password: None,
            version: ProtocolVersion::V5,
            client_id: String::new(),
            keep_alive: 30,
            clean_start: true,
            session_expiry: 0,
            will: None,
            connect_within: Duration::from_secs(10),
            asked_by: AskedBy::Command,
        }
    }

    fn connect(&self) -> Connect {
        let mut properties = ConnectProperties::default();
        if self.version == ProtocolVersion::V5 && self.session_expiry > 0 {
            properties.session_expiry_interval = Some(self.session_expiry);
        }
        Connect {
            properties,
            clean_start: self.clean_start,
            keep_alive: self.keep_alive,
            will: self.will.clone(),
            user_name: self.remote.identity.as_deref().map(Into::into),
            password: self.password.clone(),
            ..Connect::new(self.version, self.client_id.as_str())
        }
    }
}

impl std::fmt::Debug for Options {
    /// Leaves the password out.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Options")
            .field("remote", &self.remote)
            .field("version", &self.version)
            .field("client_id", &self.client_id)
            .finish_non_exhaustive()
    }
}

/// The broker's answer to a request.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Answer {
    /// One for a publish, one for each filter otherwise; none for an UNSUBSCRIBE of 3.1.1.
    pub reasons: Vec<ReasonCode>,
    /// Why, for a person, if the broker said so.
    pub reason_string: Option<ByteString>,
    /// What else it said, of a subscription.
    pub user_properties: Vec<UserProperty>,
}

impl Answer {
    /// Whether the broker judges the condition of a subscription.
    pub fn is_judged(&self) -> bool {
        self.user_properties.iter().any(|property| &*property.name == ONLY_WHERE && &*property.value == JUDGED)
    }
}

/// What arrives.
#[derive(Debug)]
pub enum Arrival {
    /// A message.
    Message(Box<Publish>),
    /// The connection is over; nothing follows.
    Closed {
        /// Why, in a sentence.
        words: String,
        /// The broker's reason, if it has said one (5.0).
        reason: Option<ReasonCode>,
    },
}

/// A connected client. Clones share the connection.
#[derive(Clone, Debug)]
pub struct Client {
    desk: Desk,
    connack: std::sync::Arc<ConnAck>,
}

/// What arrives for a [`Client`], in order.
///
/// It holds a bounded number of messages; when it is full nothing more is read from the connection.
#[derive(Debug)]
pub struct Arrivals {
    receiver: mpsc::Receiver<Arrival>,
    state: oneshot::Receiver<ClientState>,
}

impl Arrivals {
    /// The next arrival; `None` after [`Arrival::Closed`]. Nothing is lost when the future is dropped.
    pub async fn next(&mut self) -> Option<Arrival> {
        self.receiver.recv().await
    }

    /// Waits until the connection is over and gives what outlives it, for [`Client::resume`]. What has arrived and was
    /// not taken is lost.
    pub async fn into_state(self) -> ClientState {
        drop(self.receiver);
        self.state.await.unwrap_or_default()
    }
}

/// The answer to a message that was sent.
#[derive(Debug)]
pub struct PendingAnswer(oneshot::Receiver<Result<Option<Answer>, ClientError>>);

impl PendingAnswer {
    /// Waits for it; there is none at QoS 0.
    pub async fn answer(self) -> Result<Option<Answer>, ClientError> {
        self.0.await.map_err(|_| ClientError::no_answer())?
    }
}

impl Client {
    /// Connects and signs in.
    pub async fn connect(options: &Options) -> Result<(Self, Arrivals), ConnectError> {
        Self::resume(options, ClientState::default()).await
    }

    /// Connects and goes on with an earlier session, if the broker still knows it: what was not acknowledged is sent
    /// again, and QoS 2 messages that were received come no second time.
    pub async fn resume(options: &Options, state: ClientState) -> Result<(Self, Arrivals), ConnectError> {
        let (desk, connack, receiver, state) = connection::open(options, options.connect(), state).await?;
        Ok((Self { desk, connack: std::sync::Arc::new(connack) }, Arrivals { receiver, state }))
    }

    /// Signs in over what leads to a broker already: the remote's address is only what failures name.
    pub async fn connect_over(
        stream: impl AsyncRead + AsyncWrite + Send + Unpin + 'static,
        options: &Options,
    ) -> Result<(Self, Arrivals), ConnectError> {
        let (began, deadline) = (std::time::Instant::now(), tokio::time::Instant::now() + options.connect_within);
        let (stream, state) = (Box::new(stream), ClientState::default());
        let opened = connection::open_over(stream, options, options.connect(), state, began, deadline).await?;
        let (desk, connack, receiver, state) = opened;
        Ok((Self { desk, connack: std::sync::Arc::new(connack) }, Arrivals { receiver, state }))
    }

    /// What the broker said when it accepted the connection.
    pub fn connack(&self) -> &ConnAck {
        &self.connack
    }

    /// Sends a message. At QoS 1 and 2 the answer is awaited; at QoS 0 there is none, and the message is on its way.
    pub async fn publish(&self, publish: Publish) -> Result<Option<Answer>, ClientError> {
        self.request(Request::Publish(Box::new(publish))).await
    }

    /// Sends a message and does not wait for its answer. Messages that are begun one after the other are sent so.
    pub async fn start_publish(&self, publish: Publish) -> Result<PendingAnswer, ClientError> {
        let (reply, answer) = oneshot::channel();
        let request = Request::Publish(Box::new(publish));
        self.desk.requests.send((request, reply)).await.map_err(|_| ClientError::no_answer())?;
        Ok(PendingAnswer(answer))
    }

    /// Asks for messages.
    pub async fn subscribe(&self, subscriptions: Vec<Subscription>) -> Result<Answer, ClientError> {
        let properties = SubscribeProperties::default();
        self.request(Request::Subscribe(subscriptions, properties)).await?.ok_or_else(ClientError::no_answer)
    }

    /// Asks for those messages alone of which an expression is true. A broker that does not know the wish sends all: the
    /// answer says whether it does.
    pub async fn subscribe_where(&self, subscriptions: Vec<Subscription>, text: &str) -> Result<Answer, ClientError> {
        let asked = UserProperty { name: ONLY_WHERE.into(), value: text.into() };
        let properties = SubscribeProperties { user_properties: vec![asked], ..SubscribeProperties::default() };
        self.request(Request::Subscribe(subscriptions, properties)).await?.ok_or_else(ClientError::no_answer)
    }

    /// Asks for no more messages.
    pub async fn unsubscribe(&self, filters: Vec<TopicFilter>) -> Result<Answer, ClientError> {
        self.request(Request::Unsubscribe(filters)).await?.ok_or_else(ClientError::no_answer)
    }

    /// Asks whether the broker is there, and waits for its answer. It does not wait for requests before it.
    pub async fn ping(&self) -> Result<(), ClientError> {
        let (reply, answer) = oneshot::channel();
        self.desk.commands.send(Command::Ping(reply)).await.map_err(|_| ClientError::no_answer())?;
        answer.await.map_err(|_| ClientError::no_answer())?.map(drop)
    }

    /// Says goodbye and waits until the connection is closed. What is not acknowledged is not waited for.
    pub async fn disconnect(&self) {
        let (done, closed) = oneshot::channel();
        if self.desk.commands.send(Command::Disconnect(done)).await.is_ok() {
            // An error means that the connection is gone already.
            let _ = closed.await;
        }
    }

    /// Drops the connection without a goodbye, as a broken link does: the broker publishes the will.
    pub async fn abandon(&self) {
        // An error means that the connection is gone already.
        let _ = self.desk.commands.send(Command::Abandon).await;
    }

    async fn request(&self, request: Request) -> Result<Option<Answer>, ClientError> {
        let (reply, answer) = oneshot::channel();
        self.desk.requests.send((request, reply)).await.map_err(|_| ClientError::no_answer())?;
        answer.await.map_err(|_| ClientError::no_answer())?
    }
}

/// Names what waits for an answer.
type Waiting = std::collections::HashMap<PacketId, oneshot::Sender<Result<Option<Answer>, ClientError>>>;
