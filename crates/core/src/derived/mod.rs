//! Derived topics: values that are made of messages as they come, and published in their turn.
//!
//! # The contract
//!
//! [`Deriver::hear`] takes each message of [`Deriver::filters`], and [`Deriver::look`] is called when [`Deriver::due`] says so;
//! both give what became of each derived topic that is concerned. What is to outlive the process comes out of
//! [`Deriver::take_new`] and goes back by [`Deriver::restore`].

mod outcome;
mod state;
mod window;

use std::{
    cmp::Reverse,
    collections::{BinaryHeap, HashMap},
};

use foldhash::fast::RandomState;
use moorfall_wire::{QoS, TopicFilter, TopicName};

pub use self::outcome::{Outcome, Quality};
use self::state::{Arrived, State};
use crate::{MessageFields, Scalar, Time, blueprint::Derived, pattern_index::PatternIndex};

/// Topics that one of the design makes at most, and all together.
const TOPICS: (usize, usize) = (10_000, 100_000);

/// What became of a message for one of the design.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Made {
    /// Which one, from 0.
    pub derived: usize,
    /// The topic.
    pub topic: TopicName,
    /// What.
    pub outcome: Outcome,
}

/// What is to be kept of a topic.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Kept {
    /// The name of the derived topic in the design.
    pub name: String,
    /// What the design said of it.
    pub says: String,
    /// The topic.
    pub topic: String,
    /// What is known of it.
    pub state: String,
}

/// What is known of a topic, for people.
#[derive(Clone, Debug, PartialEq)]
pub struct Known {
    /// The topic.
    pub topic: TopicName,
    /// The newest value, and when it was made.
    pub value: Option<(Scalar, Time)>,
    /// What was published last, when, and of what quality.
    pub published: Option<(Scalar, Time, Quality)>,
    /// Whether the newest value is still to be published.
    pub waits: bool,
    /// The newest topic of each source.
    pub heard: Vec<Option<String>>,
}

/// One of the design, and the topics that it makes.
#[derive(Debug)]
struct One {
    derived: Derived,
    says: String,
    topics: HashMap<TopicName, State, RandomState>,
}

/// Makes derived topics. See the module's contract.
#[derive(Debug, Default)]
pub struct Deriver {
    all: Vec<One>,
    index: PatternIndex,
    /// Topics of all.
    topics: usize,
    /// What is to be looked at when; some of it was overtaken.
    due: BinaryHeap<Reverse<(Time, usize, TopicName)>>,
    /// What is otherwise than it was kept.
    new: Vec<(usize, TopicName)>,
}

impl Deriver {
    /// Makes these from now on. What `before` knows of those that say the same is known here, too.
    pub fn new(design: &[Derived], before: Self) -> Self {
        let mut known: HashMap<(String, String), One> =
            before.all.into_iter().map(|one| ((one.derived.name.clone(), one.says.clone()), one)).collect();
        let mut this = Self::default();
        for derived in design {
            let (place, says) = (this.all.len(), derived.says());
            for source in &derived.sources {
                let levels = source.names.fixed_levels();
                this.index.insert(levels, source.names.is_open(), place);
            }
            let topics = known.remove(&(derived.name.clone(), says.clone())).map(|one| one.topics).unwrap_or_default();
            this.topics += topics.len();
            this.all.push(One { derived: derived.clone(), says, topics });
            let topics: Vec<TopicName> = this.all[place].topics.keys().cloned().collect();
            for topic in topics {
                if let Some(state) = this.all[place].topics.get_mut(&topic) {
                    state.noted = None;
                }
                this.note(place, &topic);
            }
        }
        this
    }

    /// The design of each.
    pub fn design(&self) -> impl Iterator<Item = &Derived> {
        self.all.iter().map(|one| &one.derived)
    }

    /// What is to be subscribed to, and at which QoS.
    pub fn filters(&self) -> Vec<(TopicFilter, QoS)> {
        let mut filters: HashMap<&TopicFilter, QoS> = HashMap::new();
        for one in &self.all {
            for source in &one.derived.sources {
                let qos = filters.entry(source.names.filter()).or_default();
                *qos = one.derived.qos.max(*qos);
            }
        }
        filters.into_iter().map(|(filter, qos)| (filter.clone(), qos)).collect()
    }

    /// A message has come.
    pub fn hear(&mut self, topic: &TopicName, payload: &[u8], (qos, retained): (QoS, bool), now: Time) -> Vec<Made> {
        let mut places = self.index.candidates(topic);
        // What clears a retained message is no value.
        if places.is_empty() || retained && payload.is_empty() {
            return Vec::new();
        }
        places.sort_unstable();
        places.dedup();
        let mut made = Vec::new();
        let mut fields = None;
        for place in places {
            let taken: Vec<(usize, TopicName)> = self.all[place].derived.taken(topic).collect();
            for (source, to) in taken {
                let fields = fields.get_or_insert_with(|| MessageFields::new(topic, payload, qos.level(), retained));
                let outcome = match self.state(place, &to) {
                    None => Outcome::Full,
                    Some((derived, state)) => {
                        let was_new = state.is_new;
                        let outcome = state.hear(derived, Arrived { source, topic, payload, fields, now });
                        if !was_new {
                            self.new.push((place, to.clone()));
                        }
                        self.note(place, &to);
                        outcome
                    }
                };
                made.push(Made { derived: place, topic: to, outcome });
            }
        }
        made
    }

