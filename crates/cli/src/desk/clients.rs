//! The clients that one person holds.

use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
    time::Duration,
};

use moorfall_client::{Arrival, Arrivals, Client};
use moorfall_wire::{Publish, QoS, ReasonCode, Subscription, SubscriptionOptions, TopicFilter, TopicName};
use parking_lot::Mutex;
use serde_json::json;
use tokio::{
    sync::mpsc,
    time::{Instant, sleep_until},
};

use super::{lines::Wanted, screen::Screen};
use crate::{
    envelope::Envelope,
    messaging::Connection,
    output::{Done, Failure, plural, printable},
    stop::Stop,
    view::View,
};

/// Messages of the background that are shown one by one within a second; beyond it they are counted.
const SHOWN: u64 = 20;

/// Messages for the foreground that wait to be shown.
const AHEAD: usize = 1_024;

/// All clients, by name.
pub(super) struct Clients {
    screen: Screen,
    open: BTreeMap<String, Held>,
    /// The one that orders are for.
    current: Option<String>,
}

/// One client.
struct Held {
    client: Client,
    address: String,
    shared: Arc<Mutex<Shared>>,
}

/// What its task and the desk share.
#[derive(Default)]
struct Shared {
    subscriptions: Vec<Followed>,
    /// Where messages of the foreground go, while there is one.
    foreground: Option<(Vec<TopicFilter>, mpsc::Sender<Publish>)>,
    messages: u64,
    /// Why the connection is closed, once it is.
    closed: Option<String>,
}

/// A subscription in the background.
struct Followed {
    filter: TopicFilter,
    qos: QoS,
    view: View,
    messages: u64,
}

impl Clients {
    pub(super) fn new(screen: Screen) -> Self {
        Self { screen, open: BTreeMap::new(), current: None }
    }

    /// What stands before the line that is typed.
    pub(super) fn prompt(&self) -> String {
        format!("{}> ", self.current.as_deref().unwrap_or("desk"))
    }

    pub(super) async fn open(&mut self, name: &str, connection: &Connection) -> Done {
        if self.open.contains_key(name) {
            return Err(Failure(format!("There is already a client {name}. Close it first, or use another name.")));
        }
        let options = connection.options()?;
        let (client, arrivals) = Client::connect(&options).await?;
        let shared: Arc<Mutex<Shared>> = Arc::default();
        let address = options.remote.to_string();
        tokio::spawn(pump(name.to_owned(), arrivals, Arc::clone(&shared), self.screen.clone()));
        self.screen.say(&format!("{name} is connected to {address}, MQTT {}", options.version));
        self.screen.known.lock().clients.insert(name.to_owned());
        self.open.insert(name.to_owned(), Held { client, address, shared });
        self.current = Some(name.to_owned());
        Ok(())
    }

    pub(super) fn choose(&mut self, name: &str) -> Done {
        self.find(name)?;
        self.current = Some(name.to_owned());
        Ok(())
    }

    fn find(&self, name: &str) -> Result<&Held, Failure> {
        self.open.get(name).ok_or_else(|| {
            let names: Vec<&str> = self.open.keys().map(String::as_str).collect();
            let others = if names.is_empty() {
                "No client is open".to_owned()
            } else {
                format!("Open are {}", names.join(", "))
            };
            Failure(format!("There is no client {}. {others}.", printable(name)))
        })
    }

    fn current(&self) -> Result<(&str, &Held), Failure> {
        let name = self.current.as_deref().ok_or_else(|| {
            Failure("No client is open. `open NAME` opens one to the service on this machine.".into())
        })?;
        let held = self.find(name)?;
        let closed = held.shared.lock().closed.clone();
        match closed {
            Some(words) => {
                Err(Failure(format!("{name} is no longer connected. {words} Close it, then open it again.")))
            }
            None => Ok((name, held)),
        }
    }

