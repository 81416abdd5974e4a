//! Looks after one bridge: links that are made, carried, lost, and made again.

use std::{num::NonZeroU16, sync::Arc, time::Duration};

use bytestring::ByteString;
use moorfall_broker::{broker::Broker, clock::sleep, notes, random::random_text};
use moorfall_client::{AskedBy, Options, Remote, Trust, dial, reaches};
use moorfall_core::bridge::{
    Direction, RemoteTerms,
    relay::{Names, NextId},
};
use moorfall_live::facts::Fact;
use moorfall_store::BridgeRecord;
use moorfall_wire::{Connect, ProtocolVersion, QoS, Will, WillProperties};
use tokio::{sync::watch, time::Instant};

use super::{
    fault::LinkFault,
    here::{Here, introduction, wanted},
    link::{self, DOWN, Ended, Link, Start, UP, note_limits, refused_here},
    pace::Pace,
    seen::{Phase, Seen},
    wish::{Mode, Wish},
};

/// How long making a link may take.
const CONNECT: Duration = Duration::from_secs(10);
/// Names of messages that came from a remote that gave them none.
#[derive(Debug)]
struct Random {
    beginning: String,
    count: u64,
}

impl NextId for Random {
    fn next_id(&mut self) -> ByteString {
        self.count += 1;
        format!("{}{:x}", self.beginning, self.count).into()
    }
}

/// Looks after one bridge.
pub(super) struct Runner {
    here: Arc<Here>,
    seen: Arc<Seen>,
    wished: watch::Receiver<Wish>,
    pace: Pace,
    /// Whether it was told that the link is down.
    is_down: bool,
    /// What was known of it when the database answered last.
    record: Option<BridgeRecord>,
}

impl Runner {
    pub(super) fn new(here: Arc<Here>, seen: Arc<Seen>, wished: watch::Receiver<Wish>) -> Self {
        Self { here, seen, wished, pace: Pace::default(), is_down: false, record: None }
    }

    fn broker(&self) -> &Arc<Broker> {
        &self.here.broker
    }

    pub(super) async fn run(mut self) {
        let stopping = self.broker().common.stopping.clone();
        let mut retried = 0;
        while !stopping.is_cancelled() {
            let wish = *self.wished.borrow_and_update();
            if std::mem::replace(&mut retried, wish.retry) != wish.retry {
                self.pace.reset();
            }
            match wish.mode {
                Mode::Stop => return,
                Mode::Pause => {
                    self.seen.enter(Phase::Paused, self.broker().now());
                    self.announce();
                    tokio::select! {
                        changed = self.wished.changed() => if changed.is_err() { return },
                        () = stopping.cancelled() => return,
                    }
                    continue;
                }
                Mode::Run | Mode::Drain => {}
            }
            let began = Instant::now();
            let ended = self.link(wish.mode == Mode::Drain).await;
            let up = self.seen.standing().terms.map(|_| began.elapsed());
            match ended {
                Ended::Told => {}
                Ended::Drained => {
                    // As if somebody had told it to rest, but for this run of the service only.
                    self.seen.enter(Phase::Paused, self.broker().now());
                    self.announce();
                    let changed = tokio::select! {
                        changed = self.wished.changed() => changed.is_ok(),
                        () = stopping.cancelled() => false,
                    };
                    if !changed {
                        return;
                    }
                    self.pace.reset();
                }
                Ended::FailBack => self.pace.reset(),
                Ended::Fault(fault) => self.rest(fault, up).await,
            }
        }
        self.announce();
    }

