//! `moorfall sessions`

use std::{io, time::Duration};

use clap::{Args, Subcommand, ValueEnum};
use moorfall_contract::sessions::{
    BanDraft, BanView, SessionDetails, SessionList, SessionView, SessionsEnd, SessionsEnded,
};
use reqwest::Method;
use serde_json::json;
use time::OffsetDateTime;

use crate::{
    arguments::{duration, whole_seconds},
    local::{Local, Which},
    output::{
        self, Done, FAINT, Failure, STRONG, WARN, ago, bytes, count, indented, plural, printable, since, span, table,
    },
};

/// Sessions that are ended with one call.
const TOGETHER: usize = 10_000;

/// Sessions of a preview.
const PREVIEW: u64 = 10_000;

/// What the command takes.
#[derive(Debug, Args)]
#[command(args_conflicts_with_subcommands = true, subcommand_precedence_over_arg = true)]
pub struct Arguments {
    #[command(subcommand)]
    verb: Option<Verb>,
    #[command(flatten)]
    chosen: Chosen,
    #[command(flatten)]
    listing: Listing,
    #[command(flatten)]
    which: Which,
}

/// Which sessions.
#[derive(Debug, Default, Args)]
struct Chosen {
    /// Only those whose client identifier, identity or address contains this text
    #[arg(default_value = "", hide_default_value = true)]
    search: String,
    /// Only those of this identity
    #[arg(long, value_name = "NAME")]
    identity: Option<String>,
    /// Only those of this cohort
    #[arg(long, value_name = "NAME")]
    cohort: Option<String>,
    /// Only those connected from this address or network
    #[arg(long, value_name = "ADDRESS")]
    address: Option<String>,
    /// Only those that came by this listener
    #[arg(long, value_name = "NAME")]
    listener: Option<String>,
    /// Only those that speak this version
    #[arg(long, value_name = "VERSION", value_parser = ["3.1.1", "5.0"])]
    version: Option<String>,
    /// Only those whose clients are connected
    #[arg(long, conflicts_with = "away")]
    connected: bool,
    /// Only those whose clients are away
    #[arg(long)]
    away: bool,
    /// Only those with something refused, waiting, withheld or dropped
    #[arg(long)]
    trouble: bool,
}

/// How they are listed.
#[derive(Debug, Args)]
struct Listing {
    /// By what they are sorted; numbers from the largest down
    #[arg(long, value_name = "ORDER", default_value = "client")]
    sort: Sort,
    /// The other way round
    #[arg(long)]
    reverse: bool,
    /// Print at most N sessions
    #[arg(long, value_name = "N", default_value_t = 500, value_parser = clap::value_parser!(u32).range(1..=10_000))]
    limit: u32,
    /// Print JSON
    #[arg(long)]
    json: bool,
}

/// By what sessions are sorted.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum Sort {
    Client,
    Identity,
    Since,
    Heard,
    RateIn,
    RateOut,
    MessagesIn,
    MessagesOut,
    Subscriptions,
    Queue,
    InFlight,
    Refused,
    Withheld,
}

/// What a client is told.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum Reason {
    AdministrativeAction,
    NotAuthorized,
    ServerBusy,
    MessageRateTooHigh,
    QuotaExceeded,
    ConnectionRateExceeded,
}

#[derive(Debug, Subcommand)]
enum Verb {
    /// Show one session, what it subscribes to, and how its last connection ended
    Show {
        /// Its client identifier
        client_id: String,
        /// Print JSON
        #[arg(long)]
        json: bool,
        #[command(flatten)]
        which: Which,
    },
    /// End sessions; without --yes only list which those would be
    ///
    /// Clients are disconnected, what is queued for them is lost, and sessions of clients that are away are forgotten.
    End {
        #[command(flatten)]
        chosen: Chosen,
        /// End exactly the session of this client identifier
        #[arg(long, value_name = "CLIENT")]
        client: Option<String>,
        /// End only connections; sessions that outlive them stay
        #[arg(long)]
        keep: bool,
        /// What clients are told (MQTT 5.0)
        #[arg(long, default_value = "administrative-action")]
        reason: Reason,
        /// End them
        #[arg(long)]
        yes: bool,
        #[command(flatten)]
        which: Which,
    },
    /// Let an identity or address in no more for a time, and end its connections
    Ban {
        /// Name of an identity
        #[arg(long, value_name = "NAME", conflicts_with = "address", required_unless_present = "address")]
        identity: Option<String>,
        /// Address, or a network such as 192.0.2.0/24
        #[arg(long)]
        address: Option<String>,
        /// Duration, for example 30m or 2d; at most a year
        #[arg(long = "for", value_name = "TIME", value_parser = duration)]
        time: Duration,
        /// Why; shown in the list of bans
        #[arg(long, default_value = "", hide_default_value = true)]
        note: String,
        #[command(flatten)]
        which: Which,
    },
    /// List bans that are in force
    Bans {
        /// Print JSON
        #[arg(long)]
        json: bool,
        #[command(flatten)]
        which: Which,
    },
    /// Lift a ban
    Unban {
        /// Its identifier, or the identity or address that is banned
        ban: String,
        #[command(flatten)]
        which: Which,
    },
}

