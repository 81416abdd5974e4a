//! What was measured over time.

use axum::{Json, extract::State, http::StatusCode};
use moorfall_contract::history::{History, HistoryPoint, HistoryRemark, RemarkKind, SeriesHistory};
use moorfall_core::measure::{Kind, Series};
use moorfall_store::{Point, Remark, Resolution};
use serde::Deserialize;
use time::{Duration, OffsetDateTime};
use utoipa::IntoParams;

use crate::{
    http::{fields::Moment, problem::Fault, reading::Query},
    state::App,
};

/// Series in one call.
const SERIES: usize = 12;

/// Points of one series: by default, and at most.
const POINTS: (u32, u32) = (400, 2_000);

/// Spans of one series that one call goes through, so that the database is not kept busy by one chart.
const SPANS: i64 = 40_000;

/// The longest range, days.
const LONGEST: i64 = 1_100;

/// Remarks that are told of one range.
const REMARKS: u32 = 200;

/// What of history is asked for.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Asked {
    /// Measures, or parts such as `messages_in/1`, with commas between them.
    #[param(example = "messages_in,messages_out")]
    series: String,
    /// The beginning of the range; left out, an hour before its end.
    #[param(value_type = Option<String>, format = DateTime)]
    from: Option<Moment>,
    /// Its end; left out, now.
    #[param(value_type = Option<String>, format = DateTime)]
    to: Option<Moment>,
    /// At most so many points of each series.
    #[serde(default = "default_points")]
    #[param(default = 400, minimum = 1, maximum = 2_000)]
    points: u32,
}

fn default_points() -> u32 {
    POINTS.0
}

fn wrong(detail: String) -> Fault {
    Fault::new(StatusCode::UNPROCESSABLE_ENTITY, "Invalid range", detail)
}

/// What to read: the spans, and how many of them make one point.
#[derive(Clone, Copy, Debug, PartialEq)]
struct Plan {
    resolution: Resolution,
    step: u32,
}

impl Plan {
    async fn of(app: &App, range: (OffsetDateTime, OffsetDateTime), points: u32) -> Self {
        let oldest = app.broker.store().oldest_history().await.unwrap_or_default();
        Self::new(range, oldest, points)
    }

    /// The finest spans that reach back to `from`, or as far as any, and are not too many. `oldest` are the ends of the oldest
    /// ones.
    fn new((from, to): (OffsetDateTime, OffsetDateTime), oldest: [Option<OffsetDateTime>; 3], points: u32) -> Self {
        let seconds = (to - from).whole_seconds().max(1);
        let first = oldest.into_iter().flatten().min();
        let reaches = |oldest: Option<OffsetDateTime>, span: i64| match (oldest, first) {
            (Some(oldest), Some(first)) => oldest <= from.max(first) + Duration::seconds(900 + span),
            (None, Some(_)) => false,
            (_, None) => true,
        };
        let fits = |(resolution, oldest): &(Resolution, Option<OffsetDateTime>)| {
            let span = i64::from(resolution.seconds());
            seconds / span <= SPANS && reaches(*oldest, span)
        };
        let found = Resolution::ALL.into_iter().zip(oldest).find(fits);
        let resolution = found.map_or(Resolution::QuarterHour, |(resolution, _)| resolution);
        let span = i64::from(resolution.seconds());
        let spans = (seconds as u64).div_ceil(u64::from(points)).div_ceil(span as u64).max(1);
        Self { resolution, step: (spans * span as u64).try_into().unwrap_or(u32::MAX) }
    }
}

/// Get measures over time
///
/// As means of steps, with the least and the greatest values; of counters as rates per second. Spans of ten seconds, a
/// minute or a quarter of an hour are read, whichever are kept for so long.
#[utoipa::path(get, operation_id = "get_history", path = "/history", tag = "service", params(Asked), responses(
    (status = 200, body = History),
))]
pub async fn history(State(app): State<App>, Query(asked): Query<Asked>) -> Result<Json<History>, Fault> {
    let series = asked.series.split(',').map(read).collect::<Result<Vec<Series>, Fault>>()?;
    if series.len() > SERIES {
        return Err(wrong(format!("{} series are asked for; ask for at most {SERIES} at once.", series.len())));
    }
    let (from, to) = range(asked.from, asked.to, Duration::HOUR)?;
    if !(1..=POINTS.1).contains(&asked.points) {
        return Err(wrong(format!("`points` is {}; it must be from 1 to {}.", asked.points, POINTS.1)));
    }
    let broker = &app.broker;
    let plan = Plan::of(&app, (from, to), asked.points).await;
    let mut told = Vec::new();
    for one in series {
        let points = points(&app, one, plan, (from, to)).await;
        let points = points.into_iter().map(|point| view(point, one, plan)).collect();
        let measure = one.measure();
        let unit = <&str>::from(measure.unit()).to_owned();
        told.push(SeriesHistory { name: one.to_string(), kind: measure.kind().into(), unit, points });
    }
    let remarks = broker.store().remarks((from, to), REMARKS).await.unwrap_or_default();
    Ok(Json(History {
        from,
        to,
        resolution_seconds: plan.resolution.seconds(),
        step_seconds: plan.step,
        series: told,
        remarks: remarks.into_iter().filter_map(remark).collect(),
    }))
}

/// The range that is asked for: as long as `otherwise` if its beginning is left out, and until now if its end is.
pub fn range(
    from: Option<Moment>,
    to: Option<Moment>,
    otherwise: Duration,
) -> Result<(OffsetDateTime, OffsetDateTime), Fault> {
    let to = to.map_or_else(OffsetDateTime::now_utc, |Moment(to)| to);
    let from = from.map_or(to - otherwise, |Moment(from)| from);
    if from >= to || to - from > Duration::days(LONGEST) {
        return Err(wrong(format!("The range must end after it begins, and last {LONGEST} days at most.")));
    }
    Ok((from, to))
}

