//! Who may publish and subscribe to what.
//!
//! A [`Policy`] is a blueprint's rules made ready. Binding it to an identity and a client identifier gives that
//! session's [`Access`], which decides. Deny wins; nothing is allowed by default. [`Access::decide`] hands every rule
//! that it considers to an observer, so an explanation is the trace of the decision itself.

use std::{fmt, sync::Arc};

use moorfall_wire::{FilterError, TopicFilter, TopicName};

pub use crate::blueprint::{Act, Effect};
use crate::{
    Identity,
    blueprint::{Blueprint, Rule, Who},
};

/// Why a rule's topic is not a filter.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum PatternError {
    /// A brace without its partner.
    #[error("`{{` and `}}` don't pair up in `{pattern}`")]
    Brace {
        /// The pattern.
        pattern: String,
    },
    /// A name in braces that stands for nothing.
    #[error("`{{{name}}}` is not known; write {{identity}}, {{client_id}} or {{attr.NAME}}")]
    Name {
        /// The name.
        name: String,
    },
    /// Not a topic filter, whatever the names stand for.
    #[error("`{pattern}` is not a topic filter: {error}")]
    Filter {
        /// The pattern.
        pattern: String,
        /// Why.
        error: FilterError,
    },
}

/// A topic filter in which `{identity}`, `{client_id}` and `{attr.NAME}` stand for values of the session.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TopicPattern {
    parts: Vec<Part>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Part {
    Text(String),
    Identity,
    ClientId,
    Attribute(String),
}

impl TopicPattern {
    /// Reads a pattern and checks that it is a filter.
    pub fn parse(pattern: &str) -> Result<Self, PatternError> {
        let brace = || PatternError::Brace { pattern: pattern.into() };
        let mut parts = Vec::new();
        let mut rest = pattern;
        while let Some(open) = rest.find(['{', '}']) {
            let (text, tail) = rest.split_at(open);
            let inner = tail.strip_prefix('{').ok_or_else(brace)?;
            let (name, after) = inner.split_once('}').ok_or_else(brace)?;
            if !text.is_empty() {
                parts.push(Part::Text(text.into()));
            }
            parts.push(match name {
                "identity" => Part::Identity,
                "client_id" => Part::ClientId,
                _ => match name.strip_prefix("attr.") {
                    Some(attribute) if !attribute.is_empty() => Part::Attribute(attribute.into()),
                    _ => return Err(PatternError::Name { name: name.into() }),
                },
            });
            rest = after;
        }
        if !rest.is_empty() {
            parts.push(Part::Text(rest.into()));
        }
        let sample: String = parts.iter().map(|part| if let Part::Text(text) = part { text } else { "x" }).collect();
        TopicFilter::new(sample).map_err(|error| PatternError::Filter { pattern: pattern.into(), error })?;
        Ok(Self { parts })
    }

    /// The filter for one session; `None` if the identity lacks an attribute that the pattern names.
    fn bind(&self, rule: &str, identity: &Identity, client_id: &str) -> Result<Option<TopicFilter>, BindError> {
        let mut text = String::new();
        for part in &self.parts {
            let (name, value) = match part {
                Part::Text(fixed) => {
                    text.push_str(fixed);
                    continue;
                }
                Part::Identity => ("identity".to_owned(), identity.name.to_string()),
                Part::ClientId => ("client_id".to_owned(), client_id.to_owned()),
                Part::Attribute(name) => match identity.attributes.get(name) {
                    Some(value) => (format!("attr.{name}"), value.to_string()),
                    None => return Ok(None),
                },
            };
            // A value must stay inside its level.
            if let Some(character) = value.chars().find(|c| matches!(c, '/' | '+' | '#' | '\0')) {
                return Err(BindError { rule: rule.into(), name, character });
            }
            text.push_str(&value);
        }
        // An empty value could leave an empty filter; it then names no topic at all.
        Ok(TopicFilter::new(text).ok())
    }
}