fn name(value: &impl ValueEnum) -> String {
    value.to_possible_value().map(|value| value.get_name().to_owned()).unwrap_or_default()
}

impl Chosen {
    /// As the interface asks for it.
    fn query(&self) -> Vec<(&'static str, &str)> {
        let mut query = vec![("search", self.search.as_str())];
        for (name, text) in [
            ("identity", &self.identity),
            ("cohort", &self.cohort),
            ("address", &self.address),
            ("listener", &self.listener),
            ("version", &self.version),
        ] {
            query.extend(text.as_deref().map(|text| (name, text)));
        }
        if self.connected || self.away {
            query.push(("connected", if self.connected { "true" } else { "false" }));
        }
        if self.trouble {
            query.push(("trouble", "true"));
        }
        query
    }

    /// Whether all sessions are meant.
    fn is_everything(&self) -> bool {
        self.query() == [("search", "")]
    }
}

/// Carries out the command.
pub async fn run(arguments: Arguments) -> Done {
    match arguments.verb {
        None => list(&arguments.which.find()?, &arguments.chosen, &arguments.listing).await,
        Some(Verb::Show { client_id, json, which }) => {
            let details: SessionDetails = which.find()?.get(&["sessions", &client_id], &[]).await?;
            if json { output::json(&details) } else { output::finish(print_one(&details)) }
        }
        Some(Verb::End { chosen, client, keep, reason, yes, which }) => {
            end(&which.find()?, &chosen, client, (keep, reason), yes).await
        }
        Some(Verb::Ban { identity, address, time, note, which }) => {
            let draft = BanDraft { identity, address, seconds: whole_seconds(time), note };
            let ban: BanView = which.find()?.post(&["bans"], &draft).await?;
            let who = if ban.identity.is_empty() { ban.address } else { ban.identity };
            let lasts = span(whole_seconds(time).into());
            output::finish(output::line(format_args!("{} is not let in for {lasts} (ban {})", printable(&who), ban.id)))
        }
        Some(Verb::Bans { json, which }) => {
            let bans: Vec<BanView> = which.find()?.get(&["bans"], &[]).await?;
            if json { output::json(&bans) } else { output::finish(print_bans(&bans)) }
        }
        Some(Verb::Unban { ban, which }) => unban(&which.find()?, &ban).await,
    }
}

async fn list(local: &Local, chosen: &Chosen, listing: &Listing) -> Done {
    let (limit, order) = (listing.limit.to_string(), name(&listing.sort));
    let is_text = matches!(listing.sort, Sort::Client | Sort::Identity);
    let descending = (is_text == listing.reverse).to_string();
    let mut query = chosen.query();
    query.extend([("limit", &*limit), ("order", &*order), ("descending", &*descending)]);
    let list: SessionList = local.get(&["sessions"], &query).await?;
    if listing.json { output::json(&list) } else { output::finish(print(&list)) }
}

fn print(list: &SessionList) -> io::Result<()> {
    if list.sessions.is_empty() {
        return output::line("No sessions match.");
    }
    let rows = list.sessions.iter().map(row).collect();
    let headings = ["CLIENT", "IDENTITY", "ADDRESS", "MQTT", ">FOR", ">IN/s", ">OUT/s", ">QUEUED"];
    output::line(table(&headings, rows))?;
    let shown = list.sessions.len() as u64;
    if shown < list.total {
        output::line(format_args!("{FAINT}{shown} of {} shown; --limit N shows more{FAINT:#}", count(list.total)))?;
    }
    let troubles: Vec<_> = list.sessions.iter().filter_map(trouble).collect();
    if troubles.is_empty() {
        return Ok(());
    }
    output::line("")?;
    output::line(table(&["CLIENT", ">REFUSED", ">DROPPED", ">WITHHELD", "LAST REFUSAL"], troubles))
}

