//! Sends notices: one address after the other, the oldest to each first, again and again until it is taken.

use std::{collections::HashSet, sync::Arc, time::Duration};

use bytes::Bytes;
use moorfall_broker::{broker::Broker, notes, random::random_text};
use moorfall_contract::{
    alerts::{NoticeAttempt, NoticeFacts},
    kinds::{NoticeKind, NoticeState, NoticeWay},
};
use moorfall_core::{ADMINISTRATOR, Message, SessionKey};
use moorfall_links::{Courier, NotSent};
use moorfall_live::facts::Fact;
use moorfall_store::{NoticeRecord, StoreError};
use moorfall_wire::{PublishProperties, QoS};
use serde_json::json;
use time::OffsetDateTime;
use tokio::{
    task::JoinSet,
    time::{MissedTickBehavior, interval, timeout},
};

use super::{
    records::{state_name, way},
    standings::{ANSWER_TIME, Alerts},
};

/// Notices that are on their way at a time.
const TOGETHER: usize = 16;

/// Before the second attempt; each further pause is twice as long, up to the longest.
const PAUSE: (Duration, Duration) = (Duration::from_secs(5), Duration::from_secs(900));

/// Notices that wait while the database is away.
const ASIDE: usize = 10_000;

/// For how long a notice is tried.
const TRIED_FOR: Duration = Duration::from_secs(86_400);

/// Attempts that are kept of a notice.
const ATTEMPTS: usize = 20;

/// How long notices are kept once they do not wait.
const KEPT: Duration = Duration::from_secs(90 * 86_400);

/// Between two times that old ones are looked for.
const FORGET_EVERY: Duration = Duration::from_secs(3_600);

/// Notices that are forgotten at a time.
const FORGOTTEN: i64 = 2_000;

/// To whom a notice goes.
type Address = (String, String);

/// What became of an attempt.
struct Tried {
    notice: NoticeRecord,
    sent: Result<String, NotSent>,
    /// Whether it is one that the database does not know.
    aside: bool,
}

/// Sends notices until the service stops.
pub async fn deliver(broker: Arc<Broker>, alerts: Arc<Alerts>, courier: Arc<Courier>) {
    let mut ticks = interval(Duration::from_secs(1));
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    let mut sending =
        Sending { broker, alerts, courier, under_way: JoinSet::new(), busy: HashSet::new(), failing: HashSet::new() };
    let mut forgot: Option<tokio::time::Instant> = None;
    let stopping = sending.broker.common.stopping.clone();
    loop {
        tokio::select! {
            _ = ticks.tick() => sending.begin().await,
            () = sending.alerts.more.notified() => sending.begin().await,
            Some(tried) = sending.under_way.join_next() => {
                if let Ok(tried) = tried {
                    sending.note(tried).await;
                    // The next one to the same address need not wait for the tick.
                    sending.begin().await;
                }
            }
            () = stopping.cancelled() => return,
        }
        if forgot.is_none_or(|at| at.elapsed() > FORGET_EVERY) {
            forgot = Some(tokio::time::Instant::now());
            let before = OffsetDateTime::now_utc() - KEPT;
            let gone = timeout(ANSWER_TIME, sending.broker.store().forget_notices(before, FORGOTTEN)).await;
            if let Ok(Err(error)) = gone {
                tracing::debug!(%error, "old notices can't be removed");
            }
        }
    }
}

struct Sending {
    broker: Arc<Broker>,
    alerts: Arc<Alerts>,
    courier: Arc<Courier>,
    under_way: JoinSet<Tried>,
    /// Addresses to which one is under way.
    busy: HashSet<Address>,
    /// Addresses of which it was told that they can't be reached.
    failing: HashSet<Address>,
}

impl Sending {
    /// Begins to send what is due.
    async fn begin(&mut self) {
        let now = OffsetDateTime::now_utc();
        self.begin_aside(now).await;
        let room = TOGETHER.saturating_sub(self.under_way.len());
        if room == 0 {
            return;
        }
        let asked = timeout(ANSWER_TIME, self.broker.store().due_notices(now, (room + self.busy.len()) as i64)).await;
        match asked.unwrap_or(Err(StoreError::Silent)) {
            Ok(due) => {
                for notice in due {
                    if self.under_way.len() < TOGETHER && !self.busy.contains(&address(&notice)) {
                        self.send(notice, false);
                    }
                }
            }
            // Whoever needs the database more says that it is away.
            Err(error) => tracing::debug!(%error, "notices can't be read now"),
        }
    }

    /// Those that the database could not take: they are sent as well as those that it has.
    async fn begin_aside(&mut self, now: OffsetDateTime) {
        let aside = std::mem::take(&mut self.alerts.inner.lock().aside);
        let mut left = Vec::new();
        let mut is_away = false;
        for notice in aside {
            if notice.state != state_name(NoticeState::Waiting) {
                is_away = is_away || !self.write(&notice, true).await;
                if is_away {
                    left.push(notice);
                }
            } else if notice.next_at.is_none_or(|at| at <= now)
                && self.under_way.len() < TOGETHER
                && !self.busy.contains(&address(&notice))
            {
                self.send(notice, true);
            } else {
                left.push(notice);
            }
        }
        self.put_aside(left);
    }