/// A value of the session would change the meaning of a rule's topic, so the session is not let in.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("the value of {{{name}}} holds {character:?}, which rule `{rule}` can't put into a topic level")]
pub struct BindError {
    /// The rule.
    pub rule: String,
    /// The name in braces.
    pub name: String,
    /// The character.
    pub character: char,
}

/// The rules of a blueprint.
#[derive(Clone, Debug, Default)]
pub struct Policy {
    blueprint: Arc<Blueprint>,
}

impl Policy {
    /// The rules of `blueprint`.
    pub fn new(blueprint: Arc<Blueprint>) -> Self {
        Self { blueprint }
    }

    /// What `identity` may do when it is connected as `client_id`.
    pub fn bind(&self, identity: &Identity, client_id: &str) -> Result<Access, BindError> {
        let mut rules = Vec::new();
        for rule in self.blueprint.rules.iter().filter(|rule| self.concerns(rule, identity)) {
            let mut filters = Vec::new();
            for pattern in &rule.topics {
                filters.extend(pattern.bind(&rule.name, identity, client_id)?);
            }
            rules.push(BoundRule {
                name: rule.name.as_str().into(),
                effect: rule.effect,
                acts: rule.acts.clone(),
                filters,
            });
        }
        Ok(Access { name: Arc::clone(&identity.name), grant: Grant::Rules(rules) })
    }

    fn concerns(&self, rule: &Rule, identity: &Identity) -> bool {
        match &rule.who {
            Who::Everyone => true,
            Who::Identity(name) => **name == *identity.name,
            Who::Cohort(cohort) => self.blueprint.cohorts.get(cohort).is_some_and(|cohort| {
                cohort.with.iter().all(|(name, value)| identity.attributes.get(name) == Some(value))
            }),
        }
    }
}

/// A rule that concerns one session, with its filters filled in.
#[derive(Clone, Debug)]
pub struct BoundRule {
    /// The rule's name.
    pub name: Arc<str>,
    /// Allow or deny.
    pub effect: Effect,
    acts: Vec<Act>,
    filters: Vec<TopicFilter>,
}

/// What one session may do.
#[derive(Clone, Debug)]
pub struct Access {
    name: Arc<str>,
    grant: Grant,
}

#[derive(Clone, Debug)]
enum Grant {
    Everything,
    Rules(Vec<BoundRule>),
}

/// What is asked for: a topic to publish to, or a filter to subscribe to.
#[derive(Clone, Copy, Debug)]
pub enum Request<'a> {
    /// To publish to this topic.
    Publish(&'a TopicName),
    /// To subscribe to this filter. It is granted when one rule allows every topic that it can match.
    Subscribe(&'a TopicFilter),
}

impl Request<'_> {
    fn act(self) -> Act {
        match self {
            Self::Publish(_) => Act::Publish,
            Self::Subscribe(_) => Act::Subscribe,
        }
    }

    fn is_within(self, filter: &TopicFilter) -> bool {
        match self {
            Self::Publish(topic) => filter.matches(topic),
            Self::Subscribe(wanted) => filter.covers(wanted),
        }
    }
}

impl fmt::Display for Request<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Publish(topic) => write!(f, "publish to {topic}"),
            Self::Subscribe(filter) => write!(f, "subscribe to {filter}"),
        }
    }
}

/// How one rule stood to a request.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Considered {
    /// It is about the other act.
    OtherAct,
    /// None of its filters holds the topic or the whole filter.
    OtherTopics,
    /// It applies, so its effect counts.
    Applies,
}

/// The verdict on a request.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Decision {
    /// Allowed; by this rule, or by none when the session may do everything.
    Allowed(Option<Arc<str>>),
    /// Refused by this rule.
    Denied(Arc<str>),
    /// Refused because no rule allows it.
    NotAllowed,
}

impl Decision {
    /// Whether the request is granted.
    pub fn is_allowed(&self) -> bool {
        matches!(self, Self::Allowed(_))
    }
}

impl Access {
    /// Everything is allowed: the administrator, and clients without identity on an open broker.
    pub fn unrestricted(name: &str) -> Self {
        Self { name: name.into(), grant: Grant::Everything }
    }

    /// Who this is about.
    pub fn name(&self) -> &Arc<str> {
        &self.name
    }

