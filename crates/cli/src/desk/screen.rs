//! The terminal of the desk: where lines are typed, and where messages appear meanwhile.

use std::{
    collections::BTreeSet,
    os::unix::fs::{DirBuilderExt, PermissionsExt},
    path::PathBuf,
    sync::{Arc, mpsc as std_mpsc},
};

use parking_lot::Mutex;
use rustyline::{
    CompletionType, Config, Context, Editor, ExternalPrinter, Helper, completion::Completer, error::ReadlineError,
    highlight::Highlighter, hint::Hinter, history::FileHistory, validate::Validator,
};
use tokio::sync::mpsc;

use super::lines::ORDERS;
use crate::output::{self, Failure};

/// Topics that are completed at most.
const TOPICS: usize = 10_000;

/// Lines of history that are kept.
const HISTORY: usize = 1_000;

/// What completion knows.
#[derive(Debug, Default)]
pub(super) struct Known {
    pub(super) clients: BTreeSet<String>,
    topics: BTreeSet<String>,
}

/// Where things are said. Clones say them in the same place.
#[derive(Clone)]
pub(super) struct Screen {
    /// Absent when nobody types: then things are printed as they are.
    above: Option<std_mpsc::Sender<String>>,
    pub(super) known: Arc<Mutex<Known>>,
}

/// What was typed.
pub(super) enum Typed {
    Line(String),
    /// Ctrl-C.
    Interrupted,
}

/// Lines as they are typed.
pub(super) struct Lines {
    ask: std_mpsc::Sender<String>,
    answers: mpsc::Receiver<Typed>,
}

impl Lines {
    /// The next line; `None` when there are no more.
    pub(super) async fn next(&mut self, prompt: &str) -> Option<Typed> {
        self.ask.send(prompt.to_owned()).ok()?;
        self.answers.recv().await
    }
}

impl Screen {
    /// Without anybody who types.
    pub(super) fn plain() -> Self {
        Self { above: None, known: Arc::default() }
    }

    /// With a prompt. A thread reads lines when it is asked to, another prints above them.
    pub(super) fn terminal() -> Result<(Self, Lines), Failure> {
        let known: Arc<Mutex<Known>> = Arc::default();
        let config = Config::builder().completion_type(CompletionType::List).auto_add_history(true);
        let config = config.max_history_size(HISTORY)?.build();
        let mut editor: Editor<Helping, FileHistory> = Editor::with_config(config)?;
        editor.set_helper(Some(Helping { known: Arc::clone(&known) }));
        let file = history_file();
        // There may be none yet.
        let _ = editor.load_history(&file);
        let mut printer = editor.create_external_printer()?;
        let (above, lines) = std_mpsc::channel::<String>();
        std::thread::spawn(move || {
            // An error means that the terminal is gone, and the desk with it.
            while let Ok(text) = lines.recv()
                && printer.print(text).is_ok()
            {}
        });
        let (ask, asked) = std_mpsc::channel::<String>();
        let (answer, answers) = mpsc::channel(1);
        std::thread::spawn(move || {
            while let Ok(prompt) = asked.recv() {
                let typed = match editor.readline(&prompt) {
                    Ok(line) => Typed::Line(line),
                    Err(ReadlineError::Interrupted) => Typed::Interrupted,
                    Err(_) => return,
                };
                // What was typed is kept at once: whoever closes the window has it the next time.
                keep(&mut editor, &file);
                if answer.blocking_send(typed).is_err() {
                    return;
                }
            }
        });
        Ok((Self { above: Some(above), known }, Lines { ask, answers }))
    }

    /// Says something to whoever is there: above the line that is being typed, or on standard error.
    pub(super) fn say(&self, text: &str) {
        match &self.above {
            Some(above) => drop(above.send(format!("{text}\n"))),
            None => output::remark(text),
        }
    }

    /// Shows a result: above the line that is being typed, or on standard output.
    pub(super) fn show(&self, text: &str) -> std::io::Result<()> {
        match &self.above {
            Some(above) => {
                drop(above.send(format!("{text}\n")));
                Ok(())
            }
            None => output::line(text),
        }
    }

