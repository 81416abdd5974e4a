//! `moorfall alerts`

use std::{io, time::Duration};

use clap::{Args, Subcommand};
use moorfall_contract::{
    alerts::{
        AlertList, AlertRehearsal, AlertView, NoticeList, NoticeView, QuietDraft, RehearsedSubject, SpellView,
        StandingView, value_in_words,
    },
    kinds::{AlertPhase, NoticeState},
};
use reqwest::Method;
use serde_json::json;
use time::{OffsetDateTime, format_description::well_known::Rfc3339};
use tokio::time::{Instant, sleep};

use crate::{
    arguments::{When, duration, duration_or_none, when, whole_seconds},
    local::{Local, Which},
    output::{
        self, Done, FAINT, Failure, STRONG, WARN, ago, count, indented, minute, plural, printable, since, span, table,
    },
};

/// How long a test waits for its notices, and between two looks.
const TEST: (Duration, Duration) = (Duration::from_secs(25), Duration::from_millis(300));

/// Spells and subjects that a trial prints.
const SPELLS: usize = 20;

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
    /// List alerts: those that are raised first
    List {
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Show an alert, what it watches and how that stands
    Show {
        /// Name of the alert
        name: String,
        /// Print at most N topics
        #[arg(long, value_name = "N", default_value_t = 20, value_parser = clap::value_parser!(u64).range(1..=1_000))]
        limit: u64,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// List notices: what was told, to whom, and whether it arrived
    History {
        /// Only of this alert
        name: Option<String>,
        /// Only those that are not delivered yet
        #[arg(long)]
        waiting: bool,
        /// Print at most N notices
        #[arg(long, value_name = "N", default_value_t = 20, value_parser = clap::value_parser!(u64).range(1..=1_000))]
        limit: u64,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Try an alert with another band: what would it have told?
    ///
    /// Nothing is sent, and nothing is changed. Of a measure, the past is gone through as if the alert had been watching;
    /// of everything, the values that are there now are held against the band.
    Try {
        /// Name of the alert
        name: String,
        #[command(flatten)]
        tried: Tried,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Send a test notice to everyone whom an alert tells
    ///
    /// Each address is tried once, before notices that wait.
    Test {
        /// Name of the alert
        name: String,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Tell nobody of an alert for a while
    ///
    /// If it is raised when the time is over, or was told and is back, that is told then.
    Quiet {
        /// Name of the alert
        name: String,
        /// Duration, for example 30m or 2h; at most 30 days
        #[arg(long = "for", value_name = "TIME", value_parser = duration, required_unless_present = "end")]
        time: Option<Duration>,
        /// Tell of it again from now on
        #[arg(long, conflicts_with = "time")]
        end: bool,
    },
}

/// What is tried; what is left out is as in the alert.
#[derive(Debug, Args)]
struct Tried {
    /// Lower end of the band
    #[arg(long, value_name = "NUMBER", allow_negative_numbers = true)]
    low: Option<f64>,
    /// Upper end of the band; of silence in seconds
    #[arg(long, value_name = "NUMBER", allow_negative_numbers = true)]
    high: Option<f64>,
    /// How long a value must be out, for example 30s
    #[arg(long, value_name = "TIME", value_parser = duration_or_none)]
    out_for: Option<Duration>,
    /// How long it must be back
    #[arg(long, value_name = "TIME", value_parser = duration_or_none)]
    back_for: Option<Duration>,
    /// Begin of the range: 7d (ago), 2026-11-20 or 2026-11-20T09:30 (in UTC)
    #[arg(long, value_name = "TIME", value_parser = when, default_value = "1d")]
    from: When,
    /// End of the range [default: now]
    #[arg(long, value_name = "TIME", value_parser = when)]
    to: Option<When>,
}

/// Carries out the command.
pub async fn run(arguments: Arguments) -> Done {
    let local = arguments.which.find()?;
    match arguments.verb {
        Verb::List { json } => {
            let list: AlertList = local.get(&["alerts"], &[]).await?;
            if json { output::json(&list) } else { output::finish(print_list(&list)) }
        }
        Verb::Show { name, limit, json } => {
            let alert: AlertView = local.get(&["alerts", &name], &[("limit", &limit.to_string())]).await?;
            if json { output::json(&alert) } else { output::finish(print_alert(&alert)) }
        }
        Verb::History { name, waiting, limit, json } => {
            let limit = limit.to_string();
            let mut query = vec![("limit", &*limit)];
            query.extend(name.as_deref().map(|name| ("alert", name)));
            query.extend(waiting.then_some(("state", "waiting")));
            let list: NoticeList = local.get(&["notices"], &query).await?;
            if json { output::json(&list) } else { output::finish(print_notices(&list)) }
        }
        Verb::Try { name, tried, json } => {
            let told = rehearse(&local, &name, &tried).await?;
            if json { output::json(&told) } else { output::finish(print_rehearsal(&name, &told)) }
        }
        Verb::Test { name, json } => test(&local, &name, json).await,
        Verb::Quiet { name, time, end: _ } => quiet(&local, &name, time).await,
    }
}

fn print_list(list: &AlertList) -> io::Result<()> {
    if list.alerts.is_empty() {
        return output::line("There are no alerts. Add [[alerts]] to the blueprint; docs/ALERTS.md tells how.");
    }
    let row = |alert: &AlertView| {
        let quiet = if alert.quiet.is_some() { ", quiet" } else { "" };
        let since = alert.since.filter(|_| alert.phase != AlertPhase::Ok).map(since).unwrap_or_default();
        let out = alert.standings.iter().filter(|standing| standing.phase != AlertPhase::Ok).count();
        let of =
            if alert.subjects > 1 || out > 0 { format!("{out} of {}", count(alert.subjects)) } else { String::new() };
        let value = match &alert.standings[..] {
            [one] => one.value.map(|value| value_in_words(value, alert.silence)).unwrap_or_default(),
            _ => String::new(),
        };
        vec![
            printable(&alert.name),
            alert.severity.to_string(),
            format!("{}{quiet}", alert.phase),
            since,
            of,
            value,
            alert.band.clone(),
        ]
    };
    let headings = ["ALERT", "SEVERITY", "STATE", ">FOR", ">OUT", ">VALUE", "BAND"];
    output::line(table(&headings, list.alerts.iter().map(row).collect()))?;
    if list.waiting_notices > 0 {
        let waiting = plural(list.waiting_notices, "notice waits", "notices wait");
        output::line(format_args!("{WARN}{waiting}{WARN:#}; `moorfall alerts history --waiting` shows why"))?;
    }
    Ok(())
}

fn print_alert(alert: &AlertView) -> io::Result<()> {
    let AlertView { name, severity, phase, watches, band, .. } = alert;
    output::line(format_args!("{STRONG}{}{STRONG:#}  {severity}, {phase}", printable(name)))?;
    for text in [&alert.purpose, &alert.text] {
        if !text.is_empty() {
            output::line(indented(&printable(text), 2))?;
        }
    }
    output::line(format_args!("  watches   {}", printable(watches)))?;
    output::line(format_args!("  band      {band}"))?;
    for (label, seconds) in [("out for", alert.out_for_seconds), ("back for", alert.back_for_seconds)] {
        if seconds > 0 {
            output::line(format_args!("  {label:9} {}", span(seconds)))?;
        }
    }
    let tell = if alert.tell.is_empty() { "nobody".to_owned() } else { alert.tell.join(", ") };
    output::line(format_args!("  tells     {}", printable(&tell)))?;
    if let Some(quiet) = &alert.quiet {
        let left = u64::try_from((quiet.until - OffsetDateTime::now_utc()).whole_seconds()).unwrap_or(0);
        output::line(format_args!(
            "  {WARN}quiet{WARN:#}     for another {}, by {}",
            span(left),
            printable(&quiet.by)
        ))?;
    }
    for (number, words) in [
        (alert.without_number, "had no number where it should stand"),
        (alert.unwatched, "could not be watched: there are too many"),
    ] {
        if number > 0 {
            let messages = plural(number, "message", "messages");
            output::line(format_args!("  {WARN}{messages}{WARN:#} {words}"))?;
        }
    }
    if alert.standings.is_empty() {
        return output::line(format_args!("{FAINT}Nothing is known yet of what it watches.{FAINT:#}"));
    }
    let row = |standing: &StandingView| {
        let value = |value: Option<f64>| value.map_or("-".into(), |value| value_in_words(value, alert.silence));
        let mut state = standing.phase.to_string();
        if standing.flapping {
            state.push_str(", flaps");
        }
        vec![printable(&standing.subject), state, since(standing.since), value(standing.value), value(standing.worst)]
    };
    let (now, worst) = if alert.silence { (">SILENT FOR", ">AT MOST") } else { (">VALUE", ">WORST") };
    output::line(table(&["SUBJECT", "STATE", "FOR", now, worst], alert.standings.iter().map(row).collect()))?;
    let left = alert.subjects - alert.standings.len() as u64;
    if left > 0 {
        output::line(format_args!("{} more; --limit prints up to 1,000", count(left)))?;
    }
    Ok(())
}

fn print_notices(list: &NoticeList) -> io::Result<()> {
    if list.notices.is_empty() {
        return output::line("No notices.");
    }
    list.notices.iter().try_for_each(print_notice)
}

fn print_notice(notice: &NoticeView) -> io::Result<()> {
    let NoticeView { title, contact, way, target, state, tries, attempts, next_at, .. } = notice;
    output::line(format_args!("{STRONG}{}{STRONG:#}  {FAINT}{}{FAINT:#}", printable(title), ago(notice.facts.at)))?;
    let tried = if *tries > 1 { format!(" after {} attempts", count(*tries)) } else { String::new() };
    let next = next_at.map(|at| u64::try_from((at - OffsetDateTime::now_utc()).whole_seconds()).unwrap_or(0));
    let next = next.filter(|_| *tries > 0).map_or_else(String::new, |left| format!(", next in {}", span(left)));
    let mark = if *state == NoticeState::Delivered { FAINT } else { WARN };
    let to = format!("{contact}, {way} {target}");
    output::line(format_args!("  {mark}{state}{mark:#}{tried}{next}: {}", printable(&to)))?;
    if let Some(last) = attempts.last() {
        output::line(indented(&printable(&last.explanation), 4))?;
    }
    Ok(())
}

async fn rehearse(local: &Local, name: &str, tried: &Tried) -> Result<AlertRehearsal, Failure> {
    let now = OffsetDateTime::now_utc();
    let text = |when: When| when.seen_from(now).format(&Rfc3339).unwrap_or_default();
    let number = |value: Option<f64>| value.map(|value| value.to_string());
    let seconds = |time: Option<Duration>| time.map(|time| whole_seconds(time).to_string());
    let asked = [
        ("low", number(tried.low)),
        ("high", number(tried.high)),
        ("out_for", seconds(tried.out_for)),
        ("back_for", seconds(tried.back_for)),
        ("from", Some(text(tried.from))),
        ("to", tried.to.map(text)),
    ];
    let asked: Vec<(&str, &str)> =
        asked.iter().filter_map(|(key, value)| value.as_deref().map(|value| (*key, value))).collect();
    local.get(&["alerts", name, "rehearsal"], &asked).await
}

fn print_rehearsal(name: &str, told: &AlertRehearsal) -> io::Result<()> {
    let value = |value: f64| value_in_words(value, told.silence);
    output::line(format_args!("{STRONG}{}{STRONG:#}  {}", printable(name), told.terms()))?;
    let range = span(u64::try_from((told.to - told.from).whole_seconds()).unwrap_or(0));
    let now = told.to >= OffsetDateTime::now_utc() - time::Duration::MINUTE;
    let range = if now { format!("in the last {range}") } else { format!("in {range} until {}", minute(told.to)) };
    match told.step_seconds {
        None => output::line("No history is kept of what it watches: only what is there now can be tried.")?,
        Some(_) if told.measured_seconds == 0 => output::line(format_args!("Nothing was measured {range}."))?,
        Some(step) => {
            let times = if told.raised == 1 { "once".into() } else { format!("{} times", count(told.raised)) };
            output::line(format_args!(
                "It would have been raised {times} {range}; values are known for {} of it, as means of {}.",
                span(told.measured_seconds),
                span(step.into())
            ))?;
        }
    }
    if !told.spells.is_empty() {
        let row = |spell: &SpellView| {
            let back = spell.cleared_at.map_or_else(|| "still out".into(), minute);
            let until = spell.cleared_at.unwrap_or(told.to);
            let lasted = span(u64::try_from((until - spell.out_since).whole_seconds()).unwrap_or(0));
            let flaps = if spell.flapping { "yes" } else { "" };
            vec![minute(spell.out_since), minute(spell.raised_at), back, lasted, value(spell.worst), flaps.into()]
        };
        let shown = told.spells.iter().take(SPELLS).map(row).collect();
        output::line(table(&["OUT SINCE", "RAISED", "CLEARED", ">LASTED", ">WORST", "FLAPS"], shown))?;
        if told.raised > SPELLS as u64 {
            output::line(format_args!("{} before these; --json prints 200", count(told.raised - SPELLS as u64)))?;
        }
    }
    if told.known_now == 0 {
        return output::line("Now no value is known of what it watches.");
    }
    output::line(format_args!(
        "Now {} of {} would be out.",
        count(told.out_now),
        plural(told.known_now, "value", "values")
    ))?;
    let row = |one: &RehearsedSubject| {
        vec![printable(&one.subject), if one.out { "out" } else { "in" }.to_owned(), value(one.value)]
    };
    let shown: Vec<_> = told.now.iter().take(SPELLS).map(row).collect();
    output::line(table(&["SUBJECT", "NOW", if told.silence { ">SILENT FOR" } else { ">VALUE" }], shown))
}

/// Sends test notices, and waits until it is known what has become of each.
async fn test(local: &Local, name: &str, as_json: bool) -> Done {
    let began: NoticeList = local.post(&["alerts", name, "test"], &json!({})).await?;
    let numbers: Vec<i64> = began.notices.iter().map(|notice| notice.number).collect();
    let until = Instant::now() + TEST.0;
    let found = loop {
        let list: NoticeList = local.get(&["notices"], &[("alert", name), ("limit", "1000")]).await?;
        let own: Vec<NoticeView> = list.notices.into_iter().filter(|one| numbers.contains(&one.number)).collect();
        if own.iter().all(|notice| notice.tries > 0) || Instant::now() > until {
            break own;
        }
        sleep(TEST.1).await;
    };
    if as_json {
        output::json(&found)?;
    } else {
        output::finish(found.iter().try_for_each(print_notice))?;
    }
    match found.iter().filter(|notice| notice.state != NoticeState::Delivered).count() {
        0 => Ok(()),
        missing => Err(Failure(format!(
            "{} not delivered. `moorfall alerts history {name}` shows what becomes of them.",
            if missing == 1 { "One notice was".into() } else { format!("{missing} notices were") }
        ))),
    }
}

async fn quiet(local: &Local, name: &str, time: Option<Duration>) -> Done {
    let path = ["alerts", name, "quiet"];
    let Some(time) = time else {
        local.change(Method::DELETE, &path, None::<&()>).await?;
        return output::finish(output::line(format_args!("{} is told of again", printable(name))));
    };
    let seconds = whole_seconds(time);
    local.change(Method::PUT, &path, Some(&QuietDraft { seconds })).await?;
    let lasts = span(seconds.into());
    output::finish(output::line(format_args!("nobody is told of {} for {lasts}", printable(name))))
}
