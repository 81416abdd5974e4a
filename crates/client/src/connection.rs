//! The task that owns the socket.

use std::{
    collections::VecDeque,
    future::poll_fn,
    io,
    pin::Pin,
    task::{Poll, ready},
    time::{Duration, Instant},
};

use bytes::{Buf, BytesMut};
use moorfall_core::{
    Time,
    client::{ClientSession, ClientState, Event, WishError},
};
use moorfall_wire::{
    ConnAck, Connect, Frame, MAX_PACKET_SIZE, Packet, PacketId, Publish, SubscribeProperties, Subscription, TopicFilter,
};
use tokio::{
    io::{AsyncReadExt, AsyncWrite, AsyncWriteExt},
    sync::{mpsc, oneshot},
    time::{sleep_until, timeout, timeout_at},
};
use tokio_util::io::poll_read_buf;

use crate::{
    Answer, Arrival, ClientError, ConnectError, Options, Waiting,
    dial::{broken, closed, not_accepted, reach, refused},
    transport::Layer,
};

/// Messages that wait for the program; beyond it nothing is read.
const ARRIVALS: usize = 1_024;

/// Requests that wait to be sent.
const REQUESTS: usize = 256;

/// Commands that wait to be seen.
const COMMANDS: usize = 16;

/// Bytes that may wait to be written before requests have to wait.
const WRITE_AHEAD: usize = 256 * 1024;

/// How long a goodbye may take.
const FAREWELL: Duration = Duration::from_secs(2);

pub(crate) type Reply = oneshot::Sender<Result<Option<Answer>, ClientError>>;

/// What takes a place in the window, and waits for one.
pub(crate) enum Request {
    Publish(Box<Publish>),
    Subscribe(Vec<Subscription>, SubscribeProperties),
    Unsubscribe(Vec<TopicFilter>),
}

/// What waits for no place.
pub(crate) enum Command {
    Ping(Reply),
    Disconnect(oneshot::Sender<()>),
    Abandon,
}

/// The ways to the task.
#[derive(Clone, Debug)]
pub(crate) struct Desk {
    pub(crate) requests: mpsc::Sender<(Request, Reply)>,
    pub(crate) commands: mpsc::Sender<Command>,
}

struct Inbox {
    requests: mpsc::Receiver<(Request, Reply)>,
    commands: mpsc::Receiver<Command>,
}

type Opened = (Desk, ConnAck, mpsc::Receiver<Arrival>, oneshot::Receiver<ClientState>);

/// Connects, waits for CONNACK, and leaves the rest to a task.
pub(crate) async fn open(options: &Options, connect: Connect, state: ClientState) -> Result<Opened, ConnectError> {
    let began = Instant::now();
    let deadline = tokio::time::Instant::now() + options.connect_within;
    let address = options.remote.address();
    let timed_out = |stage| ConnectError::TimedOut { address: address.clone(), after: options.connect_within, stage };
    let mut stage = "no connection";
    let reached = timeout_at(deadline, reach(options, &mut stage)).await;
    let stream = reached.map_err(|_| timed_out(stage))??;
    open_over(stream, options, connect, state, began, deadline).await
}

/// Signs in over what was reached.
pub(crate) async fn open_over(
    stream: Box<dyn Layer>,
    options: &Options,
    connect: Connect,
    state: ClientState,
    began: Instant,
    deadline: tokio::time::Instant,
) -> Result<Opened, ConnectError> {
    let address = options.remote.address();
    let timed_out = |stage| ConnectError::TimedOut { address: address.clone(), after: options.connect_within, stage };
    let mut task = Task {
        stream,
        unflushed: false,
        session: ClientSession::resume(connect, state, Time::default())?,
        buffer: BytesMut::new(),
        began,
        waiting: Waiting::default(),
        pings: VecDeque::new(),
    };
    let connack = timeout_at(deadline, task.sign_in(options))
        .await
        .map_err(|_| timed_out("connected, but no response to CONNECT"))??;
    let (requests, request_receiver) = mpsc::channel(REQUESTS);
    let (commands, command_receiver) = mpsc::channel(COMMANDS);
    let inbox = Inbox { requests: request_receiver, commands: command_receiver };
    let (arrivals, arrival_receiver) = mpsc::channel(ARRIVALS);
    let (state, state_receiver) = oneshot::channel();
    tokio::spawn(async move {
        task.run(inbox, arrivals).await;
        // Whoever connected may not care.
        let _ = state.send(task.session.into_state());
    });
    Ok((Desk { requests, commands }, connack, arrival_receiver, state_receiver))
}

