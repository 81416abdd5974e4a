//! What a mapping does to the name of a topic: which topics it takes, and what each becomes on the other side.

use std::{collections::BTreeMap, fmt, sync::Arc};

use moorfall_wire::{FilterError, TopicFilter, TopicName};

use crate::{Level, Segment, TopicSet};

/// Why a mapping can't be used.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum MappingError {
    /// Not a topic filter around the braces.
    #[error("`{filter}` is not a topic filter: {error}")]
    Filter {
        /// As it was written.
        filter: String,
        /// Why.
        error: FilterError,
    },
    /// Members of a shared subscription take turns, and a bridge is one.
    #[error("`{0}` is a shared subscription; here every message of the filter is taken")]
    Shared(String),
    /// Braces around something that means nothing in a filter.
    #[error("there is no level `{name}`; this blueprint has{levels}")]
    Level {
        /// What stands in the braces.
        name: String,
        /// The levels that there are.
        levels: String,
    },
    /// Braces beside other text.
    #[error("braces must be alone between slashes, unlike in `{0}`")]
    Beside(String),
    /// A place for something that the filter does not catch.
    #[error("`{{{name}}}` is nothing that the filter catches; it catches {caught}")]
    NotCaught {
        /// What stands in the braces.
        name: String,
        /// What may stand there.
        caught: String,
    },
    /// A named level that stands twice in the filter.
    #[error("the filter has `{{{0}}}` twice; write the number of the one that is meant")]
    Twice(String),
    /// A rest that the filter does not catch.
    #[error("`#` stands for what the `#` of the filter catches, but the filter ends without one")]
    NoRest,
    /// A rest that is not at the end.
    #[error("`#` may only stand at the end")]
    RestInside,
    /// A wildcard in a name.
    #[error("`+` has no meaning in a name; write {{1}} for what the first wildcard of the filter catches")]
    Wildcard,
    /// No topic.
    #[error("`{0}` can't be the name of a topic")]
    Name(String),
}

impl MappingError {
    /// Whether the new name is to blame, and not the filter.
    pub fn is_of_name(&self) -> bool {
        match self {
            Self::Filter { .. } | Self::Shared(_) | Self::Level { .. } | Self::Beside(_) => false,
            Self::NotCaught { .. }
            | Self::Twice(_)
            | Self::NoRest
            | Self::RestInside
            | Self::Wildcard
            | Self::Name(_) => true,
        }
    }
}

/// A level of a mapping's filter.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Taken {
    /// This text.
    Text(Box<str>),
    /// `+`.
    Any,
    /// A value of a named level.
    Named(Arc<Level>),
}

impl Taken {
    pub(super) fn takes(&self, value: &str) -> bool {
        match self {
            Self::Text(text) => **text == *value,
            Self::Any => true,
            Self::Named(level) => level.holds(value),
        }
    }

    fn segment(&self) -> Segment {
        match self {
            Self::Text(text) => Segment::One(text.clone()),
            Self::Any => Segment::Any,
            Self::Named(level) => level.into(),
        }
    }
}

/// A level of the new name.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Made {
    /// This text.
    Text(Box<str>),
    /// What stood at this level of the topic.
    Level(usize),
}

/// A new name, put together.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Template {
    pub(super) levels: Vec<Made>,
    /// Whether what `#` catches goes on behind them.
    pub(super) rest: bool,
    text: String,
}

/// What a mapping does to the name of a topic.
#[derive(Clone, Debug)]
pub struct Mapping {
    text: String,
    pub(super) levels: Vec<Taken>,
    pub(super) open: bool,
    pub(super) template: Option<Template>,
    filter: TopicFilter,
}

impl PartialEq for Mapping {
    fn eq(&self, other: &Self) -> bool {
        self.text == other.text && self.template == other.template && self.levels == other.levels
    }
}

/// What becomes of a topic.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Mapped {
    /// The mapping does not take it.
    NotTaken,
    /// It takes it, but nothing is left that could be the name of a topic.
    Nameless,
    /// This.
    To(TopicName),
}

