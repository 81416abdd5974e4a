//! Records what becomes of live messages: who publishes them, and what each recipient gets, when, or why not.
//!
//! It is switched on for a filter and a bounded time, and holds what it recorded in memory. A message that is recorded
//! carries a number, by which everything that happens to it on its way is noted here; the others carry none, and cost
//! a look at a flag.

use std::{
    collections::{BTreeMap, VecDeque},
    fmt,
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    time::Duration,
};

use arc_swap::ArcSwap;
use bytes::Bytes;
use moorfall_core::{
    Message, SessionKey, Time,
    access::Explanation,
    bridge::NotCarried,
    owned::NotOwner,
    plan::Agreement,
    router::Recipient,
    session::{Refusal, Withheld},
};
use moorfall_wire::{QoS, ReasonCode, TopicFilter, TopicName};
use smallvec::SmallVec;
use tracing_mutex::parkinglot::Mutex;

/// Recordings that are held, running and ended.
const RECORDINGS: usize = 8;

/// Messages of one recording that are held, the newest.
pub const MESSAGES: usize = 500;

/// Messages of one recording in a second; more are only counted.
pub const PER_SECOND: u32 = 100;

/// Recipients of one message that are named.
pub const NAMED: usize = 100;

/// The longest recording.
pub const LONGEST: Duration = Duration::from_secs(3_600);

/// Bytes of a payload that are kept.
const PAYLOAD: usize = 4_096;

/// Records journeys.
#[derive(Debug, Default)]
pub struct Recorder {
    /// Whether anything is recorded now.
    on: AtomicBool,
    /// What is recorded now: numbers of recordings, and their filters.
    wanted: ArcSwap<Vec<(u64, TopicFilter)>>,
    state: Mutex<State>,
}

#[derive(Debug, Default)]
struct State {
    recordings: Vec<Recording>,
    journeys: BTreeMap<u64, Journey>,
    last_recording: u64,
    last_journey: u64,
}

/// One recording.
#[derive(Clone, Debug)]
pub struct Recording {
    /// From 1; never used twice while the service runs.
    pub number: u64,
    /// Messages whose topics it matches.
    pub filter: TopicFilter,
    /// Who asked for it.
    pub by: String,
    /// When it began.
    pub began: Time,
    /// When it ends, or has ended.
    pub ends: Time,
    /// Whether it goes on.
    pub is_running: bool,
    /// Messages that its filter matched.
    pub seen: u64,
    /// How many of them were not recorded, because they were too many in a second.
    pub left_out: u64,
    /// What is held of it, oldest first.
    journeys: VecDeque<u64>,
    /// The second that is counted now, and messages in it.
    second: (u64, u32),
}

impl Recording {
    /// Messages that are held.
    pub fn held(&self) -> usize {
        self.journeys.len()
    }

    fn takes(&mut self, now: Time) -> bool {
        self.seen += 1;
        let second = now.as_micros() / 1_000_000;
        if self.second.0 != second {
            self.second = (second, 0);
        }
        self.second.1 += 1;
        let takes = self.second.1 <= PER_SECOND;
        self.left_out += u64::from(!takes);
        takes
    }
}

/// Who publishes, and what was found before the message was routed.
#[derive(Clone, Debug, Default)]
pub struct Publisher {
    /// Empty if no client published it.
    pub client_id: String,
    /// Whose the message is.
    pub identity: String,
    /// What the rules say of it; `None` of what no client publishes now, such as the Will Message of one that has gone.
    pub access: Option<Explanation>,
    /// How it agrees with the plan; `None` if that was not asked: it is a will, or the service's own.
    pub plan: Option<Agreement>,
}

/// One message on its way.
#[derive(Clone, Debug)]
pub struct Journey {
    /// From 1; never used twice while the service runs.
    pub number: u64,
    /// When the broker took it.
    pub at: Time,
    /// Its topic.
    pub topic: TopicName,
    /// Who published it.
    pub publisher: Publisher,
    /// The publisher's quality of service.
    pub qos: QoS,
    /// Whether it was to be retained.
    pub retain: bool,
    /// Bytes of its payload.
    pub bytes: usize,
    /// The beginning of its payload.
    pub payload: Bytes,
    /// Why the broker did not accept it, if it did not.
    pub refused: Option<Refusal>,
    /// Why nobody gets it, if another client owns its topic.
    pub not_owner: Option<NotOwner>,
    /// How many sessions it leads to.
    pub total: u64,
    /// The first of them.
    pub leads: Vec<Lead>,
    /// In how many recordings it is.
    holders: usize,
}

