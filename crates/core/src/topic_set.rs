//! Sets of topics: filters in which a level may also stand for named values. They can be intersected, and one can be
//! asked whether others cover it, which is what access rules and their proofs rest on.

use std::{
    collections::BTreeSet,
    fmt,
    sync::{Arc, LazyLock},
};

use regex::Regex;
use regex_automata::{Anchored, Input, hybrid::dfa::DFA};

/// A named place in the topic hierarchy.
#[derive(Clone, Debug, PartialEq)]
pub struct Level {
    /// Its name, written `{name}` in a path.
    pub name: String,
    /// What may stand there.
    pub values: Values,
}

/// What may stand in a level.
#[derive(Clone, Debug)]
pub enum Values {
    /// Anything.
    Free,
    /// One of these.
    OneOf(BTreeSet<String>),
    /// What matches, from beginning to end.
    Pattern(Regex),
}

impl PartialEq for Values {
    fn eq(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Free, Self::Free) => true,
            (Self::OneOf(one), Self::OneOf(other)) => one == other,
            (Self::Pattern(one), Self::Pattern(other)) => one.as_str() == other.as_str(),
            _ => false,
        }
    }
}

impl Level {
    /// Whether a value that begins with `$` may stand there. A level of which nothing is said is as a wildcard, which
    /// leaves such values out at the first level of a topic (§4.7.2).
    fn may_be_hidden(&self) -> bool {
        match &self.values {
            Values::Free => false,
            Values::OneOf(values) => values.iter().any(|value| is_hidden(value)),
            Values::Pattern(pattern) => may_begin(pattern.as_str(), b'$'),
        }
    }

    /// Whether `value` may stand there.
    pub fn holds(&self, value: &str) -> bool {
        match &self.values {
            Values::Free => true,
            Values::OneOf(values) => values.contains(value),
            Values::Pattern(pattern) => pattern.is_match(value),
        }
    }
}

/// One level of a set of topics.
#[derive(Clone, Debug)]
pub enum Segment {
    /// Any value.
    Any,
    /// One value.
    One(Box<str>),
    /// One of several values.
    OneOf(BTreeSet<String>),
    /// What all of these levels hold; they are told by patterns.
    Matching(Vec<Arc<Level>>),
}

impl From<&Arc<Level>> for Segment {
    fn from(level: &Arc<Level>) -> Self {
        match &level.values {
            Values::Free => Self::Any,
            Values::OneOf(values) => Self::OneOf(values.clone()),
            Values::Pattern(_) => Self::Matching(vec![Arc::clone(level)]),
        }
    }
}

impl Segment {
    fn holds(&self, value: &str) -> bool {
        match self {
            Self::Any => true,
            Self::One(one) => **one == *value,
            Self::OneOf(values) => values.contains(value),
            Self::Matching(levels) => levels.iter().all(|level| level.holds(value)),
        }
    }

    /// The same at the first level of a topic, where wildcards leave out what begins with `$`.
    fn intersect_first(&self, other: &Self) -> Option<Self> {
        match (self, other) {
            (Self::Any, other) | (other, Self::Any) => other.visible(),
            _ => self.intersect(other),
        }
    }

    /// Without the values that begin with `$`.
    fn visible(&self) -> Option<Self> {
        match self {
            Self::Any => Some(Self::Any),
            Self::One(value) => (!is_hidden(value)).then(|| self.clone()),
            Self::OneOf(values) => {
                let values: BTreeSet<_> = values.iter().filter(|value| !is_hidden(value)).cloned().collect();
                (!values.is_empty()).then_some(Self::OneOf(values))
            }
            Self::Matching(levels) if levels.iter().all(|level| level.may_be_hidden()) => {
                let mut levels = levels.clone();
                levels.push(Arc::clone(&VISIBLE));
                Some(Self::Matching(levels))
            }
            Self::Matching(_) => Some(self.clone()),
        }
    }

    /// Without the empty value, if that can be told.
    fn without_empty(&self) -> Option<Self> {
        match self {
            Self::One(value) => (!value.is_empty()).then(|| self.clone()),
            Self::OneOf(values) => {
                let values: BTreeSet<_> = values.iter().filter(|value| !value.is_empty()).cloned().collect();
                (!values.is_empty()).then_some(Self::OneOf(values))
            }
            Self::Any | Self::Matching(_) => Some(self.clone()),
        }
    }