struct Task {
    stream: Box<dyn Layer>,
    /// A layer may hold back what it was given.
    unflushed: bool,
    session: ClientSession,
    buffer: BytesMut,
    began: Instant,
    waiting: Waiting,
    /// Who waits for PINGRESP.
    pings: VecDeque<Reply>,
}

enum Happening {
    Read(io::Result<usize>),
    Written(io::Result<usize>),
    Request(Option<(Request, Reply)>),
    Command(Command),
    Due,
    Unheard,
}

impl Task {
    fn now(&self) -> Time {
        Time::from_micros(u64::try_from(self.began.elapsed().as_micros()).unwrap_or(u64::MAX))
    }

    async fn sign_in(&mut self, options: &Options) -> Result<ConnAck, ConnectError> {
        let remote = &options.remote;
        loop {
            self.flush().await.map_err(|error| broken(options, &error))?;
            let count = self.stream.read_buf(&mut self.buffer).await.map_err(|error| broken(options, &error))?;
            if count == 0 {
                return Err(closed(remote));
            }
            self.handle_one_packet();
            match self.session.poll_event() {
                None => {}
                Some(Event::Connected(connack)) => return Ok(*connack),
                Some(Event::Refused { reason, reason_string }) => return Err(refused(options, reason, reason_string)),
                Some(Event::Closed { words, .. }) => return Err(not_accepted(remote, words)),
                Some(other) => return Err(not_accepted(remote, format!("it sent {other:?} first"))),
            }
        }
    }

    async fn flush(&mut self) -> io::Result<()> {
        while self.session.outgoing().has_remaining() {
            if self.stream.write_buf(self.session.outgoing()).await? == 0 {
                return Err(io::ErrorKind::WriteZero.into());
            }
        }
        self.unflushed = false;
        self.stream.flush().await
    }

    /// Handles the first packet in the buffer, if it is whole; gives whether it was.
    fn handle_one_packet(&mut self) -> bool {
        let now = self.now();
        let version = self.session.version();
        let decoded = Frame::split(&mut self.buffer, MAX_PACKET_SIZE)
            .and_then(|frame| frame.map(|frame| Packet::decode(frame, version)).transpose());
        match decoded {
            Ok(None) => return false,
            Ok(Some(packet)) => self.session.handle_packet(now, packet),
            Err(error) => self.session.handle_decode_error(now, &error),
        }
        true
    }

    async fn run(&mut self, mut inbox: Inbox, arrivals: mpsc::Sender<Arrival>) {
        loop {
            // A packet is handled only when its arrival has a place, so a slow program slows the broker.
            while arrivals.capacity() > 0 && self.handle_one_packet() {
                if self.report(&arrivals).is_err() {
                    return;
                }
            }
            if self.report(&arrivals).is_err() {
                return;
            }
            let now = self.now();
            match self.wait(&mut inbox, &arrivals).await {
                Happening::Read(Ok(0)) => {
                    self.session.handle_connection_lost("The broker closed the connection.".into());
                }
                Happening::Read(Ok(_)) | Happening::Written(Ok(_)) => {}
                Happening::Read(Err(error)) | Happening::Written(Err(error)) => {
                    self.session.handle_connection_lost(format!("The connection broke: {error}."));
                }
                Happening::Request(Some((request, reply))) => self.request(now, request, reply),
                Happening::Command(Command::Ping(reply)) => {
                    self.send_requested(now, &mut inbox);
                    match self.session.ping(now) {
                        Ok(()) => self.pings.push_back(reply),
                        Err(error) => drop(reply.send(Err(error.into()))),
                    }
                }
                Happening::Command(Command::Disconnect(done)) => {
                    self.send_requested(now, &mut inbox);
                    self.goodbye(now).await;
                    let _ = done.send(());
                    return;
                }
                Happening::Command(Command::Abandon) => return,
                // The program has let go of the handle, or of what arrives.
                Happening::Request(None) | Happening::Unheard => return self.goodbye(now).await,
                Happening::Due => self.session.handle_timeout(self.now()),
            }
        }
    }