    pub(super) async fn publish(&self, topic: &TopicName, payload: &str, envelope: &Envelope) -> Done {
        let (_, held) = self.current()?;
        let payload = envelope.encoding.read(payload)?;
        let began = Instant::now();
        let answer = held.client.publish(envelope.message(topic, payload)).await?;
        self.screen.note_topic(topic);
        let name = printable(topic);
        let Some(answer) = answer else {
            self.screen.say(&format!("sent to {name} at QoS 0, which is not acknowledged"));
            return Ok(());
        };
        let reason = answer.reasons.first().copied().unwrap_or(ReasonCode::Success);
        if reason.is_error() {
            let words = answer.reason_string.map_or_else(|| format!("publishing to {name}"), |words| printable(&words));
            return Err(Failure(format!("Refused ({}). {words}", reason.coded())));
        }
        let who = if reason == ReasonCode::NoMatchingSubscribers { ", no subscribers" } else { "" };
        let took = began.elapsed().as_secs_f64() * 1_000.0;
        self.screen.say(&format!("{name}: acknowledged in {took:.1} ms{who}"));
        Ok(())
    }

    /// Subscribes; gives what was granted to each filter.
    async fn subscribe(&self, wanted: &Wanted) -> Result<(&str, &Held, Vec<(TopicFilter, QoS)>), Failure> {
        let (name, held) = self.current()?;
        let qos = |filter: &crate::arguments::Wanted| filter.qos.unwrap_or(wanted.qos);
        let subscriptions = wanted
            .filters
            .iter()
            .map(|one| Subscription {
                filter: one.filter.clone(),
                options: SubscriptionOptions { qos: qos(one), ..SubscriptionOptions::default() },
            })
            .collect();
        let answer = held.client.subscribe(subscriptions).await?;
        let mut granted = Vec::new();
        let mut refused = Vec::new();
        for (one, reason) in wanted.filters.iter().zip(&answer.reasons) {
            if reason.is_error() {
                refused.push(format!("{}: {reason}", printable(&one.filter)));
            } else {
                granted.push((one.filter.clone(), qos(one)));
            }
        }
        if refused.is_empty() {
            return Ok((name, held, granted));
        }
        // All or nothing: what was granted is given back.
        if !granted.is_empty() {
            held.client.unsubscribe(granted.into_iter().map(|(filter, _)| filter).collect()).await?;
        }
        let words = answer.reason_string.map_or_else(String::new, |words| format!(" ({})", printable(&words)));
        Err(Failure(format!("Refused: {}{words}", refused.join(", "))))
    }

    /// Subscribes in the background.
    pub(super) async fn follow(&self, wanted: Wanted) -> Done {
        // Retained messages come before the answer is here: what they belong to is known first.
        let (_, held) = self.current()?;
        {
            let mut shared = held.shared.lock();
            for one in &wanted.filters {
                shared.subscriptions.retain(|known| known.filter != one.filter);
                let qos = one.qos.unwrap_or(wanted.qos);
                let followed = Followed { filter: one.filter.clone(), qos, view: wanted.view, messages: 0 };
                shared.subscriptions.push(followed);
            }
        }
        match self.subscribe(&wanted).await {
            Ok((name, _, granted)) => {
                for (filter, _) in granted {
                    self.screen.say(&format!("{name} is subscribed to {} in the background", printable(&filter)));
                }
                Ok(())
            }
            Err(failure) => {
                let asked = |known: &Followed| wanted.filters.iter().any(|one| one.filter == known.filter);
                held.shared.lock().subscriptions.retain(|known| !asked(known));
                Err(failure)
            }
        }
    }

    /// Subscribes, and shows what comes until there is enough.
    pub(super) async fn read(&self, wanted: Wanted, stop: &mut Stop) -> Done {
        let (_, held) = self.current()?;
        let (sender, mut messages) = mpsc::channel(AHEAD);
        let filters: Vec<TopicFilter> = wanted.filters.iter().map(|one| one.filter.clone()).collect();
        held.shared.lock().foreground = Some((filters.clone(), sender));
        let subscribed = self.subscribe(&wanted).await;
        let done = match &subscribed {
            Ok((name, ..)) => {
                let listed: Vec<String> = filters.iter().map(|filter| printable(filter)).collect();
                let end = if wanted.take.is_none() && wanted.time.is_none() { "; press Ctrl-C to stop" } else { "" };
                self.screen.say(&format!("{name} is subscribed to {}{end}", listed.join(", ")));
                self.show(&wanted, &mut messages, stop).await
            }
            Err(_) => Ok(()),
        };
        held.shared.lock().foreground = None;
        subscribed?;
        // What is also read in the background stays subscribed to.
        let kept: BTreeSet<String> =
            held.shared.lock().subscriptions.iter().map(|known| known.filter.to_string()).collect();
        let over: Vec<TopicFilter> = filters.into_iter().filter(|filter| !kept.contains(&**filter)).collect();
        if !over.is_empty() && held.shared.lock().closed.is_none() {
            held.client.unsubscribe(over).await?;
        }
        done
    }