    /// Decides a request. `observe` sees each rule that concerns the session, in order, until a rule denies.
    pub fn decide(&self, request: Request<'_>, mut observe: impl FnMut(&BoundRule, Considered)) -> Decision {
        let Grant::Rules(rules) = &self.grant else { return Decision::Allowed(None) };
        let mut decision = Decision::NotAllowed;
        for rule in rules {
            let considered = if !rule.acts.contains(&request.act()) {
                Considered::OtherAct
            } else if rule.filters.iter().any(|filter| request.is_within(filter)) {
                Considered::Applies
            } else {
                Considered::OtherTopics
            };
            observe(rule, considered);
            match (considered, rule.effect) {
                (Considered::Applies, Effect::Deny) => return Decision::Denied(Arc::clone(&rule.name)),
                (Considered::Applies, Effect::Allow) if decision == Decision::NotAllowed => {
                    decision = Decision::Allowed(Some(Arc::clone(&rule.name)));
                }
                _ => {}
            }
        }
        decision
    }

    /// Why a request is decided as it is: a sentence that says who, what and which rule.
    pub fn explain(&self, request: Request<'_>) -> String {
        let mut near = Vec::new();
        let decision = self.decide(request, |rule, considered| {
            if considered == Considered::OtherTopics && rule.effect == Effect::Allow {
                near.extend(rule.filters.iter().map(|filter| format!("{filter} (rule `{}`)", rule.name)));
            }
        });
        let name = &self.name;
        match decision {
            Decision::Allowed(Some(rule)) => format!("{name} may {request}: rule `{rule}` allows it"),
            Decision::Allowed(None) => format!("{name} may {request}: no rule limits {name}"),
            Decision::Denied(rule) => format!("{name} may not {request}: rule `{rule}` denies it"),
            Decision::NotAllowed => {
                let act = if request.act() == Act::Publish { "publish" } else { "subscribe" };
                let instead = match near.as_slice() {
                    [] => format!("{name} may {act} nothing"),
                    some => format!("{name} may {act} {}", some.join(", ")),
                };
                format!("{name} may not {request}: no rule allows it; {instead}")
            }
        }
    }