impl fmt::Display for Mapping {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)?;
        match &self.template {
            Some(template) => write!(f, " as {}", template.text),
            None => Ok(()),
        }
    }
}

impl Mapping {
    /// Reads a filter, in which named levels may stand in braces, and the new name. In that one `{1}` is what the first
    /// wildcard or named level of the filter catches, `{name}` what that named level catches, and `#` at its end what
    /// the filter's `#` catches. Without a new name topics keep theirs.
    pub fn parse(filter: &str, to: Option<&str>, levels: &BTreeMap<String, Arc<Level>>) -> Result<Self, MappingError> {
        let mut taken = Vec::new();
        let mut wild = Vec::new();
        for text in filter.split('/') {
            let level = match braced(text)? {
                Some(name) => {
                    let level = levels.get(name).ok_or_else(|| MappingError::Level {
                        name: name.into(),
                        levels: list(levels.keys().map(String::as_str), ": ", " none"),
                    })?;
                    Taken::Named(Arc::clone(level))
                }
                None if text == "+" => Taken::Any,
                None => Taken::Text(text.into()),
            };
            wild.push(if let Taken::Text(text) = &level { &**text } else { "+" }.to_owned());
            taken.push(level);
        }
        let wild: TopicFilter =
            wild.join("/").parse().map_err(|error| MappingError::Filter { filter: filter.into(), error })?;
        if wild.shared().is_some() {
            return Err(MappingError::Shared(filter.into()));
        }
        let open = matches!(taken.last(), Some(Taken::Text(text)) if &**text == "#");
        if open {
            taken.pop();
        }
        let template = to.map(|to| Template::parse(to, &taken, open)).transpose()?;
        Ok(Self { text: filter.into(), levels: taken, open, template, filter: wild })
    }

    /// The filter, as it was written.
    pub fn written_filter(&self) -> &str {
        &self.text
    }

    /// The new name, as it was written.
    pub fn written_name(&self) -> Option<&str> {
        self.template.as_ref().map(|template| template.text.as_str())
    }

    /// A filter that catches all topics that are taken, and others, too, where a named level stands in it.
    pub fn filter(&self) -> &TopicFilter {
        &self.filter
    }

    /// What becomes of a topic.
    pub fn apply(&self, topic: &TopicName) -> Mapped {
        let mut caught: Vec<&str> = Vec::with_capacity(self.levels.len());
        let mut rest: &str = topic;
        let mut left = true;
        for (place, level) in self.levels.iter().enumerate() {
            if !left {
                return Mapped::NotTaken;
            }
            let value = match rest.split_once('/') {
                Some((value, behind)) => {
                    rest = behind;
                    value
                }
                None => {
                    left = false;
                    std::mem::take(&mut rest)
                }
            };
            // §4.7.2: wildcards leave out what begins with `$` at the first level.
            if place == 0 && value.starts_with('$') && !matches!(level, Taken::Text(_)) || !level.takes(value) {
                return Mapped::NotTaken;
            }
            caught.push(value);
        }
        let hidden = self.levels.is_empty() && topic.is_hidden();
        if left && !self.open || hidden {
            return Mapped::NotTaken;
        }
        match &self.template {
            None => Mapped::To(topic.clone()),
            Some(template) => template.make(&caught, left.then_some(rest)),
        }
    }

    /// The topics that are taken.
    pub fn topics(&self) -> TopicSet {
        TopicSet::new(self.levels.iter().map(Taken::segment).collect(), self.open)
    }

    /// The topics that they become, and perhaps others.
    pub fn image(&self) -> TopicSet {
        let Some(template) = &self.template else { return self.topics() };
        let segments = template.levels.iter().map(|made| match made {
            Made::Text(text) => Segment::One(text.clone()),
            Made::Level(place) => self.levels[*place].segment(),
        });
        TopicSet::new(segments.collect(), template.rest)
    }

