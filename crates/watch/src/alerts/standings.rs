//! How alerts stand, and what is to be told of them.

use std::{
    collections::{BTreeMap, BTreeSet, HashMap, VecDeque},
    sync::Arc,
    time::Duration,
};

use moorfall_broker::{broker::Broker, clock::date, notes, random::random_text};
use moorfall_contract::{
    alerts::{NoticeFacts, NoticeSubject},
    kinds::{NoticeKind, NoticeWay},
};
use moorfall_core::{
    Time,
    access::Policy,
    alert::{Phase, Standing, Telling},
    blueprint::{Alert, Blueprint, BridgeFigure, Contact, Watched},
    measure::{Kind, Series, Values},
    shown::span,
};
use moorfall_live::{
    facts::Fact,
    heard::Speaker,
    links::{LinkFigures, LinkPhase},
};
use moorfall_store::{AlertChanges, NewNotice, NoticeRecord, StandingRecord, StoreError};
use moorfall_wire::TopicFilter;
use parking_lot::Mutex;
use time::OffsetDateTime;
use tokio::{
    sync::Notify,
    time::{MissedTickBehavior, interval, timeout},
};

use super::{
    records,
    watching::{Changed, Watching},
};
use crate::sampler::Watch;

/// Subjects that a notice names.
const NAMED: usize = 20;

/// Over how many readings, one a second, the rate of a counter is taken.
const RATE_OVER: usize = 10;

/// How long one statement may take.
pub(super) const ANSWER_TIME: Duration = Duration::from_secs(5);

/// Standings that are written at a time.
const TOGETHER: usize = 1_000;

/// Alerts, and how they stand.
#[derive(Debug)]
pub struct Alerts {
    pub(super) inner: Mutex<Inner>,
    /// There are notices to send.
    pub(super) more: Notify,
}

impl Default for Alerts {
    fn default() -> Self {
        Self { inner: Mutex::default(), more: Notify::new() }
    }
}

/// For how long nobody is told, and who wants it.
#[derive(Clone, Debug)]
pub struct Quiet {
    /// Who.
    pub by: String,
    /// Until when.
    pub until: OffsetDateTime,
}

#[derive(Debug, Default)]
pub(super) struct Inner {
    /// The blueprint that is watched, and its number.
    revision: Option<i64>,
    blueprint: Arc<Blueprint>,
    pub(super) all: Vec<Watching>,
    pub(super) quiet: HashMap<String, Quiet>,
    /// Alerts and subjects whose standings are not written as they are.
    unwritten: BTreeSet<(String, Arc<str>)>,
    /// Notices that are to be written with them.
    notices: Vec<NewNotice>,
    /// Notices that the database could not take: they are sent all the same, and written when it is back.
    pub(super) aside: Vec<NoticeRecord>,
}

/// Watches until the service stops.
pub async fn run(broker: Arc<Broker>, watch: Arc<Watch>, alerts: Arc<Alerts>) {
    let mut ticks = interval(Duration::from_secs(1));
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    let mut readings = VecDeque::new();
    let mut known = None;
    loop {
        tokio::select! {
            _ = ticks.tick() => {}
            () = broker.common.stopping.cancelled() => return,
        }
        if known.is_none() {
            // Without what stood before it is not known what was told.
            known = load(&broker, &alerts).await;
            if known.is_none() {
                continue;
            }
        }
        let now = broker.now();
        readings.push_back((now, watch.latest()));
        if readings.len() > RATE_OVER + 1 {
            readings.pop_front();
        }
        alerts.follow(&broker, known.get_or_insert_default(), now);
        alerts.listen(&broker);
        alerts.keep_time(&broker, &readings, now);
        alerts.write(&broker).await;
    }
}

/// How alerts stood, by alert and subject.
type Known = BTreeMap<String, BTreeMap<Arc<str>, Standing>>;

async fn load(broker: &Broker, alerts: &Alerts) -> Option<Known> {
    let asked = timeout(ANSWER_TIME, broker.store().alerts()).await.unwrap_or(Err(StoreError::Silent));
    let (standings, quiet) = match asked {
        Ok(stored) => stored,
        Err(error) => {
            tracing::debug!(%error, "how alerts stood can't be read yet");
            return None;
        }
    };
    let mut known = Known::new();
    for record in standings {
        let (alert, subject, standing) = standing_of(record);
        known.entry(alert).or_default().insert(subject, standing);
    }
    let quiet = quiet.into_iter().map(|one| (one.alert, Quiet { by: one.person, until: one.until }));
    alerts.inner.lock().quiet = quiet.collect();
    Some(known)
}