    /// Notes why the link is down, and waits for the next attempt.
    async fn rest(&mut self, fault: LinkFault, up: Option<Duration>) {
        let broker = Arc::clone(self.broker());
        let now = broker.now();
        let words = fault.to_string();
        let pause = self.pace.failed(up, self.seen.bridge.remotes.len());
        let next = now + pause;
        self.seen.enter(Phase::Down, now);
        self.seen.change(|standing| {
            standing.trouble = Some((now, words.clone()));
            standing.failed = self.pace.failed;
            standing.next_attempt = Some(next);
            standing.round_trip = None;
        });
        if !std::mem::replace(&mut self.is_down, true) {
            let down = Fact::BridgeDown { bridge: self.seen.bridge.name.clone(), why: words };
            notes::note(&broker.live, now, &down);
        } else {
            tracing::debug!(bridge = %self.seen.bridge.name, "still down: {words}");
        }
        self.announce();
        let stopping = broker.common.stopping.clone();
        tokio::select! {
            () = sleep(Some(broker.common.clock.instant(next))) => {}
            _ = self.wished.changed() => {}
            () = stopping.cancelled() => {}
        }
    }

    /// Makes a link and carries until it ends.
    async fn link(&mut self, drains: bool) -> Ended {
        let mut wished = self.wished.clone();
        match self.connect(drains).await {
            Ok(link) => link.run(&mut wished, self.fail_back(self.pace.address == 0)).await,
            Err(fault) => Ended::Fault(fault),
        }
    }

    /// Ready when the first address can be reached again, on a link to another one.
    async fn fail_back(&self, is_first: bool) {
        let bridge = Arc::clone(&self.seen.bridge);
        if is_first {
            std::future::pending::<()>().await;
        }
        loop {
            tokio::time::sleep(bridge.fail_back).await;
            let first = self.options(&bridge.remotes[0], None);
            if reaches(&first).await.is_ok() {
                return;
            }
        }
    }

    fn options(&self, remote: &Remote, password: Option<Vec<u8>>) -> Options {
        let bridge = &self.seen.bridge;
        let path = |name: &Option<String>| name.as_ref().map(|name| self.here.files.join(name));
        let files = &bridge.files;
        let trust =
            Trust { authority: path(&files.authority), certificate: path(&files.certificate), key: path(&files.key) };
        Options {
            trust,
            password: password.map(Into::into),
            version: bridge.version,
            client_id: bridge.client_id.clone(),
            keep_alive: bridge.keep_alive,
            clean_start: bridge.clean_start,
            session_expiry: bridge.session_expiry,
            connect_within: CONNECT,
            asked_by: AskedBy::Bridge,
            ..Options::new(remote.clone())
        }
    }

    fn password(&self, record: &BridgeRecord) -> Result<Option<Vec<u8>>, LinkFault> {
        let Some(name) = &self.seen.bridge.files.secret else { return Ok(record.secret.clone()) };
        let path = self.here.files.join(name);
        let read = std::fs::read(&path).map_err(|error| LinkFault::Secret { path, error })?;
        Ok(Some(read.trim_ascii().to_vec()))
    }

    fn connect_packet(&self, options: &Options) -> Connect {
        let bridge = &self.seen.bridge;
        let is_v5 = bridge.version == ProtocolVersion::V5;
        let mut connect = Connect {
            clean_start: bridge.clean_start,
            keep_alive: bridge.keep_alive,
            user_name: options.remote.identity.as_deref().map(Into::into),
            password: options.password.clone(),
            will: bridge.status_there.clone().map(|topic| Will {
                topic,
                payload: DOWN.into(),
                qos: QoS::AtLeastOnce,
                retain: true,
                properties: WillProperties::default(),
            }),
            ..Connect::new(bridge.version, bridge.client_id.as_str())
        };
        if is_v5 {
            let properties = &mut connect.properties;
            properties.session_expiry_interval = (!bridge.clean_start).then_some(bridge.session_expiry);
            properties.receive_maximum = NonZeroU16::new(self.broker().limits.receive_maximum);
            properties.topic_alias_maximum = Some(link::aliases());
            properties.user_properties = vec![introduction(&self.broker().name.public)];
        }
        connect
    }

