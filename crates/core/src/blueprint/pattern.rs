//! The topics of a rule: filters in which values of the session and named levels may stand.

use std::{borrow::Cow, collections::BTreeMap, fmt, sync::Arc};

use moorfall_wire::{FilterError, TopicFilter};
use regex::Regex;

use crate::{AttributeValue, Identity, Level, Segment, TopicSet, Values};

/// Why a pattern can't be used.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum PatternError {
    /// An opening brace without a closing one, or the other way round.
    #[error("`{{` and `}}` don't match in `{pattern}`")]
    Brace {
        /// The pattern.
        pattern: String,
    },
    /// Something in braces that means nothing.
    #[error("`{{{name}}}` is unknown; write {{identity}}, {{client_id}}, {{attr.NAME}} or a level{levels}")]
    Name {
        /// What stands in the braces.
        name: String,
        /// The levels that there are.
        levels: String,
    },
    /// A named level beside other text.
    #[error("`{{{name}}}` is a named level, so it must be alone between slashes")]
    LevelBesideText {
        /// Its name.
        name: String,
    },
    /// Not a topic filter around the braces.
    #[error("`{pattern}` is not a topic filter: {error}")]
    Filter {
        /// The pattern.
        pattern: String,
        /// Why.
        error: FilterError,
    },
}

/// A topic filter with values of the session and named levels in it.
#[derive(Clone, Debug)]
pub struct TopicPattern {
    text: String,
    levels: Vec<PatternLevel>,
    has_template: bool,
    open: bool,
}

impl PartialEq for TopicPattern {
    fn eq(&self, other: &Self) -> bool {
        self.text == other.text
    }
}

impl fmt::Display for TopicPattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

/// One level of a pattern.
#[derive(Clone, Debug)]
pub enum PatternLevel {
    /// `+`.
    Any,
    /// This text.
    Text(Box<str>),
    /// A value of a named level.
    Named(Arc<Level>),
    /// Put together from the session's values.
    Template(Vec<Piece>),
}

impl PatternLevel {
    /// Its text, if it is always the same.
    pub(crate) fn fixed(&self) -> Option<&str> {
        if let Self::Text(text) = self { Some(text) } else { None }
    }
}

/// A piece of a level that is put together.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Piece {
    /// This text.
    Text(String),
    /// The identity's name.
    Identity,
    /// The session's client identifier.
    ClientId,
    /// An attribute of the identity.
    Attribute(String),
}

/// The client identifier of a session, or of all that an identity may have.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ClientId<'a> {
    /// This one.
    Given(&'a str),
    /// Any that a client may give: each topic that one of them stands in.
    Any,
    /// Any that a client may give: only what holds for each of them, which is nothing but the very same level.
    Each,
}

/// Why a session can't be bound to the rules.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error(
    "Rule `{rule}` can't be applied: the value of {{{name}}} contains {character:?}, which is not allowed in a topic \
     level. Change the value or the rule."
)]
pub struct BindError {
    /// The rule.
    pub rule: String,
    /// What was to be put in.
    pub name: String,
    /// The character that would change the meaning.
    pub character: char,
}

impl Piece {
    fn parse(name: &str) -> Option<Self> {
        match name {
            "identity" => Some(Self::Identity),
            "client_id" => Some(Self::ClientId),
            _ => name.strip_prefix("attr.").filter(|name| !name.is_empty()).map(|name| Self::Attribute(name.into())),
        }
    }

    /// Its name, as it stands in braces.
    fn name(&self) -> String {
        match self {
            Self::Text(text) => text.clone(),
            Self::Identity => "identity".into(),
            Self::ClientId => "client_id".into(),
            Self::Attribute(name) => format!("attr.{name}"),
        }
    }

    /// What is put in; `None` if the identity has no such attribute.
    fn value<'a>(&'a self, identity: &'a Identity, client_id: &'a str) -> Option<Cow<'a, str>> {
        Some(match self {
            Self::Text(text) => text.into(),
            Self::Identity => (*identity.name).into(),
            Self::ClientId => client_id.into(),
            Self::Attribute(name) => match identity.attributes.get(name)? {
                AttributeValue::Text(text) => text.into(),
                other => other.to_string().into(),
            },
        })
    }
}

