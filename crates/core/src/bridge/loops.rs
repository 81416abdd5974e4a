//! Whether messages can go round: pushed under one name, pulled back under another, and pushed again.
//!
//! Names are followed as terms: levels that are known and levels that may be anything, and what a `#` catches. Each
//! mapping narrows them to what it takes and puts them together anew. A chain that comes back to a mapping that it has
//! passed is a cycle, and what the unknown levels were narrowed to gives an example of it.

use std::{fmt, sync::Arc};

use moorfall_wire::TopicName;

use super::{
    Direction, Mapping,
    mapping::{Made, Taken},
};
use crate::{Level, Values};

/// Steps of the search, after which it is given up.
const STEPS: u32 = 20_000;

/// One mapping that a message passes on its way round.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Passage {
    /// Which way.
    pub direction: Direction,
    /// Which of the mappings of that way, from 0.
    pub mapping: usize,
    /// The topic before.
    pub from: TopicName,
    /// The topic behind.
    pub to: TopicName,
}

/// A way on which messages go round.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Cycle {
    /// What is passed, the first one twice: at the beginning and at the end.
    pub passages: Vec<Passage>,
}

impl fmt::Display for Cycle {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (place, passage) in self.passages.iter().enumerate() {
            if place == 0 {
                write!(f, "{}", passage.from)?;
            }
            write!(f, " is {} as {}", passage.direction.done(), passage.to)?;
            if place + 1 < self.passages.len() {
                f.write_str(", which")?;
            }
        }
        Ok(())
    }
}

/// The search was given up.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("there are too many mappings that may feed each other")]
pub struct Undecided;

/// A way on which messages go round, if there is one.
///
/// # Errors
///
/// It can't be told within a bounded number of steps.
pub fn find_cycle(push: &[Mapping], pull: &[Mapping]) -> Result<Option<Cycle>, Undecided> {
    let mut search = Search { push, pull, steps: STEPS };
    for place in 0..push.len() {
        if let Some(cycle) = search.from(place)? {
            return Ok(Some(cycle));
        }
    }
    Ok(None)
}

#[derive(Clone, Debug)]
enum Part {
    Text(Box<str>),
    /// A level that is not known, by its number.
    Unknown(usize),
}

/// A name: its levels, and what goes on behind them.
#[derive(Clone, Debug)]
struct Term {
    parts: Vec<Part>,
    /// The rest that the first filter's `#` catches goes on behind, from this level of it.
    rest: Option<usize>,
}

/// What is known of what is not known.
#[derive(Clone, Debug, Default)]
struct World {
    levels: Vec<Unknown>,
    /// Levels of the rest that were looked at.
    rest: Vec<Part>,
    /// Nothing goes on behind those.
    rest_ends: bool,
}

#[derive(Clone, Debug)]
enum Unknown {
    /// It may be what all of these hold.
    Within(Vec<Arc<Level>>),
    Known(Box<str>),
}

struct Search<'a> {
    push: &'a [Mapping],
    pull: &'a [Mapping],
    steps: u32,
}

/// What was passed so far: each mapping with the names before it; the newest name is the last.
type Path = Vec<(Direction, usize, Term)>;

