//! `moorfall desk`: a prompt at which one person holds several clients at once.
//!
//! A thread of its own reads lines, for reading blocks; everything else runs here, one line after the other. What
//! arrives for subscriptions in the background goes to the screen by way of the same thread's library, which keeps it
//! above the line that is being typed.

mod clients;
mod lines;
mod screen;

use std::{
    io::{BufRead, IsTerminal},
    path::PathBuf,
    time::Duration,
};

use clap::{Args, Parser};
use tokio::sync::mpsc;

use self::{
    clients::Clients,
    lines::{Line, Order},
    screen::{Screen, Typed},
};
use crate::{
    output::{self, Done, Failure},
    stop::Stop,
};

/// What the command takes.
#[derive(Debug, Args)]
pub struct Arguments {
    /// Run the lines of a file in place of asking; `-` is the standard input
    ///
    /// Each line is what can be typed at the prompt; those that begin with # are left out. The first that fails ends it.
    script: Option<PathBuf>,
    /// Go on after lines that fail; the exit code still tells
    #[arg(long, requires = "script")]
    keep_going: bool,
}

/// Carries out the command.
pub async fn run(arguments: Arguments) -> Done {
    match &arguments.script {
        Some(file) => script(file, arguments.keep_going).await,
        None if !std::io::stdin().is_terminal() => script(&PathBuf::from("-"), false).await,
        None => converse().await,
    }
}

/// Whether there is more to do.
enum After {
    More,
    Leave,
}

/// Runs the lines of a file.
async fn script(file: &PathBuf, keep_going: bool) -> Done {
    let wrong = |error: std::io::Error| {
        Failure(format!("{} can't be read: {error}. Check the path and its permissions.", file.display()))
    };
    let reader: Box<dyn BufRead + Send> = if file.as_os_str() == "-" {
        Box::new(std::io::BufReader::new(std::io::stdin()))
    } else {
        Box::new(std::io::BufReader::new(std::fs::File::open(file).map_err(wrong)?))
    };
    // Lines may come slowly, from another program; meanwhile clients go on.
    let (sender, mut lines) = mpsc::channel(1);
    std::thread::spawn(move || {
        for line in reader.lines() {
            if sender.blocking_send(line).is_err() {
                return;
            }
        }
    });
    let screen = Screen::plain();
    let mut clients = Clients::new(screen.clone());
    let mut stop = Stop::listen()?;
    let mut failures = 0_u64;
    for number in 1_u64.. {
        let line = tokio::select! {
            line = lines.recv() => line,
            () = stop.wait() => None,
        };
        let Some(line) = line else { break };
        let line = line.map_err(wrong)?;
        match obey(&line, &mut clients, &screen, &mut stop).await {
            Ok(After::More) => {}
            Ok(After::Leave) => break,
            Err(Failure(words)) => {
                failures += 1;
                let name = if file.as_os_str() == "-" { "standard input".into() } else { file.display().to_string() };
                let place = format!("{name}, line {number}");
                if !keep_going {
                    clients.close_all().await;
                    return Err(Failure(format!("{place}: {words}")));
                }
                output::complain(&Failure(format!("{place}: {words}")));
            }
        }
    }
    clients.close_all().await;
    match failures {
        0 => Ok(()),
        failures => Err(Failure(format!("{} failed.", output::plural(failures, "line", "lines")))),
    }
}

/// Asks for lines until there are no more.
async fn converse() -> Done {
    let (screen, mut typed) = Screen::terminal()?;
    let mut clients = Clients::new(screen.clone());
    let mut stop = Stop::listen()?;
    screen.say("`help` lists the commands, `help publish` explains one of them, `leave` closes the desk.");
    loop {
        match typed.next(&clients.prompt()).await {
            Some(Typed::Line(line)) => match obey(&line, &mut clients, &screen, &mut stop).await {
                Ok(After::More) => {}
                Ok(After::Leave) => break,
                Err(failure) => screen.complain(&failure),
            },
            Some(Typed::Interrupted) => screen.say("`leave` closes the desk and its clients"),
            None => break,
        }
    }
    clients.close_all().await;
    Ok(())
}

/// Does what one line says.
async fn obey(text: &str, clients: &mut Clients, screen: &Screen, stop: &mut Stop) -> Result<After, Failure> {
    let text = text.trim();
    if text.is_empty() || text.starts_with('#') {
        return Ok(After::More);
    }
    let words = shlex::split(text).ok_or_else(|| Failure("A quotation mark is not closed.".into()))?;
    let line = match Line::try_parse_from(words) {
        Ok(line) => line,
        // Help is no failure.
        Err(told) if !told.use_stderr() => {
            screen.say(told.render().to_string().trim_end());
            return Ok(After::More);
        }
        Err(told) => {
            let words = told.render().to_string();
            let words = words.trim_end().trim_start_matches("error: ").to_owned();
            return Err(Failure(words));
        }
    };
    match line.order {
        Order::Leave => return Ok(After::Leave),
        Order::Open { name, connection } => clients.open(&name, &connection).await?,
        Order::Use { name } => clients.choose(&name)?,
        Order::Close { name } => clients.close(name.as_deref()).await?,
        Order::Clients { json } => clients.list(json)?,
        Order::Publish { topic, payload, envelope } => clients.publish(&topic, &payload, &envelope).await?,
        Order::Subscribe { filters, qos, background, take, time, view } => {
            let wanted = lines::Wanted { filters, qos, take, time, view: view.view() };
            if background { clients.follow(wanted).await? } else { clients.read(wanted, stop).await? }
        }
        Order::Unsubscribe { filters } => clients.unsubscribe(&filters).await?,
        Order::Wait { time } => wait(time, stop).await,
    }
    Ok(After::More)
}

async fn wait(time: Duration, stop: &mut Stop) {
    tokio::select! {
        () = tokio::time::sleep(time) => {}
        () = stop.wait() => {}
    }
}
