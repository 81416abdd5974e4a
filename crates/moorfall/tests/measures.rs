//! The table of measures for readers is the one in the code.

use std::{fmt::Write as _, path::Path};

use moorfall_core::measure::{By, Kind, Measure};

const HEAD: &str = "# What is measured

Each line of these tables is a measure: one name, wherever it is read. `moorfall measures` prints what they are now,
`GET /api/v1/readings` gives them as JSON, `$SYS/moorfall/NAME` publishes them, and `/metrics` has them as text for
machines, with the prefix `moorfall_`, `_total` behind counters and `_seconds` behind times. A part goes by the name, a
slash and its label: `messages_in/1` are the messages at QoS 1. [CONFIGURATION.md](CONFIGURATION.md#readings) says who
may read what.

A counter grows from the start of the service on. A gauge is the value of now. Of what is timed the median, the time that
99 of 100 did not exceed (p99) and the longest are told, over the last ten seconds; `/metrics` has a histogram since the
start. Moving averages over 1, 5 and 15 minutes are kept of the first six. An average over a window that the service has
not been running for is taken over the time that it has.

This page is made from the code by `MOORFALL_UPDATE=1 cargo test -p moorfall --test measures`.
";

fn page() -> String {
    let mut page = HEAD.to_owned();
    for (kind, title) in [(Kind::Counter, "Counters"), (Kind::Gauge, "Gauges"), (Kind::Timing, "Times")] {
        let _ = write!(page, "\n## {title}\n\n| name | unit | parts by | what it says |\n|---|---|---|---|\n");
        for measure in Measure::ALL.iter().filter(|measure| measure.kind() == kind) {
            let unit = <&str>::from(measure.unit());
            let by = measure.by().key();
            let kept = if measure.is_kept() { "" } else { " History does not keep it." };
            let _ = writeln!(page, "| `{}` | {unit} | {by} | {}{kept} |", measure.name(), measure.explanation());
        }
    }
    page.push_str("\n## Parts\n\n| measure | labels |\n|---|---|\n");
    for measure in Measure::ALL.iter().filter(|measure| !matches!(measure.by(), By::Nothing | By::Quantile)) {
        let labels: Vec<String> = measure.by().labels().iter().map(|label| format!("`{label}`")).collect();
        let _ = writeln!(page, "| `{}` | {} |", measure.name(), labels.join(", "));
    }
    page
}

#[test]
fn the_page_says_what_the_code_measures() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/MEASURES.md");
    let page = page();
    if std::env::var_os("MOORFALL_UPDATE").is_some() {
        std::fs::write(&path, &page).expect("the page can be written");
    }
    let committed = std::fs::read_to_string(&path).unwrap_or_default();
    assert!(committed == page, "docs/MEASURES.md is not of this code; MOORFALL_UPDATE=1 writes it anew");
}