impl Search<'_> {
    fn from(&mut self, start: usize) -> Result<Option<Cycle>, Undecided> {
        let mut world = World::default();
        let first = Term { parts: Vec::new(), rest: Some(0) };
        let Some(next) = world.pass(&self.push[start], &first) else { return Ok(None) };
        self.on(&world, vec![(Direction::Push, start, first)], next)
    }

    fn on(&mut self, world: &World, path: Path, name: Term) -> Result<Option<Cycle>, Undecided> {
        let (direction, mappings) = match path.last() {
            Some((Direction::Push, ..)) => (Direction::Pull, self.pull),
            _ => (Direction::Push, self.push),
        };
        for (place, mapping) in mappings.iter().enumerate() {
            self.steps = self.steps.checked_sub(1).ok_or(Undecided)?;
            let mut narrowed = world.clone();
            let Some(next) = narrowed.pass(mapping, &name) else { continue };
            let mut further = path.clone();
            further.push((direction, place, name.clone()));
            let (first_direction, first, _) = &path[0];
            if (*first_direction, *first) == (direction, place) {
                return Ok(narrowed.example(&further, &next));
            }
            // One that is pulled may be led to by several that are pushed.
            let is_again =
                direction == Direction::Push && path.iter().any(|(way, known, _)| (*way, *known) == (direction, place));
            if is_again {
                // A cycle, but not through the first: it is found from there.
                continue;
            }
            if let Some(cycle) = self.on(&narrowed, further, next)? {
                return Ok(Some(cycle));
            }
        }
        Ok(None)
    }
}

impl World {
    fn unknown(&mut self) -> Part {
        self.levels.push(Unknown::Within(Vec::new()));
        Part::Unknown(self.levels.len() - 1)
    }

    /// A name with what is known by now.
    fn resolved(&self, name: &Term) -> Term {
        let rest = name.rest.map_or(&[][..], |from| &self.rest[from..]);
        let parts = name.parts.iter().chain(rest).map(|part| match part {
            Part::Unknown(number) => match &self.levels[*number] {
                Unknown::Known(text) => Part::Text(text.clone()),
                Unknown::Within(_) => part.clone(),
            },
            Part::Text(_) => part.clone(),
        });
        Term { parts: parts.collect(), rest: name.rest.filter(|_| !self.rest_ends).map(|_| self.rest.len()) }
    }

    /// Narrows what is known to what the mapping takes; gives the new name, or `None` if it can't take any.
    fn pass(&mut self, mapping: &Mapping, name: &Term) -> Option<Term> {
        let mut known = self.resolved(name);
        while known.parts.len() < mapping.levels.len() {
            known.rest.as_mut().map(|from| *from += 1)?;
            let part = self.unknown();
            self.rest.push(part.clone());
            known.parts.push(part);
        }
        if !mapping.open {
            if known.parts.len() > mapping.levels.len() {
                return None;
            }
            self.rest_ends |= known.rest.take().is_some();
        }
        for (place, (level, part)) in mapping.levels.iter().zip(&known.parts).enumerate() {
            let is_good = match part {
                Part::Text(text) => {
                    let is_hidden = place == 0 && text.starts_with('$') && !matches!(level, Taken::Text(_));
                    !is_hidden && level.takes(text)
                }
                Part::Unknown(number) => self.narrow(*number, level),
            };
            if !is_good {
                return None;
            }
        }
        let Some(template) = &mapping.template else { return Some(known) };
        let made = template.levels.iter().map(|made| match made {
            Made::Text(text) => Part::Text(text.clone()),
            Made::Level(place) => known.parts[*place].clone(),
        });
        let behind = if template.rest { &known.parts[mapping.levels.len()..] } else { &[] };
        let new =
            Term { parts: made.chain(behind.iter().cloned()).collect(), rest: known.rest.filter(|_| template.rest) };
        (!new.parts.is_empty() || new.rest.is_some()).then_some(new)
    }

    /// Whether an unknown level may be what `level` takes; it is that from now on.
    fn narrow(&mut self, number: usize, level: &Taken) -> bool {
        match (&mut self.levels[number], level) {
            (_, Taken::Any) => true,
            (Unknown::Known(text), level) => level.takes(text),
            (unknown, Taken::Text(text)) => {
                let may = matches!(unknown, Unknown::Within(within) if within.iter().all(|level| level.holds(text)));
                *unknown = Unknown::Known(text.clone());
                may
            }
            (Unknown::Within(within), Taken::Named(level)) => {
                within.push(Arc::clone(level));
                example_of(within).is_some()
            }
        }
    }

