//! `moorfall history`

use std::collections::BTreeSet;

use clap::{ArgGroup, Args};
use moorfall_contract::{
    history::{History, HistoryPoint, HistoryRemark, SeriesHistory},
    kinds::MeasureKind,
};
use ratatui::{
    buffer::Buffer,
    layout::{Constraint, Rect},
    symbols::Marker,
    widgets::{Axis, Chart, Dataset, GraphType, Widget},
};
use serde_json::json;
use time::{OffsetDateTime, format_description::well_known::Rfc3339, macros::format_description};

use crate::{
    arguments::{When, when},
    local::Which,
    output::{self, Done, FAINT, Failure, bytes, minute, span, table},
};

/// What the chart takes, with its axes.
const SIZE: (u16, u16) = (79, 14);

/// Points that a table, CSV and JSON have at most, and those of a chart.
const POINTS: (&str, &str) = ("2000", "140");

/// Rows that are printed of a table.
const ROWS: usize = 60;

/// What the command takes.
#[derive(Debug, Args)]
#[command(group(ArgGroup::new("form").args(["table", "csv", "json"])))]
pub struct Arguments {
    /// A measure, or a part of one such as messages_in/1; `moorfall measures` lists them
    #[arg(value_name = "MEASURE")]
    measure: String,
    /// Begin of the range: 7d (ago), 2026-11-20 or 2026-11-20T09:30 (in UTC)
    #[arg(long, value_name = "TIME", value_parser = when, default_value = "1h")]
    from: When,
    /// End of the range [default: now]
    #[arg(long, value_name = "TIME", value_parser = when)]
    to: Option<When>,
    /// Compare with a range of the same length: so much earlier (7d), or one that begins then (2026-08-20)
    #[arg(long, value_name = "TIME", value_parser = when)]
    against: Option<When>,
    /// Print a table instead of the chart
    #[arg(long)]
    table: bool,
    /// Print CSV
    #[arg(long)]
    csv: bool,
    /// Print JSON
    #[arg(long)]
    json: bool,
    #[command(flatten)]
    which: Which,
}

/// Carries out the command.
pub async fn run(arguments: &Arguments) -> Done {
    let now = OffsetDateTime::now_utc();
    let to = arguments.to.map_or(now, |to| to.seen_from(now));
    let from = arguments.from.seen_from(now);
    if from >= to {
        return Err(Failure("The range ends before it begins. Give an earlier --from, or a later --to.".into()));
    }
    let service = arguments.which.find()?;
    let points = if arguments.table || arguments.csv || arguments.json { POINTS.0 } else { POINTS.1 };
    let get = async |from: OffsetDateTime, to: OffsetDateTime| -> Result<History, Failure> {
        let text = |at: OffsetDateTime| at.format(&Rfc3339).unwrap_or_default();
        let (from, to) = (text(from), text(to));
        let asked = [("series", arguments.measure.as_str()), ("from", &from), ("to", &to), ("points", points)];
        service.get(&["history"], &asked).await
    };
    let this = get(from, to).await?;
    let other = match arguments.against {
        Some(against) => {
            let earlier = match against {
                When::Ago(ago) => ago.try_into().unwrap_or(time::Duration::MAX),
                When::At(at) => from - at,
            };
            Some((get(from - earlier, to - earlier).await?, earlier))
        }
        None => None,
    };
    if arguments.json {
        return match &other {
            Some((other, _)) => output::json(&json!({ "range": this, "against": other })),
            None => output::json(&json!({ "range": this })),
        };
    }
    let Some(series) = this.series.first() else { return Ok(()) };
    let shown = Shown { series, step: this.step_seconds };
    let against = other.as_ref().and_then(|(other, earlier)| Some((other.series.first()?, *earlier)));
    if arguments.csv {
        return output::finish(output::raw(&shown.csv(against)?));
    }
    let printed = || -> std::io::Result<()> {
        if arguments.table {
            output::line(shown.table(against))?;
        } else {
            shown.chart((from, to), against)?;
        }
        let remarks = this.remarks.iter().chain(other.iter().flat_map(|(other, _)| &other.remarks));
        let remarks: BTreeSet<String> = remarks.map(sentence).collect();
        remarks.iter().take(8).try_for_each(|remark| output::line(format_args!("{FAINT}{remark}{FAINT:#}")))
    };
    output::finish(printed())
}

