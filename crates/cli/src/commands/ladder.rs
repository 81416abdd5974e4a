//! `moorfall ladder`

use std::{path::PathBuf, time::Duration};

use clap::Args;
use moorfall_contract::{
    kinds::Direction,
    ladders::{LadderDetails, LadderOrder, LadderPacket, LadderView},
};
use time::{OffsetDateTime, macros::format_description};
use tokio::time::{Instant, sleep_until};

use crate::{
    arguments::{duration, whole_seconds},
    local::{Local, Which},
    output::{self, Done, FAINT, Failure, STRONG, WARN, count, plural, printable, span},
    stop::Stop,
};

/// Between two looks for more packets.
const LOOKS: Duration = Duration::from_millis(300);

/// Packets that are asked for at a time.
const TOGETHER: usize = 1_000;

/// A gap from which on it is told, milliseconds.
const GAP: f64 = 1_000.0;

/// What the command takes.
#[derive(Debug, Args)]
pub struct Arguments {
    #[command(flatten)]
    whom: Whom,
    /// Duration, for example 30s or 5m; at most 1h
    #[arg(long = "for", value_name = "TIME", default_value = "30s", value_parser = duration)]
    time: Duration,
    /// Keep payloads, too; only an owner can. Passwords are never kept
    #[arg(long)]
    payloads: bool,
    /// Print the fields of each packet
    #[arg(long, conflicts_with = "json")]
    fields: bool,
    /// Print one JSON object per packet
    #[arg(long)]
    json: bool,
    /// Write the packets to a file that general network tools open (pcapng)
    #[arg(long, value_name = "FILE")]
    pcapng: Option<PathBuf>,
    #[command(flatten)]
    which: Which,
}

/// Whose packets.
#[derive(Debug, Args)]
#[group(required = true, multiple = false)]
struct Whom {
    /// Those of this identity
    #[arg(long, value_name = "NAME")]
    identity: Option<String>,
    /// Those of the session of this client identifier
    #[arg(long, value_name = "CLIENT")]
    client: Option<String>,
    /// Those of all connections from this address
    #[arg(long, value_name = "ADDRESS")]
    address: Option<String>,
}

/// Carries out the command.
pub async fn run(arguments: Arguments) -> Done {
    let local = arguments.which.find()?;
    let mut stop = Stop::listen()?;
    let seconds = whole_seconds(arguments.time);
    let Whom { identity, client, address } = arguments.whom;
    let order = LadderOrder { session: client, identity, address, seconds, payloads: arguments.payloads };
    let begun: LadderView = local.post(&["ladders"], &order).await?;
    let number = begun.number.to_string();
    if !arguments.json {
        let lasts = span(seconds.into());
        output::remark(format_args!("ladder {number} runs for {lasts}; press Ctrl-C to end it"));
    }
    let mut printer = Printer { fields: arguments.fields, json: arguments.json, ..Printer::default() };
    let (mut after, mut next, mut is_asked) = (0_u64, Instant::now(), false);
    let left_out = loop {
        next += LOOKS;
        tokio::select! {
            () = sleep_until(next), if !is_asked => {}
            () = stop.wait() => is_asked = true,
        }
        if is_asked {
            end(&local, &number).await?;
        }
        let details = packets(&local, &number, after).await?;
        for packet in &details.packets {
            after = packet.number;
            if printer.print(packet).is_err() {
                // Whoever read has gone: nobody looks any more.
                end(&local, &number).await?;
                return Ok(());
            }
        }
        if details.packets.len() < TOGETHER && (is_asked || !details.ladder.running) {
            break details.ladder.left_out;
        }
    };
    if !arguments.json {
        let words = plural(after, "packet", "packets");
        let missing = if left_out > 0 { format!(", {} too many to keep", count(left_out)) } else { String::new() };
        output::remark(format_args!("{words}{missing}"));
    }
    match arguments.pcapng {
        None => Ok(()),
        Some(path) => {
            let file = local.bytes(&["ladders", &number, "pcapng"]).await?;
            std::fs::write(&path, file)
                .map_err(|error| Failure(format!("{} can't be written: {error}.", path.display())))?;
            output::remark(format_args!("written to {}", path.display()));
            Ok(())
        }
    }
}

async fn end(local: &Local, number: &str) -> Result<(), Failure> {
    local.change(reqwest::Method::POST, &["ladders", number, "stop"], None::<&()>).await.map(drop)
}