/// What went wrong for a session, if anything did.
fn trouble(session: &SessionView) -> Option<Vec<String>> {
    (session.refused + session.dropped + session.withheld > 0).then(|| {
        vec![
            session.client_id.clone(),
            count(session.refused),
            count(session.dropped),
            count(session.withheld),
            session.last_refusal.clone(),
        ]
    })
}

fn row(session: &SessionView) -> Vec<String> {
    vec![
        session.client_id.clone(),
        session.identity.clone(),
        if session.connected { session.address.clone() } else { "away".into() },
        session.version.clone(),
        since(session.since),
        format!("{:.1}", session.rates.messages_in),
        format!("{:.1}", session.rates.messages_out),
        count(session.queue),
    ]
}

fn print_one(details: &SessionDetails) -> io::Result<()> {
    let session = &details.session;
    let mut facts: Vec<(&str, String)> = Vec::new();
    let mut fact = |name, words: String| facts.push((name, words));
    fact("identity", session.identity.clone());
    if session.connected {
        let tls = if session.tls.is_empty() { String::new() } else { format!(", TLS {}", session.tls) };
        fact(
            "connected",
            format!("{} ago, from {} by {}{tls}", since(session.since), session.address, session.listener),
        );
        if !session.certificate.is_empty() {
            let ends =
                session.certificate_ends_at.map_or_else(String::new, |at| format!(", valid until {}", at.date()));
            fact("certificate", format!("{}{ends}", session.certificate));
        }
        let alive = match session.keep_alive_seconds {
            0 => "no Keep Alive".to_owned(),
            seconds => format!("Keep Alive {seconds} s"),
        };
        fact("speaks", format!("MQTT {}, {alive}", session.version));
        fact("heard", session.heard_at.map_or_else(String::new, ago));
    } else {
        let ends = session.ends_at.map_or("never expires".to_owned(), |at| {
            let left = u64::try_from((at - OffsetDateTime::now_utc()).whole_seconds()).unwrap_or(0);
            format!("expires in {}", span(left))
        });
        fact("away", format!("since {} ago, {ends}", since(session.since)));
    }
    fact("session", format!("began {}{}", ago(session.began_at), if session.persistent { ", kept" } else { "" }));
    let (rates, number) = (&session.rates, |number| count(number));
    fact(
        "in",
        format!(
            "{} messages, {}; {:.1}/s",
            number(session.messages_in),
            bytes(session.bytes_in as f64),
            rates.messages_in
        ),
    );
    fact(
        "out",
        format!(
            "{} messages, {}; {:.1}/s",
            number(session.messages_out),
            bytes(session.bytes_out as f64),
            rates.messages_out
        ),
    );
    fact(
        "queue",
        format!("{} of {} ({})", count(session.queue), count(session.queue_limit), bytes(session.queue_bytes as f64)),
    );
    fact("in flight", count(session.in_flight));
    let by = |all: &std::collections::BTreeMap<String, u64>| {
        let parts: Vec<String> = all.iter().map(|(reason, number)| format!("{} {reason}", count(*number))).collect();
        parts.join(", ")
    };
    if session.dropped > 0 {
        fact("dropped", format!("{}, for a full queue", count(session.dropped)));
    }
    if session.withheld > 0 {
        fact("withheld", by(&session.withheld_by));
    }
    if session.left_out > 0 {
        fact("left out", format!("{}, of which a condition is not true", count(session.left_out)));
    }
    if session.not_owner > 0 {
        fact("not owner", format!("{} withheld: another client owns the topic", count(session.not_owner)));
    }
    if session.refused > 0 {
        fact("refused", by(&session.refused_by));
    }
    output::line(format_args!("{STRONG}{}{STRONG:#}", printable(&session.client_id)))?;
    for (name, words) in facts {
        output::line(format_args!("  {name:12} {}", printable(&words)))?;
    }
    for (name, words, at) in [
        ("last refusal", &session.last_refusal, session.last_refusal_at),
        ("last end", &session.last_end, session.last_end_at),
    ] {
        if !words.is_empty() {
            let when = at.map(ago).unwrap_or_default();
            output::line(format_args!("  {WARN}{name}{WARN:#} {FAINT}{when}{FAINT:#}"))?;
            output::line(indented(&printable(words), 4))?;
        }
    }
    for filter in &details.filters {
        output::line(format_args!("  subscribes to {} at QoS {}", printable(&filter.filter), filter.qos))?;
        if let Some(condition) = &filter.condition {
            output::line(indented(&format!("where {}", printable(condition)), 4))?;
        }
    }
    for one in &details.conditions {
        let words = format!("by {}: of {} only where {}", one.name, one.topics.join(", "), one.condition);
        output::line(indented(&printable(&words), 2))?;
    }
    Ok(())
}

