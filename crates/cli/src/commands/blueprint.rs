//! `moorfall blueprint`

use std::path::{Path, PathBuf};

use clap::{Args, Subcommand};
use moorfall_contract::{
    blueprint_files::{BLUEPRINT_SCHEMA, blueprint_files},
    design::{ChangeView, Check, Comparison, FieldChangeView, FindingView, ProofView, RevisionView},
    effects::{Effects, NewlyOwned},
    kinds::{ChangeKind, Severity},
};
use moorfall_core::blueprint::SourceFile;
use reqwest::{Method, StatusCode};
use serde_json::json;

use crate::{
    commands::journey::strong,
    local::{Local, Which},
    output::{self, Done, FAINT, Failure, STRONG, WARN, ago, count, plural, printable, table},
};

/// What the command takes.
#[derive(Debug, Args)]
pub struct Arguments {
    #[command(subcommand)]
    verb: Verb,
    #[command(flatten)]
    which: Which,
}

/// A blueprint in files.
#[derive(Debug, Args)]
struct Files {
    /// Blueprint: a file, or a folder of .toml files
    blueprint: PathBuf,
    /// Print JSON
    #[arg(long)]
    json: bool,
}

#[derive(Debug, Subcommand)]
enum Verb {
    /// Check a blueprint and its proofs
    Check(Files),
    /// Show what a blueprint would change, and its effects on live sessions and messages
    Diff(Files),
    /// Apply a blueprint
    ///
    /// It is refused if it has errors, if a proof fails, or if another revision is in force than the one that it
    /// is based on.
    Apply {
        #[command(flatten)]
        files: Files,
        /// Describe the change
        #[arg(short, long, default_value = "", hide_default_value = true)]
        message: String,
        /// Revision that it is based on [default: the one in force]
        #[arg(long, value_name = "REVISION")]
        base: Option<i64>,
    },
    /// List revisions, newest first
    History {
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Print the files of a revision
    Show {
        /// Revision [default: the one in force]
        revision: Option<i64>,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Revert to an earlier revision, as a new one
    Revert {
        /// Revision
        revision: i64,
        /// Describe the change
        #[arg(short, long, default_value = "", hide_default_value = true)]
        message: String,
    },
    /// Write the files of a revision to a folder
    Export {
        /// Folder; files in it are not overwritten
        folder: PathBuf,
        /// Revision [default: the one in force]
        #[arg(long)]
        revision: Option<i64>,
    },
    /// Print the JSON Schema of blueprint files, for editors
    Schema,
}

/// Carries out the command.
pub async fn run(arguments: Arguments) -> Done {
    let which = arguments.which;
    match arguments.verb {
        Verb::Schema => output::finish(output::line(BLUEPRINT_SCHEMA.trim_end())),
        Verb::Check(files) => check(&which.find()?, &files).await,
        Verb::Diff(files) => diff(&which.find()?, &files).await,
        Verb::Apply { files, message, base } => apply(&which.find()?, &files, &message, base).await,
        Verb::History { json } => history(&which.find()?, json).await,
        Verb::Show { revision, json } => show(&which.find()?, revision, json).await,
        Verb::Revert { revision, message } => revert(&which.find()?, revision, &message).await,
        Verb::Export { folder, revision } => export(&which.find()?, &folder, revision).await,
    }
}

fn read(path: &Path) -> Result<Vec<SourceFile>, Failure> {
    blueprint_files(path).map_err(|error| {
        Failure(format!("{} can't be read: {error}. Check the path and its permissions.", path.display()))
    })
}

async fn check(local: &Local, files: &Files) -> Done {
    let body = json!({ "files": read(&files.blueprint)? });
    let check: Check = local.post(&["blueprint", "check"], &body).await?;
    if files.json {
        output::json(&check)?;
    } else {
        output::finish(print_check(&check, true))?;
    }
    if check.ready { Ok(()) } else { Err(not_ready(&check)) }
}

fn not_ready(check: &Check) -> Failure {
    let errors = check.findings.iter().filter(|finding| finding.severity == Severity::Error).count();
    let failed = check.proofs.iter().filter(|proof| !proof.holds).count();
    Failure(match (errors, failed) {
        (0, 1) => "Not ready to apply: a proof fails.".into(),
        (0, failed) => format!("Not ready to apply: {failed} proofs fail."),
        (1, _) => "Not ready to apply: the blueprint has an error.".into(),
        (errors, _) => format!("Not ready to apply: the blueprint has {errors} errors."),
    })
}

fn print_check(check: &Check, with_proofs: bool) -> std::io::Result<()> {
    for finding in &check.findings {
        print_finding(finding)?;
    }
    for proof in check.proofs.iter().filter(|proof| with_proofs || !proof.holds) {
        print_proof(proof)?;
    }
    let held = check.proofs.iter().filter(|proof| proof.holds).count();
    let warnings = check.findings.iter().filter(|finding| finding.severity == Severity::Warning).count() as u64;
    let warnings = plural(warnings, "warning", "warnings");
    if check.ready {
        let proofs = match check.proofs.len() {
            0 => "no proofs".to_owned(),
            1 => "the proof holds".to_owned(),
            all => format!("all {all} proofs hold"),
        };
        output::line(format_args!("{STRONG}Ready to apply{STRONG:#}: {proofs}, {warnings}"))
    } else if check.proofs.is_empty() {
        Ok(())
    } else {
        output::line(format_args!("{held} of {} proofs hold, {warnings}", check.proofs.len()))
    }
}

fn print_finding(finding: &FindingView) -> std::io::Result<()> {
    let FindingView { severity, file, line, column, message, remedy, excerpt } = finding;
    output::line(format_args!("{WARN}{severity}{WARN:#} in {file}, line {line}, column {column}"))?;
    output::line(output::indented(&printable(message), 2))?;
    for line in excerpt.lines() {
        // A long line is shown around its mark.
        output::line(format_args!("  {}", printable(line)))?;
    }
    if !remedy.is_empty() {
        output::line(output::indented(&format!("Remedy: {remedy}"), 2))?;
    }
    Ok(())
}

fn print_proof(proof: &ProofView) -> std::io::Result<()> {
    let ProofView { name, statement, holds, identities, explanation, file, line } = proof;
    if *holds {
        output::line(format_args!("holds  {name} ({})", plural(*identities, "identity", "identities")))?;
    } else {
        output::line(format_args!("{WARN}fails{WARN:#}  {name}, {file} line {line}"))?;
        output::line(output::indented(&printable(statement), 7))?;
    }
    if explanation.is_empty() { Ok(()) } else { output::line(output::indented(&printable(explanation), 7)) }
}

async fn diff(local: &Local, files: &Files) -> Done {
    let body = json!({ "files": read(&files.blueprint)? });
    let comparison: Comparison = local.post(&["blueprint", "compare"], &body).await?;
    if files.json {
        return output::json(&comparison);
    }
    output::finish(print_comparison(&comparison))?;
    if comparison.check.ready { Ok(()) } else { Err(not_ready(&comparison.check)) }
}

fn print_comparison(comparison: &Comparison) -> std::io::Result<()> {
    let Comparison { base, check, changes, effects } = comparison;
    print_check(check, false)?;
    if changes.is_empty() {
        return if check.ready { output::line(format_args!("no changes from revision {base}")) } else { Ok(()) };
    }
    output::line(format_args!("{STRONG}Changes{STRONG:#} from revision {base}"))?;
    for ChangeView { kind, part, name, fields } in changes {
        let sign = match kind {
            ChangeKind::Added => "+",
            ChangeKind::Removed => "-",
            ChangeKind::Changed => "~",
        };
        output::line(format_args!("{sign} {part} {}", printable(name)))?;
        for change in fields.iter().filter(|_| *kind == ChangeKind::Changed) {
            output::line(output::indented(&printable(&field_change(change)), 4))?;
        }
    }
    output::line(format_args!("{STRONG}Effects{STRONG:#} on live sessions and messages"))?;
    print_effects(effects)
}

/// A change of a field; of a list, what is new in it and what is gone.
fn field_change(change: &FieldChangeView) -> String {
    let FieldChangeView { field, before, after, added, removed } = change;
    if !added.is_empty() || !removed.is_empty() {
        let added = added.iter().map(|item| format!("with {item}"));
        let removed = removed.iter().map(|item| format!("without {item}"));
        return format!("{field}: {}", added.chain(removed).collect::<Vec<_>>().join(", "));
    }
    let shown = |text: &str| if text.is_empty() { "nothing".to_owned() } else { text.to_owned() };
    format!("{field}: {} -> {}", shown(before), shown(after))
}

fn print_effects(effects: &Effects) -> std::io::Result<()> {
    let more = |shown: usize, total: u64| {
        let rest = total - shown as u64;
        if rest > 0 { output::line(format_args!("  {FAINT}and {} more{FAINT:#}", count(rest))) } else { Ok(()) }
    };
    let Effects { lost_subscriptions, lost_topics, unplanned_retained, cohort_moves, .. } = effects;
    let Effects { unmade_retained, condition_moves, newly_owned, disowned, .. } = effects;
    for lost in lost_subscriptions {
        let who = format!("client {} ({}) loses its subscription to {}", lost.client_id, lost.identity, lost.filter);
        output::line(output::indented(&printable(&who), 2))?;
        output::line(output::indented(&printable(&lost.explanation), 4))?;
    }
    more(lost_subscriptions.len(), effects.lost_subscriptions_total)?;
    for lost in lost_topics {
        let who = format!("{} loses the right to publish to {}, which it has used", lost.identity, lost.topic);
        output::line(output::indented(&printable(&who), 2))?;
    }
    more(lost_topics.len(), effects.lost_topics_total)?;
    for topic in unplanned_retained {
        output::line(output::indented(
            &printable(&format!("the retained message of {topic} is no longer planned")),
            2,
        ))?;
    }
    more(unplanned_retained.len(), effects.unplanned_retained_total)?;
    for topic in unmade_retained {
        let words = format!("the retained message of {topic} stays, and no derived topic makes it any more");
        output::line(output::indented(&printable(&words), 2))?;
    }
    more(unmade_retained.len(), effects.unmade_retained_total)?;
    for moved in condition_moves {
        let who = format!("client {} ({}) gets other messages", moved.client_id, moved.identity);
        output::line(output::indented(&printable(&who), 2))?;
        for (verb, names) in [("new for it", &moved.new), ("no longer as it was", &moved.old)] {
            if !names.is_empty() {
                let words = format!("{verb}: condition {}", names.join(", "));
                output::line(output::indented(&printable(&words), 4))?;
            }
        }
    }
    more(condition_moves.len(), effects.condition_moves_total)?;
    for NewlyOwned { topic, identity, strength } in newly_owned {
        let words = format!("{topic} has one owner from then on; {identity} published to it ({})", strong(*strength));
        output::line(output::indented(&printable(&words), 2))?;
    }
    more(newly_owned.len(), effects.newly_owned_total)?;
    for topic in disowned {
        let words = format!("{topic} has no owner any more: everyone that publishes to it is heard");
        output::line(output::indented(&printable(&words), 2))?;
    }
    more(disowned.len(), effects.disowned_total)?;
    for moved in cohort_moves {
        let verb = if moved.enters { "enters" } else { "leaves" };
        output::line(format_args!("  {} {verb} cohort {}", printable(&moved.identity), moved.cohort))?;
    }
    more(cohort_moves.len(), effects.cohort_moves_total)?;
    let total = effects.lost_subscriptions_total
        + effects.lost_topics_total
        + effects.unplanned_retained_total
        + effects.unmade_retained_total
        + effects.condition_moves_total
        + effects.newly_owned_total
        + effects.disowned_total
        + effects.cohort_moves_total;
    if total == 0 { output::line("  none") } else { Ok(()) }
}

/// The number of the revision in force; 0 if there is none.
async fn in_force(local: &Local) -> Result<i64, Failure> {
    let revisions: Vec<RevisionView> = local.get(&["blueprint", "revisions"], &[]).await?;
    Ok(revisions.iter().find(|revision| revision.in_force).map_or(0, |revision| revision.number))
}

async fn apply(local: &Local, files: &Files, message: &str, base: Option<i64>) -> Done {
    let sources = read(&files.blueprint)?;
    let base = match base {
        Some(base) => base,
        None => in_force(local).await?,
    };
    let body = json!({ "files": sources, "base": base, "message": message });
    put_in_force(local, &["blueprint", "revisions"], &body, files.json).await
}

async fn revert(local: &Local, revision: i64, message: &str) -> Done {
    let body = json!({ "base": in_force(local).await?, "message": message });
    put_in_force(local, &["blueprint", "revisions", &revision.to_string(), "revert"], &body, false).await
}

async fn put_in_force(local: &Local, path: &[&str], body: &serde_json::Value, as_json: bool) -> Done {
    let answer = local.send_any(Method::POST, path, &[], Some(body)).await?;
    if answer.status() == StatusCode::UNPROCESSABLE_ENTITY {
        let check: Check = answer.json().await?;
        if as_json {
            output::json(&check)?;
        } else {
            output::finish(print_check(&check, false))?;
        }
        return Err(Failure(format!("{} Nothing was changed.", not_ready(&check).0)));
    }
    let revision: RevisionView = Local::checked(answer).await?.json().await?;
    if as_json {
        return output::json(&revision);
    }
    output::finish(output::line(format_args!("revision {} is in force", revision.number)))
}

async fn history(local: &Local, as_json: bool) -> Done {
    let revisions: Vec<RevisionView> = local.get(&["blueprint", "revisions"], &[]).await?;
    if as_json {
        return output::json(&revisions);
    }
    if revisions.is_empty() {
        return output::finish(output::line("No revisions yet. `moorfall blueprint apply FILE` creates the first."));
    }
    let rows = revisions.iter().map(|revision| {
        let number =
            if revision.in_force { format!("{} in force", revision.number) } else { revision.number.to_string() };
        vec![number, ago(revision.applied_at), revision.author.clone(), revision.message.clone()]
    });
    output::finish(output::line(table(&["REVISION", ">APPLIED", "BY", "MESSAGE"], rows.collect())))
}

async fn revision(local: &Local, number: Option<i64>) -> Result<RevisionView, Failure> {
    let number = match number {
        Some(number) => number,
        None => in_force(local).await?,
    };
    if number == 0 {
        return Err(Failure("there is No revisions yet. `moorfall blueprint apply FILE` creates the first.".into()));
    }
    local.get(&["blueprint", "revisions", &number.to_string()], &[]).await
}

async fn show(local: &Local, number: Option<i64>, as_json: bool) -> Done {
    let revision = revision(local, number).await?;
    if as_json {
        return output::json(&revision);
    }
    let several = revision.files.len() > 1;
    for file in &revision.files {
        if several {
            output::finish(output::line(format_args!("# {}", printable(&file.name))))?;
        }
        output::finish(output::line(file.text.trim_end()))?;
    }
    Ok(())
}

async fn export(local: &Local, folder: &Path, number: Option<i64>) -> Done {
    let revision = revision(local, number).await?;
    std::fs::create_dir_all(folder).map_err(|error| Failure(format!("{}: {error}", folder.display())))?;
    for file in &revision.files {
        // A name from the service is no path.
        let name = Path::new(&file.name).file_name().unwrap_or("blueprint.toml".as_ref());
        let path = folder.join(name);
        let mut options = std::fs::OpenOptions::new();
        let written = options.create_new(true).write(true).open(&path);
        written.and_then(|mut opened| std::io::Write::write_all(&mut opened, file.text.as_bytes())).map_err(
            |error| {
                Failure(format!("{} can't be written: {error}. Check the path and its permissions.", path.display()))
            },
        )?;
        output::finish(output::line(path.display()))?;
    }
    Ok(())
}