/// One session that a message leads to.
#[derive(Clone, Debug)]
pub struct Lead {
    /// The session's key.
    pub session: SessionKey,
    /// Its client identifier.
    pub client_id: String,
    /// Whose it is.
    pub identity: Arc<str>,
    /// The quality of service of the delivery.
    pub qos: QoS,
    /// The shared subscription in which it was this session's turn.
    pub shared: Option<TopicFilter>,
    /// When it was sent.
    pub sent: Option<Time>,
    /// How it ended, once it has.
    pub end: Option<End>,
    /// What became of it on a bridge, if the session is one's.
    pub across: Option<Across>,
}

/// What became of a message on a bridge.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Across {
    /// It was sent to the remote of this address under this name.
    Sent {
        /// What it is called there.
        topic: TopicName,
        /// Where.
        remote: String,
    },
    /// It was not carried on.
    NotCarried {
        /// Why.
        why: NotCarried,
        /// What the remote said, if it refused.
        said: String,
    },
}

/// How the way of a message to one session ended.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum End {
    /// The client has answered it.
    Answered(Time, ReasonCode),
    /// It is not sent, or not to the end.
    Withheld(Unsent),
}

/// Why a message is not sent to a session, or not to the end.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Unsent {
    /// It is the session's own, and it asked for No Local.
    Own,
    /// The session's queue was full, and newer messages took its place.
    Displaced,
    /// As the session says.
    Session(Withheld),
    /// The client went away, and QoS 0 is not kept for it.
    Away,
    /// The session ended before it was sent.
    Ended,
    /// The session ended before the client had answered.
    EndedUnanswered,
    /// Its member of a shared subscription went away, and it was the turn of this client then.
    TurnOf(String),
    /// Its member of a shared subscription went away, and there is no other.
    NoMember,
}

impl fmt::Display for Unsent {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Own => "own message of the client, which asked for No Local",
            Self::Displaced => "the queue is full, and newer messages have taken its place",
            Self::Session(why) => return why.fmt(f),
            Self::Away => "the client disconnected, and QoS 0 messages are not queued",
            Self::Ended => "the session ended before it was sent",
            Self::EndedUnanswered => "the session ended before the client acknowledged it",
            Self::TurnOf(client_id) => return write!(f, "the client disconnected; {client_id} received it instead"),
            Self::NoMember => "the session ended, and the shared subscription has no other client",
        })
    }
}

/// A session, as far as a recording names it: it may be over long before the recording is.
pub trait Named {
    /// Unique among all sessions ever.
    fn key(&self) -> SessionKey;
    /// Its client identifier.
    fn client_id(&self) -> &str;
    /// Whose it is.
    fn identity(&self) -> &Arc<str>;
}

/// Why a recording was not begun.
#[derive(Debug, PartialEq, Eq)]
pub struct TooMany;

impl Recorder {
    /// Whether anything is recorded now.
    pub fn is_on(&self) -> bool {
        self.on.load(Ordering::Relaxed)
    }

    /// Begins a recording. The oldest one that has ended makes room for it.
    pub fn begin(&self, filter: TopicFilter, by: &str, span: Duration, now: Time) -> Result<Recording, TooMany> {
        let mut state = self.state.lock();
        state.end_due(now);
        if state.recordings.len() >= RECORDINGS {
            let ended = state.recordings.iter().position(|recording| !recording.is_running).ok_or(TooMany)?;
            let gone = state.recordings.remove(ended);
            gone.journeys.into_iter().for_each(|number| state.let_go(number));
        }
        state.last_recording += 1;
        let recording = Recording {
            number: state.last_recording,
            filter,
            by: by.to_owned(),
            began: now,
            ends: now + span.min(LONGEST),
            is_running: true,
            seen: 0,
            left_out: 0,
            journeys: VecDeque::new(),
            second: (0, 0),
        };
        state.recordings.push(recording.clone());
        self.announce(&state);
        Ok(recording)
    }

    /// Ends a recording; what it has is kept. Gives it, if there is one of this number.
    pub fn end(&self, number: u64, now: Time) -> Option<Recording> {
        let mut state = self.state.lock();
        state.end_due(now);
        let recording = state.recordings.iter_mut().find(|recording| recording.number == number)?;
        if std::mem::replace(&mut recording.is_running, false) {
            recording.ends = now;
        }
        let recording = recording.clone();
        self.announce(&state);
        Some(recording)
    }

    /// Ends recordings whose time is over. To be called once in a while.
    pub fn keep_time(&self, now: Time) {
        if self.is_on() {
            let mut state = self.state.lock();
            state.end_due(now);
            self.announce(&state);
        }
    }

