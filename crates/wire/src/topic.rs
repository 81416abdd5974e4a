//! Topic names and topic filters (§4.7).

use std::{borrow::Borrow, fmt, ops::Deref, str::FromStr, sync::Arc};

use bytestring::ByteString;

/// The longest topic name or filter, bytes (§1.5.4).
const MAX_LENGTH: usize = 65_535;

/// Why a string is not a topic name.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum TopicError {
    /// No character at all ([MQTT-4.7.3-1]).
    #[error("it is empty")]
    Empty,
    /// More than 65,535 bytes ([MQTT-4.7.3-3]).
    #[error("it has {length} bytes; at most 65,535 are allowed")]
    TooLong {
        /// Its length, bytes.
        length: usize,
    },
    /// U+0000 ([MQTT-4.7.3-2]).
    #[error("it contains the character U+0000 at byte {at}")]
    Nul {
        /// Where, bytes from the start.
        at: usize,
    },
    /// `+` or `#` in a topic name ([MQTT-3.3.2-2]).
    #[error("`{character}` at byte {at} is a wildcard, which is allowed only in a topic filter")]
    Wildcard {
        /// The character.
        character: char,
        /// Where, bytes from the start.
        at: usize,
    },
}

/// Why a string is not a topic filter. `at` counts bytes from the start, for pointing at the place.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum FilterError {
    /// No character at all ([MQTT-4.7.3-1]).
    #[error("it is empty")]
    Empty,
    /// More than 65,535 bytes ([MQTT-4.7.3-3]).
    #[error("it has {length} bytes; at most 65,535 are allowed")]
    TooLong {
        /// Its length, bytes.
        length: usize,
    },
    /// U+0000 ([MQTT-4.7.3-2]).
    #[error("it contains the character U+0000 at byte {at}")]
    Nul {
        /// Where.
        at: usize,
    },
    /// `#` before the last level ([MQTT-4.7.1-1]).
    #[error("`#` at byte {at} is not the last level; `#` matches all remaining levels, so nothing can follow it")]
    HashNotLast {
        /// Where.
        at: usize,
    },
    /// A wildcard that shares its level with other characters ([MQTT-4.7.1-1], [MQTT-4.7.1-2]).
    #[error("`{character}` at byte {at} shares its level with other characters; a wildcard must be a whole level")]
    WildcardInLevel {
        /// The wildcard.
        character: char,
        /// Where.
        at: usize,
    },
    /// `$share/` without a group or a filter behind it (§4.8.2).
    #[error("a shared subscription is written $share/ShareName/filter, with a share name without wildcards")]
    Share,
}

impl FilterError {
    /// The place of the fault, bytes from the start, where one place is at fault.
    pub fn at(&self) -> Option<usize> {
        match *self {
            Self::Nul { at } | Self::HashNotLast { at } | Self::WildcardInLevel { at, .. } => Some(at),
            Self::Empty | Self::TooLong { .. } | Self::Share => None,
        }
    }
}

/// A checked topic name: not empty, no wildcard, no U+0000.
///
/// In a received PUBLISH alone it may be empty, when a topic alias stands in for it (§3.3.2.3.4).
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct TopicName(ByteString);

impl TopicName {
    /// Checks `text`.
    pub fn new(text: impl Into<ByteString>) -> Result<Self, TopicError> {
        let text = text.into();
        if text.is_empty() {
            return Err(TopicError::Empty);
        }
        if text.len() > MAX_LENGTH {
            return Err(TopicError::TooLong { length: text.len() });
        }
        match text.bytes().enumerate().find(|(_, byte)| matches!(byte, 0 | b'+' | b'#')) {
            None => Ok(Self(text)),
            Some((at, 0)) => Err(TopicError::Nul { at }),
            Some((at, byte)) => Err(TopicError::Wildcard { character: char::from(byte), at }),
        }
    }

    /// The levels between the slashes, from the root; an empty level counts.
    pub fn levels(&self) -> impl Iterator<Item = &str> {
        self.0.split('/')
    }

    /// Whether the name begins with `$`, and so is hidden from wildcards at the first level ([MQTT-4.7.2-1]).
    pub fn is_hidden(&self) -> bool {
        self.0.starts_with('$')
    }

    /// The same name in memory of its own, so that it doesn't keep a whole receive buffer alive.
    pub fn detached(&self) -> Self {
        Self(ByteString::from(&*self.0))
    }
}

impl Borrow<str> for TopicName {
    fn borrow(&self) -> &str {
        &self.0
    }
}

/// A checked topic filter (§4.7.1).
///
/// Its text is its own and shared by its clones: it stays long, and many places hold it.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct TopicFilter(Arc<str>);