    /// Only with the values that begin with `$`, of which a wildcard has none.
    fn hidden(&self) -> Option<Self> {
        match self {
            Self::Any => None,
            Self::One(value) => is_hidden(value).then(|| self.clone()),
            Self::OneOf(values) => {
                let values: BTreeSet<_> = values.iter().filter(|value| is_hidden(value)).cloned().collect();
                (!values.is_empty()).then_some(Self::OneOf(values))
            }
            Self::Matching(levels) => levels.iter().all(|level| level.may_be_hidden()).then(|| self.clone()),
        }
    }

    fn intersect(&self, other: &Self) -> Option<Self> {
        let common = match (self, other) {
            (Self::Any, segment) | (segment, Self::Any) => return Some(segment.clone()),
            (Self::One(value), segment) | (segment, Self::One(value)) => {
                return segment.holds(value).then(|| Self::One(value.clone()));
            }
            (Self::OneOf(values), segment) | (segment, Self::OneOf(values)) => {
                values.iter().filter(|value| segment.holds(value)).cloned().collect::<BTreeSet<_>>()
            }
            (Self::Matching(one), Self::Matching(other)) => {
                let mut all = one.clone();
                all.extend(other.iter().filter(|level| !one.iter().any(|known| known.name == level.name)).cloned());
                return Some(Self::Matching(all));
            }
        };
        (!common.is_empty()).then_some(Self::OneOf(common))
    }

    /// A value for an example, and whether it is a real one.
    fn example(&self) -> String {
        match self {
            Self::Any => "anything".into(),
            Self::One(value) => value.to_string(),
            Self::OneOf(values) => values.first().cloned().unwrap_or_default(),
            Self::Matching(levels) => braced(&levels[0].name),
        }
    }
}

/// A level as it stands in a path; one that is put together has its braces already.
fn braced(name: &str) -> String {
    if name.contains('{') { name.to_owned() } else { format!("{{{name}}}") }
}

impl fmt::Display for Segment {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Any => f.write_str("+"),
            Self::One(value) => f.write_str(value),
            Self::OneOf(values) => {
                let values: Vec<&str> = values.iter().map(String::as_str).collect();
                write!(f, "({})", values.join("|"))
            }
            Self::Matching(levels) => f.write_str(&braced(&levels[0].name)),
        }
    }
}

/// A set of topics.
#[derive(Clone, Debug)]
pub struct TopicSet {
    segments: Vec<Segment>,
    /// Whether topics may go on below, as with a `#` at the end.
    open: bool,
}

impl fmt::Display for TopicSet {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (index, segment) in self.segments.iter().enumerate() {
            write!(f, "{}{segment}", if index == 0 { "" } else { "/" })?;
        }
        match (self.open, self.segments.is_empty()) {
            (true, true) => f.write_str("#"),
            (true, false) => f.write_str("/#"),
            _ => Ok(()),
        }
    }
}

/// Steps of a proof of covering, after which it is given up: the answer is then that nothing is proved.
const STEPS: u32 = 50_000;

/// What does not begin with `$`.
static VISIBLE: LazyLock<Arc<Level>> = LazyLock::new(|| {
    let pattern = Regex::new(r"^(?:[^$][\s\S]*)?$").expect("the pattern is good");
    Arc::new(Level { name: "a value without $".into(), values: Values::Pattern(pattern) })
});

/// Whether something that begins with this byte may match a pattern. When that can't be told, it may.
fn may_begin(pattern: &str, first: u8) -> bool {
    let begins = || {
        let dfa = DFA::new(pattern).ok()?;
        let mut cache = dfa.create_cache();
        let input = Input::new(std::slice::from_ref(&first)).anchored(Anchored::Yes);
        let start = dfa.start_state_forward(&mut cache, &input).ok()?;
        Some(!dfa.next_state(&mut cache, start, first).ok()?.is_dead())
    };
    begins().unwrap_or(true)
}

/// Whether wildcards do not match this at the first level (§4.7.2).
fn is_hidden(value: &str) -> bool {
    value.starts_with('$')
}

impl TopicSet {
    /// A set of these levels; `open` for a `#` behind them.
    pub fn new(segments: Vec<Segment>, open: bool) -> Self {
        Self { segments, open }
    }