fn standing_of(record: StandingRecord) -> (String, Arc<str>, Standing) {
    let time = |micros: i64| Time::from_micros(micros.unsigned_abs());
    let standing = Standing {
        phase: record.phase.parse().unwrap_or_default(),
        since: time(record.since),
        out_since: record.out_since.map(time),
        // It is not known whether it is so still.
        value: None,
        worst: record.worst,
        raises: record.raises.into_iter().map(time).collect(),
        flapping: record.flapping,
        told: record.told,
    };
    (record.alert, record.subject.into(), standing)
}

fn record_of(alert: &str, subject: &str, standing: &Standing) -> StandingRecord {
    let micros = |time: Time| i64::try_from(time.as_micros()).unwrap_or(i64::MAX);
    StandingRecord {
        alert: alert.to_owned(),
        subject: subject.to_owned(),
        phase: <&str>::from(standing.phase).to_owned(),
        since: micros(standing.since),
        out_since: standing.out_since.map(micros),
        value: standing.value,
        worst: standing.worst,
        raises: standing.raises.iter().copied().map(micros).collect(),
        flapping: standing.flapping,
        told: standing.told,
    }
}

/// What of a bridge an alert is about.
fn figure_of(link: LinkFigures, figure: BridgeFigure) -> f64 {
    match figure {
        BridgeFigure::Down => f64::from(u8::from(link.state == LinkPhase::Down)),
        BridgeFigure::Waiting => link.waiting as f64,
        BridgeFigure::WaitingBytes => link.bytes as f64,
        BridgeFigure::Oldest => link.oldest.as_secs_f64(),
    }
}

/// The value of a measure: of a counter its rate.
fn measured(readings: &VecDeque<(Time, Arc<Values>)>, series: Series) -> Option<f64> {
    let (now, latest) = readings.back()?;
    if series.measure().kind() != Kind::Counter {
        return latest.value(series);
    }
    let (then, earlier) = readings.front()?;
    let span = (*now - *then).as_secs_f64();
    (span > 0.0).then(|| latest.count(series).saturating_sub(earlier.count(series)) as f64 / span)
}

impl Alerts {
    /// Another blueprint may be in force.
    fn follow(&self, broker: &Broker, known: &mut Known, now: Time) {
        let in_force = broker.design.in_force();
        let mut inner = self.inner.lock();
        if inner.revision == Some(in_force.revision) {
            return;
        }
        let plan = in_force.policy.plan();
        for watching in std::mem::take(&mut inner.all) {
            let standings = watching.subjects.into_iter().map(|(name, subject)| (name, subject.standing));
            known.entry(watching.alert.name.clone()).or_default().extend(standings);
        }
        let before = std::mem::replace(&mut inner.blueprint, Arc::clone(in_force.policy.blueprint()));
        inner.revision = Some(in_force.revision);
        for alert in inner.blueprint.alerts.clone() {
            let mut watching = Watching::new(alert);
            let name = watching.alert.name.clone();
            let left = watching.restore(known.remove(&name).unwrap_or_default(), plan, now);
            if !left.is_empty() {
                known.insert(name, left);
            }
            watching.begin(plan, now);
            inner.all.push(watching);
        }
        // What is left is watched no more.
        for (name, standings) in std::mem::take(known) {
            let told: Vec<_> = standings.iter().filter(|(_, standing)| standing.told).collect();
            let alert = before.alerts.iter().chain(&inner.blueprint.alerts).find(|alert| alert.name == name);
            if let (Some(alert), false) = (alert, told.is_empty()) {
                let subjects =
                    told.iter().map(|(subject, standing)| (Arc::clone(subject), (*standing).clone())).collect();
                let notices = notices_of(&inner.blueprint, alert, NoticeKind::Removed, subjects, now);
                inner.notices.extend(notices);
            }
            inner.unwritten.extend(standings.into_keys().map(|subject| (name.clone(), subject)));
        }
        let filters = inner.all.iter().filter_map(|watching| watching.alert.watched.topics());
        let filters: BTreeSet<TopicFilter> = filters.map(|topics| topics.filter.clone()).collect();
        let speakers: Vec<Speaker> = inner.all.iter().filter_map(Watching::speaker).collect();
        let filters: Vec<TopicFilter> = filters.into_iter().collect();
        broker.live.heard.wait_for(&speakers);
        broker.live.ears.want(filters.clone());
        // What was retained before is known at once.
        for filter in &filters {
            for message in broker.sessions.router.retained(filter, now) {
                inner.arrived(broker, (&message.topic, &message.payload, false), &in_force.policy, now);
            }
        }
    }

