//! `moorfall access`

use clap::{Args, Subcommand};
use moorfall_contract::{
    design::{AccessAnswer, Matrix, Right, RuleVerdict},
    topics::RefusalView,
};
use serde_json::json;

use crate::{
    arguments::qos,
    local::{Local, Which},
    output::{self, Done, FAINT, Failure, STRONG, ago, count, indented, plural, printable, table},
};

/// What the command takes.
#[derive(Debug, Args)]
pub struct Arguments {
    #[command(subcommand)]
    verb: Verb,
    #[command(flatten)]
    which: Which,
}

#[derive(Debug, Subcommand)]
enum Verb {
    /// Explain whether an identity can publish or subscribe, rule by rule
    ///
    /// Decided as for a live session. The exit code is 1 if it is not allowed.
    Explain {
        /// Identity that would do it
        #[arg(long = "as", value_name = "IDENTITY")]
        identity: String,
        /// Client identifier, if rules use it [default: the name of the identity]
        #[arg(long, value_name = "ID", default_value = "", hide_default_value = true)]
        client_id: String,
        #[command(subcommand)]
        act: Act,
    },
    /// Show who can publish (p) and subscribe (s) to which planned topics
    Matrix {
        /// One row per identity instead of per cohort
        #[arg(long)]
        identities: bool,
        /// Only rows whose name contains this text
        #[arg(default_value = "", hide_default_value = true)]
        search: String,
        /// Print comma-separated values
        #[arg(long, conflicts_with = "json")]
        csv: bool,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// List refusals, newest first
    Refusals {
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
}

#[derive(Debug, Subcommand)]
enum Act {
    /// Publish a message
    Publish {
        /// Topic name
        topic: String,
        /// Quality of service
        #[arg(long, default_value = "0", value_parser = qos)]
        qos: moorfall_wire::QoS,
        /// With the retain flag
        #[arg(long)]
        retain: bool,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Subscribe to a topic filter
    Subscribe {
        /// Topic filter
        filter: String,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
}

/// Carries out the command.
pub async fn run(arguments: Arguments) -> Done {
    let local = arguments.which.find()?;
    match arguments.verb {
        Verb::Explain { identity, client_id, act } => explain(&local, &identity, &client_id, act).await,
        Verb::Matrix { identities, search, csv, json } => matrix(&local, identities, &search, csv, json).await,
        Verb::Refusals { json } => refusals(&local, json).await,
    }
}

async fn explain(local: &Local, identity: &str, client_id: &str, act: Act) -> Done {
    let (body, as_json) = match act {
        Act::Publish { topic, qos, retain, json } => (
            json!({ "identity": identity, "client_id": client_id, "act": "publish", "topic": topic,
                "qos": qos.level(), "retain": retain }),
            json,
        ),
        Act::Subscribe { filter, json } => {
            (json!({ "identity": identity, "client_id": client_id, "act": "subscribe", "topic": filter }), json)
        }
    };
    let answer: AccessAnswer = local.post(&["access", "explain"], &body).await?;
    if as_json {
        output::json(&answer)?;
    } else {
        output::finish(print_answer(&answer))?;
    }
    if answer.allowed { Ok(()) } else { Err(Failure("not allowed".into())) }
}

fn print_answer(answer: &AccessAnswer) -> std::io::Result<()> {
    let verdict = if answer.allowed { "Allowed" } else { "Refused" };
    output::line(format_args!("{STRONG}{verdict}{STRONG:#}"))?;
    output::line(indented(&printable(&answer.explanation), 2))?;
    if !answer.cohorts.is_empty() {
        output::line(format_args!("  Cohorts: {}", answer.cohorts.join(", ")))?;
    }
    if answer.allowed && answer.highest_qos < 2 {
        output::line(format_args!("  Granted at QoS {} at most", answer.highest_qos))?;
    }
    if answer.rules.is_empty() {
        return Ok(());
    }
    output::line("")?;
    let row = |rule: &RuleVerdict| {
        let words = match (rule.decides, rule.applies) {
            (true, _) => "decides".to_owned(),
            (false, true) => "applies".to_owned(),
            (false, false) => rule.explanation.clone(),
        };
        vec![rule.rule.clone(), rule.verdict.to_string(), words]
    };
    output::line(table(&["RULE", "VERDICT", "HERE"], answer.rules.iter().map(row).collect()))
}

/// The path that a planned topic is, without what all share at the beginning.
fn shared_prefix(topics: &[String]) -> usize {
    let Some(first) = topics.first() else { return 0 };
    let shared = |at: usize| topics.iter().all(|topic| topic.get(..at) == first.get(..at));
    first.match_indices('/').map(|(at, _)| at + 1).take_while(|at| shared(*at)).last().unwrap_or(0)
}

fn mark(publish: Right, subscribe: Right) -> String {
    let letter = |right, letter: &str| match right {
        Right::All => letter.to_uppercase(),
        Right::Some => letter.to_owned(),
        Right::None => "-".to_owned(),
    };
    format!("{}{}", letter(publish, "p"), letter(subscribe, "s"))
}

async fn matrix(local: &Local, identities: bool, search: &str, csv: bool, as_json: bool) -> Done {
    let by = if identities { "identities" } else { "cohorts" };
    let query = [("by", by), ("search", search), ("limit", if csv || as_json { "5000" } else { "200" })];
    let matrix: Matrix = local.get(&["access", "matrix"], &query).await?;
    if as_json {
        return output::json(&matrix);
    }
    if matrix.topics.is_empty() {
        return Err(Failure("No planned topics. Add [[topics]] to the blueprint to fill the matrix.".into()));
    }
    if csv {
        return output::finish(print_csv(&matrix, by));
    }
    output::finish(print_matrix(&matrix, by))
}

fn print_csv(matrix: &Matrix, by: &str) -> std::io::Result<()> {
    let quoted = |text: &str| {
        if text.contains([',', '"', '\n']) { format!("\"{}\"", text.replace('"', "\"\"")) } else { text.to_owned() }
    };
    let word = |right: Right| match right {
        Right::All => "all",
        Right::Some => "some",
        Right::None => "none",
    };
    output::line(format_args!(
        "{},topic,publish,subscribe",
        by.trim_end_matches('s').replace("identitie", "identity")
    ))?;
    for row in &matrix.rows {
        for (topic, rights) in matrix.topics.iter().zip(&row.rights) {
            let (name, topic) = (quoted(&row.name), quoted(topic));
            output::line(format_args!("{name},{topic},{},{}", word(rights.publish), word(rights.subscribe)))?;
        }
    }
    Ok(())
}

/// Topics stand in lines, since their paths are long, and identities in columns.
fn print_matrix(matrix: &Matrix, by: &str) -> std::io::Result<()> {
    let prefix = shared_prefix(&matrix.topics);
    if prefix > 0 {
        output::line(format_args!("{FAINT}below {}{FAINT:#}", &matrix.topics[0][..prefix - 1]))?;
    }
    let widest = matrix.topics.iter().map(|topic| topic.len() - prefix).max().unwrap_or(0);
    // As many columns as fit beside the paths.
    let columns = ((80_usize.saturating_sub(widest + 2)) / 5).clamp(4, 12);
    for (place, rows) in matrix.rows.chunks(columns).enumerate() {
        if place > 0 {
            output::line("")?;
        }
        let letters: Vec<String> = (0..rows.len()).map(|index| (place * columns + index + 1).to_string()).collect();
        let mut headings = vec!["TOPIC"];
        headings.extend(letters.iter().map(String::as_str));
        let lines = matrix.topics.iter().enumerate().map(|(index, topic)| {
            let marks = rows.iter().map(|row| mark(row.rights[index].publish, row.rights[index].subscribe));
            [topic[prefix..].to_owned()].into_iter().chain(marks).collect()
        });
        output::line(table(&headings, lines.collect()))?;
        for (letter, row) in letters.iter().zip(rows) {
            let of = if row.identities == 1 && by == "identities" {
                String::new()
            } else {
                format!(" ({})", plural(row.identities, "identity", "identities"))
            };
            output::line(format_args!("  {letter}  {}{of}", printable(&row.name)))?;
        }
    }
    output::line(format_args!(
        "{FAINT}P publish, S subscribe to all topics of a path; p, s to some; - to none{FAINT:#}"
    ))?;
    let shown = matrix.rows.len() as u64;
    if shown < matrix.total {
        output::line(format_args!("{FAINT}{shown} of {} shown; search for others{FAINT:#}", count(matrix.total)))?;
    }
    Ok(())
}

async fn refusals(local: &Local, as_json: bool) -> Done {
    let refusals: Vec<RefusalView> = local.get_all(&["access", "refusals"]).await?;
    if as_json {
        return output::json(&refusals);
    }
    if refusals.is_empty() {
        return output::finish(output::line("Nothing has been refused since the service started."));
    }
    let rows =
        refusals.iter().map(|refusal| vec![count(refusal.count), ago(refusal.last), refusal.explanation.clone()]);
    output::finish(output::line(table(&[">TIMES", ">LAST", "REFUSAL"], rows.collect())))
}