    /// The topics that a filter matches. It is not one of a shared subscription.
    pub fn of_filter(filter: &str) -> Self {
        let (levels, open) = match filter.strip_suffix('#') {
            Some("") => return Self::new(Vec::new(), true),
            Some(before) => (before.strip_suffix('/').unwrap_or(before), true),
            None => (filter, false),
        };
        let segment = |level: &str| if level == "+" { Segment::Any } else { Segment::One(level.into()) };
        Self::new(levels.split('/').map(segment).collect(), open)
    }

    /// Its levels.
    pub fn segments(&self) -> &[Segment] {
        &self.segments
    }

    /// Whether topics may go on below its levels.
    pub fn is_open(&self) -> bool {
        self.open
    }

    /// Whether it holds the topic.
    pub fn holds(&self, topic: &str) -> bool {
        if is_hidden(topic) && matches!(self.segments.first(), None | Some(Segment::Any)) {
            return false;
        }
        let mut levels = topic.split('/');
        for segment in &self.segments {
            let Some(level) = levels.next() else { return false };
            if !segment.holds(level) {
                return false;
            }
        }
        self.open || levels.next().is_none()
    }

    /// The topics that both hold; `None` if there is none.
    pub fn intersect(&self, other: &Self) -> Option<Self> {
        let (short, long) = if self.segments.len() <= other.segments.len() { (self, other) } else { (other, self) };
        if short.segments.len() < long.segments.len() && !short.open {
            return None;
        }
        let both =
            short.segments.iter().zip(&long.segments).enumerate().map(|(place, (one, other))| {
                if place == 0 { one.intersect_first(other) } else { one.intersect(other) }
            });
        let mut segments = both.collect::<Option<Vec<_>>>()?;
        segments.extend_from_slice(&long.segments[short.segments.len()..]);
        // `#` alone leaves out what begins with `$`, too.
        if short.segments.is_empty()
            && let Some(first) = segments.first_mut()
        {
            *first = first.visible()?;
        }
        Some(Self { segments, open: short.open && long.open })
    }

    /// A topic of this set that none of `others` holds; `None` if there is none. What patterns match is not compared:
    /// a level told by a pattern is covered by itself or by any value, and so an example may be given that is none.
    pub fn outside<'a>(&self, others: impl IntoIterator<Item = &'a Self>) -> Option<String> {
        let others: Vec<&Self> = others.into_iter().collect();
        let mut steps = STEPS;
        // A topic has at least one level. Values that begin with `$` are looked at apart: wildcards leave them out.
        let first = self.segments.first().unwrap_or(&Segment::Any);
        let rest = self.segments.get(1..).unwrap_or_default();
        let wild = |set: &&&Self| matches!(set.segments.first(), None | Some(Segment::Any));
        let mut look = |first: Segment, others: &[&Self]| {
            let segments: Vec<Segment> = std::iter::once(first).chain(rest.iter().cloned()).collect();
            let alive: Vec<Rest<'_>> =
                others.iter().map(|set| Rest { segments: &set.segments, open: set.open }).collect();
            let set = Rest { segments: &segments, open: self.open };
            let path = match segments[0].without_empty() {
                // No topic is empty; what goes on below it is one.
                rest if segments.len() == 1 && segments[0].holds("") && !matches!(segments[0], Segment::Any) => {
                    let below = [Segment::One("".into()), Segment::Any];
                    let below = Rest { segments: &below, open: true };
                    let of_rest = rest.and_then(|rest| outside(Rest { segments: &[rest], ..set }, &alive, &mut steps));
                    of_rest.or_else(|| self.open.then(|| outside(below, &alive, &mut steps)).flatten())
                }
                _ => outside(set, &alive, &mut steps),
            };
            let mut path = path?;
            path.reverse();
            Some(path.join("/"))
        };
        let visible = first.visible().and_then(|first| look(first, &others));
        visible.or_else(|| {
            let named: Vec<&Self> = others.iter().filter(|set| !wild(set)).copied().collect();
            look(first.hidden()?, &named)
        })
    }

    /// A topic of this set.
    pub fn example(&self) -> String {
        let levels: Vec<String> = self.segments.iter().map(Segment::example).collect();
        if levels.is_empty() { "anything".into() } else { levels.join("/") }
    }
}

/// What is left of a set behind the levels that were compared.
#[derive(Clone, Copy)]
struct Rest<'a> {
    segments: &'a [Segment],
    open: bool,
}

