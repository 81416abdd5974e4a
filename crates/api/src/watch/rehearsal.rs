//! What an alert would have told with another band: over the past, and of the values that are there now.

use axum::{Json, extract::State, http::StatusCode};
use moorfall_broker::clock::date;
use moorfall_contract::{
    alerts::{AlertRehearsal, AlertView, RehearsedSubject, SpellView},
    kinds::AlertPhase,
};
use moorfall_core::{
    Time,
    alert::{Band, Spell, Terms, rehearse},
    blueprint::{Alert, Watched},
};
use serde::Deserialize;
use time::{Duration, OffsetDateTime};
use utoipa::IntoParams;

use super::{alerts::not_found, history};
use crate::{
    http::{
        fields::Moment,
        problem::Fault,
        reading::{Path, Query},
        responses::NotFound,
    },
    state::App,
};

/// Subjects that are looked at: all that an alert has.
const SUBJECTS: usize = 1_000;

/// Subjects and spells that are told.
const TOLD: usize = 200;

/// The longest times that a value must be out or back, seconds.
const LONGEST: u64 = 30 * 86_400;

/// What is tried; what is left out is as in the alert.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Tried {
    /// The lower end of the band.
    #[param(nullable = false)]
    low: Option<f64>,
    /// Its upper end; of silence in seconds.
    #[param(nullable = false)]
    high: Option<f64>,
    /// How long a value must be out, seconds.
    #[param(nullable = false, maximum = 2_592_000)]
    out_for: Option<u64>,
    /// How long it must be back, seconds.
    #[param(nullable = false, maximum = 2_592_000)]
    back_for: Option<u64>,
    /// The beginning of the range; left out, a day before its end.
    #[param(value_type = Option<String>, format = DateTime)]
    from: Option<Moment>,
    /// Its end; left out, now.
    #[param(value_type = Option<String>, format = DateTime)]
    to: Option<Moment>,
}

impl Tried {
    /// The alert's terms with what is tried in their place.
    fn terms(&self, alert: &Alert) -> Result<Terms, Fault> {
        let wrong = |detail: String| Fault::new(StatusCode::UNPROCESSABLE_ENTITY, "Invalid band", detail);
        let of = alert.terms;
        let band = Band { low: self.low.or(of.band.low), high: self.high.or(of.band.high) };
        if let (Some(low), Some(high)) = (band.low, band.high)
            && low > high
        {
            return Err(wrong(format!("The low end of the band, {low}, is above its high end, {high}.")));
        }
        if alert.watched.is_silence() && (self.low.is_some() || self.high.is_some_and(|high| high < 0.0)) {
            return Err(wrong(format!(
                "{} is about silence, which has no low end, and a high one in seconds.",
                alert.name
            )));
        }
        if [self.out_for, self.back_for].into_iter().flatten().any(|seconds| seconds > LONGEST) {
            return Err(wrong(format!("A value can be asked to be out or back for at most {LONGEST} seconds.")));
        }
        let seconds = std::time::Duration::from_secs;
        Ok(Terms {
            band,
            out_for: self.out_for.map_or(of.out_for, seconds),
            back_for: self.back_for.map_or(of.back_for, seconds),
        })
    }
}

/// Rehearse an alert
///
/// Nothing is sent, and nothing is changed. Of measures, which have a history, it is told when the alert would have been
/// raised and cleared over a range; of everything, which of the values that are there now would be out.
#[utoipa::path(get, operation_id = "rehearse_alert", path = "/alerts/{name}/rehearsal", tag = "alerts", params(("name" = String, Path), Tried), responses(
    (status = 200, body = AlertRehearsal),
    NotFound,
))]
pub async fn rehearsal(
    State(app): State<App>,
    Path(name): Path<String>,
    Query(tried): Query<Tried>,
) -> Result<Json<AlertRehearsal>, Fault> {
    let found = app.alerts.alert(&name).zip(app.alerts.view(&name, SUBJECTS));
    let (alert, view) = found.ok_or_else(|| not_found(&app.alerts, &name))?;
    let terms = tried.terms(&alert)?;
    let (from, to) = history::range(tried.from, tried.to, Duration::DAY)?;
    let mut told = AlertRehearsal {
        low: terms.band.low,
        high: terms.band.high,
        silence: view.silence,
        out_for_seconds: terms.out_for.as_secs(),
        back_for_seconds: terms.back_for.as_secs(),
        from,
        to,
        step_seconds: None,
        measured_seconds: 0,
        spells: Vec::new(),
        raised: 0,
        now: Vec::new(),
        out_now: 0,
        known_now: 0,
    };
    if let Watched::Measure(series) = alert.watched
        && series.measure().is_kept()
    {
        let (step, means) = history::means(&app, series, (from, to)).await;
        told.step_seconds = Some(step);
        told.measured_seconds = means.len() as u64 * u64::from(step);
        let spells = rehearse(&terms, means.into_iter().map(|(at, mean)| (instant(at), mean)));
        told.raised = spells.len() as u64;
        told.spells = spells.into_iter().rev().take(TOLD).map(spell).collect();
    }
    let subjects = present(&view, &terms);
    told.known_now = subjects.len() as u64;
    told.out_now = subjects.iter().filter(|subject| subject.out).count() as u64;
    told.now = subjects.into_iter().take(TOLD).collect();
    Ok(Json(told))
}

/// Of which values it is known now whether they would be out: those first that would.
fn present(view: &AlertView, terms: &Terms) -> Vec<RehearsedSubject> {
    let subjects = view.standings.iter().filter_map(|standing| {
        let value = standing.value?;
        // How often each topic is planned to come is known to the alert only.
        let by_plan = view.silence && terms.band.high.is_none();
        let out = if by_plan { standing.phase != AlertPhase::Ok } else { terms.band.is_out(value) };
        Some(RehearsedSubject { subject: standing.subject.clone(), value, out })
    });
    let mut subjects: Vec<_> = subjects.collect();
    subjects.sort_by(|one, other| other.out.cmp(&one.out).then_with(|| one.subject.cmp(&other.subject)));
    subjects
}

fn instant(at: OffsetDateTime) -> Time {
    Time::from_micros(u64::try_from(at.unix_timestamp_nanos() / 1_000).unwrap_or_default())
}

fn spell(Spell { out_since, raised_at, cleared_at, worst, flapping }: Spell) -> SpellView {
    SpellView {
        out_since: date(out_since),
        raised_at: date(raised_at),
        cleared_at: cleared_at.map(date),
        worst,
        flapping,
    }
}