    async fn show(&self, wanted: &Wanted, messages: &mut mpsc::Receiver<Publish>, stop: &mut Stop) -> Done {
        let deadline = wanted.time.map(|time| Instant::now() + time);
        let mut left = wanted.take;
        while left != Some(0) {
            let message = tokio::select! {
                message = messages.recv() => message,
                () = stop.wait() => return Ok(()),
                () = sleep_until(deadline.unwrap_or_else(Instant::now)), if deadline.is_some() => {
                    return match left {
                        Some(left) if left > 0 => {
                            let missing = plural(left, "message", "messages");
                            Err(Failure(format!("{missing} did not arrive in time.")))
                        }
                        _ => Ok(()),
                    };
                }
            };
            let Some(message) = message else { return Err(Failure("The connection is closed.".into())) };
            self.screen.show(&wanted.view.text(&message))?;
            left = left.map(|left| left - 1);
        }
        Ok(())
    }

    pub(super) async fn unsubscribe(&self, filters: &[TopicFilter]) -> Done {
        let (name, held) = self.current()?;
        let unknown =
            |filter: &&TopicFilter| !held.shared.lock().subscriptions.iter().any(|known| known.filter == **filter);
        if let Some(filter) = filters.iter().find(unknown) {
            let filter = printable(filter);
            return Err(Failure(format!("{name} is not subscribed to {filter}. `clients` lists the subscriptions.")));
        }
        held.client.unsubscribe(filters.to_vec()).await?;
        held.shared.lock().subscriptions.retain(|known| !filters.contains(&known.filter));
        let listed: Vec<String> = filters.iter().map(|filter| printable(filter)).collect();
        self.screen.say(&format!("{name} is no longer subscribed to {}", listed.join(", ")));
        Ok(())
    }

    pub(super) async fn close(&mut self, name: Option<&str>) -> Done {
        let name = match (name, &self.current) {
            (Some(name), _) => name.to_owned(),
            (None, Some(name)) => name.clone(),
            (None, None) => return Err(Failure("no client is open".into())),
        };
        self.find(&name)?;
        if let Some(held) = self.open.remove(&name) {
            held.client.disconnect().await;
        }
        self.screen.known.lock().clients.remove(&name);
        if self.current.as_ref() == Some(&name) {
            self.current = self.open.keys().next().cloned();
        }
        self.screen.say(&format!("{name} is closed"));
        Ok(())
    }

    pub(super) async fn close_all(&mut self) {
        for (_, held) in std::mem::take(&mut self.open) {
            held.client.disconnect().await;
        }
        self.current = None;
    }

    pub(super) fn list(&self, as_json: bool) -> Done {
        if as_json {
            let all: Vec<_> = self.open.iter().map(|(name, held)| self.json_of(name, held)).collect();
            self.screen.show(&serde_json::to_string_pretty(&all)?)?;
            return Ok(());
        }
        if self.open.is_empty() {
            self.screen.say("No client is open. `open NAME` opens one to the service on this machine.");
            return Ok(());
        }
        let width = self.open.keys().map(|name| name.chars().count()).max().unwrap_or(0);
        let mut lines = Vec::new();
        for (name, held) in &self.open {
            let shared = held.shared.lock();
            let mark = if self.current.as_ref() == Some(name) { '*' } else { ' ' };
            let state = if shared.closed.is_some() { ", no longer connected" } else { "" };
            let messages = plural(shared.messages, "message", "messages");
            lines.push(format!("{mark} {name:width$}  {}{state}: {messages}", printable(&held.address)));
            for known in &shared.subscriptions {
                let (qos, messages) = (known.qos.level(), plural(known.messages, "message", "messages"));
                lines.push(format!(
                    "  {:width$}  subscribed to {} at QoS {qos}: {messages}",
                    "",
                    printable(&known.filter)
                ));
            }
        }
        self.screen.show(&lines.join("\n"))?;
        Ok(())
    }

