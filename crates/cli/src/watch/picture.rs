//! What is drawn: numbers, rates, alerts, the busiest, events; as much as the terminal has room for.

use moorfall_contract::{
    events::EventView,
    kinds::{AlertSeverity, BusyIn, EventKind},
    readings::WindowAverage,
    status::{RaisedAlert, Status},
};
use moorfall_core::shown::{count, span};
use ratatui::{
    Frame,
    layout::{Constraint, Layout, Rect},
    style::{Color, Modifier, Style},
    text::{Line, Span},
    widgets::{Block, Borders, Paragraph, Sparkline},
};
use time::{OffsetDateTime, macros::format_description};

use super::known::{Known, View};
use crate::output::{bytes, printable};

/// Columns from which on the busiest and the events stand side by side.
const WIDE: u16 = 120;

/// Alerts that are named.
const ALERTS: usize = 4;

/// Colours, where there may be some.
struct Look {
    colours: bool,
}

impl Look {
    fn colour(&self, colour: Color) -> Style {
        if self.colours { Style::new().fg(colour) } else { Style::new() }
    }

    fn strong(&self) -> Style {
        Style::new().add_modifier(Modifier::BOLD)
    }

    fn faint(&self) -> Style {
        Style::new().add_modifier(Modifier::DIM)
    }

    fn wrong(&self) -> Style {
        self.colour(Color::Red).add_modifier(Modifier::BOLD)
    }
}

/// Draws all of it.
pub(super) fn draw(frame: &mut Frame<'_>, known: &Known, view: View) {
    let look = Look { colours: view.colours };
    let area = frame.area();
    let alerts = known.status.as_ref().map_or(&[][..], |status| &status.worst_alerts[..]);
    let told = alerts.len().min(ALERTS) as u16;
    let rows = Layout::vertical([
        Constraint::Length(1),
        Constraint::Length(if area.height >= 30 { 6 } else { 4 }),
        Constraint::Length(1),
        Constraint::Length(told),
        Constraint::Min(3),
        Constraint::Length(1),
    ]);
    let [head, rates, numbers, raised, rest, foot] = rows.areas(area);
    frame.render_widget(Paragraph::new(title(known, view, &look)), head);
    draw_rates(frame, rates, known, &look);
    if let Some(status) = &known.status {
        frame.render_widget(Paragraph::new(facts(status, &look)), numbers);
    }
    let lines: Vec<Line<'_>> = alerts.iter().take(ALERTS).map(|alert| alert_line(alert, &look)).collect();
    frame.render_widget(Paragraph::new(lines), raised);
    let [busiest, events] = if area.width >= WIDE {
        Layout::horizontal([Constraint::Percentage(45), Constraint::Percentage(55)]).areas(rest)
    } else {
        Layout::vertical([Constraint::Percentage(50), Constraint::Percentage(50)]).areas(rest)
    };
    draw_busiest(frame, busiest, known, view, &look);
    draw_events(frame, events, known, &look);
    let keys = " q quit   p pause   Tab topics, branches, sessions, identities   b messages or bytes";
    frame.render_widget(Paragraph::new(Line::styled(keys, look.faint())), foot);
}

fn title(known: &Known, view: View, look: &Look) -> Line<'static> {
    let mut parts = vec![Span::styled(" Moorfall ", look.strong())];
    if let Some(status) = &known.status {
        let database = if status.database.healthy { "" } else { "  database away" };
        let blueprint = if status.blueprint.is_empty() {
            "no blueprint".to_owned()
        } else {
            format!("{}, revision {}", printable(&status.blueprint), status.revision)
        };
        parts.push(Span::raw(format!(" {blueprint}   up {}", span(status.uptime_seconds))));
        parts.push(Span::styled(database, look.wrong()));
    }
    if view.paused {
        parts.push(Span::styled("   paused", look.strong()));
    }
    if !known.trouble.is_empty() {
        parts.push(Span::styled(format!("   {}", printable(&known.trouble)), look.wrong()));
    }
    Line::from(parts)
}