impl TopicFilter {
    /// Checks `text`.
    pub fn new(text: impl AsRef<str>) -> Result<Self, FilterError> {
        let text = text.as_ref();
        if text.is_empty() {
            return Err(FilterError::Empty);
        }
        if text.len() > MAX_LENGTH {
            return Err(FilterError::TooLong { length: text.len() });
        }
        if let Some(at) = text.bytes().position(|byte| byte == 0) {
            return Err(FilterError::Nul { at });
        }
        let mut start = 0;
        for level in text.split('/') {
            if let Some(inside) = level.find(['+', '#']) {
                let at = start + inside;
                if level.len() > 1 {
                    let character = if level[inside..].starts_with('+') { '+' } else { '#' };
                    return Err(FilterError::WildcardInLevel { character, at });
                }
                if level == "#" && at + 1 < text.len() {
                    return Err(FilterError::HashNotLast { at });
                }
            }
            start += level.len() + 1;
        }
        Ok(Self(text.into()))
    }

    /// Its text, for those who keep a part of it.
    pub fn text(&self) -> &Arc<str> {
        &self.0
    }

    /// The levels between the slashes; `+` and `#` stand alone in theirs.
    pub fn levels(&self) -> impl Iterator<Item = &str> {
        self.0.split('/')
    }

    /// Whether the filter holds a wildcard.
    pub fn has_wildcard(&self) -> bool {
        self.0.contains(['+', '#'])
    }

    /// Group and filter of a shared subscription `$share/GROUP/FILTER` (§4.8.2); `None` for an ordinary filter.
    pub fn shared(&self) -> Option<Result<(&str, Self), FilterError>> {
        let rest = self.0.strip_prefix("$share/")?;
        let parts = rest
            .split_once('/')
            .filter(|(group, filter)| !group.is_empty() && !group.contains(['+', '#']) && !filter.is_empty());
        Some(match parts {
            Some((group, filter)) => Self::new(filter).map(|filter| (group, filter)),
            None => Err(FilterError::Share),
        })
    }

    /// Whether the filter matches the topic (§4.7.1, §4.7.2).
    pub fn matches(&self, topic: &TopicName) -> bool {
        if topic.is_hidden() && self.0.starts_with(['+', '#']) {
            return false;
        }
        let mut wanted = self.levels();
        let mut given = topic.levels();
        loop {
            match (wanted.next(), given.next()) {
                (Some("#"), _) => return true,
                (Some("+"), Some(_)) => {}
                (Some(wanted), Some(given)) if wanted == given => {}
                (None, None) => return true,
                _ => return false,
            }
        }
    }

    /// Whether there can be a topic that both filters match.
    pub fn overlaps(&self, other: &Self) -> bool {
        let hidden = |one: &Self, other: &Self| one.0.starts_with('$') && other.0.starts_with(['+', '#']);
        if hidden(self, other) || hidden(other, self) {
            return false;
        }
        let mut mine = self.levels();
        let mut theirs = other.levels();
        loop {
            match (mine.next(), theirs.next()) {
                // `#` also stands for no level at all.
                (Some("#"), _) | (_, Some("#")) | (None, None) => return true,
                (Some("+"), Some(_)) | (Some(_), Some("+")) => {}
                (Some(mine), Some(theirs)) if mine == theirs => {}
                _ => return false,
            }
        }
    }

    /// Whether every topic that `other` matches is matched by this filter too.
    pub fn covers(&self, other: &Self) -> bool {
        if other.0.starts_with('$') && self.0.starts_with(['+', '#']) {
            return false;
        }
        let mut mine = self.levels();
        let mut theirs = other.levels();
        loop {
            match (mine.next(), theirs.next()) {
                (Some("#"), _) => return true,
                (Some("+"), Some(level)) if level != "#" => {}
                (Some(mine), Some(theirs)) if mine == theirs => {}
                (None, None) => return true,
                _ => return false,
            }
        }
    }
}

macro_rules! text_wrapper {
    ($name:ident, $error:ident) => {
        impl Deref for $name {
            type Target = str;

            fn deref(&self) -> &str {
                &self.0
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str(self)
            }
        }

        impl FromStr for $name {
            type Err = $error;

            fn from_str(text: &str) -> Result<Self, $error> {
                Self::new(text)
            }
        }
    };
}

text_wrapper!(TopicName, TopicError);
text_wrapper!(TopicFilter, FilterError);

#[cfg(test)]
mod tests {
    use super::*;

    fn name(text: &str) -> TopicName {
        text.parse().unwrap()
    }

    fn filter(text: &str) -> TopicFilter {
        text.parse().unwrap()
    }