    /// The names of a way, as an example: what may be anything gets a name. `None` if none of them is a topic.
    fn example(&mut self, path: &Path, last: &Term) -> Option<Cycle> {
        let names: Vec<&Term> = path.iter().map(|(.., name)| name).chain([last]).collect();
        let is_empty = |name: &&Term| self.resolved(name).parts.is_empty();
        if !self.rest_ends && names.iter().any(is_empty) {
            let part = self.unknown();
            self.rest.push(part);
        }
        self.rest_ends = true;
        let mut free = 0;
        for level in &mut self.levels {
            if let Unknown::Within(within) = level {
                free += usize::from(within.is_empty());
                let value = if within.is_empty() { format!("x{free}") } else { example_of(within)? };
                *level = Unknown::Known(value.into());
            }
        }
        let topics = names.into_iter().map(|name| {
            let parts = self.resolved(name).parts;
            let levels = parts.iter().map(|part| if let Part::Text(text) = part { text } else { "" });
            TopicName::new(levels.collect::<Vec<_>>().join("/")).ok().filter(|topic| !topic.is_hidden())
        });
        let topics: Vec<TopicName> = topics.collect::<Option<_>>()?;
        let passages = path.iter().zip(topics.windows(2)).map(|((direction, mapping, _), topics)| Passage {
            direction: *direction,
            mapping: *mapping,
            from: topics[0].clone(),
            to: topics[1].clone(),
        });
        Some(Cycle { passages: passages.collect() })
    }
}

