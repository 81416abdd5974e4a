//! Decisions in sentences.

use std::fmt;

use super::decide::{Access, Considered, Decision, Request};
use crate::{blueprint::Effect, shown::shown};

/// Topics that are named beside a refusal.
const NAMED: usize = 6;

impl fmt::Display for Request<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Publish { topic, .. } => write!(f, "publish to {}", shown(topic)),
            Self::Subscribe { filter } => write!(f, "subscribe to {}", shown(filter)),
        }
    }
}

impl Access {
    /// The verdict on a request and the reason for it, in a sentence.
    pub fn explain(&self, request: Request<'_>) -> String {
        explain(self, request)
    }
}

/// The verdict and the reason for it.
fn explain(access: &Access, request: Request<'_>) -> String {
    let name = access.name();
    let Some(policy) = access.policy() else { return format!("{name} may {request}: no rule limits {name}") };
    let rule_name = |place: usize| format!("`{}`", policy.rule(place).name);
    let mut near = Vec::new();
    let mut limits = Vec::new();
    let decision = access.trace(request, |place, considered| {
        let rule = policy.rule(place);
        if rule.effect == Effect::Deny {
            return;
        }
        match considered {
            // Of a filter, all of which no rule allows, a part may be allowed.
            Considered::OtherTopics | Considered::Applies => {
                near.extend(
                    rule.sets(access.subject(), true).into_iter().map(|set| format!("{set} (rule `{}`)", rule.name)),
                );
            }
            Considered::AboveQoS(highest) => {
                limits.push(format!("rule `{}` allows it up to QoS {highest}", rule.name));
            }
            Considered::OtherRetention => limits.push(match rule.limits.retained {
                Some(true) => format!("rule `{}` allows it only retained", rule.name),
                _ => format!("rule `{}` allows it only without retaining", rule.name),
            }),
            _ => {}
        }
    });
    match decision {
        Decision::Allowed { rules, .. } => match &rules[..] {
            [one] => format!("{name} may {request}: rule {} allows it", rule_name(*one)),
            several => {
                let names: Vec<String> = several.iter().map(|place| rule_name(*place)).collect();
                format!("{name} may {request}: the rules {} allow it together", names.join(", "))
            }
        },
        Decision::Denied(rule) => format!("{name} may not {request}: rule {} denies it", rule_name(rule)),
        Decision::NotAllowed(_) if !limits.is_empty() => {
            format!("{name} may not {request} like this: {}", limits.join("; "))
        }
        Decision::NotAllowed(outside) => {
            let act = request.act();
            let all = outside.map_or("it".to_owned(), |outside| format!("all of it, for instance {outside}"));
            let more = near.len().saturating_sub(NAMED);
            near.truncate(NAMED);
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            let instead = match near.as_slice() {
                [] => format!("{name} may {act} nothing"),
                some => format!("{name} may {act} {}{more}", some.join(", ")),
            };
            format!("{name} may not {request}: no rule allows {all}; {instead}")
        }
    }
}
