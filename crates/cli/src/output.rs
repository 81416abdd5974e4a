//! What people and programs see on the terminal.

use std::{
    fmt::Display,
    io::{self, IsTerminal, Write},
};

use anstyle::{AnsiColor, Style};
use comfy_table::{CellAlignment, ContentArrangement, Table};
use serde::Serialize;
use time::{OffsetDateTime, macros::format_description};

pub use moorfall_core::shown::{bytes, count, plural, span};

/// Why a command failed, in a sentence with its remedy.
#[derive(Debug)]
pub struct Failure(pub String);

impl<E: std::error::Error> From<E> for Failure {
    fn from(error: E) -> Self {
        Self(error.to_string())
    }
}

/// What commands give.
pub type Done = Result<(), Failure>;

/// For what stands out.
pub const STRONG: Style = Style::new().bold();
/// For what stands back.
pub const FAINT: Style = Style::new().dimmed();
/// For what is to be noticed.
pub const WARN: Style = AnsiColor::Yellow.on_default().bold();
const WRONG: Style = AnsiColor::Red.on_default().bold();

/// Tells a failure on standard error.
pub fn complain(failure: &Failure) {
    anstream::eprintln!("{WRONG}moorfall:{WRONG:#} {}", failure.0);
}

/// Tells something that is not the command's result on standard error.
pub fn remark(words: impl Display) {
    anstream::eprintln!("{FAINT}{words}{FAINT:#}");
}

/// Writes a line of the result. A reader that has gone, as `head` does, is told apart from other failures.
pub fn line(text: impl Display) -> io::Result<()> {
    writeln!(anstream::stdout().lock(), "{text}")
}

/// Writes bytes as they are.
pub fn raw(bytes: &[u8]) -> io::Result<()> {
    let mut out = io::stdout().lock();
    out.write_all(bytes).and_then(|()| out.flush())
}

/// Writes the result as JSON.
pub fn json(value: &impl Serialize) -> Done {
    finish(line(serde_json::to_string_pretty(value)?))
}

/// A reader that has gone is no failure: it has what it wanted.
pub fn finish(written: io::Result<()>) -> Done {
    match written {
        Err(error) if error.kind() == io::ErrorKind::BrokenPipe => Ok(()),
        Err(error) => Err(Failure(format!("the output can't be written: {error}"))),
        Ok(()) => Ok(()),
    }
}

/// Text in lines that fit 80 columns, with a margin.
pub fn indented(text: &str, margin: usize) -> String {
    let options = textwrap::Options::new(80)
        .break_words(false)
        .word_splitter(textwrap::WordSplitter::NoHyphenation)
        .word_separator(textwrap::WordSeparator::AsciiSpace);
    let indent = " ".repeat(margin);
    textwrap::fill(text, options.initial_indent(&indent).subsequent_indent(&indent))
}

/// A table without lines. The columns whose headings begin with `>` are aligned to the right.
pub fn table(headings: &[&str], rows: Vec<Vec<String>>) -> String {
    let mut table = Table::new();
    table.load_style(comfy_table::presets::NOTHING).set_content_arrangement(ContentArrangement::Dynamic);
    if !io::stdout().is_terminal() {
        table.set_width(80);
    }
    let names = headings.iter().map(|heading| heading.trim_start_matches('>'));
    table.set_header(names);
    for row in rows {
        table.add_row(row.iter().map(|text| printable(text)));
    }
    for (index, heading) in headings.iter().enumerate() {
        if let Some(column) = table.column_mut(index) {
            column.set_padding((0, 1));
            if heading.starts_with('>') {
                column.set_cell_alignment(CellAlignment::Right);
            }
        }
    }
    table.trim_fmt()
}

/// Text from outside, with control characters made visible: they could otherwise command the terminal.
pub fn printable(text: &str) -> String {
    text.chars().flat_map(|c| if c.is_control() { c.escape_default().collect::<Vec<_>>() } else { vec![c] }).collect()
}

/// How long ago something was, with the word.
pub fn ago(at: OffsetDateTime) -> String {
    format!("{} ago", since(at))
}

/// How long ago something was.
pub fn since(at: OffsetDateTime) -> String {
    span(u64::try_from((OffsetDateTime::now_utc() - at).whole_seconds()).unwrap_or(0))
}

/// A time to the minute, in UTC.
pub fn minute(at: OffsetDateTime) -> String {
    at.format(format_description!("[year]-[month]-[day] [hour]:[minute]")).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn control_characters_can_t_command_the_terminal() {
        assert_eq!(printable("a\u{1b}[31mb\n"), "a\\u{1b}[31mb\\n");
    }

    #[test]
    fn tables_fit_80_columns() {
        let row = vec!["a-client-identifier-that-is-rather-long-and-goes-on-and-on".into(), "x".repeat(60), "1".into()];
        let text = table(&["CLIENT", "IDENTITY", ">OUT"], vec![row]);
        assert!(text.lines().all(|line| line.chars().count() <= 80), "{text}");
    }
}