/// Two small charts: messages in and out.
fn draw_rates(frame: &mut Frame<'_>, area: Rect, known: &Known, look: &Look) {
    let halves: [Rect; 2] = Layout::horizontal([Constraint::Ratio(1, 2); 2]).areas(area);
    let averages = known.readings.as_ref().map_or(&[][..], |readings| &readings.averages[..]);
    type Of = fn(&(f64, f64)) -> f64;
    type OfWindow = fn(&WindowAverage) -> f64;
    let sides: [(&str, Of, OfWindow, Color); 2] = [
        ("in", |rates| rates.0, |window| window.rates.messages_in, Color::Green),
        ("out", |rates| rates.1, |window| window.rates.messages_out, Color::Yellow),
    ];
    for (half, (name, of, of_window, colour)) in halves.into_iter().zip(sides) {
        let now = known.rates.back().map_or(0.0, of);
        let windows: Vec<String> = averages.iter().map(|window| format!("{:.1}", of_window(window))).collect();
        let title = Line::from(vec![
            Span::styled(format!(" {name} {now:.1}/s "), look.strong()),
            Span::styled(format!("1, 5, 15 min: {} ", windows.join(", ")), look.faint()),
        ]);
        let block = Block::new().borders(Borders::TOP).title(title);
        let room = usize::from(half.width);
        // Tenths, so that small rates are seen.
        let skipped = known.rates.len().saturating_sub(room);
        let tenths = known.rates.iter().skip(skipped).map(|rates| (of(rates) * 10.0) as u64);
        let chart = Sparkline::default().block(block).data(tenths).style(look.colour(colour));
        frame.render_widget(chart, half);
    }
}

fn facts(status: &Status, look: &Look) -> Line<'static> {
    let mut parts = vec![Span::raw(format!(
        " {} connected, {} away   {} subscriptions   {} retained",
        count(status.sessions),
        count(status.sessions_away),
        count(status.subscriptions),
        count(status.retained)
    ))];
    for (number, word) in [(status.totals.refused, "refused"), (status.totals.withheld, "withheld")] {
        let style = if number > 0 { look.strong() } else { look.faint() };
        parts.push(Span::styled(format!("   {} {word}", count(number)), style));
    }
    Line::from(parts)
}

fn alert_line(alert: &RaisedAlert, look: &Look) -> Line<'static> {
    let style = if alert.severity == AlertSeverity::Info { look.strong() } else { look.wrong() };
    let more = if alert.subjects > 1 { format!(" and {} more", count(alert.subjects - 1)) } else { String::new() };
    let quiet = if alert.quiet { ", quiet" } else { "" };
    let out = alert.out_since.map_or_else(String::new, |at| {
        let seconds = (OffsetDateTime::now_utc() - at).whole_seconds();
        format!("  {} for {}{quiet}", alert.severity, span(u64::try_from(seconds).unwrap_or(0)))
    });
    Line::from(vec![
        Span::styled(format!(" ! {}", printable(&alert.name)), style),
        Span::styled(out, look.faint()),
        Span::raw(format!("  {}: {}{more}", printable(&alert.subject), alert.value)),
    ])
}

fn draw_busiest(frame: &mut Frame<'_>, area: Rect, known: &Known, view: View, look: &Look) {
    let title = format!(" Busiest {} by {} ", view.of, view.by);
    let block = Block::new().borders(Borders::TOP).title(Span::styled(title, look.strong()));
    let room = block.inner(area);
    let mut lines = Vec::new();
    let busiest = known.busiest.as_ref().filter(|found| found.of == view.of && found.by == view.by);
    for busy in busiest.iter().flat_map(|found| &found.busiest).take(room.height.into()) {
        let rate = match view.by {
            BusyIn::Messages => format!("{:.1}/s", busy.rate),
            BusyIn::Bytes => format!("{}/s", bytes(busy.rate)),
        };
        let too_many = if busy.too_many > 0 { " at most" } else { "" };
        let right = format!("{too_many} {rate:>12} ");
        let wide = usize::from(room.width).saturating_sub(right.chars().count() + 1);
        lines.push(Line::from(format!(" {:wide$}{right}", fitted(&busy.name, wide))));
    }
    if lines.is_empty() {
        lines.push(Line::styled(" nothing in the last two minutes", look.faint()));
    }
    frame.render_widget(Paragraph::new(lines).block(block), area);
}

/// A text that is no wider than this; of one that is, the beginning is left out, for the end tells topics apart.
fn fitted(text: &str, wide: usize) -> String {
    let text = printable(text);
    let length = text.chars().count();
    if length <= wide {
        return text;
    }
    let rest: String = text.chars().skip(length + 1 - wide).collect();
    format!("…{rest}")
}

fn draw_events(frame: &mut Frame<'_>, area: Rect, known: &Known, look: &Look) {
    let block = Block::new().borders(Borders::TOP).title(Span::styled(" Events ", look.strong()));
    let room = block.inner(area);
    let lines: Vec<Line<'_>> =
        known.events.iter().take(room.height.into()).map(|event| event_line(event, look)).collect();
    frame.render_widget(Paragraph::new(lines).block(block), area);
}