async fn packets(local: &Local, number: &str, after: u64) -> Result<LadderDetails, Failure> {
    let (after, limit) = (after.to_string(), TOGETHER.to_string());
    local.get(&["ladders", number], &[("after", &after), ("limit", &limit)]).await
}

/// Prints packets one below the other.
#[derive(Default)]
struct Printer {
    fields: bool,
    json: bool,
    last: Option<OffsetDateTime>,
    /// The connection that was printed last: its client is told when it is another.
    connection: Option<u64>,
}

impl Printer {
    fn print(&mut self, packet: &LadderPacket) -> std::io::Result<()> {
        if self.json {
            return output::line(serde_json::to_string(packet)?);
        }
        if self.connection != Some(packet.connection) {
            self.connection = Some(packet.connection);
            let LadderPacket { client_id, identity, client_address, .. } = packet;
            let who = if client_id.is_empty() { "not accepted".into() } else { format!("{client_id} ({identity})") };
            output::line(format_args!("{STRONG}{}{STRONG:#} {FAINT}{client_address}{FAINT:#}", printable(&who)))?;
        }
        let gap = self.last.map(|last| (packet.at - last).as_seconds_f64() * 1e3);
        if let Some(gap) = gap.filter(|gap| *gap >= GAP) {
            output::line(format_args!("{FAINT}        ⋮ {:.1} s{FAINT:#}", gap / 1e3))?;
        }
        self.last = Some(packet.at);
        output::line(line(packet, gap))?;
        if self.fields {
            for field in &packet.fields {
                let (name, value) = (printable(&field.name), printable(&field.value));
                output::line(format_args!("             {FAINT}{name}{FAINT:#}  {value}"))?;
            }
        }
        Ok(())
    }
}

/// Time, gap, arrow, packet, identifier and step, and what it says: as much as fits on a line.
fn line(packet: &LadderPacket, gap: Option<f64>) -> String {
    let clock = format_description!("[hour]:[minute]:[second].[subsecond digits:3]");
    let at = packet.at.format(clock).unwrap_or_default();
    let gap = match gap {
        Some(gap) if gap < GAP => format!("+{gap:.1}"),
        _ => String::new(),
    };
    let arrow = match packet.direction {
        Direction::ToBroker => "──▶",
        Direction::ToClient => "◀──",
    };
    let id = packet.packet_id.map(|id| format!(" {id}")).unwrap_or_default();
    let step = match (packet.step, packet.steps) {
        (Some(step), Some(of)) => format!(" {step}/{of}"),
        _ => String::new(),
    };
    let head = format!("{}{id}{step}", packet.packet);
    let room = 80_usize.saturating_sub(at.len() + 7 + 3 + 3 + head.chars().count().max(18));
    let summary = printable(&packet.summary);
    let length = summary.chars().count();
    let cut = if length <= room {
        summary
    } else if packet.packet == "PUBLISH" {
        // The end of a topic says more than its beginning.
        format!("…{}", summary.chars().skip(length + 1 - room).collect::<String>())
    } else {
        format!("{}…", summary.chars().take(room - 1).collect::<String>())
    };
    let mark = if packet.failure { WARN } else { anstyle::Style::new() };
    format!("{FAINT}{at} {gap:>6}{FAINT:#} {arrow} {head:18} {mark}{cut}{mark:#}").trim_end().to_owned()
}

#[cfg(test)]
mod tests {
    use time::macros::datetime;

    use super::*;

    #[test]
    fn a_packet_stands_on_a_line_of_80_columns() {
        let packet = LadderPacket {
            number: 1,
            at: datetime!(2026-11-28 09:15:00.007 UTC),
            direction: Direction::ToBroker,
            connection: 1,
            client_address: "127.0.0.1:50000".into(),
            client_id: "weir".into(),
            identity: "weir".into(),
            packet: "PUBLISH".into(),
            packet_id: Some(7),
            step: Some(1),
            steps: Some(4),
            summary: "harrowmere/gorge/kettle-weir/gate/target (QoS 2)".into(),
            failure: false,
            fields: Vec::new(),
            size: 60,
            bytes: String::new(),
        };
        let shown = anstream::adapter::strip_str(&line(&packet, Some(0.42))).to_string();
        assert_eq!(shown, "09:15:00.007   +0.4 ──▶ PUBLISH 7 1/4      …orge/kettle-weir/gate/target (QoS 2)");
        assert!(shown.chars().count() <= 80);
    }
}