    fn announce(&self, state: &State) {
        let running = state.recordings.iter().filter(|recording| recording.is_running);
        let wanted: Vec<_> = running.map(|recording| (recording.number, recording.filter.clone())).collect();
        self.on.store(!wanted.is_empty(), Ordering::Relaxed);
        self.wanted.store(Arc::new(wanted));
    }

    /// All recordings, the newest first.
    pub fn all(&self, now: Time) -> Vec<Recording> {
        let mut state = self.state.lock();
        state.end_due(now);
        state.recordings.iter().rev().cloned().collect()
    }

    /// A recording and its journeys, the newest first: at most so many, of those after `after`.
    pub fn show(&self, number: u64, after: u64, most: usize, now: Time) -> Option<(Recording, Vec<Journey>)> {
        let mut state = self.state.lock();
        state.end_due(now);
        let recording = state.recordings.iter().find(|recording| recording.number == number)?;
        let held = recording.journeys.iter().rev().take_while(|journey| **journey > after).take(most);
        let journeys = held.filter_map(|journey| state.journeys.get(journey).cloned()).collect();
        Some((recording.clone(), journeys))
    }

    /// One journey.
    pub fn journey(&self, number: u64) -> Option<Journey> {
        self.state.lock().journeys.get(&number).cloned()
    }

    /// Begins the journey of a message that the broker has taken, if it is to be recorded; gives the message to be
    /// routed. What `publisher` gives is only asked for then.
    pub fn follow(&self, message: Arc<Message>, publisher: impl FnOnce() -> Publisher) -> Arc<Message> {
        match self.note(&message, None, publisher) {
            Some(number) => Arc::new(message.followed(number)),
            None => message,
        }
    }

    /// Notes a message that the broker did not accept, if it is to be recorded.
    pub fn refuse(&self, message: &Message, refusal: &Refusal, publisher: impl FnOnce() -> Publisher) {
        self.note(message, Some(refusal), publisher);
    }

    fn note(&self, message: &Message, refused: Option<&Refusal>, publisher: impl FnOnce() -> Publisher) -> Option<u64> {
        let wanted = self.wanted.load();
        let topic = &message.topic;
        let wanting: SmallVec<[u64; RECORDINGS]> =
            wanted.iter().filter(|(_, filter)| filter.matches(topic)).map(|(number, _)| *number).collect();
        if wanting.is_empty() {
            return None;
        }
        let now = message.received;
        let mut guard = self.state.lock();
        let state = &mut *guard;
        state.end_due(now);
        let takes = |recording: &&mut Recording| wanting.contains(&recording.number) && recording.is_running;
        let number = state.last_journey + 1;
        let (mut holders, mut displaced) = (0, SmallVec::<[u64; RECORDINGS]>::new());
        for recording in state.recordings.iter_mut().filter(takes) {
            if recording.takes(now) {
                if recording.journeys.len() >= MESSAGES {
                    displaced.extend(recording.journeys.pop_front());
                }
                recording.journeys.push_back(number);
                holders += 1;
            }
        }
        displaced.into_iter().for_each(|journey| state.let_go(journey));
        if holders == 0 {
            return None;
        }
        state.last_journey = number;
        let journey = Journey {
            number,
            at: now,
            topic: topic.detached(),
            publisher: publisher(),
            qos: message.qos,
            retain: message.retain,
            bytes: message.payload.len(),
            payload: Bytes::copy_from_slice(&message.payload[..message.payload.len().min(PAYLOAD)]),
            refused: refused.map(Refusal::remembered),
            not_owner: None,
            total: 0,
            leads: Vec::new(),
            holders,
        };
        state.journeys.insert(number, journey);
        Some(number)
    }

    /// The broker has no room for a message after all.
    pub fn turn_away(&self, journey: u64, refusal: impl FnOnce() -> Refusal) {
        if journey != 0
            && let Some(journey) = self.state.lock().journeys.get_mut(&journey)
        {
            journey.refused = Some(refusal());
        }
    }

    /// Another client owns the topic of a message, so nobody gets it.
    pub fn keep_back(&self, journey: u64, why: &NotOwner) {
        if journey != 0
            && let Some(journey) = self.state.lock().journeys.get_mut(&journey)
        {
            journey.not_owner = Some(why.clone());
        }
    }

