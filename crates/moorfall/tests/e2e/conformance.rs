//! The table of the standards' statements against the tests that it names.

use std::{
    collections::{HashMap, HashSet},
    path::{Path, PathBuf},
};

fn sources(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            sources(&path, found);
        } else if path.extension().is_some_and(|ending| ending == "rs") {
            found.push(path);
        }
    }
}

#[test]
fn every_statement_has_a_test_that_exists() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let mut files = Vec::new();
    sources(&root.join("crates"), &mut files);
    let mut functions = HashSet::new();
    for file in files {
        let text = std::fs::read_to_string(file).unwrap();
        // A function right behind the mark of a test, whatever stands between.
        for part in text.split("#[test]").skip(1).chain(text.split("#[tokio::test]").skip(1)) {
            if let Some(name) = part.split("fn ").nth(1).and_then(|rest| rest.split('(').next()) {
                functions.insert(name.to_owned());
            }
        }
    }
    let table = std::fs::read_to_string(root.join("docs/CONFORMANCE.md")).unwrap();
    let mut counts: HashMap<&str, usize> = HashMap::new();
    let mut version = "";
    let mut seen = HashSet::new();
    for line in table.lines() {
        version = line.strip_prefix("## ").unwrap_or(version);
        let Some(row) = line.strip_prefix("| MQTT-") else { continue };
        let cells: Vec<&str> = row.trim_end_matches('|').split('|').map(str::trim).collect();
        let test = cells.last().unwrap().trim_matches('`');
        assert!(functions.contains(test), "MQTT-{}: there is no test {test}", cells[0]);
        assert!(cells.len() >= 3 && !cells[1].is_empty(), "an empty row: {line}");
        assert!(seen.insert((version, cells[0])), "{version} {} stands twice", cells[0]);
        *counts.entry(version).or_default() += 1;
    }
    assert!(counts["MQTT 5.0"] > 200 && counts["MQTT 3.1.1"] > 100, "{counts:?}");
}