    /// The examples of §4.7.1.2, §4.7.1.3 and §4.7.2, told with the catchment's topics.
    #[test]
    fn matching_follows_the_standard() {
        for (pattern, topic, expected) in [
            ("harrowmere/gorge/#", "harrowmere/gorge", true),
            ("harrowmere/gorge/#", "harrowmere/gorge/kettle-weir", true),
            ("harrowmere/gorge/#", "harrowmere/gorge/kettle-weir/stage/level", true),
            ("harrowmere/gorge/#", "harrowmere/gorges", false),
            ("#", "harrowmere", true),
            ("#", "/harrowmere", true),
            ("harrowmere/+", "harrowmere/gorge", true),
            ("harrowmere/+", "harrowmere", false),
            ("harrowmere/+", "harrowmere/", true),
            ("harrowmere/+", "harrowmere/gorge/kettle-weir", false),
            ("+/+", "/gorge", true),
            ("/+", "/gorge", true),
            ("+", "/gorge", false),
            ("+/+/+/stage/level", "harrowmere/gorge/kettle-weir/stage/level", true),
            ("harrowmere/+/+/stage/level", "harrowmere/gorge/kettle-weir/stage/flow", false),
            ("#", "$weir/level", false),
            ("+/level", "$weir/level", false),
            ("$weir/#", "$weir/level", true),
            ("$weir/+", "$weir/level", true),
            ("harrowmere/Gorge", "harrowmere/gorge", false),
        ] {
            assert_eq!(filter(pattern).matches(&name(topic)), expected, "{pattern} and {topic}");
        }
    }

    #[test]
    fn covering_is_matching_for_whole_filters() {
        for (wide, narrow, expected) in [
            ("#", "harrowmere/#", true),
            ("#", "+/gorge", true),
            ("#", "$weir/#", false),
            ("harrowmere/#", "harrowmere", true),
            ("harrowmere/#", "harrowmere/+/kettle-weir", true),
            ("harrowmere/+", "harrowmere/#", false),
            ("harrowmere/+", "harrowmere/+", true),
            ("harrowmere/gorge", "harrowmere/+", false),
            ("harrowmere/+/status", "harrowmere/gorge/status", true),
            ("harrowmere/+/status", "harrowmere/gorge/level", false),
            ("harrowmere/gorge/#", "harrowmere/+/kettle-weir", false),
        ] {
            assert_eq!(filter(wide).covers(&filter(narrow)), expected, "{wide} covers {narrow}");
        }
    }

    #[test]
    fn wrong_filters_are_named_with_their_place() {
        assert_eq!("a/#/b".parse::<TopicFilter>(), Err(FilterError::HashNotLast { at: 2 }));
        assert_eq!("a/b#".parse::<TopicFilter>(), Err(FilterError::WildcardInLevel { character: '#', at: 3 }));
        assert_eq!("a/+b/c".parse::<TopicFilter>(), Err(FilterError::WildcardInLevel { character: '+', at: 2 }));
        assert_eq!("".parse::<TopicFilter>(), Err(FilterError::Empty));
        assert_eq!("a\0".parse::<TopicFilter>(), Err(FilterError::Nul { at: 1 }));
        assert_eq!("é/+/x#".parse::<TopicFilter>().unwrap_err().at(), Some(6));
    }

    #[test]
    fn wrong_names_are_named_with_their_place() {
        assert_eq!("a/+".parse::<TopicName>(), Err(TopicError::Wildcard { character: '+', at: 2 }));
        assert_eq!("".parse::<TopicName>(), Err(TopicError::Empty));
        assert_eq!(TopicName::new("x".repeat(65_536)), Err(TopicError::TooLong { length: 65_536 }));
    }

    #[test]
    fn filters_overlap_where_a_topic_can_match_both() {
        let filter = |text: &str| text.parse::<TopicFilter>().unwrap();
        for (one, other, expected) in [
            ("harrowmere/+/status", "harrowmere/gorge/+", true),
            ("harrowmere/+/status", "harrowmere/gorge/level", false),
            ("harrowmere/#", "harrowmere", true),
            ("harrowmere/+/#", "harrowmere", false),
            ("#", "harrowmere/gorge", true),
            ("#", "$SYS/uptime", false),
            ("+/uptime", "$SYS/uptime", false),
            ("$SYS/+", "$SYS/uptime", true),
            ("a/b/c", "a/b", false),
            ("a/+", "+/b", true),
            ("a//b", "a/+/b", true),
        ] {
            assert_eq!(filter(one).overlaps(&filter(other)), expected, "{one} {other}");
            assert_eq!(filter(other).overlaps(&filter(one)), expected, "{other} {one}");
        }
    }

    #[test]
    fn shared_filters_are_taken_apart() {
        let (group, inner) =
            filter("$share/pumps/harrowmere/#").shared().unwrap().map(|(g, f)| (g.to_owned(), f)).unwrap();
        assert_eq!((group.as_str(), &*inner), ("pumps", "harrowmere/#"));
        assert!(filter("harrowmere/#").shared().is_none());
        for wrong in ["$share/pumps", "$share//a", "$share/pumps/", "$share/+/a"] {
            assert_eq!(filter(wrong).shared(), Some(Err(FilterError::Share)), "{wrong}");
        }
    }
}