    /// Levels that the filter names.
    pub fn named_levels(&self) -> impl Iterator<Item = &str> {
        self.levels.iter().filter_map(|level| match level {
            Taken::Named(level) => Some(level.name.as_str()),
            Taken::Text(_) | Taken::Any => None,
        })
    }

    /// The levels of the filter that are always the same, from the first, without its `#`.
    pub(crate) fn fixed_levels(&self) -> impl Iterator<Item = Option<&str>> {
        self.levels.iter().map(|level| if let Taken::Text(text) = level { Some(&**text) } else { None })
    }

    /// Whether the filter ends with `#`.
    pub(crate) fn is_open(&self) -> bool {
        self.open
    }

    /// The named levels of the filter, and what a topic that it takes has there.
    pub(crate) fn caught<'a>(&'a self, topic: &'a str) -> Vec<(&'a str, &'a str)> {
        let named = |(level, value): (&'a Taken, &'a str)| match level {
            Taken::Named(level) => Some((level.name.as_str(), value)),
            Taken::Text(_) | Taken::Any => None,
        };
        self.levels.iter().zip(topic.split('/')).filter_map(named).collect()
    }

    /// Whether different topics may become one, because something that is caught does not stand in the new name.
    pub fn joins_topics(&self) -> bool {
        self.template.as_ref().is_some_and(|template| {
            let is_lost = |(place, level): (usize, &Taken)| {
                !matches!(level, Taken::Text(_)) && !template.levels.contains(&Made::Level(place))
            };
            self.open && !template.rest || self.levels.iter().enumerate().any(is_lost)
        })
    }
}

impl Template {
    fn parse(to: &str, taken: &[Taken], open: bool) -> Result<Self, MappingError> {
        let wild: Vec<usize> = (0..taken.len()).filter(|place| !matches!(taken[*place], Taken::Text(_))).collect();
        let mut levels = Vec::new();
        let mut rest = false;
        for text in to.split('/') {
            if rest {
                return Err(MappingError::RestInside);
            }
            match braced(text)? {
                Some(name) => levels.push(Made::Level(place_of(name, taken, &wild)?)),
                None if text == "#" && open => rest = true,
                None if text == "#" => return Err(MappingError::NoRest),
                None if text == "+" => return Err(MappingError::Wildcard),
                None => levels.push(Made::Text(text.into())),
            }
        }
        let sample: Vec<&str> =
            levels.iter().map(|made| if let Made::Text(text) = made { &**text } else { "x" }).collect();
        let is_rest_alone = sample.is_empty() && rest;
        let is_good = TopicName::new(sample.join("/")).is_ok_and(|topic| !topic.is_hidden()) || is_rest_alone;
        if is_good { Ok(Self { levels, rest, text: to.into() }) } else { Err(MappingError::Name(to.into())) }
    }

    fn make(&self, caught: &[&str], rest: Option<&str>) -> Mapped {
        let levels = self.levels.iter().map(|made| match made {
            Made::Text(text) => text,
            Made::Level(place) => caught[*place],
        });
        let name: Vec<&str> = levels.chain(rest.filter(|_| self.rest)).collect();
        match TopicName::new(name.join("/")) {
            // What begins with `$` is the other broker's own (§4.7.2).
            Ok(topic) if !topic.is_hidden() => Mapped::To(topic),
            _ => Mapped::Nameless,
        }
    }
}

/// What stands in braces; `None` if there are none.
fn braced(text: &str) -> Result<Option<&str>, MappingError> {
    match text.strip_prefix('{').and_then(|text| text.strip_suffix('}')) {
        Some(name) if !name.contains(['{', '}']) => Ok(Some(name)),
        None if !text.contains(['{', '}']) => Ok(None),
        _ => Err(MappingError::Beside(text.into())),
    }
}