impl TopicPattern {
    /// Reads a pattern.
    pub fn parse(pattern: &str, levels: &BTreeMap<String, Arc<Level>>) -> Result<Self, PatternError> {
        let brace = || PatternError::Brace { pattern: pattern.into() };
        let mut sample = String::new();
        let mut parsed = Vec::new();
        for (index, text) in pattern.split('/').enumerate() {
            let pieces = pieces(text).ok_or_else(brace)?;
            if index > 0 {
                sample.push('/');
            }
            let unknown = |name: &str| {
                let known: Vec<String> = levels.keys().map(|name| format!("{{{name}}}")).collect();
                let levels = if known.is_empty() { String::new() } else { format!(": {}", known.join(", ")) };
                PatternError::Name { name: name.into(), levels }
            };
            parsed.push(match &pieces[..] {
                [] | [Err(_)] => {
                    sample.push_str(text);
                    if text == "+" { PatternLevel::Any } else { PatternLevel::Text(text.into()) }
                }
                [Ok(name)] if levels.contains_key(*name) => {
                    sample.push('x');
                    PatternLevel::Named(Arc::clone(&levels[*name]))
                }
                pieces => {
                    let mut template = Vec::new();
                    for piece in pieces {
                        template.push(match piece {
                            Err(text) => {
                                sample.push_str(text);
                                Piece::Text((*text).into())
                            }
                            Ok(name) if levels.contains_key(*name) => {
                                return Err(PatternError::LevelBesideText { name: (*name).into() });
                            }
                            Ok(name) => {
                                sample.push('x');
                                Piece::parse(name).ok_or_else(|| unknown(name))?
                            }
                        });
                    }
                    PatternLevel::Template(template)
                }
            });
        }
        TopicFilter::new(sample).map_err(|error| PatternError::Filter { pattern: pattern.into(), error })?;
        let open = matches!(parsed.last(), Some(PatternLevel::Text(text)) if &**text == "#");
        if open {
            parsed.pop();
        }
        let has_template = parsed.iter().any(|level| matches!(level, PatternLevel::Template(_)));
        Ok(Self { text: pattern.into(), levels: parsed, has_template, open })
    }

    /// Its levels, without a `#` at the end.
    pub fn levels(&self) -> &[PatternLevel] {
        &self.levels
    }

    /// Whether it ends with `#`.
    pub fn is_open(&self) -> bool {
        self.open
    }

    /// The topics that it means to this session; `None` if the identity lacks an attribute in it.
    pub fn bind(
        &self,
        rule: &str,
        identity: &Identity,
        client_id: ClientId<'_>,
    ) -> Result<Option<TopicSet>, BindError> {
        let mut segments = Vec::with_capacity(self.levels.len());
        for level in &self.levels {
            segments.push(match level {
                PatternLevel::Any => Segment::Any,
                PatternLevel::Text(text) => Segment::One(text.clone()),
                PatternLevel::Named(level) => level.into(),
                PatternLevel::Template(pieces) => match (client_id, pieces.contains(&Piece::ClientId)) {
                    (ClientId::Given(given), _) => match fill(pieces, rule, identity, given)? {
                        Some(value) => Segment::One(value.into()),
                        None => return Ok(None),
                    },
                    (_, false) => match fill(pieces, rule, identity, "")? {
                        Some(value) => Segment::One(value.into()),
                        None => return Ok(None),
                    },
                    (client_id, true) => match of_any_client(pieces, rule, identity, client_id == ClientId::Any)? {
                        Some(level) => Segment::Matching(vec![Arc::new(level)]),
                        None => return Ok(None),
                    },
                },
            });
        }
        Ok(Some(TopicSet::new(segments, self.open)))
    }

