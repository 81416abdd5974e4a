//! `moorfall watch`: the service on the whole terminal.

mod known;
mod picture;

use std::{
    collections::VecDeque,
    io::{self, IsTerminal},
    time::Duration,
};

use clap::Args;
use moorfall_contract::{
    history::History,
    kinds::{BusyIn, BusyOf},
    status::Status,
};
use ratatui::{
    DefaultTerminal,
    crossterm::event::{self, Event, KeyCode, KeyEventKind, KeyModifiers},
};
use time::{OffsetDateTime, format_description::well_known::Rfc3339};
use tokio::{
    sync::mpsc,
    time::{MissedTickBehavior, interval, timeout},
};

use crate::{
    local::{Local, Which},
    output::{Done, Failure},
    stop::Stop,
    watch::{
        known::{Known, View},
        picture::draw,
    },
};

/// Between two looks.
const EVERY: Duration = Duration::from_secs(1);

/// How long a look may take.
const LOOK: Duration = Duration::from_secs(5);

/// Rates that are drawn, one a second.
const DRAWN: usize = 600;

/// Events that are held.
const EVENTS: &str = "60";

/// Between two times that the thread which reads keys looks whether it is still wanted.
const KEYS: Duration = Duration::from_millis(200);

/// What the command takes.
#[derive(Debug, Args)]
pub struct Arguments {
    #[command(flatten)]
    which: Which,
}

/// What was pressed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Pressed {
    Quit,
    Pause,
    /// Another kind of the busiest.
    Next,
    /// By the number of messages, or by their bytes.
    Unit,
    /// The terminal has another size, or should be drawn again.
    Redraw,
}

/// Carries out the command.
pub async fn run(arguments: &Arguments) -> Done {
    let local = arguments.which.find()?;
    if !io::stdout().is_terminal() || !io::stdin().is_terminal() {
        let words = "`moorfall watch` needs a terminal. `moorfall status` and `moorfall measures` print into pipes.";
        return Err(Failure(words.into()));
    }
    let mut known = Known::default();
    // What is wrong from the beginning is said without taking the terminal.
    look(&local, &mut known, BusyOf::Topics, BusyIn::Messages).await?;
    known.rates = before(&local).await;
    let mut terminal = ratatui::try_init()?;
    let watched = watch(&local, &mut terminal, known).await;
    ratatui::restore();
    watched
}

async fn watch(local: &Local, terminal: &mut DefaultTerminal, mut known: Known) -> Done {
    let mut stop = Stop::listen()?;
    let mut keys = keys();
    let mut view = View {
        of: BusyOf::Topics,
        by: BusyIn::Messages,
        paused: false,
        colours: std::env::var_os("NO_COLOR").is_none_or(|value| value.is_empty()),
    };
    let mut ticks = interval(EVERY);
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    loop {
        terminal.draw(|frame| draw(frame, &known, view))?;
        tokio::select! {
            _ = ticks.tick() => {
                if !view.paused {
                    refresh(local, &mut known, view).await;
                }
            }
            () = stop.wait() => return Ok(()),
            pressed = keys.recv() => match pressed {
                None | Some(Pressed::Quit) => return Ok(()),
                Some(Pressed::Pause) => view.paused = !view.paused,
                Some(Pressed::Next) => {
                    view.of = next(view.of);
                    refresh(local, &mut known, view).await;
                }
                Some(Pressed::Unit) => {
                    view.by = if view.by == BusyIn::Messages { BusyIn::Bytes } else { BusyIn::Messages };
                    refresh(local, &mut known, view).await;
                }
                Some(Pressed::Redraw) => {}
            },
        }
    }
}

fn next(of: BusyOf) -> BusyOf {
    match of {
        BusyOf::Topics => BusyOf::Branches,
        BusyOf::Branches => BusyOf::Sessions,
        BusyOf::Sessions => BusyOf::Identities,
        BusyOf::Identities => BusyOf::Topics,
    }
}

/// Looks again; a service that is away is said, and what was known of it stays.
async fn refresh(local: &Local, known: &mut Known, view: View) {
    let looked = timeout(LOOK, look(local, known, view.of, view.by)).await;
    known.trouble = match looked {
        Ok(Ok(())) => String::new(),
        Ok(Err(failure)) => failure.0,
        Err(_) => "The service does not answer.".into(),
    };
}

/// Rates of the last minutes, one a second as far as it is known: there is a picture at once.
async fn before(local: &Local) -> VecDeque<(f64, f64)> {
    let from = OffsetDateTime::now_utc() - Duration::from_secs(DRAWN as u64);
    let from = from.format(&Rfc3339).unwrap_or_default();
    let asked = [("series", "messages_in,messages_out"), ("from", &from)];
    // Without the database it is not known.
    let Ok(History { series, step_seconds, .. }) = local.get(&["history"], &asked).await else {
        return VecDeque::new();
    };
    let [ins, outs] = &series[..] else { return VecDeque::new() };
    let means = ins.points.iter().zip(&outs.points).map(|(ins, outs)| (ins.mean, outs.mean));
    means.flat_map(|rates| std::iter::repeat_n(rates, step_seconds as usize)).collect()
}

async fn look(local: &Local, known: &mut Known, of: BusyOf, by: BusyIn) -> Result<(), Failure> {
    let name = |kind: serde_json::Value| kind.as_str().unwrap_or_default().to_owned();
    let (of, by) = (name(serde_json::to_value(of)?), name(serde_json::to_value(by)?));
    let status: Status = local.get(&["status"], &[]).await?;
    known.rates.push_back((status.rates.messages_in, status.rates.messages_out));
    while known.rates.len() > DRAWN {
        known.rates.pop_front();
    }
    known.status = Some(status);
    known.readings = Some(local.get(&["readings"], &[]).await?);
    known.busiest = Some(local.get(&["busiest", &of], &[("by", &by), ("limit", "50")]).await?);
    // Without the database there are no new ones.
    if let Ok(events) = local.get(&["events"], &[("limit", EVENTS)]).await {
        known.events = events;
    }
    Ok(())
}

/// What is pressed, read by a thread of its own: the library waits for keys without letting others run.
fn keys() -> mpsc::Receiver<Pressed> {
    let (sender, receiver) = mpsc::channel(16);
    std::thread::spawn(move || {
        while !sender.is_closed() {
            let read = match event::poll(KEYS) {
                Ok(true) => event::read(),
                Ok(false) => continue,
                Err(_) => return,
            };
            let pressed = match read {
                Ok(Event::Key(key)) if key.kind == KeyEventKind::Press => pressed(key.code, key.modifiers),
                Ok(Event::Resize(..)) => Some(Pressed::Redraw),
                Ok(_) => None,
                Err(_) => return,
            };
            if let Some(pressed) = pressed
                && sender.blocking_send(pressed).is_err()
            {
                return;
            }
        }
    });
    receiver
}

fn pressed(code: KeyCode, modifiers: KeyModifiers) -> Option<Pressed> {
    match code {
        KeyCode::Char('c') if modifiers.contains(KeyModifiers::CONTROL) => Some(Pressed::Quit),
        KeyCode::Char('q') | KeyCode::Esc => Some(Pressed::Quit),
        KeyCode::Char('p') => Some(Pressed::Pause),
        KeyCode::Tab | KeyCode::Char('n') => Some(Pressed::Next),
        KeyCode::Char('b') => Some(Pressed::Unit),
        _ => None,
    }
}