    async fn connect(&mut self, drains: bool) -> Result<Link, LinkFault> {
        let (broker, bridge) = (Arc::clone(self.broker()), Arc::clone(&self.seen.bridge));
        let remote = bridge.remotes[self.pace.address.min(bridge.remotes.len() - 1)].clone();
        let told = remote.to_string();
        // Attempts while it is down don't make it any less so.
        if !self.is_down {
            self.seen.enter(if drains { Phase::Draining } else { Phase::Connecting }, broker.now());
        }
        self.seen.change(|standing| {
            standing.remote = Some(told.clone());
            standing.next_attempt = None;
        });
        let record = match (broker.store().bridge(&bridge.name).await, &self.record) {
            (Ok(record), _) => record,
            // A link can be made without the database, if nothing has to be noted.
            (Err(_), Some(known)) => known.clone(),
            (Err(error), None) => return Err(error.into()),
        };
        self.record = Some(record.clone());
        if record.here.is_empty() && !drains {
            self.subscribe(&record).await;
        }
        let options = self.options(&remote, self.password(&record)?);
        let dialled = dial(&options, &self.connect_packet(&options)).await?;
        let terms = RemoteTerms::new(bridge.version, &dialled.connack);
        let address = remote.address();
        let in_line = record.remote == address && self.here.has_session(&bridge);
        if record.remote != address {
            broker.store().put_bridge_remote(&bridge.name, &address).await?;
        }
        let said = moorfall_core::bridge::broker_named(&dialled.connack.properties.user_properties);
        let names = Names {
            broker: broker.name.public.as_ref().into(),
            link: format!("{}:{}", broker.name.public, bridge.name).into(),
            remote: said.map(Into::into),
            key: Arc::clone(&broker.name.key),
        };
        note_limits(&self.seen, &address, &terms);
        self.seen.change(|standing| standing.terms = Some(terms));
        let next_id = Box::new(Random { beginning: random_text(13), count: 0 });
        let before = (record.here, record.there);
        let start = Start {
            bridge: Arc::clone(&bridge),
            remote: address,
            dialled,
            names,
            in_line,
            before,
            next_id,
            terms,
            drains,
        };
        let mut link = Link::begin(Arc::clone(&self.here), Arc::clone(&self.seen), start).await?;
        link.say_status(UP);
        self.is_down = false;
        let now = broker.now();
        self.seen.enter(if drains { Phase::Draining } else { Phase::Up }, now);
        self.seen.change(|standing| standing.failed = 0);
        let up = Fact::BridgeUp { bridge: bridge.name.clone(), remote: told, session_present: terms.session_present };
        notes::note(&broker.live, now, &up);
        self.announce();
        Ok(link)
    }

    /// Subscribes here, with or without a link.
    pub(super) async fn subscribe(&mut self, record: &BridgeRecord) {
        let bridge = Arc::clone(&self.seen.bridge);
        match self.here.subscribe(&bridge, &record.here).await {
            Ok(refused) => {
                for (filter, reason) in refused {
                    refused_here(&self.seen, &filter, reason);
                }
                let filters: Vec<String> =
                    wanted(&bridge, Direction::Push).iter().map(|one| one.filter.to_string()).collect();
                if filters != record.here
                    && let Err(error) = self.broker().store().put_bridge_here(&bridge.name, &filters).await
                {
                    tracing::warn!(bridge = %bridge.name, %error, "what a bridge subscribes to can't be noted");
                }
            }
            Err(fault) => {
                let now = self.broker().now();
                self.seen.change(|standing| standing.trouble = Some((now, fault.to_string())));
            }
        }
    }

    /// Says on a topic of this broker how the link is.
    fn announce(&self) {
        let broker = self.broker();
        let standing = self.seen.standing();
        let words = match standing.phase {
            Phase::Up => UP,
            Phase::Draining => "draining",
            Phase::Paused => "paused",
            Phase::Connecting | Phase::Down => DOWN,
        };
        let Ok(topic) = format!("$SYS/moorfall/bridges/{}", self.seen.bridge.name).parse() else { return };
        let properties = moorfall_wire::PublishProperties::default();
        let (key, now) = (moorfall_core::SessionKey(0), broker.now());
        let message = moorfall_core::Message::new(topic, words.into(), QoS::AtMostOnce, true, properties, key, now);
        broker.sessions.announce(&Arc::new(message));
    }
}
