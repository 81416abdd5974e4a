//! Many identities from and to files.

use std::{
    collections::{BTreeMap, HashSet},
    io::{BufRead, BufReader, Write},
    os::unix::fs::OpenOptionsExt,
    path::Path,
};

use indicatif::{ProgressBar, ProgressStyle};
use moorfall_contract::identities::{IdentityView, ImportResult, MadeSecret};
use moorfall_core::AttributeValue;
use serde::{Deserialize, Serialize};
use serde_json::json;

use crate::{
    arguments::Misread,
    local::Local,
    output::{self, Done, Failure, count, plural},
};

/// Identities that are sent at a time.
const CHUNK: usize = 2_000;

/// Faults that are told.
const TOLD: usize = 20;

/// One identity of a file.
#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Record {
    name: String,
    #[serde(default)]
    attributes: BTreeMap<String, AttributeValue>,
    #[serde(default = "yes")]
    enabled: bool,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    note: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    client_id: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    certificates: Option<Vec<String>>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    password_hash: Option<String>,
    /// Whether a secret is to be made; never in a file.
    #[serde(skip_deserializing, skip_serializing_if = "std::ops::Not::not")]
    generate: bool,
}

fn yes() -> bool {
    true
}

#[derive(Clone, Copy, PartialEq)]
enum Form {
    Csv,
    JsonLines,
}

fn form(file: &Path) -> Result<Form, Failure> {
    match file.extension().and_then(|ending| ending.to_str()) {
        Some("csv") => Ok(Form::Csv),
        Some("jsonl") => Ok(Form::JsonLines),
        _ => Err(Failure(format!("{} has an unknown ending. Use .csv or .jsonl.", file.display()))),
    }
}

/// Text as the value that it looks like.
pub(super) fn value(text: &str) -> AttributeValue {
    match (text, text.parse::<f64>()) {
        ("true", _) => AttributeValue::Truth(true),
        ("false", _) => AttributeValue::Truth(false),
        (_, Ok(number)) if number.is_finite() => AttributeValue::Number(number),
        (text, _) => AttributeValue::Text(text.to_owned()),
    }
}

/// All records of a file, each with its line.
fn read(file: &Path) -> Result<Vec<(u64, Record)>, Failure> {
    let wrong = |line: u64, words: String| Failure(format!("{}, line {line}: {words}", file.display()));
    let opened = std::fs::File::open(file).map_err(|error| Failure(format!("{}: {error}", file.display())))?;
    match form(file)? {
        Form::JsonLines => {
            let mut records = Vec::new();
            for (line, text) in (1..).zip(BufReader::new(opened).lines()) {
                let text = text.map_err(|error| wrong(line, error.to_string()))?;
                if !text.trim().is_empty() {
                    records.push((line, serde_json::from_str(&text).map_err(|error| wrong(line, error.to_string()))?));
                }
            }
            Ok(records)
        }
        Form::Csv => {
            let mut reader = csv::Reader::from_reader(opened);
            let headings = reader.headers().map_err(|error| wrong(1, error.to_string()))?.clone();
            if !headings.iter().any(|heading| heading == "name") {
                return Err(wrong(1, "there is no column `name`".into()));
            }
            let mut records = Vec::new();
            for row in reader.records() {
                let row =
                    row.map_err(|error| wrong(error.position().map_or(0, csv::Position::line), error.to_string()))?;
                let line = row.position().map_or(0, csv::Position::line);
                records.push((line, record(&headings, &row).map_err(|error| wrong(line, error.to_string()))?));
            }
            Ok(records)
        }
    }
}