    pub(super) fn complain(&self, failure: &Failure) {
        self.say(&format!("moorfall: {}", failure.0));
    }

    /// Remembers a topic for completion.
    pub(super) fn note_topic(&self, topic: &str) {
        let mut known = self.known.lock();
        if known.topics.len() < TOPICS && !known.topics.contains(topic) {
            known.topics.insert(topic.to_owned());
        }
    }
}

fn history_file() -> PathBuf {
    let state = std::env::var_os("XDG_STATE_HOME").map(PathBuf::from).filter(|path| path.is_absolute());
    let home = || std::env::var_os("HOME").map_or_else(|| PathBuf::from("/"), PathBuf::from);
    state.unwrap_or_else(|| home().join(".local/state")).join("moorfall/desk-history")
}

fn keep(editor: &mut Editor<Helping, FileHistory>, file: &PathBuf) {
    if let Some(folder) = file.parent() {
        let _ = std::fs::DirBuilder::new().recursive(true).mode(0o700).create(folder);
    }
    // Without a history the desk works all the same.
    if editor.save_history(file).is_ok() {
        let _ = std::fs::set_permissions(file, PermissionsExt::from_mode(0o600));
    }
}

/// What the line editor asks while somebody types.
struct Helping {
    known: Arc<Mutex<Known>>,
}

impl Helper for Helping {}
impl Highlighter for Helping {}
impl Validator for Helping {}

impl Hinter for Helping {
    type Hint = String;
}

impl Completer for Helping {
    type Candidate = String;

    fn complete(&self, line: &str, at: usize, _: &Context<'_>) -> rustyline::Result<(usize, Vec<String>)> {
        let before = &line[..at];
        let start = before.rfind([' ', '\'', '"']).map_or(0, |space| space + 1);
        Ok((start, candidates(&self.known.lock(), &before[..start], &before[start..])))
    }
}

/// What may stand at the end of a line that begins like this.
fn candidates(known: &Known, before: &str, begun: &str) -> Vec<String> {
    let fits = |text: &&str| text.starts_with(begun);
    match before.split_whitespace().next() {
        None => ORDERS.into_iter().filter(fits).map(|order| format!("{order} ")).collect(),
        Some("help") => ORDERS.into_iter().filter(fits).map(str::to_owned).collect(),
        Some("use" | "close") => known.clients.iter().map(String::as_str).filter(fits).map(str::to_owned).collect(),
        // Level by level, as a hierarchy is walked through.
        Some("publish" | "subscribe" | "unsubscribe") if !begun.starts_with('-') => {
            let ends =
                |topic: &str| topic[begun.len()..].find('/').map_or(topic.len(), |slash| begun.len() + slash + 1);
            let levels: BTreeSet<&str> =
                known.topics.iter().map(String::as_str).filter(fits).map(|topic| &topic[..ends(topic)]).collect();
            levels.into_iter().map(str::to_owned).collect()
        }
        Some(_) => Vec::new(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn orders_clients_and_topics_are_completed() {
        let set = |texts: &[&str]| texts.iter().map(|text| (*text).to_owned()).collect();
        let known = Known {
            clients: set(&["weir", "west"]),
            topics: set(&["harrowmere/gorge/kettle-weir/status", "harrowmere/gorge/nine-arches/status", "other"]),
        };
        assert_eq!(candidates(&known, "", "su"), ["subscribe "]);
        assert_eq!(candidates(&known, "use ", "we"), ["weir", "west"]);
        assert_eq!(candidates(&known, "publish ", "h"), ["harrowmere/"]);
        assert_eq!(
            candidates(&known, "subscribe '", "harrowmere/gorge/"),
            ["harrowmere/gorge/kettle-weir/", "harrowmere/gorge/nine-arches/"]
        );
        assert_eq!(candidates(&known, "publish ", "harrowmere/gorge/k"), ["harrowmere/gorge/kettle-weir/"]);
        assert!(candidates(&known, "wait ", "").is_empty());
    }
}