    /// A message is about to be queued for a session. `is_own` says that it is the session's own, and that it wants
    /// none of these.
    pub fn lead(&self, journey: u64, recipient: &Recipient<Arc<impl Named>>, qos: QoS, is_own: bool) {
        if journey == 0 {
            return;
        }
        let end = is_own.then_some(End::Withheld(Unsent::Own));
        let mut state = self.state.lock();
        let Some(journey) = state.journeys.get_mut(&journey) else { return };
        journey.total += 1;
        if journey.leads.len() < NAMED {
            journey.leads.push(Lead {
                session: recipient.handle.key(),
                client_id: recipient.handle.client_id().to_owned(),
                identity: Arc::clone(recipient.handle.identity()),
                qos: qos.min(recipient.qos),
                shared: recipient.via.as_ref().and_then(|via| via.shared.clone()),
                sent: None,
                end,
                across: None,
            });
        }
    }

    /// What became of a message on a bridge, whose session here is this.
    pub fn across(&self, journey: u64, session: SessionKey, across: impl FnOnce() -> Across) {
        self.change(journey, session, |lead| lead.across = Some(across()));
    }

    /// A message was sent to a session.
    pub fn sent(&self, journey: u64, session: SessionKey, now: Time) {
        self.change(journey, session, |lead| lead.sent = lead.sent.or(Some(now)));
    }

    /// The client of a session has answered a message.
    pub fn answered(&self, journey: u64, session: SessionKey, now: Time, reason: ReasonCode) {
        self.change(journey, session, |lead| lead.end = Some(End::Answered(now, reason)));
    }

    /// A message will not be sent to a session, or not again.
    pub fn withheld(&self, journey: u64, session: SessionKey, why: impl FnOnce() -> Unsent) {
        self.change(journey, session, |lead| lead.end = Some(End::Withheld(why())));
    }

    fn change(&self, journey: u64, session: SessionKey, change: impl FnOnce(&mut Lead)) {
        if journey == 0 {
            return;
        }
        let mut state = self.state.lock();
        // Perhaps it was forgotten meanwhile, or has more recipients than are named.
        let lead = state.journeys.get_mut(&journey).and_then(|journey| {
            let mut open = journey.leads.iter_mut().filter(|lead| lead.end.is_none());
            open.find(|lead| lead.session == session)
        });
        if let Some(lead) = lead {
            change(lead);
        }
    }
}

impl State {
    fn end_due(&mut self, now: Time) {
        for recording in self.recordings.iter_mut().filter(|recording| recording.ends <= now) {
            recording.is_running = false;
        }
    }