/// The levels, last first, of a topic that is in `set` and in none of `others`.
fn outside(set: Rest<'_>, others: &[Rest<'_>], steps: &mut u32) -> Option<Vec<String>> {
    if *steps == 0 {
        return Some(vec!["…".into()]);
    }
    *steps -= 1;
    if others.iter().any(|other| other.segments.is_empty() && other.open) {
        return None;
    }
    let Some((head, tail)) = set.segments.split_first() else {
        if !others.iter().any(|other| other.segments.is_empty()) {
            return Some(Vec::new());
        }
        if !set.open {
            return None;
        }
        // Everything below, too: no value is left out by all, so only a wildcard covers the next level.
        return below(&Segment::Any, set, others, steps);
    };
    let rest = Rest { segments: tail, open: set.open };
    match head {
        Segment::One(value) => beneath(value, rest, others, steps),
        Segment::OneOf(values) => values.iter().find_map(|value| beneath(value, rest, others, steps)),
        Segment::Any | Segment::Matching(_) => below(head, rest, others, steps),
    }
}

/// The same where the next level has this value.
fn beneath(value: &str, rest: Rest<'_>, others: &[Rest<'_>], steps: &mut u32) -> Option<Vec<String>> {
    let alive = advance(others, |segment| segment.holds(value));
    let mut path = outside(rest, &alive, steps)?;
    path.push(value.to_owned());
    Some(path)
}

/// The same where the next level has a value that nobody names. Values that somebody names are covered by no fewer.
fn below(head: &Segment, rest: Rest<'_>, others: &[Rest<'_>], steps: &mut u32) -> Option<Vec<String>> {
    let alive = advance(others, |segment| match (segment, head) {
        (Segment::Any, _) => true,
        (Segment::Matching(theirs), Segment::Matching(ours)) => {
            theirs.iter().all(|level| ours.iter().any(|our| our.name == level.name))
        }
        _ => false,
    });
    let mut path = outside(rest, &alive, steps)?;
    path.push(head.example());
    Some(path)
}

fn advance<'a>(others: &[Rest<'a>], mut goes_on: impl FnMut(&Segment) -> bool) -> Vec<Rest<'a>> {
    let heads = others.iter().filter_map(|other| Some((other.segments.split_first()?, other.open)));
    heads.filter(|((head, _), _)| goes_on(head)).map(|((_, segments), open)| Rest { segments, open }).collect()
}

#[cfg(test)]
mod tests {
    use moorfall_wire::{TopicFilter, TopicName};
    use proptest::prelude::*;

    use super::*;

    fn level(name: &str, values: Values) -> Arc<Level> {
        Arc::new(Level { name: name.into(), values })
    }

    fn one_of(values: &[&str]) -> Segment {
        Segment::OneOf(values.iter().map(|value| (*value).into()).collect())
    }

    fn pattern(name: &str, pattern: &str) -> Segment {
        (&level(name, Values::Pattern(Regex::new(pattern).unwrap()))).into()
    }

    fn one(value: &str) -> Segment {
        Segment::One(value.into())
    }

    /// Few values, so that sets meet often.
    fn segment() -> impl Strategy<Value = Segment> {
        prop_oneof![
            2 => Just(Segment::Any),
            4 => prop::sample::select(vec!["a", "b", "$d", ""]).prop_map(one),
            2 => prop::sample::subsequence(vec!["a", "b", "$d", ""], 1..3).prop_map(|values| one_of(&values)),
            1 => Just(pattern("p", "^[ab]+$")),
            1 => Just(pattern("q", "^(?:a|\\$d)$")),
        ]
    }

    fn set() -> impl Strategy<Value = TopicSet> {
        (prop::collection::vec(segment(), 0..4), any::<bool>())
            .prop_filter("a topic has a level", |(segments, open)| *open || !segments.is_empty())
            .prop_map(|(segments, open)| TopicSet::new(segments, open))
    }