fn record(headings: &csv::StringRecord, row: &csv::StringRecord) -> Result<Record, Misread> {
    let mut record = Record {
        name: String::new(),
        attributes: BTreeMap::new(),
        enabled: true,
        note: String::new(),
        client_id: None,
        certificates: None,
        password_hash: None,
        generate: false,
    };
    for (heading, text) in headings.iter().zip(row) {
        match heading {
            "name" => record.name = text.to_owned(),
            "note" => record.note = text.to_owned(),
            "client-id" => record.client_id = Some(text.to_owned()).filter(|id| !id.is_empty()),
            // A semicolon inside a subject stands behind a backslash.
            "certificates" => record.certificates = Some(divided(text)),
            "password-hash" => record.password_hash = Some(text.to_owned()).filter(|hash| !hash.is_empty()),
            "enabled" => {
                record.enabled = match text {
                    "" | "true" => true,
                    "false" => false,
                    other => return Err(Misread(format!("the column `enabled` must be true or false, not `{other}`"))),
                };
            }
            _ => match heading.strip_prefix("attr.") {
                Some(_) if text.is_empty() => {}
                Some(name) => drop(record.attributes.insert(name.to_owned(), value(text))),
                None => {
                    return Err(Misread(format!(
                        "unknown column `{heading}`; use name, enabled, note, client-id, certificates, password-hash \
                         or attr.NAME"
                    )));
                }
            },
        }
    }
    Ok(record)
}

/// Texts divided by semicolons; one behind a backslash divides nothing.
fn divided(text: &str) -> Vec<String> {
    let mut parts = vec![String::new()];
    let mut is_escaped = false;
    for c in text.chars() {
        if c == ';' && !is_escaped {
            parts.push(String::new());
        } else {
            parts.last_mut().expect("there is always one").push(c);
        }
        is_escaped = c == '\\' && !is_escaped;
    }
    parts.iter().map(|part| part.trim().to_owned()).filter(|part| !part.is_empty()).collect()
}

/// Imports a file: checks all of it, then changes. Secrets that are made go to the file `generate`.
pub(super) async fn import(local: &Local, file: &Path, generate: Option<&Path>, dry_run: bool, as_json: bool) -> Done {
    let mut records = read(file)?;
    twice(file, &records)?;
    if generate.is_some() {
        let known: Vec<IdentityView> = local.get_all(&["identities"]).await?;
        let with_password: HashSet<String> =
            known.into_iter().filter(|identity| identity.has_password).map(|identity| identity.name).collect();
        for (_, record) in &mut records {
            record.generate = record.password_hash.is_none() && !with_password.contains(&record.name);
        }
    }
    let foreseen = send(local, &records, true, "checking").await?;
    if !foreseen.faults.is_empty() {
        if as_json {
            output::json(&foreseen)?;
        } else {
            for fault in foreseen.faults.iter().take(TOLD) {
                let line =
                    usize::try_from(fault.place).ok().and_then(|place| records.get(place)).map_or(0, |(line, _)| *line);
                output::finish(output::line(format_args!("line {line}: {}", output::printable(&fault.explanation))))?;
            }
        }
        let faults = plural(foreseen.faults.len() as u64, "fault", "faults");
        return Err(Failure(format!("{} has {faults}. Nothing was changed.", file.display())));
    }
    // Opened before anything is changed: a secret that can't be kept is lost.
    let secrets = generate.filter(|_| !dry_run).map(new_secrets).transpose()?;
    let mut done = if dry_run { foreseen } else { send(local, &records, false, "importing").await? };
    if let (Some(secrets), Some(path)) = (secrets, generate) {
        let made = std::mem::take(&mut done.secrets);
        let all = plural(made.len() as u64, "secret", "secrets");
        write_secrets(secrets, path, &made)?;
        output::remark(format_args!("{all} in {}; they are not shown again", path.display()));
    }
    if as_json {
        return output::json(&done);
    }
    let ImportResult { made, changed, unchanged, .. } = done;
    let verb = if dry_run { "would be " } else { "" };
    output::finish(output::line(format_args!(
        "{} {verb}created, {} {verb}changed, {} unchanged",
        count(made),
        count(changed),
        count(unchanged)
    )))
}

/// A new file that only its owner can read.
fn new_secrets(path: &Path) -> Result<std::fs::File, Failure> {
    let opened = std::fs::OpenOptions::new().create_new(true).write(true).mode(0o600).open(path);
    opened.map_err(|error| {
        Failure(format!(
            "{} can't be written: {error}. Check the path and its permissions.. \
                                            Nothing was changed. Check the path and its permissions.",
            path.display()
        ))
    })
}