/// Which level of the topic a name or number in braces means.
fn place_of(name: &str, taken: &[Taken], wild: &[usize]) -> Result<usize, MappingError> {
    if let Some(place) = name.parse::<usize>().ok().and_then(|number| wild.get(number.checked_sub(1)?)) {
        return Ok(*place);
    }
    let is_named = |place: &&usize| matches!(&taken[**place], Taken::Named(level) if level.name == name);
    let mut places = wild.iter().filter(is_named);
    match (places.next(), places.next()) {
        (Some(place), None) => Ok(*place),
        (Some(_), Some(_)) => Err(MappingError::Twice(name.into())),
        (None, _) => {
            let numbers = (1..=wild.len()).map(|number| format!("{{{number}}}"));
            let names = wild.iter().filter_map(|place| match &taken[*place] {
                Taken::Named(level) => Some(format!("{{{}}}", level.name)),
                Taken::Text(_) | Taken::Any => None,
            });
            let all: Vec<String> = numbers.chain(names).collect();
            Err(MappingError::NotCaught {
                name: name.into(),
                caught: list(all.iter().map(String::as_str), "", "nothing"),
            })
        }
    }
}

fn list<'a>(items: impl Iterator<Item = &'a str>, before: &str, none: &str) -> String {
    let items: Vec<&str> = items.collect();
    if items.is_empty() { none.into() } else { format!("{before}{}", items.join(", ")) }
}