    /// Whether a message that a granted filter matches is kept back, because a rule denies that topic.
    pub fn withholds(&self, topic: &TopicName) -> bool {
        let Grant::Rules(rules) = &self.grant else { return false };
        rules.iter().any(|rule| {
            rule.effect == Effect::Deny
                && rule.acts.contains(&Act::Subscribe)
                && rule.filters.iter().any(|filter| filter.matches(topic))
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::AttributeValue;

    const BLUEPRINT: &str = r##"
        name = "harrowmere"
        [cohorts.stations]
        with = { kind = "station" }
        [[rules]]
        name = "stations-report"
        who = { cohort = "stations" }
        may = ["publish"]
        topics = ["harrowmere/{attr.reach}/{identity}/#"]
        [[rules]]
        name = "all-read"
        who = "everyone"
        may = ["subscribe"]
        topics = ["harrowmere/#"]
        [[rules]]
        name = "auditor-never-writes"
        effect = "deny"
        who = { identity = "auditor" }
        may = ["publish"]
        topics = ["#"]
        [[rules]]
        name = "gates-are-private"
        effect = "deny"
        who = { identity = "auditor" }
        may = ["subscribe"]
        topics = ["harrowmere/+/+/gate/#"]
    "##;

    fn identity(name: &str, attributes: &[(&str, &str)]) -> Identity {
        let attributes =
            attributes.iter().map(|(name, value)| ((*name).into(), AttributeValue::Text((*value).into()))).collect();
        Identity { name: name.into(), attributes }
    }

    fn access(identity: &Identity) -> Result<Access, BindError> {
        Policy::new(Blueprint::parse(BLUEPRINT).unwrap().into()).bind(identity, "client-1")
    }

    fn publish(access: &Access, topic: &str) -> Decision {
        access.decide(Request::Publish(&topic.parse().unwrap()), |_, _| {})
    }

    fn subscribe(access: &Access, filter: &str) -> Decision {
        access.decide(Request::Subscribe(&filter.parse().unwrap()), |_, _| {})
    }

    #[test]
    fn nothing_is_allowed_by_default() {
        let nobody = Policy::default().bind(&identity("cold-tor", &[]), "client-1").unwrap();
        assert_eq!(publish(&nobody, "harrowmere/high-moor/cold-tor/status"), Decision::NotAllowed);
        assert_eq!(subscribe(&nobody, "harrowmere/#"), Decision::NotAllowed);
    }

    #[test]
    fn a_cohort_publishes_below_its_own_name_and_reach() {
        let weir = access(&identity("kettle-weir", &[("kind", "station"), ("reach", "gorge")])).unwrap();
        assert!(publish(&weir, "harrowmere/gorge/kettle-weir/stage/level").is_allowed());
        assert_eq!(publish(&weir, "harrowmere/gorge/nine-arches/stage/level"), Decision::NotAllowed);
        let other = access(&identity("kettle-weir", &[("kind", "model"), ("reach", "gorge")])).unwrap();
        assert_eq!(publish(&other, "harrowmere/gorge/kettle-weir/stage/level"), Decision::NotAllowed);
        let nowhere = access(&identity("kettle-weir", &[("kind", "station")])).unwrap();
        assert_eq!(publish(&nowhere, "harrowmere/gorge/kettle-weir/stage/level"), Decision::NotAllowed);
    }

    #[test]
    fn deny_wins_and_the_sentence_names_who_what_and_which_rule() {
        let auditor = access(&identity("auditor", &[])).unwrap();
        let topic = "harrowmere/gorge/kettle-weir/gate/target".parse().unwrap();
        assert_eq!(
            auditor.explain(Request::Publish(&topic)),
            "auditor may not publish to harrowmere/gorge/kettle-weir/gate/target: \
             rule `auditor-never-writes` denies it"
        );
        let weir = access(&identity("kettle-weir", &[("kind", "station"), ("reach", "gorge")])).unwrap();
        assert_eq!(
            weir.explain(Request::Publish(&"harrowmere".parse().unwrap())),
            "kettle-weir may not publish to harrowmere: no rule allows it; \
             kettle-weir may publish harrowmere/gorge/kettle-weir/# (rule `stations-report`)"
        );
    }

    #[test]
    fn a_filter_is_granted_when_all_it_matches_is_allowed_and_denied_parts_are_withheld() {
        let auditor = access(&identity("auditor", &[])).unwrap();
        assert!(subscribe(&auditor, "harrowmere/#").is_allowed());
        assert!(subscribe(&auditor, "harrowmere/+/+/stage/level").is_allowed());
        assert_eq!(subscribe(&auditor, "#"), Decision::NotAllowed);
        assert_eq!(subscribe(&auditor, "harrowmere/+/+/gate/target"), Decision::Denied("gates-are-private".into()));
        assert!(auditor.withholds(&"harrowmere/gorge/kettle-weir/gate/target".parse().unwrap()));
        assert!(!auditor.withholds(&"harrowmere/gorge/kettle-weir/stage/level".parse().unwrap()));
    }

    #[test]
    fn a_value_can_t_smuggle_in_levels_or_wildcards() {
        for value in ["gorge/other", "+", "#", "a\0b"] {
            let error = access(&identity("kettle-weir", &[("kind", "station"), ("reach", value)])).unwrap_err();
            assert_eq!((error.rule.as_str(), error.name.as_str()), ("stations-report", "attr.reach"));
        }
    }

    #[test]
    fn patterns_are_checked_when_they_are_read() {
        for (pattern, message) in [
            ("a/{identity", "don't pair up"),
            ("a/identity}", "don't pair up"),
            ("a/{who}", "`{who}` is not known"),
            ("a/{attr.}", "`{attr.}` is not known"),
            ("a/#/{identity}", "not a topic filter"),
            ("", "not a topic filter"),
        ] {
            let error = TopicPattern::parse(pattern).unwrap_err().to_string();
            assert!(error.contains(message), "{pattern}: {error}");
        }
    }
}