fn write_secrets(file: std::fs::File, path: &Path, made: &[MadeSecret]) -> Done {
    let mut writer = csv::Writer::from_writer(file);
    writer.write_record(["name", "secret"])?;
    for MadeSecret { name, secret } in made {
        writer.write_record([name, secret])?;
    }
    writer.flush().map_err(|error| {
        Failure(format!("{} can't be written: {error}. Check the path and its permissions.", path.display()))
    })
}

fn twice(file: &Path, records: &[(u64, Record)]) -> Done {
    let mut seen = BTreeMap::new();
    for (line, record) in records {
        if let Some(first) = seen.insert(record.name.as_str(), line) {
            let name = output::printable(&record.name);
            return Err(Failure(format!("{}, line {line}: {name} is already on line {first}.", file.display())));
        }
    }
    Ok(())
}

async fn send(local: &Local, records: &[(u64, Record)], dry_run: bool, verb: &str) -> Result<ImportResult, Failure> {
    let bar = ProgressBar::new(records.len() as u64);
    let style = ProgressStyle::with_template("{msg} {bar:30} {human_pos} of {human_len}, {eta} left");
    bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()));
    bar.set_message(verb.to_owned());
    let mut sum = ImportResult::default();
    for (index, chunk) in records.chunks(CHUNK).enumerate() {
        let identities: Vec<&Record> = chunk.iter().map(|(_, record)| record).collect();
        let body = json!({ "identities": identities, "dry_run": dry_run });
        let part: ImportResult = local.post(&["identities"], &body).await?;
        sum.made += part.made;
        sum.changed += part.changed;
        sum.unchanged += part.unchanged;
        sum.secrets.extend(part.secrets);
        let before = (index * CHUNK) as u64;
        sum.faults.extend(part.faults.into_iter().map(|mut fault| {
            fault.place += before;
            fault
        }));
        bar.inc(chunk.len() as u64);
    }
    bar.finish_and_clear();
    Ok(sum)
}

/// Writes all identities to a new file.
pub(super) async fn export(local: &Local, file: &Path) -> Done {
    let form = form(file)?;
    let identities: Vec<IdentityView> = local.get_all(&["identities"]).await?;
    let wrong = |error: std::io::Error| {
        Failure(format!("{} can't be written: {error}. Check the path and its permissions.", file.display()))
    };
    let mut opened = std::fs::OpenOptions::new().create_new(true).write(true).open(file).map_err(wrong)?;
    let bytes = match form {
        Form::JsonLines => {
            let mut bytes = Vec::new();
            for identity in &identities {
                let IdentityView { name, attributes, enabled, note, client_id, certificates, .. } = identity.clone();
                let certificates = Some(certificates);
                let (password_hash, generate) = (None, false);
                let record =
                    Record { name, attributes, enabled, note, client_id, certificates, password_hash, generate };
                serde_json::to_writer(&mut bytes, &record)?;
                bytes.push(b'\n');
            }
            bytes
        }
        Form::Csv => csv_of(&identities)?,
    };
    opened.write_all(&bytes).map_err(wrong)?;
    let all = plural(identities.len() as u64, "identity", "identities");
    output::finish(output::line(format_args!("{all} in {}", file.display())))
}

fn csv_of(identities: &[IdentityView]) -> Result<Vec<u8>, Failure> {
    let mut names: Vec<&String> = identities.iter().flat_map(|identity| identity.attributes.keys()).collect();
    names.sort();
    names.dedup();
    let mut writer = csv::Writer::from_writer(Vec::new());
    let attributes = names.iter().map(|name| format!("attr.{name}"));
    writer.write_record(
        ["name", "enabled", "note", "client-id", "certificates"].map(str::to_owned).into_iter().chain(attributes),
    )?;
    for identity in identities {
        let values =
            names.iter().map(|name| identity.attributes.get(*name).map(ToString::to_string).unwrap_or_default());
        let fixed = [
            identity.name.clone(),
            identity.enabled.to_string(),
            identity.note.clone(),
            identity.client_id.clone().unwrap_or_default(),
            identity.certificates.join(";"),
        ];
        writer.write_record(fixed.into_iter().chain(values))?;
    }
    writer.into_inner().map_err(|error| Failure(error.to_string()))
}
