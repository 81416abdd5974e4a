//! `moorfall measures`

use clap::Args;
use moorfall_contract::{
    kinds::MeasureKind,
    readings::{MeasureView, Readings, WindowAverage},
};
use serde_json::Value;

use crate::{
    local::Which,
    output::{self, Done, Failure, bytes, count, table},
};

/// What the command takes.
#[derive(Debug, Args)]
pub struct Arguments {
    /// Only these measures, with their parts and what they say
    #[arg(value_name = "MEASURE")]
    names: Vec<String>,
    /// Print JSON
    #[arg(long)]
    json: bool,
    #[command(flatten)]
    which: Which,
}

/// Carries out the command.
pub async fn run(arguments: &Arguments) -> Done {
    let service = arguments.which.find()?;
    let measures: Vec<MeasureView> = service.get(&["measures"], &[]).await?;
    if let Some(unknown) = arguments.names.iter().find(|name| measures.iter().all(|known| known.name != **name)) {
        return Err(Failure(format!("There is no measure `{unknown}`. `moorfall measures` lists them.")));
    }
    let mut readings: Readings = service.get(&["readings"], &[]).await?;
    let wanted = |name: &str| arguments.names.is_empty() || arguments.names.iter().any(|one| one == name);
    if arguments.json {
        readings.values.retain(|name, _| wanted(name.split('/').next().unwrap_or_default()));
        return output::json(&readings);
    }
    let wanted: Vec<&MeasureView> = measures.iter().filter(|measure| wanted(&measure.name)).collect();
    if arguments.names.is_empty() {
        return output::finish(output::line(overview(&wanted, &readings)));
    }
    output::finish(wanted.into_iter().try_for_each(|measure| print_one(measure, &readings)))
}

/// A row for each measure; of what flows also the moving averages.
fn overview(measures: &[&MeasureView], readings: &Readings) -> String {
    let row = |measure: &&MeasureView| {
        let values = match measure.kind {
            MeasureKind::Timing => {
                parts(measure, readings).into_iter().map(|(_, value)| value).collect::<Vec<_>>().join(" / ")
            }
            _ => value(measure, readings.values.get(&measure.name)),
        };
        let averages = readings.averages.iter().map(|average| rate(measure, average));
        [measure.name.clone(), values].into_iter().chain(averages).collect()
    };
    let headings = ["MEASURE", ">NOW, OR SINCE START", ">/s, 1 min", ">5 min", ">15 min"];
    table(&headings, measures.iter().map(row).collect())
}

fn print_one(measure: &MeasureView, readings: &Readings) -> std::io::Result<()> {
    let now = match measure.kind {
        MeasureKind::Timing => String::new(),
        _ => value(measure, readings.values.get(&measure.name)),
    };
    output::line(format!("{}  {now}", measure.name).trim_end())?;
    output::line(format_args!("  {}", output::indented(&measure.explanation, 2).trim_start()))?;
    for average in &readings.averages {
        let rate = rate(measure, average);
        if !rate.is_empty() {
            let minutes = average.window_seconds / 60;
            output::line(format_args!("  {rate}/s over {minutes} min"))?;
        }
    }
    for (label, value) in parts(measure, readings) {
        let label = if measure.by == "qos" { format!("QoS {label}") } else { label };
        output::line(format_args!("  {label:<28} {value:>14}"))?;
    }
    Ok(())
}

/// The labels of a measure that have a value other than 0.
fn parts(measure: &MeasureView, readings: &Readings) -> Vec<(String, String)> {
    let named = measure.labels.iter().map(|label| (label.clone(), format!("{}/{label}", measure.name)));
    let known = named.filter_map(|(label, name)| Some((label, *readings.values.get(&name)?)));
    let told = known.filter(|(_, number)| *number != 0.0 || measure.kind == MeasureKind::Timing);
    told.map(|(label, number)| (label, value(measure, Some(&number)))).collect()
}

fn value(measure: &MeasureView, number: Option<&f64>) -> String {
    let Some(&number) = number else { return "-".into() };
    match measure.unit.as_str() {
        "bytes" => bytes(number),
        "seconds" if number == 0.0 => "0 s".into(),
        "seconds" if number < 1.0 => format!("{:.1} ms", number * 1e3),
        "seconds" => format!("{number:.1} s"),
        "cores" => format!("{number:.2}"),
        "flag" => if number > 0.0 { "yes" } else { "no" }.into(),
        _ => count(number.max(0.0) as u64),
    }
}

/// The average of one of the main rates; nothing of any other measure.
fn rate(measure: &MeasureView, average: &WindowAverage) -> String {
    let rates = serde_json::to_value(average.rates).unwrap_or_default();
    match rates.get(&measure.name).and_then(Value::as_f64) {
        Some(rate) if measure.unit == "bytes" => bytes(rate),
        Some(rate) => format!("{rate:.1}"),
        None => String::new(),
    }
}
