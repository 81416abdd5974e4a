//! What is gathered while a blueprint is read.

use std::{collections::BTreeMap, ops::Range, sync::Arc, time::Duration};

use toml::Spanned;

use super::{Finding, Rate, Severity, Source, Span};
use crate::Level;

/// Reads the files of a blueprint, and gathers what is wrong.
pub(super) struct Reader {
    pub(super) source: Source,
    /// The file that is read.
    pub(super) file: usize,
    pub(super) findings: Vec<Finding>,
    pub(super) levels: BTreeMap<String, Arc<Level>>,
}

impl Reader {
    pub(super) fn span(&self, bytes: Range<usize>) -> Span {
        Span { file: self.file, bytes }
    }

    /// A place within a text, bytes from its beginning. It stands behind the quotation mark; escapes would move it
    /// further, and are rare.
    pub(super) fn inside(&self, text: Range<usize>, at: usize) -> Span {
        let written = &self.source.files()[self.file].text[text.clone()];
        let quotes = if written.starts_with("\"\"\"") || written.starts_with("'''") { 3 } else { 1 };
        let place = (text.start + quotes + at).min(text.end.saturating_sub(1));
        self.span(place..place + 1)
    }

    pub(super) fn wrong(&mut self, span: &Span, message: impl Into<String>, remedy: impl Into<String>) {
        self.findings.push(self.source.finding(Severity::Error, span, message, remedy));
    }

    /// A time of whole seconds.
    pub(super) fn time(&mut self, text: Option<Spanned<String>>) -> Option<Duration> {
        let text = text?;
        let time = duration(text.get_ref());
        if time.is_none() {
            let span = self.span(text.span());
            let message = format!("`{}` is not a time", text.get_ref());
            self.wrong(&span, message, "write a number with s, m, h or d, for example 15m");
        }
        time
    }
}

/// A time such as 15m, of whole seconds.
pub(super) fn duration(text: &str) -> Option<Duration> {
    humantime::parse_duration(text).ok().filter(|time| !time.is_zero() && time.subsec_nanos() == 0)
}

/// A rate such as 10/s.
pub(super) fn rate(text: &str) -> Option<Rate> {
    let (number, unit) = text.split_once('/')?;
    let messages = number.trim().parse().ok().filter(|number| *number > 0)?;
    let every = duration(&format!("1{}", unit.trim()))?;
    Some(Rate { messages, every })
}