    /// Takes what was heard since the last time.
    fn listen(&self, broker: &Broker) {
        let policy = broker.design.policy();
        let mut inner = self.inner.lock();
        let missed =
            broker.live.ears.take(|topic, payload, at| inner.arrived(broker, (topic, payload, true), &policy, at));
        if missed > 0 {
            for watching in inner.all.iter_mut().filter(|watching| watching.alert.watched.topics().is_some()) {
                watching.unwatched += missed;
            }
        }
    }

    /// A second has passed.
    fn keep_time(&self, broker: &Broker, readings: &VecDeque<(Time, Arc<Values>)>, now: Time) {
        let policy = broker.design.policy();
        let mut inner = self.inner.lock();
        let wall = OffsetDateTime::now_utc();
        inner.quiet.retain(|_, quiet| quiet.until > wall);
        for place in 0..inner.all.len() {
            let mut changed = Changed::new();
            let watching = &mut inner.all[place];
            let alert = Arc::clone(&watching.alert);
            let found = match &alert.watched {
                Watched::Measure(series) => measured(readings, *series).map(|value| (series.to_string(), value)),
                Watched::Bridge { name, figure } => {
                    broker.live.links.of(name).map(|link| (name.clone(), figure_of(link, *figure)))
                }
                _ => None,
            };
            if let Some((name, value)) = found {
                watching.measured(&name, value, policy.plan(), now, &mut changed);
            }
            if let Some(at) = watching.speaker().and_then(|speaker| broker.live.heard.last(&speaker)) {
                watching.heard(at);
            }
            watching.keep_time(now, &mut changed);
            inner.changed(broker, place, changed, now);
            inner.tell(place, now);
        }
    }

    /// Writes what is not written, and what is told with it. What the database does not take is told all the same.
    async fn write(&self, broker: &Broker) {
        loop {
            let (keys, changes) = self.inner.lock().changes();
            if changes.is_empty() {
                return;
            }
            let has_notices = !changes.notices.is_empty();
            let written = timeout(ANSWER_TIME, broker.store().change_alerts(&changes)).await;
            match written.unwrap_or(Err(StoreError::Silent)) {
                Ok(()) => {}
                Err(error) => {
                    {
                        let mut inner = self.inner.lock();
                        inner.unwritten.extend(keys);
                        inner.aside.extend(changes.notices.into_iter().map(records::new_record));
                    }
                    self.more.notify_one();
                    tracing::debug!(%error, "how alerts stand can't be written now");
                    return;
                }
            }
            if has_notices {
                self.more.notify_one();
            }
        }
    }

    /// Nobody is told of an alert until then; `None` ends it.
    pub fn set_quiet(&self, alert: &str, quiet: Option<Quiet>) {
        let mut inner = self.inner.lock();
        match quiet {
            Some(quiet) => inner.quiet.insert(alert.to_owned(), quiet),
            None => inner.quiet.remove(alert),
        };
    }

    /// Tries whether notices of an alert arrive: one to each address. `None` if there is no such alert.
    pub fn test(&self, alert: &str, now: Time) -> Option<Vec<NewNotice>> {
        let inner = self.inner.lock();
        let watching = inner.all.iter().find(|watching| watching.alert.name == alert)?;
        Some(notices_of(&inner.blueprint, &watching.alert, NoticeKind::Test, Vec::new(), now))
    }

    /// There are notices to send.
    pub fn notify(&self) {
        self.more.notify_one();
    }
}

impl Inner {
    /// Takes a message: its topic, what it says, and whether it is new.
    fn arrived(&mut self, broker: &Broker, message: (&str, &[u8], bool), policy: &Policy, now: Time) {
        let mut changed = Changed::new();
        for place in 0..self.all.len() {
            self.all[place].arrived(message, policy.plan(), now, &mut changed);
            self.changed(broker, place, changed.drain(..), now);
        }
    }

    /// Standings of an alert have changed.
    fn changed(
        &mut self,
        broker: &Broker,
        place: usize,
        changed: impl IntoIterator<Item = (Arc<str>, Phase)>,
        now: Time,
    ) {
        let watching = &self.all[place];
        let name = &watching.alert.name;
        for (subject, before) in changed {
            if let Some(known) = watching.subjects.get(&subject) {
                let value = known.standing.value.unwrap_or_default();
                let value = match watching.is_silence() {
                    true => format!("silent for {}", span(value.max(0.0) as u64)),
                    false => value.to_string(),
                };
                let (alert, subject) = (name.clone(), subject.to_string());
                let was_raised = matches!(before, Phase::Raised | Phase::Clearing);
                let fact = match (was_raised, known.standing.is_raised()) {
                    (false, true) => Some(Fact::AlertRaised { alert, subject, value }),
                    (true, false) => Some(Fact::AlertCleared { alert, subject, value }),
                    _ => None,
                };
                if let Some(fact) = fact {
                    notes::note(&broker.live, now, &fact);
                }
            }
            self.unwritten.insert((name.clone(), subject));
        }
    }