    fn state(&mut self, place: usize, topic: &TopicName) -> Option<(&Derived, &mut State)> {
        let One { derived, topics, .. } = &mut self.all[place];
        if !topics.contains_key(topic) {
            if topics.len() >= TOPICS.0 || self.topics >= TOPICS.1 {
                return None;
            }
            self.topics += 1;
            // A name must not keep the memory of a message.
            topics.insert(topic.detached(), State::default());
        }
        topics.get_mut(topic).map(|state| (&*derived, state))
    }

    /// Notes when a topic is to be looked at.
    fn note(&mut self, place: usize, topic: &TopicName) {
        let One { derived, topics, .. } = &mut self.all[place];
        let Some(state) = topics.get_mut(topic) else { return };
        let Some(due) = state.due(derived) else { return };
        if state.noted.is_none_or(|noted| due < noted) {
            state.noted = Some(due);
            self.due.push(Reverse((due, place, topic.detached())));
        }
    }

    /// When something is to be looked at next.
    pub fn due(&self) -> Option<Time> {
        self.due.peek().map(|Reverse((due, ..))| *due)
    }

    /// Looks at what is due, so many at most, and gives what is published for it.
    pub fn look(&mut self, now: Time, most: usize) -> Vec<Made> {
        let mut made = Vec::new();
        for _ in 0..most {
            if self.due().is_none_or(|due| due > now) {
                break;
            }
            let Some(Reverse((_, place, topic))) = self.due.pop() else { break };
            let One { derived, topics, .. } = &mut self.all[place];
            let Some(state) = topics.get_mut(&topic) else { continue };
            state.noted = None;
            let was_new = state.is_new;
            let outcome = state.look(derived, now);
            if state.is_new && !was_new {
                self.new.push((place, topic.clone()));
            }
            if let Some(outcome) = outcome {
                made.push(Made { derived: place, topic: topic.clone(), outcome });
            }
            self.note(place, &topic);
        }
        made
    }

    /// What has changed since it was kept, so many topics at most.
    pub fn take_new(&mut self, most: usize) -> Vec<Kept> {
        let count = self.new.len().min(most);
        let mut kept = Vec::with_capacity(count);
        for (place, topic) in self.new.drain(..count) {
            let Some(one) = self.all.get_mut(place) else { continue };
            let Some(state) = one.topics.get_mut(&topic) else { continue };
            state.is_new = false;
            let Ok(text) = serde_json::to_string(state) else { continue };
            let (name, says) = (one.derived.name.clone(), one.says.clone());
            kept.push(Kept { name, says, topic: topic.to_string(), state: text });
        }
        kept
    }

    /// What was kept is known again; gives whether it is of the design, and can be read.
    pub fn restore(&mut self, kept: &Kept) -> bool {
        let is_it = |one: &One| one.derived.name == kept.name && one.says == kept.says;
        let Some(place) = self.all.iter().position(is_it) else { return false };
        let (Ok(topic), Ok(state)) = (kept.topic.parse::<TopicName>(), serde_json::from_str::<State>(&kept.state))
        else {
            return false;
        };
        let Some((derived, known)) = self.state(place, &topic) else { return false };
        if state.heard.len() > derived.sources.len() {
            return false;
        }
        *known = state;
        self.note(place, &topic);
        true
    }

    /// What would become of a message for one of the design, topic by topic; nothing is changed, and nothing comes of one
    /// that is of none of its sources.
    pub fn try_one(
        &self,
        place: usize,
        topic: &TopicName,
        payload: &[u8],
        (qos, retained): (QoS, bool),
        now: Time,
    ) -> Vec<(TopicName, Outcome)> {
        let Some(one) = self.all.get(place).filter(|_| !(retained && payload.is_empty())) else { return Vec::new() };
        let fields = MessageFields::new(topic, payload, qos.level(), retained);
        let made = one.derived.taken(topic).map(|(source, to)| {
            let known = one.topics.get(&to);
            if known.is_none() && self.is_full(one) {
                return (to, Outcome::Full);
            }
            let mut state = known.cloned().unwrap_or_default();
            let outcome = state.hear(&one.derived, Arrived { source, topic, payload, fields: &fields, now });
            (to, outcome)
        });
        made.collect()
    }

    /// Whether one more topic would be too many.
    fn is_full(&self, one: &One) -> bool {
        one.topics.len() >= TOPICS.0 || self.topics >= TOPICS.1
    }

    /// How many topics one of the design makes.
    pub fn count(&self, place: usize) -> usize {
        self.all.get(place).map_or(0, |one| one.topics.len())
    }

    /// What is known of topics that one of the design makes: `most` at most, in no particular order.
    pub fn known(&self, place: usize, most: usize) -> Vec<Known> {
        let topics = self.all.get(place).into_iter().flat_map(|one| &one.topics).take(most);
        topics.map(|(topic, state)| known(topic, state)).collect()
    }

    /// What is known of one topic, by each of the design that makes it.
    pub fn known_of(&self, topic: &TopicName) -> Vec<(usize, Known)> {
        let all = self.all.iter().enumerate();
        all.filter_map(|(place, one)| Some((place, known(topic, one.topics.get(topic)?)))).collect()
    }
}

fn known(topic: &TopicName, state: &State) -> Known {
    Known {
        topic: topic.clone(),
        value: state.value.as_ref().map(|(value, at)| (value.clone(), Time::from_micros(*at))),
        published: state
            .published
            .as_ref()
            .map(|published| (published.value.clone(), Time::from_micros(published.at), published.quality)),
        waits: state.waits,
        heard: state.heard.iter().map(|heard| heard.as_ref().map(|heard| heard.topic.clone())).collect(),
    }
}