    /// Whether it holds the topic for this session; `None` if the identity lacks an attribute in it.
    pub fn holds(&self, topic: &str, identity: &Identity, client_id: &str) -> Option<bool> {
        // §4.7.2: wildcards do not match it, nor does a level of which nothing is said.
        let is_wild = |level: &PatternLevel| match level {
            PatternLevel::Any => true,
            PatternLevel::Named(level) => matches!(level.values, Values::Free),
            PatternLevel::Text(_) | PatternLevel::Template(_) => false,
        };
        let mut holds = !(topic.starts_with('$') && self.levels.first().is_none_or(is_wild));
        if !holds && !self.has_template {
            return Some(false);
        }
        let mut levels = topic.split('/');
        for level in &self.levels {
            // A template is looked at even if all is lost, since its attribute may be missing.
            let value = levels.next();
            holds &= match level {
                PatternLevel::Any => value.is_some(),
                PatternLevel::Text(text) => value == Some(text),
                PatternLevel::Named(level) => value.is_some_and(|value| level.holds(value)),
                // An empty value is an empty level, and not one that is not there.
                PatternLevel::Template(pieces) => {
                    is_filled(pieces, value.unwrap_or_default(), identity, client_id)? && value.is_some()
                }
            };
            if !holds && !self.has_template {
                return Some(false);
            }
        }
        Some(holds && (self.open || levels.next().is_none()))
    }

    /// The pattern with what is said of nobody in particular: what the session puts in may be anything.
    pub fn of_anyone(&self) -> TopicSet {
        let segments = self.levels.iter().map(|level| match level {
            PatternLevel::Any | PatternLevel::Template(_) => Segment::Any,
            PatternLevel::Text(text) => Segment::One(text.clone()),
            PatternLevel::Named(level) => level.into(),
        });
        TopicSet::new(segments.collect(), self.open)
    }
}

fn fill(pieces: &[Piece], rule: &str, identity: &Identity, client_id: &str) -> Result<Option<String>, BindError> {
    let mut text = String::new();
    for piece in pieces {
        let Some(value) = piece.value(identity, client_id) else { return Ok(None) };
        if let Some(character) = value.chars().find(|c| matches!(c, '/' | '+' | '#' | '\0')) {
            return Err(BindError { rule: rule.into(), name: piece.name(), character });
        }
        text.push_str(&value);
    }
    Ok(Some(text))
}

/// A level with any client identifier in it, or, if not `all`, the same without a value that it would hold for sure.
fn of_any_client(pieces: &[Piece], rule: &str, identity: &Identity, all: bool) -> Result<Option<Level>, BindError> {
    let mut pattern = String::from("^");
    let mut name = String::new();
    for piece in pieces {
        if *piece == Piece::ClientId {
            pattern.push_str("[^/+#\\x00]+");
            name.push_str("{client_id}");
        } else {
            let Some(text) = fill(std::slice::from_ref(piece), rule, identity, "")? else { return Ok(None) };
            pattern.push_str(&regex::escape(&text));
            name.push_str(&text);
        }
    }
    pattern.push('$');
    // Nothing matches this: the level is the same as itself and nothing else.
    let pattern = if all { pattern.as_str() } else { "[^\\s\\S]" };
    let values = Values::Pattern(Regex::new(pattern).expect("texts are escaped, and short"));
    Ok(Some(Level { name, values }))
}

/// Whether a level's value is what the pieces make together.
fn is_filled(pieces: &[Piece], value: &str, identity: &Identity, client_id: &str) -> Option<bool> {
    let mut rest = Some(value);
    for piece in pieces {
        let piece = piece.value(identity, client_id)?;
        rest = rest.and_then(|rest| rest.strip_prefix(&*piece));
    }
    Some(rest == Some(""))
}

/// A level's pieces: what stands in braces, and the text around. `None` if braces don't pair up.
fn pieces(level: &str) -> Option<Vec<Result<&str, &str>>> {
    let mut pieces = Vec::new();
    let mut rest = level;
    while let Some(open) = rest.find(['{', '}']) {
        let (text, tail) = rest.split_at(open);
        let (name, after) = tail.strip_prefix('{')?.split_once('}')?;
        if !text.is_empty() {
            pieces.push(Err(text));
        }
        pieces.push(Ok(name));
        rest = after;
    }
    if !rest.is_empty() {
        pieces.push(Err(rest));
    }
    Some(pieces)
}
