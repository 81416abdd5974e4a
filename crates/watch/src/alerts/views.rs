//! Alerts and notices, as they are told to whoever asks.

use std::sync::Arc;

use moorfall_broker::clock::date;
use moorfall_contract::{
    alerts::{AlertView, NoticeAttempt, NoticeFacts, NoticeView, QuietView, StandingView, value_in_words},
    kinds::NoticeState,
    status::RaisedAlert,
};
use moorfall_core::{
    alert::{Phase, Standing},
    blueprint::Alert,
};
use moorfall_store::NoticeRecord;

use super::{
    records,
    standings::{Alerts, Quiet},
    watching::Watching,
};

impl Alerts {
    /// All alerts: those first that are out, by severity, then by name. At most so many subjects of each are told.
    pub fn views(&self, most: usize) -> Vec<AlertView> {
        let inner = self.inner.lock();
        let view = |watching: &Watching| view(watching, inner.quiet.get(&watching.alert.name), most);
        let mut views: Vec<AlertView> = inner.all.iter().map(view).collect();
        let rank = |view: &AlertView| (view.phase as u8, view.severity as u8);
        views.sort_by(|one, other| rank(other).cmp(&rank(one)).then_with(|| one.name.cmp(&other.name)));
        views
    }

    /// One alert, with at most so many subjects.
    pub fn view(&self, name: &str, most: usize) -> Option<AlertView> {
        let inner = self.inner.lock();
        let watching = inner.all.iter().find(|watching| watching.alert.name == name)?;
        Some(view(watching, inner.quiet.get(name), most))
    }

    /// One alert, as the blueprint has it.
    pub fn alert(&self, name: &str) -> Option<Arc<Alert>> {
        let inner = self.inner.lock();
        inner.all.iter().find(|watching| watching.alert.name == name).map(|watching| Arc::clone(&watching.alert))
    }

    /// Names of all alerts.
    pub fn names(&self) -> Vec<String> {
        self.inner.lock().all.iter().map(|watching| watching.alert.name.clone()).collect()
    }

    /// Those that are raised, in short: the worst first.
    pub fn raised(&self) -> Vec<RaisedAlert> {
        let inner = self.inner.lock();
        let raised = |watching: &Watching| {
            let mut subjects = watching.subjects.iter().filter(|(_, subject)| subject.standing.is_raised());
            let (first, one) = subjects.next()?;
            let value = one.standing.value.map(|value| value_in_words(value, watching.is_silence()));
            Some(RaisedAlert {
                name: watching.alert.name.clone(),
                severity: watching.alert.severity.into(),
                subjects: 1 + subjects.count() as u64,
                subject: first.to_string(),
                value: value.unwrap_or_default(),
                out_since: one.standing.out_since.map(date),
                quiet: inner.quiet.contains_key(&watching.alert.name),
            })
        };
        let mut all: Vec<RaisedAlert> = inner.all.iter().filter_map(raised).collect();
        all.sort_by(|one, other| {
            (other.severity as u8).cmp(&(one.severity as u8)).then_with(|| one.name.cmp(&other.name))
        });
        all
    }
}

fn view(watching: &Watching, quiet: Option<&Quiet>, most: usize) -> AlertView {
    let alert = &watching.alert;
    let mut standings: Vec<StandingView> =
        watching.subjects.iter().map(|(name, subject)| standing(name, &subject.standing)).collect();
    standings.sort_by(|one, other| {
        (other.phase as u8).cmp(&(one.phase as u8)).then_with(|| one.subject.cmp(&other.subject))
    });
    let subjects = standings.len() as u64;
    let worst = standings.first();
    let phase = worst.map_or(Phase::Ok.into(), |worst| worst.phase);
    let since = standings.iter().filter(|standing| standing.phase == phase).map(|standing| standing.since).min();
    standings.truncate(most);
    AlertView {
        name: alert.name.clone(),
        purpose: alert.purpose.clone(),
        severity: alert.severity.into(),
        watches: alert.watched.to_string(),
        band: alert.band_in_words(),
        low: alert.terms.band.low,
        high: alert.terms.band.high,
        silence: watching.is_silence(),
        out_for_seconds: alert.terms.out_for.as_secs(),
        back_for_seconds: alert.terms.back_for.as_secs(),
        text: alert.text.clone(),
        tell: alert.tell.clone(),
        phase,
        since,
        quiet: quiet.map(|Quiet { by, until }| QuietView { by: by.clone(), until: *until }),
        standings,
        subjects,
        unwatched: watching.unwatched,
        without_number: watching.without_number,
    }
}

fn standing(name: &str, standing: &Standing) -> StandingView {
    let is_out = standing.phase != Phase::Ok;
    StandingView {
        subject: name.to_owned(),
        phase: standing.phase.into(),
        since: date(standing.since),
        out_since: standing.out_since.filter(|_| is_out).map(date),
        value: standing.value,
        worst: standing.worst.filter(|_| is_out),
        flapping: standing.flapping,
        told: standing.told,
    }
}

/// A notice; `None` if it can't be read any more.
pub fn notice(record: NoticeRecord) -> Option<NoticeView> {
    let facts: NoticeFacts = serde_json::from_value(record.facts).ok()?;
    let attempts: Vec<NoticeAttempt> = serde_json::from_value(record.attempts).unwrap_or_default();
    let states = [NoticeState::Waiting, NoticeState::Delivered, NoticeState::GivenUp];
    Some(NoticeView {
        number: record.number,
        title: facts.title(),
        contact: record.contact,
        way: records::way(&record.way)?,
        target: record.target,
        state: states.into_iter().find(|state| records::state_name(*state) == record.state)?,
        tries: record.tries.unsigned_abs(),
        attempts,
        next_at: record.next_at,
        facts,
    })
}
