//! The text of a blueprint, and findings that point into it.

use std::{fmt, ops::Range};

use serde::{Deserialize, Serialize};

/// One file of a blueprint.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct SourceFile {
    /// Its name, as findings mention it.
    pub name: String,
    /// Its text.
    pub text: String,
}

/// The files of a blueprint, in the order of their names.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Source {
    files: Vec<SourceFile>,
}

/// A piece of the text.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Span {
    pub(crate) file: usize,
    pub(crate) bytes: Range<usize>,
}

/// How much a finding matters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// The blueprint can't be applied.
    Error,
    /// It can, and probably does something that is not meant.
    Warning,
}

/// Something that is wrong with a blueprint, with its place.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Finding {
    /// How much it matters.
    pub severity: Severity,
    /// The file's name.
    pub file: String,
    /// Line, from 1.
    pub line: usize,
    /// Column in characters, from 1.
    pub column: usize,
    /// What is wrong.
    pub message: String,
    /// What to do about it; empty if the message says it.
    pub remedy: String,
    /// The line, with a mark below the place.
    pub excerpt: String,
}

impl fmt::Display for Finding {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { file, line, column, message, remedy, excerpt, .. } = self;
        write!(f, "{file}, line {line}, column {column}: {message}")?;
        if !remedy.is_empty() {
            write!(f, "; {remedy}")?;
        }
        write!(f, "\n{excerpt}")
    }
}

impl Source {
    /// These files; their order does not matter.
    pub fn new(files: impl IntoIterator<Item = SourceFile>) -> Self {
        let mut files: Vec<_> = files.into_iter().collect();
        files.sort_by(|one, other| one.name.cmp(&other.name));
        Self { files }
    }

    /// The line of a place, from 1.
    pub fn line_of(&self, at: &Span) -> usize {
        self.finding(Severity::Error, at, "", "").line
    }

    /// The files.
    pub fn files(&self) -> &[SourceFile] {
        &self.files
    }

    /// A finding at this place.
    pub(crate) fn finding(
        &self,
        severity: Severity,
        span: &Span,
        message: impl Into<String>,
        remedy: impl Into<String>,
    ) -> Finding {
        let none = SourceFile { name: String::new(), text: String::new() };
        let SourceFile { name, text: source } = self.files.get(span.file).unwrap_or(&none);
        let start = source.floor_char_boundary(span.bytes.start.min(source.len()));
        let line_start = source[..start].rfind('\n').map_or(0, |at| at + 1);
        let line_end = source[start..].find('\n').map_or(source.len(), |at| start + at);
        let text = &source[line_start..line_end];
        let line = source[..start].matches('\n').count() + 1;
        let before = source[line_start..start].chars().count();
        let end = source.floor_char_boundary(span.bytes.end.clamp(start, line_end));
        let width = source[start..end].chars().count().max(1);
        let number = line.to_string();
        let gutter = " ".repeat(number.len());
        let excerpt = format!("{number} | {text}\n{gutter} | {}{}", " ".repeat(before), "^".repeat(width));
        let (message, remedy) = (message.into(), remedy.into());
        Finding { severity, file: name.clone(), line, column: before + 1, message, remedy, excerpt }
    }
}
