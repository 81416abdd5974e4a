//! Conditions of a blueprint from its text.

use serde::Deserialize;
use toml::Spanned;

use super::{Blueprint, OnlyWhere, reader::Reader};
use crate::Condition;

/// Conditions of one blueprint: each that concerns a session is judged for messages of its topics.
const MOST: usize = 500;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct ConditionEntry {
    name: Spanned<String>,
    #[serde(default)]
    purpose: String,
    pub(super) who: Spanned<toml::Value>,
    pub(super) topics: Spanned<Vec<Spanned<String>>>,
    r#where: Spanned<String>,
}

impl Reader {
    pub(super) fn conditions(&mut self, blueprint: &mut Blueprint, entries: Vec<ConditionEntry>) {
        for entry in entries {
            let at = self.span(entry.name.span());
            if entry.name.get_ref().is_empty() {
                self.wrong(&at, "a condition needs a name; explanations show it", "");
            }
            if blueprint.conditions.len() >= MOST {
                return self.wrong(&at, format!("a blueprint has at most {MOST} conditions"), "use wider topics");
            }
            let who = self.who(blueprint, &entry.who, false);
            let (topics, _) = self.patterns(entry.topics);
            let condition = match Condition::shared(entry.r#where.get_ref()) {
                Ok(condition) => condition,
                Err(error) => {
                    let span = self.inside(entry.r#where.span(), error.at);
                    self.wrong(&span, error.message, "");
                    continue;
                }
            };
            if let Some((who, _)) = who {
                let (name, purpose) = (entry.name.into_inner(), entry.purpose);
                blueprint.conditions.push(OnlyWhere { at, name, purpose, who, topics, condition });
            }
        }
    }
}