fn sentence(HistoryRemark { from, to, kind }: &HistoryRemark) -> String {
    format!("{} to {}: {kind}", minute(*from), minute(*to))
}

/// A series and the same an earlier time, if it is compared.
type Against<'a> = Option<(&'a SeriesHistory, time::Duration)>;

/// One series, to be printed.
struct Shown<'a> {
    series: &'a SeriesHistory,
    step: u32,
}

impl Shown<'_> {
    fn number(&self, value: f64) -> String {
        match (self.series.unit.as_str(), self.series.kind) {
            ("bytes", MeasureKind::Counter) => format!("{}/s", bytes(value)),
            ("bytes", _) => bytes(value),
            ("seconds", _) if value < 1.0 => format!("{:.2} ms", value * 1e3),
            ("seconds", _) => format!("{value:.2} s"),
            (_, MeasureKind::Counter) => format!("{value:.2}/s"),
            _ if value.fract() == 0.0 => format!("{value:.0}"),
            _ => format!("{value:.2}"),
        }
    }

    /// The point of the other range that lies at the same place as this one.
    fn then<'b>(&self, against: Against<'b>, at: OffsetDateTime) -> Option<&'b HistoryPoint> {
        let (series, earlier) = against?;
        let nearest = series.points.iter().min_by_key(|point| (point.at + earlier - at).abs())?;
        ((nearest.at + earlier - at).abs().whole_seconds() < i64::from(self.step)).then_some(nearest)
    }

    fn table(&self, against: Against<'_>) -> String {
        let mut headings = vec!["UNTIL (UTC)", ">MEAN", ">MINIMUM", ">MAXIMUM"];
        if against.is_some() {
            headings.extend([">BEFORE", ">CHANGE"]);
        }
        // More rows than anybody reads are put together.
        let together = self.series.points.len().div_ceil(ROWS).max(1);
        let rows = self.series.points.chunks(together).filter_map(|some| {
            let at = some.last()?.at;
            let mean = some.iter().map(|point| point.mean).sum::<f64>() / some.len() as f64;
            let least = some.iter().map(|point| point.minimum).fold(f64::INFINITY, f64::min);
            let most = some.iter().map(|point| point.maximum).fold(f64::NEG_INFINITY, f64::max);
            let mut row = vec![minute(at), self.number(mean), self.number(least), self.number(most)];
            if against.is_some() {
                let then: Vec<f64> = some.iter().filter_map(|point| Some(self.then(against, point.at)?.mean)).collect();
                let then = (!then.is_empty()).then(|| then.iter().sum::<f64>() / then.len() as f64);
                row.push(then.map_or_else(|| "-".into(), |then| self.number(then)));
                row.push(then.map_or_else(String::new, |then| change(mean, then)));
            }
            Some(row)
        });
        table(&headings, rows.collect())
    }

    fn csv(&self, against: Against<'_>) -> Result<Vec<u8>, Failure> {
        let mut writer = csv::Writer::from_writer(Vec::new());
        let mut headings = vec!["at", "minimum", "mean", "maximum", "last"];
        if against.is_some() {
            headings.push("mean_before");
        }
        let wrong = |error: csv::Error| Failure(format!("The CSV can't be written: {error}"));
        writer.write_record(headings).map_err(wrong)?;
        for point in &self.series.points {
            let numbers = [point.minimum, point.mean, point.maximum, point.last];
            let mut row = vec![point.at.format(&Rfc3339).unwrap_or_default()];
            row.extend(numbers.map(|number| number.to_string()));
            if against.is_some() {
                row.push(self.then(against, point.at).map(|then| then.mean.to_string()).unwrap_or_default());
            }
            writer.write_record(row).map_err(wrong)?;
        }
        writer.into_inner().map_err(|error| Failure(format!("The CSV can't be written: {error}")))
    }

    fn chart(&self, (from, to): (OffsetDateTime, OffsetDateTime), against: Against<'_>) -> std::io::Result<()> {
        let summary = |points: &[HistoryPoint]| match points {
            [] => "nothing was measured".to_owned(),
            points => {
                let mean = points.iter().map(|point| point.mean).sum::<f64>() / points.len() as f64;
                let least = points.iter().map(|point| point.minimum).fold(f64::INFINITY, f64::min);
                let most = points.iter().map(|point| point.maximum).fold(f64::NEG_INFINITY, f64::max);
                let last = points.last().map_or(0.0, |point| point.last);
                let [mean, least, most, last] = [mean, least, most, last].map(|value| self.number(value));
                format!("mean {mean}, {least} to {most}, last {last}")
            }
        };
        output::line(format_args!("{}  {}", self.series.name, summary(&self.series.points)))?;
        if let Some((then, earlier)) = against {
            let words = span(earlier.unsigned_abs().as_secs());
            output::line(format_args!("•  {words} before  {}", summary(&then.points)))?;
        }
        let seconds = |at: OffsetDateTime| (at - from).as_seconds_f64();
        let xy = |points: &[HistoryPoint], later: time::Duration| -> Vec<(f64, f64)> {
            points.iter().map(|point| (seconds(point.at + later), point.mean)).collect()
        };
        let now = xy(&self.series.points, time::Duration::ZERO);
        let then = against.map(|(series, earlier)| xy(&series.points, earlier)).unwrap_or_default();
        let highest = now.iter().chain(&then).map(|(_, value)| *value).fold(0.0, f64::max);
        let top = if highest > 0.0 { highest * 1.05 } else { 1.0 };
        let dots = |marker, points| Dataset::default().marker(marker).graph_type(GraphType::Scatter).data(points);
        let lines = lines(&now, f64::from(self.step));
        let mut sets: Vec<_> = lines
            .iter()
            .map(|line| Dataset::default().marker(Marker::Quadrant).graph_type(GraphType::Line).data(line))
            .collect();
        sets.insert(0, dots(Marker::Dot, &then));
        let days = to - from > time::Duration::days(2);
        let clock = |at: OffsetDateTime| {
            let text = if days {
                at.format(format_description!("[day] [month repr:short] [hour]:[minute]"))
            } else {
                at.format(format_description!("[hour]:[minute]:[second]"))
            };
            text.unwrap_or_default()
        };
        let across =
            Axis::default().bounds([0.0, seconds(to)]).labels([clock(from), clock(from + (to - from) / 2), clock(to)]);
        let up = Axis::default().bounds([0.0, top]).labels([0.0, top / 2.0, top].map(|value| self.number(value)));
        let area = Rect::new(0, 0, SIZE.0, SIZE.1);
        let mut drawn = Buffer::empty(area);
        let chart = Chart::new(sets).x_axis(across).y_axis(up);
        chart.hidden_legend_constraints((Constraint::Length(0), Constraint::Length(0))).render(area, &mut drawn);
        for y in 0..SIZE.1 {
            let row: String = (0..SIZE.0).map(|x| drawn[(x, y)].symbol()).collect();
            output::line(row.trim_end())?;
        }
        Ok(())
    }
}

/// Points that follow each other; three steps without one are a gap.
fn lines(points: &[(f64, f64)], step: f64) -> Vec<&[(f64, f64)]> {
    points.chunk_by(|(before, _), (after, _)| after - before <= 3.0 * step).collect()
}

/// How much more or less that is than it was.
fn change(now: f64, then: f64) -> String {
    if then <= 0.0 {
        return String::new();
    }
    format!("{:+.0} %", (now / then - 1.0) * 100.0)
}