/// A value that all of these hold; of patterns only their names.
fn example_of(within: &[Arc<Level>]) -> Option<String> {
    let listed =
        within.iter().find_map(|level| if let Values::OneOf(values) = &level.values { Some(values) } else { None });
    if let Some(values) = listed {
        return values.iter().find(|value| within.iter().all(|level| level.holds(value))).cloned();
    }
    let pattern = within.iter().find(|level| matches!(level.values, Values::Pattern(_)));
    Some(pattern.map_or_else(|| within[0].name.clone(), |level| format!("{{{}}}", level.name)))
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use proptest::prelude::*;

    use super::*;
    use crate::bridge::{Mapped, mapping::tests::any_mapping};

    fn mapping(filter: &str, to: Option<&str>) -> Mapping {
        let level = |name: &str, values: &[&str]| {
            let values = Values::OneOf(values.iter().map(|value| (*value).to_owned()).collect());
            (name.to_owned(), Arc::new(Level { name: name.into(), values }))
        };
        let levels: BTreeMap<_, _> = [level("upper", &["gorge", "moor"]), level("lower", &["tidal", "meadows"])].into();
        Mapping::parse(filter, to, &levels).unwrap()
    }

    fn cycle(push: &[(&str, Option<&str>)], pull: &[(&str, Option<&str>)]) -> Option<String> {
        let read = |mappings: &[(&str, Option<&str>)]| -> Vec<Mapping> {
            mappings.iter().map(|(filter, to)| mapping(filter, *to)).collect()
        };
        find_cycle(&read(push), &read(pull)).unwrap().map(|cycle| cycle.to_string())
    }

    #[test]
    fn what_goes_round_is_named_topic_by_topic() {
        for (push, pull, words) in [
            (
                vec![("levels/#", Some("river/#"))],
                vec![("river/#", Some("levels/#"))],
                "levels is pushed as river, which is pulled as levels, which is pushed as river",
            ),
            (
                vec![("a/+/level", Some("b/{1}/level"))],
                vec![("b/#", Some("a/#"))],
                "a/x1/level is pushed as b/x1/level, which is pulled as a/x1/level, which is pushed as b/x1/level",
            ),
            // It grows on the way.
            (
                vec![("a/#", Some("a/x/#"))],
                vec![("a/#", None)],
                "a is pushed as a/x, which is pulled as a/x, which is pushed as a/x/x",
            ),
            (
                vec![("a/{upper}", Some("b/{1}"))],
                vec![("b/+", Some("a/{1}"))],
                "a/gorge is pushed as b/gorge, which is pulled as a/gorge, which is pushed as b/gorge",
            ),
            // Two of one way share one of the other.
            (
                vec![("+", Some("a/b")), ("+/b", Some("a"))],
                vec![("#", None)],
                "x1 is pushed as a/b, which is pulled as a/b, which is pushed as a, which is pulled as a, which is pushed as a/b",
            ),
            // By two mappings of each way.
            (
                vec![("a/#", Some("b/#")), ("c/#", Some("d/#"))],
                vec![("b/#", Some("c/#")), ("d/#", Some("a/#"))],
                "a is pushed as b, which is pulled as c, which is pushed as d, which is pulled as a, which is pushed as b",
            ),
        ] {
            assert_eq!(cycle(&push, &pull).as_deref(), Some(words));
        }
    }

    #[test]
    fn what_does_not_go_round_is_let_through() {
        for (push, pull) in [
            (vec![("river/#", None)], vec![("tideway/#", None)]),
            (vec![("river/#", None)], vec![("tideway/#", Some("harrowmere/tidal/#"))]),
            (vec![("+/level", Some("river/{1}/level"))], vec![("river/#", None)]),
            // The levels have no value in common.
            (vec![("a/{upper}", None)], vec![("a/{lower}", None)]),
            (vec![("a/gorge", None)], vec![("a/{lower}", None)]),
            // Pushed a second time, but as something that nobody pulls.
            (vec![("a/#", Some("b/#")), ("c/#", Some("d/#"))], vec![("b/#", Some("c/#"))]),
            (vec![("#", Some("x/#"))], vec![]),
        ] {
            assert_eq!(cycle(&push, &pull), None, "{push:?} {pull:?}");
        }
    }

    /// The way of one topic, each message taken by every mapping: whether it is pushed by one twice.
    fn goes_round(push: &[Mapping], pull: &[Mapping], topic: &TopicName) -> bool {
        fn on(ways: [(&[Mapping], Direction); 2], topic: &TopicName, passed: &[(Direction, usize)]) -> bool {
            let [(mappings, direction), other] = ways;
            mappings.iter().enumerate().any(|(place, mapping)| match mapping.apply(topic) {
                Mapped::To(_) if direction == Direction::Push && passed.contains(&(direction, place)) => true,
                Mapped::To(next) => {
                    on([other, (mappings, direction)], &next, &[passed, &[(direction, place)]].concat())
                }
                Mapped::NotTaken | Mapped::Nameless => false,
            })
        }
        on([(push, Direction::Push), (pull, Direction::Pull)], topic, &[])
    }

    proptest! {
        #[test]
        fn no_topic_goes_round_unless_it_is_found(
            push in proptest::collection::vec(any_mapping(), 1..3),
            pull in proptest::collection::vec(any_mapping(), 1..3),
            levels in proptest::collection::vec(prop_oneof!["a", "b", "gorge"], 1..5),
        ) {
            let topic: TopicName = levels.join("/").parse().unwrap();
            if goes_round(&push, &pull, &topic) {
                prop_assert!(find_cycle(&push, &pull).unwrap().is_some(), "{} goes round", topic);
            }
        }

        #[test]
        fn what_is_found_is_so(
            push in proptest::collection::vec(any_mapping(), 1..3),
            pull in proptest::collection::vec(any_mapping(), 1..3),
        ) {
            let Some(cycle) = find_cycle(&push, &pull).unwrap() else { return Ok(()) };
            for passage in &cycle.passages {
                let mappings = if passage.direction == Direction::Push { &push } else { &pull };
                let mapped = mappings[passage.mapping].apply(&passage.from);
                prop_assert_eq!(mapped, Mapped::To(passage.to.clone()), "{}", cycle);
            }
            let ends = |passage: &Passage| (passage.direction, passage.mapping);
            prop_assert_eq!(ends(&cycle.passages[0]), ends(cycle.passages.last().unwrap()));
        }
    }
}