    /// A recording holds a journey no more.
    fn let_go(&mut self, number: u64) {
        if let Some(journey) = self.journeys.get_mut(&number) {
            journey.holders -= 1;
            if journey.holders == 0 {
                self.journeys.remove(&number);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test may panic")]

    use moorfall_wire::PublishProperties;

    use super::*;

    const LEVEL: &str = "harrowmere/gorge/kettle-weir/stage/level";

    fn at(millis: u64) -> Time {
        Time::from_micros(1_000_000_000 + millis * 1_000)
    }

    fn message(topic: &str, now: Time) -> Arc<Message> {
        let (topic, properties) = (topic.parse().unwrap(), PublishProperties::default());
        Arc::new(Message::new(topic, "1.83".into(), QoS::AtLeastOnce, false, properties, SessionKey(1), now))
    }

    fn begin(recorder: &Recorder, filter: &str, seconds: u64, now: Time) -> u64 {
        recorder.begin(filter.parse().unwrap(), "wren", Duration::from_secs(seconds), now).unwrap().number
    }

    fn follow(recorder: &Recorder, topic: &str, now: Time) -> u64 {
        recorder.follow(message(topic, now), Publisher::default).journey()
    }

    /// A session of a test.
    struct Reader(SessionKey, Arc<str>);

    impl Named for Reader {
        fn key(&self) -> SessionKey {
            self.0
        }

        fn client_id(&self) -> &str {
            &self.1
        }

        fn identity(&self) -> &Arc<str> {
            &self.1
        }
    }

    fn recipient(key: u64) -> Recipient<Arc<Reader>> {
        let session = SessionKey(key);
        let handle = Arc::new(Reader(session, "desk".into()));
        Recipient { session, qos: QoS::AtLeastOnce, retain_as_published: false, no_local: false, via: None, handle }
    }

    #[test]
    fn only_what_a_running_recording_wants_is_followed() {
        let recorder = Recorder::default();
        assert!(!recorder.is_on());
        assert_eq!(follow(&recorder, LEVEL, at(0)), 0);
        let number = begin(&recorder, "harrowmere/+/+/stage/level", 10, at(0));
        assert!(recorder.is_on());
        let journey = follow(&recorder, LEVEL, at(1));
        assert!(journey > 0);
        assert_eq!(follow(&recorder, "harrowmere/gorge/kettle-weir/status", at(2)), 0);
        assert_eq!(follow(&recorder, LEVEL, at(10_000)), 0, "its time is over");
        recorder.keep_time(at(10_000));
        assert!(!recorder.is_on());
        let (recording, journeys) = recorder.show(number, 0, 10, at(10_001)).unwrap();
        assert_eq!((recording.is_running, recording.seen, journeys.len()), (false, 1, 1));
        assert_eq!(journeys[0].number, journey);
        assert_eq!(recorder.end(number, at(10_002)).unwrap().ends, at(10_000), "it had ended before");
        assert!(recorder.end(number + 1, at(0)).is_none());
    }

    #[test]
    fn a_message_that_two_recordings_hold_stays_until_both_have_let_go() {
        let recorder = Recorder::default();
        let (all, level) = (begin(&recorder, "#", 3_600, at(0)), begin(&recorder, LEVEL, 3_600, at(0)));
        let shared = follow(&recorder, LEVEL, at(0));
        // Others push it out of the first; a few in each second, so that none is left out.
        for number in 0..MESSAGES as u64 {
            assert!(follow(&recorder, "harrowmere/other", at(number * 20)) > 0);
        }
        let held = |number| recorder.show(number, 0, 2 * MESSAGES, at(0)).unwrap().1;
        assert!(held(all).len() == MESSAGES && held(all).iter().all(|journey| journey.number != shared));
        assert_eq!(held(level).len(), 1);
        assert!(recorder.journey(shared).is_some());
        // Both end; the newcomers take their places, the oldest first.
        recorder.end(all, at(20_000));
        recorder.end(level, at(20_000));
        for _ in 0..RECORDINGS {
            begin(&recorder, "#", 3_600, at(20_000));
        }
        assert!(recorder.journey(shared).is_none());
        assert_eq!(recorder.state.lock().journeys.len(), 0, "nothing is held for nobody");
        let full = recorder.begin("#".parse().unwrap(), "wren", Duration::from_secs(1), at(20_001));
        assert_eq!(full.unwrap_err(), TooMany);
    }

    #[test]
    fn too_many_in_a_second_are_counted_and_left_out() {
        let recorder = Recorder::default();
        let number = begin(&recorder, "#", 3_600, at(0));
        for _ in 0..PER_SECOND {
            assert!(follow(&recorder, LEVEL, at(0)) > 0);
        }
        assert_eq!(follow(&recorder, LEVEL, at(999)), 0);
        assert!(follow(&recorder, LEVEL, at(1_000)) > 0, "the next second");
        let recording = recorder.end(number, at(2_000)).unwrap();
        assert_eq!((recording.seen, recording.left_out), (u64::from(PER_SECOND) + 2, 1));
        let after = recorder.show(number, u64::from(PER_SECOND), 10, at(2_000)).unwrap().1;
        assert_eq!(after.len(), 1, "only what came after a message");
    }

    #[test]
    fn what_happens_is_noted_for_the_session_whose_turn_it_is() {
        let recorder = Recorder::default();
        begin(&recorder, "#", 3_600, at(0));
        let journey = follow(&recorder, LEVEL, at(0));
        let (one, two) = (recipient(1), recipient(2));
        recorder.lead(journey, &one, QoS::ExactlyOnce, false);
        recorder.lead(journey, &two, QoS::AtMostOnce, true);
        recorder.sent(journey, one.session, at(3));
        recorder.sent(journey, one.session, at(9));
        recorder.withheld(journey, two.session, || unreachable!("its way had ended"));
        // The client went away; another time it was its turn again.
        recorder.withheld(journey, one.session, || Unsent::Away);
        recorder.lead(journey, &one, QoS::AtLeastOnce, false);
        recorder.answered(journey, one.session, at(20), ReasonCode::Success);
        recorder.answered(journey + 1, one.session, at(20), ReasonCode::Success);
        let leads = recorder.journey(journey).unwrap().leads;
        assert_eq!((leads[0].sent, leads[0].qos), (Some(at(3)), QoS::AtLeastOnce));
        assert_eq!(leads[0].end, Some(End::Withheld(Unsent::Away)));
        assert_eq!(leads[1].end, Some(End::Withheld(Unsent::Own)));
        assert_eq!((leads[2].sent, &leads[2].end), (None, &Some(End::Answered(at(20), ReasonCode::Success))));
        for key in 3..=NAMED as u64 + 3 {
            recorder.lead(journey, &recipient(key), QoS::AtMostOnce, false);
        }
        let full = recorder.journey(journey).unwrap();
        assert_eq!((full.leads.len(), full.total), (NAMED, NAMED as u64 + 4));
    }
}