fn event_line(event: &EventView, look: &Look) -> Line<'static> {
    let at = event.at.format(format_description!("[hour]:[minute]:[second]")).unwrap_or_default();
    let is_wrong = matches!(
        event.kind,
        EventKind::Refused
            | EventKind::HandshakeFailed
            | EventKind::SignInsFail
            | EventKind::ListenerRefuses
            | EventKind::DatabaseAway
            | EventKind::AlertRaised
            | EventKind::NoticeFails
            | EventKind::BridgeDown
            | EventKind::BridgeRefused
            | EventKind::BridgeDrops
    );
    let times = if event.count > 1 { format!(" × {}", count(event.count)) } else { String::new() };
    let who = if event.identity.is_empty() { &event.address } else { &event.identity };
    let style = if is_wrong { look.wrong() } else { Style::new() };
    Line::from(vec![
        Span::styled(format!(" {at} "), look.faint()),
        Span::styled(format!("{}{times} ", event.kind), style),
        Span::styled(format!("{} ", printable(who)), look.strong()),
        Span::raw(printable(&event.explanation)),
    ])
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test may panic")]

    use moorfall_contract::{
        kinds::BusyOf,
        readings::{Busiest, Busy},
    };
    use ratatui::{Terminal, backend::TestBackend, buffer::Buffer};
    use serde_json::json;

    use super::*;

    const VIEW: View = View { of: BusyOf::Topics, by: BusyIn::Messages, paused: false, colours: true };

    fn known() -> Known {
        let topic = "harrowmere/gorge/kettle-weir/stage/level";
        let busy = |name: &str, rate| Busy { name: name.into(), count: 100, too_many: 0, rate };
        let event = json!({
            "id": 1, "at": "2026-11-28T09:15:00Z", "kind": "disconnected", "identity": "long-acre",
            "client_id": "long-acre", "address": "127.0.0.1", "subject": "", "explanation": "The link flaps.", "count": 1
        });
        Known {
            rates: [(1.0, 2.0), (2.0, 4.0), (1.5, 3.0)].into(),
            busiest: Some(Busiest {
                of: BusyOf::Topics,
                by: BusyIn::Messages,
                seconds: 60.0,
                busiest: vec![busy(topic, 1.5), busy("harrowmere/high-moor/cold-tor/rain/depth", 0.7)],
            }),
            events: vec![serde_json::from_value(event).unwrap()],
            ..Known::default()
        }
    }

    fn drawn(width: u16, height: u16, known: &Known, view: View) -> Buffer {
        let mut terminal = Terminal::new(TestBackend::new(width, height)).unwrap();
        terminal.draw(|frame| draw(frame, known, view)).unwrap();
        terminal.backend().buffer().clone()
    }

    fn lines(buffer: &Buffer) -> Vec<String> {
        let row = |y| (0..buffer.area.width).map(|x| buffer[(x, y)].symbol()).collect::<String>();
        (0..buffer.area.height).map(row).collect()
    }

    #[test]
    fn all_of_it_is_there_at_80_columns_and_24_lines() {
        let lines = lines(&drawn(80, 24, &known(), VIEW));
        let text = lines.join("\n");
        for part in [
            "Moorfall",
            "in 1.5/s",
            "out 3.0/s",
            "Busiest topics by messages",
            "harrowmere/gorge/kettle-weir/stage/level",
            "1.5/s",
            "Events",
            "09:15:00 disconnected long-acre The link flaps.",
        ] {
            assert!(text.contains(part), "{part:?} is not in\n{text}");
        }
        assert!(lines[23].contains("q quit") && lines[23].contains("p pause"), "{}", lines[23]);
        assert!(text.contains('█') || text.contains('▇'), "the rates are drawn:\n{text}");
    }

    #[test]
    fn it_fits_any_size_and_has_no_colours_where_none_are_wanted() {
        for (width, height) in [(1, 1), (10, 3), (40, 10), (80, 24), (200, 60)] {
            drawn(width, height, &known(), VIEW);
        }
        let trouble = Known { trouble: "The service does not respond.".into(), ..known() };
        let plain = drawn(80, 24, &trouble, View { colours: false, paused: true, ..VIEW });
        assert!(plain.content.iter().all(|cell| cell.fg == Color::Reset && cell.bg == Color::Reset));
        assert!(lines(&plain)[0].contains("paused   The service does not respond."));
        assert!(drawn(80, 24, &known(), VIEW).content.iter().any(|cell| cell.fg == Color::Green));
    }

    #[test]
    fn long_names_keep_their_ends() {
        assert_eq!(fitted("harrowmere/gorge/level", 10), "…rge/level");
        assert_eq!(fitted("level", 10), "level");
    }
}
