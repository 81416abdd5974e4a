//! The page for machines: all measures as text, in the OpenMetrics form or in the classic one before it.

use std::{fmt, sync::Arc};

use moorfall_broker::listeners::listener::Listener;
use moorfall_core::measure::{Kind, Measure, Series, Totals, Unit, Values};
use moorfall_live::counters::Times;
use moorfall_watch::sampler::Watch;
use prometheus_client::{
    collector::Collector,
    encoding::{DescriptorEncoder, MetricEncoder, NoLabelSet, text},
    metrics::MetricType,
    registry::{self, Registry},
};

/// The content type of the OpenMetrics form.
pub const OPEN_METRICS: &str = "application/openmetrics-text; version=1.0.0; charset=utf-8";

/// The content type of the classic form.
pub const CLASSIC: &str = "text/plain; version=0.0.4; charset=utf-8";

/// Upper bounds of what times are sorted into, seconds.
const BOUNDS: [f64; 14] = [0.0002, 0.0005, 0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1.0, 5.0, 30.0];

/// Everything, read once.
#[derive(Debug)]
struct Page {
    values: Arc<Values>,
    timings: Vec<(Measure, Histogram)>,
    listeners: Vec<(String, usize, Totals)>,
}

/// Times since the start, sorted.
#[derive(Debug)]
struct Histogram {
    seconds: f64,
    count: u64,
    /// How many there are up to each bound and above the one before.
    buckets: Vec<(f64, u64)>,
}

impl From<&Times> for Histogram {
    fn from(times: &Times) -> Self {
        let mut below = 0;
        let up_to = |bound: f64| times.count_between(0, (bound * 1e6) as u64);
        let mut buckets: Vec<(f64, u64)> = BOUNDS
            .into_iter()
            .map(|bound| {
                let here = up_to(bound).saturating_sub(below);
                below += here;
                (bound, here)
            })
            .collect();
        buckets.push((f64::INFINITY, times.len().saturating_sub(below)));
        Self { seconds: times.mean() * times.len() as f64 / 1e6, count: times.len(), buckets }
    }
}

impl Collector for Page {
    fn encode(&self, mut encoder: DescriptorEncoder<'_>) -> Result<(), fmt::Error> {
        for &measure in Measure::ALL {
            match measure.kind() {
                Kind::Counter | Kind::Gauge => self.encode_values(&mut encoder, measure)?,
                Kind::Timing => {
                    let timed = self.timings.iter().find(|(timing, _)| *timing == measure);
                    let Some((_, histogram)) = timed else { continue };
                    let Histogram { seconds, count, buckets } = histogram;
                    let mut described = describe(&mut encoder, measure, MetricType::Histogram)?;
                    described.encode_histogram::<NoLabelSet>(*seconds, *count, buckets, None)?;
                }
            }
        }
        self.encode_listeners(&mut encoder)
    }
}

/// Takes one of the main counters.
type Take = fn(&Totals) -> u64;

/// What is told of each listener.
const OF_LISTENERS: [(&str, &str, Take); 4] = [
    ("messages_in", "Messages accepted from clients", |totals| totals.messages_in),
    ("messages_out", "Messages sent to clients", |totals| totals.messages_out),
    ("bytes_in", "Bytes read from clients", |totals| totals.bytes_in),
    ("bytes_out", "Bytes written to clients", |totals| totals.bytes_out),
];

impl Page {
    fn encode_values(&self, encoder: &mut DescriptorEncoder<'_>, measure: Measure) -> Result<(), fmt::Error> {
        let kind = if measure.kind() == Kind::Counter { MetricType::Counter } else { MetricType::Gauge };
        let mut described = describe(encoder, measure, kind)?;
        for series in parts(measure) {
            match series.label() {
                Some(label) => {
                    let labels = [(measure.by().key(), label)];
                    self.encode_value(described.encode_family(&labels)?, series)?;
                }
                None => return self.encode_value(described, series),
            }
        }
        Ok(())
    }

    fn encode_value(&self, mut encoder: MetricEncoder<'_>, series: Series) -> Result<(), fmt::Error> {
        match self.values.value(series) {
            _ if series.measure().kind() == Kind::Counter => {
                encoder.encode_counter::<NoLabelSet, _, u64>(&self.values.count(series), None)
            }
            // What is not known is no number.
            value => encoder.encode_gauge(&value.unwrap_or(f64::NAN)),
        }
    }

    fn encode_listeners(&self, encoder: &mut DescriptorEncoder<'_>) -> Result<(), fmt::Error> {
        let help = "Connections at present, by listener";
        let mut described = encoder.encode_descriptor("listener_connections", help, None, MetricType::Gauge)?;
        for (name, connections, _) in &self.listeners {
            let labels = [("listener", name.as_str())];
            described.encode_family(&labels)?.encode_gauge(&(*connections as f64))?;
        }
        for (name, help, value) in OF_LISTENERS {
            let (name, help) = (format!("listener_{name}"), format!("{help}, by listener"));
            let mut described = encoder.encode_descriptor(&name, &help, None, MetricType::Counter)?;
            for (listener, _, totals) in &self.listeners {
                let labels = [("listener", listener.as_str())];
                described.encode_family(&labels)?.encode_counter::<NoLabelSet, _, u64>(&value(totals), None)?;
            }
        }
        Ok(())
    }
}

fn describe<'a>(
    encoder: &'a mut DescriptorEncoder<'_>,
    measure: Measure,
    kind: MetricType,
) -> Result<MetricEncoder<'a>, fmt::Error> {
    let unit = (measure.unit() == Unit::Seconds).then_some(&registry::Unit::Seconds);
    encoder.encode_descriptor(measure.name(), measure.explanation().trim_end_matches('.'), unit, kind)
}

/// The parts of a measure, or all of it if it has none.
fn parts(measure: Measure) -> impl Iterator<Item = Series> {
    let has_parts = !measure.by().labels().is_empty();
    measure.series().filter(move |series| series.label().is_some() == has_parts)
}

/// The page in the OpenMetrics form.
pub fn open_metrics<'a>(watch: &Watch, listeners: impl Iterator<Item = &'a Listener>) -> String {
    let mut timings = Vec::new();
    watch.each_timing(|timing, times| timings.push((timing, times.into())));
    let listeners = listeners.map(|one| (one.name.to_string(), one.count(), one.counters.read())).collect();
    let mut registry = Registry::with_prefix("moorfall");
    registry.register_collector(Box::new(Page { values: watch.latest(), timings, listeners }));
    let mut page = String::new();
    text::encode(&mut page, &registry).expect("a string takes whatever is written");
    page
}

/// The same in the classic form: counters have their whole name in their description, and there is no end mark.
pub fn classic(open_metrics: &str) -> String {
    let mut page = String::with_capacity(open_metrics.len());
    let mut help: Option<&str> = None;
    for line in open_metrics.lines() {
        if line == "# EOF" || line.starts_with("# UNIT ") {
            continue;
        }
        if line.starts_with("# HELP ") {
            help = Some(line);
            continue;
        }
        let counter = line.strip_prefix("# TYPE ").and_then(|rest| rest.strip_suffix(" counter"));
        if let Some(help) = help.take() {
            match (counter, help.strip_prefix("# HELP ").and_then(|rest| rest.split_once(' '))) {
                (Some(name), Some((_, words))) => page.extend(["# HELP ", name, "_total ", words, "\n"]),
                _ => page.extend([help, "\n"]),
            }
        }
        match counter {
            Some(name) => page.extend(["# TYPE ", name, "_total counter\n"]),
            None => page.extend([line, "\n"]),
        }
    }
    page
}