    /// In front of those that came meanwhile; no more than there is room for.
    fn put_aside(&self, mut notices: Vec<NoticeRecord>) {
        let mut inner = self.alerts.inner.lock();
        notices.append(&mut inner.aside);
        notices.truncate(ASIDE);
        inner.aside = notices;
    }

    fn send(&mut self, notice: NoticeRecord, aside: bool) {
        self.busy.insert(address(&notice));
        let (broker, courier) = (Arc::clone(&self.broker), Arc::clone(&self.courier));
        self.under_way.spawn(async move {
            let sent = match (way(&notice.way), serde_json::from_value::<NoticeFacts>(notice.facts.clone())) {
                (Some(NoticeWay::Topic), Ok(facts)) => publish(&broker, &notice.target, &facts),
                (Some(way), Ok(facts)) => courier.send(way, (&notice.contact, &notice.target), &facts).await,
                (None, _) => Err(NotSent::Address(format!("there is no way {}", notice.way))),
                (_, Err(error)) => Err(NotSent::Address(error.to_string())),
            };
            Tried { notice, sent, aside }
        });
    }

    /// Notes what became of an attempt.
    async fn note(&mut self, Tried { mut notice, sent, aside }: Tried) {
        let address = address(&notice);
        self.busy.remove(&address);
        let at = OffsetDateTime::now_utc();
        notice.tries += 1;
        // Whoever tests wants to know now.
        let is_test = notice.facts["kind"] == json!(NoticeKind::Test);
        let (state, explanation) = match &sent {
            Ok(answer) => (NoticeState::Delivered, answer.clone()),
            Err(why) if is_test => (NoticeState::GivenUp, why.to_string()),
            Err(why) if why.is_final() || at - notice.at > TRIED_FOR => (NoticeState::GivenUp, why.to_string()),
            Err(why) => (NoticeState::Waiting, why.to_string()),
        };
        notice.state = state_name(state).to_owned();
        notice.next_at = (state == NoticeState::Waiting).then(|| at + pause(notice.tries));
        let attempt = NoticeAttempt { at, delivered: sent.is_ok(), explanation: explanation.clone() };
        let mut attempts: Vec<NoticeAttempt> = serde_json::from_value(notice.attempts).unwrap_or_default();
        attempts.push(attempt);
        let most = attempts.len().saturating_sub(ATTEMPTS);
        attempts.drain(..most);
        notice.attempts = json!(attempts);
        if sent.is_ok() {
            self.failing.remove(&address);
        } else if self.failing.insert(address) {
            let (contact, target) = (notice.contact.clone(), notice.target.clone());
            let fails = Fact::NoticeFails { contact, target, why: explanation };
            notes::note(&self.broker.live, self.broker.now(), &fails);
        }
        if !self.write(&notice, aside).await && aside {
            self.put_aside(vec![notice]);
        }
    }

    /// Writes what has become of a notice; gives whether that could be done. If not, an address may be told twice, with
    /// the same identifier.
    async fn write(&self, notice: &NoticeRecord, aside: bool) -> bool {
        let store = self.broker.store();
        let write = async { if aside { store.put_outcome(notice).await } else { store.note_attempt(notice).await } };
        match timeout(ANSWER_TIME, write).await.unwrap_or(Err(StoreError::Silent)) {
            Ok(()) => true,
            Err(error) => {
                tracing::debug!(%error, "what has become of a notice can't be written now");
                false
            }
        }
    }
}

fn address(notice: &NoticeRecord) -> Address {
    (notice.way.clone(), notice.target.clone())
}

/// How long it is waited after so many attempts, with up to a quarter more or less: many do not come back at once.
fn pause(tries: i64) -> Duration {
    let doubled = u32::try_from(tries - 1).unwrap_or(0).min(16);
    let pause = (PAUSE.0 * 2_u32.pow(doubled)).min(PAUSE.1);
    // As many sides as a random text has letters are enough.
    let share = random_text(1).bytes().next().map_or(0.5, |letter| f64::from(letter % 32) / 31.0);
    pause.mul_f64(0.75 + share / 2.0)
}

fn publish(broker: &Broker, topic: &str, facts: &NoticeFacts) -> Result<String, NotSent> {
    let topic = topic.parse().map_err(|_| NotSent::Address(format!("{topic} is not a topic")))?;
    let body = serde_json::to_vec(facts).map_err(|error| NotSent::Address(error.to_string()))?;
    let properties = PublishProperties {
        content_type: Some("application/json".into()),
        payload_format_indicator: Some(true),
        ..PublishProperties::default()
    };
    let key = SessionKey(0);
    let message = Message::new(topic, Bytes::from(body), QoS::AtLeastOnce, false, properties, key, broker.now());
    broker.sessions.publish(&Arc::new(message), &ADMINISTRATOR.into());
    Ok("published".into())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pauses_double_up_to_the_longest_and_are_not_all_the_same() {
        for (tries, seconds) in [(1, 5.0), (2, 10.0), (4, 40.0), (9, 900.0), (1_000, 900.0)] {
            let pauses: Vec<f64> = (0..50).map(|_| pause(tries).as_secs_f64()).collect();
            assert!(
                pauses.iter().all(|pause| (0.75 * seconds..=1.25 * seconds).contains(pause)),
                "{tries}: {pauses:?}"
            );
            assert!(pauses.iter().any(|pause| *pause != pauses[0]));
        }
    }
}
