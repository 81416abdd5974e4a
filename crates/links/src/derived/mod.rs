//! Derived topics of one broker: a client inside hears their sources, and what is made of them is published.

mod run;

use std::{collections::HashMap, sync::Arc};

use moorfall_broker::{broker::Broker, listeners::seats::Seats};
use moorfall_core::{
    NoValue, Time,
    blueprint::Derived,
    derived::{Deriver, Known, Outcome},
};
use moorfall_wire::{QoS, TopicName};
use parking_lot::Mutex;

/// The longest payload of which a sample is kept, bytes.
const SAMPLE: usize = 200;

/// A message of which no value could be made.
#[derive(Clone, Debug)]
pub struct Failure {
    /// When.
    pub at: Time,
    /// Where it was published.
    pub topic: TopicName,
    /// What it said, or its beginning.
    pub payload: String,
    /// Why.
    pub why: NoValue,
}

/// What became of the messages of one derived topic since the service was started, or its design was changed.
#[derive(Clone, Debug, Default)]
pub struct Counts {
    /// Messages of its sources.
    pub heard: u64,
    /// Messages that it published.
    pub published: u64,
    /// Values like the one before, or within the dead band.
    pub unchanged: u64,
    /// Values that waited because one was published a moment before.
    pub waited: u64,
    /// Messages for which the condition is not true.
    pub not_true: u64,
    /// Messages before all sources had said something, or before there was enough for a rate.
    pub incomplete: u64,
    /// Messages of which no value could be made.
    pub failed: u64,
    /// Messages that it made and the plan refuses.
    pub refused: u64,
    /// Messages for which there is no room, because as many topics are made as there may be.
    pub full: u64,
    /// When one was published last.
    pub published_at: Option<Time>,
    /// The newest of those of which no value could be made.
    pub failure: Option<Failure>,
}

/// One of the design, and what became of it.
#[derive(Clone, Debug)]
pub struct Seen {
    /// The design.
    pub design: Derived,
    /// What became of its messages.
    pub counts: Counts,
    /// How many topics it makes.
    pub topics: usize,
}

/// What is known, under one short lock.
#[derive(Debug, Default)]
struct Inner {
    deriver: Deriver,
    /// In the order of the design.
    counts: Vec<Counts>,
    /// As whom each publishes.
    identities: Vec<Arc<str>>,
    /// Why nothing is heard now, if that is so.
    trouble: Option<String>,
}

/// Derived topics of one broker.
#[derive(Debug)]
pub struct DerivedTopics {
    broker: Arc<Broker>,
    seats: Arc<Seats>,
    inner: Mutex<Inner>,
}

impl DerivedTopics {
    /// None is made yet.
    pub fn new(broker: Arc<Broker>, seats: Arc<Seats>) -> Self {
        Self { broker, seats, inner: Mutex::default() }
    }

    /// All of the design, in its order.
    pub fn all(&self) -> Vec<Seen> {
        let inner = self.inner.lock();
        let all = inner.deriver.design().zip(&inner.counts).enumerate();
        all.map(|(place, (design, counts))| Seen {
            design: design.clone(),
            counts: counts.clone(),
            topics: inner.deriver.count(place),
        })
        .collect()
    }

    /// Why nothing is heard now, if that is so.
    pub fn trouble(&self) -> Option<String> {
        self.inner.lock().trouble.clone()
    }

    /// One of the design, and topics that it makes, so many at most, by name; `None` if there is none of this name.
    pub fn get(&self, name: &str, most: usize) -> Option<(Seen, Vec<Known>)> {
        let inner = self.inner.lock();
        let place = inner.deriver.design().position(|design| design.name == name)?;
        let design = inner.deriver.design().nth(place)?.clone();
        let mut known = inner.deriver.known(place, most);
        known.sort_by(|one, other| one.topic.cmp(&other.topic));
        Some((Seen { design, counts: inner.counts[place].clone(), topics: inner.deriver.count(place) }, known))
    }

    /// What would become of a message; nothing is changed. `None` if there is none of this name.
    pub fn try_one(&self, name: &str, topic: &TopicName, payload: &[u8]) -> Option<Vec<(TopicName, Outcome)>> {
        let inner = self.inner.lock();
        let place = inner.deriver.design().position(|design| design.name == name)?;
        Some(inner.deriver.try_one(place, topic, payload, (QoS::AtMostOnce, false), self.broker.now()))
    }

    /// What would become of a message by all of the design, each with its name; nothing is changed.
    pub fn try_all(&self, topic: &TopicName, payload: &[u8], flags: (QoS, bool)) -> Vec<(String, TopicName, Outcome)> {
        let (inner, now) = (self.inner.lock(), self.broker.now());
        let mut all = Vec::new();
        for (place, design) in inner.deriver.design().enumerate() {
            let made = inner.deriver.try_one(place, topic, payload, flags, now);
            all.extend(made.into_iter().map(|(to, outcome)| (design.name.clone(), to, outcome)));
        }
        all
    }

    /// What a topic is made of: by each of the design that makes it, its name and the newest topics of its sources.
    pub fn makers_of(&self, topic: &TopicName) -> Vec<(String, Known)> {
        let inner = self.inner.lock();
        let names: Vec<&str> = inner.deriver.design().map(|design| design.name.as_str()).collect();
        inner.deriver.known_of(topic).into_iter().map(|(place, known)| (names[place].to_owned(), known)).collect()
    }

    /// What is made of a topic: names of the design, with the topic that each makes.
    pub fn made_of(&self, topic: &TopicName) -> Vec<(String, TopicName)> {
        let inner = self.inner.lock();
        let of = |design: &Derived| {
            let made: Vec<_> = design.taken(topic).map(|(_, to)| (design.name.clone(), to)).collect();
            made
        };
        inner.deriver.design().flat_map(of).collect()
    }

    /// Makes these from now on.
    fn take_over(&self, design: &[Derived]) {
        let mut inner = self.inner.lock();
        let said = |design: &Derived| (design.name.clone(), design.says());
        let before: Vec<_> = inner.deriver.design().map(said).collect();
        let mut counts: HashMap<_, _> = before.into_iter().zip(std::mem::take(&mut inner.counts)).collect();
        inner.counts = design.iter().map(|one| counts.remove(&said(one)).unwrap_or_default()).collect();
        inner.identities = design.iter().map(|one| format!("{}{}", moorfall_core::DERIVED, one.name).into()).collect();
        let known = std::mem::take(&mut inner.deriver);
        inner.deriver = Deriver::new(design, known);
    }

    fn set_trouble(&self, trouble: Option<String>) {
        self.inner.lock().trouble = trouble;
    }
}

impl Counts {
    /// Counts what became of a message.
    fn note(&mut self, outcome: &Outcome, now: Time, (topic, payload): (&TopicName, &[u8])) {
        match outcome {
            Outcome::Published(_) => {
                self.published += 1;
                self.published_at = Some(now);
            }
            Outcome::Unchanged => self.unchanged += 1,
            Outcome::Waits(_) => self.waited += 1,
            Outcome::NotTrue => self.not_true += 1,
            Outcome::Incomplete(_) | Outcome::OneAlone => self.incomplete += 1,
            Outcome::Full => self.full += 1,
            Outcome::Failed(why) => {
                self.failed += 1;
                let text = String::from_utf8_lossy(&payload[..payload.len().min(SAMPLE)]);
                let (topic, payload) = (topic.detached(), text.into_owned());
                self.failure = Some(Failure { at: now, topic, payload, why: why.clone() });
            }
        }
    }
}