    /// All topics of up to five levels over a few values, one of which nobody names.
    fn topics() -> Vec<String> {
        let values = ["a", "b", "$d", "", "anything"];
        let mut all: Vec<String> = Vec::new();
        let mut longest: Vec<String> = values.iter().map(|value| (*value).into()).collect();
        for _ in 0..4 {
            all.extend_from_slice(&longest);
            longest = longest.iter().flat_map(|topic| values.map(|value| format!("{topic}/{value}"))).collect();
        }
        // No topic is empty.
        all.retain(|topic| !topic.is_empty());
        all
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(96))]

        #[test]
        fn an_intersection_holds_what_both_hold(one in set(), other in set()) {
            let both = one.intersect(&other);
            for topic in topics() {
                let expected = one.holds(&topic) && other.holds(&topic);
                prop_assert_eq!(both.as_ref().is_some_and(|both| both.holds(&topic)), expected, "{} and {}: {}", one, other, topic);
            }
        }

        #[test]
        fn what_is_covered_is_held_by_one_of_the_others(one in set(), others in prop::collection::vec(set(), 0..4)) {
            let outside = one.outside(&others);
            let witness = topics().into_iter().find(|topic| {
                one.holds(topic) && !others.iter().any(|other| other.holds(topic))
            });
            match outside {
                None => prop_assert_eq!(witness, None, "{} is not covered", one),
                // Patterns are not compared, so an example may be none.
                Some(example) if example.contains('{') => {}
                Some(example) => {
                    prop_assert!(one.holds(&example), "{} is not in {}", example, one);
                    let has_pattern = |set: &TopicSet| set.segments.iter().any(|s| matches!(s, Segment::Matching(_)));
                    prop_assert!(
                        !others.iter().any(|other| other.holds(&example)) || others.iter().any(has_pattern),
                        "{} is covered", example
                    );
                }
            }
        }

        #[test]
        fn a_filter_as_a_set_holds_what_it_matches(
            filter in "(a|b|\\+)?(/(a|b|\\+)?){0,3}(/#)?", topic in "(\\$?[abc])?(/[abc]?){0,3}"
        ) {
            prop_assume!(!filter.is_empty() && !topic.is_empty());
            let parsed: TopicFilter = filter.parse().unwrap();
            let name: TopicName = topic.parse().unwrap();
            prop_assert_eq!(TopicSet::of_filter(&filter).holds(&topic), parsed.matches(&name), "{} and {}", filter, topic);
        }
    }

    #[test]
    fn several_cover_together_what_none_covers_alone() {
        let reaches = TopicSet::new(vec![one("harrowmere"), one_of(&["gorge", "tidal"]), Segment::Any], true);
        let gorge = TopicSet::of_filter("harrowmere/gorge/#");
        let tidal = TopicSet::of_filter("harrowmere/tidal/+/#");
        assert_eq!(reaches.outside([&gorge, &tidal]), None);
        assert_eq!(reaches.outside([&gorge]).as_deref(), Some("harrowmere/tidal/anything"));
        assert_eq!(TopicSet::of_filter("harrowmere/#").outside([&reaches]).as_deref(), Some("harrowmere"));
        assert_eq!(
            TopicSet::of_filter("harrowmere/+/x").outside([&gorge, &tidal]).as_deref(),
            Some("harrowmere/anything/x")
        );
    }

    #[test]
    fn a_level_told_by_a_pattern_is_covered_by_itself() {
        let stations = TopicSet::new(vec![one("harrowmere"), pattern("station", "^[a-z-]+$"), one("status")], false);
        let again = TopicSet::new(vec![one("harrowmere"), pattern("station", "^[a-z-]+$")], true);
        assert_eq!(stations.outside([&again]), None);
        assert_eq!(
            TopicSet::of_filter("harrowmere/+/status").outside([&stations]).as_deref(),
            Some("harrowmere/anything/status")
        );
        assert_eq!(TopicSet::of_filter("harrowmere/cold-tor/status").outside([&stations]), None);
    }

    #[test]
    fn hidden_topics_are_not_reached_by_wildcards() {
        let all = TopicSet::of_filter("#");
        let hidden = TopicSet::of_filter("$tideway/#");
        for wild in ["#", "+", "+/level", "+/gate/target"].map(TopicSet::of_filter) {
            assert!(wild.intersect(&hidden).is_none() && hidden.intersect(&wild).is_none(), "{wild}");
        }
        assert_eq!(hidden.outside([&all]).as_deref(), Some("$tideway"));
        assert_eq!(hidden.outside([&hidden]), None);
    }

    #[test]
    fn a_proof_that_would_take_too_long_proves_nothing() {
        let values: Vec<String> = (0..20).map(|number| number.to_string()).collect();
        let values: Vec<&str> = values.iter().map(String::as_str).collect();
        let set = TopicSet::new(vec![one_of(&values); 6], false);
        let others: Vec<_> = values.iter().map(|value| TopicSet::new(vec![Segment::Any, one(value)], true)).collect();
        assert!(set.outside(&others[..19]).is_some());
    }
}