/// A series over a range in the steps of a plan, oldest first.
async fn points(app: &App, series: Series, plan: Plan, (from, to): (OffsetDateTime, OffsetDateTime)) -> Vec<Point> {
    let App { broker, watch, .. } = app;
    let read = broker.store().history(&series.to_string(), plan.resolution, (from, to), plan.step).await;
    // What is in memory is better than nothing; the status says that the database is away.
    let mut points = read.unwrap_or_else(|error| {
        tracing::debug!(%error, "history is read only from memory");
        Vec::new()
    });
    let newest = points.last().map_or(from, |point| point.at);
    // The newest spans may not be written, or not be rolled up yet.
    points.extend(steps(&watch.recent(series, (newest, to)), from, plan.step));
    points
}

/// The means of a series over a range, by the finest spans that reach so far back, and how long those are, seconds.
pub async fn means(
    app: &App,
    series: Series,
    range: (OffsetDateTime, OffsetDateTime),
) -> (u32, Vec<(OffsetDateTime, f64)>) {
    let plan = Plan::of(app, range, SPANS as u32).await;
    let means = points(app, series, plan, range).await.into_iter().map(|point| (point.at, point.mean));
    (plan.step, means.collect())
}

fn read(name: &str) -> Result<Series, Fault> {
    let series = Series::named(name.trim()).filter(|series| series.measure().is_kept());
    series.ok_or_else(|| wrong(format!("There is no measure \"{name}\" with a history. GET /measures lists them.")))
}

fn view(point: Point, series: Series, plan: Plan) -> HistoryPoint {
    let Point { at, minimum, mean, maximum, last } = point;
    let is_counter = series.measure().kind() == Kind::Counter;
    let sum = is_counter.then(|| mean * f64::from(plan.step));
    HistoryPoint { at, minimum, mean, maximum, last, sum }
}

fn remark(Remark { began_at, ended_at, kind }: Remark) -> Option<HistoryRemark> {
    Some(HistoryRemark { from: began_at, to: ended_at, kind: RemarkKind::named(&kind)? })
}

/// Spans as steps from `from` on.
fn steps(spans: &[(OffsetDateTime, f32)], from: OffsetDateTime, step: u32) -> Vec<Point> {
    let end_of = |at: OffsetDateTime| {
        let steps = ((at - from).whole_microseconds() - 1).div_euclid(i128::from(step) * 1_000_000) + 1;
        from + Duration::seconds(i64::try_from(steps).unwrap_or(0) * i64::from(step))
    };
    let mut points = Vec::new();
    for together in spans.chunk_by(|(one, _), (next, _)| end_of(*one) == end_of(*next)) {
        let values = || together.iter().map(|(_, value)| f64::from(*value));
        points.push(Point {
            at: end_of(together[0].0),
            minimum: values().fold(f64::INFINITY, f64::min),
            mean: values().sum::<f64>() / together.len() as f64,
            maximum: values().fold(f64::NEG_INFINITY, f64::max),
            last: values().next_back().unwrap_or_default(),
        });
    }
    points
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_finest_spans_that_reach_back_are_read() {
        let now = OffsetDateTime::from_unix_timestamp(1_780_000_000).unwrap();
        let days = |days: i64| Some(now - Duration::days(days));
        let of = |oldest, from: Duration, length: Duration| {
            let plan = Plan::new((now - from, now - from + length), oldest, 400);
            (plan.resolution.seconds(), plan.step)
        };
        let plan = |from, length| of([days(2), days(14), days(400)], from, length);
        assert_eq!(plan(Duration::minutes(5), Duration::minutes(5)), (10, 10));
        assert_eq!(plan(Duration::days(1), Duration::days(1)), (10, 220));
        assert_eq!(plan(Duration::days(7), Duration::days(7)), (60, 1_560));
        assert_eq!(plan(Duration::days(90), Duration::HOUR), (900, 900), "an hour of three months ago");
        assert_eq!(plan(Duration::days(365), Duration::days(365)), (900, 79_200));
        assert_eq!(plan(Duration::days(900), Duration::days(900)), (900, 194_400), "beyond what is kept");
        // A service of yesterday: its finest spans reach as far back as any.
        let young = [days(1), Some(now - Duration::days(1) + Duration::MINUTE), None];
        assert_eq!(of(young, Duration::days(7), Duration::HOUR).0, 10);
        // Minutes that are older than the finest spans.
        assert_eq!(of([days(0), days(7), days(7)], Duration::days(1), Duration::days(1)).0, 60);
        assert_eq!(of([None, None, None], Duration::days(1), Duration::days(1)).0, 10);
    }

    #[test]
    fn what_is_in_memory_is_put_together_in_the_same_steps() {
        let from = OffsetDateTime::from_unix_timestamp(1_780_000_000).unwrap();
        let at = |seconds: i64| from + Duration::seconds(seconds);
        let spans = [(at(10), 1.0), (at(20), 3.0), (at(30), 5.0), (at(70), 8.0)];
        let points = steps(&spans, from, 20);
        let told: Vec<_> =
            points.iter().map(|p| ((p.at - from).whole_seconds(), p.minimum, p.mean, p.maximum)).collect();
        assert_eq!(told, [(20, 1.0, 2.0, 3.0), (40, 5.0, 5.0, 5.0), (80, 8.0, 8.0, 8.0)]);
    }
}