    fn json_of(&self, name: &str, held: &Held) -> serde_json::Value {
        let shared = held.shared.lock();
        let subscriptions: Vec<_> = shared
            .subscriptions
            .iter()
            .map(|known| json!({ "filter": &*known.filter, "qos": known.qos.level(), "messages": known.messages }))
            .collect();
        json!({
            "name": name,
            "address": held.address,
            "in_use": self.current.as_deref() == Some(name),
            "connected": shared.closed.is_none(),
            "messages": shared.messages,
            "subscriptions": subscriptions,
        })
    }
}

/// Takes what arrives for a client, until its connection is over.
async fn pump(name: String, mut arrivals: Arrivals, shared: Arc<Mutex<Shared>>, screen: Screen) {
    let mut busy = Busy { name: name.clone(), screen: screen.clone(), shown: 0, counted: 0, topics: BTreeSet::new() };
    let mut clock = tokio::time::interval(Duration::from_secs(1));
    loop {
        let arrival = tokio::select! {
            arrival = arrivals.next() => arrival,
            _ = clock.tick() => {
                busy.tell();
                continue;
            }
        };
        match arrival {
            Some(Arrival::Message(message)) => {
                screen.note_topic(&message.topic);
                take(&name, *message, &shared, &mut busy).await;
            }
            Some(Arrival::Closed { words, .. }) => {
                busy.tell();
                screen.say(&format!("{name}: {words}"));
                let mut shared = shared.lock();
                shared.closed = Some(words);
                shared.foreground = None;
                return;
            }
            None => return,
        }
    }
}

/// Passes a message to the foreground, if it is for that, and shows or counts it otherwise.
async fn take(name: &str, message: Publish, shared: &Mutex<Shared>, busy: &mut Busy) {
    let matches = |filter: &TopicFilter| match filter.shared() {
        Some(Ok((_, filter))) => filter.matches(&message.topic),
        _ => filter.matches(&message.topic),
    };
    let (ahead, view) = {
        let mut shared = shared.lock();
        shared.messages += 1;
        let mut view = None;
        for known in shared.subscriptions.iter_mut().filter(|known| matches(&known.filter)) {
            known.messages += 1;
            view.get_or_insert(known.view);
        }
        let ahead = shared.foreground.as_ref().filter(|(filters, _)| filters.iter().any(matches));
        (ahead.map(|(_, sender)| sender.clone()), view)
    };
    match (ahead, view) {
        // A slow screen slows the broker, and nothing is lost.
        (Some(ahead), _) => drop(ahead.send(message).await),
        (None, Some(view)) => busy.show(name, view, &message),
        (None, None) => {}
    }
}

/// Keeps the background from flooding the screen.
struct Busy {
    name: String,
    screen: Screen,
    shown: u64,
    counted: u64,
    topics: BTreeSet<String>,
}

impl Busy {
    fn show(&mut self, name: &str, view: View, message: &Publish) {
        if self.shown < SHOWN {
            self.shown += 1;
            // Nobody reads any more when this fails, and the desk ends.
            let _ = self.screen.show(&format!("{name}: {}", view.text(message)));
            return;
        }
        self.counted += 1;
        if self.topics.len() < 1_000 {
            self.topics.insert(message.topic.to_string());
        }
    }

    /// Tells what was only counted in the second that is over.
    fn tell(&mut self) {
        if self.counted > 0 {
            let messages = plural(self.counted, "more message", "more messages");
            let topics = plural(self.topics.len() as u64, "topic", "topics");
            self.screen.say(&format!("{}: {messages} in one second, on {topics}", self.name));
        }
        (self.shown, self.counted) = (0, 0);
        self.topics.clear();
    }
}