#[cfg(test)]
pub(super) mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::Values;

    fn levels() -> BTreeMap<String, Arc<Level>> {
        let reaches = ["gorge", "tidal"].map(str::to_owned).into();
        let level = |name: &str, values| (name.to_owned(), Arc::new(Level { name: name.into(), values }));
        [level("reach", Values::OneOf(reaches)), level("station", Values::Free)].into()
    }

    fn mapping(filter: &str, to: Option<&str>) -> Mapping {
        Mapping::parse(filter, to, &levels()).unwrap_or_else(|error| panic!("{filter} {to:?}: {error}"))
    }

    fn topic(text: &str) -> TopicName {
        text.parse().unwrap()
    }

    #[test]
    fn names_are_stripped_prefixed_and_reordered() {
        for (filter, to, from, expected) in [
            ("harrowmere/#", Some("river/#"), "harrowmere/tidal/status", Some("river/tidal/status")),
            ("harrowmere/#", Some("river/#"), "harrowmere", Some("river")),
            ("harrowmere/#", Some("#"), "harrowmere/tidal", Some("tidal")),
            ("#", Some("harrowmere/#"), "tidal/status", Some("harrowmere/tidal/status")),
            ("#", None, "tidal/status", Some("tidal/status")),
            ("+/+/level", Some("{2}/{1}/height"), "gorge/weir/level", Some("weir/gorge/height")),
            (
                "harrowmere/{reach}/{station}/#",
                Some("{station}/{reach}/#"),
                "harrowmere/gorge/weir/stage/level",
                Some("weir/gorge/stage/level"),
            ),
            ("harrowmere/{reach}/#", Some("{1}"), "harrowmere/gorge/weir", Some("gorge")),
            ("harrowmere/{reach}/#", None, "harrowmere/meadows/weir", None),
            ("harrowmere/+", None, "harrowmere/gorge/weir", None),
            ("harrowmere/+", None, "harrowmere", None),
            ("harrowmere/+", Some("a/{1}"), "harrowmere/", Some("a/")),
            ("+/b", None, "$SYS/b", None),
            ("#", None, "$SYS/b", None),
            ("$SYS/#", Some("broker/#"), "$SYS/b", Some("broker/b")),
            ("a", Some("b"), "a", Some("b")),
        ] {
            let mapped = mapping(filter, to).apply(&topic(from));
            let expected = expected.map_or(Mapped::NotTaken, |name| Mapped::To(topic(name)));
            assert_eq!(mapped, expected, "{filter} as {to:?}: {from}");
        }
        assert_eq!(mapping("harrowmere/#", Some("#")).apply(&topic("harrowmere")), Mapped::Nameless);
        assert_eq!(mapping("a/#", Some("#")).apply(&topic("a/$SYS/b")), Mapped::Nameless);
    }

    #[test]
    fn what_can_t_be_is_said() {
        for (filter, to, words) in [
            ("a/#/b", None, "is not a topic filter"),
            ("$share/group/a", None, "every message of the filter"),
            ("a/{gauge}", None, "no level `gauge`; this blueprint has: reach, station"),
            ("a/x{reach}", None, "alone between slashes"),
            ("a/{reach", None, "alone between slashes"),
            ("a/+", Some("b/{2}"), "`{2}` is nothing that the filter catches; it catches {1}"),
            ("a/b", Some("b/{0}"), "it catches nothing"),
            ("a/{reach}", Some("b/{station}"), "it catches {1}, {reach}"),
            ("{reach}/{reach}", Some("b/{reach}"), "twice"),
            ("a/+", Some("b/#"), "ends without one"),
            ("a/#", Some("#/b"), "only stand at the end"),
            ("a/+", Some("b/+"), "write {1}"),
            ("a/+", Some(""), "can't be the name"),
            ("a/+", Some("$SYS/{1}"), "can't be the name"),
        ] {
            let error = Mapping::parse(filter, to, &levels()).unwrap_err().to_string();
            assert!(error.contains(words), "{filter} as {to:?}: {error}");
        }
    }

    #[test]
    fn what_is_lost_on_the_way_is_seen() {
        for (filter, to, joins) in [
            ("a/+/b", None, false),
            ("a/+/b", Some("c/{1}"), false),
            ("a/+/b", Some("c"), true),
            ("a/+/#", Some("c/#"), true),
            ("a/+/#", Some("{1}/#"), false),
            ("a/#", Some("c"), true),
        ] {
            assert_eq!(mapping(filter, to).joins_topics(), joins, "{filter} as {to:?}");
        }
    }

    fn name() -> impl Strategy<Value = String> {
        proptest::collection::vec(prop_oneof!["a", "b", "gorge", "tidal", ""], 1..5)
            .prop_map(|levels| levels.join("/"))
            .prop_filter("a name is not empty", |name| !name.is_empty())
    }

    pub(in crate::bridge) fn any_mapping() -> impl Strategy<Value = Mapping> {
        let filter = proptest::collection::vec(prop_oneof!["a", "b", "\\+", "\\{reach\\}"], 0..4);
        let to = proptest::collection::vec(prop_oneof!["a", "b", "\\{1\\}", "\\{2\\}"], 0..4);
        (filter, any::<bool>(), proptest::option::of(to), any::<bool>())
            .prop_map(|(mut filter, open, to, rest)| {
                if open {
                    filter.push("#".into());
                }
                let to = to.map(|mut to| {
                    if rest && open {
                        to.push("#".into());
                    }
                    to.join("/")
                });
                Mapping::parse(&filter.join("/"), to.as_deref(), &levels())
            })
            .prop_filter_map("it is a mapping", Result::ok)
    }

    proptest! {
        #[test]
        fn sets_and_filters_say_the_same_as_the_mapping(mapping in any_mapping(), name in name()) {
            let name = topic(&name);
            let mapped = mapping.apply(&name);
            prop_assert_eq!(mapping.topics().holds(&name), mapped != Mapped::NotTaken);
            if mapped != Mapped::NotTaken {
                prop_assert!(mapping.filter().matches(&name));
            }
            if let Mapped::To(to) = mapped {
                prop_assert!(mapping.image().holds(&to), "{} is not in {}", to, mapping.image());
            }
        }

        #[test]
        fn topics_stay_apart_unless_it_is_said(mapping in any_mapping(), one in name(), other in name()) {
            let (one, other) = (topic(&one), topic(&other));
            if let (Mapped::To(a), Mapped::To(b)) = (mapping.apply(&one), mapping.apply(&other))
                && one != other
                && !mapping.joins_topics()
            {
                // A level may be empty, so where levels and a rest are joined, another split may read the same.
                prop_assert_ne!(a, b);
            }
        }
    }
}
