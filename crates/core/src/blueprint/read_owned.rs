//! Owned topics of a blueprint from its text.

use serde::Deserialize;
use toml::Spanned;

use super::{Blueprint, Owned, PlannedTopic, Span, StrengthOf, reader::Reader};

/// Owned paths of one blueprint: each is compared with each.
const MOST: usize = 500;

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct OwnedEntry {
    path: Spanned<String>,
    #[serde(default)]
    purpose: String,
    strength: Spanned<StrengthEntry>,
    silent_after: Option<Spanned<String>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct StrengthEntry {
    attribute: Option<String>,
    property: Option<String>,
    least: Option<f64>,
    greatest: Option<f64>,
}

impl Reader {
    pub(super) fn owned(&mut self, blueprint: &mut Blueprint, entries: Vec<OwnedEntry>) {
        for entry in entries {
            let at = self.span(entry.path.span());
            if blueprint.owned.len() >= MOST {
                return self.wrong(&at, format!("a blueprint has at most {MOST} owned paths"), "use wider levels");
            }
            let path = entry.path.into_inner();
            let levels = self.path(&at, &path);
            let span = self.span(entry.strength.span());
            let strength = self.strength(&span, entry.strength.into_inner());
            let silent_after = self.time(entry.silent_after);
            let (Some(levels), Some(strength)) = (levels, strength) else { continue };
            let set = PlannedTopic::set_of(&levels);
            if let Some((other, both)) =
                blueprint.owned.iter().find_map(|other| Some((other, set.intersect(&other.set)?)))
            {
                let message = format!("{} is owned by `{}` already", both.example(), other.path);
                self.wrong(&at, message, "a topic is owned in one way; make the paths differ");
            }
            blueprint.owned.push(Owned { at, path, set, levels, purpose: entry.purpose, strength, silent_after });
        }
    }

    fn strength(&mut self, at: &Span, entry: StrengthEntry) -> Option<StrengthOf> {
        let choice = "write { attribute = \"…\" } or { property = \"…\", least = 0, greatest = 100 }";
        match entry {
            StrengthEntry { attribute: Some(name), property: None, least: None, greatest: None } => {
                Some(StrengthOf::Attribute(name))
            }
            StrengthEntry { attribute: None, property: Some(name), least: Some(least), greatest: Some(greatest) } => {
                if !(least.is_finite() && greatest.is_finite() && least < greatest) {
                    let message = format!("between {least} and {greatest} there is no strength");
                    self.wrong(at, message, "write the lesser number as least, the greater as greatest");
                }
                Some(StrengthOf::Property { name, least, greatest })
            }
            StrengthEntry { attribute: None, property: Some(_), .. } => {
                let message = "a publisher could say any number; the bounds of its strength are missing";
                self.wrong(at, message, choice);
                None
            }
            _ => {
                self.wrong(at, "`strength` is an attribute of the identity, or a user property between bounds", choice);
                None
            }
        }
    }
}