    async fn wait(&mut self, inbox: &mut Inbox, arrivals: &mpsc::Sender<Arrival>) -> Happening {
        let due = self.session.poll_timeout().map(|time| self.began + Duration::from_micros(time.as_micros()));
        let due = tokio::time::Instant::from_std(due.unwrap_or(self.began));
        let has_due = self.session.poll_timeout().is_some();
        let has_room = self.session.has_room();
        let may_read = arrivals.capacity() > 0;
        let Self { stream, session, buffer, unflushed, .. } = self;
        let outgoing = session.outgoing();
        let waiting = outgoing.remaining();
        let carried = poll_fn(|context| {
            if may_read && let Poll::Ready(read) = poll_read_buf(Pin::new(&mut *stream), context, buffer) {
                return Poll::Ready(Happening::Read(read));
            }
            if waiting > 0 {
                let written = ready!(Pin::new(&mut *stream).poll_write(context, outgoing.chunk()));
                *unflushed = true;
                return Poll::Ready(Happening::Written(written.inspect(|count| outgoing.advance(*count))));
            }
            if *unflushed {
                let flushed = ready!(Pin::new(&mut *stream).poll_flush(context));
                *unflushed = false;
                if let Err(error) = flushed {
                    return Poll::Ready(Happening::Written(Err(error)));
                }
            }
            Poll::Pending
        });
        tokio::select! {
            happening = carried => happening,
            Some(command) = inbox.commands.recv() => Happening::Command(command),
            request = inbox.requests.recv(), if has_room && waiting < WRITE_AHEAD => Happening::Request(request),
            () = sleep_until(due), if has_due && may_read => Happening::Due,
            () = arrivals.closed() => Happening::Unheard,
            permit = arrivals.reserve(), if !may_read => { drop(permit); Happening::Read(Ok(1)) }
        }
    }

    /// What was asked for before a command is sent before it, as far as the window lets it.
    fn send_requested(&mut self, now: Time, inbox: &mut Inbox) {
        while self.session.has_room()
            && let Ok((request, reply)) = inbox.requests.try_recv()
        {
            self.request(now, request, reply);
        }
    }

    fn request(&mut self, now: Time, request: Request, reply: Reply) {
        let sent: Result<Option<PacketId>, WishError> = match request {
            Request::Publish(publish) => self.session.publish(now, *publish),
            Request::Subscribe(subscriptions, properties) => {
                self.session.subscribe(now, subscriptions, properties).map(Some)
            }
            Request::Unsubscribe(filters) => self.session.unsubscribe(now, filters).map(Some),
        };
        match sent {
            Ok(Some(id)) => {
                self.waiting.insert(id, reply);
            }
            // Whoever asked may have gone; then nobody needs the answer.
            Ok(None) => drop(reply.send(Ok(None))),
            Err(error) => drop(reply.send(Err(error.into()))),
        }
    }

    /// Passes on what has happened. An error means that the connection is over.
    fn report(&mut self, arrivals: &mpsc::Sender<Arrival>) -> Result<(), ()> {
        while let Some(event) = self.session.poll_event() {
            match event {
                Event::Message(message) => {
                    // A place was seen to be free; nobody else sends.
                    let _ = arrivals.try_send(Arrival::Message(Box::new(message)));
                }
                Event::Answered { packet_id, reasons, reason_string, user_properties } => {
                    if let Some(reply) = self.waiting.remove(&packet_id) {
                        let _ = reply.send(Ok(Some(Answer { reasons, reason_string, user_properties })));
                    }
                }
                Event::Pong => drop(self.pings.pop_front().map(|reply| reply.send(Ok(None)))),
                Event::Closed { words, reason } => {
                    for reply in self.waiting.drain().map(|(_, reply)| reply).chain(self.pings.drain(..)) {
                        let _ = reply.send(Err(ClientError::Closed { words: words.clone() }));
                    }
                    let arrivals = arrivals.clone();
                    tokio::spawn(async move { arrivals.send(Arrival::Closed { words, reason }).await });
                    return Err(());
                }
                // Whoever asked has been told that the connection ended.
                Event::Forgotten { .. } | Event::Connected(_) | Event::Refused { .. } => {}
            }
        }
        Ok(())
    }

    async fn goodbye(&mut self, now: Time) {
        self.session.disconnect(now);
        let _ = timeout(FAREWELL, async {
            self.flush().await?;
            self.stream.shutdown().await?;
            // The broker closes when it has read everything.
            while self.stream.read_buf(&mut self.buffer).await? > 0 {
                self.buffer.clear();
            }
            io::Result::Ok(())
        })
        .await;
    }
}