/// Ends sessions, or lists which those would be.
async fn end(
    local: &Local,
    chosen: &Chosen,
    client: Option<String>,
    (keep, reason): (bool, Reason),
    yes: bool,
) -> Done {
    let client_ids: Vec<String> = match client {
        Some(client) => vec![client],
        None if chosen.is_everything() => {
            let words = "Say which sessions are meant: a text, --client, --identity, --address or another filter.";
            return Err(Failure(words.into()));
        }
        None => {
            let limit = PREVIEW.to_string();
            let mut query = chosen.query();
            query.push(("limit", &limit));
            let list: SessionList = local.get(&["sessions"], &query).await?;
            if !yes {
                return output::finish(preview(&list, keep));
            }
            if list.total > PREVIEW {
                let words =
                    format!("{} sessions match; at most {} are ended at a time.", count(list.total), count(PREVIEW));
                return Err(Failure(words));
            }
            list.sessions.into_iter().map(|session| session.client_id).collect()
        }
    };
    if !yes {
        let words = format!("would end {}; --yes ends it", client_ids.join(", "));
        return output::finish(output::line(printable(&words)));
    }
    let (mut ended, mut missing) = (0, Vec::new());
    for some in client_ids.chunks(TOGETHER) {
        let order = json!({ "client_ids": some, "reason": name(&reason), "keep": keep });
        let order: SessionsEnd = serde_json::from_value(order)?;
        let done: SessionsEnded = local.post(&["sessions", "end"], &order).await?;
        ended += done.ended;
        missing.extend(done.missing);
    }
    if ended == 0
        && let Some(first) = missing.first()
    {
        return Err(Failure(format!("There is no session of {}. `moorfall sessions` lists all.", printable(first))));
    }
    let what = if keep { "disconnected" } else { "ended" };
    output::finish(output::line(format_args!("{} {what}", plural(ended, "session", "sessions"))))
}

fn preview(list: &SessionList, keep: bool) -> io::Result<()> {
    if list.sessions.is_empty() {
        return output::line("No sessions match.");
    }
    let row = |session: &SessionView| {
        let place = if session.connected { session.address.clone() } else { "away".into() };
        vec![session.client_id.clone(), session.identity.clone(), place, count(session.queue)]
    };
    let rows = list.sessions.iter().map(row).collect();
    output::line(table(&["CLIENT", "IDENTITY", "ADDRESS", ">QUEUED"], rows))?;
    let (ends, what) = (plural(list.total, "session", "sessions"), if keep { "disconnect" } else { "end" });
    output::line(format_args!("would {what} {ends}; --yes does it"))
}

fn print_bans(bans: &[BanView]) -> io::Result<()> {
    if bans.is_empty() {
        return output::line("Nobody is banned.");
    }
    let row = |ban: &BanView| {
        let left = u64::try_from((ban.until - OffsetDateTime::now_utc()).whole_seconds()).unwrap_or(0);
        let (kind, who) = if ban.identity.is_empty() { ("address", &ban.address) } else { ("identity", &ban.identity) };
        vec![ban.id.clone(), kind.into(), who.clone(), span(left), ban.by.clone(), ban.note.clone()]
    };
    output::line(table(&["BAN", "OF", "WHO", ">FOR ANOTHER", "BY", "NOTE"], bans.iter().map(row).collect()))
}

async fn unban(local: &Local, wanted: &str) -> Done {
    let bans: Vec<BanView> = local.get(&["bans"], &[]).await?;
    let found = bans.iter().find(|ban| [&ban.id, &ban.identity, &ban.address].into_iter().any(|name| name == wanted));
    let Some(ban) = found.filter(|_| !wanted.is_empty()) else {
        let words = format!("{} is not banned. `moorfall sessions bans` lists who is.", printable(wanted));
        return Err(Failure(words));
    };
    local.change(Method::DELETE, &["bans", &ban.id], None::<&()>).await?;
    output::finish(output::line(format_args!("{} is let in again", printable(wanted))))
}