    /// What is due of an alert is told, unless it is quiet.
    fn tell(&mut self, place: usize, now: Time) {
        let watching = &mut self.all[place];
        if self.quiet.contains_key(&watching.alert.name) {
            return;
        }
        for telling in [Telling::Raised, Telling::Cleared] {
            let mut subjects = Vec::new();
            for (name, subject) in &mut watching.subjects {
                if subject.standing.due() == Some(telling) {
                    subject.standing.set_told();
                    subjects.push((Arc::clone(name), subject.standing.clone()));
                    self.unwritten.insert((watching.alert.name.clone(), Arc::clone(name)));
                }
            }
            if !subjects.is_empty() {
                self.notices.extend(notices_of(&self.blueprint, &watching.alert, telling.into(), subjects, now));
            }
        }
    }

    /// What is to be written next, and of what.
    fn changes(&mut self) -> (Vec<(String, Arc<str>)>, AlertChanges) {
        let mut changes = AlertChanges::default();
        let keys: Vec<_> = self.unwritten.iter().take(TOGETHER).cloned().collect();
        for key in &keys {
            self.unwritten.remove(key);
            let (alert, subject) = key;
            let watching = self.all.iter().find(|watching| watching.alert.name == *alert);
            let standing = watching.and_then(|watching| Some(&watching.subjects.get(subject)?.standing));
            match standing {
                Some(standing) if standing.phase != Phase::Ok || standing.told || !standing.raises.is_empty() => {
                    changes.standings.push(record_of(alert, subject, standing));
                }
                _ => changes.gone.push((alert.clone(), subject.to_string())),
            }
        }
        // Notices come with the last of the standings that they tell of.
        if self.unwritten.is_empty() {
            changes.notices = std::mem::take(&mut self.notices);
        }
        (keys, changes)
    }
}

/// A notice to each address of each contact.
fn notices_of(
    blueprint: &Blueprint,
    alert: &Alert,
    kind: NoticeKind,
    subjects: Vec<(Arc<str>, Standing)>,
    now: Time,
) -> Vec<NewNotice> {
    let silence = alert.watched.is_silence();
    let subject = |(name, standing): &(Arc<str>, Standing)| NoticeSubject {
        name: name.to_string(),
        value: standing.value,
        worst: standing.worst,
        out_since: standing.out_since.map(date),
        out_seconds: standing
            .out_since
            .filter(|_| kind == NoticeKind::Cleared)
            .map(|out| (standing.since - out).as_secs_f64()),
        flapping: standing.flapping,
    };
    let facts = NoticeFacts {
        id: format!("notice-{}", random_text(20)),
        kind,
        broker: if blueprint.name.is_empty() { "moorfall".into() } else { blueprint.name.clone() },
        alert: alert.name.clone(),
        severity: alert.severity.into(),
        purpose: alert.purpose.clone(),
        text: alert.text.clone(),
        watches: alert.watched.to_string(),
        low: alert.terms.band.low,
        high: alert.terms.band.high,
        silence,
        at: date(now),
        more: subjects.len().saturating_sub(NAMED) as u64,
        subjects: subjects.iter().take(NAMED).map(subject).collect(),
    };
    let Ok(written) = serde_json::to_value(&facts) else { return Vec::new() };
    let contacts = alert.tell.iter().filter_map(|name| Some((name, blueprint.contacts.get(name)?)));
    let addresses = contacts.flat_map(|(name, contact)| addresses(contact).map(move |address| (name, address)));
    let notice = |(contact, (way, target)): (&String, (NoticeWay, String))| NewNotice {
        id: facts.id.clone(),
        alert: facts.alert.clone(),
        contact: contact.clone(),
        way: records::name(way).to_owned(),
        target,
        at: facts.at,
        facts: written.clone(),
    };
    addresses.map(notice).collect()
}

/// How a contact is reached.
fn addresses(contact: &Contact) -> impl Iterator<Item = (NoticeWay, String)> {
    let mail = contact.mail.iter().map(|address| (NoticeWay::Mail, address.clone()));
    let hook = contact.hook.iter().map(|address| (NoticeWay::Hook, address.clone()));
    let topic = contact.topic.iter().map(|topic| (NoticeWay::Topic, topic.to_string()));
    mail.chain(hook).chain(topic).collect::<Vec<_>>().into_iter()
}
